// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "measure/common/level.hpp"
#include "measure/common/slip_findings.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/response/response.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

using measure_detail::tidy_db;

constexpr const char* kUncertainty = "magnitude uncertainty";
constexpr double kFlatDb = 0.1;
constexpr double kHiddenDb = 6;  // of uncertainty, from which a level is a bound
// The highest of some hundred places: noise alone reaches three times its own spread.
constexpr double kHiddenMaxDb = 3;
constexpr double kBoundBeyondDb = 6;      // of a sum that nearly cancels
constexpr double kLeastUnderDb = 1;       // of a crossover, under the band
constexpr std::int64_t kFewWindows = 16;  // fewer, and coherence is luck
constexpr double kEnoughS = 4;
constexpr double kLeftOutShare = 0.01;  // of the axis from which a gap is told
constexpr double kShownMs = 20;         // of the response over time

std::string hertz(double hz) { return fmt::format("{:.{}f} Hz", hz, hz < 100 ? 2 : hz < 1000 ? 1 : 0); }

std::string edge_text(const char* side, const ResponseEdge& edge) {
  std::string text = fmt::format("{} edge {} (-3 dB)", side, hertz(edge.hz));
  if (edge.order > 0)
    text += fmt::format(", falling by {:.1f} dB/octave: {} pole{}", edge.slope_db_per_octave, edge.order,
                        edge.order == 1 ? "" : "s");
  else if (edge.slope_db_per_octave > 0)
    text += fmt::format(", falling by up to {:.1f} dB/octave", edge.slope_db_per_octave);
  return text;
}

// What another channel leaves in one that is silent itself.
void write_crosstalk(SheetBuilder& sheet, const ResponseResult& r, const ChannelResponse& c, int channel,
                     const CaptureInfo& a) {
  const ResponsePoint* worst = nullptr;
  Curve curve{"crosstalk", channel, "Hz", "dB", {}, {}};
  for (const ResponsePoint& p : c.points) {
    curve.x.push_back(p.hz);
    curve.y.push_back(db_from_ratio(std::max(1e-12, std::abs(p.ratio))));
    if (p.hz >= r.options.band_from_hz && p.hz <= r.options.band_to_hz &&
        (worst == nullptr || std::abs(p.ratio) > std::abs(worst->ratio)))
      worst = &p;
  }
  const Conditions conditions = {{"reference", a.file},
                                 {"from_channel", static_cast<std::int64_t>(*c.crosstalk_from + 1)},
                                 {"sample_rate_hz", r.sample_rate_hz}};
  // What noise hides is a bound.
  const auto add = [&](const char* name, double value, double hz, double uncertainty_db, double most_db) {
    Conditions all = {{"at_hz", hz}};
    all.insert(all.end(), conditions.begin(), conditions.end());
    const bool hidden = uncertainty_db > most_db;
    Reading& reading = sheet.add(
        name, channel, hidden ? value + db_from_ratio(1 + uncertainty_db / kDbOfAmplitudeShare) : value,
        std::move(all));
    reading.bound = hidden;
    if (!hidden) reading.uncertainty = uncertainty_db;
    return fmt::format("{}{:.1f} dB", hidden ? "below " : "", *reading.value);
  };
  std::string text =
      fmt::format("crosstalk of channel {}, which A plays alone: {} at {:g} Hz", *c.crosstalk_from + 1,
                  add("crosstalk_db", c.gain_db, r.options.reference_hz, c.uncertainty.gain_db, kHiddenDb),
                  r.options.reference_hz);
  if (worst != nullptr) {
    const double db = db_from_ratio(std::max(1e-12, std::abs(worst->ratio)));
    text +=
        fmt::format(", at most {} at {:.0f} Hz",
                    add("crosstalk_max_db", db, worst->hz, worst->uncertainty_db, kHiddenMaxDb), worst->hz);
  }
  sheet.say(Severity::note, FindingCode::result, text, channel);
  sheet.draw(std::move(curve));
}

