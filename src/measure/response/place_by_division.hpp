// SPDX-License-Identifier: MIT
#pragma once
// Where a sweep lies in a capture that a filter has changed so far that nothing else tells. Internal to
// response.

#include <complex>
#include <cstdint>
#include <optional>
#include <span>

#include "measure/common/frame_range.hpp"
#include "wavicon/audio/source.hpp"

namespace wavicon::measure_detail {

/// Bins over others, but for what these lack: ε is a thousandth of their mean power. @return false for
/// silence.
bool divide_softly(std::span<const std::complex<double>> by, std::span<std::complex<double>> bins);

struct Crest {
  std::int64_t at = 0;      ///< frame of a circular response
  double over_rest_db = 0;  ///< squared, over the mean square of all that lies more than 20 ms off
};
/// @return none for silence, or a response of less than 40 ms.
[[nodiscard]] std::optional<Crest> crest_of(std::span<const double> response, double rate);

/// @throws Error bad_input for a crest that something else than an answer to the sweep may have, too.
void require_answer(double over_rest_db);

struct DividedPlace {
  std::int64_t delay_frames = 0;  ///< how late B is at the crest, what a filter delays included
  double crest_db = 0;            ///< the crest, squared, over the mean square of all that lies not around it
};

/// B divided by the whole sweep is the response over time, at one place. What is no answer to the sweep
/// spreads over all of it: there the crest stays under 34 dB.
///
/// @param range  of the sweep in A. @return none for silence, or a B of more than five minutes.
[[nodiscard]] std::optional<DividedPlace> place_by_division(AudioSource& a, int channel_a,
                                                            const FrameRange& range, AudioSource& b,
                                                            int channel_b);

}  // namespace wavicon::measure_detail
