// SPDX-License-Identifier: MIT
#include "wavicon/present/report.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "reading_text.hpp"
#include "report_parts.hpp"
#include "report_style.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/present/plot.hpp"
#include "wavicon/sheet/short_names.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

constexpr std::size_t kMostColumns = 6, kMostCards = 3;
constexpr std::size_t kMostKeptShown = 6;  // limits
constexpr std::size_t kMostSentences = 4;  // of a section, unfolded
constexpr const char* kFloorKey = "floor";
constexpr int kWidePx = 1100, kHighPx = 620;

bool is_named(const std::string& reading, const std::string& pattern) {
  ReadingTable table;
  table.entries.push_back({.name = pattern});
  return find_entry(table, reading) != nullptr;
}

// Readings of a sheet that a pattern names, in the order of the names.
std::vector<const Reading*> named(const Sheet& sheet, const std::vector<std::string>& names) {
  std::vector<const Reading*> found;
  for (const std::string& name : names)
    for (const Reading& reading : sheet.readings)
      if (is_named(reading.name, name) && (reading.value || !reading.text.empty()) &&
          std::find(found.begin(), found.end(), &reading) == found.end())
        found.push_back(&reading);
  return found;
}

PageTable rows_of_one(const Sheet& sheet, const std::vector<std::string>& names) {
  PageTable table{
      .key = sheet.measurement,
      .columns = {{"reading", "reading"}, {"value", "value", true}, {kFloorKey, "own floor", true}}};
  const bool channels = sheet.capture.channels > 1;
  bool floors = false;
  for (const Reading* reading : named(sheet, names)) {
    std::string words = words_of(*reading);
    if (channels && reading->channel) words += fmt::format(", channel {}", *reading->channel + 1);
    PageCell floor = std::string();
    if (reading->floor) {
      floor = Reading{.value = reading->floor, .unit = reading->unit, .entry = reading->entry};
      floors = true;
    }
    table.rows.push_back({words, *reading, floor});
  }
  if (!floors) {
    table.columns.pop_back();
    for (auto& row : table.rows) row.pop_back();
  }
  return table;
}

// A column of figures is called by its words.
std::string heading_of(const PageTable& table, std::size_t column) {
  if (table.columns[column].heading == table.columns[column].key)
    for (const auto& row : table.rows)
      if (const auto* reading = std::get_if<Reading>(&row[column]);
          reading != nullptr && reading->name == table.columns[column].key)
        return words_of(*reading);
  return table.columns[column].heading;
}

std::string table_html(const PageTable& table, bool captioned = true) {
  if (table.rows.empty()) return {};
  std::vector<ColumnFigures> figures;
  for (std::size_t c = 0; c < table.columns.size(); ++c) figures.push_back(column_figures(table, c));
  std::string html = "<div class=\"scroll\" tabindex=\"0\" role=\"region\" aria-label=\"" +
                     xml_escaped(table.title.empty() ? "table" : table.title) + "\"><table>";
  if (!table.title.empty() && captioned) html += "<caption>" + xml_escaped(table.title) + "</caption>";
  html += "<thead><tr>";
  for (std::size_t c = 0; c < table.columns.size(); ++c)
    html +=
        fmt::format("<th scope=\"col\"{}>{}</th>", table.columns[c].right && c > 0 ? " class=\"right\"" : "",
                    xml_escaped(heading_of(table, c)));
  html += "</tr></thead><tbody>";
  for (std::size_t r = 0; r < table.rows.size(); ++r) {
    html += "<tr>";
    for (std::size_t c = 0; c < table.columns.size(); ++c) {
      std::string inside = xml_escaped(plain_cell(table.rows[r][c]));
      if (r < figures[c].shares.size() && figures[c].shares[r] >= 0) {
        if (!figures[c].changes[r].empty())
          inside += "<span class=\"change\">" + xml_escaped(figures[c].changes[r]) + "</span>";
        inside += fmt::format("<span class=\"bar\" aria-hidden=\"true\" style=\"width:{:.0f}%\"></span>",
                              100 * figures[c].shares[r]);
      }
      const bool heads = c == 0;
      html += fmt::format("<{}{}>{}</{}>", heads ? "th scope=\"row\"" : "td",
                          table.columns[c].right && !heads ? " class=\"right\"" : "", inside,
                          heads ? "th" : "td");
    }
    html += "</tr>";
  }
  return html + "</tbody></table></div>\n";
}

