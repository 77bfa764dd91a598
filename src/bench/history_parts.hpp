// SPDX-License-Identifier: MIT
#pragma once
// What ranks, trends and comparisons share. Internal to `bench`.

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "wavicon/bench/history.hpp"

namespace wavicon::bench_detail {

/// "three" … "twelve", "13".
[[nodiscard]] std::string count_word(std::size_t count);
/// "2026-03-02".
[[nodiscard]] std::string day_text(std::int64_t seconds);
/// "THD" of a reading, or its name.
[[nodiscard]] std::string words_of(const Reading& reading);
/// By how much two figures may differ and be the same, k = 2: sqrt(u₁² + u₂²).
[[nodiscard]] double both(const Reading& a, const Reading& b);
/// What a limit adds to a figure: "+0.3", or "+u" for as much as both may differ and be the same.
struct Added {
  double number = 0;
  double uncertainties = 0;  ///< times both()
};
/// None for another text; an empty one adds nothing.
[[nodiscard]] std::optional<Added> parse_added(std::string text);
[[nodiscard]] double added_to(const Added& added, const Reading& kept, const Reading& own);

/// What one figure is more than another: levels differ by decibels, loudness by LU.
[[nodiscard]] FigureChange change_between(const Reading& from, const Reading& to);
/// How much worse a is than b; below 0: better. 0 where neither is.
[[nodiscard]] double worse_by(Better better, double a, double b);

/// @throws Error bad_argument with the nearest names when no entry has a reading of that name.
void require_reading(const Logbook& logbook, const std::string& name);
/// Of one reading of entries that are meant. @throws Error as require_reading(), and bad_argument where none
/// of these has it.
[[nodiscard]] std::vector<KeptReading> readings_or_fail(const Logbook& logbook, const std::string& name,
                                                        const EntryFilter& filter);

/// Readings that compare with each other.
struct Comparable {
  std::vector<KeptReading> readings;  ///< of each entry one
  std::string apart;                  ///< by what they differ from the first such group
};
/// One of each entry in groups of the same conditions; that of the latest entry first.
///
/// @param better  of several channels the worse one stands for its entry; neither: the first.
/// @throws Error bad_argument where none has that channel.
[[nodiscard]] std::vector<Comparable> grouped(const std::vector<KeptReading>& readings,
                                              std::optional<int> channel, Better better);

/// Entries by their numbers, read at once.
[[nodiscard]] std::map<std::int64_t, LogbookEntry> entries_of(const Logbook& logbook,
                                                              const std::vector<std::int64_t>& ids);

/// A remark where entries were measured by programs that do not compute alike; empty: they do.
[[nodiscard]] std::string arithmetic_remark(const std::vector<LogbookEntry>& entries);

/// Adds a remark once, unless it is empty.
void remark(Page& page, const std::string& text);

}  // namespace wavicon::bench_detail