// How far the second channel stands from the first, when both have a curve.
void write_balance(SheetBuilder& sheet, const ResponseResult& r) {
  if (r.channels.size() != 2 || !r.channels[0].measured || !r.channels[1].measured ||
      r.channels[0].crosstalk_from || r.channels[1].crosstalk_from)
    return;
  const double balance = r.channels[1].gain_db - r.channels[0].gain_db;
  double most = 0, at = r.options.reference_hz, sure_db = 0;
  std::size_t j = 0;
  for (const ResponsePoint& p : r.channels[0].points) {
    const auto& other = r.channels[1].points;
    while (j < other.size() && other[j].hz < 0.999 * p.hz) ++j;
    if (j == other.size()) break;
    if (other[j].hz > 1.001 * p.hz || p.hz < r.options.band_from_hz || p.hz > r.options.band_to_hz) continue;
    const double difference =
        db_from_ratio(std::max(1e-12, std::abs(other[j].ratio)) / std::max(1e-12, std::abs(p.ratio)));
    if (std::abs(difference) > std::abs(most)) {
      most = difference;
      at = p.hz;
      sure_db = std::hypot(p.uncertainty_db, other[j].uncertainty_db);
    }
  }
  const auto add = [&](const char* name, double value, double hz, double uncertainty) {
    sheet
        .add(name, std::nullopt, value,
             {{"at_hz", hz},
              {"means", std::string("channel 2 over channel 1")},
              {"sample_rate_hz", r.sample_rate_hz}})
        .uncertainty = uncertainty;
  };
  add("balance_db", balance, r.options.reference_hz,
      std::hypot(r.channels[0].uncertainty.gain_db, r.channels[1].uncertainty.gain_db));
  add("balance_max_db", most, at, sure_db);
  if (std::abs(most) > kFlatDb)
    sheet.say(
        Severity::note, FindingCode::comparison,
        fmt::format(
            "channel 2 stands {:+.2f} dB against channel 1 at {:g} Hz, at most {:+.2f} dB, at {:.0f} Hz",
            balance, r.options.reference_hz, most, at),
        std::nullopt);
}

const Curve* uncertainty_of(const Sheet& sheet, std::optional<int> channel) {
  for (const Curve& curve : sheet.curves)
    if (curve.name == kUncertainty && curve.channel == channel) return &curve;
  return nullptr;
}

// What one channel of B is over A.
class ResponseSheet {
 public:
  ResponseSheet(SheetBuilder& sheet, const ResponseResult& r, const ChannelResponse& c, int channel,
                const CaptureInfo& a)
      : sheet_(sheet), r_(r), c_(c), channel_(channel) {
    common_ = {{"reference", a.file},
               {"by", std::string(r.options.sweep               ? "sweep"
                                  : r.options.period_frames > 0 ? "periods of noise"
                                                                : "averaged spectra")},
               {"reference_hz", r.options.reference_hz},
               {"delay_samples", std::round(1e6 * c.delay_samples) / 1e6 + 0.0},
               {"measured_hz", std::vector<double>{c.points.front().hz, c.points.back().hz}},
               {"smoothing", r.options.smoothing > 0 ? fmt::format("1/{:g} octave", r.options.smoothing)
                                                     : std::string("none")},
               {"sample_rate_hz", r.sample_rate_hz},
               {"from_s", r.options.from_s},
               {"duration_s", r.seconds}};
    if (r.options.period_frames > 0) common_.emplace_back("periods", c.windows);
  }

  void write() {
    std::string text = levels();
    text += edge(c_.lower, c_.uncertainty.lower, "lower", "lower_edge_hz") +
            edge(c_.upper, c_.uncertainty.upper, "upper", "upper_edge_hz") + bell() + shelf();
    if (!c_.lower && !c_.upper && !c_.bell && !c_.shelf && !ripple_hidden())
      text += c_.ripple_db < kFlatDb
                  ? "; flat"
                  : fmt::format("; {:.2f} dB between highest and lowest in the band", c_.ripple_db);
    say(Severity::note, FindingCode::result, text);
    tell_gaps();
    tell_averages();
    draw_over_frequency();
    draw_impulse();
  }

 private:
  void say(Severity severity, FindingCode code, std::string text) {
    sheet_.say(severity, code, std::move(text), channel_);
  }
  void add(const char* name, double value, double uncertainty, Conditions more = {}) {
    more.insert(more.end(), common_.begin(), common_.end());
    sheet_.add(name, channel_, value, std::move(more)).uncertainty = uncertainty;
  }

  [[nodiscard]] bool ripple_hidden() const { return c_.uncertainty.ripple_db > kHiddenDb; }

