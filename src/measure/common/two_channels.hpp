// SPDX-License-Identifier: MIT
#pragma once
// Which channel of A goes with which of B. Internal to `measure`.

#include <vector>

#include "wavicon/measure/measurement.hpp"

namespace wavicon::measure_detail {

struct TwoChannels {
  int a = 0;  ///< from 0
  int b = 0;
};

/// As named: two channels, from 1; or one of both (request.channel). Of one file without a word its two
/// channels; of two files the first that sounds in A, and the same in B, or the first that sounds there.
///
/// @param named  two channels, or none.
/// @throws Error bad_argument for one file that has not two channels, or of which one channel is named.
[[nodiscard]] TwoChannels two_channels(const MeasureRequest& request, const JudgedCapture& b,
                                       const std::vector<int>& named);

/// As the health check found it; what was not checked sounds.
[[nodiscard]] bool is_silent(const JudgedCapture& capture, int channel);

/// "FILE, channel 2" where there are several.
[[nodiscard]] std::string channel_of_file(const JudgedCapture& capture, int channel);

}  // namespace wavicon::measure_detail
