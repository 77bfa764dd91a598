#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "level.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/noise.hpp"

namespace wavicon {
namespace {

constexpr double kShownDbfs = -220;
constexpr double kExactS = 5;
constexpr double kComesUpDb = 3;

using measure_detail::level_dbfs;

class Builder {
 public:
  Builder(const NoiseResult& result, Sheet& sheet) : result_(result), sheet_(sheet), o_(result.options) {}

  void add(int index) {
    const ChannelNoise& c = result_.channels[static_cast<std::size_t>(index)];
    channel_ = index;
    under_ = c.tone_hz ? fmt::format("a tone of {:.2f} Hz at {:.2f} dBFS, cut out with its harmonics",
                                     *c.tone_hz, db_from_ratio(std::max(c.tone_peak, 1e-15)))
                       : std::string("no tone");
    if (c.silent) {
      for (const char* name : {"noise_dbfs", "noise_a_dbfs", "noise_468_dbfs", "dynamic_range_db",
                               "dynamic_range_a_db", "effective_bits"})
        reading(name, std::nullopt, "", {});
      return say(Severity::warning, "every sample is zero: digital silence has no noise to measure");
    }
    add_levels(c);
    add_ratios(c);
    add_mains(c);
    add_spurs(c);
    tell(c);
    add_curves(c);
  }

 private:
  void add_levels(const ChannelNoise& c) {
    const double shift = rms_reference_db(o_.rms_reference);
    auto level = [&](const char* name, double rms, double floor, const char* weighting) {
      const auto value = level_dbfs(rms), own = level_dbfs(floor);
      reading(name, value ? std::optional(*value + shift) : std::nullopt, "dBFS",
              {{"weighting", std::string(weighting)}, {"rms_reference", name_of(o_.rms_reference)}},
              own ? std::optional(*own + shift) : std::nullopt);
    };
    level("noise_dbfs", c.noise_rms, result_.floor_rms, "none");
    level("noise_a_dbfs", c.noise_a_rms, result_.floor_a_rms, "A");
    level("noise_468_dbfs", c.noise_468_rms, result_.floor_468_rms, "ITU-R 468, RMS detector");
    if (!o_.full_scale_vrms) return;
    const double vrms = c.noise_rms * std::sqrt(2.0) * *o_.full_scale_vrms;
    const Conditions calibration = {{"weighting", std::string("none")},
                                    {"full_scale_vrms", *o_.full_scale_vrms}};
    reading("noise_uvrms", vrms * 1e6, "uV", calibration);
    reading("noise_dbu", level_dbfs(vrms / kVoltsAt0Dbu), "dBu", calibration);
    reading("noise_a_dbu", level_dbfs(c.noise_a_rms * std::sqrt(2.0) * *o_.full_scale_vrms / kVoltsAt0Dbu),
            "dBu", {{"weighting", std::string("A")}, {"full_scale_vrms", *o_.full_scale_vrms}});
  }

  void add_ratios(const ChannelNoise& c) {
    const double reference = ratio_from_db(o_.reference_dbfs) / std::sqrt(2.0);
    const Conditions to = {{"reference_dbfs", o_.reference_dbfs}};
    if (c.tone_hz)
      reading("snr_db", db_from_ratio(c.tone_peak / std::sqrt(2.0) / c.noise_rms), "dB",
              {{"level_dbfs", db_from_ratio(c.tone_peak)}});
    reading("dynamic_range_db", db_from_ratio(reference / c.noise_rms), "dB", to);
    reading("dynamic_range_a_db", db_from_ratio(reference / c.noise_a_rms), "dB",
            {{"reference_dbfs", o_.reference_dbfs}, {"weighting", std::string("A")}});
    // (SINAD - 1.76 - level)/6.02 with a full-scale sine is the same as what stands below it.
    const double below_full_scale_db = db_from_ratio(1 / std::sqrt(2.0) / c.whole_rms);
    sheet_.readings.push_back(
        {"effective_bits", channel_, (below_full_scale_db - 1.76) / 6.02, "bits", std::nullopt, false,
         with_common({{"bandwidth_hz", std::vector<double>{0, result_.sample_rate_hz / 2}},
                      {"source", std::string("IEEE 1241")}})});
    reading("dynamic_range_bits", db_from_ratio(reference / c.noise_rms) / 6.02, "bits", to);
    reading("over_16_bit_db", below_full_scale_db - (6.02 * 16 + 1.76), "dB",
            {{"compared_with", std::string("an ideal 16-bit converter, 0 Hz to half the rate")}});
    reading("over_24_bit_db", below_full_scale_db - (6.02 * 24 + 1.76), "dB",
            {{"compared_with", std::string("an ideal 24-bit converter, 0 Hz to half the rate")}});
  }

  void add_mains(const ChannelNoise& c) {
    reading("mains_hz", c.mains_hz, "Hz", {});
    if (c.mains.empty()) {
      sheet_.readings.push_back({"mains_dbfs", channel_, level_dbfs(c.mains_bound), "dBFS", std::nullopt,
                                 c.mains_bound > 0, with_common({})});
      say(Severity::note, c.mains_bound > 0
                              ? fmt::format("no mains hum above {:.1f} dBFS", db_from_ratio(c.mains_bound))
                              : std::string("too short to look for mains hum: it takes a second"));
      return;
    }
    for (const MainsLine& line : c.mains)
      reading("mains_dbfs", db_from_ratio(line.peak), "dBFS",
              {{"at_hz", line.hz}, {"line", static_cast<std::int64_t>(line.order)}});
    const auto strongest = std::max_element(c.mains.begin(), c.mains.end(),
                                            [](const auto& a, const auto& b) { return a.peak < b.peak; });
    say(Severity::note,
        fmt::format("mains hum at {:.3f} Hz: {} line{}, the strongest {:.1f} dBFS at {:.1f} Hz", *c.mains_hz,
                    c.mains.size(), c.mains.size() == 1 ? "" : "s", db_from_ratio(strongest->peak),
                    strongest->hz));
  }

