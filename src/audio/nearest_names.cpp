// SPDX-License-Identifier: MIT
#include "wavicon/audio/nearest_names.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cctype>
#include <numeric>

namespace wavicon {
namespace {

constexpr std::size_t kSuggestions = 3;  // names: more is a list, not a hint
constexpr std::size_t kShortList = 24;   // names that are all shown when none is near

std::string lower(std::string_view text) {
  std::string result(text);
  std::transform(result.begin(), result.end(), result.begin(),
                 [](unsigned char c) { return std::tolower(c); });
  return result;
}

// Damerau's distance in its restricted form: insertions, deletions, replacements and swaps of neighbours that
// turn one text into the other.
std::size_t edit_distance(const std::string& a, const std::string& b) {
  std::vector<std::size_t> before(b.size() + 1), last(b.size() + 1), row(b.size() + 1);
  std::iota(row.begin(), row.end(), std::size_t{0});
  for (std::size_t i = 1; i <= a.size(); ++i) {
    before = last;
    last = row;
    row[0] = i;
    for (std::size_t j = 1; j <= b.size(); ++j) {
      row[j] = std::min({last[j] + 1, row[j - 1] + 1, last[j - 1] + (a[i - 1] == b[j - 1] ? 0 : 1)});
      const bool swapped = i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1];
      if (swapped) row[j] = std::min(row[j], before[j - 2] + 1);
    }
  }
  return row[b.size()];
}

}  // namespace

std::vector<std::string> nearest_names(std::string_view typed, const std::vector<std::string>& candidates) {
  const std::string wanted = lower(typed);
  std::vector<std::pair<std::size_t, std::string>> ranked;
  for (const std::string& candidate : candidates) {
    const std::string name = lower(candidate);
    std::size_t distance = edit_distance(wanted, name);
    const bool contained = wanted.size() >= 3 && name.find(wanted) != std::string::npos;
    if (contained) distance = 1;
    if (distance * 2 <= std::max(wanted.size(), std::size_t{3})) ranked.emplace_back(distance, candidate);
  }
  std::stable_sort(ranked.begin(), ranked.end(),
                   [](const auto& a, const auto& b) { return a.first < b.first; });
  std::vector<std::string> names;
  for (const auto& [distance, name] : ranked)
    if (names.size() < kSuggestions && std::find(names.begin(), names.end(), name) == names.end())
      names.push_back(name);
  return names;
}

std::string name_hint(std::string_view typed, const std::vector<std::string>& candidates) {
  const auto near = nearest_names(typed, candidates);
  if (!near.empty()) return fmt::format("; did you mean '{}'?", fmt::join(near, "', '"));
  if (!candidates.empty() && candidates.size() <= kShortList)
    return fmt::format("; there are: {}", fmt::join(candidates, ", "));
  return "";
}

}  // namespace wavicon
