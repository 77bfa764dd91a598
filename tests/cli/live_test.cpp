// SPDX-License-Identifier: MIT
// The whole way through a server of the tests' own: Heron as a client, a stimulus played and recorded.

#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <thread>

#include "server.hpp"

namespace wavicon::live_test {
namespace {

using namespace testing;
namespace fs = std::filesystem;

#if defined(__SANITIZE_THREAD__) || defined(__SANITIZE_ADDRESS__)
constexpr double kToldWithinS = 4;  // the thread sanitizer alone waits a second at every exit
#else
constexpr double kToldWithinS = 1;
#endif

class Live : public WithServer {};

TEST_F(Live, LatencyThroughHeronIsTrueOverBlockSizes) {
  good("make tone --frequency 997 --level -20 --seconds 1 -o t.wav --quiet");
  int measured = 0;
  for (const int block : {128, 1024, 4096}) {
    if (!serve(block, "heron?delay=261.4&reports=200&noise=-110")) GTEST_SKIP() << "no server can run here";
    // The graph goes in a circle: the server adds one block.
    const double truth = 261.4 + block;
    // Blocks as short as that are late on a busy machine, each time: they are tried once.
    const std::string feed = "feed t.wav --repeat 2 --through " + through() + " -o c.wav";
    const Ran ran = block < 1024 ? wavicon(feed) : when_calm(feed);
    if (busy(ran)) {
      end();
      continue;
    }
    ++measured;
    ASSERT_EQ(ran.status, 0) << ran.err << read_text(file("jackd.log"));
    EXPECT_HAS(ran.out, "round trip reported by the ports 200 samples");
    EXPECT_HAS(good("show c.wav"), "reported 200 samples");
    const json sheet = json::parse(good("latency t.wav c.wav --json"));
    double read = 0, offset = 0;
    for (const json& r : sheet["readings"]) {
      if (r["name"] == "latency_samples") read = r["value"];
      if (r["name"] == "offset_samples") offset = r["value"];
    }
    EXPECT_NEAR(read, truth, 0.01) << block;
    EXPECT_NEAR(offset, truth - 200, 0.01) << block;
    // With the offset typed in, nothing is left.
    const json again =
        json::parse(good("latency t.wav c.wav --reported " + std::to_string(read) + " --json"));
    for (const json& r : again["readings"])
      if (r["name"] == "offset_samples") {
        EXPECT_NEAR(r["value"].get<double>(), 0, 0.01);
      }
    end();
  }
  if (measured == 0) GTEST_SKIP() << "the machine is too busy for a sound server";
}

// A plan plays and records like the command, one cell after the other, and never takes yesterday's figure.
TEST_F(Live, APlanRunsThroughTheServer) {
  if (!serve(4096, "heron?delay=261.4&reports=200&noise=-110")) GTEST_SKIP() << "no server can run here";
  for (int time = 0; time < 2; ++time) {
    const Ran ran = when_calm("bench --plan latency " + through() + " --only block=64 --jobs 2 --json");
    if (busy(ran)) GTEST_SKIP() << "the machine is too busy for a sound server";
    ASSERT_EQ(ran.status, 0) << ran.out << ran.err;
    const json page = json::parse(ran.out);
    EXPECT_NEAR(page["latency"][0]["latency_samples"]["value"].get<double>(), 261.4 + 4096, 0.01);
    EXPECT_EQ(ran.out.find("known from before"), std::string::npos);
  }
}

TEST_F(Live, WhatIsWrongWithAServerIsOneLine) {
  good("make tone --frequency 997 --level -20 --seconds 3 -o t.wav --quiet");
  EXPECT_HAS(bad(4, "feed t.wav --through " + through() + " -o c.wav"), "there is no JACK server");
  if (!serve(512, "heron?delay=100")) GTEST_SKIP() << "no server can run here";
  EXPECT_HAS(bad(4, "feed t.wav --through 'jack:" + server_ + "?from=nobody:out' -o c.wav"),
             "no port to record from matches 'nobody:out'; there are ");
  EXPECT_HAS(bad(4, "feed t.wav --through 'jack:" + server_ + "?to=heron:nix&from=heron:out_1' -o c.wav"),
             "no port to play to matches");
  EXPECT_HAS(bad(2, "feed t.wav --through 'jack:" + server_ + "?to=heron:in_1' -o c.wav"), "what to record");
  good("make tone --rate 44100 --seconds 1 -o other.wav --quiet");
  EXPECT_HAS(bad(4, "feed other.wav --through " + through() + " -o c.wav"),
             "the server runs at 48000 Hz and the stimulus has 44100 Hz");
  good("make tone --level -1 --seconds 1 -o loud.wav --quiet");
  EXPECT_HAS(bad(2, "feed loud.wav --through " + through() + " -o c.wav"), "the ceiling is -6 dBFS");
  // The server dies in the middle: what was recorded is kept, marked as cut.
  pid_t killer = start("sh -c 'sleep 3; kill -9 " + std::to_string(jackd_) + "'", "killer.log");
  const Ran ran = wavicon("feed t.wav --through " + through() + " -o c.wav");
  stop(killer);
  EXPECT_EQ(ran.status, 4) << ran.out << ran.err;
  EXPECT_HAS(ran.err, "what was recorded is kept as c-cut.wav");
  EXPECT_GT(read_text(file("c-cut.wav")).size(), 40000U);
}

// Server or client: the death of either is told within a second, and what was recorded is kept.
TEST_F(Live, AServerOrAClientThatDiesIsToldWithinASecond) {
  good("make tone --level -20 --seconds 8 -o t.wav --quiet");
  for (const bool server : {true, false}) {
    if (!serve(512, "heron?delay=100")) GTEST_SKIP() << "no server can run here";
    fs::remove(file("c-cut.wav"));
    const pid_t victim = server ? jackd_ : heron_;
    pid_t killer =
        start("sh -c 'sleep 2.5; date +%s.%N >killed; kill -9 " + std::to_string(victim) + "'", "killer.log");
    const Ran ran = testing::run("cd '" + folder_.path().string() + "' && { '" + WAVICON_PROGRAM +
                                 "' feed t.wav --through " + through() +
                                 " -o c.wav; status=$?; date +%s.%N >ended; exit $status; }");
    stop(killer);
    EXPECT_EQ(ran.status, 4) << ran.out << ran.err;
    EXPECT_HAS(ran.err, "what was recorded is kept as c-cut.wav");
    // The server stands still with its client, or takes it out: both are seen.
    EXPECT_TRUE(ran.err.find(server ? "the server stopped" : "the port heron:") != std::string::npos ||
                ran.err.find("stands still") != std::string::npos)
        << ran.err;
    EXPECT_GT(read_text(file("c-cut.wav")).size(), 40000U);
    const double took_s = std::stod(read_text(file("ended"))) - std::stod(read_text(file("killed")));
    EXPECT_LT(took_s, kToldWithinS) << (server ? "server" : "client");
    std::printf("%s: told %.2f s after it died\n", server ? "server" : "client", took_s);
    end();
  }
}

}  // namespace
}  // namespace wavicon::live_test
