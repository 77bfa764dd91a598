// SPDX-License-Identifier: MIT
#pragma once
// What a few spectra, spread over a capture, tell: where a band ends, and whether mains hum runs through it.
// Internal.

#include <optional>
#include <vector>

#include "wavicon/audio/source.hpp"
#include "wavicon/intake/health.hpp"

namespace wavicon::intake_detail {

// @param held  what the source holds, where that lies in memory.

/// For each channel the frequency where the spectrum falls off a cliff well below half the rate; none when it
/// does not.
[[nodiscard]] std::vector<std::optional<double>> band_ends_hz(AudioSource& source,
                                                              const Audio* held = nullptr);

/// For each channel the mains hum that is there nearly all the time.
[[nodiscard]] std::vector<std::optional<MainsHum>> mains_hum(AudioSource& source,
                                                             const Audio* held = nullptr);

}  // namespace wavicon::intake_detail
