// SPDX-License-Identifier: MIT
#pragma once
// A client of a JACK server and the ports that are there. Internal to `path`.

#include "jack_calls.hpp"

#include <memory>
#include <string>
#include <vector>

namespace wavicon::path_detail {

inline constexpr std::size_t kMostPorts = 64;  // channels of an interface

struct CloseClient {
  void operator()(jack_client_t* client) const noexcept { jack().client_close(client); }
};
using Client = std::unique_ptr<jack_client_t, CloseClient>;

/// @throws Error unit_failed when there is no such server. @param server  empty: the default one.
Client open_client(const std::string& name, const std::string& server);

/// Ports that match; all of them, where that are none, are told. @throws Error unit_failed.
std::vector<std::string> wanted_ports(jack_client_t* client, const std::string& pattern, unsigned long flags,
                                      const char* what);

/// The ports to play to. One channel goes to every port; of several, each to its own. @throws Error.
std::vector<std::string> ports_to_play(jack_client_t* client, const std::string& to, std::size_t channels);

/// @throws Error unit_failed when they cannot be connected.
void connect_ports(jack_client_t* client, const std::string& from, const std::string& to);

/// Latency of the first ports, there and back, as they say.
std::int64_t reported_latency(const std::vector<jack_port_t*>& outs, const std::vector<jack_port_t*>& ins);

/// How long a server may send no block before it stands still.
double patience_s(jack_client_t* client);

/// The port that was there and is no more; empty: all are there.
std::string gone_port(jack_client_t* client, const std::vector<std::string>& ports);

/// Closes a client. Of a server that stands still that can take many seconds, for which nobody waits: what
/// the callbacks touch is kept until then.
void leave_server(Client client, std::shared_ptr<void> touched, bool stands_still);

}  // namespace wavicon::path_detail
