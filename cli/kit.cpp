// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <memory>
#include <optional>

#include "commands.hpp"
#include "program.hpp"
#include "stimulus_file.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/workers.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/file/file_pairs.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/intake/bounce.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon::cli {
namespace {

namespace fs = std::filesystem;

constexpr double kLeastBeforeS = 0.5;  // of silence around the marks, so that nothing touches them
constexpr double kLeastAfterS = 1.0;

struct MakeKit {
  std::string recipe_file;
  std::vector<double> rates_hz;
  std::string folder;
  bool quiet = false;
};

struct Read {
  std::string folder;
  bool json = false;
  std::string sheet_file;
  std::string csv_file;
  int jobs = 0;  // threads; 0: as many as there are cores
  bool quiet = false;
};

std::string instructions(const Recipe& recipe, const std::vector<std::string>& files) {
  std::string list;
  for (const std::string& file : files) list += "    stimuli/" + file + "\n";
  return fmt::format(R"(What to do with this folder
===========================

It holds the stimulus "{}" ({:.0f} s), once for each sample rate:

{}
1. Make a session at one of these rates. Do not let the program convert a stimulus to another rate.
2. Put the stimulus of that rate onto a track, at the very start of the session. Leave it as it is:
   no normalising, no time stretching, no fades, no clip gain, no crossfade at its ends.
3. Put what you want to measure onto the track: a plugin, a bus, an outboard unit. Fader at 0 dB.
   A track of one channel that goes to a bus of two gets softer by the pan law: set it to 0 dB, or
   use a track with as many channels as the stimulus ({}).
4. Leave the automatic compensation of plugin delays on.
5. Export from the start of the session to a second after the end of the stimulus:
   - the same sample rate as the session
   - 32-bit float if there is a choice, else 24 bits; dither off
   - no normalising, no fades, no tail cut, no encoding such as MP3
   In real time if outboard is in the path, else as fast as it goes.
6. Put the exported files into the folder bounces/. Call them what you like: their name is all that
   tells you later which setting it was, and the stimulus is found in them by its marks.
7. Run:  wavicon kit read FOLDER

Two exports of the same session tell whether it does the same twice. One with nothing on the track
tells what the program itself does: begin with that.
)",
                     recipe.name, stimulus_seconds(recipe), list,
                     recipe.channel_count == 1 ? "1" : std::to_string(recipe.channel_count));
}

int make(const MakeKit& command) {
  Recipe recipe = read_measured_recipe(command.recipe_file);
  if (!recipe.marks)
    throw Error(
        ErrorCode::bad_input,
        command.recipe_file + ": a kit needs marks, by which its bounces are found: take out marks = false");
  recipe.silence_before_s = std::max(recipe.silence_before_s, kLeastBeforeS);
  recipe.silence_after_s = std::max(recipe.silence_after_s, kLeastAfterS);
  const std::vector<double> rates =
      command.rates_hz.empty() ? std::vector{recipe.sample_rate_hz} : command.rates_hz;
  for (const double rate : rates) {
    Recipe at_rate = recipe;
    at_rate.sample_rate_hz = rate;
    require_valid(at_rate);
  }
  require_different(rates, "--rates");
  const fs::path folder = command.folder;
  for (const char* part : {"stimuli", "bounces"}) make_folder(file_below(folder, part));
  std::vector<std::string> files;
  for (const double rate : rates) {
    Recipe at_rate = recipe;
    at_rate.sample_rate_hz = rate;
    files.push_back(fmt::format("{}-{:g}.wav", recipe.name, rate));
    write_stimulus(at_rate, file_below(folder / "stimuli", files.back()).string(), command.quiet);
  }
  write_text_file(file_below(folder, "recipe.toml"), recipe_text(recipe));
  write_text_file(file_below(folder, "instructions.txt"), instructions(recipe, files));
  say(command.quiet,
      fmt::format("{}: read instructions.txt; exported files go into bounces/", folder.string()));
  return exit_status::measured;
}

// One bounce; what is no bounce of this kit is an error.
BounceReading read_bounce(const fs::path& file, Recipe recipe, Progress& progress) {
  recipe.sample_rate_hz = AudioReader(file, CutOff::accepted).info().sample_rate_hz;
  try {
    require_valid(recipe);
  } catch (const Error&) {
    throw Error(ErrorCode::bad_input,
                fmt::format("at {:g} Hz the recipe of this kit has no stimulus", recipe.sample_rate_hz));
  }
  return measure_bounce(judge_file(file, {.hold_faults = true}, std::make_shared<Stimulus>(recipe),
                                   [&](double part) { progress.reading(file.string(), part); }));
}

