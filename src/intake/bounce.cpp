// SPDX-License-Identifier: MIT
#include "wavicon/intake/bounce.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <vector>

#include "bounce_tempo.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/fractional.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

using intake_detail::tempo_ratio_of;

constexpr double kGainDb = 0.05;  // that counts as a change
constexpr double kFadeWindowS = 0.004;
constexpr std::size_t kLeastWindows = 8;  // of a mark
constexpr double kShapedDb = 0.2;
constexpr double kAlikeShare = 0.2;       // of the range, between the two marks
constexpr double kLeastMarkPower = 2e-4;  // mean square; a mark has 5e-3 in its middle
constexpr double kFaded = 0.97;           // of the full gain
constexpr double kDeepest = 0.03;         // below, a window says too little
constexpr double kRoundDb = 0.02;         // beside a round level
constexpr double kHighPeakDb = -3.05;     // normalising aims at the top
constexpr double kDitherLeast = 0.15;     // of a step, RMS, in what was silent
constexpr double kDitherMost = 1.5;       // of a step, RMS: more is sound, not dither

struct Named {
  double db;
  const char* what;
};
constexpr Named kNamed[] = {
    {-2.5, "a pan law of -2.5 dB"},      {-3.01, "a pan law of -3 dB"},
    {-4.5, "a pan law of -4.5 dB"},      {-6.02, "a pan law of -6 dB, or a sum halved"},
    {3.01, "a pan law of -3 dB undone"}, {6.02, "two copies added up"}};

// Gain of the bounce in windows along a stretch of the stimulus, by what both hold; none where the stimulus
// is silent.
struct WindowGain {
  double at = 0;  // of the middle, in frames of the bounce
  double gain = 0;
};

std::int64_t window_frames(const Stimulus& stimulus) {
  return std::max<std::int64_t>(32, std::llround(kFadeWindowS * stimulus.recipe().sample_rate_hz));
}

std::vector<WindowGain> gains_along(AudioSource& bounce, Stimulus& stimulus, const Take& take,
                                    std::int64_t first, std::int64_t frames) {
  const std::int64_t window = window_frames(stimulus);
  const FractionalReader reader;
  Alignment alignment;
  alignment.delay_frames = take.first_frame;
  alignment.frames_per_frame = take.frames_per_frame;
  std::vector<double> x(static_cast<std::size_t>(frames)), y(x.size());
  stimulus.render(first, 0, x);
  read_aligned(bounce, take.channel, alignment, first, reader, y);
  std::vector<WindowGain> gains;
  for (std::int64_t at = 0; at + window <= frames; at += window) {
    double xx = 0, yy = 0;
    for (std::int64_t n = at; n < at + window; ++n) {
      xx += x[static_cast<std::size_t>(n)] * x[static_cast<std::size_t>(n)];
      yy += y[static_cast<std::size_t>(n)] * y[static_cast<std::size_t>(n)];
    }
    // The edges of a mark are soft: what rings on there says nothing of a gain.
    if (xx < kLeastMarkPower * static_cast<double>(window)) continue;
    const double middle = static_cast<double>(first + at) + 0.5 * static_cast<double>(window - 1);
    gains.push_back({take.first_frame + middle * take.frames_per_frame, std::sqrt(yy / xx)});
  }
  return gains;
}

struct Fade {
  std::int64_t frames = 0;
  const char* shape = "";
};

// @param from_edge  gains by their distance in frames from the end of the file at which the fade begins.
Fade fade_of(const std::vector<std::pair<double, double>>& from_edge) {
  constexpr std::array<const char*, 3> kShapes = {"linear", "raised cosine", "quarter sine"};
  Fade best;
  double least = 1e300;
  for (std::size_t shape = 0; shape < kShapes.size(); ++shape) {
    double sum = 0, squares = 0, count = 0;
    for (const auto& [distance, share] : from_edge) {
      if (share < kDeepest || share > kFaded || distance <= 0) continue;
      const double part = shape == 0   ? share
                          : shape == 1 ? std::acos(1 - 2 * share) / std::numbers::pi
                                       : std::asin(share) / (std::numbers::pi / 2);
      const double length = distance / part;
      sum += length;
      squares += length * length;
      count += 1;
    }
    if (count < 2) continue;
    const double mean = sum / count, spread = std::sqrt(std::max(0.0, squares / count - mean * mean)) / mean;
    if (spread < least) {
      least = spread;
      best = {std::llround(mean), kShapes[shape]};
    }
  }
  return best;
}

