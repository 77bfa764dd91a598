// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "measure/common/loudness_histogram.hpp"
#include "measure/common/slip_findings.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/pair/pair.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

constexpr double kShown = 0.5;     // coherence from which a phase is told
constexpr double kSameDb = 0.005;  // what rounds to 0.00
constexpr double kBadLossDb = -6;  // of a mono sum: unrelated signals lose 3
constexpr double kAgainst = -0.5;  // correlation of a band from which the two cancel
constexpr double kMatters = 0.05;  // of the whole level: a band that is heard
constexpr double kLowestDbfs = -200;
constexpr std::size_t kPairTimePoints = 1000;  // of a curve over time: about what a picture is wide

double level_db(double rms) { return rms > 0 ? std::max(kLowestDbfs, db_from_ratio(rms)) : kLowestDbfs; }

class PairSheet {
 public:
  PairSheet(SheetBuilder& sheet, const PairResult& r, const std::string& a_name, const std::string& b_name)
      : sheet_(sheet),
        r_(r),
        common_({{"a", a_name},
                 {"b", b_name},
                 {"sample_rate_hz", r.sample_rate_hz},
                 {"from_s", r.options.from_s},
                 {"duration_s", r.seconds},
                 {"rms_reference", std::string("square")}}) {}

  void write() {
    write_levels();
    write_mono_sum();
    write_phases();
    draw_bands();
    draw_times();
    sheet_.draw(measure_detail::loudness_histogram("loudness of A", r_.a_momentary_lufs));
    sheet_.draw(measure_detail::loudness_histogram("loudness of B", r_.b_momentary_lufs));
  }

 private:
  void add(const char* name, std::optional<double> value, std::optional<double> uncertainty,
           Conditions more = {}) {
    more.insert(more.end(), common_.begin(), common_.end());
    sheet_.add(name, std::nullopt, value, std::move(more)).uncertainty = uncertainty;
  }

  void write_levels() {
    const double difference = db_from_ratio(r_.b_rms / r_.a_rms);
    const std::string louder =
        std::abs(difference) < kSameDb
            ? std::string("as loud as A")
            : fmt::format("{:.2f} dB {} than A", std::abs(difference), difference < 0 ? "softer" : "louder");
    const std::string late =
        r_.time_offset_samples
            ? fmt::format("B comes {:.2f} samples {}{}", std::abs(*r_.time_offset_samples),
                          *r_.time_offset_samples < 0 ? "early" : "late", r_.polarity < 0 ? ", inverted" : "")
            : "they have too little in common for a time offset";
    sheet_.say(Severity::note, FindingCode::result,
               fmt::format("B is {}; correlation {:.3f}; {}", louder, r_.correlation, late));
    for (const Slip& slip : r_.slips)
      measure_detail::say_slip(
          sheet_, slip, r_.sample_rate_hz,
          fmt::format("offset, phase, coherence and bands are those from {:.3f} to {:.3f} s", r_.piece_from_s,
                      r_.piece_to_s));
    add("level_difference_db", difference, r_.level_uncertainty_db);
    if (r_.a_lufs && r_.b_lufs)
      add("loudness_difference_lu", *r_.b_lufs - *r_.a_lufs, r_.loudness_uncertainty_lu);
    add("correlation", r_.correlation, r_.correlation_uncertainty);
    add("time_offset_samples", r_.time_offset_samples, r_.time_uncertainty_samples);
    if (r_.time_offset_samples) add("polarity", r_.polarity, std::nullopt);
  }