  std::string levels() {
    const ResponseUncertainty& u = c_.uncertainty;
    add("gain_db", c_.gain_db, u.gain_db);
    add("broadband_db", c_.broadband_db, u.broadband_db, {{"means", std::string("RMS of B over that of A")}});
    if (!r_.options.sweep)
      add("loudness_change_lu", c_.loudness_lu, u.loudness_lu,
          {{"weighting", std::string("K, without gates")}});
    // Where noise hides the lowest place, nobody knows how low it is.
    if (ripple_hidden())
      say(Severity::warning, FindingCode::left_out,
          "the ripple is not told: the lowest place of the band is hidden by noise or distortion; play the "
          "sweep louder or longer");
    else
      add("ripple_db", c_.ripple_db, u.ripple_db,
          {{"bandwidth_hz", std::vector<double>{r_.options.band_from_hz, r_.options.band_to_hz}}});
    return fmt::format("{:+.2f} dB at {:g} Hz, {:+.2f} dB overall", tidy_db(c_.gain_db),
                       r_.options.reference_hz, tidy_db(c_.broadband_db));
  }

  std::string edge(const std::optional<ResponseEdge>& edge, const ResponseEdge& u, const char* side,
                   const char* name) {
    if (!edge) return "";
    add(name, edge->hz, u.hz, {{"at_db", -3.0}});
    if (edge->hz_at_1_db) add(name, *edge->hz_at_1_db, u.hz_at_1_db.value_or(0), {{"at_db", -1.0}});
    if (edge->hz_at_6_db) add(name, *edge->hz_at_6_db, u.hz_at_6_db.value_or(0), {{"at_db", -6.0}});
    if (edge->slope_db_per_octave > 0) {
      Conditions more = {{"edge", std::string(side)}};
      if (edge->order > 0) more.emplace_back("order", static_cast<std::int64_t>(edge->order));
      add("slope_db_per_octave", edge->slope_db_per_octave, u.slope_db_per_octave, more);
    }
    return "; " + edge_text(side, *edge);
  }

  std::string bell() {
    if (!c_.bell) return "";
    const ResponseBell& b = *c_.bell;
    const ResponseBell& u = c_.uncertainty.bell;
    add("bell_hz", b.hz, u.hz);
    add("bell_db", b.gain_db, u.gain_db);
    add("bell_q", b.q, u.q);
    std::string text = fmt::format("; a {} of {:+.2f} dB at {}, Q {:.2f}", b.gain_db > 0 ? "hump" : "dip",
                                   b.gain_db, hertz(b.hz), b.q);
    if (const double around = b.gain_db > 0 ? b.around_db : -b.around_db; around > kFlatDb)
      text += fmt::format(", and everything is {} by about {:.1f} dB", b.gain_db > 0 ? "lifted" : "lowered",
                          around);
    return text;
  }

  std::string shelf() {
    if (!c_.shelf) return "";
    add("shelf_hz", c_.shelf->hz, c_.uncertainty.shelf.hz);
    add("shelf_db", c_.shelf->gain_db, c_.uncertainty.shelf.gain_db);
    return fmt::format("; a {} shelf of {:+.2f} dB, half of it at {}", c_.shelf->high ? "high" : "low",
                       c_.shelf->gain_db, hertz(c_.shelf->hz));
  }

  // Stretches of the axis without a curve.
  void tell_gaps() {
    for (const auto& [from, to] : c_.clipped_hz)
      say(Severity::warning, FindingCode::left_out,
          fmt::format("it clips while the sweep passes {} to {}: that part of the curve is left out",
                      hertz(from), hertz(to)));
    if (c_.cut_hz)
      say(Severity::warning, FindingCode::left_out,
          fmt::format("it ends while the sweep is at {}: what lies beyond is left out; record on",
                      hertz(*c_.cut_hz)));
  }

