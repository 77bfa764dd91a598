// SPDX-License-Identifier: MIT
#include "wavicon/path/worker.hpp"

#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <thread>

namespace wavicon {
namespace {

void (*before_the_end)() noexcept = nullptr;

void end_at_signal(int number) {
  before_the_end();
  ::signal(number, SIG_DFL);
  ::raise(number);
}

}  // namespace

void begin_worker(int parent, void (*at_end)() noexcept) noexcept {
  before_the_end = at_end;
  ::signal(SIGTERM, end_at_signal);
  ::prctl(PR_SET_PDEATHSIG, SIGTERM);
  if (::getppid() != parent) ::_exit(0);  // it was gone before
}

void end_worker(int worker) noexcept {
  constexpr int kTries = 100;
  constexpr auto kTryAgain = std::chrono::milliseconds(10);
  ::kill(worker, SIGTERM);
  for (int i = 0; i < kTries; ++i) {
    if (::waitpid(worker, nullptr, WNOHANG) != 0) return;
    std::this_thread::sleep_for(kTryAgain);
  }
  ::kill(worker, SIGKILL);
  while (::waitpid(worker, nullptr, 0) < 0 && errno == EINTR) {
  }
}

}  // namespace wavicon
