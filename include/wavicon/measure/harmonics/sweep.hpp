// SPDX-License-Identifier: MIT
#pragma once
// Harmonics over frequency, from a sweep: each order where it belongs, folded products left out.

#include "wavicon/audio/export.hpp"
#include "wavicon/measure/aliasing/aliasing.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// From the orders of a sweep that measure_aliasing() has followed: curves "THD", "H2" … over the frequency
/// of the sweep, in dBc, only where an order lies below half the rate, can be told from folded ones and
/// stands 10 dB over what noise would read; readings `thd_db` at 100 Hz, 1 kHz and 5 kHz (`at_hz` in the
/// conditions) and `thd_max_db`.
///
/// @param highest_order  2 … 10 of what was followed. @throws Error bad_argument for another.
/// @accuracy  0.02 dB where levels change by less than 12 dB per octave (harmonics_sweep_test.cpp)
[[nodiscard]] WAVICON_EXPORT Sheet harmonics_over_frequency(const AliasingResult& result, int highest_order,
                                                            const CaptureInfo& capture);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& harmonics_sweep_readings();

}  // namespace wavicon
