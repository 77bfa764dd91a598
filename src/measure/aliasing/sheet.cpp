// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measure/common/by_setting.hpp"
#include "measure/common/words.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/aliasing/aliasing.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

constexpr double kBoundDb = 10;      // readings nearer to the floor are bounds
constexpr double kHardDb = -60;      // of what no order explains: the fit itself is in doubt
constexpr std::size_t kListed = 12;  // readings of single orders: the strongest
constexpr double kShownDb = -220;

// Threshold of hearing in quiet, dB SPL. Source: Terhardt, Hearing Research 1, 1979 (to verify).
double hearing_threshold_db(double hz) {
  const double khz = std::clamp(hz, 20.0, 20000.0) / 1000;
  return 3.64 * std::pow(khz, -0.8) - 6.5 * std::exp(-0.6 * (khz - 3.3) * (khz - 3.3)) +
         1e-3 * std::pow(khz, 4);
}

class Builder {
 public:
  Builder(const AliasingResult& result, SheetBuilder& sheet) : result_(result), sheet_(sheet) {
    if (result.floor_ratio > 0) floor_dbc_ = db_from_ratio(result.floor_ratio);
  }

  void add(int channel) {
    const ChannelAliasing& c = result_.channels[static_cast<std::size_t>(channel)];
    if (!c.measured)
      return say(Severity::note, FindingCode::not_measured, channel,
                 "does not carry the sweep: not measured");
    add_worst(c, channel);
    add_orders(c, channel);
    add_curves(c, channel);
    tell(c, channel);
  }

 private:
  [[nodiscard]] bool at_floor(double ratio) const {
    return ratio < result_.floor_ratio * (result_.steps ? ratio_from_db(kBoundDb) : 1);
  }

  static double to_next_frame(const ChannelAliasing& c, double hz) {
    double nearest = 1e300;
    for (const AliasingFrame& frame : c.frames)
      if (frame.tone_hz != hz) nearest = std::min(nearest, std::abs(frame.tone_hz - hz));
    return nearest < 1e300 ? nearest : 0;
  }

  void add_worst(const ChannelAliasing& c, int channel) {
    if (c.folded.empty()) {
      say(Severity::note, FindingCode::nothing_found, channel,
          fmt::format("no order up to {} folds into the band", result_.options.highest_order));
      return;
    }
    const FoldedOrder& worst = c.folded.front();
    const bool bound = worst.bound || at_floor(worst.ratio);
    const Conditions where = {
        {"order", static_cast<std::int64_t>(worst.order)}, {"at_hz", worst.hz}, {"tone_hz", worst.at_hz}};
    const std::optional<double> sure =
        bound || worst.uncertainty_db == 0 ? std::nullopt : std::optional(worst.uncertainty_db);
    reading("worst_alias_dbc", channel, db_from_ratio(worst.ratio), where, floor_dbc_, bound).uncertainty =
        sure;
    reading("worst_alias_dbfs", channel, db_from_ratio(worst.amplitude), where, std::nullopt, bound)
        .uncertainty = sure;
    if (!bound) {
      // A place is known to the frame before and the one behind it.
      const double near_hz = to_next_frame(c, worst.at_hz);
      reading("worst_alias_order", channel, worst.order, {});
      Reading& place = reading("worst_alias_hz", channel, worst.hz, {});
      place.uncertainty = worst.order * near_hz;
      // What is less sure than it is large says no more than how high it may lie.
      if (*place.uncertainty > worst.hz) {
        place.value = worst.hz + *place.uncertainty;
        place.bound = true;
        place.uncertainty.reset();
      }
      reading("worst_alias_at_hz", channel, worst.at_hz, {}).uncertainty = near_hz;
    }
    const std::optional<double> sum_floor =
        result_.floor_sum_ratio > 0 ? std::optional(db_from_ratio(result_.floor_sum_ratio)) : std::nullopt;
    // Of bounds there is no sum.
    const auto known = [](Reading& r, double uncertainty_db) {
      if (uncertainty_db > 0 && !r.bound) r.uncertainty = uncertainty_db;
    };
    if (c.total.ratio > 0)
      known(reading("total_alias_dbc", channel, db_from_ratio(c.total.ratio), {{"tone_hz", c.total.at_hz}},
                    sum_floor, c.total.ratio < result_.floor_sum_ratio * ratio_from_db(kBoundDb)),
            c.total.uncertainty_db);
    if (c.harmonic.ratio > 0)
      known(reading("worst_harmonic_dbc", channel, db_from_ratio(c.harmonic.ratio),
                    {{"order", static_cast<std::int64_t>(c.harmonic.order)},
                     {"at_hz", c.harmonic.hz},
                     {"tone_hz", c.harmonic.at_hz}},
                    floor_dbc_, at_floor(c.harmonic.ratio)),
            c.harmonic.uncertainty_db);
    if (c.residual_ratio > 0)
      reading("residual_dbc", channel, db_from_ratio(c.residual_ratio),
              {{"means", std::string("what no order explains, middle value over the sweep")}});
  }

