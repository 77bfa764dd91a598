// SPDX-License-Identifier: MIT
#include "bench/store.hpp"

#include <arpa/inet.h>
#include <netinet/in.h>
#include <sys/socket.h>

#include "wavicon/file/sheet_file.hpp"

namespace wavicon::testing {
namespace {

std::string reason;

int free_port() {
  const int socket = ::socket(AF_INET, SOCK_STREAM, 0);
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  socklen_t size = sizeof address;
  ::bind(socket, reinterpret_cast<sockaddr*>(&address), size);
  ::getsockname(socket, reinterpret_cast<sockaddr*>(&address), &size);
  ::close(socket);
  return ntohs(address.sin_port);
}

Ran script(const std::string& arguments) {
  return testing::run(std::string("'") + WAVICON_SOURCE_DIR + "/tests/bench/server.sh' " + arguments);
}

}  // namespace

Server* Server::shared() {
  static const std::unique_ptr<Server> kServer = [] {
    std::unique_ptr<Server> server(new Server);
    server->port_ = free_port();
    const Ran ran =
        script("start '" + server->folder_.path().string() + "' " + std::to_string(server->port_));
    if (ran.status != 0) {
      reason = ran.out + ran.err;
      EXPECT_EQ(ran.status, 77) << reason;
      return std::unique_ptr<Server>();
    }
    server->started_ = true;
    server->run("CREATE ROLE studio LOGIN PASSWORD 'heather'");
    server->run("GRANT CREATE ON DATABASE postgres TO studio");
    return server;
  }();
  return kServer.get();
}

std::string Server::why() { return reason; }

Server::~Server() {
  if (started_) (void)script("stop '" + folder_.path().string() + "'");
}

void Server::clear() const { run("DROP SCHEMA IF EXISTS wavicon CASCADE"); }

void Server::run(const std::string& sql) const {
  const Ran ran =
      script("run '" + folder_.path().string() + "' " + std::to_string(port_) + " \"" + sql + "\"");
  ASSERT_EQ(ran.status, 0) << sql << ran.out << ran.err;
}

std::int64_t Stores::parse(const std::string& day) { return parse_time(day); }

}  // namespace wavicon::testing