  void write_mono_sum() {
    const double loss = r_.mono_sum_ratio > 0 ? db_from_ratio(r_.mono_sum_ratio) : kLowestDbfs;
    add("mono_sum_loss_db", std::min(0.0, loss), r_.mono_sum_uncertainty_db,
        {{"means", std::string("of (A+B)/2 against the mean power of both")}});
    if (loss < kBadLossDb) {
      sheet_.say(
          Severity::warning, FindingCode::detail,
          fmt::format("the mono sum loses {:.1f} dB: {}", -loss,
                      r_.correlation < 0
                          ? "one of them is inverted, or late by half a period where most of the power is"
                          : "time or phase differ"));
      return;
    }
    // Bands whose sum suffers while the whole does not.
    const auto bad = std::find_if(r_.bands.begin(), r_.bands.end(), [&](const PairBand& band) {
      return band.correlation < kAgainst && loss > kBadLossDb && band.a > kMatters * r_.a_rms;
    });
    if (bad != r_.bands.end())
      sheet_.say(Severity::note, FindingCode::detail,
                 fmt::format("around {:.0f} Hz the two work against each other: correlation {:.2f}", bad->hz,
                             bad->correlation));
  }

  // At octave centres, where the two are coherent.
  void write_phases() {
    constexpr std::array kOctavesHz = {63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 16000.0};
    for (const PairBand& band : r_.bands) {
      const bool octave = std::any_of(kOctavesHz.begin(), kOctavesHz.end(),
                                      [&](double hz) { return std::abs(band.hz / hz - 1) < 0.02; });
      if (octave && band.coherence >= kShown)
        add("phase_deg", band.phase_deg, band.phase_uncertainty_deg,
            {{"centre_hz", band.hz}, {"coherence", band.coherence}});
    }
  }

  template <typename Value>
  void over_bands(const char* name, const char* unit, Value value, bool coherent_only = false) {
    Curve curve{name, std::nullopt, "Hz", unit, {}, {}};
    for (const PairBand& band : r_.bands) {
      if (coherent_only && band.coherence < kShown) continue;
      curve.x.push_back(band.hz);
      curve.y.push_back(value(band));
    }
    sheet_.draw(std::move(curve));
  }

  void draw_bands() {
    over_bands("A", "dBFS", [](const PairBand& b) { return level_db(b.a); });
    over_bands("B", "dBFS", [](const PairBand& b) { return level_db(b.b); });
    over_bands("mid", "dBFS", [](const PairBand& b) { return level_db(b.mid); });
    over_bands("side", "dBFS", [](const PairBand& b) { return level_db(b.side); });
    over_bands("B over A", "dB", [](const PairBand& b) { return level_db(b.b) - level_db(b.a); });
    over_bands("correlation per band", "", [](const PairBand& b) { return b.correlation; });
    over_bands("coherence", "", [](const PairBand& b) { return b.coherence; });
    over_bands(
        "phase", "deg", [](const PairBand& b) { return b.phase_deg; }, true);
  }

  void over_time(const char* name, const char* unit, const std::vector<double>& values, bool level) {
    const std::size_t each = (r_.a_over_time.size() + kPairTimePoints - 1) / kPairTimePoints;
    Curve curve{name, std::nullopt, "s", unit, {}, {}};
    for (std::size_t i = 0; i < values.size(); i += each) {
      const std::size_t end = std::min(values.size(), i + each);
      double sum = 0, counted = 0;
      for (std::size_t k = i; k < end; ++k) {
        if (!level && (r_.a_over_time[k] == 0 || r_.b_over_time[k] == 0))
          continue;  // silence correlates with nothing
        sum += level ? values[k] * values[k] : values[k];
        counted += 1;
      }
      if (counted == 0) continue;
      const double mean = sum / counted;
      curve.x.push_back(r_.options.from_s + 0.5 * static_cast<double>(i + end) * r_.hop_s);
      curve.y.push_back(level ? level_db(std::sqrt(mean)) : mean);
    }
    sheet_.draw(std::move(curve));
  }

  void draw_times() {
    over_time("A over time", "dBFS", r_.a_over_time, true);
    over_time("B over time", "dBFS", r_.b_over_time, true);
    over_time("correlation over time", "", r_.correlation_over_time, false);
  }

  SheetBuilder& sheet_;
  const PairResult& r_;
  Conditions common_;
};

}  // namespace

Sheet pair_sheet(const PairResult& r, const CaptureInfo& capture, const std::string& a_name,
                 const std::string& b_name) {
  SheetBuilder sheet(pair_readings(), capture);
  PairSheet(sheet, r, a_name, b_name).write();
  return sheet.finish();
}

}  // namespace wavicon
