// SPDX-License-Identifier: MIT
#pragma once
// What was kept, put beside each other: who is better, what has changed.

#include <optional>
#include <string>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/bench/logbook.hpp"
#include "wavicon/sheet/limit.hpp"
#include "wavicon/sheet/page.hpp"
#include "wavicon/sheet/picture.hpp"

namespace wavicon {

/// A page, and what a picture of it shows.
struct History {
  Page page;
  std::vector<Sheet> drawn;
  Picture picture;
};

/// The latest entries, the latest last.
[[nodiscard]] WAVICON_EXPORT Page entries_page(const Logbook& logbook, const EntryFilter& filter,
                                               std::size_t most);

/// What is known of one entry beside its sheet. @throws Error bad_argument for one that is not there.
[[nodiscard]] WAVICON_EXPORT Page entry_page(const Logbook& logbook, std::int64_t id);

struct RankOptions {
  EntryFilter filter;
  std::optional<int> channel;    ///< from 0; none: the worse one of each entry
  std::optional<Better> better;  ///< none: as the catalogue says
  std::size_t most = 20;         ///< rows shown; 0: all
};
/// Entries from best to worst by one reading. Those whose conditions are not the newest entry's stand apart.
/// Two whose figures are nearer than both uncertainties together, sqrt(u₁² + u₂²), share a place: an entry's
/// place is one more than the number of those that are surely better.
///
/// @throws Error bad_argument for a reading that no entry has (with the nearest names), or that has no better
/// and worse.
[[nodiscard]] WAVICON_EXPORT History ranking(const Logbook& logbook, const std::string& reading,
                                             const RankOptions& options);

struct TrendOptions {
  EntryFilter filter;
  std::optional<int> channel;  ///< from 0; none: the worse one of each entry
  std::size_t most = 40;       ///< rows shown, the first and the latest; 0: all
};
/// Readings over time: what changed since the first entry by more than is uncertain, and where it jumped.
///
/// @param readings  one and more. @throws Error bad_argument for a reading that no entry has.
[[nodiscard]] WAVICON_EXPORT History trend(const Logbook& logbook, const std::vector<std::string>& readings,
                                           const TrendOptions& options);

/// Reading by reading what B has else than A, what changed beyond its uncertainty first.
///
/// @param a, b  each the number of an entry, a label (of each measurement the latest entry that has it) or a
///              date (of each measurement the latest entry of that day).
/// @param all   whether what did not change stands below.
/// @throws Error bad_argument for what names no entry, and where A and B have no measurement in common.
[[nodiscard]] WAVICON_EXPORT History comparison(const Logbook& logbook, const std::string& a,
                                                const std::string& b, bool all);

/// The value that a limit's right side stands for: last, first, best or a label, and a number added to it. Of
/// the entries with the same measurement and all of `filter`, those whose reading has the same channel and
/// conditions.
///
/// @throws Error bad_input when there is none, with what to do.
[[nodiscard]] WAVICON_EXPORT PastValue past_value(const Logbook& logbook, const EntryFilter& filter,
                                                  const Limit& limit, const Sheet& sheet,
                                                  const Reading& reading);

}  // namespace wavicon
