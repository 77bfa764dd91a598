// SPDX-License-Identifier: MIT
#include "wavicon/present/manual.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "wavicon/sheet/finding_code.hpp"

namespace wavicon {
namespace {

constexpr const char* kHead = R"(# Readings

Every reading that a sheet can hold, made by `wavicon explain --all` from the catalogue. A name with `{}` stands for
one with a number there: `h{}_dbc` is `h2_dbc`, `h3_dbc` and so on.

In JSON a reading is an object with `name`, `channel` (from 1; absent for the whole capture), `value` (a number, a word,
or null when it does not exist; then a finding says why), `unit`, `floor` (what the measurement itself would read, or
null), `uncertainty` (where the measurement can tell it), `bound` (true when the true value is at or below it) and
`conditions`. A finding has `severity` (note, warning, fault), `code`, `text` and, when it is about one, `channel`.

)";

std::string cell(const std::string& text) {
  std::string out;
  for (const char c : text) out += c == '|' ? std::string("\\|") : std::string(1, c);
  return out;
}

std::string gain_text(const ReadingEntry& entry) {
  switch (entry.gain) {
    case GainLaw::same:
      return "-";
    case GainLaw::adds:
      return "1 dB per dB";
    case GainLaw::scales:
      return "in proportion";
    default:
      return "its own way";
  }
}

}  // namespace

std::string readings_manual(const std::vector<const ReadingTable*>& tables) {
  std::string text = kHead;
  for (const ReadingTable* table : tables) {
    text += fmt::format(
        "## {}\n\n| reading | unit | is | definition | source | misleads | with gain | conditions |\n"
        "|---|---|---|---|---|---|---|---|\n",
        table->measurement);
    for (const ReadingEntry& e : table->entries)
      text += fmt::format("| `{}` | {} | {} | {} | {} | {} | {} | {} |\n", e.name, cell(e.unit),
                          cell(e.words), cell(e.definition), cell(e.source), cell(e.misleads), gain_text(e),
                          fmt::join(e.conditions, ", "));
    text += "\n";
  }
  text += "## Codes of findings\n\n";
  for (const FindingCode code : all_finding_codes()) text += fmt::format("- `{}`\n", word_of(code));
  return text;
}

}  // namespace wavicon
