// SPDX-License-Identifier: MIT
#include "wavicon/live/watch_loop.hpp"

#include <chrono>
#include <cmath>
#include <thread>

#include "wavicon/live/terminal.hpp"

namespace wavicon {
namespace {

using Clock = std::chrono::steady_clock;

constexpr double kFrameS = 0.04;  // 25 a second
constexpr double kLineS = 1;

double since(Clock::time_point start) { return std::chrono::duration<double>(Clock::now() - start).count(); }

// Time that has passed since the last call.
class Passing {
 public:
  double operator()() {
    const auto now = Clock::now();
    const double passed = std::chrono::duration<double>(now - last_).count();
    last_ = now;
    return passed;
  }

 private:
  Clock::time_point last_ = Clock::now();
};

bool is_over(const Watch& watch, const WatchLoop& loop, Clock::time_point start) {
  return (loop.stop && loop.stop()) || (loop.seconds > 0 && since(start) >= loop.seconds) ||
         watch.reached().has_value();
}

}  // namespace

void watch_in_lines(Watch& watch, const WatchLoop& loop) {
  const auto start = Clock::now();
  Passing passed;
  double next_s = kLineS;
  while (!is_over(watch, loop, start)) {
    std::this_thread::sleep_for(std::chrono::duration<double>(kFrameS));
    watch.advance(passed());
    if (since(start) < next_s && !watch.source().ended()) continue;
    next_s = std::floor(since(start)) + kLineS;
    watch.refresh();
    if (loop.figures) loop.figures(watch.figures());
    if (watch.source().ended()) return;
  }
}

void watch_on_terminal(Watch& watch, const WatchLoop& loop, bool colour) {
  Terminal terminal(colour);
  const auto start = Clock::now();
  Passing passed;
  auto frame = Clock::now();
  while (!watch.quits() && !is_over(watch, loop, start)) {
    watch.advance(passed());
    terminal.show(watch.draw(terminal.width(), terminal.height(), terminal.only_ascii()));
    frame += std::chrono::duration_cast<Clock::duration>(std::chrono::duration<double>(kFrameS));
    // A machine that does not keep up shows fewer frames, and is not behind for ever.
    frame = std::max(frame, Clock::now() + std::chrono::milliseconds(1));
    while (Clock::now() < frame) {
      const double left = std::chrono::duration<double>(frame - Clock::now()).count();
      if (const auto key = terminal.key(std::max(0.001, left))) watch.press(*key);
    }
  }
}

}  // namespace wavicon
