// SPDX-License-Identifier: MIT
#pragma once
// The pages of docs/ that the manual is made of.

#include <string_view>
#include <vector>

namespace wavicon::cli {

struct ManualText {
  std::string_view name;  ///< of the file, without its ending
  std::string_view text;  ///< CommonMark with tables
};
const std::vector<ManualText>& manual_texts();

}  // namespace wavicon::cli
