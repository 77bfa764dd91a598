// SPDX-License-Identifier: MIT
#pragma once
// A stimulus as an audio file, with all that travels inside it: the recipe, cue marks, its name.

#include <filesystem>
#include <functional>
#include <optional>

#include "wavicon/audio/export.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {

/// What was written, as far as it can hurt.
struct WrittenStimulus {
  std::optional<double> peak_dbfs;       ///< of the samples, before the format; none for silence
  std::optional<double> true_peak_dbtp;  ///< between them too
  ClippedSamples clipped;                ///< by the format
};

/// Renders a stimulus into a file. @param progress  0 … 1, when given. @throws Error as AudioWriter.
WAVICON_EXPORT WrittenStimulus write_stimulus_file(const std::filesystem::path& path, Stimulus& stimulus,
                                                   const std::function<void(double)>& progress = {});

}  // namespace wavicon
