// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measure/common/level.hpp"
#include "measure/common/loudness_histogram.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/levels/levels.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

constexpr double kOver = 1.012;      // 0.1 dB: the interpolation itself may be off by less
constexpr double kRounding = 1e-7;   // of the RMS value: what a difference of squares leaves of nothing
constexpr double kShownDbfs = -160;  // curves end here: the level of silence is none

using measure_detail::level_dbfs;

class LevelsSheet {
 public:
  LevelsSheet(const LevelsResult& result, SheetBuilder& sheet) : result_(result), sheet_(sheet) {}

  void add_channel(int channel) {
    const ChannelLevels& c = result_.channels[static_cast<std::size_t>(channel)];
    const Conditions rms = {{"rms_reference", name_of(result_.options.rms_reference)},
                            {"dc", std::string("included")}};
    const double reference_db = rms_reference_db(result_.options.rms_reference);
    const auto rms_dbfs = level_dbfs(c.rms);
    const auto& u = c.uncertainty;
    reading("rms_dbfs", channel, rms_dbfs ? std::optional(*rms_dbfs + reference_db) : std::nullopt, rms,
            rounding_dbfs())
        .uncertainty = sure(u, u ? u->rms_db : 0);
    reading("rms", channel, c.rms, {{"dc", std::string("included")}}).uncertainty =
        sure(u, u ? c.rms * (ratio_from_db(u->rms_db) - 1) : 0);
    if (result_.options.full_scale_vrms) add_volts(c, channel);
    reading("peak_dbfs", channel, level_dbfs(c.peak)).uncertainty = sure(u, u ? u->peak_db : 0);
    if (result_.options.true_peak)
      reading("true_peak_dbtp", channel, level_dbfs(c.true_peak),
              {{"standard", std::string("ITU-R BS.1770")}})
          .uncertainty = sure(u, u ? u->peak_db : 0);
    reading("crest_factor_db", channel,
            c.rms > 0 ? std::optional(db_from_ratio(c.peak / c.rms)) : std::nullopt)
        .uncertainty = sure(u, u ? std::hypot(u->rms_db, u->peak_db) : 0);
    reading("dc_offset", channel, c.dc).uncertainty = sure(u, u ? u->dc : 0);
    // An offset that is not surely there has no level, only one that it keeps below.
    const double most = std::abs(c.dc) + (u ? u->dc : 0);
    const bool unsure = u && std::abs(c.dc) < u->dc;
    Reading& offset = reading("dc_offset_dbfs", channel, level_dbfs(unsure ? most : std::abs(c.dc)));
    offset.bound = unsure && most > 0;
    if (!unsure && c.dc != 0) offset.uncertainty = sure(u, u ? db_from_ratio(1 + u->dc / std::abs(c.dc)) : 0);
    if (c.rms == 0)
      say(Severity::note, FindingCode::silent_channel, channel,
          "every sample is zero: silence has no level in dB");
    else
      tell(c, channel);
    add_trace(c, channel);
  }

  void add_whole() {
    if (!result_.options.loudness) return;
    const Loudness& l = result_.loudness;
    const Conditions standard = {{"standard", std::string("ITU-R BS.1770, EBU R 128")}};
    reading("loudness_integrated_lufs", std::nullopt, l.integrated_lufs, standard).uncertainty =
        l.integrated_uncertainty_lu;
    reading("loudness_range_lu", std::nullopt, l.range_lu, standard);
    reading("loudness_momentary_max_lufs", std::nullopt, l.momentary_max_lufs, standard).uncertainty =
        l.momentary_max_uncertainty_lu;
    reading("loudness_short_term_max_lufs", std::nullopt, l.short_term_max_lufs, standard).uncertainty =
        l.short_term_max_uncertainty_lu;
    const double seconds = static_cast<double>(result_.frames) / result_.sample_rate_hz;
    if (!l.integrated_lufs)
      say(Severity::note, FindingCode::too_short, std::nullopt,
          !l.defined ? "there is no loudness at rates below 4 kHz: the standard's filter has no place there"
          : seconds < 0.4 ? "too short for loudness: it needs 0.4 s"
                          : "nothing is louder than -70 LUFS: there is no integrated loudness");
    else if (seconds < 3)
      say(Severity::note, FindingCode::too_short, std::nullopt,
          "too short for a loudness range and a short-term loudness: they need 3 s");
    curve("momentary loudness", l.momentary_lufs, 0.4);
    curve("short-term loudness", l.short_term_lufs, 3);
    Curve histogram = measure_detail::loudness_histogram("loudness histogram", l.momentary_lufs);
    if (!histogram.x.empty()) sheet_.draw(std::move(histogram));
  }

 private:
  void add_volts(const ChannelLevels& c, int channel) {
    const double volts = std::sqrt(2.0) * *result_.options.full_scale_vrms;
    const Conditions calibration = {{"full_scale_vrms", *result_.options.full_scale_vrms}};
    const auto& u = c.uncertainty;
    reading("rms_v", channel, c.rms * volts, calibration).uncertainty =
        sure(u, u ? c.rms * volts * (ratio_from_db(u->rms_db) - 1) : 0);
    reading("rms_dbu", channel, level_dbfs(c.rms * volts / kVoltsAt0Dbu), calibration).uncertainty =
        sure(u, u ? u->rms_db : 0);
    reading("peak_v", channel, c.peak * volts, calibration).uncertainty =
        sure(u, u ? c.peak * volts * (ratio_from_db(u->peak_db) - 1) : 0);
  }