  void add_orders(const ChannelAliasing& c, int channel) {
    std::size_t listed = 0;
    for (const FoldedOrder& order : c.folded) {
      if (listed++ >= kListed || order.bound || at_floor(order.ratio)) break;
      Reading& level = reading("alias_dbc", channel, db_from_ratio(order.ratio),
                               {{"order", static_cast<std::int64_t>(order.order)},
                                {"at_hz", order.hz},
                                {"tone_hz", order.at_hz},
                                {"level_dbfs", db_from_ratio(order.amplitude)},
                                {result_.steps ? "tone_range_hz" : "sweep_range_hz",
                                 std::vector<double>{order.from_hz, order.to_hz}}},
                               floor_dbc_);
      if (order.uncertainty_db > 0) level.uncertainty = order.uncertainty_db;
    }
  }

  // In the end, what was not ranked.
  void tell_gone(const ChannelAliasing& c, int channel) {
    if (c.gone_to_hz == 0) return;
    say(Severity::note, FindingCode::limited_range, channel,
        fmt::format(
            "from {:.0f} to {:.0f} Hz the fundamental is more than 40 dB below its highest: nothing is "
            "ranked against it there{}",
            c.gone_from_hz, c.gone_to_hz,
            c.while_gone.order == 0
                ? ", and nothing stands out"
                : fmt::format("; the loudest product is order {} at {:.0f} Hz, {:.1f} dBFS",
                              c.while_gone.order, c.while_gone.hz, db_from_ratio(c.while_gone.amplitude))));
  }

  void tell(const ChannelAliasing& c, int channel) {
    tell_worst(c, channel);
    tell_gone(c, channel);
  }

  void tell_worst(const ChannelAliasing& c, int channel) {
    if (c.folded.empty()) return;
    const FoldedOrder& worst = c.folded.front();
    if (worst.bound && !at_floor(worst.ratio)) {
      say(Severity::note, FindingCode::nothing_found, channel,
          fmt::format("nothing folds back that stands out of {}: no product above {:.1f} dBc",
                      result_.steps ? "the noise" : "what is left beside the orders",
                      db_from_ratio(worst.ratio)));
    } else if (at_floor(worst.ratio)) {
      say(Severity::note, FindingCode::nothing_found, channel,
          fmt::format("nothing folds back above {:.1f} dBc, which is no more than the floor of this "
                      "measurement allows",
                      db_from_ratio(result_.floor_ratio) + (result_.steps ? kBoundDb : 0)));
    } else {
      say(Severity::note, FindingCode::result, channel,
          fmt::format(
              "worst fold-back: order {} at {:.0f} Hz while the {} is at {:.0f} Hz, {:.2f} dBc "
              "({:.1f} dBFS); all together {:.2f} dBc at {:.0f} Hz; looked at from {:.0f} to {:.0f} Hz",
              worst.order, worst.hz, result_.steps ? "tone" : "sweep", worst.at_hz,
              db_from_ratio(worst.ratio), db_from_ratio(worst.amplitude), db_from_ratio(c.total.ratio),
              c.total.at_hz, result_.from_hz, result_.to_hz));
      const double spl_db = result_.options.full_scale_spl_db + db_from_ratio(worst.amplitude),
                   threshold_db = hearing_threshold_db(worst.hz);
      say(Severity::note, FindingCode::detail, channel,
          fmt::format("if full scale plays at {:g} dB SPL, that product plays at {:.0f} dB SPL, {:.0f} dB {} "
                      "the threshold of hearing in quiet; that the tone masks it is not counted",
                      result_.options.full_scale_spl_db, spl_db, std::abs(spl_db - threshold_db),
                      spl_db > threshold_db ? "above" : "below"));
    }
    if (c.residual_ratio > ratio_from_db(kHardDb))
      say(Severity::warning, FindingCode::doubtful, channel,
          fmt::format("{:.1f} dBc are explained by no order up to {}: a hard corner, noise or another "
                      "signal; weak products are not to be trusted below it (--orders follows more)",
                      db_from_ratio(c.residual_ratio), result_.options.highest_order));
    if (std::abs(c.delay_samples) > 0.5)
      say(Severity::note, FindingCode::detail, channel,
          fmt::format(
              "the sweep lies {:.2f} samples off its marks: a unit delays frequencies unequally, or late",
              c.delay_samples));
  }

