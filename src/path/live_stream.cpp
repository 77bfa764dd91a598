// SPDX-License-Identifier: MIT
#include "wavicon/path/live_stream.hpp"

#include <fmt/format.h>

#include "wavicon/audio/error.hpp"

#if WAVICON_JACK
#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>

#include "jack_client.hpp"

namespace wavicon {
namespace {

using namespace path_detail;
using Clock = std::chrono::steady_clock;

// Everything that the callbacks touch.
struct Called {
  std::shared_ptr<StreamProcess> process;
  std::vector<jack_port_t*> ins, outs;
  std::array<const float*, kMostPorts> in{};
  std::array<float*, kMostPorts> out{};
  std::atomic<std::uint64_t> blocks{0};
  std::atomic<bool> gone{false};

  int run(jack_nframes_t frames) noexcept {
    for (std::size_t c = 0; c < ins.size(); ++c)
      in[c] = static_cast<const float*>(jack().port_get_buffer(ins[c], frames));
    for (std::size_t c = 0; c < outs.size(); ++c)
      out[c] = static_cast<float*>(jack().port_get_buffer(outs[c], frames));
    process->process(in.data(), out.data(), frames);
    blocks.fetch_add(1, std::memory_order_relaxed);
    return 0;
  }
};

}  // namespace

struct LiveStream::Impl {
  Client client;
  double rate = 0;
  int block = 0;
  int play_channels = 1;
  std::vector<std::vector<std::string>> from;
  std::vector<std::string> to;
  std::shared_ptr<Called> called = std::make_shared<Called>();
  bool started = false;
  std::string trouble;
  std::uint64_t seen = 0;
  Clock::time_point moved;
};

LiveStream::LiveStream(const StreamOptions& options) : impl_(std::make_unique<Impl>()) {
  impl_->client = open_client("wavicon-watch", options.server);
  jack_client_t* client = impl_->client.get();
  impl_->rate = jack().get_sample_rate(client);
  impl_->block = static_cast<int>(jack().get_buffer_size(client));
  impl_->play_channels = options.play_channels;
  std::size_t count = 0;
  for (const std::string& pattern : options.from) {
    impl_->from.push_back(wanted_ports(client, pattern, JackPortIsOutput, "record from"));
    count += impl_->from.back().size();
  }
  if (count > kMostPorts)
    throw Error(ErrorCode::unit_failed,
                fmt::format("{} ports match, and {} can be watched: name fewer", count, kMostPorts));
  if (!options.to.empty())
    impl_->to = ports_to_play(client, options.to, static_cast<std::size_t>(options.play_channels));
}

LiveStream::~LiveStream() {
  const bool stands_still = !impl_->trouble.empty();
  if (!stands_still && impl_->started) jack().deactivate(impl_->client.get());
  leave_server(std::move(impl_->client), impl_->called, stands_still);
}

double LiveStream::sample_rate_hz() const noexcept { return impl_->rate; }
int LiveStream::block_frames() const noexcept { return impl_->block; }
const std::vector<std::vector<std::string>>& LiveStream::recorded_from() const noexcept {
  return impl_->from;
}
const std::vector<std::string>& LiveStream::played_to() const noexcept { return impl_->to; }

void LiveStream::start(std::shared_ptr<StreamProcess> process) {
  jack_client_t* client = impl_->client.get();
  Called& called = *impl_->called;
  called.process = std::move(process);
  const auto add = [&](const char* what, std::size_t number, unsigned long flags) {
    jack_port_t* port = jack().port_register(client, fmt::format("{}_{}", what, number).c_str(),
                                             JACK_DEFAULT_AUDIO_TYPE, flags, 0);
    if (port == nullptr) throw Error(ErrorCode::unit_failed, "the server gives no more ports");
    return port;
  };
  if (!impl_->to.empty())
    for (int c = 0; c < impl_->play_channels; ++c)
      called.outs.push_back(add("play", called.outs.size() + 1, JackPortIsOutput));
  for (const auto& ports : impl_->from)
    for (std::size_t c = 0; c < ports.size(); ++c)
      called.ins.push_back(add("record", called.ins.size() + 1, JackPortIsInput));
  jack().set_process_callback(
      client, [](jack_nframes_t n, void* s) { return static_cast<Called*>(s)->run(n); }, &called);
  jack().set_xrun_callback(
      client,
      [](void* s) {
        static_cast<Called*>(s)->process->xrun();
        return 0;
      },
      &called);
  jack().on_shutdown(
      client, [](void* s) { static_cast<Called*>(s)->gone = true; }, &called);
  if (jack().activate(client) != 0)
    throw Error(ErrorCode::unit_failed, "the server does not let a client start");
  impl_->started = true;
  impl_->moved = Clock::now();
  std::size_t input = 0;
  for (const auto& ports : impl_->from)
    for (const std::string& port : ports) connect_ports(client, port, jack().port_name(called.ins[input++]));
  for (std::size_t c = 0; c < impl_->to.size(); ++c)
    connect_ports(client, jack().port_name(called.outs[std::min(c, called.outs.size() - 1)]), impl_->to[c]);
}

std::string LiveStream::trouble() {
  if (!impl_->trouble.empty() || !impl_->started) return impl_->trouble;
  const auto now = Clock::now();
  const std::uint64_t blocks = impl_->called->blocks.load();
  if (blocks != impl_->seen) impl_->moved = now;
  impl_->seen = blocks;
  if (impl_->called->gone) return impl_->trouble = "the server stopped";
  if (std::chrono::duration<double>(now - impl_->moved).count() > patience_s(impl_->client.get()))
    return impl_->trouble = "the server sends no blocks";
  for (const auto& ports : impl_->from)
    if (const std::string port = gone_port(impl_->client.get(), ports); !port.empty())
      return fmt::format("the port {} is gone", port);
  return {};
}

std::int64_t LiveStream::reported_samples() const {
  return reported_latency(impl_->called->outs, impl_->called->ins);
}

}  // namespace wavicon
#else
namespace wavicon {
struct LiveStream::Impl {};
LiveStream::LiveStream(const StreamOptions&) {
  throw Error(ErrorCode::unit_failed, "this build knows no JACK (configured with WAVICON_JACK=OFF)");
}
LiveStream::~LiveStream() = default;
double LiveStream::sample_rate_hz() const noexcept { return 0; }
int LiveStream::block_frames() const noexcept { return 0; }
const std::vector<std::vector<std::string>>& LiveStream::recorded_from() const noexcept {
  static const std::vector<std::vector<std::string>> none;
  return none;
}
const std::vector<std::string>& LiveStream::played_to() const noexcept {
  static const std::vector<std::string> none;
  return none;
}
void LiveStream::start(std::shared_ptr<StreamProcess>) {}
std::string LiveStream::trouble() { return {}; }
std::int64_t LiveStream::reported_samples() const { return 0; }
}  // namespace wavicon
#endif
