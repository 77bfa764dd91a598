// SPDX-License-Identifier: MIT
#pragma once
// Pages to send, from whatever was measured.

#include <string>
#include <vector>

#include "report_options.hpp"
#include "wavicon/present/report.hpp"

namespace wavicon::cli {

/// A section for the sheets of one measurement.
ReportSection report_section(const std::vector<Sheet>& sheets);
/// Writes it, as HTML, Markdown or PDF by the file's ending. @throws Error bad_argument for another ending.
void write_report(Report report, const ReportOptions& options);

}  // namespace wavicon::cli
