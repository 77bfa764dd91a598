// SPDX-License-Identifier: MIT
// One page to send: of sheets, of what the logbook holds, or of what was measured just now.

#include "report.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <utility>

#include "commands.hpp"
#include "program.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/bench/logbook.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/file/sheet_context.hpp"
#include "wavicon/file/sheet_file.hpp"
#include "wavicon/file/text_file.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/present/browser.hpp"

namespace wavicon::cli {
namespace {

namespace fs = std::filesystem;

struct ReportCommand {
  ReportOptions options;
  std::vector<std::string> sheets, limits, query;
  std::string store;
  bool from_logbook = false, quiet = false;
};

std::string logo_type(const std::string& file) {
  const std::string ending = fs::path(file).extension().string();
  if (ending == ".png") return "image/png";
  if (ending == ".jpg" || ending == ".jpeg") return "image/jpeg";
  if (ending == ".svg") return "image/svg+xml";
  throw Error(ErrorCode::bad_argument, file + ": a logo is .png, .jpg or .svg");
}

// One that is broken is named; the others are shown.
std::vector<Sheet> read_sheets(const ReportCommand& command, Report& report) {
  std::vector<Sheet> sheets;
  for (const std::string& file : command.sheets) {
    try {
      for (Sheet& sheet : sheets_from_json(read_text_file(file, "sheet"), file))
        sheets.push_back(std::move(sheet));
    } catch (const Error& error) {
      report.remarks.push_back(fmt::format("left out: {}", error.what()));
      warn(command.quiet, report.remarks.back());
    }
  }
  if (sheets.empty() && !command.sheets.empty()) throw Error(ErrorCode::bad_input, report.remarks.back());
  return sheets;
}

std::vector<Sheet> kept_sheets(const ReportCommand& command) {
  const Logbook logbook(command.store.empty() ? usual_logbook() : command.store);
  EntryFilter filter;
  filter.words = command.query;
  std::vector<Sheet> sheets;
  for (const LogbookEntry& entry : logbook.entries(filter)) sheets.push_back(logbook.sheet(entry.id));
  if (sheets.empty())
    throw Error(ErrorCode::bad_input,
                fmt::format("the logbook {} holds nothing of the kind", logbook.name()));
  return sheets;
}

void add_limits(const ReportCommand& command, const std::vector<Sheet>& sheets, Report& report) {
  for (const std::string& text : command.limits) {
    const Limit limit = parse_limit(text);
    const std::size_t before = report.limits.size();
    for (const Sheet& sheet : sheets) {
      if (std::none_of(sheet.readings.begin(), sheet.readings.end(),
                       [&](const Reading& one) { return one.name == limit.name; }))
        continue;
      for (LimitResult& result : check_limit(limit, sheet)) report.limits.push_back(std::move(result));
    }
    if (report.limits.size() == before)
      throw Error(ErrorCode::bad_argument, fmt::format("limit '{}': no sheet gives that reading", text));
  }
}

// The command that made a sheet, as far as it says.
std::string command_of(const Sheet& sheet) {
  std::string text = "wavicon " + sheet.measurement;
  if (const MeasurementDescriptor* of = find_measurement(measurements(), sheet.measurement)) {
    const auto made = of->make();
    std::string options, before;
    for (const auto& [key, value] : sheet.context.value_or(SheetContext{}).options) {
      std::string name = key;
      for (const OptionField& field : made->fields())
        if (field.key == key) name = option_name(field);
      if (key == "against")
        before = " " + shell_word(value);
      else
        options += " --" + name + (value == "true" ? "" : " " + shell_word(value));
    }
    return text + before + " " + shell_word(sheet.capture.file) + options;
  }
  return text + " " + shell_word(sheet.capture.file);
}

int run(const ReportCommand& command) {
  Report report;
  (void)command.options.wanted();
  require_writable(command.options.file, {command.sheets.begin(), command.sheets.end()});
  std::vector<Sheet> sheets = command.from_logbook ? kept_sheets(command) : read_sheets(command, report);
  if (sheets.empty())
    throw Error(ErrorCode::bad_argument,
                "report: of what? sheets that --sheet FILE wrote, or --from-logbook WORDS");
  for (Sheet& sheet : sheets) link_entries(sheet);
  add_limits(command, sheets, report);
  std::vector<std::string> names;
  for (const Sheet& sheet : sheets)
    if (std::find(names.begin(), names.end(), sheet.measurement) == names.end())
      names.push_back(sheet.measurement);
  for (const std::string& name : names) {
    std::vector<Sheet> own;
    for (const Sheet& sheet : sheets)
      if (sheet.measurement == name) own.push_back(sheet);
    report.sections.push_back(report_section(own));
  }
  for (const Sheet& sheet : sheets) {
    const std::string line = command_of(sheet);
    if (std::find(report.commands.begin(), report.commands.end(), line) == report.commands.end())
      report.commands.push_back(line);
  }
  write_report(std::move(report), command.options);
  say(command.quiet, fmt::format("{}: {} sheet{} on one page", command.options.file, sheets.size(),
                                 sheets.size() == 1 ? "" : "s"));
  return exit_status::measured;
}

}  // namespace

void ReportOptions::add_to(CLI::App& app, bool named) {
  if (named)
    app.add_option("-o,--output", file, "the page: .html, .md (with pictures beside it) or .pdf")->required();
  else
    app.add_option("--report", file, "write a page to send: .html, .md or .pdf");
  app.add_option("--title", title, "over the page (default: the answer)");
  app.add_option("--by", by, "who measured");
  app.add_option("--note", note_file, "a file with words of your own (CommonMark)");
  app.add_option("--logo", logo_file, "a picture at the top: .png, .jpg or .svg");
  app.add_option("--template", template_file, "a page of your own (docs/report.md)");
}

bool ReportOptions::wanted() const {
  if (file.empty()) {
    if (!title.empty() || !by.empty() || !note_file.empty() || !logo_file.empty() || !template_file.empty())
      throw Error(ErrorCode::bad_argument,
                  "--title, --by, --note, --logo and --template are of a page: --report FILE writes it");
    return false;
  }
  const std::string ending = fs::path(file).extension().string();
  if (ending != ".html" && ending != ".md" && ending != ".pdf")
    throw Error(ErrorCode::bad_argument, file + ": a page is .html, .md or .pdf");
  if (!logo_file.empty()) (void)logo_type(logo_file);
  for (const auto& [made_of, what] :
       {std::pair(note_file, "note"), std::pair(logo_file, "logo"), std::pair(template_file, "template")})
    if (!made_of.empty()) (void)read_text_file(made_of, what);
  return true;
}

ReportSection report_section(const std::vector<Sheet>& sheets) {
  ReportSection section;
  section.sheets = sheets;
  section.title = sheets.front().measurement;
  std::vector<std::string> names;
  if (const MeasurementDescriptor* of = find_measurement(measurements(), section.title)) {
    section.question = of->question;
    names = of->headline;
    names.insert(names.end(), of->deciding.begin(), of->deciding.end());
    if (!of->pictures.empty() && (of->draws_several || sheets.size() == 1)) {
      Picture picture = of->make()->picture(sheets, of->pictures.front().word);
      section.picture = ReportPicture{sheets, picture, of->name + ": " + of->pictures.front().sentence};
    }
  } else {
    for (const Reading& reading : sheets.front().readings) names.push_back(reading.name);
  }
  for (const Sheet& sheet : sheets)
    for (const Finding& finding : sheet.findings)
      if (finding.code == FindingCode::result)
        section.answer.push_back((sheets.size() > 1 ? sheet.capture.file + ": " : "") + finding.text);
  section.tables.push_back(report_table(sheets, names));
  return section;
}

namespace {

// The first sentence of each capture; of many their number.
std::vector<std::string> first_answers(const ReportSection& section) {
  constexpr std::size_t kMost = 4;
  if (section.sheets.size() > kMost)
    return {fmt::format("{}: {} captures, beside each other below", section.title, section.sheets.size())};
  std::vector<std::string> lines;
  for (const Sheet& sheet : section.sheets)
    for (const Finding& finding : sheet.findings)
      if (finding.code == FindingCode::result) {
        lines.push_back((section.sheets.size() > 1 ? sheet.capture.file + ": " : "") + finding.text);
        break;
      }
  return lines;
}

}  // namespace

void write_report(Report report, const ReportOptions& options) {
  const std::string ending = fs::path(options.file).extension().string();
  if (!options.note_file.empty()) report.note = read_text_file(options.note_file, "note");
  if (!options.logo_file.empty()) {
    report.logo_type = logo_type(options.logo_file);
    report.logo = read_text_file(options.logo_file, "logo");
  }
  // The question and the answer stand on top, whatever the page is of.
  if (report.answer.empty())
    for (const ReportSection& section : report.sections)
      for (std::string& line : first_answers(section)) report.answer.push_back({std::move(line)});
  // What stands on top is not told twice.
  if (report.sections.size() == 1 && report.sections.front().answer.size() <= report.answer.size())
    report.sections.front().answer.clear();
  if (report.deciding.empty() && !report.sections.empty() && report.sections.front().sheets.size() == 1)
    report.deciding = deciding_figures(report.sections.front().tables);
  report.title = !options.title.empty() ? options.title
                 : report.sections.size() == 1 && report.sections.front().sheets.size() == 1
                     ? report.sections.front().title + " of " +
                           fs::path(report.sections.front().sheets.front().capture.file).filename().string()
                 : report.title.empty() && report.sections.size() == 1
                     ? fmt::format("{} of {} captures", report.sections.front().title,
                                   report.sections.front().sheets.size())
                 : report.title.empty() ? "What was measured"
                                        : report.title;
  report.by = options.by + (options.by.empty() ? "" : ", ") + time_text(current_time_s());
  if (ending == ".md") {
    const MarkdownReport made = report_markdown(report, fs::path(options.file).stem().string());
    for (const auto& [name, bytes] : made.files)
      write_text_file((fs::path(options.file).parent_path() / name).string(), bytes);
    write_text_file(options.file, made.text);
    return;
  }
  const std::string layout =
      options.template_file.empty() ? "" : read_text_file(options.template_file, "template");
  const std::string html = report_html(report, layout);
  if (ending == ".html") {
    write_text_file(options.file, html);
    return;
  }
  const std::string page = options.file + ".html";
  write_text_file(page, html);
  try {
    print_to_pdf(page, options.file);
  } catch (...) {
    fs::remove(page);
    throw;
  }
  fs::remove(page);
}

void add_report(CLI::App& app, Action& action) {
  auto* sub =
      app.add_subcommand("report", "how do I show it to somebody else? one page with figures and pictures");
  auto command = std::make_shared<ReportCommand>();
  sub->add_option("SHEET", command->sheets,
                  "sheets that --sheet wrote; with --from-logbook: words to look for");
  command->options.add_to(*sub, true);
  sub->add_flag("--from-logbook", command->from_logbook, "take what the logbook holds, by words");
  sub->add_option("--limit", command->limits, "NAME<VALUE: a verdict on the page; repeatable")
      ->allow_extra_args(false);
  sub->add_option("--logbook", command->store, "the logbook (default: WAVICON_LOGBOOK, or the user's own)");
  sub->add_flag("--quiet", command->quiet, "print nothing but errors");
  sub->callback([command, &action] {
    action = [command] {
      ReportCommand own = *command;
      if (own.from_logbook) own.query = std::exchange(own.sheets, {});
      return run(own);
    };
  });
}

}  // namespace wavicon::cli
