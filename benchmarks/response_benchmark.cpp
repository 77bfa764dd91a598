// SPDX-License-Identifier: MIT
// What four overlays of a stereo sweep (30 s at 96 kHz) cost, against the transforms that they need: one of A
// for each channel, and two (there and back) for each channel of each overlay. Both are timed in turn within
// each iteration; `ratio` is the lowest time of the one over the lowest of the other. Aim: 2.

#include <benchmark/benchmark.h>

#include <algorithm>
#include <chrono>

#include "wavicon/audio/transform.hpp"
#include "wavicon/measure/response/response.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace {

constexpr int kOverlays = 4, kChannels = 2;

double seconds_of(const auto& work) {
  const auto start = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

void response_of_four(benchmark::State& state) {
  wavicon::Recipe recipe{
      .sample_rate_hz = 96000, .channel_count = kChannels, .marks = false, .silence_after_s = 0.6};
  recipe.parts.push_back({.kind = wavicon::Sweep{.from_hz = 10, .to_hz = 40000, .seconds = 30}});
  wavicon::Stimulus stimulus(recipe);
  wavicon::Audio a(96000, kChannels, stimulus.frames());
  for (int c = 0; c < kChannels; ++c) stimulus.render(0, c, a.channel(c));
  wavicon::ResponseOptions options{.to_s = 30,
                                   .alignment = wavicon::Alignment{},
                                   .sweep = true,
                                   .sweep_from_hz = 10,
                                   .sweep_to_hz = 40000};
  wavicon::RealTransform transform(wavicon::fast_transform_length(static_cast<std::size_t>(31.05 * 96000)));
  double response_s = 1e9, transforms_s = 1e9;
  for (auto _ : state) {
    transforms_s =
        std::min(transforms_s, seconds_of([&] {
                   for (int i = 0; i < kChannels * (1 + kOverlays); ++i) {
                     std::copy_n(a.channel(0).begin(), a.frames(), transform.input().begin());
                     transform.execute();
                   }
                   std::vector<std::complex<double>> bins(transform.bins().begin(), transform.bins().end());
                   for (int i = 0; i < kChannels * kOverlays; ++i)
                     benchmark::DoNotOptimize(transform.invert(bins));
                 }));
    response_s = std::min(response_s, seconds_of([&] {
                            wavicon::ResponseCache cache;
                            options.cache = &cache;
                            for (int i = 0; i < kOverlays; ++i) {
                              const auto from = wavicon::judge(a), against = wavicon::judge(a);
                              benchmark::DoNotOptimize(wavicon::measure_response(from, against, options));
                            }
                          }));
  }
  state.counters["ratio"] = response_s / transforms_s;
  state.counters["seconds"] = response_s;
}
BENCHMARK(response_of_four)->Unit(benchmark::kMillisecond)->Iterations(2);

}  // namespace

BENCHMARK_MAIN();
