// SPDX-License-Identifier: MIT
#pragma once
// Bounds that readings have to keep.

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// NAME, one of < <= > >=, VALUE: `thd_db<-80`; or a value that was kept: `thd_db<=last+0.3`.
struct Limit {
  enum class Relation { less, less_equal, greater, greater_equal };
  std::string name;
  Relation relation = Relation::less;
  double value = 0;
  std::string past;  ///< the right side where it is no number: it stands for a value that was kept
  std::string text;  ///< as it was given
};

/// A value that was kept, as a limit names it.
struct PastValue {
  double value = 0;
  std::string source;  ///< which that is, for a person: "-61.20 dB of entry 12, 2026-03-02"
};
/// Finds it. @throws Error bad_input when there is none.
using PastValues = std::function<PastValue(const Limit& limit, const Sheet& sheet, const Reading& reading)>;

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
  std::string past;                     ///< PastValue::source, where it was kept
};

/// @throws Error bad_argument when the text is not a limit, showing how one is written.
[[nodiscard]] WAVICON_EXPORT Limit parse_limit(const std::string& text);

/// Compares each reading of the limit's name, in every channel. An upper bound keeps `<` when the bound
/// itself does, and never decides `>`.
///
/// @param past  finds what Limit::past stands for; none: such limits are not allowed.
/// @throws Error bad_argument when the sheet has no reading of that name, with the names it has that are
/// nearest.
[[nodiscard]] WAVICON_EXPORT std::vector<LimitResult> check_limit(const Limit& limit, const Sheet& sheet,
                                                                  const PastValues& past = {});

}  // namespace wavicon