  // The worst of each frame over the sweep's frequency.
  void add_curves(const ChannelAliasing& c, int channel) {
    Curve worst{"worst fold-back", channel, "Hz", "dBc", {}, {}},
        strongest{"strongest harmonic", channel, "Hz", "dBc", {}, {}};
    const double rate = result_.sample_rate_hz;
    // Where the strongest order crosses another one there is no point: what is left would look like a gap.
    std::vector<double> last(static_cast<std::size_t>(result_.options.highest_order) + 1, 0.0);
    for (const AliasingFrame& frame : c.frames) {
      double folded = 0, harmonic = 0, folded_hidden = 0, harmonic_hidden = 0;
      if (frame.fundamental <= 0) continue;
      for (std::size_t k = 2; k < frame.amplitude.size(); ++k) {
        const double hz = static_cast<double>(k) * frame.tone_hz,
                     own_hz = std::abs(hz - rate * std::round(hz / rate));
        const bool folds = hz > rate / 2;
        if (folds && (own_hz < result_.options.band_from_hz || own_hz > result_.band_to_hz)) {
          last[k] = 0;
          continue;
        }
        const bool bound = !frame.bound.empty() && frame.bound[k];
        if (frame.valid[k]) last[k] = bound ? 0 : frame.amplitude[k] / frame.fundamental;
        if (bound || (result_.steps && !frame.valid[k])) continue;
        double& highest =
            frame.valid[k] ? (folds ? folded : harmonic) : (folds ? folded_hidden : harmonic_hidden);
        highest = std::max(highest, last[k]);
      }
      auto add = [&](Curve& curve, double ratio, double hidden) {
        if (ratio <= 0 || hidden > ratio) return;
        curve.x.push_back(frame.tone_hz);
        curve.y.push_back(std::max(kShownDb, db_from_ratio(ratio)));
      };
      add(worst, folded, folded_hidden);
      add(strongest, harmonic, harmonic_hidden);
    }
    for (Curve* curve : {&worst, &strongest})
      if (!curve->x.empty()) sheet_.draw(std::move(*curve));
  }

  Reading& reading(const char* name, int channel, std::optional<double> value, Conditions conditions,
                   std::optional<double> floor = std::nullopt, bool bound = false) {
    const ChannelAliasing& c = result_.channels[static_cast<std::size_t>(channel)];
    conditions.emplace_back("bandwidth_hz",
                            std::vector<double>{result_.options.band_from_hz, result_.band_to_hz});
    conditions.emplace_back(result_.steps ? "tones_from_hz" : "sweep_from_hz", result_.from_hz);
    conditions.emplace_back(result_.steps ? "tones_to_hz" : "sweep_to_hz", result_.to_hz);
    conditions.emplace_back("fundamental_dbfs", db_from_ratio(c.fundamental));
    conditions.emplace_back("highest_order", static_cast<std::int64_t>(result_.options.highest_order));
    conditions.emplace_back("sample_rate_hz", result_.sample_rate_hz);
    conditions.emplace_back(result_.steps ? "step_s" : "frame_s", result_.frame_s);
    Reading& r = sheet_.add(name, channel, value, std::move(conditions));
    r.floor = floor;
    r.bound = bound;
    return r;
  }
  void say(Severity severity, FindingCode code, int channel, std::string text) {
    sheet_.say(severity, code, std::move(text), channel);
  }

