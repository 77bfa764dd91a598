// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measure/common/level.hpp"
#include "measure/common/words.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/noise/noise.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

constexpr double kNoiseShownDbfs = -220;
constexpr double kExactS = 5;
constexpr double kComesUpDb = 3;
constexpr double kBurstsDb =
    10;  // of the mean power over that of the middle window: no steady noise comes near
constexpr double kHumWorthSaying = 0.05;  // of the power in the band
constexpr double kNearlyAllHum = 0.99;    // beyond, what is left is told by the lines' uncertainty alone

using measure_detail::level_dbfs;

class NoiseSheet {
 public:
  NoiseSheet(const NoiseResult& result, SheetBuilder& sheet)
      : result_(result), sheet_(sheet), o_(result.options) {}

  void add(int index) {
    const ChannelNoise& c = result_.channels[static_cast<std::size_t>(index)];
    channel_ = index;
    under_ = c.tone_hz ? fmt::format("a tone of {:.2f} Hz at {:.2f} dBFS, cut out with its harmonics",
                                     *c.tone_hz, db_from_ratio(std::max(c.tone_peak, 1e-15)))
                       : std::string("no tone");
    if (c.silent) {
      for (const auto& [name, weighting] : {std::pair{"noise_dbfs", "none"},
                                            {"noise_a_dbfs", "A"},
                                            {"noise_468_dbfs", "ITU-R 468, RMS detector"}})
        reading(name, std::nullopt,
                {{"weighting", std::string(weighting)}, {"rms_reference", name_of(o_.rms_reference)}});
      reading("dynamic_range_db", std::nullopt, {{"reference_dbfs", o_.reference_dbfs}});
      reading("dynamic_range_a_db", std::nullopt,
              {{"reference_dbfs", o_.reference_dbfs}, {"weighting", std::string("A")}});
      reading("effective_bits", std::nullopt, {{"source", std::string("IEEE 1241")}});
      return say(Severity::warning, FindingCode::silent_channel,
                 "every sample is zero: digital silence has no noise to measure");
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
    auto level = [&](const char* name, double rms, double uncertainty_db, double floor,
                     const char* weighting) {
      const auto value = level_dbfs(rms), own = level_dbfs(floor);
      reading(name, value ? std::optional(*value + shift) : std::nullopt,
              {{"weighting", std::string(weighting)}, {"rms_reference", name_of(o_.rms_reference)}},
              own ? std::optional(*own + shift) : std::nullopt)
          .uncertainty = uncertainty_db;
    };
    level("noise_dbfs", c.noise_rms, c.noise_uncertainty_db, result_.floor_rms, "none");
    level("noise_a_dbfs", c.noise_a_rms, c.noise_a_uncertainty_db, result_.floor_a_rms, "A");
    level("noise_468_dbfs", c.noise_468_rms, c.noise_468_uncertainty_db, result_.floor_468_rms,
          "ITU-R 468, RMS detector");
    for (const BandNoise& band : c.more_bands) {
      const auto value = level_dbfs(band.rms);
      reading("noise_dbfs", value ? std::optional(*value + shift) : std::nullopt,
              {{"bandwidth_hz", std::vector<double>{band.from_hz, band.to_hz}},
               {"weighting", std::string("none")},
               {"rms_reference", name_of(o_.rms_reference)}})
          .uncertainty = band.uncertainty_db;
    }
    if (!o_.full_scale_vrms) return;
    const double vrms = c.noise_rms * std::sqrt(2.0) * *o_.full_scale_vrms;
    const Conditions calibration = {{"weighting", std::string("none")},
                                    {"full_scale_vrms", *o_.full_scale_vrms}};
    reading("noise_uvrms", vrms * 1e6, calibration).uncertainty =
        vrms * 1e6 * (ratio_from_db(c.noise_uncertainty_db) - 1);
    reading("noise_dbu", level_dbfs(vrms / kVoltsAt0Dbu), calibration).uncertainty = c.noise_uncertainty_db;
    reading("noise_a_dbu", level_dbfs(c.noise_a_rms * std::sqrt(2.0) * *o_.full_scale_vrms / kVoltsAt0Dbu),
            {{"weighting", std::string("A")}, {"full_scale_vrms", *o_.full_scale_vrms}})
        .uncertainty = c.noise_a_uncertainty_db;
  }

  void add_ratios(const ChannelNoise& c) {
    const double reference = ratio_from_db(o_.reference_dbfs) / std::sqrt(2.0);
    const Conditions to = {{"reference_dbfs", o_.reference_dbfs}};
    if (c.tone_hz)
      reading("snr_db", db_from_ratio(c.tone_peak / std::sqrt(2.0) / c.noise_rms),
              {{"level_dbfs", db_from_ratio(c.tone_peak)}})
          .uncertainty = std::hypot(c.noise_uncertainty_db, c.tone_uncertainty_db);
    reading("dynamic_range_db", db_from_ratio(reference / c.noise_rms), to).uncertainty =
        c.noise_uncertainty_db;
    reading("dynamic_range_a_db", db_from_ratio(reference / c.noise_a_rms),
            {{"reference_dbfs", o_.reference_dbfs}, {"weighting", std::string("A")}})
        .uncertainty = c.noise_a_uncertainty_db;
    // (SINAD - 1.76 - level)/6.02 with a full-scale sine is the same as what stands below it.
    const double below_full_scale_db = db_from_ratio(1 / std::sqrt(2.0) / c.whole_rms);
    reading("effective_bits", (below_full_scale_db - 1.76) / 6.02,
            {{"bandwidth_hz", std::vector<double>{0, result_.sample_rate_hz / 2}},
             {"source", std::string("IEEE 1241")}})
        .uncertainty = c.whole_uncertainty_db / 6.02;
    reading("dynamic_range_bits", db_from_ratio(reference / c.noise_rms) / 6.02, to).uncertainty =
        c.noise_uncertainty_db / 6.02;
    // An ideal converter's noise is spread evenly up to half the rate: a band holds its share.
    const double band_hz = result_.band_to_hz - o_.band_from_hz,
                 in_band_db = db_from_ratio(1 / std::sqrt(2.0) / c.band_rms) -
                              db_from_power_ratio(result_.sample_rate_hz / 2 / band_hz);
    for (const int bits : {16, 24})
      reading(fmt::format("over_{}_bit_db", bits).c_str(), in_band_db - (6.02 * bits + 1.76),
              {{"compared_with", fmt::format("an ideal {}-bit converter in the same band", bits)}})
          .uncertainty = c.band_uncertainty_db;
  }

  void add_mains(const ChannelNoise& c) {
    Reading& mains = reading("mains_hz", c.mains_hz, {});
    if (c.mains_hz) mains.uncertainty = c.mains_uncertainty_hz;
    if (c.mains.empty()) {
      reading("mains_dbfs", level_dbfs(c.mains_bound), {}).bound = c.mains_bound > 0;
      say(Severity::note, FindingCode::nothing_found,
          c.mains_bound > 0 ? fmt::format("no mains hum above {:.1f} dBFS", db_from_ratio(c.mains_bound))
                            : std::string("too short to look for mains hum: it takes a second"));
      return;
    }
    for (const MainsLine& line : c.mains)
      reading("mains_dbfs", db_from_ratio(line.peak),
              {{"at_hz", line.hz}, {"line", static_cast<std::int64_t>(line.order)}})
          .uncertainty = line.uncertainty_db;
    const auto strongest = std::max_element(c.mains.begin(), c.mains.end(),
                                            [](const auto& a, const auto& b) { return a.peak < b.peak; });
    say(Severity::note, FindingCode::mains_hum,
        fmt::format("mains hum at {:.3f} Hz: {} line{}, the strongest {:.1f} dBFS at {:.1f} Hz{}",
                    *c.mains_hz, c.mains.size(), c.mains.size() == 1 ? "" : "s",
                    db_from_ratio(strongest->peak), strongest->hz, share_of_hum(c)));
  }

  // What the level would be without it, where that is worth saying.
  [[nodiscard]] std::string share_of_hum(const ChannelNoise& c) const {
    double hum = 0;
    for (const MainsLine& line : c.mains)
      if (line.hz >= o_.band_from_hz && line.hz <= result_.band_to_hz) hum += line.peak * line.peak / 2;
    const double all = c.noise_rms * c.noise_rms;
    if (hum < kHumWorthSaying * all) return "";
    if (hum > kNearlyAllHum * all)
      return fmt::format("; over {:.0f} % of the noise power is hum", 100 * kNearlyAllHum);
    return fmt::format("; {:.0f} % of the noise power is hum, {:.1f} dBFS are left without it",
                       100 * hum / all,
                       db_from_ratio(std::sqrt(all - hum)) + rms_reference_db(o_.rms_reference));
  }

  void add_spurs(const ChannelNoise& c) {
    for (const SpurLine& spur : c.spurs)
      reading("spur_dbfs", level_dbfs(spur.peak), {{"at_hz", spur.hz}}).uncertainty = spur.uncertainty_db;
    if (!c.spurs.empty())
      say(Severity::note, FindingCode::detail,
          fmt::format("{} other line{}, the strongest {:.1f} dBFS at {:.1f} Hz; counted as noise",
                      c.spurs.size(), c.spurs.size() == 1 ? "" : "s",
                      db_from_ratio(std::max(1e-15, c.spurs[0].peak)), c.spurs[0].hz));
  }

  void tell(const ChannelNoise& c) {
    const double shift = rms_reference_db(o_.rms_reference);
    const double range_db = db_from_ratio(ratio_from_db(o_.reference_dbfs) / std::sqrt(2.0) / c.noise_rms);
    auto& findings = sheet_.sheet().findings;
    findings.insert(
        findings.begin() + static_cast<std::ptrdiff_t>(told_++),
        {Severity::note, FindingCode::result,
         fmt::format("noise {:.1f} dBFS ({:.1f} A-weighted), {:g} Hz to {:g} kHz, under {}: {:.1f} dB "
                     "({:.1f} bits) below {:g} dBFS",
                     db_from_ratio(c.noise_rms) + shift, db_from_ratio(c.noise_a_rms) + shift,
                     o_.band_from_hz, result_.band_to_hz / 1000, under_, range_db, range_db / 6.02,
                     o_.reference_dbfs) +
             other_bands(c, shift),
         channel_});
    if (o_.played_tone_hz && !c.tone_hz)
      say(Severity::warning, FindingCode::nothing_found,
          fmt::format("the tone of {:g} Hz that was played does not stand out: nothing was cut out",
                      *o_.played_tone_hz));
    const double seconds = static_cast<double>(result_.frames) / result_.sample_rate_hz;
    if (seconds < kExactS)
      say(Severity::note, FindingCode::too_short,
          fmt::format(
              "{:.2f} s is short for a noise reading (the level spreads by {:.2f} dB); use 5 s or more",
              seconds, 0.5 * c.noise_uncertainty_db));
    if (result_.floor_rms > 0 && c.noise_rms < 2 * result_.floor_rms)
      say(Severity::warning, FindingCode::doubtful,
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
        say(Severity::warning, FindingCode::unsettled,
            fmt::format("the noise {} by {:.1f} dB from the first third to the last: it is not steady",
                        change > 0 ? "comes up" : "goes down", std::abs(change)));
      else
        tell_bursts(c, shift);
    }
  }

  // A tone that begins, a click, a word: few windows that make the figure of all.
  void tell_bursts(const ChannelNoise& c, double shift) {
    std::vector<double> sorted = c.over_time;
    const auto middle = sorted.begin() + static_cast<std::ptrdiff_t>(sorted.size() / 2);
    std::nth_element(sorted.begin(), middle, sorted.end());
    double squares = 0;
    for (const double level : c.over_time) squares += level * level;
    const double mean = std::sqrt(squares / static_cast<double>(c.over_time.size())),
                 usual_db = db_from_ratio(std::max(1e-15, *middle));
    if (!(mean > 0) || db_from_ratio(mean) - usual_db < kBurstsDb) return;
    const auto loudest = std::max_element(c.over_time.begin(), c.over_time.end()) - c.over_time.begin();
    const double at_s = o_.from_s + static_cast<double>(loudest) * result_.hop_s;
    say(Severity::warning, FindingCode::unsettled,
        fmt::format(
            "short sounds make this figure: half of the time the noise is not above {:.1f} dBFS, between "
            "{:.2f} and {:.2f} s it is {:.1f}; leave that out with --from and --to",
            usual_db + shift, at_s, at_s + result_.window_s,
            db_from_ratio(c.over_time[static_cast<std::size_t>(loudest)]) + shift));
  }

  static std::string other_bands(const ChannelNoise& c, double shift) {
    std::string text;
    for (const BandNoise& band : c.more_bands)
      text += fmt::format("; {:.1f} dBFS from {} to {}", db_from_ratio(std::max(1e-15, band.rms)) + shift,
                          measure_detail::hz_text(band.from_hz, 5), measure_detail::hz_text(band.to_hz, 5));
    return text;
  }

  void add_curves(const ChannelNoise& c) {
    Curve density{"noise density", channel_, "Hz", "dBFS per root Hz", c.density_hz, {}};
    for (const double v : c.density) density.y.push_back(std::max(kNoiseShownDbfs, db_from_ratio(v + 1e-30)));
    sheet_.draw(std::move(density));
    Curve time{"noise", channel_, "s", "dBFS", {}, {}};
    for (std::size_t i = 0; i < c.over_time.size(); ++i) {
      time.x.push_back(o_.from_s + result_.window_s / 2 + static_cast<double>(i) * result_.hop_s);
      time.y.push_back(std::max(kNoiseShownDbfs,
                                db_from_ratio(c.over_time[i] + 1e-30) + rms_reference_db(o_.rms_reference)));
    }
    sheet_.draw(std::move(time));
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
  Reading& reading(const char* name, std::optional<double> value, const Conditions& more,
                   std::optional<double> floor = std::nullopt) {
    Reading& r = sheet_.add(name, channel_, value, with_common(more));
    r.floor = floor;
    return r;
  }
  void say(Severity severity, FindingCode code, std::string text) {
    sheet_.say(severity, code, std::move(text), channel_);
  }

  const NoiseResult& result_;
  SheetBuilder& sheet_;
  const NoiseOptions& o_;
  int channel_ = 0;
  std::string under_;
  std::size_t told_ = 0;
};

}  // namespace

Sheet noise_sheet(const NoiseResult& result, const CaptureInfo& capture) {
  SheetBuilder sheet(noise_readings(), capture);
  NoiseSheet builder(result, sheet);
  for (std::size_t c = 0; c < result.channels.size(); ++c) builder.add(static_cast<int>(c));
  return sheet.finish();
}

}  // namespace wavicon
