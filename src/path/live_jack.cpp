// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include "wavicon/audio/error.hpp"
#include "wavicon/path/live.hpp"

#if WAVICON_JACK
#include "jack_calls.hpp"

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <thread>

#include "jack_client.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon {
namespace {

using namespace path_detail;
using namespace std::chrono_literals;

constexpr std::size_t kMostXruns = 256;  // places that are named; the rest is counted
constexpr auto kLook = 20ms;

// Everything that the callbacks touch.
struct Session {
  LiveTransport transport;
  std::vector<jack_port_t*> ins, outs;
  std::array<const float*, kMostPorts> in{};
  std::array<float*, kMostPorts> out{};
  std::array<std::atomic<std::int64_t>, kMostXruns> xruns{};
  std::atomic<std::size_t> xrun_count{0};
  std::atomic<bool> gone{false};
  std::atomic<std::uint64_t> blocks{0};

  Session(std::vector<std::vector<float>> stimulus, int record_channels, std::int64_t frames, double rate)
      : transport(std::move(stimulus), record_channels, frames, rate) {}

  int process(jack_nframes_t frames) noexcept {
    for (std::size_t c = 0; c < ins.size(); ++c)
      in[c] = static_cast<const float*>(jack().port_get_buffer(ins[c], frames));
    for (std::size_t c = 0; c < outs.size(); ++c)
      out[c] = static_cast<float*>(jack().port_get_buffer(outs[c], frames));
    transport.cycle(in.data(), out.data(), frames);
    blocks.fetch_add(1, std::memory_order_relaxed);
    return 0;
  }
  int xrun() noexcept {
    const std::size_t index = xrun_count.fetch_add(1, std::memory_order_relaxed);
    if (index < kMostXruns) xruns[index].store(transport.position(), std::memory_order_relaxed);
    return 0;
  }
};

void require_softer(const std::vector<std::vector<float>>& stimulus, double ceiling_dbfs) {
  float peak = 0;
  for (const auto& channel : stimulus)
    for (const float v : channel) peak = std::max(peak, std::fabs(v));
  if (static_cast<double>(peak) > ratio_from_db(ceiling_dbfs) * 1.0001)
    throw Error(ErrorCode::bad_argument,
                fmt::format("the stimulus peaks at {:.2f} dBFS and the ceiling is {:g} dBFS: make it softer, "
                            "or raise the ceiling by --ceiling when what "
                            "hangs on the outputs can take it",
                            db_from_ratio(static_cast<double>(peak)), ceiling_dbfs));
}

void require_rate(jack_client_t* client, double rate) {
  const double server_rate = jack().get_sample_rate(client);
  if (server_rate != rate)
    throw Error(ErrorCode::unit_failed,
                fmt::format("the server runs at {:g} Hz and the stimulus has {:g} Hz: make the stimulus at "
                            "the server's rate (--rates {:g})",
                            server_rate, rate, server_rate));
}

// Ports of its own, callbacks and connections: from here on blocks come.
void begin(jack_client_t* client, Session& session, const LiveResult& result) {
  for (int c = 0; c < session.transport.play_channels(); ++c)
    session.outs.push_back(jack().port_register(client, fmt::format("play_{}", c + 1).c_str(),
                                                JACK_DEFAULT_AUDIO_TYPE, JackPortIsOutput, 0));
  for (std::size_t c = 0; c < result.recorded_from.size(); ++c)
    session.ins.push_back(jack().port_register(client, fmt::format("record_{}", c + 1).c_str(),
                                               JACK_DEFAULT_AUDIO_TYPE, JackPortIsInput, 0));
  jack().set_process_callback(
      client, [](jack_nframes_t n, void* s) { return static_cast<Session*>(s)->process(n); }, &session);
  jack().set_xrun_callback(
      client, [](void* s) { return static_cast<Session*>(s)->xrun(); }, &session);
  jack().on_shutdown(
      client, [](void* s) { static_cast<Session*>(s)->gone = true; }, &session);
  if (jack().activate(client) != 0)
    throw Error(ErrorCode::unit_failed, "the server does not let a client start");
  for (std::size_t c = 0; c < result.recorded_from.size(); ++c)
    connect_ports(client, result.recorded_from[c], jack().port_name(session.ins[c]));
  for (std::size_t c = 0; c < result.played_to.size(); ++c)
    connect_ports(client, jack().port_name(session.outs[std::min(c, session.outs.size() - 1)]),
                  result.played_to[c]);
}

// Of the ports that a take needs.
std::string missing_port(jack_client_t* client, const LiveResult& result) {
  const std::string port = gone_port(client, result.recorded_from);
  return port.empty() ? gone_port(client, result.played_to) : port;
}

// Until all was played and recorded, or nothing comes any more.
void await(jack_client_t* client, const Session& session, const LiveResult& result, std::int64_t frames,
           const LiveOptions& options) {
  const LiveTransport& transport = session.transport;
  std::uint64_t seen = 0;
  auto moved = std::chrono::steady_clock::now();
  while (!transport.done() && !session.gone) {
    std::this_thread::sleep_for(kLook);
    if (options.progress)
      options.progress(static_cast<double>(transport.position()) / static_cast<double>(frames));
    const auto blocks = session.blocks.load();
    const auto now = std::chrono::steady_clock::now();
    if (blocks != seen) moved = now;
    seen = blocks;
    if (std::chrono::duration<double>(now - moved).count() > patience_s(client)) break;
    if (!session.gone && !missing_port(client, result).empty()) break;
  }
}

// Why it ended early; empty when it did not.
std::string cut_by(jack_client_t* client, const Session& session, const LiveResult& result) {
  const LiveTransport& transport = session.transport;
  if (session.gone && !transport.done()) return "the server stopped";
  if (!session.gone)
    if (const std::string port = missing_port(client, result); !port.empty())
      return fmt::format("the port {} is gone", port);
  return transport.done()
             ? ""
             : fmt::format("the server sent no block for {:g} s: it, or a client of it, stands still",
                           patience_s(client));
}

}  // namespace

