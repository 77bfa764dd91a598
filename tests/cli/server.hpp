// SPDX-License-Identifier: MIT
#pragma once
// A sound server of the tests' own, and Heron as the interface on it.

#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <thread>

#include "program.hpp"

namespace wavicon::testing {

class WithServer : public Program {
 protected:
  std::string server_ = "wavicon-test-" + std::to_string(::getpid());
  pid_t jackd_ = 0, heron_ = 0;

  pid_t start(const std::string& command, const std::string& log) const {
    const pid_t pid = ::fork();
    if (pid == 0) {
      ::setpgid(0, 0);
      ::execl("/bin/sh", "sh", "-c",
              ("cd '" + folder_.path().string() + "' && exec " + command + " >" + log + " 2>&1").c_str(),
              nullptr);
      ::_exit(127);
    }
    return pid;
  }
  static void stop(pid_t& pid, int signal = SIGTERM) {
    if (pid <= 0) return;
    ::kill(pid, signal);
    for (int i = 0; i < 100; ++i) {
      if (::waitpid(pid, nullptr, WNOHANG) == pid) {
        pid = 0;
        return;
      }
      std::this_thread::sleep_for(std::chrono::milliseconds(50));
    }
    ::kill(pid, SIGKILL);
    ::waitpid(pid, nullptr, 0);
    pid = 0;
  }
  // Servers that were killed stand in a list of eight for ever: without one that runs, the list may go.
  static void forget_dead_servers() {
    (void)testing::run(
        "grep -qx jackd /proc/[0-9]*/comm 2>/dev/null || rm -rf /dev/shm/jack-shm-registry "
        "/dev/shm/jack-*-[0-9]* "
        "/dev/shm/jack_sem.*wavicon-test-* /dev/shm/jack_db-*");
  }
  /// @param again  clients of the one before still look at the list of servers.
  bool serve(int block, const std::string& heron, bool again = false) {
    if (!again) forget_dead_servers();
    jackd_ =
        start("jackd -n " + server_ + " -r -S -d dummy -r 48000 -p " + std::to_string(block), "jackd.log");
    heron_ = 0;
    for (int i = 0; i < 60; ++i) {
      std::this_thread::sleep_for(std::chrono::milliseconds(100));
      if (::waitpid(jackd_, nullptr, WNOHANG) == jackd_) {
        jackd_ = 0;
        return false;
      }
      if (heron_ == 0 || ::waitpid(heron_, nullptr, WNOHANG) == heron_)
        heron_ = start(std::string("'") + WAVICON_PROGRAM + "' stand-in '" + heron + "' --server " + server_,
                       "heron.log");
      std::this_thread::sleep_for(std::chrono::milliseconds(200));
      if (read_text(file("heron.log")).find("runs as a client") != std::string::npos) return true;
    }
    return false;
  }
  void end() {
    stop(heron_);
    stop(jackd_);
  }
  void TearDown() override { end(); }
  // The machine has too much else to do for a sound server: blocks came late, or none for half a second.
  static bool busy(const Ran& ran) {
    const std::string all = ran.out + ran.err;
    return ran.status == 4 &&
           (all.find("xrun") != std::string::npos || all.find("stands still") != std::string::npos);
  }
  // A command, again when the machine was too busy, three times in all.
  Ran when_calm(const std::string& words) const {
    Ran ran = wavicon(words);
    for (int i = 0; i < 2 && busy(ran); ++i) ran = wavicon(words);
    return ran;
  }
  std::string through() const { return "'jack:" + server_ + "?to=heron:in_1&from=heron:out_1'"; }
};

}  // namespace wavicon::testing
