#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/response.hpp"

namespace wavicon {
namespace {

constexpr double kFlatDb = 0.1;
constexpr double kShownMs = 20;  // of the response over time

std::string edge_text(const char* side, const ResponseEdge& edge) {
  std::string text = fmt::format("{} edge {:.4g} Hz (-3 dB)", side, edge.hz);
  if (edge.order > 0)
    text += fmt::format(", falling by {:.1f} dB/octave: {} pole{}", edge.slope_db_per_octave, edge.order,
                        edge.order == 1 ? "" : "s");
  else if (edge.slope_db_per_octave > 0)
    text += fmt::format(", falling by up to {:.1f} dB/octave", edge.slope_db_per_octave);
  return text;
}

}  // namespace

Sheet response_sheet(const ResponseResult& r, const CaptureInfo& a, const CaptureInfo& b) {
  Sheet sheet{"response", b, {}, {}, {}, {}, {}};
  for (std::size_t i = 0; i < r.channels.size(); ++i) {
    const ChannelResponse& c = r.channels[i];
    const int channel = static_cast<int>(i);
    auto say = [&](Severity severity, std::string text) {
      sheet.findings.push_back({severity, std::move(text), channel});
    };
    if (!c.measured) {
      say(Severity::warning, "silent, or nothing of A in it: not measured");
      continue;
    }
    Conditions common = {
        {"reference", a.file},
        {"by", std::string(r.options.sweep ? "sweep" : "averaged spectra")},
        {"reference_hz", r.options.reference_hz},
        {"delay_samples", std::round(1e6 * c.delay_samples) / 1e6 + 0.0},
        {"measured_hz", std::vector<double>{c.points.front().hz, c.points.back().hz}},
        {"smoothing",
         r.options.smoothing > 0 ? fmt::format("1/{:g} octave", r.options.smoothing) : std::string("none")},
        {"sample_rate_hz", r.sample_rate_hz},
        {"from_s", r.options.from_s},
        {"duration_s", r.seconds}};
    auto add = [&](const char* name, double value, const char* unit, Conditions more = {}) {
      more.insert(more.end(), common.begin(), common.end());
      sheet.readings.push_back({name, channel, value, unit, std::nullopt, false, std::move(more), {}});
    };
    add("gain_db", c.gain_db, "dB");
    add("broadband_db", c.broadband_db, "dB", {{"means", std::string("RMS of B over that of A")}});
    add("ripple_db", c.ripple_db, "dB",
        {{"bandwidth_hz", std::vector<double>{r.options.band_from_hz, r.options.band_to_hz}}});
    std::string text = fmt::format("{:+.2f} dB at {:g} Hz, {:+.2f} dB overall", c.gain_db,
                                   r.options.reference_hz, c.broadband_db);
    for (const auto& [edge, side, name] :
         {std::tuple{&c.lower, "lower", "lower_edge_hz"}, std::tuple{&c.upper, "upper", "upper_edge_hz"}}) {
      if (!*edge) continue;
      add(name, (*edge)->hz, "Hz", {{"at_db", -3.0}});
      if ((*edge)->slope_db_per_octave > 0) {
        Conditions more = {{"edge", std::string(side)}};
        if ((*edge)->order > 0) more.emplace_back("order", static_cast<std::int64_t>((*edge)->order));
        add("slope_db_per_octave", (*edge)->slope_db_per_octave, "dB", more);
      }
      text += "; " + edge_text(side, **edge);
    }
    if (c.bell) {
      add("bell_hz", c.bell->hz, "Hz");
      add("bell_db", c.bell->gain_db, "dB");
      add("bell_q", c.bell->q, "");
      text += fmt::format("; a {} of {:+.2f} dB at {:.4g} Hz, Q {:.2f}", c.bell->gain_db > 0 ? "hump" : "dip",
                          c.bell->gain_db, c.bell->hz, c.bell->q);
      if (const double around = c.bell->gain_db > 0 ? c.bell->around_db : -c.bell->around_db;
          around > kFlatDb)
        text += fmt::format(", and everything is {} by about {:.1f} dB",
                            c.bell->gain_db > 0 ? "lifted" : "lowered", around);
    }
    if (!c.lower && !c.upper && !c.bell)
      text += c.ripple_db < kFlatDb
                  ? "; flat"
                  : fmt::format("; {:.2f} dB between highest and lowest in the band", c.ripple_db);
    say(Severity::note, text);
    if (c.left_out_share > 0.01)
      say(Severity::note,
          fmt::format("{:.0f} % of the axis are left out: too little of A there, or a coherence below 0.5",
                      100 * c.left_out_share));

    Curve magnitude{"magnitude", channel, "Hz", "dB", {}, {}}, phase{"phase", channel, "Hz", "deg", {}, {}},
        delay{"group delay", channel, "Hz", "ms", {}, {}}, coherence{"coherence", channel, "Hz", "", {}, {}};
    for (const ResponsePoint& p : c.points) {
      for (Curve* curve : {&magnitude, &phase, &delay, &coherence}) curve->x.push_back(p.hz);
      magnitude.y.push_back(db_from_ratio(std::max(1e-12, std::abs(p.ratio))));
      phase.y.push_back(std::arg(p.ratio) * 180 / std::numbers::pi);
      delay.y.push_back(1000 * p.group_delay_s);
      coherence.y.push_back(p.coherence);
    }
    for (Curve* curve : {&magnitude, &phase, &delay}) sheet.curves.push_back(std::move(*curve));
    if (!r.options.sweep) sheet.curves.push_back(std::move(coherence));
    if (!c.impulse.empty()) {
      Curve impulse{"impulse response", channel, "ms", "", {}, {}};
      for (std::size_t n = 0; n < c.impulse.size(); ++n) {
        const double ms =
            1000 * (static_cast<double>(n) - static_cast<double>(c.impulse_zero)) / r.sample_rate_hz;
        if (ms < -1 || ms > kShownMs) continue;
        impulse.x.push_back(ms);
        impulse.y.push_back(c.impulse[n]);
      }
      sheet.curves.push_back(std::move(impulse));
    }
  }
  return sheet;
}

}  // namespace wavicon
