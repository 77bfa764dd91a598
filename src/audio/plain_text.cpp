// SPDX-License-Identifier: MIT
#include "wavicon/audio/plain_text.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cstdint>
#include <iterator>

namespace wavicon {
namespace {

constexpr const char* kReplacement = "\xEF\xBF\xBD";  // U+FFFD

struct CodePoint {
  std::uint32_t value = 0;
  std::size_t bytes = 1;
  bool valid = false;
};

// Well-formed byte sequences by their first byte: how many follow, and what the second one may be.
struct Lead {
  unsigned char first, last, low, high;
  std::size_t bytes;
};
constexpr Lead kLeads[] = {{0xC2, 0xDF, 0x80, 0xBF, 2}, {0xE0, 0xE0, 0xA0, 0xBF, 3},
                           {0xE1, 0xEC, 0x80, 0xBF, 3}, {0xED, 0xED, 0x80, 0x9F, 3},
                           {0xEE, 0xEF, 0x80, 0xBF, 3}, {0xF0, 0xF0, 0x90, 0xBF, 4},
                           {0xF1, 0xF3, 0x80, 0xBF, 4}, {0xF4, 0xF4, 0x80, 0x8F, 4}};

CodePoint code_point(std::string_view text, std::size_t at) noexcept {
  const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(text[i]); };
  const unsigned char first = byte(at);
  if (first < 0x80) return {first, 1, true};
  const auto* lead = std::find_if(std::begin(kLeads), std::end(kLeads),
                                  [&](const Lead& l) { return first >= l.first && first <= l.last; });
  if (lead == std::end(kLeads) || at + lead->bytes > text.size()) return {};
  if (byte(at + 1) < lead->low || byte(at + 1) > lead->high) return {};
  std::uint32_t value = first & (0xFFU >> (lead->bytes + 1));
  for (std::size_t i = 1; i < lead->bytes; ++i) {
    if ((byte(at + i) & 0xC0U) != 0x80U) return {};
    value = value << 6U | (byte(at + i) & 0x3FU);
  }
  return {value, lead->bytes, true};
}

// Marks and overrides of the direction of writing, line and paragraph separators, byte order mark.
bool steers(std::uint32_t c) noexcept {
  return (c >= 0x200B && c <= 0x200F) || (c >= 0x2028 && c <= 0x202E) || (c >= 0x2060 && c <= 0x206F) ||
         c == 0x061C || c == 0xFEFF;
}

bool is_control(std::uint32_t c) noexcept { return c < 0x20 || (c >= 0x7F && c <= 0x9F); }

// Signs of Latin-1, punctuation, symbols and what is private are no letters.
bool is_letter(std::uint32_t c) noexcept {
  if (c < 0x80) return std::isalnum(static_cast<int>(c)) != 0;
  return c >= 0xC0 && c != 0xD7 && c != 0xF7 && !(c >= 0x2000 && c <= 0x2BFF) &&
         !(c >= 0x3000 && c <= 0x3004) && !(c >= 0x3008 && c <= 0x3020) && !(c >= 0xE000 && c <= 0xF8FF) &&
         !(c >= 0xFE00 && c <= 0xFE6F) && c < 0xFF00 && !steers(c);
}

template <typename Good>
std::string with_replacements(std::string_view text, Good good) {
  std::string result;
  for (std::size_t at = 0; at < text.size();) {
    const CodePoint c = code_point(text, at);
    if (c.valid)
      good(c, text.substr(at, c.bytes), result);
    else
      result += kReplacement;
    at += c.bytes;
  }
  return result;
}

}  // namespace

bool is_utf8(std::string_view text) noexcept {
  for (std::size_t at = 0; at < text.size();) {
    const CodePoint c = code_point(text, at);
    if (!c.valid) return false;
    at += c.bytes;
  }
  return true;
}

std::string printable(std::string_view text, bool lines) {
  return with_replacements(text, [&](const CodePoint& c, std::string_view bytes, std::string& result) {
    if (is_control(c.value) && !(lines && c.value == '\n'))
      result += fmt::format("\\x{:02x}", c.value);
    else if (steers(c.value))
      result += fmt::format("\\u{{{:x}}}", c.value);
    else
      result += bytes;
  });
}

std::string as_utf8(std::string_view text) {
  return with_replacements(
      text, [](const CodePoint&, std::string_view bytes, std::string& result) { result += bytes; });
}

std::string file_name_problem(std::string_view name) {
  if (name.empty()) return "is empty";
  if (name.size() > kLongestNameBytes)
    return fmt::format("has {} bytes; {} are the most", name.size(), kLongestNameBytes);
  if (!is_utf8(name)) return "is not UTF-8";
  for (std::size_t at = 0; at < name.size();) {
    const CodePoint c = code_point(name, at);
    const auto bytes = name.substr(at, c.bytes);
    if (!is_letter(c.value) && bytes.find_first_not_of("._- ") != std::string_view::npos)
      return fmt::format("holds '{}'; files are called by it, so it takes letters, digits, spaces and . _ -",
                         printable(bytes));
    at += c.bytes;
  }
  if (const char c = name.front(); c == '.' || c == '-' || c == ' ')
    return fmt::format("begins with '{}'; files are called by it", c);
  if (const char c = name.back(); c == '.' || c == ' ')
    return fmt::format("ends with '{}'; files are called by it", c);
  return "";
}

std::string xml_escaped(std::string_view from) {
  std::string text;
  for (const char c : printable(from)) {
    switch (c) {
      case '&':
        text += "&amp;";
        break;
      case '<':
        text += "&lt;";
        break;
      case '>':
        text += "&gt;";
        break;
      case '"':
        text += "&quot;";
        break;
      case '\'':
        text += "&#39;";
        break;
      default:
        text += c;
    }
  }
  return text;
}

}  // namespace wavicon
