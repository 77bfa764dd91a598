// SPDX-License-Identifier: MIT
#pragma once
// Pages to send, from whatever was measured.

#include <string>
#include <vector>

#include "wavicon/present/report.hpp"

namespace CLI {
class App;
}

namespace wavicon::cli {

/// What a person adds to a page.
struct ReportOptions {
  std::string file, title, by, note_file, logo_file, template_file;
  void add_to(CLI::App& app, bool named);
};

/// A section for the sheets of one measurement.
ReportSection report_section(const std::vector<Sheet>& sheets);
/// Writes it, as HTML, Markdown or PDF by the file's ending. @throws Error bad_argument for another ending.
void write_report(Report report, const ReportOptions& options);

}  // namespace wavicon::cli