  // How far averaging can be believed.
  void tell_averages() {
    if (r_.options.period_frames > 0) {
      if (c_.windows == 1)
        say(Severity::warning, FindingCode::too_short,
            "one period: noise cannot be told from the curve; play it for three and more");
    } else if (c_.windows > 0 && c_.windows < kFewWindows) {
      say(Severity::warning, FindingCode::too_short,
          fmt::format("{} windows are few to average over: play it for {:.0f} s at least", c_.windows,
                      kEnoughS));
    }
    if (c_.windows > 0 && r_.options.smoothing > 0) {
      const double half = std::exp2(0.5 / r_.options.smoothing), lowest = c_.bin_hz / (half - 1 / half);
      if (lowest > c_.points.front().hz)
        say(Severity::note, FindingCode::limited_range,
            fmt::format(
                "below {} 1/{:g} octave is narrower than the {:.1f} Hz that can be told apart: smoothed over "
                "more there",
                hertz(lowest), r_.options.smoothing, c_.bin_hz));
    }
    if (c_.left_out_share > kLeftOutShare)
      say(Severity::note, FindingCode::left_out,
          fmt::format("{:.0f} % of the curve is omitted: {}", 100 * c_.left_out_share,
                      r_.options.sweep ? "it is 140 dB and more below its highest place"
                                       : "A has too little energy there, or the coherence is below 0.5"));
  }

  void draw_over_frequency() {
    Curve magnitude{"magnitude", channel_, "Hz", "dB", {}, {}},
        unsure{kUncertainty, channel_, "Hz", "dB", {}, {}}, phase{"phase", channel_, "Hz", "deg", {}, {}},
        delay{"group delay", channel_, "Hz", "ms", {}, {}},
        coherence{"coherence", channel_, "Hz", "", {}, {}};
    for (const ResponsePoint& p : c_.points) {
      for (Curve* curve : {&magnitude, &unsure, &phase, &delay, &coherence}) curve->x.push_back(p.hz);
      magnitude.y.push_back(db_from_ratio(std::max(1e-12, std::abs(p.ratio))));
      unsure.y.push_back(p.uncertainty_db);
      phase.y.push_back(std::arg(p.ratio) * 180 / std::numbers::pi);
      delay.y.push_back(1000 * p.group_delay_s);
      coherence.y.push_back(p.coherence);
    }
    for (Curve* curve : {&magnitude, &unsure, &phase, &delay}) sheet_.draw(std::move(*curve));
    if (!r_.options.sweep) sheet_.draw(std::move(coherence));
  }

  void draw_impulse() {
    if (c_.impulse.empty()) return;
    Curve impulse{"impulse response", channel_, "ms", "", {}, {}};
    for (std::size_t n = 0; n < c_.impulse.size(); ++n) {
      const double ms =
          1000 * (static_cast<double>(n) - static_cast<double>(c_.impulse_zero)) / r_.sample_rate_hz;
      if (ms < -1 || ms > kShownMs) continue;
      impulse.x.push_back(ms);
      impulse.y.push_back(c_.impulse[n]);
    }
    sheet_.draw(std::move(impulse));
  }

  SheetBuilder& sheet_;
  const ResponseResult& r_;
  const ChannelResponse& c_;
  int channel_;
  Conditions common_;
};

}  // namespace

Sheet response_sheet(const ResponseResult& r, const CaptureInfo& a, const CaptureInfo& b) {
  SheetBuilder sheet(response_readings(), b);
  for (std::size_t i = 0; i < r.channels.size(); ++i) {
    const ChannelResponse& c = r.channels[i];
    const int channel = static_cast<int>(i);
    if (!c.measured)
      sheet.say(Severity::warning, FindingCode::not_measured, "silent, or nothing of A in it: not measured",
                channel);
    else if (c.crosstalk_from)
      write_crosstalk(sheet, r, c, channel, a);
    else
      ResponseSheet(sheet, r, c, channel, a).write();
  }
  for (const Slip& slip : r.alignment.slips)
    measure_detail::say_slip(sheet, slip, r.sample_rate_hz,
                             fmt::format("measured over {:.3f} s on one side of it", r.seconds));
  write_balance(sheet, r);
  return sheet.finish();
}

