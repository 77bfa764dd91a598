// SPDX-License-Identifier: MIT
// What a second of watching costs: 48 kHz stereo, a transform of 16384, 25 frames a second of 120 x 40 cells.
// The aim is 15 % of a core: 0.15 s.

#include <benchmark/benchmark.h>

#include <cmath>

#include "wavicon/live/watch.hpp"

namespace {

using namespace wavicon;

class Endless : public AudioSource {
 public:
  double sample_rate_hz() const noexcept override { return 48000; }
  int channel_count() const noexcept override { return 2; }
  std::int64_t frames() const noexcept override { return std::int64_t{1} << 50; }
  void read(std::int64_t first, std::span<double> planar) override {
    for (std::size_t n = 0; n < planar.size(); ++n)
      planar[n] = table_[(static_cast<std::size_t>(first) + n) % table_.size()];
  }

 private:
  std::vector<double> table_ = [] {
    std::vector<double> table(48000);
    for (std::size_t n = 0; n < table.size(); ++n)
      table[n] = 0.1 * std::sin(0.1305 * static_cast<double>(n)) +
                 1e-4 * std::sin(1e5 * std::sin(static_cast<double>(n)));
    return table;
  }();
};

void BM_SecondOfWatching(benchmark::State& state) {
  WatchOptions options;
  options.view = static_cast<WatchView>(state.range(0));
  Watch watch(play_recordings({{"endless", std::make_shared<Endless>()}}, 15), options);
  for (int i = 0; i < 75; ++i) watch.advance(0.04);
  for (auto _ : state)
    for (int frame = 0; frame < 25; ++frame) {
      watch.advance(0.04);
      benchmark::DoNotOptimize(watch.draw(120, 40));
    }
  state.SetLabel(watch_views()[static_cast<std::size_t>(state.range(0))].word);
}
BENCHMARK(BM_SecondOfWatching)->DenseRange(0, 6)->Unit(benchmark::kMillisecond);

// The thread of the server: one block of 256 frames, two channels in, a tone out.
void BM_BlockInTheServersThread(benchmark::State& state) {
  SampleRing ring(2, 480000);
  Generator generator({.frequency_hz = 997});
  std::vector<float> block(256);
  float* out[] = {block.data()};
  const float* in[] = {block.data(), block.data()};
  for (auto _ : state) {
    generator.render(out, 1, 256);
    ring.write(in, 256);
  }
}
BENCHMARK(BM_BlockInTheServersThread);

}  // namespace
BENCHMARK_MAIN();
