// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "measure/common/level.hpp"
#include "measure/common/words.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"
#include "wavicon/measure/harmonics/harmonics.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

using measure_detail::level_dbfs;

constexpr double kDcWorthSayingDbfs = -100;
constexpr double kMuchFolds = 0.01;  // of the power of all orders

// Builds the readings of one channel.
class ChannelSheet {
 public:
  ChannelSheet(const HarmonicsResult& result, std::size_t index, SheetBuilder& sheet)
      : result_(result),
        channel_(result.channels[index]),
        floor_(result.floors[index]),
        index_(static_cast<int>(index)),
        sheet_(sheet) {}

  void add() {
    const bool measured = channel_.state == ChannelHarmonics::State::measured;
    const double a = measured ? channel_.fundamental_amplitude : 1.0;
    const double floor_a = measured ? floor_.fundamental_amplitude : 1.0;
    reading("fundamental_hz", measured ? std::optional(channel_.fundamental_hz) : std::nullopt, std::nullopt)
        .uncertainty = sure(channel_.fundamental_uncertainty_hz);
    reading("fundamental_dbfs", measured ? level_dbfs(a) : std::nullopt, std::nullopt).uncertainty =
        sure(channel_.fundamental_uncertainty_db);
    for (int k = 2; k <= result_.options.highest_order; ++k) add_order(k, a, floor_a);
    add_thd();
    const Conditions band = {bandwidth()};
    const auto thd_n = measured ? level_dbfs(channel_.thd_n_ratio) : std::nullopt;
    const auto thd_n_floor = measured ? level_dbfs(floor_.thd_n_ratio) : std::nullopt;
    const double thd_n_uncertainty = channel_.thd_n_uncertainty_db;
    reading("thd_n_db", thd_n, thd_n_floor, false, band).uncertainty = sure(thd_n_uncertainty);
    reading("thd_n_percent", percent(channel_.thd_n_ratio), percent(floor_.thd_n_ratio), false, band)
        .uncertainty = sure(share_of(100 * channel_.thd_n_ratio, thd_n_uncertainty));
    auto inverse = [](std::optional<double> db) { return db ? std::optional(-*db) : std::nullopt; };
    reading("sinad_db", inverse(thd_n), inverse(thd_n_floor), false, band).uncertainty =
        sure(thd_n_uncertainty);
    add_residual();
    if (!measured) return;
    add_balance();
    add_phases();
    curve("spectrum", channel_);
    curve("own floor", floor_);
    sheet_.draw({"one period", index_, "deg", "", channel_.period_deg, channel_.period});
    Curve added{"added", index_, "deg", "", channel_.period_deg, {}};
    for (std::size_t i = 0; i < channel_.period.size(); ++i)
      added.y.push_back(channel_.period[i] - a * sine(phase_from_cycles(channel_.period_deg[i] / 360)));
    sheet_.draw(std::move(added));
  }

 private:
  // What a change in dB is of an amplitude.
  static double share_of(double value, double db) { return value * (ratio_from_db(db) - 1); }
  [[nodiscard]] std::optional<double> sure(double uncertainty) const {
    return channel_.state == ChannelHarmonics::State::measured ? std::optional(uncertainty) : std::nullopt;
  }

  std::optional<double> percent(double ratio) const {
    return channel_.state == ChannelHarmonics::State::measured ? std::optional(100 * ratio) : std::nullopt;
  }

  void add_order(int k, double a, double floor_a) {
    const std::string name = fmt::format("h{}_dbc", k);
    if (channel_.state != ChannelHarmonics::State::measured) {
      reading(name, std::nullopt, std::nullopt);
      return;
    }
    const HarmonicOrder& order = channel_.orders[static_cast<std::size_t>(k - 2)];
    const HarmonicOrder& floor = floor_.orders[static_cast<std::size_t>(k - 2)];
    Conditions more = {{"at_hz", order.at_hz}};
    if (order.folded) more.emplace_back("folded", true);
    if (order.hidden) {
      reading(name, std::nullopt, std::nullopt, false, more);
      return;
    }
    more.emplace_back("noise_dbc", db_from_ratio(order.noise_amplitude / a));
    Reading& level = reading(name, level_dbfs(order.amplitude / a), level_dbfs(floor.amplitude / floor_a),
                             order.bound, more);
    if (!order.bound)
      level.uncertainty = std::hypot(order.uncertainty_db, channel_.fundamental_uncertainty_db);
  }