std::string picture_html(const ReportPicture& picture, std::size_t& number) {
  std::string html = "<figure>";
  for (const bool dark : {false, true}) {
    std::string svg;
    try {
      svg =
          draw_picture(picture.drawn, picture.picture,
                       {.format = PlotFormat::svg, .width_px = kWidePx, .height_px = kHighPx, .dark = dark});
    } catch (const Error& error) {
      // The figures are worth sending without it.
      return "<p class=\"warning\">a picture is left out: " + xml_escaped(error.what()) + "</p>\n";
    }
    html += fmt::format("<div class=\"{}\">", dark ? "dark" : "light") +
            inline_svg(svg, picture.says, ++number) + "</div>";
  }
  return html + "<figcaption>" + xml_escaped(picture.says) + "</figcaption></figure>\n";
}

std::string paragraphs(const std::vector<std::string>& lines, const char* kind) {
  std::string html;
  for (const std::string& line : lines)
    html += fmt::format("<p class=\"{}\">{}</p>\n", kind, xml_escaped(line));
  return html;
}

// Faults first, then warnings, then what is only told.
std::string findings_html(const std::vector<Sheet>& sheets) {
  std::string html;
  std::vector<std::string> told;
  for (const Severity severity : {Severity::fault, Severity::warning, Severity::note})
    for (const Sheet& sheet : sheets)
      for (const Finding& finding : sheet.findings) {
        if (finding.severity != severity || finding.code == FindingCode::result) continue;
        std::string text = finding.text;
        if (sheets.size() > 1 && !sheet.capture.file.empty()) text = sheet.capture.file + ": " + text;
        if (std::find(told.begin(), told.end(), text) != told.end()) continue;
        told.push_back(text);
        html += fmt::format("<li class=\"{}\">{}</li>",
                            severity == Severity::fault     ? "fault"
                            : severity == Severity::warning ? "warning"
                                                            : "note",
                            xml_escaped(text));
      }
  return html.empty() ? html : "<h3>Findings</h3><ul>" + html + "</ul>\n";
}

std::string meanings_html(const std::vector<Sheet>& sheets) {
  std::string html;
  for (const auto& [words, text] : meanings(sheets))
    html += "<dt>" + xml_escaped(words) + "</dt><dd>" + xml_escaped(text) + "</dd>";
  return html.empty()
             ? html
             : "<details><summary>What these figures mean</summary><dl>" + html + "</dl></details>\n";
}

std::string conditions_html(const std::vector<Sheet>& sheets) {
  std::string html;
  for (const std::string& line : circumstances(sheets)) html += "<li>" + xml_escaped(line) + "</li>";
  return html.empty() ? html
                      : "<details><summary>Conditions that all of them share</summary><ul>" + html +
                            "</ul></details>\n";
}

std::string section_html(const ReportSection& section, std::size_t& number) {
  std::string html = "<section><h2>" + xml_escaped(section.title) + "</h2>\n";
  if (!section.question.empty()) html += "<p class=\"question\">" + xml_escaped(section.question) + "</p>\n";
  // What the table says in figures as well is folded where it is long.
  const std::string words = paragraphs(section.answer, "says");
  html += section.answer.size() <= kMostSentences
              ? words
              : "<details><summary>In words, capture by capture</summary>" + words + "</details>\n";
  if (section.picture) html += picture_html(*section.picture, number);
  for (const PageTable& table : section.tables) html += table_html(table, table.title != section.title);
  for (const ReportSound& sound : section.sounds)
    html += fmt::format("<p>{}<br><audio controls preload=\"none\" src=\"data:{};base64,{}\"></audio></p>\n",
                        xml_escaped(sound.name), xml_escaped(sound.type), base64(sound.bytes));
  html += findings_html(section.sheets) + meanings_html(section.sheets) + conditions_html(section.sheets);
  return html + "</section>\n";
}

