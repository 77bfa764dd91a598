// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measure/common/level.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/spectrum/spectrum.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

constexpr double kSpectrumShownDb = -260;

using measure_detail::level_dbfs;

class SpectrumSheet {
 public:
  SpectrumSheet(const SpectrumResult& result, SheetBuilder& sheet) : result_(result), sheet_(sheet) {}

  void add(int channel) {
    const ChannelSpectrum& c = result_.channels[static_cast<std::size_t>(channel)];
    for (const SpectrumPeak& peak : c.peaks) {
      reading("line_dbfs", channel, level_dbfs(peak.peak), {{"at_hz", peak.hz}, {"likely", peak.guess}})
          .uncertainty = peak.uncertainty_db;
      // Of a line the RMS of its sine.
      if (const auto volts = result_.options.full_scale_vrms)
        reading("line_dbu", channel, level_dbfs(peak.peak * *volts / kVoltsAt0Dbu),
                {{"at_hz", peak.hz}, {"full_scale_vrms", *volts}})
            .uncertainty = peak.uncertainty_db;
    }
    for (const SpectrumBand& band : c.bands) {
      Conditions more = {{"centre_hz", band.centre_hz},
                         {"spread_db", band.spread_db},
                         {"rms_reference", std::string("square")}};
      if (result_.period_count > 0) more.emplace_back("periods", result_.period_count);
      if (const auto volts = result_.options.full_scale_vrms)
        reading("band_dbu", channel, level_dbfs(band.rms * std::sqrt(2.0) * *volts / kVoltsAt0Dbu),
                {{"centre_hz", band.centre_hz}, {"full_scale_vrms", *volts}})
            .uncertainty = band.uncertainty_db;
      reading("band_dbfs", channel, level_dbfs(band.rms), std::move(more)).uncertainty = band.uncertainty_db;
    }
    reading("near_dc_dbfs", channel, level_dbfs(c.dc),
            {{"bandwidth_hz", std::vector<double>{0, half_lobe_hz()}}})
        .uncertainty = c.dc_uncertainty_db;
    if (half_lobe_hz() < 20)
      reading("below_20_hz_dbfs", channel, level_dbfs(c.below_20_rms),
              {{"bandwidth_hz", std::vector<double>{half_lobe_hz(), 20}}})
          .uncertainty = c.below_20_uncertainty_db;
    add_curves(c, channel);
    tell(c, channel);
  }

 private:
  // From 0 Hz on, so far a constant looks like a line.
  [[nodiscard]] double half_lobe_hz() const { return 6.44 / result_.window_s; }

  void tell(const ChannelSpectrum& c, int channel) {
    if (c.silent)
      return say(Severity::warning, FindingCode::silent_channel, channel,
                 "every sample is zero: there is no spectrum");
    if (c.peaks.empty()) {
      say(Severity::note, FindingCode::nothing_found, channel,
          "no line stands 15 dB out of what lies around it");
    } else {
      std::string text = fmt::format("strongest line {:.2f} dBFS at {:.2f} Hz",
                                     db_from_ratio(std::max(1e-15, c.peaks[0].peak)), c.peaks[0].hz);
      for (std::size_t i = 1; i < std::min<std::size_t>(4, c.peaks.size()); ++i)
        text += fmt::format(", {:.1f} dBFS at {:.1f} Hz ({})",
                            db_from_ratio(std::max(1e-15, c.peaks[i].peak)), c.peaks[i].hz, c.peaks[i].guess);
      say(Severity::note, FindingCode::result, channel, text);
    }
    const double strongest = c.peaks.empty() ? 0 : c.peaks[0].peak;
    if (c.constant && c.dc > 1e-5 && c.dc > 0.01 * strongest)
      say(Severity::note, FindingCode::dc_offset, channel,
          fmt::format("the hump at the low end is a DC offset of {:.1f} dBFS, seen through a window {:.1f} "
                      "Hz wide: no hum and no rumble",
                      db_from_ratio(c.dc), half_lobe_hz()));
    if (c.wobbles && c.dc > 1e-5 && c.dc > 0.01 * strongest)
      say(Severity::note, FindingCode::result, channel,
          fmt::format(
              "the hump at the low end is a wobble slower than {:.1f} Hz, {:.1f} dBFS RMS: it moves from "
              "window to window, and is no DC offset",
              half_lobe_hz(), db_from_ratio(c.dc)));
    if (result_.period_count == 1)
      say(Severity::note, FindingCode::too_short, channel,
          "bands of one period: what noise adds to them cannot be told");
    if (result_.window_count < 4)
      say(Severity::note, FindingCode::too_short, channel,
          fmt::format("{} window{} averaged: noise is ragged by some 5 dB", result_.window_count,
                      result_.window_count == 1 ? "" : "s"));
  }

  void add_curves(const ChannelSpectrum& c, int channel) {
    const char* unit = result_.options.density ? "dBFS per root Hz" : "dBFS";
    auto add = [&](const char* name, const std::vector<double>& values) {
      Curve curve{name, channel, "Hz", unit, c.hz, {}};
      for (const double v : values) curve.y.push_back(std::max(kSpectrumShownDb, db_from_ratio(v + 1e-30)));
      sheet_.draw(std::move(curve));
    };
    add("spectrum", c.level);
    if (!c.held.empty()) add("peak hold", c.held);
    if (c.bands.empty()) return;
    Curve bands{"bands", channel, "Hz", "dBFS", {}, {}};
    for (const SpectrumBand& band : c.bands) {
      bands.x.push_back(band.centre_hz);
      bands.y.push_back(std::max(kSpectrumShownDb, db_from_ratio(band.rms + 1e-30)));
    }
    sheet_.draw(std::move(bands));
  }

  Reading& reading(const char* name, int channel, std::optional<double> value, Conditions conditions) {
    conditions.emplace_back("resolution_hz", result_.options.resolution_hz);
    conditions.emplace_back("averages", result_.window_count);
    conditions.emplace_back("window", std::string("Kaiser 20"));
    conditions.emplace_back("window_s", result_.window_s);
    conditions.emplace_back("sample_rate_hz", result_.sample_rate_hz);
    conditions.emplace_back("from_s", result_.options.from_s);
    conditions.emplace_back("duration_s", static_cast<double>(result_.frames) / result_.sample_rate_hz);
    if (result_.options.mid_side) conditions.emplace_back("view", std::string(channel == 0 ? "mid" : "side"));
    return sheet_.add(name, channel, value, std::move(conditions));
  }
  void say(Severity severity, FindingCode code, int channel, std::string text) {
    sheet_.say(severity, code, std::move(text), channel);
  }

  const SpectrumResult& result_;
  SheetBuilder& sheet_;
};

}  // namespace

Sheet spectrum_sheet(const SpectrumResult& result, const CaptureInfo& capture) {
  SheetBuilder sheet(spectrum_readings(), capture);
  SpectrumSheet builder(result, sheet);
  for (std::size_t c = 0; c < result.channels.size(); ++c) builder.add(static_cast<int>(c));
  if (result.options.mid_side) sheet.sheet().channel_names = {"mid", "side"};
  return sheet.finish();
}

}  // namespace wavicon
