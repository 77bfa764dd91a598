#include <fmt/format.h>

#include <memory>

#include "capture.hpp"
#include "commands.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/intake/health.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon::cli {
namespace {

struct Health {
  SheetOptions sheet;
  std::string stimulus;
  std::string reference;
  std::optional<int> take;
};

Sheet check(const std::string& path, const Health& command) {
  FileSource file(path);
  require_channel(command.sheet, file.channel_count());
  auto stimulus = stimulus_of(command.stimulus, file.info());
  if (stimulus && !stimulus->marks()) stimulus.reset();
  std::optional<FileSource> reference;
  if (!command.reference.empty()) reference.emplace(command.reference);
  HealthOptions options{.format = file.info().format};
  if (command.take) options.take = static_cast<std::size_t>(*command.take - 1);
  if (reference) options.reference = &*reference;
  try {
    Sheet sheet = health_sheet(check_health(file, stimulus.get(), options), capture_info(file.info()));
    keep_channel(sheet, command.sheet.channel);
    return sheet;
  } catch (const Error& error) {
    throw Error(error.code(), path + ": " + error.what());
  }
}

int run(const Health& command) {
  command.sheet.check();
  std::vector<Sheet> sheets;
  for (const std::string& capture : command.sheet.captures) sheets.push_back(check(capture, command));
  const int status = deliver(command.sheet, sheets, {});
  for (const Sheet& sheet : sheets)
    if (is_unfit(sheet)) return exit_status::bad_input;
  return status;
}

}  // namespace

std::unique_ptr<Stimulus> stimulus_of(const std::string& stimulus_file, const AudioFileInfo& capture) {
  if (stimulus_file.empty()) {
    if (capture.recipe.empty()) return nullptr;
    return std::make_unique<Stimulus>(
        parse_recipe(capture.recipe, capture.path.string() + " (the recipe inside)"));
  }
  if (std::filesystem::path(stimulus_file).extension() == ".toml")
    return std::make_unique<Stimulus>(read_recipe_file(stimulus_file));
  const AudioReader reader(stimulus_file);
  if (reader.info().recipe.empty())
    throw Error(
        ErrorCode::bad_input,
        stimulus_file + ": carries no recipe; a stimulus is a file made by 'wavicon make', or a recipe");
  return std::make_unique<Stimulus>(
      parse_recipe(reader.info().recipe, stimulus_file + " (the recipe inside)"));
}

CaptureInfo capture_info(const AudioFileInfo& info) {
  return {info.path.string(), name_of(info.format), info.sample_rate_hz, info.channel_count, info.frames};
}

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
