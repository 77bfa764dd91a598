// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "measure/common/level.hpp"
#include "measure/common/slip_findings.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/null/null.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

using measure_detail::level_dbfs;

constexpr std::size_t kTimePoints = 1000;  // of a curve over time: about what a picture is wide
constexpr double kNearFloorDb = 3;
constexpr double kNullShownDb = -250;

class NullSheet {
 public:
  NullSheet(const NullResult& result, const CaptureInfo& a, SheetBuilder& sheet)
      : result_(result), a_(a), sheet_(sheet) {}

  void build() {
    tell_verdict();
    add_whole();
    for (std::size_t c = 0; c < result_.channels.size(); ++c)
      add_channel(result_.channels[c], static_cast<int>(c));
    tell_rest();
  }

 private:
  void tell_verdict() {
    const ChannelNull* worst = &result_.channels.front();
    for (const ChannelNull& c : result_.channels)
      if (c.verdict > worst->verdict || (c.verdict == worst->verdict && c.depth > worst->depth)) worst = &c;
    std::string where;
    const Alignment& al = result_.alignment;
    if (al.delay_frames != 0 || al.drift_ppm != 0)
      where = fmt::format(
          "; B comes {:.4g} samples {}{}", std::abs(al.delay_frames), al.delay_frames < 0 ? "early" : "late",
          std::abs(al.drift_ppm) >= 0.0005 ? fmt::format(", drifts by {:+.3f} ppm", al.drift_ppm) : "");
    if (std::abs(db_from_ratio(worst->gain)) >= 0.0005)
      where += fmt::format("; its level is {:+.3f} dB", db_from_ratio(worst->gain));
    if (worst->polarity < 0) where += "; its polarity is inverted";
    const auto depth = level_dbfs(worst->depth);
    const std::string left = depth && !result_.equal
                                 ? fmt::format(" The residual is {:.2f} dB {} A.", std::abs(*depth),
                                               *depth > 0 ? "above" : "below")
                                 : "";
    say(Severity::note, FindingCode::result, std::nullopt,
        fmt::format("{}: {}{}.{}", name_of(result_.verdict), reason_of(*worst), where, left));
    Reading& verdict = sheet_.add("verdict", std::nullopt, std::nullopt, common());
    verdict.text = name_of(result_.verdict);
    verdict.conditions.emplace_back("reason", reason_of(*worst));
  }

  [[nodiscard]] std::string reason_of(const ChannelNull& worst) const {
    const std::vector<Slip>& slips = result_.alignment.slips;
    if (slips.empty() || result_.options.delay_samples) return worst.reason;
    const double rate = result_.sample_rate_hz;
    return fmt::format("{}; from {:.3f} to {:.3f} s of A, the longest stretch without that, {}",
                       slips_text(slips, rate), static_cast<double>(result_.first_frame) / rate,
                       static_cast<double>(result_.end_frame) / rate, worst.reason);
  }

  void add_whole() {
    const Alignment& al = result_.alignment;
    whole("delay_samples", al.delay_frames).uncertainty = result_.delay_uncertainty_samples;
    Reading& drift = whole("drift_ppm", al.drift_ppm);
    drift.uncertainty = result_.drift_uncertainty_ppm;
    if (result_.found && (al.match > 0 || al.confidence > 0))
      drift.conditions.emplace_back(al.match > 0 ? "match" : "confidence",
                                    al.match > 0 ? al.match : al.confidence);
  }