LiveResult play_and_record(std::vector<std::vector<float>> stimulus, double rate,
                           const LiveOptions& options) {
  std::size_t length = 0;
  for (const auto& channel : stimulus) length = std::max(length, channel.size());
  if (!options.to.empty()) require_softer(stimulus, options.ceiling_dbfs);
  Client client = open_client("wavicon", options.server);
  require_rate(client.get(), rate);
  LiveResult result;
  result.recorded_from = wanted_ports(client.get(), options.from, JackPortIsOutput, "record from");
  if (options.to.empty())
    stimulus.clear();
  else
    result.played_to = ports_to_play(client.get(), options.to, stimulus.size());
  const auto frames = static_cast<std::int64_t>(length) + std::llround(options.tail_s * rate);
  auto session = std::make_shared<Session>(std::move(stimulus), static_cast<int>(result.recorded_from.size()),
                                           frames, rate);
  const LiveTransport& transport = session->transport;
  begin(client.get(), *session, result);
  result.block_frames = static_cast<int>(jack().get_buffer_size(client.get()));
  std::this_thread::sleep_for(std::chrono::duration<double>(options.look_s));
  result.idle_peak = static_cast<double>(transport.idle_peak());
  result.reported_samples = reported_latency(session->outs, session->ins);
  session->xrun_count = 0;
  session->transport.start();
  await(client.get(), *session, result, frames, options);
  result.cut = cut_by(client.get(), *session, result);
  const std::int64_t recorded = std::min<std::int64_t>(frames, transport.position());
  // Nothing calls back any more when this has returned. A server that stands still would not answer.
  if (result.cut.empty() && !session->gone) jack().deactivate(client.get());
  for (const auto& channel : transport.recorded())
    result.recorded.emplace_back(channel.begin(), channel.begin() + static_cast<std::ptrdiff_t>(recorded));
  for (std::size_t i = 0; i < std::min(kMostXruns, session->xrun_count.load()); ++i)
    result.xruns.push_back(session->xruns[i].load());
  result.peak = static_cast<double>(transport.peak());
  leave_server(std::move(client), std::move(session), !result.cut.empty());
  return result;
}

