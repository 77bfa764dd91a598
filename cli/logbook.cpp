// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <memory>
#include <sstream>

#include "commands.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/bench/history.hpp"
#include "wavicon/bench/logbook.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/file/sheet_file.hpp"
#include "wavicon/file/text_file.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/present/page_text.hpp"
#include "wavicon/present/plot.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon::cli {
namespace {

namespace fs = std::filesystem;

// What all commands that look have.
struct Look {
  std::string store;
  std::vector<std::string> words, tags;
  std::string label, measurement, since, until;
  std::optional<int> channel;
  bool json = false, quiet = false;
  std::string csv_file, plot_file, colour = "auto";
  bool plot_dark = false;

  void add_store(CLI::App& app) {
    app.add_option(
        "--logbook", store,
        "the logbook: a file, or postgresql://USER@HOST/DATABASE (default: WAVICON_LOGBOOK, or the "
        "user's own)");
    app.add_flag("--quiet", quiet, "print nothing but errors");
  }
  void add_filter(CLI::App& app) {
    app.add_option("--tag", tags, "KEY=VALUE that entries have; repeatable")->allow_extra_args(false);
    app.add_option("--label", label, "the label that entries have");
    app.add_option("--of", measurement, "of this measurement");
    app.add_option("--since", since, "measured on that day and later: 2026-03-02");
    app.add_option("--until", until, "measured before that day");
  }
  void add_words(CLI::App& app) {
    app.add_option("--words", words, "text in the label, file, units or tags of an entry; repeatable")
        ->allow_extra_args(false);
  }
  void add_output(CLI::App& app, bool draws) {
    app.add_flag("--json", json, "print it as JSON");
    app.add_option("--csv", csv_file, "write the table as CSV to a file");
    app.add_option("--colour", colour, "colour and bold: never, always, or on a terminal (auto)")
        ->check(CLI::IsMember({"never", "auto", "always"}))
        ->capture_default_str();
    if (!draws) return;
    app.add_option("--plot", plot_file, "draw the picture, .png or .svg");
    app.add_flag("--dark", plot_dark, "draw on dark paper");
  }

  [[nodiscard]] Logbook open(Logbook::Access access = Logbook::Access::look) const {
    return Logbook(store.empty() ? usual_logbook() : store, access);
  }
  [[nodiscard]] EntryFilter filter() const {
    EntryFilter filter{.words = words};
    for (const std::string& tag : tags) filter.tags.push_back(parse_tag(tag));
    if (!label.empty()) filter.label = label;
    if (!measurement.empty()) filter.measurement = measurement;
    if (!since.empty()) filter.since_s = parse_time(since);
    if (!until.empty()) filter.until_s = parse_time(until);
    return filter;
  }
  [[nodiscard]] std::optional<int> channel_from_0() const {
    return channel ? std::optional(*channel - 1) : std::nullopt;
  }
  void require_outputs() const {
    for (const std::string& file : {csv_file, plot_file})
      if (!file.empty()) require_writable(file, {});
  }
  int show(const History& history) const {
    if (!plot_file.empty()) write_text_file(plot_file, drawn(history));
    return show(history.page);
  }
  int show(const Page& page) const {
    if (!csv_file.empty()) write_text_file(csv_file, page_to_csv(page));
    if (quiet) return exit_status::measured;
    if (json)
      print(page_to_json(page));
    else
      print_page(page, colour);
    return exit_status::measured;
  }

