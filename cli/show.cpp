// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <memory>

#include "commands.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/present/table.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon::cli {
namespace {

std::string channels_text(const PlacedPart& part, int channel_count) {
  if (static_cast<int>(part.channels.size()) == channel_count) return "all";
  std::string text;
  for (const int channel : part.channels) text += (text.empty() ? "" : ", ") + std::to_string(channel + 1);
  return text;
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

int run(const std::string& file) {
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
    print("it carries no recipe\n");
    for (const CueMark& cue : info.cues)
      print(fmt::format("  cue at {:.6f} s  {}\n", static_cast<double>(cue.frame) / info.sample_rate_hz,
                        printable(cue.name)));
    return exit_status::measured;
  }
  const Recipe recipe = parse_recipe(info.recipe, file + " (the recipe inside)");
  print_parts(Stimulus(recipe));
  print("\nThe recipe inside:\n\n" + info.recipe);
  return exit_status::measured;
}

}  // namespace

void add_show(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand("show", "what a file holds: format, recipe, parts, marks");
  auto file = std::make_shared<std::string>();
  command->add_option("FILE", *file, "audio file")->required();
  command->callback([file, &action] { action = [file] { return run(*file); }; });
}

}  // namespace wavicon::cli
