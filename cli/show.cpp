// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <optional>

#include "commands.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/audio/workers.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/intake/recognise.hpp"
#include "wavicon/present/table.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon::cli {
namespace {

constexpr std::size_t kMostRows = 40;  // of parts that were recognised

std::string numbered(const std::vector<int>& channels) {
  std::string text;
  for (const int channel : channels) text += (text.empty() ? "" : ", ") + std::to_string(channel + 1);
  return text;
}

std::string channels_text(const PlacedPart& part, int channel_count) {
  if (static_cast<int>(part.channels.size()) == channel_count) return "all";
  return numbered(part.channels);
}

void print_parts(const Stimulus& stimulus) {
  const double rate = stimulus.recipe().sample_rate_hz;
  auto seconds = [&](std::int64_t frames) {
    return fmt::format("{:.6f}", static_cast<double>(frames) / rate);
  };
  std::vector<std::vector<std::string>> rows = {{"", "from s", "length s", "kind", "name", "channels"}};
  const auto& marks = stimulus.marks();
  if (marks)
    rows.push_back({"", seconds(marks->start_frame), seconds(marks->frames), "mark", "start", "all"});
  for (const PlacedPart& part : stimulus.parts())
    rows.push_back({"", seconds(part.first_frame), seconds(part.frames), part.kind,
                    part.name == part.kind ? "" : part.name,
                    channels_text(part, stimulus.recipe().channel_count)});
  if (marks) rows.push_back({"", seconds(marks->end_frame), seconds(marks->frames), "mark", "end", "all"});
  print("\n" + aligned(rows, {false, true, true}));
}

// What a file that carries no recipe is made of.
std::vector<std::string> row_of(const RecognisedPart& part, double rate) {
  return {"",
          fmt::format("{:.6f}", static_cast<double>(part.first_frame) / rate),
          fmt::format("{:.6f}", static_cast<double>(part.frames) / rate),
          part.certain ? part.kind : part.kind + "?",
          part.stray_db ? fmt::format("{:.0f} dB", *part.stray_db) : "-",
          described(part) + (part.certain ? "" : "; " + part.reason)};
}

std::string answer_of(const Recognition& found) {
  const auto certain =
      std::count_if(found.parts.begin(), found.parts.end(), [](const auto& p) { return p.certain; });
  std::string text = "it carries no recipe; recognised";
  if (found.channel > 0 || !found.other_channels.empty())
    text += fmt::format(" in channel {}", found.channel + 1);
  if (found.parts.size() == 1)
    return text + ": " + described(found.parts.front()) + (certain == 1 ? "" : ", not certain");
  return text + fmt::format(": {} part{}, {} of them certain", found.parts.size(),
                            found.parts.size() == 1 ? "" : "s", certain);
}

void show_recognised(const std::string& file, const std::string& recipe_file, bool all) {
  FileSource source(file, CutOff::accepted);
  const ThreadAllowance allowance(0);
  std::optional<Recognition> found;
  try {
    found = recognise(source);
  } catch (const Error& error) {
    print(fmt::format("it carries no recipe; {}\n", error.what()));
    if (!recipe_file.empty()) throw;
    return;
  }
  print(answer_of(*found) + "\n");
  if (!found->other_channels.empty())
    print(fmt::format("channel{} {} hold{} something else: nothing is measured by what was recognised\n",
                      found->other_channels.size() == 1 ? "" : "s", numbered(found->other_channels),
                      found->other_channels.size() == 1 ? "s" : ""));
  print("\n");
  std::vector<std::vector<std::string>> rows = {{"", "from s", "length s", "kind", "strays", "what"}};
  const std::size_t shown = all ? found->parts.size() : std::min(kMostRows, found->parts.size());
  for (std::size_t i = 0; i < shown; ++i) rows.push_back(row_of(found->parts[i], found->sample_rate_hz));
  print(aligned_within(rows, {false, true, true, false, true}, terminal_columns()));
  if (shown < found->parts.size())
    print(fmt::format("and {} more; --all shows them\n", found->parts.size() - shown));
  if (recipe_file.empty()) return;
  const auto made = recipe_of(*found, source.channel_count());
  if (!made)
    throw Error(ErrorCode::bad_input, file + ": nothing in it is certain enough to be written as a recipe");
  write_text_file(recipe_file, recipe_text(made->recipe));
  print(fmt::format("\n{}: {} part{} written\n", recipe_file, made->recipe.parts.size(),
                    made->recipe.parts.size() == 1 ? "" : "s"));
  for (const std::string& line : made->left_out) print("not as it was: " + line + "\n");
}

struct Shown {
  std::string file, recipe;
  bool all = false;
};

int run(const Shown& shown) {
  const std::string& file = shown.file;
  if (!shown.recipe.empty()) {
    require_writable(shown.recipe);
    require_apart({file, shown.recipe});
  }
  const AudioReader reader(file, CutOff::accepted);
  const AudioFileInfo& info = reader.info();
  print(fmt::format("{}: {}, {}, {:g} Hz, {} channel{}, {} frames ({:.6g} s)\n", file, info.container,
                    capture_info(info).format, info.sample_rate_hz, info.channel_count,
                    info.channel_count == 1 ? "" : "s", info.frames,
                    static_cast<double>(info.frames) / info.sample_rate_hz));
  if (!info.cut_off.empty()) print(fmt::format("it is cut off: {}\n", info.cut_off));
  if (!info.broken_chunk.empty()) print(fmt::format("warning: {}\n", info.broken_chunk));
  if (info.reported_samples)
    print(fmt::format("what recorded it reported {} samples of latency, which are in it\n",
                      *info.reported_samples));
  if (info.recipe.empty()) {
    show_recognised(file, shown.recipe, shown.all);
    for (const CueMark& cue : info.cues)
      print(fmt::format("  cue at {:.6f} s  {}\n", static_cast<double>(cue.frame) / info.sample_rate_hz,
                        printable(cue.name)));
    return exit_status::measured;
  }
  const Recipe recipe = parse_recipe(info.recipe, file + " (the recipe inside)");
  print(fmt::format("it carries the recipe{}\n",
                    recipe.name.empty() ? "" : " '" + printable(recipe.name) + "'"));
  print_parts(Stimulus(recipe));
  if (!shown.recipe.empty()) {
    write_text_file(shown.recipe, info.recipe);
    print(fmt::format("\n{}: the recipe inside is written\n", shown.recipe));
    return exit_status::measured;
  }
  print(shown.all ? "\nThe recipe inside:\n\n" + info.recipe
                  : "\n  --all shows the recipe inside, --save-recipe FILE writes it\n");
  return exit_status::measured;
}

}  // namespace

void add_show(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand(
      "show", "what does this file hold? recipe, parts and marks, or what is recognised in it");
  auto shown = std::make_shared<Shown>();
  command->add_option("FILE", shown->file, "audio file")->required();
  command->add_option("--save-recipe", shown->recipe, "the recipe inside, or one of what was recognised");
  command->add_flag("--all", shown->all, "every part, however many there are, and the recipe inside");
  command->callback([shown, &action] { action = [shown] { return run(*shown); }; });
}

}  // namespace wavicon::cli