 private:
  [[nodiscard]] std::string drawn(const History& history) const {
    const fs::path file(plot_file);
    if (file.extension() != ".png" && file.extension() != ".svg")
      throw Error(ErrorCode::bad_argument, plot_file + ": the ending says how to draw it: .png or .svg");
    Picture picture = history.picture;
    picture.answer = page_title(history.page);
    return draw_picture(
        history.drawn, picture,
        {.format = file.extension() == ".svg" ? PlotFormat::svg : PlotFormat::png, .dark = plot_dark});
  }
};

template <typename Command>
void add(CLI::App& app, Action& action, const std::shared_ptr<Command>& command) {
  app.callback([command, &action] { action = [command] { return command->run(); }; });
}

struct List : Look {
  std::size_t most = 30;
  int run() const {
    require_outputs();
    return show(entries_page(open(), filter(), most));
  }
};

struct Show : Look {
  std::int64_t id = 0;
  bool all = false;
  int run() const {
    const Logbook logbook = open();
    const Sheet sheet = logbook.sheet(id);
    if (quiet) return exit_status::measured;
    if (json) {
      print(sheets_to_json({sheet}));
      return exit_status::measured;
    }
    print_page(entry_page(logbook, id), colour);
    print_sheet(sheet, all, colour);
    return exit_status::measured;
  }
};

struct Rank : Look {
  std::string reading;
  std::size_t most = 20;
  bool lowest = false, highest = false, nearest_zero = false;
  int run() const {
    require_outputs();
    RankOptions options{.filter = filter(), .channel = channel_from_0(), .most = most};
    if (lowest) options.better = Better::lower;
    if (highest) options.better = Better::higher;
    if (nearest_zero) options.better = Better::nearer_to_zero;
    return show(ranking(open(), reading, options));
  }
};

struct Trend : Look {
  std::vector<std::string> readings;
  std::size_t most = 40;
  int run() const {
    require_outputs();
    return show(trend(open(), readings, {.filter = filter(), .channel = channel_from_0(), .most = most}));
  }
};

struct Compare : Look {
  std::string a, b;
  bool all = false;
  int run() const {
    require_outputs();
    return show(comparison(open(), a, b, all));
  }
};

struct Export : Look {
  std::string file;
  int run() const {
    require_outputs();
    if (!file.empty()) require_writable(file, {});
    const Logbook logbook = open();
    if (!csv_file.empty()) {
      std::vector<Sheet> sheets;
      for (const LogbookEntry& entry : logbook.entries(filter())) sheets.push_back(logbook.sheet(entry.id));
      write_text_file(csv_file, sheets_to_csv(sheets));
      return exit_status::measured;
    }
    std::string text;
    logbook.export_lines(filter(), [&](const std::string& line) {
      throw_if_interrupted();
      if (file.empty())
        print(line + "\n");
      else
        text += line + "\n";
    });
    if (!file.empty()) write_text_file(file, text);
    return exit_status::measured;
  }
};

struct Add : Look {
  std::vector<std::string> files;
  EntryNotes notes;
  std::string on;
  int run() {
    for (const std::string& tag : tags) notes.tags.push_back(parse_tag(tag));
    notes.label = label;
    if (!on.empty()) notes.on_s = parse_time(on);
    std::vector<Sheet> sheets;
    std::vector<std::string> lines;
    for (const std::string& file : files) {
      const std::string text = read_text_file(file, "sheet");
      if (is_export(text)) {
        std::istringstream stream(text);
        for (std::string line; std::getline(stream, line);)
          if (!line.empty()) lines.push_back(line);
        continue;
      }
      for (Sheet& sheet : sheets_from_json(text, file)) sheets.push_back(std::move(sheet));
    }
    Logbook logbook = open(Logbook::Access::keep);
    const auto kept = logbook.keep(sheets, notes, lines, files.size() == 1 ? files.front() : "these files");
    say(quiet, kept_text(kept, logbook));
    return exit_status::measured;
  }
};

struct Forget : Look {
  std::vector<std::int64_t> ids;
  int run() const {
    Logbook logbook = open();
    logbook.forget(ids);
    say(quiet,
        fmt::format("{} entr{} taken out of {}", ids.size(), ids.size() == 1 ? "y" : "ies", logbook.name()));
    return exit_status::measured;
  }
};

struct Check : Look {
  int run() const {
    const Logbook logbook = open();
    const auto faults = logbook.faults();
    for (const std::string& fault : faults) print(fault + "\n");
    if (faults.empty())
      say(quiet, fmt::format("{}: {} entries, all whole", logbook.name(), logbook.count({})));
    return faults.empty() ? exit_status::measured : exit_status::bad_input;
  }
};

}  // namespace

