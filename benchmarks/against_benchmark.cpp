// SPDX-License-Identifier: MIT
// What lining up two recordings and taking one from the other costs, against decoding both: three minutes of
// stereo at 96 kHz, 24 bits, late by a fraction, drifting, noisy. Both are timed in turn within each
// iteration; `ratio` is the lowest time of the measurement over the lowest of decoding. Latency by marks of a
// capture of ten seconds: the time is that of the whole.

#include <benchmark/benchmark.h>

#include <algorithm>
#include <chrono>
#include <filesystem>

#include "late.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/measure/latency/latency.hpp"
#include "wavicon/measure/null/null.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace {

double seconds_of(const auto& work) {
  const auto start = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

void decode(const std::string& file) {
  wavicon::AudioReader reader(file);
  std::vector<double> block(2 * 8192);
  while (reader.read(std::span(block)) > 0) benchmark::DoNotOptimize(block.data());
}

// 0: late by whole samples; 1: by a fraction; 2: drifting as well.
void null_files(benchmark::State& state) {
  const auto folder = std::filesystem::temp_directory_path();
  const std::string a = (folder / "wavicon-benchmark-a.wav").string(),
                    b = (folder / "wavicon-benchmark-b.wav").string();
  {
    wavicon::Recipe recipe{.sample_rate_hz = 96000, .channel_count = 2, .marks = false};
    recipe.parts.push_back({.kind = wavicon::Programme{.content = "chamber", .seconds = 180}});
    wavicon::Stimulus stimulus(recipe);
    wavicon::Audio audio(96000, 2, stimulus.frames());
    for (int c = 0; c < 2; ++c) stimulus.render(0, c, audio.channel(c));
    wavicon::write_audio_file(a, audio, {.sample_rate_hz = 96000, .channel_count = 2});
    wavicon::write_audio_file(
        b, late(audio, state.range(0) == 0 ? 37 : 37.43, state.range(0) == 2 ? 1 / (1 + 20e-6) : 1),
        {.sample_rate_hz = 96000, .channel_count = 2});
  }
  double null_s = 1e9, decode_s = 1e9;
  for (auto _ : state) {
    decode_s = std::min(decode_s, seconds_of([&] {
                          decode(a);
                          decode(b);
                        }));
    null_s = std::min(null_s, seconds_of([&] {
                        const auto from = wavicon::judge_file(a), against = wavicon::judge_file(b);
                        benchmark::DoNotOptimize(wavicon::measure_null(from, against));
                      }));
  }
  std::filesystem::remove(a);
  std::filesystem::remove(b);
  state.counters["ratio"] = null_s / decode_s;
  state.counters["seconds"] = null_s;
}
BENCHMARK(null_files)->DenseRange(0, 2)->Unit(benchmark::kMillisecond)->Iterations(2);

void latency_by_marks(benchmark::State& state) {
  wavicon::Recipe recipe;
  recipe.parts.push_back({.kind = wavicon::Sweep{.seconds = 9, .level_dbfs = -6}});
  const auto stimulus = std::make_shared<wavicon::Stimulus>(recipe);
  wavicon::Audio a(48000, 1, stimulus->frames());
  stimulus->render(0, 0, a.channel(0));
  const wavicon::KnownStimulus known{state.range(0) == 0 ? stimulus : nullptr, std::nullopt};
  const auto from = wavicon::judge(a, wavicon::SampleFormat::float64, known),
             against = wavicon::judge(late(a, 261.4, 1), wavicon::SampleFormat::float64, known);
  for (auto _ : state) benchmark::DoNotOptimize(wavicon::measure_latency(from, against));
}
// By marks; by what both hold.
BENCHMARK(latency_by_marks)->DenseRange(0, 1)->Unit(benchmark::kMillisecond)->Iterations(3);

}  // namespace

BENCHMARK_MAIN();
