// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/intake/health.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

constexpr double kDcWarningDbfs = -60;
constexpr double kDcSpreads = 4;  // over what chance gives
constexpr double kCutS = 0.0005;  // of the reference; an equaliser moves its delay by as much
constexpr double kDcNoteDbfs = -90;
constexpr double kDriftWarningPpm = 5;
constexpr double kChannelGainDb = 0.05;

std::optional<double> level_dbfs(double value) {
  return value > 0 ? std::optional(db_from_ratio(value)) : std::nullopt;
}

// What a speed of play means, in the words of the rates that explain it.
std::string speed_text(double ratio) {
  for (const double low : {44.1, 48.0, 88.2, 96.0, 176.4, 192.0})
    for (const double high : {44.1, 48.0, 88.2, 96.0, 176.4, 192.0})
      if (std::abs(high / low - ratio) < 1e-6)
        return fmt::format("a {:g} kHz stimulus was played as {:g} kHz", low, high);
  return fmt::format("it was played {:.6f} times as fast", ratio);
}

class Builder {
 public:
  Builder(const HealthResult& result, SheetBuilder& sheet) : result_(result), sheet_(sheet) {}

  void add_channel(std::size_t index) {
    const ChannelHealth& c = result_.channels[index];
    const int channel = static_cast<int>(index);
    reading("clipped_frames", channel, static_cast<double>(c.clipped_frames));
    reading("clip_level_dbfs", channel, level_dbfs(c.clip_level));
    reading("dropout_count", channel, static_cast<double>(c.dropout_count));
    reading("used_bits", channel, c.used_bits > 0 ? std::optional<double>(c.used_bits) : std::nullopt);
    reading("dc_offset", channel, c.dc);
    reading("band_end_hz", channel, c.band_end_hz);
    // What was played may end there by itself; only a stimulus can tell.
    if (c.band_end_hz)
      say(result_.compared ? Severity::warning : Severity::note, FindingCode::band_limited, channel,
          fmt::format(
              "the spectrum ends at {:.0f} Hz, far below half the sample rate{}", *c.band_end_hz,
              result_.compared ? ": it was converted from a lower rate, or a filter cuts there" : ""));
    if (c.broken_frame)
      say(Severity::fault, FindingCode::broken_sample, channel,
          fmt::format("holds NaN or infinity, first at {}; what wrote it has failed there",
                      time(static_cast<double>(*c.broken_frame))));
    if (c.silent)
      say(Severity::warning, FindingCode::silent_channel, channel, "every sample is zero; check the routing");
    if (c.clipped_frames > 0) add_clipping(c, channel);
    if (c.dropout_count > 0)
      say(Severity::fault, FindingCode::dropout, channel,
          fmt::format("{} dropout{}: sound is cut off by zeros, first at {} for {:.2f} ms; capture it again "
                      "with a larger buffer",
                      c.dropout_count, c.dropout_count == 1 ? "" : "s",
                      time(static_cast<double>(c.dropouts[0].first_frame)),
                      1000 * static_cast<double>(c.dropouts[0].frames) / result_.sample_rate_hz));
    add_events(c, channel);
    add_word_length(c, channel);
    if (c.hum)
      say(Severity::warning, FindingCode::mains_hum, channel,
          fmt::format("mains hum: lines at multiples of {:g} Hz, the strongest {:.1f} dBFS at {:g} Hz; check "
                      "grounding and power supplies",
                      c.hum->base_hz, db_from_ratio(c.hum->peak), c.hum->line_hz));
    if (c.inverse_of_first && !result_.best)
      say(Severity::warning, FindingCode::channels_inverse, channel,
          "is channel 1 with its polarity turned, bit for bit: summed to mono they vanish");
    const auto dc = level_dbfs(std::abs(c.dc));
    if (dc && *dc > kDcNoteDbfs && std::abs(c.dc) > kDcSpreads * c.dc_spread)
      say(*dc > kDcWarningDbfs ? Severity::warning : Severity::note, FindingCode::dc_offset, channel,
          fmt::format("DC offset of {:.6f} ({:.1f} dBFS)", c.dc, *dc));
  }