  void add_spurs(const ChannelNoise& c) {
    for (const SpurLine& spur : c.spurs)
      reading("spur_dbfs", level_dbfs(spur.peak), "dBFS", {{"at_hz", spur.hz}});
    if (!c.spurs.empty())
      say(Severity::note,
          fmt::format("{} other line{}, the strongest {:.1f} dBFS at {:.1f} Hz; counted as noise",
                      c.spurs.size(), c.spurs.size() == 1 ? "" : "s",
                      db_from_ratio(std::max(1e-15, c.spurs[0].peak)), c.spurs[0].hz));
  }

  void tell(const ChannelNoise& c) {
    const double shift = rms_reference_db(o_.rms_reference);
    const double range_db = db_from_ratio(ratio_from_db(o_.reference_dbfs) / std::sqrt(2.0) / c.noise_rms);
    sheet_.findings.insert(
        sheet_.findings.begin() + static_cast<std::ptrdiff_t>(told_++),
        {Severity::note,
         fmt::format("noise {:.1f} dBFS ({:.1f} A-weighted), {:g} Hz to {:g} kHz, under {}: {:.1f} dB "
                     "({:.1f} bits) below {:g} dBFS",
                     db_from_ratio(c.noise_rms) + shift, db_from_ratio(c.noise_a_rms) + shift,
                     o_.band_from_hz, result_.band_to_hz / 1000, under_, range_db, range_db / 6.02,
                     o_.reference_dbfs),
         channel_});
    const double seconds = static_cast<double>(result_.frames) / result_.sample_rate_hz;
    if (seconds < kExactS)
      say(Severity::note,
          fmt::format("{:.2f} s are short for noise: the level spreads by {:.2f} dB; five seconds are exact",
                      seconds, result_.spread_db));
    if (result_.floor_rms > 0 && c.noise_rms < 2 * result_.floor_rms)
      say(Severity::warning,
          "this is hardly more than the rounding of the capture's own format: capture it in more bits");
    if (c.over_time.size() >= 12) {
      const auto third = static_cast<std::ptrdiff_t>(c.over_time.size() / 3);
      auto mean = [](auto from, auto to) {
        double sum = 0;
        for (auto i = from; i != to; ++i) sum += *i * *i;
        return std::sqrt(sum / static_cast<double>(to - from));
      };
      const double change = db_from_ratio(mean(c.over_time.end() - third, c.over_time.end()) /
                                          mean(c.over_time.begin(), c.over_time.begin() + third));
      if (std::abs(change) > kComesUpDb)
        say(Severity::warning,
            fmt::format("the noise {} by {:.1f} dB from the first third to the last: it is not steady",
                        change > 0 ? "comes up" : "goes down", std::abs(change)));
    }
  }

  void add_curves(const ChannelNoise& c) {
    Curve density{"noise density", channel_, "Hz", "dBFS per root Hz", c.density_hz, {}};
    for (const double v : c.density) density.y.push_back(std::max(kShownDbfs, db_from_ratio(v + 1e-30)));
    sheet_.curves.push_back(std::move(density));
    Curve time{"noise", channel_, "s", "dBFS", {}, {}};
    for (std::size_t i = 0; i < c.over_time.size(); ++i) {
      time.x.push_back(o_.from_s + result_.window_s / 2 + static_cast<double>(i) * result_.hop_s);
      time.y.push_back(
          std::max(kShownDbfs, db_from_ratio(c.over_time[i] + 1e-30) + rms_reference_db(o_.rms_reference)));
    }
    sheet_.curves.push_back(std::move(time));
  }

  Conditions with_common(Conditions conditions) const {
    const bool has_band = std::any_of(conditions.begin(), conditions.end(),
                                      [](const auto& c) { return c.first == "bandwidth_hz"; });
    if (!has_band)
      conditions.emplace_back("bandwidth_hz", std::vector<double>{o_.band_from_hz, result_.band_to_hz});
    conditions.emplace_back("under", under_);
    conditions.emplace_back("sample_rate_hz", result_.sample_rate_hz);
    conditions.emplace_back("from_s", o_.from_s);
    conditions.emplace_back("duration_s", static_cast<double>(result_.frames) / result_.sample_rate_hz);
    conditions.emplace_back("window", std::string("Kaiser 20"));
    conditions.emplace_back("spread_db", result_.spread_db);
    return conditions;
  }
  void reading(const char* name, std::optional<double> value, const char* unit, const Conditions& more,
               std::optional<double> floor = std::nullopt) {
    sheet_.readings.push_back({name, channel_, value, unit, floor, false, with_common(more)});
  }
  void say(Severity severity, std::string text) {
    sheet_.findings.push_back({severity, std::move(text), channel_});
  }

  const NoiseResult& result_;
  Sheet& sheet_;
  const NoiseOptions& o_;
  int channel_ = 0;
  std::string under_;
  std::size_t told_ = 0;
};

}  // namespace

Sheet noise_sheet(const NoiseResult& result, const CaptureInfo& capture) {
  Sheet sheet{"noise", capture, {}, {}, {}, {}, {}};
  Builder builder(result, sheet);
  for (std::size_t c = 0; c < result.channels.size(); ++c) builder.add(static_cast<int>(c));
  return sheet;
}

}  // namespace wavicon