  void add_channel(const ChannelNull& c, int channel) {
    if (c.silent) {
      say(Severity::note, FindingCode::not_measured, channel,
          c.residual_peak > 0 ? "A is silent here and B is not" : "both are silent here");
      return;
    }
    auto add = [&](const char* name, std::optional<double> value, std::optional<double> floor = std::nullopt,
                   Conditions more = {}) -> Reading& {
      Conditions conditions = common();
      conditions.emplace_back("reference_dbfs", db_from_ratio(c.reference_rms));
      conditions.insert(conditions.end(), more.begin(), more.end());
      Reading& reading = sheet_.add(name, channel, value, std::move(conditions));
      reading.floor = floor;
      return reading;
    };
    const auto floor = level_dbfs(c.floor);
    add("null_depth_db", level_dbfs(c.depth), floor).uncertainty = c.depth_uncertainty_db;
    add("null_depth_a_db", level_dbfs(c.depth_a), std::nullopt, {{"weighting", std::string("A")}})
        .uncertainty = c.depth_a_uncertainty_db;
    add("null_depth_k_db", level_dbfs(c.depth_k), std::nullopt,
        {{"weighting", std::string("K, without gates")}})
        .uncertainty = c.depth_k_uncertainty_db;
    add("residual_rms_dbfs", level_dbfs(c.residual_rms),
        floor ? std::optional(*floor + db_from_ratio(c.reference_rms)) : std::nullopt,
        {{"rms_reference", std::string("square")}})
        .uncertainty = c.depth_uncertainty_db;
    add("residual_peak_dbfs", level_dbfs(c.residual_peak), std::nullopt, {{"at_s", c.residual_peak_s}});
    add("residual_lufs",
        c.residual_k > 0 ? std::optional(db_from_power_ratio(c.residual_k) - 0.691) : std::nullopt,
        std::nullopt, {{"means", std::string("this channel alone, without gates")}})
        .uncertainty = c.depth_k_uncertainty_db;
    add("gain_db", db_from_ratio(c.gain)).uncertainty = c.gain_uncertainty_db;
    add("polarity", c.polarity);
    if (result_.equal) return;
    add("coherent_percent", 100 * c.coherent_share, std::nullopt,
        {{"means", std::string("of the residual's power, linear in A")}})
        .uncertainty = 100 * c.coherent_uncertainty;
    if (c.line_share > 0) add("mains_percent", 100 * c.line_share, std::nullopt, {{"mains_hz", c.mains_hz}});
    const bool differ = std::any_of(result_.channels.begin(), result_.channels.end(),
                                    [&](const ChannelNull& other) { return other.verdict != c.verdict; });
    if (differ)
      say(Severity::note, FindingCode::detail, channel, fmt::format("{}: {}", name_of(c.verdict), c.reason));
    if (const auto depth = level_dbfs(c.depth); depth && floor && *depth < *floor + kNearFloorDb)
      say(Severity::note, FindingCode::doubtful, channel,
          "the depth is as good as alignment and format allow: no more can be told");
    add_curves(c, channel);
  }

  void add_curves(const ChannelNull& c, int channel) {
    Curve programme{"programme", channel, "Hz", "dBFS", {}, {}},
        rest{"residual", channel, "Hz", "dBFS", {}, {}};
    const double bin = c.hz.size() > 1 ? c.hz[1] : 1;
    // Twelfths of an octave, as levels: what a spectrum of music is looked at by.
    for (double from = std::max(20.0, bin), ratio = std::pow(2.0, 1.0 / 12);
         from * ratio < result_.sample_rate_hz / 2; from *= ratio) {
      double x = 0, r = 0, n = 0;
      for (auto k = static_cast<std::size_t>(std::ceil(from / bin));
           k < c.hz.size() && c.hz[k] < from * ratio; ++k, ++n) {
        x += c.reference_density[k] * bin;
        r += c.residual_density[k] * bin;
      }
      if (n == 0) continue;
      const double hz = from * std::sqrt(ratio), width = from * (ratio - 1) / (n * bin);
      programme.x.push_back(hz);
      programme.y.push_back(x > 0 ? db_from_power_ratio(x * width) : kNullShownDb);
      rest.x.push_back(hz);
      rest.y.push_back(r > 0 ? std::max(kNullShownDb, db_from_power_ratio(r * width)) : kNullShownDb);
    }
    sheet_.draw(std::move(programme));
    sheet_.draw(std::move(rest));
    over_time("programme over time", channel, c.reference_over_time);
    over_time("residual over time", channel, c.residual_over_time);
    Curve depth{"depth per third octave", channel, "Hz", "dB", c.third_octave_hz, {}};
    for (const double d : c.third_octave_depth) depth.y.push_back(d > 0 ? db_from_ratio(d) : kNullShownDb);
    sheet_.draw(std::move(depth));
    Curve response{"B over A", channel, "Hz", "dB", c.response_hz, {}};
    for (const double r : c.response) response.y.push_back(db_from_ratio(std::max(1e-10, r)));
    if (!response.x.empty()) sheet_.draw(std::move(response));
  }

