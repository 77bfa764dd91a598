// SPDX-License-Identifier: MIT
// What reading the harmonics costs, against one transform of the same length.

#include <benchmark/benchmark.h>

#include "wavicon/audio/transform.hpp"
#include "wavicon/measure/harmonics/harmonics.hpp"
#include "wavicon/stimulus/tone.hpp"

namespace {

wavicon::Audio tone(double seconds) {
  const wavicon::ToneStimulus stimulus{.frequency_hz = 997, .level_dbfs = -13.5, .seconds = seconds};
  wavicon::Audio audio(48000, 1, wavicon::frame_count(stimulus));
  wavicon::render(stimulus, 0, audio.channel(0));
  return audio;
}

void harmonics(benchmark::State& state) {
  const auto audio = tone(static_cast<double>(state.range(0)));
  const auto capture = wavicon::judge(audio, wavicon::SampleFormat::pcm24);
  for (auto _ : state) benchmark::DoNotOptimize(wavicon::measure_harmonics(capture));
}
BENCHMARK(harmonics)->Arg(1)->Arg(2)->Arg(10)->Arg(60)->Unit(benchmark::kMillisecond);

void one_transform(benchmark::State& state) {
  wavicon::RealTransform transform(
      wavicon::fast_transform_length(static_cast<std::size_t>(48000 * state.range(0))));
  for (auto _ : state) transform.execute();
}
BENCHMARK(one_transform)->Arg(2)->Unit(benchmark::kMillisecond);

}  // namespace

BENCHMARK_MAIN();