int read(const Read& command) {
  const fs::path folder = command.folder;
  std::error_code ignored;
  if (!fs::is_regular_file(folder / "recipe.toml", ignored))
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("{} is no kit: it holds no recipe.toml; 'wavicon kit make' makes one", folder.string()));
  const Recipe recipe = read_measured_recipe((folder / "recipe.toml").string());
  const std::vector<fs::path> files = audio_files_in(folder / "bounces", true);
  if (files.empty())
    throw Error(ErrorCode::bad_input,
                fmt::format("{} holds no audio files yet: export into it (instructions.txt says how)",
                            (folder / "bounces").string()));
  SheetOptions options;
  options.json = command.json;
  options.sheet_file = command.sheet_file;
  options.csv_file = command.csv_file;
  options.quiet = command.quiet || !command.json;
  options.check();
  const ThreadAllowance allowance(command.jobs);
  std::vector<std::optional<BounceReading>> readings(files.size());
  std::vector<std::string> failures(files.size());
  {
    // Gone from the terminal before anything is printed.
    Progress progress("measuring", command.quiet);
    for_each_part(files.size(), [&](std::size_t i) {
      try {
        readings[i] = read_bounce(files[i], recipe, progress);
      } catch (const Interrupted&) {
        throw;
      } catch (const std::exception&) {
        failures[i] = current_failure().line;
      }
    });
  }
  std::vector<Sheet> sheets;
  std::vector<std::string> names, columns;
  bool all = true;
  for (std::size_t i = 0; i < files.size(); ++i) {
    names.push_back(files[i].lexically_relative(folder / "bounces").string());
    if (readings[i]) {
      for (const std::string& column : readings[i]->columns)
        if (std::find(columns.begin(), columns.end(), column) == columns.end()) columns.push_back(column);
      sheets.push_back(std::move(readings[i]->sheet));
    } else {
      all = false;
      Sheet sheet{.measurement = kit_readings().measurement};
      sheet.capture.file = files[i].string();
      sheet.findings.push_back({Severity::fault, FindingCode::wrong_stimulus, failures[i], std::nullopt});
      sheets.push_back(std::move(sheet));
    }
  }
  const int status = deliver(options, {.sheets = sheets});
  if (!command.json && !command.quiet) {
    for (std::size_t i = 0; i < sheets.size(); ++i) {
      Sheet sheet = sheets[i];
      sheet.capture.file = names[i];
      print(findings_text(sheet));
    }
    print("\n" + ladder_table(sheets, names, columns, "bounce"));
  }
  if (!all && (command.json || command.quiet))
    tell(fmt::format("wavicon: {}: not every bounce could be measured: the sheets say which, and why",
                     folder.string()));
  return all ? status : exit_status::bad_input;
}

}  // namespace

void add_kit(CLI::App& app, Action& action) {
  auto* kit =
      app.add_subcommand("kit", "what does my DAW do to a bounce? stimuli and instructions out, bounces in");
  kit->require_subcommand(1);
  auto* out = kit->add_subcommand("make", "a folder to take into any recording program");
  auto making = std::make_shared<MakeKit>();
  out->add_option("RECIPE", making->recipe_file, "recipe of the stimulus, with marks")->required();
  out->add_option("--rates", making->rates_hz,
                  "sample rates, for example 44100,48000,96000 (default: the recipe's)")
      ->delimiter(',');
  out->add_option("-o,--output", making->folder, "folder to make")->required();
  out->add_flag("--quiet", making->quiet, "print nothing but errors");
  out->callback([making, &action] { action = [making] { return make(*making); }; });
  auto* in = kit->add_subcommand("read",
                                 "what the recording program did to each bounce, and what its parts measure");
  auto reading = std::make_shared<Read>();
  in->add_option("FOLDER", reading->folder, "a kit with exported files in bounces/")->required();
  in->add_flag("--json", reading->json, "print the sheets as JSON");
  in->add_option("--sheet", reading->sheet_file, "write the sheets as JSON to a file");
  in->add_option("--csv", reading->csv_file, "write the readings as CSV to a file");
  in->add_option("--jobs", reading->jobs,
                 "threads to use; the figures do not change (default: as many as there are cores)")
      ->check(CLI::PositiveNumber);
  in->add_flag("--quiet", reading->quiet, "print nothing but errors");
  in->callback([reading, &action] { action = [reading] { return read(*reading); }; });
}

}  // namespace wavicon::cli