// Highest gain that a good part of the windows reach: what the fade does not touch.
double full_gain(std::vector<WindowGain> gains) {
  if (gains.empty()) return 0;
  std::sort(gains.begin(), gains.end(), [](const auto& a, const auto& b) { return a.gain < b.gain; });
  return gains[gains.size() * 4 / 5].gain;
}

// By how much an equaliser in the path shapes the marks. The last mark is the first one backwards, so what
// goes by frequency is the same in both; fades would have to begin at the same distance from both. 0 for
// none.
double shaped_db(const std::vector<WindowGain>& start, const std::vector<WindowGain>& end) {
  if (start.size() != end.size() || start.size() < kLeastWindows) return 0;
  double low = 1e300, high = 0, unlike_db = 0;
  for (std::size_t i = 0; i < start.size(); ++i) {
    const double p = start[i].gain, q = end[end.size() - 1 - i].gain;
    if (!(p > 0 && q > 0)) return 0;
    low = std::min({low, p, q});
    high = std::max({high, p, q});
    unlike_db = std::max(unlike_db, std::abs(db_from_ratio(p / q)));
  }
  const double range_db = db_from_ratio(high / low);
  return range_db > kShapedDb && unlike_db < kAlikeShare * range_db ? range_db : 0;
}

void find_fades(AudioSource& source, Stimulus& stimulus, const Take& take, Bounce& out) {
  const PlacedMarks& marks = *stimulus.marks();
  // Windows that lie alike in both, counted from their outer ends.
  const std::int64_t whole_windows = marks.frames / window_frames(stimulus) * window_frames(stimulus);
  const auto start = gains_along(source, stimulus, take, marks.start_frame, whole_windows),
             end = gains_along(source, stimulus, take, marks.end_frame + marks.frames - whole_windows,
                               whole_windows);
  const double full = std::max(full_gain(start), full_gain(end));
  if (!(full > 0)) return;
  const auto look = [&](const std::vector<WindowGain>& gains, bool at_start) {
    std::vector<std::pair<double, double>> from_edge;
    for (const WindowGain& g : gains) {
      const double distance = at_start ? g.at : static_cast<double>(source.frames()) - 1 - g.at;
      from_edge.emplace_back(distance, std::min(1.0, g.gain / full));
    }
    return fade_of(from_edge);
  };
  out.shaped_db = take.start && take.end ? shaped_db(start, end) : 0;
  if (take.start && out.shaped_db == 0) {
    const Fade fade = look(start, true);
    out.fade_in_frames = fade.frames;
    out.fade_shape = fade.shape;
  }
  if (take.end && out.shaped_db == 0) {
    const Fade fade = look(end, false);
    out.fade_out_frames = fade.frames;
    if (out.fade_shape.empty()) out.fade_shape = fade.shape;
  }
  // A mark that is faded or cut reads as too little gain: what is whole counts.
  std::vector<double> whole;
  for (const auto* gains : {&start, &end})
    for (const WindowGain& g : *gains)
      if (g.gain > kFaded * full) whole.push_back(g.gain);
  std::nth_element(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(whole.size() / 2), whole.end());
  out.gain_db = db_from_ratio(whole[whole.size() / 2]);
}

// Noise where the stimulus is silent, between the first mark and what follows it, in steps of the word
// length.
std::optional<bool> dither_of(AudioSource& source, Stimulus& stimulus, const Take& take, int bits) {
  const PlacedMarks& marks = *stimulus.marks();
  const std::int64_t gap = marks.start_frame + marks.frames, length = stimulus.parts()[0].first_frame - gap;
  if (length < 64) return std::nullopt;
  std::vector<double> silent(static_cast<std::size_t>(length));
  stimulus.render(gap, 0, silent);
  if (std::any_of(silent.begin(), silent.end(), [](double v) { return v != 0; })) return std::nullopt;
  const auto first = static_cast<std::int64_t>(
                 std::ceil(take.first_frame + static_cast<double>(gap + length / 8) * take.frames_per_frame)),
             frames = length * 3 / 4;
  const auto y = read_channel(source, take.channel, first, frames);
  double power = 0;
  for (const double v : y) power += v * v / static_cast<double>(frames);
  const double steps = std::sqrt(power) * std::exp2(bits - 1);
  return steps > kDitherLeast && steps < kDitherMost;
}

}  // namespace

