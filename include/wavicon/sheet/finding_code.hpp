// SPDX-License-Identifier: MIT
#pragma once
// The stable word for what a finding is about. Decisions are taken by it, never by the text.

#include <optional>
#include <span>
#include <string_view>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// What a finding is about. In JSON the enumerator's name.
enum class FindingCode {
  // Of a capture by itself.
  fit,                   ///< nothing is wrong with it
  broken_sample,         ///< NaN, an infinite value, or one whose square is infinite
  truncated,             ///< the file ends before what its header announces
  broken_chunk,          ///< something beside the sound (cue marks, a recipe) cannot be read
  unreadable_name,       ///< its name is not UTF-8: what could not be read was replaced
  silent,                ///< every sample of every channel is zero
  silent_channel,        ///< every sample of this channel is zero
  clipped,               ///< cut off at the full scale of the capture's own format
  clipped_in_chain,      ///< cut off at some other level: a unit clips
  over_between_samples,  ///< exceeds full scale between its samples
  dropout,               ///< sound cut off by zeros on both sides
  repeated_block,        ///< a block was played again in place of what should follow
  discontinuity,         ///< one place changes far more abruptly than what is around it
  dc_offset,             ///< a constant beside the sound
  mains_hum,             ///< lines at multiples of the mains frequency
  band_limited,          ///< the spectrum ends far below half the rate
  stuck_bits,            ///< lowest bits that never change though they are not all 0
  unused_bits,           ///< fewer bits in use than the format has
  channels_equal,        ///< all channels the same, bit for bit
  channels_inverse,      ///< a channel is another one with its polarity turned
  // Of a capture against what was played.
  located,            ///< where the stimulus begins, and at which level
  wrong_stimulus,     ///< the stimulus, or the reference, is not in it
  wrong_rate,         ///< played at another speed
  cut_start,          ///< it begins after the stimulus does
  cut_end,            ///< it ends before the stimulus does
  lost_frames,        ///< frames are missing between two places
  repeated_frames,    ///< frames were repeated or inserted between two places
  clock_drift,        ///< the clocks run apart
  polarity_inverted,  ///< all of it, or a channel, upside down
  channels_swapped,   ///< a channel holds another channel of the stimulus
  channel_missing,    ///< a channel should carry the stimulus and is silent
  channel_level,      ///< a channel's level beside the first one's
  gain_habit,         ///< a gain that recording programs are known to apply
  ambiguous_place,    ///< the signal repeats itself: it fits elsewhere nearly as well
  assumed_stimulus,   ///< nothing is known of what was played: what was taken for it
  despite_faults,     ///< a fault that was measured in spite of, on request
  // What a recording program did.
  untouched,            ///< nothing
  gain_changed,         ///< a gain, a normalisation
  moved,                ///< put later, or silence added around it
  trimmed,              ///< frames cut off at an end
  faded,                ///< a fade reaches the stimulus
  word_length_changed,  ///< shortened to fewer bits
  tempo_changed,        ///< another length with the pitch kept
  channels_changed,     ///< one channel became several, or the other way round
  path_shapes_marks,    ///< an equaliser in the path hides what else was done
  // Of a measurement.
  result,                 ///< the answer, in a sentence
  detail,                 ///< what qualifies or explains the answer
  comparison,             ///< how it stands to another capture
  not_measured,           ///< a channel or a part without a reading, and why
  nothing_found,          ///< what was looked for does not stand out of noise or floor
  too_short,              ///< more time is needed for this
  too_coarse,             ///< finer steps or a better setting are needed for this
  unsettled,              ///< something still moves where a steady state was needed
  limited_range,          ///< only a part of what was asked for was looked at
  left_out,               ///< a part of the result is missing, and why
  doubtful,               ///< the readings are weaker than they look, and why
  folded_orders,          ///< orders that lie above half the rate, or cannot be told apart
  level_over_full_scale,  ///< louder than an integer format can hold
  output_written,         ///< what else was made on the way
};

/// The enumerator's name: "dropout". Valid for the life of the program.
[[nodiscard]] WAVICON_EXPORT std::string_view word_of(FindingCode code);
/// The code of that word; none for another word.
[[nodiscard]] WAVICON_EXPORT std::optional<FindingCode> finding_code(std::string_view word);
/// Every code, in the order of the enumeration.
[[nodiscard]] WAVICON_EXPORT std::span<const FindingCode> all_finding_codes();

}  // namespace wavicon