  // Noise turns a line by as much as it changes it, in radians and as a share.
  static double degrees_of(double uncertainty_db) {
    return std::min(180.0, (ratio_from_db(uncertainty_db) - 1) * 180 / std::numbers::pi);
  }

  void add_phases() {
    for (const HarmonicOrder& order : channel_.orders)
      if (!order.bound && !order.hidden)
        reading(fmt::format("h{}_phase_deg", order.order), order.phase_deg, std::nullopt, false,
                {{"at_hz", order.at_hz}})
            .uncertainty =
            degrees_of(std::hypot(order.uncertainty_db, order.order * channel_.fundamental_uncertainty_db));
  }

  void add_thd() {
    std::vector<double> counted, folded;
    for (const HarmonicOrder& order : channel_.orders) {
      if (!order.hidden) counted.push_back(order.order);
      if (!order.hidden && order.folded) folded.push_back(order.order);
    }
    const bool exists = channel_.state == ChannelHarmonics::State::measured && channel_.has_thd;
    Conditions orders = {{"orders", counted}};
    if (!folded.empty()) orders.emplace_back("folded_orders", folded);
    const bool bound = exists && channel_.thd_bound;
    Reading& db = reading("thd_db", exists ? level_dbfs(channel_.thd_ratio) : std::nullopt,
                          exists ? level_dbfs(floor_.thd_ratio) : std::nullopt, bound, orders);
    if (exists && !bound) db.uncertainty = channel_.thd_uncertainty_db;
    Reading& share = reading("thd_percent", exists ? percent(channel_.thd_ratio) : std::nullopt,
                             exists ? percent(floor_.thd_ratio) : std::nullopt, bound, orders);
    if (exists && !bound) share.uncertainty = share_of(100 * channel_.thd_ratio, channel_.thd_uncertainty_db);
  }

  // Even orders against odd ones, where both were read.
  void add_balance() {
    double even = 0, odd = 0, of_even = 0, of_odd = 0;
    for (const HarmonicOrder& order : channel_.orders)
      if (!order.hidden && !order.bound) {
        const double power = order.amplitude * order.amplitude, moved = power * order.uncertainty_db;
        (order.order % 2 == 0 ? even : odd) += power;
        (order.order % 2 == 0 ? of_even : of_odd) += moved * moved;
      }
    if (even > 0 && odd > 0)
      reading("even_over_odd_db", db_from_power_ratio(even / odd), std::nullopt).uncertainty =
          std::hypot(std::sqrt(of_even) / even, std::sqrt(of_odd) / odd);
  }

  void add_residual() {
    const bool measured = channel_.state == ChannelHarmonics::State::measured;
    const bool sine = result_.options.rms_reference == RmsReference::sine;
    const double shift = sine ? db_from_ratio(std::numbers::sqrt2) : 0.0;
    auto level = [&](double rms) {
      const auto db = level_dbfs(rms);
      return measured && db ? std::optional(*db + shift) : std::nullopt;
    };
    reading("residual_noise_dbfs", level(channel_.residual_noise_rms), level(floor_.residual_noise_rms),
            false, {bandwidth(), {"rms_reference", std::string(sine ? "sine" : "square")}})
        .uncertainty = sure(channel_.residual_uncertainty_db);
  }

  std::pair<std::string, ConditionValue> bandwidth() const {
    return {"bandwidth_hz", std::vector<double>{result_.options.band_from_hz, channel_.band_to_hz}};
  }