  void add_whole() {
    if (std::all_of(result_.channels.begin(), result_.channels.end(), [](const auto& c) { return c.silent; }))
      return say(Severity::fault, FindingCode::silent, std::nullopt,
                 "the capture is silent: every sample is zero");
    if (result_.same_on_all_channels)
      say(Severity::note, FindingCode::channels_equal, std::nullopt,
          "all channels are the same, bit for bit: this is mono");
    if (result_.referenced) add_reference();
    if (!result_.compared) return;
    if (!result_.best)
      return say(Severity::fault, FindingCode::wrong_stimulus, std::nullopt,
                 "the stimulus is not in this capture: neither of its marks was found; is it the right "
                 "stimulus, and was it played?");
    add_take(result_.takes[*result_.best]);
  }

 private:
  void add_reference() {
    if (!result_.alignment)
      return say(
          Severity::fault, FindingCode::wrong_stimulus, std::nullopt,
          "the reference is not in this capture: they have too little in common; is it the right one?");
    const Alignment& a = *result_.alignment;
    Conditions conditions = {{"by", std::string(result_.aligned_by_marks ? "marks"
                                                : a.by_hits              ? "hits"
                                                : a.match > 0            ? "hit"
                                                : a.by_parts             ? "tones"
                                                : a.by_residual          ? "residual"
                                                                         : "programme")}};
    if (a.by_hits)
      conditions.emplace_back("hits", static_cast<std::int64_t>(a.agreed));
    else if (!result_.aligned_by_marks && !a.by_residual && !a.by_parts)
      conditions.emplace_back(a.match > 0 ? "match" : "confidence", a.match > 0 ? a.match : a.confidence);
    if (!result_.aligned_by_marks && !a.by_parts && a.match == 0)
      conditions.emplace_back("spread_samples", a.spread_frames);
    Reading& delay = whole("delay_samples", a.delay_frames, conditions);
    if (a.uncertainty_frames > 0) delay.uncertainty = a.uncertainty_frames;
    // Drift, level, polarity and losses stand once, against the stimulus.
    if (result_.aligned_by_marks) return;
    if (a.by_parts) {
      say_moved_gain(a);
      return say_what_is_missing(a, 0);
    }
    whole("drift_ppm", a.drift_ppm, conditions).uncertainty =
        a.drift_ppm != 0 ? a.drift_uncertainty_ppm : a.drift_bound_ppm;
    Reading& gain = whole("gain_db", db_from_ratio(std::max(1e-15, std::abs(a.gain))), conditions);
    if (a.gain_uncertainty) gain.uncertainty = db_from_ratio(1 + *a.gain_uncertainty);
    whole("polarity", a.gain < 0 ? -1 : 1, conditions);
    std::int64_t slipped = 0;
    for (const Slip& slip : a.slips) slipped += std::abs(slip.frames);
    for (const Slip& slip : a.slips)
      say(Severity::fault, slip.frames < 0 ? FindingCode::lost_frames : FindingCode::repeated_frames,
          std::nullopt,
          fmt::format("{} frames were {} {} of the reference; capture it again with a larger buffer",
                      std::abs(slip.frames), slip.frames < 0 ? "lost" : "repeated or inserted",
                      place_text(slip, result_.sample_rate_hz)));
    if (!a.candidates.empty() && a.slips.empty())
      say(Severity::warning, FindingCode::ambiguous_place, std::nullopt,
          fmt::format("the reference repeats itself: it fits nearly as well {} frames away",
                      a.candidates[0] - a.delay_frames));
    if (a.gain < 0)
      say(Severity::warning, FindingCode::polarity_inverted, std::nullopt, "the polarity is inverted");
    if (std::abs(a.drift_ppm) > kDriftWarningPpm)
      say(Severity::warning, FindingCode::clock_drift, std::nullopt,
          fmt::format("the clocks drift apart by {:.2f} ppm: play and record with one clock", a.drift_ppm));
    say_what_is_missing(a, slipped);
  }

