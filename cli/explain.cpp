// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <cstdio>
#include <memory>

#include "commands.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/bench/examination.hpp"
#include "wavicon/file/limits.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/present/manual.hpp"

namespace wavicon::cli {
namespace {

struct Explain {
  std::string name;
  std::string measurement;
  bool all = false;
  bool limits = false;
};

int run(const Explain& command) {
  if (command.limits) {
    print(limits_manual());
    return exit_status::measured;
  }
  auto tables = reading_tables(measurements());
  tables.push_back(&examination_readings());
  if (command.all) {
    print(readings_manual(tables));
    return exit_status::measured;
  }
  std::vector<std::string> names;
  std::string text;
  for (const ReadingTable* table : tables) {
    for (const ReadingEntry& entry : table->entries) names.push_back(entry.name);
    if (!command.measurement.empty() && table->measurement != command.measurement) continue;
    if (const ReadingEntry* entry = find_entry(*table, command.name))
      text += (text.empty() ? "" : "\n") + explanation(*entry, table->measurement);
  }
  if (text.empty())
    throw Error(ErrorCode::bad_argument,
                fmt::format("there is no reading '{}'{}{}", command.name,
                            command.measurement.empty() ? "" : " of " + command.measurement,
                            name_hint(command.name, names)));
  print(text);
  return exit_status::measured;
}

}  // namespace

void add_explain(CLI::App& app, Action& action) {
  auto* sub =
      app.add_subcommand("explain", "what does a reading mean, where is it from, and when does it mislead?");
  auto command = std::make_shared<Explain>();
  sub->add_option("READING", command->name, "its name, as sheets have it: thd_n_db");
  sub->add_option("--of", command->measurement, "only of this measurement, where several give it");
  sub->add_flag("--all", command->all, "every reading, as a page in Markdown");
  sub->add_flag("--limits", command->limits, "the bounds of what is read, as a page in Markdown");
  sub->callback([command, &action] {
    if (command->name.empty() && !command->all && !command->limits)
      throw CLI::RequiredError("READING, --all or --limits");
    action = [command] { return run(*command); };
  });
}

}  // namespace wavicon::cli