namespace {

struct Served {
  Unit* unit = nullptr;
  std::vector<jack_port_t*> ins, outs;
  std::array<const float*, kMostPorts> in{};
  std::array<float*, kMostPorts> out{};
  std::atomic<bool> gone{false}, closing{false};
  std::int64_t reported = 0;

  int process(jack_nframes_t frames) {
    for (std::size_t c = 0; c < ins.size(); ++c) {
      in[c] = static_cast<const float*>(jack().port_get_buffer(ins[c], frames));
      out[c] = static_cast<float*>(jack().port_get_buffer(outs[c], frames));
    }
    unit->run(in.data(), out.data());
    return 0;
  }
  void say_latency(jack_latency_callback_mode_t mode) {
    if (closing) return;
    // All of it on the way in, so that it counts once.
    jack_latency_range_t range{};
    range.min = range.max = mode == JackPlaybackLatency ? static_cast<jack_nframes_t>(reported) : 0;
    for (jack_port_t* port : mode == JackPlaybackLatency ? ins : outs)
      jack().port_set_latency_range(port, mode, &range);
  }
};

}  // namespace

void serve_unit(Unit& unit, const std::string& name, const std::string& server, int channels,
                std::int64_t reported_samples, const std::function<void(const std::string&)>& ready,
                const std::function<bool()>& stop) {
  Client client = open_client(name, server);
  const double rate = jack().get_sample_rate(client.get());
  const auto block = static_cast<int>(jack().get_buffer_size(client.get()));
  unit.prepare(rate, channels, block);
  auto served = std::make_unique<Served>();
  served->unit = &unit;
  served->reported = reported_samples;
  for (int c = 0; c < channels; ++c) {
    served->ins.push_back(jack().port_register(client.get(), fmt::format("in_{}", c + 1).c_str(),
                                               JACK_DEFAULT_AUDIO_TYPE, JackPortIsInput, 0));
    served->outs.push_back(jack().port_register(client.get(), fmt::format("out_{}", c + 1).c_str(),
                                                JACK_DEFAULT_AUDIO_TYPE, JackPortIsOutput, 0));
  }
  jack().set_process_callback(
      client.get(), [](jack_nframes_t n, void* s) { return static_cast<Served*>(s)->process(n); },
      served.get());
  jack().set_latency_callback(
      client.get(), [](jack_latency_callback_mode_t m, void* s) { static_cast<Served*>(s)->say_latency(m); },
      served.get());
  jack().on_shutdown(
      client.get(), [](void* s) { static_cast<Served*>(s)->gone = true; }, served.get());
  if (jack().activate(client.get()) != 0)
    throw Error(ErrorCode::unit_failed, "the server does not let a client start");
  ready(fmt::format("{} runs as a client at {:g} Hz, blocks of {} frames, {} channel{}",
                    jack().get_client_name(client.get()), rate, block, channels, channels == 1 ? "" : "s"));
  while (!served->gone && !stop()) std::this_thread::sleep_for(kLook);
  served->closing = true;
  if (!served->gone) jack().deactivate(client.get());
  client.reset();
  if (served->gone) throw Error(ErrorCode::unit_failed, "the server stopped");
}

}  // namespace wavicon
#else
namespace wavicon {
LiveResult play_and_record(std::vector<std::vector<float>>, double, const LiveOptions&) {
  throw Error(ErrorCode::unit_failed, "this build knows no JACK (configured with WAVICON_JACK=OFF)");
}
void serve_unit(Unit&, const std::string&, const std::string&, int, std::int64_t,
                const std::function<void(const std::string&)>&, const std::function<bool()>&) {
  throw Error(ErrorCode::unit_failed, "this build knows no JACK (configured with WAVICON_JACK=OFF)");
}
}  // namespace wavicon
#endif
