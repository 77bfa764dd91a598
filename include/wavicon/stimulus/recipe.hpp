// SPDX-License-Identifier: MIT
#pragma once
// A recipe: the text from which a stimulus is made, and its meaning as data. The same recipe gives the same
// bytes every time.

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/limits.hpp"
#include "wavicon/stimulus/parts.hpp"

namespace wavicon {

/// One stretch of a stimulus.
struct RecipePart {
  std::string name;  ///< for a person and for names of files (file_name_problem()); empty: the kind's word
  PartKind kind;
  std::vector<int> channels;  ///< from 1, as in recipes; empty: all
  bool with_previous =
      false;  ///< starts with the part before it and lies on top of it, instead of following it
  double silence_before_s = 0;
  double silence_after_s = 0;
  std::vector<std::string> measure;  ///< what a kit measures of it; empty: what is usual for its kind
};

/// Everything that decides the bytes of a stimulus.
struct Recipe {
  std::string name = "stimulus";  ///< files are called by it (file_name_problem())
  double sample_rate_hz = 48000;
  int channel_count = 1;
  int bits = 24;  ///< 16, 24, or 32 for 32-bit float
  bool dither = false;
  std::int64_t seed = 1;        ///< of the dither
  double pad_db = 0;            ///< gain over everything but the marks, 0 or below
  bool marks = true;            ///< short chirps before and after the parts
  double silence_before_s = 0;  ///< outside of the marks
  double silence_after_s = 0;
  std::vector<RecipePart> parts;
};

template <typename Visitor>
void fields(Recipe& r, Visitor& visit) {
  visit("name", r.name, "for a person; files are called by it");
  visit("sample_rate_hz", r.sample_rate_hz, Range{kLowestSampleRateHz, kHighestSampleRateHz}, "of the file");
  visit("channels", r.channel_count, Range{1, kMostChannels}, "of the file");
  visit("bits", r.bits, Range{16, 32}, "16, 24, or 32 for 32-bit float");
  visit("dither", r.dither, "TPDF dither, 16 and 24 bits");
  visit("seed", r.seed, Range{0, 9e15}, "of the dither");
  visit("pad_db", r.pad_db, Range{-200, 0}, "gain over all parts");
  visit("marks", r.marks, "chirps at start and end, by which a capture is found");
  visit("silence_before_s", r.silence_before_s, kTime, "before the first mark");
  visit("silence_after_s", r.silence_after_s, kTime, "after the last mark");
}

template <typename Visitor>
void part_fields(RecipePart& p, Visitor& visit) {
  visit("name", p.name, "for a person; cue marks are called by it");
  visit("channels", p.channels, Range{1, kMostChannels}, "from 1; all when left out");
  visit("with_previous", p.with_previous, "on top of the part before it instead of after it");
  visit("silence_before_s", p.silence_before_s, kTime, "before the part");
  visit("silence_after_s", p.silence_after_s, kTime, "after the part");
  visit("measure", p.measure, std::vector<std::string>{}, "what a kit measures of it (default: by its kind)");
}

/// What is wrong with a part, or nothing.
using PartRule = std::function<std::string(const RecipePart&)>;

/// Reads a recipe and checks every value.
///
/// @param source      what to call the text in errors: a file's name.
/// @param other_rule  a rule that the reader of the recipe has beyond those of a stimulus, such as which
/// measurements there are: what is wrong with a part, or nothing; may be empty.
/// @throws Error bad_input "SOURCE:LINE:COLUMN: …" for what is no TOML, an unknown key (with the nearest), a
/// value of the wrong type or out
///               of range, with what is allowed
[[nodiscard]] WAVICON_EXPORT Recipe parse_recipe(const std::string& text, const std::string& source,
                                                 const PartRule& other_rule = {});

/// The recipe as text; settings at their defaults are left out. Reading it gives the same recipe.
[[nodiscard]] WAVICON_EXPORT std::string recipe_text(const Recipe& recipe);

/// Checks a recipe that was not read from text. @throws Error bad_argument naming part, setting, value and
/// what is allowed.
WAVICON_EXPORT void require_valid(const Recipe& recipe);

}  // namespace wavicon