  Conditions common() const {
    if (channel_.state != ChannelHarmonics::State::measured)
      return {{"sample_rate_hz", result_.sample_rate_hz}};
    const double rate = result_.sample_rate_hz;
    const bool lines = channel_.method == ChannelHarmonics::Method::spectral_lines;
    Conditions conditions = {
        {"frequency_hz", channel_.fundamental_hz},
        {"level_dbfs", db_from_ratio(channel_.fundamental_amplitude)},
        {"sample_rate_hz", rate},
        {"from_s", result_.audio_starts_s + static_cast<double>(channel_.first_frame) / rate},
        {"duration_s", static_cast<double>(channel_.frames) / rate},
        {"window", std::string(lines ? "Kaiser 38" : "joint fit, rectangular")},
    };
    if (channel_.window_count > 1) {
      conditions.emplace_back("window_s", static_cast<double>(channel_.window_frames) / rate);
      conditions.emplace_back("window_count", static_cast<std::int64_t>(channel_.window_count));
    }
    conditions.emplace_back("floor_format", name_of(result_.format));
    return conditions;
  }

  Reading& reading(const std::string& name, std::optional<double> value, std::optional<double> floor,
                   bool bound = false, const Conditions& more = {}) {
    Reading& r = sheet_.add(name, index_, value, common());
    r.floor = floor;
    r.bound = bound;
    r.conditions.insert(r.conditions.end(), more.begin(), more.end());
    return r;
  }

  void curve(const std::string& name, const ChannelHarmonics& from) {
    Curve c{name, index_, "Hz", "dBFS", from.spectrum_hz, {}};
    for (const double amplitude : from.spectrum_amplitude)
      c.y.push_back(db_from_ratio(std::max(amplitude, 1e-30)));
    sheet_.draw(std::move(c));
  }

  const HarmonicsResult& result_;
  const ChannelHarmonics& channel_;
  const ChannelHarmonics& floor_;
  int index_;
  SheetBuilder& sheet_;
};

std::string percent_text(double ratio) {
  const double percent = 100 * ratio;
  return percent >= 0.01 ? fmt::format("{:.3g} %", percent) : fmt::format("{:.2g} %", percent);
}

// The sentence that a reader needs if it is the only one that is read.
std::string headline(const ChannelHarmonics& c) {
  const double a = c.fundamental_amplitude;
  std::string text = fmt::format("{:.3f} Hz at {:.2f} dBFS", c.fundamental_hz, db_from_ratio(a));
  if (!c.has_thd) return text + ": no order can be told apart, so there is no THD";
  const std::string thd = fmt::format("{:.2f} dB", db_from_ratio(c.thd_ratio));
  double even = 0, odd = 0, folded = 0;
  const HarmonicOrder* strongest = nullptr;
  for (const HarmonicOrder& order : c.orders) {
    if (order.hidden || order.bound) continue;
    const double power = order.amplitude * order.amplitude;
    (order.order % 2 == 0 ? even : odd) += power;
    if (order.folded) folded += power;
    if (strongest == nullptr || order.amplitude > strongest->amplitude) strongest = &order;
  }
  if (strongest == nullptr)
    return text + fmt::format(": no harmonic stands out of the noise, THD is below {}", thd);
  text +=
      fmt::format(": THD {}{} ({}), strongest is H{} at {:.2f} dBc", c.thd_bound ? "below " : "",
                  percent_text(c.thd_ratio), thd, strongest->order, db_from_ratio(strongest->amplitude / a));
  if (strongest->folded) text += ", folded to " + measure_detail::hz_text(strongest->at_hz, 4);
  if (folded > kMuchFolds * (even + odd) && folded < (1 - kMuchFolds) * (even + odd))
    text += fmt::format(", {:.0f} % of its power folds", 100 * folded / (even + odd));
  if (even == 0) return text + ", odd orders only";
  if (odd == 0) return text + ", even orders only";
  return text + (odd > even ? ", odd orders lead" : ", even orders lead");
}