void add_crossover(const ResponseResult& before, const ResponseResult& here, const Sheet& of, Sheet& into) {
  SheetBuilder sheet(response_readings(), std::move(into));
  for (std::size_t c = 0; c < std::min(before.channels.size(), here.channels.size()); ++c) {
    const ChannelResponse &p = before.channels[c], &q = here.channels[c];
    const bool ways = (p.upper && !p.lower && q.lower && !q.upper) ||
                      (p.lower && !p.upper && q.upper && !q.lower) ||
                      (p.upper && q.lower && p.upper->hz < 2 * q.lower->hz && q.lower->hz < 2 * p.upper->hz);
    if (!p.measured || !q.measured || !ways) continue;
    const auto found = find_crossover(p, q, here.sample_rate_hz);
    // Two bands that lie over each other touch near their tops: that is no crossover.
    if (!found || found->below_db < kLeastUnderDb) continue;
    const auto channel = static_cast<int>(c);
    const Conditions conditions = {{"with", of.capture.file}, {"sample_rate_hz", here.sample_rate_hz}};
    sheet.add("crossover_hz", channel, found->hz, conditions).uncertainty = found->uncertainty_hz;
    sheet.add("crossover_db", channel, -found->below_db, conditions).uncertainty = found->uncertainty_db;
    sheet.add("crossover_sum_db", channel, found->sum_db, conditions).uncertainty = found->sum_uncertainty_db;
    Reading& inverted = sheet.add("crossover_inverted_db", channel, found->inverted_db, conditions);
    // Less than what both are uncertain by is a bound.
    inverted.bound = found->inverted_uncertainty_db > kBoundBeyondDb;
    if (inverted.bound)
      inverted.value = found->inverted_db + found->inverted_uncertainty_db;
    else
      inverted.uncertainty = found->inverted_uncertainty_db;
    Conditions notch = conditions;
    notch.emplace_back("way", std::string(found->notch_inverted ? "one inverted" : "as they are"));
    notch.emplace_back("at_hz", found->notch_hz);
    Reading& depth = sheet.add("notch_db", channel, found->notch_db, notch);
    depth.bound = found->notch_bound;
    if (!depth.bound) depth.uncertainty = found->notch_uncertainty_db;
    sheet.draw({"sum as they are", channel, "Hz", "dB", found->hz_axis, found->as_they_are_db});
    sheet.draw({"sum, one inverted", channel, "Hz", "dB", found->hz_axis, found->one_inverted_db});
    sheet.say(
        Severity::note, FindingCode::comparison,
        fmt::format("crosses {} at {:.1f} Hz, {:.1f} dB below its band; both together are {:+.1f} dB there, "
                    "with one inverted {}{:.1f} dB; {} they cancel most at {:.0f} Hz, to {}{:.1f} dB",
                    of.capture.file, found->hz, found->below_db, measure_detail::tidy_db(found->sum_db),
                    inverted.bound ? "under " : "", *inverted.value,
                    found->notch_inverted ? "inverted" : "as they are", found->notch_hz,
                    found->notch_bound ? "under " : "", found->notch_db),
        channel);
  }
  into = sheet.finish();
}

void add_difference(const Sheet& first, Sheet& into) {
  SheetBuilder sheet(response_readings(), std::move(into));
  std::vector<Curve> added;
  for (const Curve& curve : sheet.sheet().curves) {
    if (curve.name != "magnitude") continue;
    for (const Curve& other : first.curves) {
      if (other.name != "magnitude" || other.channel != curve.channel) continue;
      Curve difference{"difference", curve.channel, "Hz", "dB", {}, {}};
      const Curve *own = uncertainty_of(sheet.sheet(), curve.channel),
                  *others = uncertainty_of(first, curve.channel);
      double most = 0, at = 0, sure_db = 0;
      for (std::size_t i = 0, j = 0; i < curve.x.size(); ++i) {
        while (j < other.x.size() && other.x[j] < 0.999 * curve.x[i]) ++j;
        if (j == other.x.size() || other.x[j] > 1.001 * curve.x[i]) continue;
        difference.x.push_back(curve.x[i]);
        difference.y.push_back(curve.y[i] - other.y[j]);
        if (std::abs(difference.y.back()) > std::abs(most)) {
          most = difference.y.back();
          at = curve.x[i];
          if (own != nullptr && others != nullptr) sure_db = std::hypot(own->y[i], others->y[j]);
        }
      }
      if (difference.x.empty()) continue;
      sheet.add("difference_max_db", curve.channel, most, {{"at_hz", at}, {"from", first.capture.file}})
          .uncertainty = sure_db;
      added.push_back(std::move(difference));
    }
  }
  for (Curve& curve : added) sheet.draw(std::move(curve));
  into = sheet.finish();
}

}  // namespace wavicon
