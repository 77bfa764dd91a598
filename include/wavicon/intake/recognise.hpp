// SPDX-License-Identifier: MIT
#pragma once
// What a signal from elsewhere is, where it is one that can be described: a sweep with its law and its ends.

#include <cstdint>
#include <optional>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/stimulus/parts.hpp"

namespace wavicon {

struct RecognisedSweep {
  Sweep sweep;                   ///< law, ends, length; fades and level are not looked for
  std::int64_t first_frame = 0;  ///< where it begins in the signal
  double spread_rad = 0;         ///< RMS by which its phase strays from the law
};

/// The sweep that a signal holds from its first sound to its last, rising or falling, with an exponential or
/// a linear law; none when its phase follows neither within 0.02 rad.
///
/// A rough course from short spectra; then law, ends and phase together by least squares on the phase of the
/// signal beside the course, until nothing moves.
///
/// @param signal  the clean sweep, up to two minutes with silence around it. @param channel  from 0.
/// @throws Error bad_input for 0 frames or silence; bad_argument for a channel that is not there.
/// @accuracy  phase 1e-4 rad over a clean sweep (recognise_test.cpp)
[[nodiscard]] WAVICON_EXPORT std::optional<RecognisedSweep> recognise_sweep(AudioSource& signal,
                                                                            int channel = 0);

}  // namespace wavicon
