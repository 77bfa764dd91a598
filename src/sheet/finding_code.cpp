// SPDX-License-Identifier: MIT
#include "wavicon/sheet/finding_code.hpp"

#include <algorithm>
#include <array>

namespace wavicon {
namespace {

struct CodeWord {
  FindingCode code;
  std::string_view word;
};

constexpr CodeWord kWords[] = {
    {FindingCode::fit, "fit"},
    {FindingCode::broken_sample, "broken_sample"},
    {FindingCode::truncated, "truncated"},
    {FindingCode::broken_chunk, "broken_chunk"},
    {FindingCode::unreadable_name, "unreadable_name"},
    {FindingCode::silent, "silent"},
    {FindingCode::silent_channel, "silent_channel"},
    {FindingCode::clipped, "clipped"},
    {FindingCode::clipped_in_chain, "clipped_in_chain"},
    {FindingCode::over_between_samples, "over_between_samples"},
    {FindingCode::dropout, "dropout"},
    {FindingCode::repeated_block, "repeated_block"},
    {FindingCode::discontinuity, "discontinuity"},
    {FindingCode::dc_offset, "dc_offset"},
    {FindingCode::mains_hum, "mains_hum"},
    {FindingCode::band_limited, "band_limited"},
    {FindingCode::stuck_bits, "stuck_bits"},
    {FindingCode::unused_bits, "unused_bits"},
    {FindingCode::channels_equal, "channels_equal"},
    {FindingCode::channels_inverse, "channels_inverse"},
    {FindingCode::located, "located"},
    {FindingCode::wrong_stimulus, "wrong_stimulus"},
    {FindingCode::wrong_rate, "wrong_rate"},
    {FindingCode::cut_start, "cut_start"},
    {FindingCode::cut_end, "cut_end"},
    {FindingCode::lost_frames, "lost_frames"},
    {FindingCode::repeated_frames, "repeated_frames"},
    {FindingCode::clock_drift, "clock_drift"},
    {FindingCode::polarity_inverted, "polarity_inverted"},
    {FindingCode::channels_swapped, "channels_swapped"},
    {FindingCode::channel_missing, "channel_missing"},
    {FindingCode::channel_level, "channel_level"},
    {FindingCode::gain_habit, "gain_habit"},
    {FindingCode::ambiguous_place, "ambiguous_place"},
    {FindingCode::assumed_stimulus, "assumed_stimulus"},
    {FindingCode::despite_faults, "despite_faults"},
    {FindingCode::untouched, "untouched"},
    {FindingCode::gain_changed, "gain_changed"},
    {FindingCode::moved, "moved"},
    {FindingCode::trimmed, "trimmed"},
    {FindingCode::faded, "faded"},
    {FindingCode::word_length_changed, "word_length_changed"},
    {FindingCode::tempo_changed, "tempo_changed"},
    {FindingCode::channels_changed, "channels_changed"},
    {FindingCode::path_shapes_marks, "path_shapes_marks"},
    {FindingCode::result, "result"},
    {FindingCode::detail, "detail"},
    {FindingCode::comparison, "comparison"},
    {FindingCode::not_measured, "not_measured"},
    {FindingCode::nothing_found, "nothing_found"},
    {FindingCode::too_short, "too_short"},
    {FindingCode::too_coarse, "too_coarse"},
    {FindingCode::unsettled, "unsettled"},
    {FindingCode::limited_range, "limited_range"},
    {FindingCode::left_out, "left_out"},
    {FindingCode::doubtful, "doubtful"},
    {FindingCode::folded_orders, "folded_orders"},
    {FindingCode::level_over_full_scale, "level_over_full_scale"},
    {FindingCode::output_written, "output_written"},
};
constexpr std::size_t kCount = std::size(kWords);

constexpr bool in_order() {
  for (std::size_t i = 0; i < kCount; ++i)
    if (static_cast<std::size_t>(kWords[i].code) != i) return false;
  return true;
}
static_assert(in_order(), "a word for each code, in the order of the enumeration");

constexpr std::array<FindingCode, kCount> codes() {
  std::array<FindingCode, kCount> all{};
  for (std::size_t i = 0; i < kCount; ++i) all[i] = kWords[i].code;
  return all;
}
constexpr auto kCodes = codes();

}  // namespace

std::string_view word_of(FindingCode code) { return kWords[static_cast<std::size_t>(code)].word; }

std::optional<FindingCode> finding_code(std::string_view word) {
  const auto found = std::find_if(std::begin(kWords), std::end(kWords),
                                  [&](const CodeWord& entry) { return entry.word == word; });
  return found == std::end(kWords) ? std::nullopt : std::optional(found->code);
}

std::span<const FindingCode> all_finding_codes() { return kCodes; }

}  // namespace wavicon
