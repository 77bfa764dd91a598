#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "level.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/levels.hpp"

namespace wavicon {
namespace {

constexpr double kOver = 1.012;      // 0.1 dB: the interpolation itself may be off by less
constexpr double kShownDbfs = -160;  // curves end here: the level of silence is none

using measure_detail::level_dbfs;

class Builder {
 public:
  Builder(const LevelsResult& result, Sheet& sheet) : result_(result), sheet_(sheet) {}

  void add_channel(int channel) {
    const ChannelLevels& c = result_.channels[static_cast<std::size_t>(channel)];
    const Conditions rms = {{"rms_reference", name_of(result_.options.rms_reference)},
                            {"dc", std::string("included")}};
    const double reference_db = rms_reference_db(result_.options.rms_reference);
    const auto rms_dbfs = level_dbfs(c.rms);
    reading("rms_dbfs", channel, rms_dbfs ? std::optional(*rms_dbfs + reference_db) : std::nullopt, "dBFS",
            rms, rounding_dbfs());
    reading("rms", channel, c.rms, "", {{"dc", std::string("included")}});
    reading("peak_dbfs", channel, level_dbfs(c.peak), "dBFS");
    if (result_.options.true_peak)
      reading("true_peak_dbtp", channel, level_dbfs(c.true_peak), "dBTP",
              {{"standard", std::string("ITU-R BS.1770")}});
    reading("crest_factor_db", channel,
            c.rms > 0 ? std::optional(db_from_ratio(c.peak / c.rms)) : std::nullopt, "dB");
    reading("dc_offset", channel, c.dc, "");
    reading("dc_offset_dbfs", channel, level_dbfs(std::abs(c.dc)), "dBFS");
    if (c.rms == 0)
      say(Severity::note, channel, "every sample is zero: silence has no level in dB");
    else
      tell(c, channel);
    add_trace(c, channel);
  }

  void add_whole() {
    if (!result_.options.loudness) return;
    const Loudness& l = result_.loudness;
    const Conditions standard = {{"standard", std::string("ITU-R BS.1770, EBU R 128")}};
    reading("loudness_integrated_lufs", std::nullopt, l.integrated_lufs, "LUFS", standard);
    reading("loudness_range_lu", std::nullopt, l.range_lu, "LU", standard);
    reading("loudness_momentary_max_lufs", std::nullopt, l.momentary_max_lufs, "LUFS", standard);
    reading("loudness_short_term_max_lufs", std::nullopt, l.short_term_max_lufs, "LUFS", standard);
    const double seconds = static_cast<double>(result_.frames) / result_.sample_rate_hz;
    if (!l.integrated_lufs)
      say(Severity::note, std::nullopt,
          seconds < 0.4 ? "too short for loudness: it needs 0.4 s"
                        : "nothing is louder than -70 LUFS: there is no integrated loudness");
    else if (seconds < 3)
      say(Severity::note, std::nullopt,
          "too short for a loudness range and a short-term loudness: they need 3 s");
    curve("momentary loudness", l.momentary_lufs, 0.4);
    curve("short-term loudness", l.short_term_lufs, 3);
    add_histogram(l.momentary_lufs);
  }

 private:
  void tell(const ChannelLevels& c, int channel) {
    std::string text = fmt::format("RMS {:.2f} dBFS, peak {:.2f} dBFS, crest {:.2f} dB",
                                   db_from_ratio(c.rms) + rms_reference_db(result_.options.rms_reference),
                                   db_from_ratio(c.peak), db_from_ratio(c.peak / c.rms));
    say(Severity::note, channel, text);
    if (c.true_peak > kOver && c.true_peak > c.peak)
      say(Severity::warning, channel,
          fmt::format("exceeds full scale between its samples: {:+.2f} dBTP; a converter clips there",
                      db_from_ratio(c.true_peak)));
    // An RMS level that is mostly an offset is no sound.
    if (std::abs(c.dc) > 0.5 * c.rms)
      say(Severity::warning, channel,
          fmt::format("the level is mostly DC ({:.2f} dBFS): without it the RMS level is {:.2f} dBFS",
                      db_from_ratio(std::abs(c.dc)),
                      db_from_ratio(std::sqrt(std::max(1e-30, c.rms * c.rms - c.dc * c.dc))) +
                          rms_reference_db(result_.options.rms_reference)));
  }

  // What rounding to the format alone reads.
  [[nodiscard]] std::optional<double> rounding_dbfs() const {
    if (!is_integer(result_.options.format)) return std::nullopt;
    return db_from_ratio(std::ldexp(1.0, 1 - bits(result_.options.format)) / std::sqrt(12)) +
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
    if (!curve.x.empty()) sheet_.curves.push_back(std::move(curve));
  }

  void curve(const char* name, const std::vector<double>& values, double first_s) {
    if (values.empty()) return;
    Curve curve{name, std::nullopt, "s", "LUFS", {}, {}};
    for (std::size_t i = 0; i < values.size(); ++i) {
      curve.x.push_back(result_.options.from_s + first_s + 0.1 * static_cast<double>(i));
      curve.y.push_back(std::max(kShownDbfs, std::isfinite(values[i]) ? values[i] : kShownDbfs));
    }
    sheet_.curves.push_back(std::move(curve));
  }

  void add_histogram(const std::vector<double>& momentary) {
    std::map<int, int> counts;
    int count = 0;
    for (const double lufs : momentary)
      if (lufs > -70) {
        ++counts[static_cast<int>(std::lround(lufs))];
        ++count;
      }
    if (count == 0) return;
    Curve curve{"loudness histogram", std::nullopt, "LUFS", "%", {}, {}};
    for (int lufs = counts.begin()->first; lufs <= counts.rbegin()->first; ++lufs) {
      curve.x.push_back(lufs);
      curve.y.push_back(100.0 * counts[lufs] / count);
    }
    sheet_.curves.push_back(std::move(curve));
  }

  void reading(const char* name, std::optional<int> channel, std::optional<double> value, const char* unit,
               const Conditions& more = {}, std::optional<double> floor = std::nullopt) {
    Conditions conditions = {{"bandwidth_hz", std::vector<double>{0, result_.sample_rate_hz / 2}},
                             {"sample_rate_hz", result_.sample_rate_hz},
                             {"from_s", result_.options.from_s},
                             {"duration_s", static_cast<double>(result_.frames) / result_.sample_rate_hz}};
    conditions.insert(conditions.begin(), more.begin(), more.end());
    sheet_.readings.push_back({name, channel, value, unit, floor, false, conditions});
  }
  void say(Severity severity, std::optional<int> channel, std::string text) {
    sheet_.findings.push_back({severity, std::move(text), channel});
  }

  const LevelsResult& result_;
  Sheet& sheet_;
};

}  // namespace

Sheet levels_sheet(const LevelsResult& result, const CaptureInfo& capture) {
  Sheet sheet{"levels", capture, {}, {}, {}, {}, {}};
  Builder builder(result, sheet);
  for (std::size_t c = 0; c < result.channels.size(); ++c) builder.add_channel(static_cast<int>(c));
  builder.add_whole();
  return sheet;
}

}  // namespace wavicon
