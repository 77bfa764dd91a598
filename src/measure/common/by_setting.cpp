// SPDX-License-Identifier: MIT
#include "measure/common/by_setting.hpp"

#include <algorithm>
#include <cctype>
#include <cstdlib>
#include <numeric>
#include <optional>
#include <string_view>

namespace wavicon::measure_detail {
namespace {

constexpr std::string_view kBetweenWords = " ?&/,;@";

// What all names begin and end with.
struct Shared {
  std::size_t front = 0, back = 0;
};

Shared shared_of(const std::vector<std::string>& names) {
  const std::string& one = names.front();
  Shared shared{one.size(), one.size()};
  for (const std::string& name : names) {
    std::size_t front = 0, back = 0;
    while (front < std::min(shared.front, name.size()) && name[front] == one[front]) ++front;
    while (back < std::min(shared.back, name.size()) &&
           name[name.size() - 1 - back] == one[one.size() - 1 - back])
      ++back;
    shared = {front, back};
  }
  return shared;
}

bool of_number(char c) { return std::isdigit(static_cast<unsigned char>(c)) != 0 || c == '.'; }

// Digits that differ belong to a number that may begin before them and end behind them; a dot belongs to it
// between digits alone.
Shared around_numbers(const std::string& name, Shared shared) {
  while (shared.front > 0 && of_number(name[shared.front - 1])) --shared.front;
  while (shared.back > 0 && std::isdigit(static_cast<unsigned char>(name[name.size() - shared.back])))
    --shared.back;
  if (shared.front > 0 && name[shared.front - 1] == '-' &&
      (shared.front == 1 || !std::isalnum(static_cast<unsigned char>(name[shared.front - 2]))))
    --shared.front;
  return shared;
}

std::optional<double> number_between(const std::string& name, const Shared& shared) {
  if (shared.front + shared.back >= name.size()) return std::nullopt;
  const std::string middle = name.substr(shared.front, name.size() - shared.front - shared.back);
  char* end = nullptr;
  const double value = std::strtod(middle.c_str(), &end);
  if (end != middle.c_str() + middle.size() || !(value > -1e12 && value < 1e12)) return std::nullopt;
  return value;
}

}  // namespace

std::vector<double> setting_values(const std::vector<std::string>& names) {
  if (names.size() < 2) return {};
  const Shared shared = around_numbers(names.front(), shared_of(names));
  std::vector<double> values;
  for (const std::string& name : names) {
    const auto value = number_between(name, shared);
    if (!value) return {};
    values.push_back(*value);
  }
  return values;
}

std::string shared_name(const std::vector<std::string>& names) {
  if (names.empty()) return {};
  std::string shared = names.front();
  for (const std::string& name : names)
    shared.resize(static_cast<std::size_t>(
        std::mismatch(shared.begin(), shared.end(), name.begin(), name.end()).first - shared.begin()));
  if (const auto folder = shared.find_last_of("/\\"); folder != std::string::npos)
    shared.erase(0, folder + 1);
  while (!shared.empty() && std::isalpha(static_cast<unsigned char>(shared.back())) == 0) shared.pop_back();
  return shared;
}

std::string setting_word(const std::vector<std::string>& names) {
  const std::string shared = shared_name(names);
  std::size_t first = shared.size();
  while (first > 0 &&
         (std::isalpha(static_cast<unsigned char>(shared[first - 1])) != 0 || shared[first - 1] == '_'))
    --first;
  return first < shared.size() && !setting_values(names).empty() ? shared.substr(first) : "setting";
}

std::vector<std::size_t> order_by_setting(const std::vector<std::string>& names) {
  std::vector<std::size_t> places(names.size());
  std::iota(places.begin(), places.end(), std::size_t{0});
  const std::vector<double> values = setting_values(names);
  if (values.empty()) return places;
  std::stable_sort(places.begin(), places.end(),
                   [&](std::size_t p, std::size_t q) { return values[p] < values[q]; });
  return places;
}

std::vector<std::string> setting_labels(const std::vector<std::string>& names) {
  if (names.size() < 2) return names;
  const Shared shared = around_numbers(names.front(), shared_of(names));
  std::vector<std::string> labels;
  for (const std::string& name : names) {
    if (!number_between(name, shared)) return names;
    std::size_t first = shared.front, end = name.size() - shared.back;
    while (first > 0 && kBetweenWords.find(name[first - 1]) == std::string_view::npos) --first;
    while (end < name.size() && kBetweenWords.find(name[end]) == std::string_view::npos) ++end;
    std::string label = name.substr(first, end - first);
    for (const std::string_view ending : {".wav", ".aiff", ".flac"})
      if (label.size() > ending.size() &&
          label.compare(label.size() - ending.size(), ending.size(), ending) == 0)
        label.resize(label.size() - ending.size());
    labels.push_back(std::move(label));
  }
  return labels;
}

}  // namespace wavicon::measure_detail
