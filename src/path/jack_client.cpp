// SPDX-License-Identifier: MIT
#if WAVICON_JACK
#include "jack_client.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <thread>

#include "wavicon/audio/error.hpp"

namespace wavicon::path_detail {
namespace {

constexpr double kPatienceS = 0.5;     // without a block: who waits is told within a second
constexpr double kPatienceBlocks = 8;  // or so many of the server's blocks, when they are longer

void be_quiet(const char*) {}

std::vector<std::string> ports(jack_client_t* client, const std::string& pattern, unsigned long flags) {
  std::vector<std::string> names;
  const char** found =
      jack().get_ports(client, pattern.empty() ? nullptr : pattern.c_str(), JACK_DEFAULT_AUDIO_TYPE, flags);
  for (const char** port = found; port != nullptr && *port != nullptr; ++port)
    if (std::strncmp(*port, jack().get_client_name(client), std::strlen(jack().get_client_name(client))) != 0)
      names.emplace_back(*port);
  if (found != nullptr) jack().free(found);
  return names;
}

}  // namespace

Client open_client(const std::string& name, const std::string& server) {
  jack().set_error_function(be_quiet);
  jack().set_info_function(be_quiet);
  jack_status_t status{};
  jack_client_t* client =
      server.empty()
          ? jack().client_open(name.c_str(), JackNoStartServer, &status)
          : jack().client_open(name.c_str(), static_cast<jack_options_t>(JackNoStartServer | JackServerName),
                               &status, server.c_str());
  if (client == nullptr)
    throw Error(ErrorCode::unit_failed,
                fmt::format("there is no JACK server{}: start one, or name the one that runs",
                            server.empty() ? "" : " '" + server + "'"));
  return Client(client);
}

std::vector<std::string> wanted_ports(jack_client_t* client, const std::string& pattern, unsigned long flags,
                                      const char* what) {
  auto names = ports(client, pattern, flags);
  if (!names.empty()) {
    if (names.size() > kMostPorts) names.resize(kMostPorts);
    return names;
  }
  std::string there;
  for (const std::string& name : ports(client, "", flags)) there += (there.empty() ? "" : ", ") + name;
  throw Error(ErrorCode::unit_failed, fmt::format("no port to {} matches '{}'; there {}", what, pattern,
                                                  there.empty() ? "are none" : "are " + there));
}

std::vector<std::string> ports_to_play(jack_client_t* client, const std::string& to, std::size_t channels) {
  std::vector<std::string> ports = wanted_ports(client, to, JackPortIsInput, "play to");
  if (channels > 1 && channels > ports.size())
    throw Error(
        ErrorCode::unit_failed,
        fmt::format("the stimulus has {} channels and only {} ports match '{}'", channels, ports.size(), to));
  if (channels > 1 && ports.size() > channels) ports.resize(channels);
  return ports;
}

void connect_ports(jack_client_t* client, const std::string& from, const std::string& to) {
  if (jack().connect(client, from.c_str(), to.c_str()) != 0)
    throw Error(ErrorCode::unit_failed, fmt::format("{} cannot be connected to {}", from, to));
}

std::int64_t reported_latency(const std::vector<jack_port_t*>& outs, const std::vector<jack_port_t*>& ins) {
  jack_latency_range_t range{};
  std::int64_t sum = 0;
  if (!outs.empty()) {
    jack().port_get_latency_range(outs[0], JackPlaybackLatency, &range);
    sum += range.max;
  }
  jack().port_get_latency_range(ins.at(0), JackCaptureLatency, &range);
  return sum + range.max;
}

double patience_s(jack_client_t* client) {
  return std::max(kPatienceS,
                  kPatienceBlocks * jack().get_buffer_size(client) / jack().get_sample_rate(client));
}

std::string gone_port(jack_client_t* client, const std::vector<std::string>& ports) {
  for (const std::string& port : ports)
    if (jack().port_by_name(client, port.c_str()) == nullptr) return port;
  return "";
}

void leave_server(Client client, std::shared_ptr<void> touched, bool stands_still) {
  if (!stands_still) {
    client.reset();
    return;
  }
  std::thread([client = std::move(client), touched = std::move(touched)]() mutable {
    client.reset();
  }).detach();
}

}  // namespace wavicon::path_detail
#endif