Bounce examine_bounce(const JudgedCapture& bounce) {
  AudioSource& source = *bounce.source_;
  Stimulus& stimulus = bounce.stimulus();
  const HealthResult& health = bounce.health();
  if (!health.best || !stimulus.marks())
    throw Error(ErrorCode::bad_input, "the stimulus is not found in it: neither of its marks");
  const Take& take = health.takes[*health.best];
  Bounce out;
  out.gain_db = take.gain_db;
  out.polarity = take.polarity;
  out.rate_ratio = take.rate_ratio;
  out.drift_ppm = take.drift_ppm;
  out.place_frames = take.first_frame;
  out.lead_frames = std::llround(take.first_frame);
  out.tail_frames = source.frames() - std::llround(take.first_frame + static_cast<double>(stimulus.frames()) *
                                                                          take.frames_per_frame);
  out.delayed = out.lead_frames > 0 && std::abs(out.tail_frames + out.lead_frames) <= 1;
  out.channels = source.channel_count();
  out.stimulus_channels = stimulus.recipe().channel_count;
  out.copied = out.stimulus_channels == 1 && out.channels > 1 && health.same_on_all_channels;
  const ChannelHealth& channel = health.channels[static_cast<std::size_t>(take.channel)];
  out.one_side = out.stimulus_channels == 1 && out.channels > 1 && !out.copied &&
                 std::count_if(health.channels.begin(), health.channels.end(),
                               [](const auto& c) { return !c.silent; }) == 1;
  out.used_bits = channel.used_bits;
  if (out.used_bits > 0 && out.used_bits < stimulus.recipe().bits)
    out.dithered = dither_of(source, stimulus, take, out.used_bits);
  out.tempo_ratio = tempo_ratio_of(source, stimulus, take).value_or(1);
  // Grains put together anew rise and fall by themselves.
  if (out.tempo_ratio == 1) find_fades(source, stimulus, take, out);
  for (const Named& named : kNamed)
    if (std::abs(out.gain_db - named.db) < kGainDb) out.gain_like = named.what;
  double peak = 0;
  for (const ChannelHealth& c : health.channels) peak = std::max(peak, c.peak);
  out.peak_dbfs = peak > 0 ? db_from_ratio(peak) : 0;
  const double tenth = 10 * out.peak_dbfs;
  out.normalised = peak > 0 && out.gain_like.empty() && std::abs(out.gain_db) > 0.1 &&
                   out.peak_dbfs > kHighPeakDb && std::abs(tenth - std::round(tenth)) < 10 * kRoundDb / 2;
  return out;
}

