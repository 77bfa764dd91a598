// SPDX-License-Identifier: MIT
#include "wavicon/sheet/short_names.hpp"

#include <algorithm>
#include <cctype>
#include <cstddef>

namespace wavicon {
namespace {

bool is_word(char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || (c & 0x80) != 0; }

ShortNames labelled(const std::vector<std::string>& files) {
  ShortNames names;
  names.labels = files;
  for (std::string& name : names.labels) name.erase(0, name.find_last_of('/') + 1);
  const std::vector<std::string> plain = names.labels;
  for (std::size_t i = 0; i < files.size(); ++i)
    if (std::count(plain.begin(), plain.end(), plain[i]) > 1) names.labels[i] = files[i];
  if (files.size() < 2) return names;
  const std::string& one = names.labels.front();
  std::size_t front = one.size(), back = one.size();
  for (const std::string& name : names.labels) {
    const auto first = std::mismatch(one.begin(), one.end(), name.begin(), name.end()).first;
    const auto last = std::mismatch(one.rbegin(), one.rend(), name.rbegin(), name.rend()).first;
    front = std::min(front, static_cast<std::size_t>(first - one.begin()));
    back = std::min(back, static_cast<std::size_t>(last - one.rbegin()));
  }
  while (front > 0 && is_word(one[front - 1])) --front;
  while (back > 0 && is_word(one[one.size() - back])) --back;
  // The sign of a number stays with it: "level--20".
  if (front > 1 && one[front - 1] == '-' && !is_word(one[front - 2])) --front;
  const bool differ = std::all_of(names.labels.begin(), names.labels.end(),
                                  [&](const std::string& name) { return front + back < name.size(); });
  if (!differ) return names;
  if (front > 0) names.pattern = one.substr(0, front) + "*" + one.substr(one.size() - back);
  names.shared = one.substr(0, front);
  while (!names.shared.empty() && !is_word(names.shared.back())) names.shared.pop_back();
  for (std::string& name : names.labels) name = name.substr(front, name.size() - front - back);
  return names;
}

// The last word of what all share.
std::string last_word(const std::string& shared) {
  std::size_t from = shared.size();
  while (from > 0 && is_word(shared[from - 1])) --from;
  return shared.substr(from);
}

}  // namespace

ShortNames short_names(const std::vector<std::string>& files) {
  ShortNames names = labelled(files);
  const std::string word = last_word(names.shared);
  for (const std::string& label : names.labels) {
    const bool bare = !label.empty() && std::isdigit(static_cast<unsigned char>(label.front())) != 0;
    names.spoken.push_back(bare && !word.empty() ? word + "-" + label : label);
  }
  return names;
}

ShortNames capture_names(const std::vector<Sheet>& sheets) {
  std::vector<std::string> files;
  for (const Sheet& sheet : sheets) files.push_back(sheet.capture.file);
  return short_names(files);
}

}  // namespace wavicon
