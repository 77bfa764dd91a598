// SPDX-License-Identifier: MIT
#pragma once
// What a recording program did to a stimulus on its way through a session: from the bounce alone, by the
// marks. Definitions: docs/kit.md.

#include <cstdint>
#include <optional>
#include <string>

#include "wavicon/audio/export.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/sheet/catalogue.hpp"

namespace wavicon {

/// Differences between a bounce and the stimulus that went into the session.
struct Bounce {
  double gain_db = 0;  ///< of the marks
  int polarity = 1;
  std::string gain_like;    ///< what such a gain usually is; empty for none
  bool normalised = false;  ///< the highest sample lies at a round level that the gain does not explain
  double peak_dbfs = 0;
  std::int64_t lead_frames = 0;  ///< before the stimulus's first frame; below 0: cut off
  std::int64_t tail_frames = 0;  ///< after its last one; below 0: cut off
  bool delayed =
      false;  ///< as much is missing at the end as came before the start: a delay that is not made up for
  double place_frames = 0;          ///< of the stimulus's first frame, fraction included
  std::int64_t fade_in_frames = 0;  ///< 0: none that reaches the marks
  std::int64_t fade_out_frames = 0;
  double shaped_db =
      0;  ///< by how much an equaliser in the path shapes the marks, which hides fades; 0: none
  std::string
      fade_shape;     ///< "linear", "raised cosine", "quarter sine"; of the fade in, else of the fade out
  int used_bits = 0;  ///< 0: more than 24
  std::optional<bool> dithered;  ///< whether its word length was dithered; none when it was not shortened
  double rate_ratio = 1;         ///< speed at which the stimulus plays
  double drift_ppm = 0;
  double tempo_ratio = 1;  ///< length over that of the stimulus when it was stretched with its pitch kept
  int channels = 0;
  int stimulus_channels = 0;
  bool copied = false;    ///< a stimulus of one channel stands on several, the same on each
  bool one_side = false;  ///< a stimulus of one channel stands on one of several
};

/// @param bounce  judged with the stimulus of its kit and held faults: what is wrong with it is what is
/// looked for.
/// @throws Error bad_input when the stimulus was not found in it.
/// @accuracy  gain 0.01 dB, frames exact, fades 6 % (bounce_test.cpp)
[[nodiscard]] WAVICON_EXPORT Bounce examine_bounce(const JudgedCapture& bounce);

/// Readings and a finding for each habit.
[[nodiscard]] WAVICON_EXPORT Sheet bounce_sheet(const Bounce& bounce, const CaptureInfo& capture);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& kit_readings();

}  // namespace wavicon