  void over_time(const char* name, int channel, const std::vector<double>& rms) {
    Curve curve{name, channel, "s", "dBFS", {}, {}};
    const std::size_t each = (rms.size() + kTimePoints - 1) / kTimePoints;
    const double first_s = static_cast<double>(result_.first_frame) / result_.sample_rate_hz;
    for (std::size_t i = 0; i < rms.size(); i += each) {
      double sum = 0;
      const std::size_t end = std::min(rms.size(), i + each);
      for (std::size_t k = i; k < end; ++k) sum += rms[k] * rms[k];
      curve.x.push_back(first_s + 0.5 * static_cast<double>(i + end) * result_.hop_s);
      curve.y.push_back(sum > 0
                            ? std::max(kNullShownDb, db_from_power_ratio(sum / static_cast<double>(end - i)))
                            : kNullShownDb);
    }
    sheet_.draw(std::move(curve));
  }

  void tell_rest() {
    const double rate = result_.sample_rate_hz;
    const std::int64_t common = result_.end_frame - result_.first_frame;
    if (result_.alignment.slips.empty() && common < result_.a_frames && !result_.options.to_s &&
        result_.options.from_s == 0)
      say(Severity::note, FindingCode::limited_range, std::nullopt,
          fmt::format("{:.3f} s are in both, of {:.3f} s in A and {:.3f} s in B",
                      static_cast<double>(common) / rate, static_cast<double>(result_.a_frames) / rate,
                      static_cast<double>(result_.b_frames) / rate));
    for (const Slip& slip : result_.alignment.slips)
      measure_detail::say_slip(sheet_, slip, rate, "only one side of it is lined up");
    if (!result_.alignment.candidates.empty() && !result_.equal) {
      std::string places;
      for (const double place : result_.alignment.candidates)
        places += fmt::format("{}{:.0f}", places.empty() ? "" : ", ", place);
      say(Severity::warning, FindingCode::ambiguous_place, std::nullopt,
          fmt::format(
              "the programme repeats itself: delays of about {} samples fit nearly as well; --delay decides",
              places));
    }
    double worst = 0, worst_s = 0, depth = 0;
    for (const ChannelNull& c : result_.channels)
      for (const double r : c.residual_over_time)
        if (r > worst) {
          worst = r;
          worst_s = c.worst_s;
          depth = c.residual_rms;
        }
    if (worst > 4 * depth && depth > 0)
      say(Severity::note, FindingCode::detail, std::nullopt,
          fmt::format("most is left near {:.2f} s, {:.1f} dB over the mean: look there", worst_s,
                      db_from_ratio(worst / depth)));
  }

  [[nodiscard]] Conditions common() const {
    Conditions conditions = {
        {"reference", a_.file},
        {"bandwidth_hz", std::vector<double>{result_.options.band_from_hz, result_.band_to_hz}},
        {"sample_rate_hz", result_.sample_rate_hz},
        {"from_s", static_cast<double>(result_.first_frame) / result_.sample_rate_hz},
        {"duration_s",
         static_cast<double>(result_.end_frame - result_.first_frame) / result_.sample_rate_hz}};
    std::string kept;
    auto keep = [&](bool given, const char* what) {
      if (given) kept += (kept.empty() ? "" : ", ") + std::string(what);
    };
    keep(result_.options.delay_samples.has_value(), "delay");
    keep(result_.options.drift_ppm.has_value(), "drift");
    keep(result_.options.gain_db.has_value(), "gain");
    keep(result_.options.polarity.has_value(), "polarity");
    if (!kept.empty()) conditions.emplace_back("given", kept);
    if (result_.options.response_taps > 0)
      conditions.emplace_back("response_taps", static_cast<std::int64_t>(result_.options.response_taps));
    return conditions;
  }

  Reading& whole(const char* name, double value) { return sheet_.add(name, std::nullopt, value, common()); }
  void say(Severity severity, FindingCode code, std::optional<int> channel, std::string text) {
    sheet_.say(severity, code, std::move(text), channel);
  }

  const NullResult& result_;
  const CaptureInfo& a_;
  SheetBuilder& sheet_;
};

}  // namespace

Sheet null_sheet(const NullResult& result, const CaptureInfo& a, const CaptureInfo& b) {
  SheetBuilder sheet(null_readings(), b);
  NullSheet(result, a, sheet).build();
  return sheet.finish();
}

}  // namespace wavicon