  void say_moved_gain(const Alignment& a) {
    say(Severity::note, FindingCode::located, std::nullopt,
        fmt::format("the reference is there, {:.6f} s late: its tones were found one by one; their levels "
                    "moved, as behind a compressor",
                    a.delay_frames / result_.sample_rate_hz));
  }

  void say_what_is_missing(const Alignment& a, std::int64_t slipped) {
    const double least = kCutS * result_.sample_rate_hz;
    if (static_cast<double>(a.first_frame - slipped) > least)
      say(Severity::fault, FindingCode::cut_start, std::nullopt,
          fmt::format("the start is cut off: the capture begins {:.6f} s into the reference",
                      static_cast<double>(a.first_frame) / result_.sample_rate_hz));
    if (static_cast<double>(result_.reference_frames - a.end_frame - slipped) > least)
      say(Severity::fault, FindingCode::cut_end, std::nullopt,
          fmt::format("the end is cut off: the capture holds the reference up to {:.6f} s of {:.6f} s",
                      static_cast<double>(a.end_frame) / result_.sample_rate_hz,
                      static_cast<double>(result_.reference_frames) / result_.sample_rate_hz));
  }

  void add_clipping(const ChannelHealth& c, int channel) {
    const bool at_full_scale = c.clip_level > 0.999 && c.clip_level < 1.001;
    const bool own = at_full_scale && is_integer(result_.format);
    say(own ? Severity::fault : Severity::warning, own ? FindingCode::clipped : FindingCode::clipped_in_chain,
        channel,
        fmt::format(
            "{} frames are cut off at {:.2f} dBFS, first at {}; {}", c.clipped_frames,
            db_from_ratio(c.clip_level), time(static_cast<double>(c.clipped[0].first_frame)),
            own ? "the capture itself clips: capture it lower, or as 32-bit float"
                : "a unit in the chain clips there, or a capture that was turned down after it clipped"));
  }

  void add_events(const ChannelHealth& c, int channel) {
    if (c.repeat_count > 0)
      say(Severity::fault, FindingCode::repeated_block, channel,
          fmt::format(
              "{} block{} played again in place of what should follow, first at {} for {} frames; capture "
              "it again with a larger buffer",
              c.repeat_count, c.repeat_count == 1 ? " was" : "s were",
              time(static_cast<double>(c.repeats[0].first_frame)), c.repeats[0].frames));
    // What was played may jump by itself; only a stimulus can tell.
    if (c.jump_count > 0)
      say(result_.best ? Severity::warning : Severity::note, FindingCode::discontinuity, channel,
          fmt::format("{} jump{}, first at {}: {}", c.jump_count, c.jump_count == 1 ? "" : "s",
                      time(static_cast<double>(c.jumps[0].first_frame)),
                      result_.best ? "a click or splice that is not in the stimulus"
                                   : "a click, a cut, or a sound that begins hard"));
    if (c.over_count > 0 && c.clipped_frames == 0)
      say(is_integer(result_.format) ? Severity::warning : Severity::note, FindingCode::over_between_samples,
          channel,
          fmt::format(
              "exceeds full scale between its samples, up to {:+.2f} dBTP, first at {}: a converter clips "
              "there; lower it",
              db_from_ratio(c.highest_between), time(static_cast<double>(c.over_frame))));
  }

  void add_word_length(const ChannelHealth& c, int channel) {
    const int held = bits(result_.format);
    if (c.stuck_bits > 0)
      say(Severity::warning, FindingCode::stuck_bits, channel,
          fmt::format(
              "the lowest {} bit{} never change{} though not all are 0: a word length was changed badly",
              c.stuck_bits, c.stuck_bits == 1 ? "" : "s", c.stuck_bits == 1 ? "s" : ""));
    if (c.used_bits == 0 || c.used_bits > 16 || held <= c.used_bits || c.silent) return;
    say(Severity::warning, FindingCode::unused_bits, channel,
        fmt::format("only {} of the {} bits are used: it was a {}-bit file before", c.used_bits, held,
                    c.used_bits));
  }

