// SPDX-License-Identifier: MIT
// The gate over any samples.

#include "wavicon/intake/health.hpp"
#include "signal.hpp"
#include "wavicon/file/sheet_file.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/stimulus/stimulus.hpp"

using namespace wavicon;

namespace {

std::shared_ptr<Stimulus> short_stimulus(double rate) {
  Recipe recipe;
  recipe.sample_rate_hz = std::clamp(std::round(rate), kLowestSampleRateHz, kHighestSampleRateHz);
  recipe.parts.push_back({.kind = Tone{.frequency_hz = 331, .seconds = 0.1}});
  return std::make_shared<Stimulus>(recipe);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  fuzz::Bytes bytes(data, size);
  constexpr SampleFormat kFormats[] = {SampleFormat::pcm16, SampleFormat::pcm24, SampleFormat::float32,
                                       SampleFormat::float64};
  const SampleFormat format = kFormats[bytes.choice(4)];
  const bool known = bytes.choice(2) == 1;
  const Audio audio = fuzz::signal_of(bytes, 60000);
  fuzz::accepted([&] {
    KnownStimulus stimulus;
    if (known) stimulus.stimulus = short_stimulus(audio.sample_rate_hz());
    const JudgedCapture capture = judge(audio, format, stimulus, {.despite_faults = true});
    for (const Finding& finding : capture.findings())
      fuzz::require(!finding.text.empty(), "a finding says something");
    (void)sheets_to_json({health_sheet(capture.health(), capture.info())});
  });
  return 0;
}
