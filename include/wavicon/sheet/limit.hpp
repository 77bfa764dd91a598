// SPDX-License-Identifier: MIT
#pragma once
// Bounds that readings have to keep.

#include <optional>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// NAME, one of < <= > >=, VALUE: `thd_db<-80`.
struct Limit {
  enum class Relation { less, less_equal, greater, greater_equal };
  std::string name;
  Relation relation = Relation::less;
  double value = 0;
  std::string text;  ///< as it was given
};

/// How one reading stands to a limit.
struct LimitResult {
  enum class Outcome { kept, broken, undecided };
  std::string limit;            ///< as it was given
  std::optional<int> channel;   ///< of the reading, from 0
  std::optional<double> value;  ///< of the reading
  std::string unit;
  const ReadingEntry* entry = nullptr;  ///< of the reading, in the catalogue
  Outcome outcome = Outcome::broken;    ///< undecided: no value, or a bound on the wrong side of the limit
  double bound = 0;                     ///< the limit's value
  std::string file;                     ///< of the capture; empty for audio in memory
  int channels = 0;                     ///< of the capture
};

/// @throws Error bad_argument when the text is not a limit, showing how one is written.
[[nodiscard]] WAVICON_EXPORT Limit parse_limit(const std::string& text);

/// Compares each reading of the limit's name, in every channel. An upper bound keeps `<` when the bound
/// itself does, and never decides `>`.
///
/// @throws Error bad_argument when the sheet has no reading of that name, with the names it has that are
/// nearest.
[[nodiscard]] WAVICON_EXPORT std::vector<LimitResult> check_limit(const Limit& limit, const Sheet& sheet);

}  // namespace wavicon