  const AliasingResult& result_;
  SheetBuilder& sheet_;
  std::optional<double> floor_dbc_;
};

}  // namespace

namespace {

// Of all channels.
const Reading* worst_of(const Sheet& sheet) {
  const Reading* worst = nullptr;
  for (const Reading& r : sheet.readings)
    if (r.name == "worst_alias_dbc" && r.value && (worst == nullptr || *r.value > *worst->value)) worst = &r;
  return worst;
}

double number_of(const Reading& reading, std::string_view condition) {
  for (const auto& [name, value] : reading.conditions)
    if (name == condition) {
      if (const auto* real = std::get_if<double>(&value)) return *real;
      if (const auto* whole = std::get_if<std::int64_t>(&value)) return static_cast<double>(*whole);
    }
  return 0;
}

std::string product_text(const Reading& worst) {
  if (worst.bound) return fmt::format("no product above {:.1f} dBc", *worst.value);
  return fmt::format("{:.1f} dBc, order {:g} at {}", *worst.value, number_of(worst, "order"),
                     measure_detail::hz_text(number_of(worst, "at_hz")));
}

// Whether the worst product, with what it is uncertain by, keeps below a level: 1; lies above it: -1; 0:
// cannot be told.
int keeps(const Reading& worst, double enough_dbc) {
  const double sure = worst.uncertainty.value_or(0);
  if (*worst.value + (worst.bound ? 0 : sure) <= enough_dbc) return 1;
  return worst.bound || *worst.value - sure <= enough_dbc ? 0 : -1;
}

}  // namespace

std::string aliasing_answer(const std::vector<Sheet>& sheets, double enough_dbc) {
  std::vector<std::string> files;
  std::vector<const Reading*> worst;
  for (const Sheet& sheet : sheets)
    if (const Reading* reading = worst_of(sheet)) {
      files.push_back(sheet.capture.file);
      worst.push_back(reading);
    }
  if (worst.empty()) return "";
  const std::vector<std::string> names = measure_detail::setting_labels(files);
  // The first from which on all keep it.
  std::size_t first = worst.size();
  while (first > 0 && keeps(*worst[first - 1], enough_dbc) > 0) --first;
  const auto fails = [&](std::size_t i) {
    return keeps(*worst[i], enough_dbc) < 0
               ? fmt::format("{} is not ({})", names[i], product_text(*worst[i]))
               : fmt::format("of {} it cannot be told ({})", names[i], product_text(*worst[i]));
  };
  if (first == worst.size()) {
    const auto best = static_cast<std::size_t>(
        std::min_element(worst.begin(), worst.end(),
                         [](const Reading* p, const Reading* q) { return *p->value < *q->value; }) -
        worst.begin());
    if (worst.size() == 1) return fmt::format("for {:g} dBc, {}", enough_dbc, fails(0));
    return keeps(*worst[best], enough_dbc) > 0
               ? fmt::format("{} keeps below {:g} dBc ({}), but not what follows: {}", names[best],
                             enough_dbc, product_text(*worst[best]), fails(worst.size() - 1))
               : fmt::format("none is enough for {:g} dBc; the best is {} ({})", enough_dbc, names[best],
                             product_text(*worst[best]));
  }
  std::string text =
      fmt::format("{} is enough for {:g} dBc ({})", names[first], enough_dbc, product_text(*worst[first]));
  return first == 0 ? text : text + "; " + fails(first - 1);
}

Sheet aliasing_sheet(const AliasingResult& result, const CaptureInfo& capture) {
  SheetBuilder sheet(aliasing_readings(), capture);
  Builder builder(result, sheet);
  for (std::size_t c = 0; c < result.channels.size(); ++c) builder.add(static_cast<int>(c));
  return sheet.finish();
}

}  // namespace wavicon
