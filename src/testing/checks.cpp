// SPDX-License-Identifier: MIT
#include "wavicon/testing/checks.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <fstream>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/present/plot.hpp"
#include "wavicon/present/table.hpp"
#include "wavicon/sheet/limit.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {
namespace {

namespace fs = std::filesystem;

constexpr double kSilentDbfs = -120;
constexpr double kNoiseS = 2, kToneS = 2, kSweepS = 4;
constexpr double kHighestShare = 0.45;  // of the rate, of a sweep

Recipe recipe_of(PartKind kind) {
  Recipe recipe;
  recipe.bits = 32;
  recipe.marks = false;
  recipe.parts = {{.kind = std::move(kind)}};
  return recipe;
}

Recipe tone_of(const CheckOptions& options) {
  return recipe_of(
      Tone{.frequency_hz = options.frequency_hz, .level_dbfs = options.level_dbfs, .seconds = kToneS});
}
Recipe sweep_of(const Processor& processor, const CheckOptions& options) {
  return recipe_of(Sweep{.from_hz = 20,
                         .to_hz = kHighestShare * processor.sample_rate_hz(),
                         .seconds = kSweepS,
                         .level_dbfs = options.level_dbfs});
}
Recipe noise_of(const CheckOptions& options) {
  return recipe_of(Noise{.level_dbfs = options.level_dbfs - 12, .seconds = kNoiseS});
}

Audio rendered(const Recipe& recipe, const Processor& processor) {
  Recipe own = recipe;
  own.sample_rate_hz = processor.sample_rate_hz();
  own.channel_count = processor.channel_count();
  Stimulus stimulus(own);
  Audio audio(own.sample_rate_hz, own.channel_count, stimulus.frames());
  for (int c = 0; c < own.channel_count; ++c) stimulus.render(0, c, audio.channel(c));
  return audio;
}

// The answer, and the reading with what is known of it.
std::string told(const Sheet& sheet, const Reading* reading) {
  std::string text = "\n  ";
  for (const Finding& finding : sheet.findings)
    if (finding.code == FindingCode::result) {
      text += finding.text;
      break;
    }
  if (reading == nullptr) return text;
  text += fmt::format("\n  {} {} {}", reading->name, value_text(*reading), reading->unit);
  if (reading->uncertainty) text += fmt::format(" ±{:.2g}", *reading->uncertainty);
  if (reading->floor) text += fmt::format(", floor {:.4g} {}", *reading->floor, reading->unit);
  return text;
}

// Only where it is wanted, and never instead of the answer.
std::string picture(const std::vector<Sheet>& sheets, const Processor& processor,
                    const CheckOptions& options) {
  if (options.pictures.empty() || sheets.empty()) return {};
  const MeasurementDescriptor* of = find_measurement(measurements(), sheets.front().measurement);
  if (of == nullptr || of->pictures.empty()) return {};
  try {
    std::string name;
    for (const char c : processor.name() + "-" + of->name)
      name += (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ? c : '-';
    fs::create_directories(options.pictures);
    const fs::path file = fs::path(options.pictures) / (name + ".svg");
    const std::string svg = draw_picture(sheets, of->make()->picture(sheets, of->pictures.front().word),
                                         {.format = PlotFormat::svg});
    std::ofstream stream(file, std::ios::binary);
    stream << svg;
    stream.close();
    return stream ? "\n  picture: " + file.string() : "";
  } catch (const std::exception& error) {
    return fmt::format("\n  no picture: {}", error.what());
  }
}

CheckOutcome limited(const std::string& measurement, const JudgedCapture& capture, const std::string& limit,
                     const Processor& processor, const CheckOptions& options) {
  const std::vector<Sheet> sheets = measure_by_name(measurement, capture);
  const Limit parsed = parse_limit(limit);
  CheckOutcome outcome{true, ""};
  bool any = false;
  for (const Sheet& sheet : sheets)
    for (const LimitResult& result : check_limit(parsed, sheet)) {
      any = true;
      const Reading* reading = find_reading(sheet, parsed.name, result.channel);
      if (result.outcome != LimitResult::Outcome::kept || outcome.text.empty())
        outcome.text = told(sheet, reading);
      if (result.outcome == LimitResult::Outcome::kept) continue;
      outcome.kept = false;
      outcome.text += fmt::format("\n  asked: {}", limit);
    }
  if (!any) return {false, fmt::format("\n  {} gives no {}", measurement, parsed.name)};
  if (!outcome.kept) outcome.text += picture(sheets, processor, options);
  return outcome;
}

// The first frame at which two signals differ.
std::string first_difference(const Audio& a, const Audio& b) {
  for (int c = 0; c < a.channel_count(); ++c)
    for (std::int64_t n = 0; n < a.frames(); ++n) {
      const double x = a.channel(c)[static_cast<std::size_t>(n)],
                   y = b.channel(c)[static_cast<std::size_t>(n)];
      if (x != y && !(std::isnan(x) && std::isnan(y)))
        return fmt::format("channel {}, frame {}: {:.9g} and {:.9g}", c + 1, n, x, y);
    }
  return {};
}

}  // namespace

CheckOutcome folds_back_below(const Processor& processor, double limit_dbc, const CheckOptions& options) {
  return limited("aliasing", feed(sweep_of(processor, options), processor, {.hold_faults = true}),
                 fmt::format("worst_alias_dbc<{}", limit_dbc), processor, options);
}

CheckOutcome has_latency(const Processor& processor, double samples, double within,
                         const CheckOptions& options) {
  Processor silent_about_it = processor;
  silent_about_it.with_latency(0);
  const auto sheets =
      measure_by_name("latency", feed(noise_of(options), silent_about_it, {.hold_faults = true}));
  const Reading* reading = find_reading(sheets.at(0), "latency_samples", std::nullopt);
  for (int c = 0; reading == nullptr && c < processor.channel_count(); ++c)
    reading = find_reading(sheets.at(0), "latency_samples", c);
  CheckOutcome outcome{reading != nullptr && reading->value && std::abs(*reading->value - samples) <= within,
                       told(sheets.at(0), reading)};
  if (!outcome.kept)
    outcome.text +=
        fmt::format("\n  asked: {} samples within {}", samples, within) + picture(sheets, processor, options);
  return outcome;
}

CheckOutcome nulls_with(const Processor& processor, const Processor& other, double below_db,
                        const CheckOptions& options) {
  const Audio in = rendered(noise_of(options), processor);
  const Audio a = processed(processor, in), b = processed(other, in);
  double left = 0, whole = 0;
  for (int c = 0; c < in.channel_count(); ++c)
    for (std::size_t n = 0; n < a.channel(c).size(); ++n) {
      left += (a.channel(c)[n] - b.channel(c)[n]) * (a.channel(c)[n] - b.channel(c)[n]);
      whole += a.channel(c)[n] * a.channel(c)[n];
    }
  if (left == 0) return {true, "\n  every sample is the same"};
  if (!(whole > 0) || !std::isfinite(left)) return {false, "\n  one of them is silent, or not finite"};
  const double depth = db_from_power_ratio(left / whole);
  return {depth < below_db,
          fmt::format("\n  the residual is {:.2f} dB against the first; asked: below {} dB; first at {}",
                      depth, below_db, first_difference(a, b))};
}

CheckOutcome same_whatever_the_block_size(const Processor& processor, const CheckOptions& options) {
  const Audio in = rendered(noise_of(options), processor), first = processed(processor, in, 256);
  for (const int block : {1, 17, 64, 512, 4096})
    if (const std::string at = first_difference(first, processed(processor, in, block)); !at.empty())
      return {false, fmt::format("\n  in blocks of 256 and of {} frames it differs, first at {}", block, at)};
  return {true, "\n  the same in blocks of 1 to 4096 frames"};
}

CheckOutcome same_every_time(const Processor& processor, const CheckOptions& options) {
  const Audio in = rendered(noise_of(options), processor);
  const std::string at = first_difference(processed(processor, in), processed(processor, in));
  return at.empty() ? CheckOutcome{true, "\n  the same twice"}
                    : CheckOutcome{false, "\n  two runs differ, first at " + at};
}

CheckOutcome keeps_silence(const Processor& processor) {
  const Audio in(processor.sample_rate_hz(), processor.channel_count(),
                 static_cast<std::int64_t>(processor.sample_rate_hz()));
  const Audio out = processed(processor, in);
  double most = 0;
  for (int c = 0; c < out.channel_count(); ++c)
    for (const double v : out.channel(c)) most = std::isfinite(v) ? std::max(most, std::abs(v)) : 1e300;
  return {most <= ratio_from_db(kSilentDbfs),
          most == 0 ? std::string("\n  nothing comes out")
                    : fmt::format("\n  {:.1f} dBFS come out of nothing; asked: below {} dBFS",
                                  db_from_ratio(most), kSilentDbfs)};
}

CheckOutcome has_response(const Processor& processor, const std::vector<std::pair<double, double>>& curve,
                          double within_db, const CheckOptions& options) {
  const auto sheets =
      measure_by_name("response", feed(sweep_of(processor, options), processor, {.hold_faults = true}));
  const Sheet& sheet = sheets.at(0);
  const Curve* gain = nullptr;
  for (const Curve& one : sheet.curves)
    if (one.name == "magnitude") gain = &one;
  if (gain == nullptr || gain->x.size() < 2)
    return {false, told(sheet, nullptr) + "\n  no response was read"};
  CheckOutcome outcome{true, told(sheet, nullptr)};
  for (const auto& [hz, db] : curve) {
    const auto above = std::upper_bound(gain->x.begin(), gain->x.end(), hz);
    if (above == gain->x.begin() || above == gain->x.end()) {
      outcome.kept = false;
      outcome.text += fmt::format("\n  {} Hz lies beyond what was played", hz);
      continue;
    }
    const auto i = static_cast<std::size_t>(above - gain->x.begin());
    const double share = std::log(hz / gain->x[i - 1]) / std::log(gain->x[i] / gain->x[i - 1]);
    const double read = gain->y[i - 1] + share * (gain->y[i] - gain->y[i - 1]);
    if (std::abs(read - db) <= within_db) continue;
    outcome.kept = false;
    outcome.text += fmt::format("\n  {:.3f} dB at {} Hz; asked: {} within {}", read, hz, db, within_db);
  }
  if (!outcome.kept) outcome.text += picture(sheets, processor, options);
  return outcome;
}

CheckOutcome keeps_limit(const Processor& processor, const std::string& limit, const CheckOptions& options) {
  const std::string name = parse_limit(limit).name;
  const auto gives = [&](const char* measurement) {
    const auto names = reading_names(*find_measurement(measurements(), measurement));
    return std::any_of(names.begin(), names.end(), [&](const std::string& pattern) {
      ReadingTable table;
      table.entries.push_back({.name = pattern});
      return find_entry(table, name) != nullptr;
    });
  };
  for (const char* measurement : {"harmonics", "levels", "noise", "spectrum"})
    if (gives(measurement))
      return limited(measurement, feed(tone_of(options), processor, {.hold_faults = true}), limit, processor,
                     options);
  for (const char* measurement : {"aliasing", "response"})
    if (gives(measurement))
      return limited(measurement, feed(sweep_of(processor, options), processor, {.hold_faults = true}), limit,
                     processor, options);
  throw Error(
      ErrorCode::bad_argument,
      fmt::format("'{}' is no reading of harmonics, levels, noise, spectrum, aliasing or response: feed() a "
                  "recipe and measure_by_name()",
                  name));
}

}  // namespace wavicon
