// SPDX-License-Identifier: MIT
#include "program.hpp"

#include <fmt/format.h>

#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <csignal>
#include <cstdio>
#include <filesystem>
#include <new>
#include <stdexcept>
#include <string>
#include <string_view>
#include <system_error>
#include <vector>

#include "commands.hpp"
#include "kinds.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/version.hpp"

namespace wavicon::cli {
namespace {

int status_of(ErrorCode code) {
  switch (code) {
    case ErrorCode::bad_input:
    case ErrorCode::write_failed:
      return exit_status::bad_input;
    case ErrorCode::unit_failed:
      return exit_status::unit_failed;
    default:
      return exit_status::wrong_usage;
  }
}

int fail(const Failure& failure) {
  if (!failure.line.empty()) tell("wavicon: " + failure.line);
  return failure.status;
}

// Everything that was printed has to have arrived. Who closes a pipe has read enough.
int finished(int status) {
  const int error = output_error();
  if (error == 0 || (status != exit_status::measured && status != exit_status::limit_not_kept)) return status;
  if (error == EPIPE) return exit_status::pipe_closed;
  return fail({fmt::format("standard output cannot be written ({}): what was printed is not complete",
                           std::generic_category().message(error)),
               exit_status::bad_input});
}

struct Adder {
  const char* name;
  void (*add)(CLI::App&, Action&);
};
constexpr Adder kAdders[] = {
    {"make", add_make},       {"show", add_show},         {"units", add_units},
    {"feed", add_feed},       {"health", add_health},     {"explain", add_explain},
    {"kit", add_kit},         {"stand-in", add_stand_in}, {"bench", add_bench},
    {"logbook", add_logbook}, {"report", add_report},     {"watch", add_watch},
    {"doctor", add_doctor},   {"help", add_help},         {"completion", add_completion}};

// Every command with all its options takes longer to set up than to run on a short file: where one is asked
// for, it is set up alone.
void add_commands(CLI::App& app, Action& action, const std::string& asked) {
  app.set_version_flag("--version", std::string("wavicon ") + WAVICON_VERSION);
  app.require_subcommand(1);
  app.failure_message([](const CLI::App*, const CLI::Error&) { return std::string(); });
  const auto names = command_names();
  const bool one = std::find(names.begin(), names.end(), asked) != names.end();
  if (asked == "--version") return;
  for (const Adder& adder : kAdders) {
    if (!one || asked == adder.name) adder.add(app, action);
    if (adder.add != add_health) continue;
    for (const MeasurementDescriptor& m : measurements())
      if (!one || asked == m.name) add_measurement(app, m, action);
  }
}

// Commands in the order of the work.
constexpr const char* kMake = "1. make a signal";
constexpr const char* kFeed = "2. feed it through something";
constexpr const char* kCheck = "3. check what came back";
constexpr const char* kMeasure = "4. measure it";
constexpr const char* kCompare = "5. compare it with what went in, or with another one";
constexpr const char* kRemember = "6. remember it, do all of it at once, and show it";
constexpr const char* kRead = "7. read on";

void group_commands(CLI::App& app) {
  const auto put = [&](const char* group, std::initializer_list<const char*> names) {
    for (const char* name : names)
      if (CLI::App* command = find_command(app, name)) command->group(group);
  };
  put(kMake, {"make", "show"});
  put(kFeed, {"units", "feed", "kit", "stand-in"});
  put(kCheck, {"health", "watch"});
  for (const MeasurementDescriptor& m : measurements()) {
    const bool alone = m.input == MeasuredInput::capture || m.input == MeasuredInput::recording;
    put(alone ? kMeasure : kCompare, {m.name.c_str()});
  }
  put(kRemember, {"logbook", "bench", "report"});
  put(kRead, {"help", "explain", "doctor", "completion"});
  for (CLI::App* command : app.get_subcommands(nullptr)) name_kinds(*command);
}

// A command that is not there gets the nearest one that is.
void require_command(int argc, char** argv) {
  if (argc < 2 || argv[1][0] == '-') return;
  const auto names = command_names();
  const std::string asked = argv[1];
  if (std::find(names.begin(), names.end(), asked) != names.end()) return;
  throw Error(ErrorCode::bad_argument,
              fmt::format("there is no command '{}'{} ('wavicon' alone shows them all)", asked,
                          name_hint(asked, names)));
}

// Ends the program where memory runs out: unwinding from anywhere is a way that nobody walks otherwise.
[[noreturn]] void out_of_memory() {
  abandon_partial_files();
  constexpr std::string_view kLine =
      "wavicon: there is not enough memory for this; measure a part of it with --from and --to\n";
  (void)!::write(STDERR_FILENO, kLine.data(), kLine.size());
  ::_exit(exit_status::bad_input);
}

constexpr const char* kWhat =
    "Feeds known signals through plugins, sessions and interfaces, and measures what came back.";

void set_up(CLI::App& app, Action& action, const std::string& asked) {
  add_commands(app, action, asked);
  group_commands(app);
  add_examples(app);
}

std::string running_command;

int parse_and_run(int argc, char** argv) {
  CLI::App app(kWhat, "wavicon");
  Action action;
  set_up(app, action, argc > 1 ? argv[1] : "");
  if (argc < 2) {
    print(app.help());
    return exit_status::measured;
  }
  require_command(argc, argv);
  try {
    app.parse(argc, argv);
  } catch (const CLI::Success& success) {
    return app.exit(success);
  } catch (const CLI::ParseError& error) {
    return fail({std::string(error.what()) + "; see wavicon --help, or wavicon COMMAND --help",
                 exit_status::wrong_usage});
  }
  return action();
}

}  // namespace

std::vector<std::string> command_names() {
  std::vector<std::string> names;
  for (const Adder& adder : kAdders) names.emplace_back(adder.name);
  for (const MeasurementDescriptor& m : measurements()) names.push_back(m.name);
  return names;
}

std::unique_ptr<CLI::App> command_app(const std::string& name) {
  static Action never_run;
  auto app = std::make_unique<CLI::App>(kWhat, "wavicon");
  set_up(*app, never_run, name);
  return app;
}

Failure current_failure() {
  try {
    throw;
  } catch (const Error& error) {
    return {error.what(), status_of(error.code())};
  } catch (const Interrupted&) {
    return {"interrupted; nothing was written", exit_status::interrupted};
  } catch (const std::bad_alloc&) {
    return {"there is not enough memory for this; measure a part of it with --from and --to",
            exit_status::bad_input};
  } catch (const std::length_error&) {
    return {"there is not enough memory for this; measure a part of it with --from and --to",
            exit_status::bad_input};
  } catch (const std::filesystem::filesystem_error& error) {
    return {fmt::format("{}: cannot be read ({})", error.path1().string(), error.code().message()),
            exit_status::bad_input};
  } catch (const std::system_error& error) {
    return {fmt::format("the system does not allow this: {}", error.code().message()),
            exit_status::bad_input};
  } catch (const std::exception& error) {
    return {fmt::format("an error that is a defect of wavicon ({}); please report it, with the command",
                        error.what()),
            exit_status::bad_input};
  }
}

const std::string& command_line() { return running_command; }

std::string shell_word(const std::string& word) {
  if (!word.empty() && word.find_first_of(" '\"?&*$()<>|;~#{}[]\\`!\n") == std::string::npos) return word;
  std::string text = "'";
  for (const char c : word) text += c == '\'' ? std::string("'\\''") : std::string(1, c);
  return text + "'";
}

int run_program(int argc, char** argv) {
  // A closed pipe and a file that may not grow are errors of the write, so that what is half written goes.
  std::signal(SIGPIPE, SIG_IGN);
  std::signal(SIGXFSZ, SIG_IGN);
  std::set_new_handler(out_of_memory);
  try {
    running_command = "wavicon";
    for (int i = 1; i < argc; ++i) running_command += " " + shell_word(argv[i]);
    return finished(parse_and_run(argc, argv));
  } catch (...) {
    return finished(fail(current_failure()));
  }
}

}  // namespace wavicon::cli