  void add_take(const Take& take) {
    const Conditions conditions = {{"channel_of_match", static_cast<std::int64_t>(take.channel + 1)},
                                   {"match", take.start ? take.start->match : take.end->match}};
    whole("rate_ratio", take.rate_ratio, conditions);
    const MarkDeviation mark = deviation_of(take.start ? *take.start : *take.end, result_.sample_rate_hz);
    const bool both = take.start && take.end && take.slipped_frames == 0;
    Reading& drift = whole("drift_ppm", both ? std::optional(take.drift_ppm) : std::nullopt, conditions);
    if (both)
      drift.uncertainty =
          2e6 * std::numbers::sqrt2 * mark.frames / std::max(1.0, take.end->frame - take.start->frame);
    whole("lost_frames", static_cast<double>(std::max<std::int64_t>(0, -take.slipped_frames)), conditions);
    whole("repeated_frames", static_cast<double>(std::max<std::int64_t>(0, take.slipped_frames)), conditions);
    whole("gain_db", take.gain_db, conditions).uncertainty = db_from_ratio(1 + 2 * mark.gain_share);
    whole("polarity", take.polarity, conditions);
    whole("start_s", take.first_frame / result_.sample_rate_hz, conditions).uncertainty =
        2 * mark.frames / result_.sample_rate_hz;
    std::string where = fmt::format("the stimulus starts at {}, {:+.2f} dB{}", time(take.first_frame),
                                    std::abs(take.gain_db) < 0.005 ? 0.0 : take.gain_db,
                                    take.polarity < 0 ? ", inverted" : "");
    if (result_.takes.size() > 1)
      where +=
          fmt::format("; it is there {} times, take {} is used", result_.takes.size(), *result_.best + 1);
    say(Severity::note, FindingCode::located, std::nullopt, where);
    add_polarity(take);
    add_gain(take);
    add_take_faults(take);
  }

  void add_polarity(const Take& take) {
    const auto& gains = take.channel_gains;
    const auto inverted = std::count_if(gains.begin(), gains.end(), [](double g) { return g < 0; });
    const auto upright = std::count_if(gains.begin(), gains.end(), [](double g) { return g > 0; });
    if (upright == 0 && (inverted > 0 || take.polarity < 0))
      return say(Severity::warning, FindingCode::polarity_inverted, std::nullopt, "the polarity is inverted");
    for (std::size_t c = 0; c < gains.size(); ++c)
      if (gains[c] < 0)
        say(Severity::warning, FindingCode::polarity_inverted, static_cast<int>(c),
            "the polarity is inverted, unlike that of other channels");
  }

  // A gain as recording programs apply it, by the names of their habits.
  void add_gain(const Take& take) {
    struct Habit {
      double gain_db;
      const char* name;
    };
    for (const Habit& habit :
         {Habit{-3.01, "a pan law of -3 dB"}, Habit{-4.5, "a pan law of -4.5 dB"},
          Habit{-6.02, "a pan law of -6 dB, or half of a mono sum"}, Habit{6.02, "two channels summed"}})
      if (std::abs(take.gain_db - habit.gain_db) < 0.02)
        say(Severity::note, FindingCode::gain_habit, std::nullopt,
            fmt::format("a gain of {:+.2f} dB is what {} makes", take.gain_db, habit.name));
    if (take.channel_gains.size() < 2 || take.channel_gains[0] == 0) return;
    for (std::size_t c = 1; c < take.channel_gains.size(); ++c) {
      if (take.channel_gains[c] == 0) continue;
      const double difference = db_from_ratio(std::abs(take.channel_gains[c] / take.channel_gains[0]));
      if (std::abs(difference) > kChannelGainDb)
        say(Severity::note, FindingCode::channel_level, static_cast<int>(c),
            fmt::format("{:+.2f} dB against channel 1", difference));
    }
  }

