// SPDX-License-Identifier: MIT
#include <cstdio>
#include <string>

#include "commands.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/version.hpp"

namespace {

using namespace wavicon;

int status_of(ErrorCode code) {
  switch (code) {
    case ErrorCode::bad_input:
      return cli::exit_status::bad_input;
    case ErrorCode::unit_failed:
      return cli::exit_status::unit_failed;
    default:
      return cli::exit_status::wrong_usage;
  }
}

int fail(const std::string& message, int status) {
  std::string line = message;
  for (char& c : line)
    if (c == '\n') c = ' ';
  std::fprintf(stderr, "wavicon: %s\n", line.c_str());
  return status;
}

}  // namespace

int main(int argc, char** argv) {
  CLI::App app("Feeds known signals through plugins, sessions and interfaces, and measures what came back.",
               "wavicon");
  app.set_version_flag("--version", std::string("wavicon ") + WAVICON_VERSION);
  app.require_subcommand(1);
  app.failure_message([](const CLI::App*, const CLI::Error&) { return std::string(); });
  cli::Action action;
  cli::add_make(app, action);
  cli::add_show(app, action);
  cli::add_units(app, action);
  cli::add_feed(app, action);
  cli::add_health(app, action);
  cli::add_measurements(app, action);
  cli::add_explain(app, action);
  cli::add_kit(app, action);
  cli::add_stand_in(app, action);
  try {
    app.parse(argc, argv);
  } catch (const CLI::Success& success) {
    return app.exit(success);
  } catch (const CLI::ParseError& error) {
    return fail(std::string(error.what()) + "; see wavicon --help, or wavicon COMMAND --help",
                cli::exit_status::wrong_usage);
  }
  try {
    return action();
  } catch (const Error& error) {
    return fail(error.what(), status_of(error.code()));
  } catch (const cli::Interrupted&) {
    return fail("interrupted; nothing was written", cli::exit_status::interrupted);
  } catch (const std::bad_alloc&) {
    return fail("there is not enough memory for this; measure a part of it with --from and --to",
                cli::exit_status::bad_input);
  } catch (const std::exception& error) {
    return fail(error.what(), cli::exit_status::bad_input);
  }
}
