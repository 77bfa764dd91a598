// SPDX-License-Identifier: MIT
#pragma once
// What is played while somebody watches, by its word.

#include <memory>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/live/generator.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {

/// The words, a tone first.
[[nodiscard]] WAVICON_EXPORT std::vector<std::string> play_words();

/// What is played over and over for a word but "tone": two seconds of a sweep, eight of pink noise, marks for
/// round trips. @throws Error bad_argument for another word, with the nearest.
[[nodiscard]] WAVICON_EXPORT Recipe recipe_to_play(const std::string& word, double sample_rate_hz);

/// A stimulus to be played over and over, with half a second of silence behind it; marks with so much that
/// they come every two seconds. @throws Error bad_argument for more than ten minutes.
[[nodiscard]] WAVICON_EXPORT std::vector<std::vector<float>> loop_of(Stimulus& stimulus);

}  // namespace wavicon
