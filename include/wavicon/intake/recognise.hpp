// SPDX-License-Identifier: MIT
#pragma once
// What a signal from elsewhere is made of: steady tones and steps of them, blocks, bursts, level ramps,
// several tones at once, sweeps, noise, impulses, hits, and programme for the rest.

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/stimulus/parts.hpp"
#include "wavicon/stimulus/recipe.hpp"

namespace wavicon {

/// A stretch of a signal, and what it is.
struct RecognisedPart {
  std::string kind;  ///< a word of kind_names(), or "hit", "offset" (DC)
  std::int64_t first_frame = 0;
  std::int64_t frames = 0;
  std::optional<PartKind> written;  ///< as a recipe writes it; noise is drawn anew from it, of the same kind
  double level_dbfs = 0;            ///< peak of what is steady or sweeps, RMS of the rest (full scale = 1)
  std::optional<double> stray_db;   ///< RMS of what `written` leaves of the signal, over the signal's
  bool certain = false;             ///< it is taken for what it is written as
  std::string reason;               ///< why it is not certain, or what cannot be written
};

struct Recognition {
  double sample_rate_hz = 0;
  std::int64_t frames = 0;
  int channel = 0;                    ///< that was looked at, from 0
  std::vector<int> other_channels{};  ///< from 0: that sound and hold something else
  double idle_dbfs = -1e9;            ///< RMS of the quietest 20 ms; -1e9: digital silence, or no pause
  std::vector<RecognisedPart> parts;  ///< in order of time
};

/// Takes a signal apart at its silences, and each stretch by the first model that explains it: impulse,
/// steady tones one after the other, several tones at once, a level that runs, a sweep, noise. A last look at
/// the neighbours takes certainty away: what lies beside programme may be a note of it, and tones whose
/// frequencies go up and down may be a tune.
///
/// @param signal   read in blocks; a stretch without silence is looked at for two minutes.
/// @param channel  from 0; none: the first one that sounds.
/// @throws Error bad_input for 0 frames or silence; bad_argument for a channel that is not there.
/// @accuracy  of steady tones 0.1 ppm and 0.001 dB, ends to a frame where they are cut and to 4 % of a fade;
/// sweeps 1e-4 cycle (recognise_test.cpp)
[[nodiscard]] WAVICON_EXPORT Recognition recognise(AudioSource& signal, std::optional<int> channel = {});

/// A part in a few words: "12 steps of 997 Hz, -60 to -5 dBFS".
[[nodiscard]] WAVICON_EXPORT std::string described(const RecognisedPart& part);

/// A recipe of all that is certain, each part where it lies.
struct RecognisedRecipe {
  Recipe recipe;                      ///< without marks; its frame 0 is the signal's
  std::vector<std::string> left_out;  ///< what it does not hold, and why, with times
  bool complete = false;  ///< it holds all that sounds: where it is silent, the signal was meant to be
};
/// @return none when nothing is certain, and for rates that no stimulus has (below 8 kHz).
[[nodiscard]] WAVICON_EXPORT std::optional<RecognisedRecipe> recipe_of(const Recognition& recognition,
                                                                       int channel_count);

/// The same capture with what it was recognised to hold, when its stimulus is not known and something in it
/// is certain; else as it is. Pauses and cuts between what was recognised are no faults.
///
/// @param capture  with its faults held. @param policy  what is let through in the end.
/// @throws UnfitCapture as judge().
[[nodiscard]] WAVICON_EXPORT JudgedCapture recognised(const JudgedCapture& capture, const GatePolicy& policy);
/// B with the stimulus of A where alignment finds it, when A's was recognised and B's place is not known;
/// else as it is.
[[nodiscard]] WAVICON_EXPORT JudgedCapture placed_by(const JudgedCapture& b, const JudgedCapture& a,
                                                     const GatePolicy& policy);

/// A capture with the stimulus of its reference, a clean signal from elsewhere that was recognised or carries
/// a recipe; in whichever channel it lies.
///
/// @param capture  with its faults held. @param policy  what is let through in the end.
/// @throws Error bad_argument for another sample rate; bad_input, naming the reference, when nothing is known
/// of it, when the capture does not hold it, or when frames were lost. @throws UnfitCapture as judge().
[[nodiscard]] WAVICON_EXPORT JudgedCapture holding(const JudgedCapture& capture,
                                                   const JudgedCapture& clean_signal,
                                                   const GatePolicy& policy);

/// The one sweep that is certain, rising or falling, there and not back; null for none or several.
[[nodiscard]] WAVICON_EXPORT const RecognisedPart* only_sweep(const Recognition& recognition);

}  // namespace wavicon
