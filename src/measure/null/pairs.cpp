// SPDX-License-Identifier: MIT
// What several pairs are beside each other.
#include <fmt/format.h>

#include <algorithm>

#include "wavicon/measure/null/null.hpp"

namespace wavicon {
namespace {

struct PairOf {
  const Sheet* sheet = nullptr;
  std::string verdict;
  std::optional<double> depth_db;  // of the worst channel
};

std::optional<PairOf> pair_of(const Sheet& sheet) {
  PairOf pair{.sheet = &sheet};
  for (const Reading& r : sheet.readings) {
    if (r.name == "verdict") pair.verdict = r.text;
    if (r.name == "null_depth_db" && r.value && (!pair.depth_db || *r.value > *pair.depth_db))
      pair.depth_db = *r.value;
  }
  return pair.verdict.empty() ? std::nullopt : std::optional(pair);
}

std::string reference_of(const Sheet& sheet) {
  for (const Reading& r : sheet.readings)
    if (const auto* value = find_condition(r, "reference"))
      if (const auto* file = std::get_if<std::string>(value)) return *file;
  return "A";
}

std::string words_of(const PairOf& pair) {
  return fmt::format("{} and {} ({}{})", reference_of(*pair.sheet), pair.sheet->capture.file, pair.verdict,
                     pair.depth_db ? fmt::format(", {:.1f} dB", *pair.depth_db) : "");
}

}  // namespace

std::string null_pairs_answer(const std::vector<Sheet>& sheets) {
  std::vector<PairOf> pairs;
  for (const Sheet& sheet : sheets)
    if (auto pair = pair_of(sheet)) pairs.push_back(std::move(*pair));
  if (pairs.empty()) return "";
  const auto alike = std::count_if(pairs.begin(), pairs.end(), [](const PairOf& p) {
    return p.verdict == "identical" || p.verdict == "rounding" || p.verdict == "noise";
  });
  const auto deeper = [](const PairOf& p, const PairOf& q) {
    return p.depth_db.value_or(-1e9) < q.depth_db.value_or(-1e9);
  };
  const auto [least, most] = std::minmax_element(pairs.begin(), pairs.end(), deeper);
  std::string text =
      fmt::format("{} of {} pairs differ by no more than noise or rounding", alike, pairs.size());
  if (pairs.size() > 1) text += fmt::format("; most alike: {}; least: {}", words_of(*least), words_of(*most));
  if (pairs.size() < sheets.size())
    text += fmt::format("; {} cannot be compared", sheets.size() - pairs.size());
  return text;
}

}  // namespace wavicon