void add_logbook(CLI::App& app, Action& action) {
  auto* sub = app.add_subcommand("logbook", "what was measured before, and how does this compare?");
  sub->require_subcommand(1);
  const auto command = [&]<typename Command>(std::shared_ptr<Command> made, const char* name,
                                             const char* question) {
    auto* one = sub->add_subcommand(name, question);
    made->add_store(*one);
    add(*one, action, made);
    return std::pair(one, made);
  };
  {
    auto [one, list] = command(std::make_shared<List>(), "list", "which sheets are kept?");
    one->add_option("WORDS", list->words, "text in the label, file, units or tags of an entry");
    one->add_option("--most", list->most, "entries to show, the latest; 0: all")->capture_default_str();
    list->add_filter(*one);
    list->add_output(*one, false);
  }
  {
    auto [one, show] = command(std::make_shared<Show>(), "show", "what does one of them say?");
    one->add_option("ID", show->id, "number of the entry")->required();
    one->add_flag("--json", show->json, "print the sheet as JSON");
    one->add_flag("--all", show->all, "every reading by its name, with floor and conditions");
    one->add_option("--colour", show->colour, "colour and bold: never, always, or on a terminal (auto)")
        ->check(CLI::IsMember({"never", "auto", "always"}))
        ->capture_default_str();
  }
  {
    auto [one, rank] = command(std::make_shared<Rank>(), "rank", "who is best by one reading?");
    one->add_option("READING", rank->reading, "its name: noise_dbu")->required();
    one->add_option("--channel", rank->channel, "of this channel, from 1 (default: the worse one of each)")
        ->check(CLI::PositiveNumber);
    one->add_option("--most", rank->most, "places to show; 0: all")->capture_default_str();
    auto* lowest = one->add_flag("--lowest", rank->lowest, "the lowest is best, whatever the catalogue says");
    auto* highest = one->add_flag("--highest", rank->highest, "the highest is best")->excludes(lowest);
    one->add_flag("--nearest-zero", rank->nearest_zero, "the nearest to zero is best")
        ->excludes(lowest)
        ->excludes(highest);
    rank->add_words(*one);
    rank->add_filter(*one);
    rank->add_output(*one, true);
  }
  {
    auto [one, trend] = command(std::make_shared<Trend>(), "trend", "has it changed over time?");
    one->add_option("READING", trend->readings, "names: thd_db noise_dbu")->required();
    one->add_option("--channel", trend->channel, "of this channel, from 1 (default: the worse one of each)")
        ->check(CLI::PositiveNumber);
    one->add_option("--most", trend->most, "entries to show, the first and the latest; 0: all")
        ->capture_default_str();
    trend->add_words(*one);
    trend->add_filter(*one);
    trend->add_output(*one, true);
  }
  {
    auto [one, compare] = command(std::make_shared<Compare>(), "compare", "what has B else than A?");
    one->add_option("A", compare->a, "number of an entry, a label, or a day")->required();
    one->add_option("B", compare->b, "another")->required();
    one->add_flag("--all", compare->all, "also what did not change");
    compare->add_output(*one, true);
  }
  {
    auto [one, exported] = command(std::make_shared<Export>(), "export", "how do I take entries elsewhere?");
    one->add_option("-o,--output", exported->file,
                    "file to write, a line of JSON for each entry (default: print)");
    one->add_option("--csv", exported->csv_file, "write all readings as CSV to a file instead");
    exported->add_words(*one);
    exported->add_filter(*one);
  }
  {
    auto [one, added] = command(std::make_shared<Add>(), "add", "how do I keep sheets that are files?");
    one->add_option("SHEET", added->files, "what --sheet or 'logbook export' wrote")->required();
    one->add_option("--as", added->label, "keep them under this label");
    one->add_option("--tag", added->tags, "KEY=VALUE to keep them with; repeatable")->allow_extra_args(false);
    one->add_option("--on", added->on, "when they were measured, if the sheets do not say: 2026-03-02");
    one->add_flag("--with-machine", added->notes.with_machine, "keep this machine's name, too");
  }
  {
    auto [one, forget] = command(std::make_shared<Forget>(), "forget", "how do I take entries out?");
    one->add_option("ID", forget->ids, "numbers of entries")->required();
  }
  command(std::make_shared<Check>(), "check", "is the logbook whole?");
}

}  // namespace wavicon::cli
