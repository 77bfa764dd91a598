// SPDX-License-Identifier: MIT
#pragma once
// Sheets made ready to be kept. Internal to `bench`.

#include <cstdint>
#include <string>
#include <vector>

#include "wavicon/bench/logbook.hpp"

namespace wavicon::bench_detail {

/// A sheet as it is kept, by its notes.
struct Ready {
  LogbookEntry entry;
  std::string fingerprint, words, json;
  struct Figure {
    long long place = 0;
    std::string name, unit, circumstances;
    int view = -1, bound = 0;
    double value = 0, uncertainty = 0;
  };
  std::vector<Figure> figures;
};
/// @param now_s  when it is kept. The notes are valid.
[[nodiscard]] Ready ready(Sheet sheet, const EntryNotes& notes, std::int64_t now_s);
/// Of a line that export_lines() gave. @param where  it stands, for messages. @throws Error bad_input.
[[nodiscard]] Ready ready_again(const std::string& line, const std::string& where, std::int64_t now_s);

/// In small letters, as words are looked for.
[[nodiscard]] std::string lower(std::string text);

}  // namespace wavicon::bench_detail
