// SPDX-License-Identifier: MIT
#pragma once
// A terminal of the tests' own (tmux), with a shell in it and a person who types.

#include <fcntl.h>
#include <unistd.h>

#include <chrono>
#include <cstdlib>
#include <string>
#include <thread>

#include "program.hpp"

namespace wavicon::testing {

template <typename Base>
class WithTerminal : public Base {
 protected:
  std::string socket_ = "wavicon-test-" + std::to_string(::getpid());

  void TearDown() override {
    tmux("kill-server 2>/dev/null");
    Base::TearDown();
  }
  static bool has(const std::string& program) { return testing::run("command -v " + program).status == 0; }
  static bool terminals() {
    const int terminal = ::posix_openpt(O_RDWR | O_NOCTTY);
    if (terminal < 0) return false;
    const bool opens = ::grantpt(terminal) == 0 && ::unlockpt(terminal) == 0 &&
                       ::ptsname(terminal) != nullptr && ::access(::ptsname(terminal), R_OK | W_OK) == 0;
    ::close(terminal);
    return opens && has("tmux");
  }
  std::string tmux(const std::string& words) const {
    return testing::run("tmux -L " + socket_ + " -f /dev/null " + words).out;
  }
  // A shell in a terminal; the program runs in it.
  void open(int width, int height, const std::string& shell = "sh") const {
    tmux("new-session -d -x " + std::to_string(width) + " -y " + std::to_string(height) + " 'cd " +
         this->folder_.path().string() +
         " && LANG=C.UTF-8 WAVICON_LOGBOOK=logbook.sqlite LV2_PATH=/nowhere PS1=ready: exec " + shell + "'");
    tmux("set -g status off");
    tmux("set -g window-size manual");
  }
  void type(const std::string& text) const { tmux("send-keys -l \"" + text + "\""); }
  void enter(const std::string& line) const {
    type(line);
    tmux("send-keys Enter");
  }
  void press(const std::string& keys) const { tmux("send-keys " + keys); }
  std::string seen() const { return tmux("capture-pane -p"); }
  bool shows(const std::string& text, double patience_s = 15) const {
    for (double waited = 0; waited < patience_s; waited += 0.1) {
      if (in_one_row(seen()).find(text) != std::string::npos) return true;
      std::this_thread::sleep_for(std::chrono::milliseconds(100));
    }
    ADD_FAILURE() << text << " is not there:\n" << seen();
    return false;
  }
  // Both at one look: between two of them, half a frame of what was there before may be drawn.
  bool shows_without(const std::string& text, const std::string& gone) const {
    for (int i = 0; i < 150; ++i) {
      const std::string now = in_one_row(seen());
      if (now.find(text) != std::string::npos && now.find(gone) == std::string::npos) return true;
      std::this_thread::sleep_for(std::chrono::milliseconds(100));
    }
    ADD_FAILURE() << text << " is not there without " << gone << ":\n" << seen();
    return false;
  }
  bool loses(const std::string& text) const {
    for (int i = 0; i < 100; ++i) {
      if (in_one_row(seen()).find(text) == std::string::npos) return true;
      std::this_thread::sleep_for(std::chrono::milliseconds(100));
    }
    ADD_FAILURE() << text << " is still there:\n" << seen();
    return false;
  }
};

}  // namespace wavicon::testing
