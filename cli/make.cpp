// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <fstream>
#include <iterator>
#include <memory>
#include <vector>

#include "commands.hpp"
#include "stimulus_file.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/stimulus/stimulus.hpp"
#include "wavicon/stimulus/tone.hpp"

namespace wavicon::cli {
namespace {

namespace fs = std::filesystem;

struct Make {
  Recipe recipe;
  std::string recipe_file;
  std::string save_recipe;
  std::vector<double> rates_hz;
  bool no_marks = false;
  bool marks = false;  ///< asked for, where they are not the default
  double fade_s = 0;
  bool on_bin = false;
  std::int64_t on_bin_length = 0;
  FormatOptions format;
  std::string file;
  bool quiet = false;
};

// Adds an option for each field of a kind: frequency_hz becomes --frequency, fade_in_s becomes --fade-in.
class OptionAdder {
 public:
  explicit OptionAdder(CLI::App& app) : app_(app) {}

  void operator()(const char* key, auto& value, const Range&, const char* what) { add(key, value, what); }
  void operator()(const char* key, std::string& value, const std::vector<std::string>& words,
                  const char* what) {
    std::string text = what;
    text += ": ";
    for (const std::string& word : words) text += (&word == words.data() ? "" : " or ") + word;
    add(key, value, text);
  }
  void operator()(const char* key, bool& value, const char* what) {
    app_.add_flag("--" + option_name(key), value, what);
  }
  void operator()(const char* key, std::vector<double>& values, const Range&, const char* what) {
    app_.add_option("--" + option_name(key), values, what)->delimiter(',');
  }
  // Oscillators are made from --frequencies and --levels, a burst's carrier is a tone.
  void operator()(const char*, std::vector<Oscillator>&, const char*) {}
  void operator()(const char*, std::variant<Tone, Sweep, Noise>& carrier, const char*) {
    auto& tone = std::get<Tone>(carrier);
    add("frequency_hz", tone.frequency_hz, "of the tone");
    add("level_dbfs", tone.level_dbfs, "of its peak");
    add("phase_deg", tone.phase_deg, "at the start of each burst");
  }