namespace {

// What was done to a whole file has no channel.
void say(SheetBuilder& sheet, FindingCode code, std::string text, Severity severity = Severity::note) {
  sheet.say(severity, code, std::move(text), std::nullopt);
}

void say_gain(SheetBuilder& sheet, const Bounce& b) {
  if (b.normalised)
    say(sheet, FindingCode::gain_changed,
        fmt::format("normalised: its peak is at {:.1f} dBFS, by a gain of {:+.2f} dB; switch that off",
                    b.peak_dbfs, b.gain_db),
        Severity::warning);
  else if (std::abs(b.gain_db) > kGainDb)
    say(sheet, FindingCode::gain_changed,
        fmt::format("a gain of {:+.2f} dB{}", b.gain_db, b.gain_like.empty() ? "" : ", as of " + b.gain_like),
        Severity::warning);
  if (b.polarity < 0) say(sheet, FindingCode::polarity_inverted, "the polarity is turned", Severity::warning);
}

void say_place(SheetBuilder& sheet, const Bounce& b) {
  if (b.delayed) {
    say(sheet, FindingCode::moved,
        fmt::format("{} frames late in a file as long as the stimulus: a plugin's delay is not made up for, "
                    "or the region starts late",
                    b.lead_frames),
        Severity::warning);
  } else {
    if (b.lead_frames > 0)
      say(sheet, FindingCode::moved, fmt::format("{} frames were put before it", b.lead_frames));
    if (b.tail_frames > 0)
      say(sheet, FindingCode::moved, fmt::format("{} frames were put behind it", b.tail_frames));
    if (b.lead_frames < 0)
      say(sheet, FindingCode::trimmed, fmt::format("its first {} frames were cut off", -b.lead_frames),
          Severity::warning);
    if (b.tail_frames < 0)
      say(sheet, FindingCode::trimmed, fmt::format("its last {} frames were cut off", -b.tail_frames),
          Severity::warning);
  }
}

void say_shape(SheetBuilder& sheet, const Bounce& b) {
  if (b.shaped_db > 0)
    say(sheet, FindingCode::path_shapes_marks,
        fmt::format("what is in the path shapes the marks by {:.1f} dB between 400 Hz and 5 kHz: gain, "
                    "polarity and a few samples of delay can be its doing, and fades cannot be told",
                    b.shaped_db));
  if (b.fade_in_frames > 0)
    say(sheet, FindingCode::faded,
        fmt::format("faded in over about {} frames ({})", b.fade_in_frames, b.fade_shape), Severity::warning);
  if (b.fade_out_frames > 0)
    say(sheet, FindingCode::faded, fmt::format("faded out over about {} frames", b.fade_out_frames),
        Severity::warning);
  if (b.dithered)
    say(sheet, FindingCode::word_length_changed,
        fmt::format("shortened to {} bits, {}", b.used_bits, *b.dithered ? "with dither" : "without dither"),
        *b.dithered ? Severity::note : Severity::warning);
}

void say_time(SheetBuilder& sheet, const Bounce& b) {
  if (b.rate_ratio != 1)
    say(sheet, FindingCode::wrong_rate,
        fmt::format("it plays at {:.4f} times its speed: a wrong sample rate in the session", b.rate_ratio),
        Severity::warning);
  if (b.tempo_ratio != 1)
    say(sheet, FindingCode::tempo_changed,
        fmt::format("stretched in time to about {:.2f} % with its pitch kept: switch time stretching "
                    "(following the tempo) "
                    "off and export again; its parts are not measured",
                    100 * b.tempo_ratio),
        Severity::warning);
  if (std::abs(b.drift_ppm) > 1)
    say(sheet, FindingCode::clock_drift, fmt::format("stretched by {:+.1f} ppm", b.drift_ppm),
        Severity::warning);
}

void say_channels(SheetBuilder& sheet, const Bounce& b) {
  if (b.copied)
    say(sheet, FindingCode::channels_changed,
        fmt::format("one channel became {}, the same on each", b.channels));
  if (b.one_side)
    say(sheet, FindingCode::channels_changed, "it is on one channel of several", Severity::warning);
  if (b.channels < b.stimulus_channels)
    say(sheet, FindingCode::channels_changed,
        fmt::format("{} channels became {}", b.stimulus_channels, b.channels), Severity::warning);
}

}  // namespace

Sheet bounce_sheet(const Bounce& b, const CaptureInfo& capture) {
  SheetBuilder sheet(kit_readings(), capture);
  const auto add = [&](const char* name, double value) {
    sheet.add(name, std::nullopt, value, {{"by", std::string("marks")}});
  };
  add("gain_db", b.gain_db);
  add("polarity", b.polarity);
  add("delay_samples", b.place_frames);
  add("lead_frames", static_cast<double>(b.lead_frames));
  add("tail_frames", static_cast<double>(b.tail_frames));
  add("fade_in_frames", static_cast<double>(b.fade_in_frames));
  add("fade_out_frames", static_cast<double>(b.fade_out_frames));
  if (b.used_bits > 0) add("used_bits", b.used_bits);
  add("peak_dbfs", b.peak_dbfs);
  const std::size_t before = sheet.sheet().findings.size();
  say_gain(sheet, b);
  say_place(sheet, b);
  say_shape(sheet, b);
  say_time(sheet, b);
  say_channels(sheet, b);
  if (sheet.sheet().findings.size() == before)
    say(sheet, FindingCode::untouched, "the session left it untouched: no gain, trim, fade or resampling");
  return sheet.finish();
}

}  // namespace wavicon
