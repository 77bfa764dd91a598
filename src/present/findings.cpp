// SPDX-License-Identifier: MIT
// What sheets and limits say, as sentences.
#include <fmt/format.h>

#include <cmath>

#include "reading_text.hpp"
#include "table_parts.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

// Of which file, and of which of its channels where there are several.
std::string subject_of(const Sheet& sheet, const Finding& finding) {
  std::string text = printable(sheet.capture.file);
  if (finding.channel && sheet.capture.channels > 1)
    text += (text.empty() ? "" : ", ") + printable(channel_name(sheet, *finding.channel));
  return text;
}

std::string each_line_inked(const std::string& lines, Ink ink, const TableStyle& style) {
  std::string text;
  for (std::size_t from = 0; from <= lines.size();) {
    const std::size_t end = std::min(lines.find('\n', from), lines.size());
    text += inked(lines.substr(from, end - from), ink, style) + "\n";
    from = end + 1;
  }
  return text;
}

std::string value_of(const LimitResult& r) {
  if (!r.value) return "there is no value";
  return number_text(*r.value, r.entry) + (r.unit.empty() ? "" : " " + r.unit);
}

}  // namespace

std::string findings_text(const Sheet& sheet, const TableStyle& style) {
  std::string text, last = "\n";
  bool answered = false;
  for (const Finding& finding : sheet.findings) {
    const std::string subject = subject_of(sheet, finding);
    const bool note = finding.severity == Severity::note;
    // What goes on about the same stands below, indented; what is wrong begins a line, with the name.
    const bool goes_on = note && subject == last;
    const std::string first = goes_on ? "  " : subject + (subject.empty() ? "" : ": ");
    const std::string words = (note ? "" : name_of(finding.severity) + ": ") + printable(finding.text);
    const std::string lines = wrapped_text(words, first, "    ", style.columns);
    if (!note)
      text += each_line_inked(lines, finding.severity == Severity::fault ? Ink::fault : Ink::warning, style);
    else if (goes_on || answered)
      text += lines + "\n";
    else
      text += each_line_inked(lines, Ink::answer, style);
    answered = answered || note;
    last = subject;
  }
  return text;
}

Sheet folded(const Sheet& sheet) {
  Sheet one = sheet;
  for (std::size_t i = 1; i < one.findings.size();) {
    Finding& first = one.findings.front();
    const Finding& next = one.findings[i];
    if (first.severity != Severity::note || next.severity != Severity::note || first.channel != next.channel)
      return sheet;
    first.text += "; " + next.text;
    one.findings.erase(one.findings.begin() + static_cast<std::ptrdiff_t>(i));
  }
  return one;
}

std::string answer_text(const std::string& answer, const TableStyle& style) {
  return each_line_inked(wrapped_text(printable(answer), "", "    ", style.columns), Ink::answer, style);
}

std::string aside_text(const std::string& line, const TableStyle& style) {
  return inked(printable(line), Ink::aside, style) + "\n";
}

std::string limit_lines(const std::vector<LimitResult>& results, const TableStyle& style) {
  std::string text;
  for (const LimitResult& r : results) {
    const bool kept = r.outcome == LimitResult::Outcome::kept,
               broken = r.outcome == LimitResult::Outcome::broken;
    std::string where = printable(r.file);
    if (r.channel && r.channels != 1)
      where += fmt::format("{}channel {}", where.empty() ? "" : ", ", *r.channel + 1);
    std::string line = fmt::format("limit {}{}{}: {} ({}", r.limit, where.empty() ? "" : ", ", where,
                                   kept     ? "kept"
                                   : broken ? "not kept"
                                            : "undecided, which counts as not kept",
                                   value_of(r));
    if (broken && r.value) {
      const double over = std::abs(*r.value - r.bound);
      line += fmt::format(", {}{} {}", number_text(over, r.entry),
                          r.unit.empty()               ? ""
                          : r.unit.rfind("dB", 0) == 0 ? " dB"
                                                       : " " + r.unit,
                          *r.value > r.bound ? "too high" : "too low");
    }
    if (!r.past.empty()) line += "; it was " + r.past;
    line = wrapped_text(line + ")", "", "    ", style.columns);
    text += kept ? line + "\n" : each_line_inked(line, Ink::fault, style);
  }
  return text;
}

}  // namespace wavicon
