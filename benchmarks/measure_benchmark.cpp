// SPDX-License-Identifier: MIT
// What measurements over a file cost against decoding it: two minutes of stereo at 48 kHz, 24 bits; and
// following the orders of a sweep. Both are timed in turn within each iteration; `ratio` is the lowest time
// of the measurement, decoding included, over the lowest of decoding alone. `transforms` is what the method's
// transforms alone take, over decoding.

#include <benchmark/benchmark.h>

#include <algorithm>
#include <chrono>
#include <filesystem>

#include "wavicon/audio/transform.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/measure/aliasing/aliasing.hpp"
#include "wavicon/measure/levels/levels.hpp"
#include "wavicon/measure/noise/noise.hpp"
#include "wavicon/measure/spectrum/spectrum.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace {

double seconds_of(const auto& work) {
  const auto start = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

std::string noise_file() {
  const std::string file =
      (std::filesystem::temp_directory_path() / "wavicon-benchmark-measure.wav").string();
  wavicon::Recipe recipe{.channel_count = 2, .marks = false};
  recipe.parts.push_back({.kind = wavicon::Noise{.colour = "pink", .seconds = 120}});
  wavicon::Stimulus stimulus(recipe);
  wavicon::Audio audio(48000, 2, stimulus.frames());
  for (int c = 0; c < 2; ++c) stimulus.render(0, c, audio.channel(c));
  wavicon::write_audio_file(file, audio, {});
  return file;
}

void decode(const std::string& file) {
  wavicon::AudioReader reader(file);
  std::vector<double> block(2 * 8192);
  while (reader.read(std::span(block)) > 0) benchmark::DoNotOptimize(block.data());
}

// As many transforms of this length as the method makes.
void transform_only(std::size_t length, double overlap, std::int64_t frames) {
  wavicon::RealTransform transform(length);
  std::fill(transform.input().begin(), transform.input().end(), 0.1);
  const auto count = 2 * static_cast<std::int64_t>(static_cast<double>(frames) /
                                                   (static_cast<double>(length) * (1 - overlap)));
  for (std::int64_t i = 0; i < count; ++i) {
    transform.execute();
    benchmark::DoNotOptimize(transform.bins().data());
  }
}

void measure_file(benchmark::State& state) {
  const std::string file = noise_file();
  double both_s = 1e9, decode_s = 1e9, transforms_s = 1e9;
  for (auto _ : state) {
    decode_s = std::min(decode_s, seconds_of([&] { decode(file); }));
    both_s = std::min(both_s, seconds_of([&] {
                        const auto source = wavicon::judge_file(file);
                        if (state.range(0) == 0)
                          benchmark::DoNotOptimize(
                              wavicon::measure_levels(source, {.true_peak = false, .loudness = false}));
                        if (state.range(0) == 1)
                          benchmark::DoNotOptimize(wavicon::measure_levels(source, {.true_peak = false}));
                        if (state.range(0) == 2) benchmark::DoNotOptimize(wavicon::measure_levels(source));
                        if (state.range(0) == 3) benchmark::DoNotOptimize(wavicon::measure_spectrum(source));
                        if (state.range(0) == 4) benchmark::DoNotOptimize(wavicon::measure_noise(source));
                      }));
    if (state.range(0) >= 3)
      transforms_s = std::min(transforms_s, seconds_of([&] {
                                transform_only(state.range(0) == 3 ? 32768 : 16384, 0.75, 48000 * 120);
                              }));
  }
  std::filesystem::remove(file);
  state.counters["ratio"] = both_s / decode_s;
  if (state.range(0) >= 3) state.counters["transforms"] = transforms_s / decode_s;
}
// RMS and peaks; with loudness; with true peak as well; spectrum; noise.
BENCHMARK(measure_file)->DenseRange(0, 4)->Unit(benchmark::kMillisecond)->Iterations(3);

// 40 orders of a sweep of ten seconds; the time is that of the whole.
void follow_sweep(benchmark::State& state) {
  wavicon::Recipe recipe;
  recipe.parts.push_back({.kind = wavicon::Sweep{.seconds = 10, .level_dbfs = -1}});
  const auto stimulus = std::make_shared<wavicon::Stimulus>(recipe);
  wavicon::Audio audio(48000, 1, stimulus->frames());
  stimulus->render(0, 0, audio.channel(0));
  for (double& x : audio.channel(0)) x -= 0.1 * x * x * x;
  const auto capture = wavicon::judge(audio, wavicon::SampleFormat::float64, {stimulus, std::nullopt});
  for (auto _ : state) {
    benchmark::DoNotOptimize(wavicon::measure_aliasing(capture, 0));
  }
}
BENCHMARK(follow_sweep)->Unit(benchmark::kMillisecond)->Iterations(3);

}  // namespace

BENCHMARK_MAIN();