// Those that are not kept first; of many kept ones the number says enough.
std::string limits_html(const std::vector<LimitResult>& limits) {
  if (limits.empty()) return {};
  std::string broken, kept;
  std::size_t count = 0;
  for (const LimitResult& limit : limits) {
    const bool is_kept = limit.outcome == LimitResult::Outcome::kept;
    count += is_kept ? 1 : 0;
    (is_kept ? kept : broken) +=
        fmt::format("<li class=\"{}\">{}{}</li>", is_kept ? "kept" : "broken",
                    is_kept ? "kept: " : "not kept: ", xml_escaped(limit_words(limit)));
  }
  std::string html = "<h3>Limits</h3>";
  if (count <= kMostKeptShown) return html + "<ul>" + broken + kept + "</ul>\n";
  if (!broken.empty()) html += "<ul>" + broken + "</ul>";
  return html + fmt::format("<details><summary>{} {} kept</summary><ul>{}</ul></details>\n", count,
                            broken.empty() ? "limits, all of them are" : "others are", kept);
}

std::string answer_html(const Report& report) {
  std::string html = "<section aria-label=\"answer\">";
  for (const auto& sentence : report.answer)
    html += "<p class=\"answer\">" + xml_escaped(plain_sentence(sentence)) + "</p>\n";
  std::string cards;
  for (std::size_t i = 0; i < std::min(kMostCards, report.deciding.size()); ++i)
    cards += "<li><b>" + xml_escaped(plain_cell(report.deciding[i])) + "</b><span>" +
             xml_escaped(words_of(report.deciding[i])) + "</span></li>";
  if (!cards.empty()) html += "<ul class=\"cards\">" + cards + "</ul>\n";
  html += limits_html(report.limits);
  html += paragraphs(report.remarks, "says");
  if (!report.note.empty()) html += "<div class=\"note\">" + from_markdown(report.note) + "</div>\n";
  return html + "</section>\n";
}

// Files, versions and digests: what the figures are evidence of.
std::string evidence_html(const Report& report) {
  std::string html = "<section><h2>How to repeat it</h2>\n";
  if (!report.commands.empty()) {
    html += "<pre>";
    for (const std::string& command : report.commands) html += xml_escaped(command) + "\n";
    html += "</pre>\n";
  }
  PageTable table{.key = "evidence",
                  .title = "What was measured",
                  .columns = {{"capture", "capture"},
                              {"measurement", "measurement"},
                              {"format", "format"},
                              {"rate", "rate", true},
                              {"length", "length", true},
                              {"through", "through"},
                              {"stimulus", "stimulus"},
                              {"version", "wavicon"}}};
  for (const ReportSection& section : report.sections)
    for (const Sheet& sheet : section.sheets) {
      const SheetContext context = sheet.context.value_or(SheetContext{});
      std::string chain;
      for (const std::string& unit : context.chain) chain += (chain.empty() ? "" : " → ") + unit;
      const double rate = sheet.capture.sample_rate_hz;
      table.rows.push_back(
          {sheet.capture.file.empty() ? "in memory" : sheet.capture.file, sheet.measurement,
           sheet.capture.format, rate > 0 ? fmt::format("{:g} Hz", rate) : "",
           rate > 0 ? fmt::format("{:.2f} s", static_cast<double>(sheet.capture.frames) / rate) : "", chain,
           context.stimulus,
           context.version.empty() ? "" : fmt::format("{} ({})", context.version, context.arithmetic)});
    }
  return html + "<details><summary>Files, versions and digests</summary>" + table_html(table) +
         "</details></section>\n";
}

// Details are open on paper in browsers that know no other way.
constexpr const char* kScript =
    "addEventListener('beforeprint',function(){document.querySelectorAll('details').forEach(function(d){d."
    "open=true})})";

constexpr const char* kOwnLayout =
    "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" "
    "content=\"width=device-width,initial-scale=1\"><title>{{title}}</title><style>{{style}}</style></head>"
    "<body><main>\n<header>{{logo}}<div><h1>{{title}}</h1><p class=\"by\">{{by}}</p></div></header>\n"
    "{{answer}}{{content}}{{evidence}}</main><script>{{script}}</script></body></html>\n";

