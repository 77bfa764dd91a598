// SPDX-License-Identifier: MIT
#pragma once
// What every measuring command has of the logbook: to keep what it measured, and to hold it against the past.

#include <CLI/CLI.hpp>
#include <string>
#include <vector>

#include "wavicon/sheet/limit.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon::cli {

struct KeepOptions {
  bool keep = false;
  std::string label;
  std::vector<std::string> tags;  ///< KEY=VALUE
  std::string on;                 ///< when it was measured; empty: now
  bool machine = false;
  std::string logbook;  ///< empty: the usual one
  void add_to(CLI::App& app);
  /// What cannot be kept, or looked up for these limits, is found before anything is measured.
  void check(const std::vector<Limit>& limits) const;
};

/// Finds what limits name in the logbook that is meant, among entries with the tags that are given.
PastValues past_values(const KeepOptions& options);
/// Keeps them; says as what, in a line.
std::string kept(const KeepOptions& options, const std::vector<Sheet>& sheets);

}  // namespace wavicon::cli
