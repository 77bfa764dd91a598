// SPDX-License-Identifier: MIT
#include "table_parts.hpp"

#include <algorithm>
#include <array>
#include <cctype>

namespace wavicon::present_detail {

// Code points that start a letter: bytes of UTF-8 that are no continuation.
std::size_t width(const std::string& text) {
  return static_cast<std::size_t>(
      std::count_if(text.begin(), text.end(), [](char c) { return (c & 0xC0) != 0x80; }));
}

bool compares(const std::string& unit) {
  return unit.rfind("dB", 0) == 0 || unit == "LUFS" || unit == "LU" || unit == "bits";
}

std::string inked(const std::string& text, Ink ink, const TableStyle& style) {
  if (!style.colour) return text;
  const char* code = ink == Ink::answer    ? "1"
                     : ink == Ink::warning ? "1;35"
                     : ink == Ink::fault   ? "1;31"
                                           : "2";
  return "\x1b[" + std::string(code) + "m" + text + "\x1b[0m";
}

namespace {

// A number stays with its unit.
bool belongs_to(const std::string& word, const std::string& before) {
  if (before.empty() || std::isdigit(static_cast<unsigned char>(before.back())) == 0) return false;
  constexpr std::array kUnits = {"dB",      "Hz",     "kHz", "ms",   "s",    "%",
                                 "samples", "frames", "ppm", "bits", "LUFS", "LU"};
  return std::any_of(kUnits.begin(), kUnits.end(), [&](const std::string& unit) {
    return word.compare(0, unit.size(), unit) == 0 &&
           (unit == "dB" || word.size() == unit.size() ||
            std::isalnum(static_cast<unsigned char>(word[unit.size()])) == 0);
  });
}

// Words, and what must not be parted.
std::vector<std::string> pieces_of(const std::string& text) {
  std::vector<std::string> pieces;
  for (std::size_t from = 0; from < text.size();) {
    const std::size_t space = std::min(text.find(' ', from), text.size());
    const std::string word = text.substr(from, space - from);
    if (!pieces.empty() && belongs_to(word, pieces.back()))
      pieces.back() += " " + word;
    else
      pieces.push_back(word);
    from = space + 1;
  }
  return pieces;
}

}  // namespace

std::string wrapped_text(const std::string& text, const std::string& first, const std::string& further,
                         std::size_t columns) {
  std::string lines, line = first;
  bool empty = true;  // of the line, beside its indentation
  for (const std::string& word : pieces_of(text)) {
    if (!empty && width(line) + 1 + width(word) > columns) {
      lines += line + "\n";
      line = further;
      empty = true;
    }
    line += (empty ? "" : " ") + word;
    empty = false;
  }
  return lines + line;
}

std::vector<std::string> head_lines(const std::string& words, std::size_t columns) {
  std::vector<std::string> lines;
  const std::string text = wrapped_text(words, "", "", columns);
  for (std::size_t from = 0; from <= text.size();) {
    const std::size_t end = std::min(text.find('\n', from), text.size());
    lines.push_back(text.substr(from, end - from));
    from = end + 1;
  }
  return lines;
}

}  // namespace wavicon::present_detail