  void add_take_faults(const Take& take) {
    if (take.rate_ratio != 1)
      say(Severity::fault, FindingCode::wrong_rate, std::nullopt,
          speed_text(take.rate_ratio) + "; set the session to the stimulus's rate");
    if (!take.start)
      say(Severity::fault, FindingCode::cut_start, std::nullopt,
          "the start is cut off: the first mark is missing; leave silence before the stimulus");
    if (!take.end)
      say(Severity::fault, FindingCode::cut_end, std::nullopt,
          "the end is cut off: the last mark is missing; record on for a second");
    if (take.slipped_frames != 0)
      say(Severity::fault, take.slipped_frames < 0 ? FindingCode::lost_frames : FindingCode::repeated_frames,
          std::nullopt,
          fmt::format(
              "{} frames were {}{}; capture it again with a larger buffer", std::abs(take.slipped_frames),
              take.slipped_frames < 0 ? "lost" : "repeated or inserted",
              result_.slip_frame ? " at " + time(*result_.slip_frame) : std::string(" between the marks")));
    else if (std::abs(take.drift_ppm) > kDriftWarningPpm)
      say(Severity::warning, FindingCode::clock_drift, std::nullopt,
          fmt::format("the clocks drift apart by {:.2f} ppm: play and record with one clock",
                      take.drift_ppm));
    for (std::size_t c = 0; c < result_.carries.size(); ++c)
      if (static_cast<int>(c) < result_.stimulus_channels && result_.carries[c] != static_cast<int>(c))
        say(Severity::warning, FindingCode::channels_swapped, static_cast<int>(c),
            fmt::format("holds channel {} of the stimulus: the channels are swapped",
                        result_.carries[c] + 1));
    if (!result_.missing_channels.empty()) {
      std::vector<int> numbers;
      for (const int c : result_.missing_channels) numbers.push_back(c + 1);
      say(Severity::warning, FindingCode::channel_missing, std::nullopt,
          fmt::format("channel {} should carry the stimulus and is silent", fmt::join(numbers, ", ")));
    }
  }

  std::string time(double frame) const {
    return fmt::format("{:.6f} s", std::abs(frame) < 1e-3 ? 0.0 : frame / result_.sample_rate_hz);
  }

  Conditions common() const {
    return {{"sample_rate_hz", result_.sample_rate_hz},
            {"duration_s", static_cast<double>(result_.frames) / result_.sample_rate_hz}};
  }
  void reading(const char* name, int channel, std::optional<double> value) {
    sheet_.add(name, channel, value, common());
  }
  Reading& whole(const char* name, std::optional<double> value, const Conditions& more) {
    Conditions conditions = common();
    conditions.insert(conditions.end(), more.begin(), more.end());
    return sheet_.add(name, std::nullopt, value, conditions);
  }
  void say(Severity severity, FindingCode code, std::optional<int> channel, std::string text) {
    sheet_.say(severity, code, std::move(text), channel);
  }

  const HealthResult& result_;
  SheetBuilder& sheet_;
};

}  // namespace

Sheet health_sheet(const HealthResult& result, const CaptureInfo& capture) {
  SheetBuilder sheet(health_readings(), capture);
  Builder builder(result, sheet);
  builder.add_whole();
  for (std::size_t i = 0; i < result.channels.size(); ++i) builder.add_channel(i);
  if (!capture.cut_off.empty())
    sheet.say(Severity::fault, FindingCode::truncated,
              fmt::format("the file is cut off: {}; copy or bounce it again", capture.cut_off));
  if (!capture.broken_chunk.empty())
    sheet.say(Severity::warning, FindingCode::broken_chunk, capture.broken_chunk);
  auto& findings = sheet.sheet().findings;
  const bool nothing = std::none_of(findings.begin(), findings.end(),
                                    [](const Finding& f) { return f.severity != Severity::note; });
  if (nothing)
    findings.insert(
        findings.begin(),
        {Severity::note, FindingCode::fit,
         result.compared || result.referenced
             ? "fit to be measured"
             : "nothing is wrong with it by itself; give --stimulus to check it against what was played",
         std::nullopt});
  return sheet.finish();
}

bool is_unfit(const Sheet& sheet) {
  return std::any_of(sheet.findings.begin(), sheet.findings.end(),
                     [](const Finding& f) { return f.severity == Severity::fault; });
}

}  // namespace wavicon