std::string filled(const std::string& layout, const std::vector<std::pair<std::string, std::string>>& marks) {
  std::string html;
  std::size_t taken = 0;
  bool content = false;
  for (std::size_t at = layout.find("{{"); at != std::string::npos; at = layout.find("{{", taken)) {
    const auto end = layout.find("}}", at);
    const std::string name = end == std::string::npos ? "" : layout.substr(at + 2, end - at - 2);
    const auto mark =
        std::find_if(marks.begin(), marks.end(), [&](const auto& one) { return one.first == name; });
    if (mark == marks.end()) {
      std::string known;
      for (const auto& one : marks) known += (known.empty() ? "{{" : ", {{") + one.first + "}}";
      throw Error(ErrorCode::bad_argument,
                  fmt::format("template: there is no mark '{{{{{}}}}}'; there are {}", name, known));
    }
    content = content || name == "content";
    html += layout.substr(taken, at - taken) + mark->second;
    taken = end + 2;
  }
  if (!content) throw Error(ErrorCode::bad_argument, "template: {{content}} is not in it");
  return html + layout.substr(taken);
}

}  // namespace

PageTable report_table(const std::vector<Sheet>& sheets, const std::vector<std::string>& names) {
  if (sheets.empty()) return {};
  if (sheets.size() == 1) return rows_of_one(sheets.front(), names);
  PageTable table{.key = sheets.front().measurement, .columns = {{"capture", "capture"}}};
  std::vector<std::string> columns;
  for (const Sheet& sheet : sheets)
    for (const Reading* reading : named(sheet, names))
      if (std::find(columns.begin(), columns.end(), reading->name) == columns.end())
        columns.push_back(reading->name);
  // In the order of the names.
  std::stable_sort(columns.begin(), columns.end(), [&](const std::string& a, const std::string& b) {
    const auto place = [&](const std::string& name) {
      return std::find_if(names.begin(), names.end(),
                          [&](const std::string& p) { return is_named(name, p); });
    };
    return place(a) < place(b);
  });
  if (columns.size() > kMostColumns) columns.resize(kMostColumns);
  for (const std::string& name : columns) {
    std::string words = name;
    for (const Sheet& sheet : sheets)
      for (const Reading& reading : sheet.readings)
        if (reading.name == name) words = words_of(reading);
    table.columns.push_back({name, words, true});
  }
  const ShortNames short_names = capture_names(sheets);
  for (std::size_t i = 0; i < sheets.size(); ++i) {
    const int channels = std::max(1, sheets[i].capture.channels);
    for (int channel = 0; channel < channels; ++channel) {
      std::vector<PageCell> row = {short_names.spoken[i] +
                                   (channels > 1 ? fmt::format(", channel {}", channel + 1) : "")};
      bool any = false;
      for (const std::string& name : columns) {
        const auto found =
            std::find_if(sheets[i].readings.begin(), sheets[i].readings.end(), [&](const Reading& reading) {
              return reading.name == name && reading.channel.value_or(0) == channel;
            });
        any = any || found != sheets[i].readings.end();
        row.push_back(found == sheets[i].readings.end() ? PageCell(std::string()) : PageCell(*found));
      }
      if (any || channel == 0) table.rows.push_back(std::move(row));
    }
  }
  return table;
}

std::vector<Reading> deciding_figures(const std::vector<PageTable>& tables) {
  std::vector<Reading> figures;
  for (const PageTable& table : tables)
    for (const auto& row : table.rows)
      for (std::size_t c = 0; c < row.size(); ++c) {
        const auto* reading = std::get_if<Reading>(&row[c]);
        if (reading == nullptr || !reading->value || table.columns[c].key == kFloorKey) continue;
        if (std::none_of(figures.begin(), figures.end(),
                         [&](const Reading& one) { return words_of(one) == words_of(*reading); }))
          figures.push_back(*reading);
      }
  return figures;
}

std::string report_html(const Report& report, const std::string& layout) {
  std::string content;
  std::size_t pictures = 0;
  for (const ReportSection& section : report.sections) content += section_html(section, pictures);
  const std::string logo = report.logo.empty() ? ""
                                               : fmt::format("<img alt=\"logo\" src=\"data:{};base64,{}\">",
                                                             report.logo_type, base64(report.logo));
  return filled(layout.empty() ? kOwnLayout : layout, {{"title", xml_escaped(report.title)},
                                                       {"by", xml_escaped(report.by)},
                                                       {"logo", logo},
                                                       {"style", std::string(kReportStyle)},
                                                       {"script", kScript},
                                                       {"answer", answer_html(report)},
                                                       {"content", content},
                                                       {"evidence", evidence_html(report)}});
}

}  // namespace wavicon