void add_doubts(const HarmonicsResult& result, std::size_t index, std::vector<Finding>& findings) {
  const ChannelHarmonics& c = result.channels[index];
  const int number = static_cast<int>(index);
  auto say = [&](Severity severity, FindingCode code, std::string text) {
    findings.push_back({severity, code, std::move(text), number});
  };
  if (result.held_frames[index] > 0)
    say(Severity::warning, FindingCode::doubtful,
        fmt::format(
            "{} frames are at full scale of the {} format: the capture itself may be clipped; capture 6 dB "
            "lower or as 32-bit float and compare",
            result.held_frames[index], name_of(result.format)));
  else if (result.peaks[index] > 1)
    say(Severity::note, FindingCode::level_over_full_scale,
        fmt::format("peaks at {:+.2f} dBFS: an integer format would clip it",
                    db_from_ratio(result.peaks[index])));
  if (c.method == ChannelHarmonics::Method::joint_fit)
    say(Severity::warning, FindingCode::doubtful,
        fmt::format("only {:.1f} periods: all orders were fitted together, and whatever is no harmonic (hum, "
                    "noise) disturbs the weak "
                    "ones; 25 periods or more are better",
                    c.fundamental_hz * static_cast<double>(c.frames) / result.sample_rate_hz));
  if (!c.whole)
    say(Severity::note, FindingCode::limited_range,
        fmt::format("measured from {:.3f} s to {:.3f} s, where the tone is steady",
                    static_cast<double>(c.first_frame) / result.sample_rate_hz,
                    static_cast<double>(c.first_frame + c.frames) / result.sample_rate_hz));
  if (std::abs(c.dc) > 0 && db_from_ratio(std::abs(c.dc)) > kDcWorthSayingDbfs)
    say(Severity::note, FindingCode::dc_offset,
        fmt::format("there is a DC offset of {:.6f} ({:.1f} dBFS); it is in none of these readings", c.dc,
                    db_from_ratio(std::abs(c.dc))));
  std::vector<int> folded, hidden;
  for (const HarmonicOrder& order : c.orders) {
    if (order.hidden)
      hidden.push_back(order.order);
    else if (order.folded)
      folded.push_back(order.order);
  }
  const double half_khz = result.sample_rate_hz / 2000;
  if (!folded.empty())
    say(Severity::note, FindingCode::folded_orders,
        fmt::format("order{} above half the rate ({:g} kHz): read and counted in THD where folding puts {}",
                    folded.size() == 1 ? fmt::format(" {} is", folded[0])
                                       : fmt::format("s {} to {} are", folded.front(), folded.back()),
                    half_khz, folded.size() == 1 ? "it" : "them"));
  if (!hidden.empty())
    say(Severity::note, FindingCode::folded_orders,
        fmt::format("H{} cannot be told apart at this frequency: folding puts them on "
                    "another order, on DC or on half the rate; "
                    "move the tone by some hertz",
                    fmt::join(hidden, ", H")));
}

}  // namespace

Sheet harmonics_sheet(const HarmonicsResult& result, const CaptureInfo& capture) {
  SheetBuilder sheet(harmonics_readings(), capture);
  for (std::size_t i = 0; i < result.channels.size(); ++i) {
    const ChannelHarmonics& channel = result.channels[i];
    ChannelSheet(result, i, sheet).add();
    const int number = static_cast<int>(i);
    if (channel.state == ChannelHarmonics::State::silent) {
      sheet.say(Severity::warning, FindingCode::not_measured, "silent: there is nothing to measure", number);
    } else if (channel.state == ChannelHarmonics::State::no_tone) {
      sheet.say(Severity::warning, FindingCode::not_measured, "no steady tone stands out of the noise",
                number);
    } else {
      sheet.say(Severity::note, FindingCode::result, headline(channel), number);
      add_doubts(result, i, sheet.sheet().findings);
    }
  }
  return sheet.finish();
}

}  // namespace wavicon
