#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/pair.hpp"

namespace wavicon {
namespace {

constexpr double kShown = 0.5;  // coherence from which a phase is told
constexpr double kQuietLufs = -70;
constexpr double kLowestDbfs = -200;
constexpr std::size_t kTimePoints = 1000;

double level_db(double rms) { return rms > 0 ? std::max(kLowestDbfs, db_from_ratio(rms)) : kLowestDbfs; }

Curve histogram(const std::string& name, const std::vector<double>& lufs) {
  std::map<int, double> counts;
  double all = 0;
  for (const double value : lufs)
    if (std::isfinite(value) && value > kQuietLufs) {
      counts[static_cast<int>(std::floor(value))] += 1;
      all += 1;
    }
  Curve curve{name, std::nullopt, "LUFS", "%", {}, {}};
  if (counts.empty()) return curve;
  for (int level = counts.begin()->first; level <= counts.rbegin()->first; ++level) {
    curve.x.push_back(level + 0.5);
    curve.y.push_back(100 * (counts.count(level) > 0 ? counts[level] : 0) / all);
  }
  return curve;
}

}  // namespace

Sheet pair_sheet(const PairResult& r, const CaptureInfo& capture, const std::string& a_name,
                 const std::string& b_name) {
  Sheet sheet{"pair", capture, {}, {}, {}, {}, {}};
  const Conditions common = {{"a", a_name},
                             {"b", b_name},
                             {"sample_rate_hz", r.sample_rate_hz},
                             {"from_s", r.options.from_s},
                             {"duration_s", r.seconds},
                             {"rms_reference", std::string("square")}};
  auto add = [&](const char* name, std::optional<double> value, const char* unit,
                 const Conditions& more = {}) {
    Reading reading{name, std::nullopt, value, unit, std::nullopt, false, more, {}};
    reading.conditions.insert(reading.conditions.end(), common.begin(), common.end());
    sheet.readings.push_back(std::move(reading));
  };
  auto say = [&](Severity severity, std::string text) {
    sheet.findings.push_back({severity, std::move(text), std::nullopt});
  };

  const double difference = db_from_ratio(r.b_rms / r.a_rms);
  say(Severity::note,
      fmt::format(
          "B is {}; correlation {:.3f}; {}",
          std::abs(difference) < 0.005 ? std::string("as loud as A")
                                       : fmt::format("{:.2f} dB {} than A", std::abs(difference),
                                                     difference < 0 ? "softer" : "louder"),
          r.correlation,
          r.time_offset_samples
              ? fmt::format("B comes {:.2f} samples {}{}", std::abs(*r.time_offset_samples),
                            *r.time_offset_samples < 0 ? "early" : "late", r.polarity < 0 ? ", inverted" : "")
              : "they have too little in common for a time offset"));
  add("level_difference_db", difference, "dB");
  if (r.a_lufs && r.b_lufs) add("loudness_difference_lu", *r.b_lufs - *r.a_lufs, "LU");
  add("correlation", r.correlation, "");
  add("time_offset_samples", r.time_offset_samples, "samples");
  if (r.time_offset_samples) add("polarity", r.polarity, "");
  const double loss = r.mono_sum_ratio > 0 ? db_from_ratio(r.mono_sum_ratio) : kLowestDbfs;
  add("mono_sum_loss_db", std::min(0.0, loss), "dB",
      {{"means", std::string("of (A+B)/2 against the mean power of both")}});
  if (loss < -6)
    say(Severity::warning,
        fmt::format("the mono sum loses {:.1f} dB: {}", -loss,
                    r.correlation < 0
                        ? "one of them is inverted, or late by half a period where most of the power lies"
                        : "time or phase differ"));
  // Octave centres, where the two are coherent.
  for (const PairBand& band : r.bands) {
    constexpr std::array kOctaves = {63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 16000.0};
    const bool octave = std::any_of(kOctaves.begin(), kOctaves.end(),
                                    [&](double hz) { return std::abs(band.hz / hz - 1) < 0.02; });
    if (!octave || band.coherence < kShown) continue;
    add("phase_deg", band.phase_deg, "deg", {{"centre_hz", band.hz}, {"coherence", band.coherence}});
  }
  // Bands whose sum suffers while the whole does not.
  for (const PairBand& band : r.bands)
    if (band.correlation < -0.5 && loss > -6 && band.a > 0.05 * r.a_rms) {
      say(Severity::note, fmt::format("around {:.0f} Hz the two work against each other: correlation {:.2f}",
                                      band.hz, band.correlation));
      break;
    }

  auto over_bands = [&](const char* name, const char* unit, auto&& value, bool coherent_only = false) {
    Curve curve{name, std::nullopt, "Hz", unit, {}, {}};
    for (const PairBand& band : r.bands) {
      if (coherent_only && band.coherence < kShown) continue;
      curve.x.push_back(band.hz);
      curve.y.push_back(value(band));
    }
    sheet.curves.push_back(std::move(curve));
  };
  over_bands("A", "dBFS", [](const PairBand& b) { return level_db(b.a); });
  over_bands("B", "dBFS", [](const PairBand& b) { return level_db(b.b); });
  over_bands("mid", "dBFS", [](const PairBand& b) { return level_db(b.mid); });
  over_bands("side", "dBFS", [](const PairBand& b) { return level_db(b.side); });
  over_bands("B over A", "dB", [](const PairBand& b) { return level_db(b.b) - level_db(b.a); });
  over_bands("correlation per band", "", [](const PairBand& b) { return b.correlation; });
  over_bands("coherence", "", [](const PairBand& b) { return b.coherence; });
  over_bands(
      "phase", "deg", [](const PairBand& b) { return b.phase_deg; }, true);

  const std::size_t each = (r.a_over_time.size() + kTimePoints - 1) / kTimePoints;
  auto over_time = [&](const char* name, const char* unit, const std::vector<double>& values, bool level) {
    Curve curve{name, std::nullopt, "s", unit, {}, {}};
    for (std::size_t i = 0; i < values.size(); i += each) {
      const std::size_t end = std::min(values.size(), i + each);
      double sum = 0, counted = 0;
      for (std::size_t k = i; k < end; ++k) {
        if (!level && (r.a_over_time[k] == 0 || r.b_over_time[k] == 0))
          continue;  // silence correlates with nothing
        sum += level ? values[k] * values[k] : values[k];
        counted += 1;
      }
      if (counted == 0) continue;
      const double mean = sum / counted;
      curve.x.push_back(r.options.from_s + 0.5 * static_cast<double>(i + end) * r.hop_s);
      curve.y.push_back(level ? level_db(std::sqrt(mean)) : mean);
    }
    sheet.curves.push_back(std::move(curve));
  };
  over_time("A over time", "dBFS", r.a_over_time, true);
  over_time("B over time", "dBFS", r.b_over_time, true);
  over_time("correlation over time", "", r.correlation_over_time, false);
  sheet.curves.push_back(histogram("loudness of A", r.a_momentary_lufs));
  sheet.curves.push_back(histogram("loudness of B", r.b_momentary_lufs));
  return sheet;
}

}  // namespace wavicon
