// SPDX-License-Identifier: MIT
// The manual on a terminal, and its pages as files.

#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <memory>

#include "commands.hpp"
#include "manual_pages.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/file/output_file.hpp"

namespace wavicon::cli {
namespace {

namespace fs = std::filesystem;

struct Help {
  std::string asked;
  std::string folder;
};

std::size_t terminal_rows() {
  winsize size{};
  return ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 ? size.ws_row : 0;
}

// What is longer than the terminal goes through a pager; elsewhere it is printed.
void show(const std::string& text) {
  const auto lines = static_cast<std::size_t>(std::count(text.begin(), text.end(), '\n'));
  if (isatty(STDOUT_FILENO) != 0 && terminal_rows() > 0 && lines >= terminal_rows()) {
    const char* chosen = std::getenv("PAGER");
    setenv("LESS", "R", 0);
    const std::string pager = chosen != nullptr && *chosen != '\0' ? chosen : "less";
    if (FILE* pipe = popen((pager + " 2>/dev/null").c_str(), "w")) {
      std::fwrite(text.data(), 1, text.size(), pipe);
      if (pclose(pipe) == 0) return;
    }
  }
  print(text);
}

void write_page(const fs::path& folder, const ManualPage& page) {
  write_text_file(folder / fmt::format("{}.{}", page.name, page.section), manual_source(page));
}

int write_pages(const fs::path& folder) {
  std::error_code error;
  fs::create_directories(folder, error);
  if (error)
    throw Error(ErrorCode::write_failed,
                fmt::format("{}: cannot be made ({})", folder.string(), error.message()));
  write_page(folder, program_page(*command_app("")));
  for (const std::string& name : command_names()) write_page(folder, command_page(*command_app(name)));
  for (const std::string& topic : manual_topics()) write_page(folder, *topic_page(topic));
  return exit_status::measured;
}

int run(const Help& help) {
  if (!help.folder.empty()) return write_pages(help.folder);
  const TableStyle style{.columns = terminal_columns(), .colour = in_colour("auto")};
  if (help.asked.empty()) {
    show(manual_text(program_page(*command_app("")), style));
    return exit_status::measured;
  }
  // "wavicon-levels", as the pages are called, is taken as well.
  const std::string name = help.asked.rfind("wavicon-", 0) == 0 ? help.asked.substr(8) : help.asked;
  const auto commands = command_names();
  std::string text;
  if (std::find(commands.begin(), commands.end(), name) != commands.end())
    text = manual_text(command_page(*command_app(name)), style);
  if (const auto topic = topic_page(name)) text += (text.empty() ? "" : "\n") + manual_text(*topic, style);
  if (text.empty()) {
    auto names = commands;
    names.insert(names.end(), manual_topics().begin(), manual_topics().end());
    throw Error(ErrorCode::bad_argument,
                fmt::format("there is no page of the manual '{}'{} ('wavicon help' alone lists them)",
                            help.asked, name_hint(name, names)));
  }
  show(text);
  return exit_status::measured;
}

}  // namespace

void add_help(CLI::App& app, Action& action) {
  auto* sub = app.add_subcommand("help", "how does a command work? its page of the manual");
  auto help = std::make_shared<Help>();
  sub->add_option("COMMAND", help->asked, "a command, or plans, readings, recipes, sheets, units");
  sub->add_option("--pages", help->folder, "write all pages as source for 'man' into a folder");
  sub->callback([help, &action] { action = [help] { return run(*help); }; });
}

}  // namespace wavicon::cli
