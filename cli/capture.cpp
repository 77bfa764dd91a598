#include "capture.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <utility>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"

namespace wavicon::cli {

void IntakeOptions::add_to(CLI::App& app, const char* part_help) {
  app.add_option("--stimulus", stimulus,
                 "what was played: its file, or its recipe (default: the recipe inside the capture)");
  if (part_help != nullptr) app.add_option("--part", part, part_help);
  app.add_flag("--despite-faults", despite_faults,
               "measure a capture that is unfit; stands in the conditions");
}

double Capture::seconds_of(double stimulus_frame) const {
  return (take->first_frame + stimulus_frame * take->frames_per_frame) / source->sample_rate_hz();
}

Capture open_capture(const std::string& path, const IntakeOptions& options) {
  Capture capture;
  capture.source = std::make_unique<FileSource>(path);
  const AudioFileInfo& info = capture.source->info();
  capture.stimulus = stimulus_of(options.stimulus, info);
  const bool marked = capture.stimulus && capture.stimulus->marks();
  const HealthResult health = check_health(*capture.source, marked ? capture.stimulus.get() : nullptr,
                                           {.format = info.format, .spectra = false});
  const bool broken = std::any_of(health.channels.begin(), health.channels.end(),
                                  [](const auto& c) { return c.broken_frame.has_value(); });
  capture.broken = broken;
  if (broken) return capture;  // the measurement names channel and frame
  for (const Finding& finding : health_sheet(health, capture_info(info)).findings) {
    if (finding.severity == Severity::fault && !options.despite_faults)
      throw Error(ErrorCode::bad_input,
                  "unfit to be measured: " + finding.text + "; --despite-faults measures it all the same");
    // DC has a sentence of its own among the measurements' findings.
    const bool told = finding.text.rfind("DC offset", 0) == 0;
    if (finding.severity != Severity::note && !told) capture.findings.push_back(finding);
  }
  if (options.despite_faults) capture.conditions.emplace_back("despite_faults", true);
  if (health.best) capture.take = health.takes[*health.best];
  return capture;
}

Capture open_played(const std::string& path, const IntakeOptions& options) {
  Capture a = open_capture(path, options);
  if (!a.stimulus || !a.stimulus->marks() || !a.take)
    throw Error(
        ErrorCode::bad_input,
        fmt::format("{}: it is no stimulus with marks, nor a capture of one: make it with 'wavicon make "
                    "staircase --marks' or from a recipe, or name its recipe by --stimulus",
                    path));
  return a;
}

Capture open_answer(const std::string& path, const std::string& played, IntakeOptions options) {
  if (options.stimulus.empty()) options.stimulus = played;
  Capture b = open_capture(path, options);
  if (b.broken)
    throw Error(ErrorCode::bad_input, "holds a value that is no number; 'wavicon health' names the place");
  if (!b.take)
    throw Error(
        ErrorCode::bad_input,
        fmt::format("the marks of {} are not found in it: what is measured has to know where each part lies",
                    played));
  return b;
}

StretchS stretch_of(Capture& capture, const SheetOptions& sheet, const std::string& part) {
  if (sheet.from_s != 0 || sheet.to_s) return {sheet.from_s, sheet.to_s};
  if (!capture.take) {
    if (!part.empty())
      throw Error(ErrorCode::bad_argument,
                  "--part needs a stimulus that was found in the capture; give --stimulus");
    return {};
  }
  const auto& parts = capture.stimulus->parts();
  double first = static_cast<double>(parts[0].first_frame), end = 0;
  std::vector<std::string> names;
  bool found = part.empty();
  for (const PlacedPart& placed : parts) {
    names.push_back(placed.name);
    if (part.empty()) end = std::max(end, static_cast<double>(placed.first_frame + placed.frames));
    if (found || placed.name != part) continue;
    found = true;
    first = static_cast<double>(placed.first_frame);
    end = first + static_cast<double>(placed.frames);
  }
  if (!found)
    throw Error(ErrorCode::bad_argument,
                fmt::format("the stimulus has no part '{}'{}", part, name_hint(part, names)));
  const std::string what =
      !part.empty() || parts.size() == 1 ? (part.empty() ? parts[0].name : part) : "all parts";
  capture.conditions.emplace_back("part", what);
  return {std::max(0.0, capture.seconds_of(first)), capture.seconds_of(end)};
}

std::optional<RepeatingStretch> repeating_part(const Capture& capture, const SheetOptions& sheet,
                                               const std::string& part) {
  if (sheet.from_s != 0 || sheet.to_s || !capture.take) return std::nullopt;
  const auto& parts = capture.stimulus->parts();
  for (std::size_t i = 0; i < parts.size(); ++i)
    if (parts.size() == 1 || (!part.empty() && parts[i].name == part))
      return repeating_stretch(*capture.stimulus, i, *capture.take, capture.source->sample_rate_hz());
  return std::nullopt;
}

void require_channel(const SheetOptions& sheet, int channel_count) {
  if (sheet.channel && *sheet.channel > channel_count)
    throw Error(ErrorCode::bad_argument,
                fmt::format("there is no channel {}, it has {}", *sheet.channel, channel_count));
}

void keep_channel(Sheet& sheet, const std::optional<int>& channel) {
  if (!channel) return;
  auto other = [&](const auto& item) { return item.channel && *item.channel != *channel - 1; };
  std::erase_if(sheet.readings, other);
  std::erase_if(sheet.curves, other);
  std::erase_if(sheet.findings, other);
}

void finish(Sheet& sheet, const Capture& capture) {
  for (Reading& reading : sheet.readings)
    reading.conditions.insert(reading.conditions.end(), capture.conditions.begin(), capture.conditions.end());
  sheet.findings.insert(sheet.findings.end(), capture.findings.begin(), capture.findings.end());
}

namespace {

// For --verbose: what a file is, on standard error.
void tell_file(const std::string& path) {
  const AudioFileInfo info = AudioReader(path).info();
  fmt::print(stderr, "wavicon: {}: {}, {}, {:g} Hz, {} channel{}, {:.3f} s", path, info.container,
             name_of(info.format), info.sample_rate_hz, info.channel_count,
             info.channel_count == 1 ? "" : "s", static_cast<double>(info.frames) / info.sample_rate_hz);
  if (!info.recipe.empty()) {
    const Recipe recipe = parse_recipe(info.recipe, path + " (the recipe inside)");
    fmt::print(stderr, "; carries the recipe '{}': {} part{}{}", recipe.name, recipe.parts.size(),
               recipe.parts.size() == 1 ? "" : "s", recipe.marks ? " between marks" : ", no marks");
  }
  fmt::print(stderr, "\n");
}

}  // namespace

std::vector<Sheet> measure_each(const SheetOptions& options,
                                const std::function<Sheet(const std::string&)>& measure) {
  std::vector<Sheet> sheets;
  bool reference = options.against;
  for (const std::string& path : options.captures) {
    try {
      if (options.verbose) tell_file(path);
      if (std::exchange(reference, false)) continue;
      const auto start = std::chrono::steady_clock::now();
      sheets.push_back(measure(path));
      if (options.verbose)
        fmt::print(stderr, "wavicon: {}: {} measured in {:.2f} s: {} readings, {} curves\n", path,
                   sheets.back().measurement,
                   std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count(),
                   sheets.back().readings.size(), sheets.back().curves.size());
    } catch (const Error& error) {
      const std::string text = error.what();
      throw Error(error.code(), text.rfind(path + ":", 0) == 0 ? text : path + ": " + text);
    }
  }
  return sheets;
}

}  // namespace wavicon::cli
