// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <memory>

#include "commands.hpp"
#include "program.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/workers.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/file/sheet_context.hpp"
#include "wavicon/intake/health.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon::cli {
namespace {

struct Health {
  SheetOptions sheet;
  std::string stimulus;
  std::string reference;
  std::optional<int> take;
};

Sheet check(const std::string& path, const Health& command, Progress& progress) {
  FileSource file(path, CutOff::accepted, [&](double part) { progress.reading(path, part); });
  MeasureRequest request;
  if (command.sheet.channel) request.channel = *command.sheet.channel - 1;
  auto stimulus = command.stimulus.empty() ? stimulus_inside(file.info())
                                           : std::make_shared<Stimulus>(read_recipe(command.stimulus));
  if (stimulus && !stimulus->marks()) stimulus.reset();
  std::optional<FileSource> reference;
  if (!command.reference.empty())
    reference.emplace(command.reference, CutOff::refused,
                      [&](double part) { progress.reading(command.reference, part); });
  HealthOptions options{.format = file.info().format};
  if (command.take) options.take = static_cast<std::size_t>(*command.take - 1);
  if (reference) options.reference = &*reference;
  try {
    require_channel(request, file.channel_count());
    Sheet sheet = health_sheet(check_health(file, stimulus.get(), options), capture_info(file.info()));
    keep_channel(sheet, request.channel);
    return sheet;
  } catch (const Error& error) {
    throw Error(error.code(), path + ": " + error.what());
  } catch (const Interrupted&) {
    throw;
  } catch (const std::exception&) {
    throw Error(ErrorCode::bad_input, path + ": " + current_failure().line);
  }
}

int run(const Health& command) {
  command.sheet.check(reading_names_of({&health_readings()}), {}, {command.stimulus, command.reference});
  const ThreadAllowance allowance(command.sheet.jobs);
  std::vector<Sheet> sheets(command.sheet.captures.size());
  {
    // Gone from the terminal before anything is printed.
    Progress progress("checking", command.sheet.quiet);
    for_each_part(sheets.size(),
                  [&](std::size_t i) { sheets[i] = check(command.sheet.captures[i], command, progress); });
  }
  std::vector<std::pair<std::string, std::string>> options;
  if (!command.reference.empty()) options.emplace_back("reference", command.reference);
  if (command.take) options.emplace_back("take", std::to_string(*command.take));
  add_context(sheets, options, current_time_s());
  const int status = deliver(command.sheet, {.sheets = sheets});
  for (const Sheet& sheet : sheets)
    if (is_unfit(sheet)) return exit_status::bad_input;
  return status;
}

}  // namespace

void add_health(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand("health", "is this capture fit to be measured?");
  auto health = std::make_shared<Health>();
  health->sheet.add_to(*command, false);
  command->add_option("--stimulus", health->stimulus,
                      "what was played: its file, or its recipe (default: the recipe inside the capture)");
  command->add_option("--reference", health->reference,
                      "the clean signal, when what was played was not made by wavicon");
  command->add_option("--take", health->take, "which appearance of the stimulus to use, from 1")
      ->check(CLI::PositiveNumber);
  command->callback([health, &action] { action = [health] { return run(*health); }; });
}

}  // namespace wavicon::cli
