// SPDX-License-Identifier: MIT
// A meter beside an audio callback: the callback pushes what goes out and comes in, another thread asks.
// Nothing is allocated, locked or waited for in the callback.

#include <atomic>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <thread>

#include "wavicon/measure/rolling.hpp"

namespace {

constexpr double kRate = 48000;
constexpr int kBlock = 256;

// What a host calls: one channel through something that is to be watched.
class Callback {
 public:
  Callback() : levels_("levels", {.window_s = 1}), null_("null", {.window_s = 1}) {
    levels_.prepare(kRate, 1);
    null_.prepare(kRate, 1);
  }
  void process(const float* const* in, float* const* out, int frames) noexcept {
    for (int n = 0; n < frames; ++n) out[0][n] = 0.5F * in[0][n];
    levels_.push(out, frames);
    null_.push(in, out, frames);
  }
  void print() {
    for (wavicon::Rolling* rolling : {&levels_, &null_})
      for (const wavicon::Sheet& sheet : rolling->sheets()) std::puts(sheet.findings.front().text.c_str());
  }

 private:
  wavicon::Rolling levels_, null_;
};

}  // namespace

int main() {
  Callback callback;
  std::atomic<bool> over{false};
  std::thread audio([&] {  // in place of a host: two seconds as fast as they go
    float in[kBlock], out[kBlock];
    const float* ins[] = {in};
    float* outs[] = {out};
    for (int block = 0; block < 2 * 48000 / kBlock; ++block) {
      for (int n = 0; n < kBlock; ++n)
        in[n] = 0.25F * std::sin(0.1305F * static_cast<float>(block * kBlock + n));
      callback.process(ins, outs, kBlock);
    }
    over = true;
  });
  while (!over) std::this_thread::sleep_for(std::chrono::milliseconds(50));
  audio.join();
  callback.print();
}
