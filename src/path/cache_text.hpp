// SPDX-License-Identifier: MIT
#pragma once
// What is kept of plugins between runs: lines of fields between tabs, in the user's cache folder. Internal to
// `path`.

#include <charconv>
#include <filesystem>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace wavicon::path_detail {

[[nodiscard]] std::vector<std::string_view> split(std::string_view line, char by);

/// The whole field, or nothing.
template <typename Number>
std::optional<Number> number(std::string_view text) {
  Number value{};
  const auto [end, failure] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (failure != std::errc() || end != text.data() + text.size()) return std::nullopt;
  return value;
}

/// Without what would end a line or a field.
[[nodiscard]] std::string in_one_line(const std::string& text);

/// Lines of a text that begins with one line and ends with another; none for one that was not written to its
/// end, or is another version's.
[[nodiscard]] std::optional<std::vector<std::string_view>> lines_between(std::string_view text,
                                                                         std::string_view first,
                                                                         std::string_view last);

/// Time of change and size; "none" for a file that is not there.
[[nodiscard]] std::string stamp_of(const std::filesystem::path& file);

/// wavicon/NAME in the user's cache folder; empty when there is none.
[[nodiscard]] std::filesystem::path cache_file(const std::string& name);

/// Its text; empty when it is not there, or longer than anything that was kept.
[[nodiscard]] std::string kept_text(const std::filesystem::path& file);

/// Whole or not at all; a folder that cannot be written is done without.
void keep_text(const std::filesystem::path& file, const std::string& text);

}  // namespace wavicon::path_detail
