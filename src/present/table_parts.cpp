// SPDX-License-Identifier: MIT
#include "table_parts.hpp"

#include <algorithm>
#include <filesystem>

namespace wavicon::present_detail {

// Code points that start a letter: bytes of UTF-8 that are no continuation.
std::size_t width(const std::string& text) {
  return static_cast<std::size_t>(
      std::count_if(text.begin(), text.end(), [](char c) { return (c & 0xC0) != 0x80; }));
}

bool compares(const std::string& unit) {
  return unit.rfind("dB", 0) == 0 || unit == "LUFS" || unit == "LU" || unit == "bits";
}

std::vector<std::string> short_names(const std::vector<Sheet>& sheets) {
  std::vector<std::string> names;
  for (const Sheet& sheet : sheets)
    names.push_back(std::filesystem::path(sheet.capture.file).filename().string());
  const std::vector<std::string> plain = names;
  for (std::size_t i = 0; i < names.size(); ++i)
    if (std::count(plain.begin(), plain.end(), plain[i]) > 1) names[i] = sheets[i].capture.file;
  return names;
}

}  // namespace wavicon::present_detail
