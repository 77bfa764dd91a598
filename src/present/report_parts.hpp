// SPDX-License-Identifier: MIT
#pragma once
// Pieces of a page to send. Internal to `present`.

#include <string>
#include <vector>

#include "wavicon/present/report.hpp"

namespace wavicon::present_detail {

/// An SVG picture as part of a page: without its prolog, its names made unique, with a text for those who do
/// not see it. @param number  of the picture on the page.
[[nodiscard]] std::string inline_svg(const std::string& svg, const std::string& says, std::size_t number);
/// CommonMark as HTML; HTML in it, and links that run something, are left out.
[[nodiscard]] std::string from_markdown(const std::string& text);
[[nodiscard]] std::string base64(const std::string& bytes);
/// A cell as plain text with its unit.
[[nodiscard]] std::string plain_cell(const PageCell& cell);
[[nodiscard]] std::string plain_sentence(const std::vector<PageCell>& sentence);
/// Figures of one column that can be set beside each other: by row, with what each is more than the first.
struct ColumnFigures {
  std::vector<double> shares;        ///< 0 … 1 of the bar; below 0: no figure
  std::vector<std::string> changes;  ///< empty: none
};
[[nodiscard]] ColumnFigures column_figures(const PageTable& table, std::size_t column);
/// What readings of these sheets mean, each once: words and a sentence.
[[nodiscard]] std::vector<std::pair<std::string, std::string>> meanings(const std::vector<Sheet>& sheets);
/// Circumstances that all readings of the sheets share.
[[nodiscard]] std::vector<std::string> circumstances(const std::vector<Sheet>& sheets);
/// A limit in words: "thd_db<-80, channel 1: -38.2 dB".
[[nodiscard]] std::string limit_words(const LimitResult& result);

}  // namespace wavicon::present_detail
