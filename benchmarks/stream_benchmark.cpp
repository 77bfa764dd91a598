// SPDX-License-Identifier: MIT
// What rendering costs against encoding the same samples, and the health meter against decoding them: ten
// seconds (health: two minutes) of stereo at 48 kHz, 24 bits. Both are timed in turn within each iteration;
// `ratio` is the lowest time of (work + file) over the lowest of the file alone.

#include <benchmark/benchmark.h>

#include <algorithm>
#include <chrono>
#include <filesystem>

#include "wavicon/file/audio_file.hpp"
#include "wavicon/intake/health.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace {

constexpr std::int64_t kBlockFrames = 8192;

double seconds_of(const auto& work) {
  const auto start = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

wavicon::Recipe recipe_of(int kind) {
  wavicon::Recipe recipe{.channel_count = 2};
  if (kind == 0) recipe.parts.push_back({.kind = wavicon::Tone{.seconds = 10}});
  if (kind == 1) recipe.parts.push_back({.kind = wavicon::Sweep{.seconds = 10}});
  if (kind == 2) recipe.parts.push_back({.kind = wavicon::Noise{.colour = "pink", .seconds = 10}});
  return recipe;
}

std::string file_of(const char* name) { return (std::filesystem::temp_directory_path() / name).string(); }

// Writes a stimulus, or the same number of frames of one block again and again.
void write(const std::string& file, wavicon::Stimulus& stimulus, bool render) {
  wavicon::AudioWriter writer(file, {.channel_count = 2, .frames = stimulus.frames()});
  std::vector<double> one(kBlockFrames), block(2 * kBlockFrames, 0.1);
  for (std::int64_t start = 0; start < stimulus.frames(); start += kBlockFrames) {
    for (int c = 0; render && c < 2; ++c) {
      stimulus.render(start, c, one);
      for (std::size_t n = 0; n < one.size(); ++n) block[2 * n + static_cast<std::size_t>(c)] = one[n];
    }
    writer.write(block);
  }
  writer.finish();
}

void render_and_encode(benchmark::State& state) {
  wavicon::Stimulus stimulus(recipe_of(static_cast<int>(state.range(0))));
  const std::string file = file_of("wavicon-benchmark-render.wav");
  double both_s = 1e9, encode_s = 1e9;
  for (auto _ : state) {
    encode_s = std::min(encode_s, seconds_of([&] { write(file, stimulus, false); }));
    both_s = std::min(both_s, seconds_of([&] { write(file, stimulus, true); }));
  }
  std::filesystem::remove(file);
  state.counters["ratio"] = both_s / encode_s;
}
BENCHMARK(render_and_encode)->Arg(0)->Arg(1)->Arg(2)->Unit(benchmark::kMillisecond)->Iterations(10);

void decode(const std::string& file) {
  wavicon::AudioReader reader(file);
  std::vector<double> block(2 * kBlockFrames);
  while (reader.read(std::span(block)) > 0) benchmark::DoNotOptimize(block.data());
}

void meter(const std::string& file) {
  wavicon::FileSource source(file);
  wavicon::HealthMeter health(2, source.sample_rate_hz(), source.info().format);
  std::vector<double> scratch(2 * 2048);
  wavicon::for_each_block(
      source, 0, source.frames(), scratch,
      [&](std::int64_t, std::span<const double> planar, std::int64_t) { health.push(planar); });
  benchmark::DoNotOptimize(health.finish());
}

void check(const std::string& file, wavicon::Stimulus* stimulus) {
  wavicon::FileSource source(file);
  benchmark::DoNotOptimize(wavicon::check_health(source, stimulus, {.format = source.info().format}));
}

void decode_and_meter(benchmark::State& state) {
  wavicon::Recipe recipe = recipe_of(1);
  std::get<wavicon::Sweep>(recipe.parts[0].kind).seconds = 120;
  wavicon::Stimulus stimulus(recipe);
  const std::string file =
      file_of(state.range(1) == 0 ? "wavicon-benchmark-health.wav" : "wavicon-benchmark-health.flac");
  write(file, stimulus, true);
  double both_s = 1e9, decode_s = 1e9;
  for (auto _ : state) {
    decode_s = std::min(decode_s, seconds_of([&] { decode(file); }));
    both_s = std::min(both_s, seconds_of([&] {
                        if (state.range(0) == 0) meter(file);
                        if (state.range(0) == 1) check(file, nullptr);
                        if (state.range(0) == 2) check(file, &stimulus);
                      }));
  }
  std::filesystem::remove(file);
  state.counters["ratio"] = both_s / decode_s;
}
// The meter alone, all checks without a stimulus, all checks with one; a WAV file, a FLAC file.
BENCHMARK(decode_and_meter)->ArgsProduct({{0, 1, 2}, {0, 1}})->Unit(benchmark::kMillisecond)->Iterations(3);

}  // namespace

BENCHMARK_MAIN();
