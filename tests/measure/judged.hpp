// SPDX-License-Identifier: MIT
#pragma once
// Signals of tests on their way through the gate: they hold faults on purpose, so they are measured in spite
// of them.

#include <memory>

#include "wavicon/intake/judged_capture.hpp"

namespace wavicon::testing {

/// A source that somebody else owns.
inline std::shared_ptr<AudioSource> borrowed(AudioSource& source) {
  return {std::shared_ptr<AudioSource>(), &source};
}

inline CaptureInfo info_of(const AudioSource& source) {
  return {.sample_rate_hz = source.sample_rate_hz(),
          .channels = source.channel_count(),
          .frames = source.frames()};
}

inline JudgedCapture taken(AudioSource& source, SampleFormat format = SampleFormat::float64) {
  return judge(borrowed(source), info_of(source), format, {}, {.despite_faults = true});
}
inline JudgedCapture taken(const Audio& audio, SampleFormat format = SampleFormat::float64) {
  return judge(audio, format, {}, {.despite_faults = true});
}
/// Of which it is known what was played, and where.
inline JudgedCapture played(AudioSource& source, Stimulus& stimulus, const Take& take,
                            SampleFormat format = SampleFormat::float64) {
  const std::shared_ptr<Stimulus> shared(std::shared_ptr<Stimulus>(), &stimulus);
  return judge(borrowed(source), info_of(source), format, {shared, take}, {.despite_faults = true});
}
/// Of which it is known what was played; where is found by its marks.
inline JudgedCapture holding(AudioSource& source, Stimulus& stimulus) {
  const std::shared_ptr<Stimulus> shared(std::shared_ptr<Stimulus>(), &stimulus);
  return judge(borrowed(source), info_of(source), SampleFormat::float64, {shared, std::nullopt},
               {.despite_faults = true});
}

}  // namespace wavicon::testing
