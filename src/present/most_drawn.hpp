// SPDX-License-Identifier: MIT
#pragma once
// How much one picture can hold and still be read. Internal to `present`.

#include <cstddef>

namespace wavicon::present_detail {

inline constexpr std::size_t kMostCurves = 64;   // lines; more than kMostPens are shades of one scale
inline constexpr std::size_t kMostPens = 6;      // lines that stay apart in grey as well
inline constexpr std::size_t kMostPanels = 4;    // spectra of channels beneath each other
inline constexpr std::size_t kMostCaptures = 6;  // bars beside each other at one order
inline constexpr std::size_t kMostPeriods = 4;   // periods of tones over each other
inline constexpr std::size_t kMostBlocks = 4;    // gains over time beside each other
inline constexpr std::size_t kMostTones = 4;     // waveforms in two rows of two

}  // namespace wavicon::present_detail