  void tell(const ChannelLevels& c, int channel) {
    std::string text = fmt::format("RMS {:.2f} dBFS, peak {:.2f} dBFS, crest {:.2f} dB",
                                   db_from_ratio(c.rms) + rms_reference_db(result_.options.rms_reference),
                                   db_from_ratio(c.peak), db_from_ratio(c.peak / c.rms));
    if (result_.options.full_scale_vrms)
      text += fmt::format(
          " = {:.4g} V RMS, {:+.2f} dBu", c.rms * std::sqrt(2.0) * *result_.options.full_scale_vrms,
          db_from_ratio(c.rms * std::sqrt(2.0) * *result_.options.full_scale_vrms / kVoltsAt0Dbu));
    say(Severity::note, FindingCode::result, channel, text);
    if (c.true_peak > kOver && c.true_peak > c.peak)
      say(Severity::warning, FindingCode::over_between_samples, channel,
          fmt::format("exceeds full scale between its samples: {:+.2f} dBTP; a converter clips there",
                      db_from_ratio(c.true_peak)));
    // An RMS level that is mostly an offset is no sound.
    const double rest = std::sqrt(std::max(0.0, c.rms * c.rms - c.dc * c.dc));
    if (rest < kRounding * c.rms)
      say(Severity::warning, FindingCode::dc_offset, channel,
          fmt::format("it is nothing but DC ({:.2f} dBFS)", db_from_ratio(std::abs(c.dc))));
    else if (std::abs(c.dc) > 0.5 * c.rms)
      say(Severity::warning, FindingCode::dc_offset, channel,
          fmt::format("the level is mostly DC ({:.2f} dBFS): without it the RMS level is {:.2f} dBFS",
                      db_from_ratio(std::abs(c.dc)),
                      db_from_ratio(rest) + rms_reference_db(result_.options.rms_reference)));
  }

  // What rounding to the format alone reads.
  [[nodiscard]] std::optional<double> rounding_dbfs() const {
    if (!is_integer(result_.format)) return std::nullopt;
    return db_from_ratio(std::ldexp(1.0, 1 - bits(result_.format)) / std::sqrt(12)) +
           rms_reference_db(result_.options.rms_reference);
  }

  void add_trace(const ChannelLevels& c, int channel) {
    Curve curve{"rms", channel, "s", "dBFS", {}, {}};
    const double lead = result_.options.from_s + result_.options.window_s;
    for (std::size_t i = 0; i < c.rms_over_time.size(); ++i) {
      curve.x.push_back(lead + static_cast<double>(i) * result_.hop_s);
      curve.y.push_back(std::max(kShownDbfs, db_from_ratio(c.rms_over_time[i] + 1e-30) +
                                                 rms_reference_db(result_.options.rms_reference)));
    }
    if (!curve.x.empty()) sheet_.draw(std::move(curve));
  }

  void curve(const char* name, const std::vector<double>& values, double first_s) {
    if (values.empty()) return;
    Curve curve{name, std::nullopt, "s", "LUFS", {}, {}};
    for (std::size_t i = 0; i < values.size(); ++i) {
      curve.x.push_back(result_.options.from_s + first_s + 0.1 * static_cast<double>(i));
      curve.y.push_back(std::max(kShownDbfs, std::isfinite(values[i]) ? values[i] : kShownDbfs));
    }
    sheet_.draw(std::move(curve));
  }

  static std::optional<double> sure(const std::optional<LevelUncertainty>& known, double uncertainty) {
    return known ? std::optional(uncertainty) : std::nullopt;
  }

  Reading& reading(const char* name, std::optional<int> channel, std::optional<double> value,
                   const Conditions& more = {}, std::optional<double> floor = std::nullopt) {
    Conditions conditions = {{"bandwidth_hz", std::vector<double>{0, result_.sample_rate_hz / 2}},
                             {"sample_rate_hz", result_.sample_rate_hz},
                             {"from_s", result_.options.from_s},
                             {"duration_s", static_cast<double>(result_.frames) / result_.sample_rate_hz}};
    conditions.insert(conditions.begin(), more.begin(), more.end());
    Reading& added = sheet_.add(name, channel, value, std::move(conditions));
    added.floor = floor;
    return added;
  }
  void say(Severity severity, FindingCode code, std::optional<int> channel, std::string text) {
    sheet_.say(severity, code, std::move(text), channel);
  }

  const LevelsResult& result_;
  SheetBuilder& sheet_;
};

}  // namespace

Sheet levels_sheet(const LevelsResult& result, const CaptureInfo& capture) {
  SheetBuilder sheet(levels_readings(), capture);
  LevelsSheet builder(result, sheet);
  for (std::size_t c = 0; c < result.channels.size(); ++c) builder.add_channel(static_cast<int>(c));
  builder.add_whole();
  auto& findings = sheet.sheet().findings;
  findings.insert(findings.end(), result.findings.begin(), result.findings.end());
  return sheet.finish();
}

}  // namespace wavicon