 private:
  static std::string option_name(const std::string& key) {
    if (key == "to_dbfs") return "to-level";
    if (key == "seed") return "noise-seed";
    if (key == "low_s" || key == "high_s" || key == "after_s")
      return key.substr(0, key.size() - 2) + "-seconds";
    std::string name = key;
    for (const char* suffix : {"_hz", "_dbfs", "_db", "_deg", "_s"}) {
      const std::string ending = suffix;
      if (name.size() > ending.size() &&
          name.compare(name.size() - ending.size(), ending.size(), ending) == 0) {
        name.resize(name.size() - ending.size());
        break;
      }
    }
    std::replace(name.begin(), name.end(), '_', '-');
    return name;
  }
  void add(const char* key, auto& value, const std::string& what) {
    auto* option = app_.add_option("--" + option_name(key), value, what);
    if constexpr (!requires { value.has_value(); }) option->capture_default_str();
  }
  CLI::App& app_;
};

// Moves a tone onto a bin and says to what.
void put_on_bin(const Make& make, Tone& tone, double rate) {
  const auto length =
      make.on_bin_length > 0 ? make.on_bin_length : power_of_two_within(std::llround(tone.seconds * rate));
  if (length < 4 || power_of_two_within(length) != length)
    throw Error(ErrorCode::bad_argument,
                fmt::format("--on-bin {}: the analysis length has to be a power of two, 4 or more", length));
  const double hz = on_bin_frequency_hz(tone.frequency_hz, rate, length);
  say(make.quiet, fmt::format("on bin: {:.10g} Hz moved to {:.12g} Hz, {:.0f} whole cycles in {} frames",
                              tone.frequency_hz, hz, hz * static_cast<double>(length) / rate, length));
  tone.frequency_hz = hz;
}

// One tone that cannot fit is refused before anything is written; sums are found while they are written.
void refuse_clipping_level(const Recipe& recipe) {
  for (const RecipePart& part : recipe.parts)
    if (const auto* tone = std::get_if<Tone>(&part.kind);
        tone != nullptr && recipe.bits != 32 && tone->level_dbfs + recipe.pad_db > 0)
      throw Error(ErrorCode::bad_argument,
                  fmt::format("a level of {:+g} dBFS would clip in {}-bit audio; make it 0 dBFS or lower, or "
                              "write 32-bit float with --bits 32",
                              tone->level_dbfs, recipe.bits));
}

bool is_folder(const fs::path& path) {
  std::error_code ignored;
  return fs::is_directory(path, ignored);
}

std::string file_for_rate(const Make& make, const Recipe& recipe, double rate) {
  const fs::path given = make.file;
  const bool folder = given.filename().empty() || is_folder(given);
  if (folder) return file_below(given, fmt::format("{}-{:g}.wav", recipe.name, rate)).string();
  const fs::path beside =
      given.parent_path() / fmt::format("{}-{:g}{}", given.stem().string(), rate, given.extension().string());
  require_below(given.parent_path(), beside);
  return beside.string();
}

Recipe finished_recipe(Make& make) {
  Recipe recipe = make.recipe;
  if (!make.recipe_file.empty()) recipe = read_measured_recipe(make.recipe_file);
  if (make.no_marks) recipe.marks = false;
  if (make.marks) recipe.marks = true;
  if (make.format.bits) recipe.bits = *make.format.bits;
  if (make.format.dither || make.format.no_dither)
    recipe.dither = make.format.dither;
  else if (make.recipe_file.empty())
    recipe.dither = recipe.bits == 16;
  if (recipe.bits == 32) recipe.dither = false;
  if (make.format.seed != 1) recipe.seed = static_cast<std::int64_t>(make.format.seed);
  if (auto* tone = recipe.parts.size() == 1 ? std::get_if<Tone>(&recipe.parts[0].kind) : nullptr) {
    if (make.fade_s > 0) tone->fade_in_s = tone->fade_out_s = make.fade_s;
    if (make.on_bin) put_on_bin(make, *tone, recipe.sample_rate_hz);
  }
  require_valid(recipe);
  return recipe;
}

int run(Make make) {
  const Recipe recipe = finished_recipe(make);
  refuse_clipping_level(recipe);
  std::vector<fs::path> inputs;
  if (!make.recipe_file.empty()) inputs.emplace_back(make.recipe_file);
  require_different(make.rates_hz, "--rates");
  for (const double rate : make.rates_hz) {
    Recipe at_rate = recipe;
    at_rate.sample_rate_hz = rate;
    require_valid(at_rate);
  }
  // A name that ends in a slash is a folder, made when it is not there.
  if (fs::path(make.file).filename().empty()) make_folder(make.file);
  // Every file that cannot be written is found before the first is.
  const bool one = make.rates_hz.empty() && !is_folder(make.file);
  const auto rates = make.rates_hz.empty() ? std::vector{recipe.sample_rate_hz} : make.rates_hz;
  std::vector<fs::path> files;
  for (const double rate : rates) files.emplace_back(one ? make.file : file_for_rate(make, recipe, rate));
  std::vector<fs::path> outputs = files;
  if (!make.save_recipe.empty()) outputs.emplace_back(make.save_recipe);
  for (const fs::path& file : outputs) require_writable(file, inputs);
  require_apart(outputs);
  for (std::size_t i = 0; i < rates.size(); ++i) {
    Recipe at_rate = recipe;
    at_rate.sample_rate_hz = rates[i];
    write_stimulus(at_rate, files[i].string(), make.quiet);
  }
  if (!make.save_recipe.empty()) write_text_file(make.save_recipe, recipe_text(recipe));
  return exit_status::measured;
}

void add_common(CLI::App& app, const std::shared_ptr<Make>& make) {
  app.add_option("-o,--output", make->file,
                 "file to write: .wav, .aiff or .flac; with --rates also a folder");
  app.add_option("--rate", make->recipe.sample_rate_hz, "sample rate in Hz, 8000 to 768000")
      ->capture_default_str();
  app.add_option("--rates", make->rates_hz, "one file per rate, for example 44100,48000,96000")
      ->delimiter(',');
  app.add_option("--channels", make->recipe.channel_count, "number of channels")->capture_default_str();
  app.add_option("--name", make->recipe.name, "kept in the file; files of --rates are called by it");
  app.add_option("--pad", make->recipe.pad_db, "gain over all parts in dB, 0 or below");
  app.add_option("--silence-before", make->recipe.silence_before_s, "seconds before everything");
  app.add_option("--silence-after", make->recipe.silence_after_s, "seconds after everything");
  app.add_option("--save-recipe", make->save_recipe, "also write the recipe as text");
  auto* no_marks =
      app.add_flag("--no-marks", make->no_marks, "leave out the chirps by which a capture is found");
  app.add_flag("--marks", make->marks, "keep them; the default")->excludes(no_marks);
  make->format.add_to(app);
  app.add_flag("--quiet", make->quiet, "print nothing but errors");
}

const char* kind_help(const std::string& kind) {
  if (kind == "tone") return "a steady sine";
  if (kind == "multitone") return "several sines at once";
  if (kind == "two_tone") return "two sines for intermodulation";
  if (kind == "sweep") return "a sine that runs through the frequencies";
  if (kind == "noise") return "white, pink or band noise";
  if (kind == "burst") return "a tone switched on and off";
  if (kind == "staircase") return "a tone at a list of frequencies and levels";
  if (kind == "block") return "a tone that steps low, high, low, for dynamics";
  if (kind == "impulse") return "one sample";
  if (kind == "silence") return "nothing, for noise floors";
  if (kind == "programme") return "made-up speech or music";
  return "as many short tones on each channel as its number";
}

// Makes the oscillators of `make multitone` from its lists.
void fill_oscillators(Multitone& p, const std::vector<double>& frequencies_hz,
                      const std::vector<double>& levels_dbfs) {
  if (levels_dbfs.size() > 1 && levels_dbfs.size() != frequencies_hz.size())
    throw Error(ErrorCode::bad_argument,
                fmt::format("--levels: {} values for {} frequencies; give one, or one for each",
                            levels_dbfs.size(), frequencies_hz.size()));
  for (std::size_t i = 0; i < frequencies_hz.size(); ++i)
    p.oscillators.push_back({.frequency_hz = frequencies_hz[i],
                             .level_dbfs = levels_dbfs.size() == 1 ? levels_dbfs[0] : levels_dbfs[i]});
}

void add_kind(CLI::App& command, const std::string& kind, Action& action) {
  std::string word = kind;
  std::replace(word.begin(), word.end(), '_', '-');
  auto* app = command.add_subcommand(word, kind_help(kind));
  auto make = std::make_shared<Make>();
  make->recipe.parts.push_back({.kind = *kind_from_name(kind)});
  make->recipe.name = word;
  add_common(*app, make);
  PartKind& part = make->recipe.parts[0].kind;
  OptionAdder adder(*app);
  std::visit([&](auto& value) { fields(value, adder); }, part);
  CLI::Option* on_bin = nullptr;
  if (kind == "tone") {
    app->add_option("--fade", make->fade_s, "fade in and out over so many seconds");
    on_bin = app->add_option("--on-bin", make->on_bin_length,
                             "move to the nearest frequency with whole cycles in LENGTH frames (a power of "
                             "two; without LENGTH the "
                             "largest that fits)");
    on_bin->expected(0, 1)->type_name("[LENGTH]");
  }
  auto lists = std::make_shared<std::pair<std::vector<double>, std::vector<double>>>(
      std::vector<double>{83, 167, 331, 661}, std::vector<double>{-20});
  if (kind == "multitone") {
    app->add_option("--frequencies", lists->first, "of the sines, in Hz")
        ->delimiter(',')
        ->capture_default_str();
    app->add_option("--levels", lists->second, "of their peaks in dBFS: one, or one for each")
        ->delimiter(',')
        ->capture_default_str();
  }
  app->callback([make, on_bin, lists, &action] {
    if (make->file.empty()) throw CLI::RequiredError("--output");
    make->on_bin = on_bin != nullptr && on_bin->count() > 0;
    action = [make, lists] {
      if (auto* multitone = std::get_if<Multitone>(&make->recipe.parts[0].kind))
        fill_oscillators(*multitone, lists->first, lists->second);
      return run(*make);
    };
  });
}

}  // namespace

void add_make(CLI::App& app, Action& action) {
  auto* command =
      app.add_subcommand("make", "which signal do I send? writes one, from a recipe or of one kind");
  command->require_subcommand(0, 1);
  auto make = std::make_shared<Make>();
  command->add_option("--recipe", make->recipe_file, "recipe to make (docs/recipes.md)");
  command->add_option("-o,--output", make->file, "file to write; with --rates also a folder");
  command->add_option("--rates", make->rates_hz, "one file per rate, for example 44100,48000,96000")
      ->delimiter(',');
  command->add_flag("--no-marks", make->no_marks, "leave out the chirps by which a capture is found");
  make->format.add_to(*command);
  command->add_flag("--quiet", make->quiet, "print nothing but errors");
  for (const std::string& kind : kind_names()) add_kind(*command, kind, action);
  command->callback([command, make, &action] {
    if (!command->get_subcommands().empty()) return;
    if (make->recipe_file.empty()) throw CLI::RequiredError("A KIND or --recipe");
    if (make->file.empty()) throw CLI::RequiredError("--output");
    action = [make] { return run(*make); };
  });
}

}  // namespace wavicon::cli
