// SPDX-License-Identifier: MIT
#include "wavicon/measure/dynamics/static_curve.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <vector>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/least_squares.hpp"
#include "wavicon/audio/student.hpp"

namespace wavicon {
namespace {

constexpr std::size_t kLeastLevels = 4;  // as many as the curve has parameters
constexpr double kLinearDb = 0.05;       // of gain, within which nothing happens
constexpr double kLeastSlope = 0.002;    // a flatter one is a wall all the same
constexpr double kLimiterSlope = 0.04;   // out over in, dB by dB: a ratio of 25:1
constexpr double kGateSlope = 10;        // out over in, dB by dB: steeper closes
constexpr double kFlatDb = 0.02;         // between steps: a range that is used up
// A range that ends makes both sides fit: then less gain above is a compressor's, less below an expander's.
constexpr double kBetter = 0.95;
constexpr double kSameDb = 1e-3;

// How far the straight continuation is left, of a bend of slope 1 at 0: 0 before, over after.
double bend(double over, double knee) {
  if (over <= -knee / 2) return 0;
  if (over >= knee / 2) return over;
  return (over + knee / 2) * (over + knee / 2) / (2 * knee);
}

double gain_of(bool above, double threshold, double slope, double knee, double makeup, double in) {
  return above ? makeup + (slope - 1) * bend(in - threshold, knee)
               : makeup - (slope - 1) * bend(threshold - in, knee);
}

struct Side {
  bool above = true;
  LeastSquaresFit fit;  // threshold, slope, knee, make-up
};

Side fitted(std::span<const LevelPair> levels, bool above) {
  const double first = levels.front().in_dbfs, last = levels.back().in_dbfs;
  const double makeup = above ? levels.front().out_dbfs - first : levels.back().out_dbfs - last;
  const Residuals residuals = [&](std::span<const double> p, std::span<double> left) {
    for (std::size_t i = 0; i < levels.size(); ++i)
      left[i] = gain_of(above, p[0], std::exp(p[1]), p[2], p[3], levels[i].in_dbfs) -
                (levels[i].out_dbfs - levels[i].in_dbfs);
  };
  Side best{above, {}};
  for (int third = 1; third <= 5; ++third)
    for (const double slope : above ? std::vector{0.05, 0.4, 1.3} : std::vector{0.4, 2.0, 10.0})
      for (const double knee : {0.5, 8.0}) {
        const FitParameter parameters[] = {
            {first + (last - first) * third / 6, first, last},
            {std::log(slope), std::log(kLeastSlope), std::log(above ? 5.0 : 50.0)},
            {knee, 0, std::max(1.0, last - first)},
            {makeup, makeup - 12, makeup + 12}};
        auto fit = fit_least_squares(residuals, levels.size(), parameters);
        if (best.fit.parameters.empty() || fit.rms < best.fit.rms) best.fit = std::move(fit);
      }
  return best;
}

// Steps at one end whose gain stands still although the curve has a slope before them: its range is used up.
std::size_t used_up(std::span<const LevelPair> levels, bool at_front) {
  const auto gain = [&](std::size_t i) {
    const LevelPair& p = levels[at_front ? i : levels.size() - 1 - i];
    return p.out_dbfs - p.in_dbfs;
  };
  std::size_t still = 0;
  while (still + 1 < levels.size() && std::abs(gain(still + 1) - gain(still)) < kFlatDb) ++still;
  return still;
}

// Gains at the ends and on average: what a linear unit has too.
void add_gains(std::span<const LevelPair> levels, StaticCurve& curve) {
  double sum = 0, least = 1e300, most = -1e300;
  for (std::size_t i = 0; i < levels.size(); ++i) {
    const double gain = levels[i].out_dbfs - levels[i].in_dbfs;
    if (!std::isfinite(gain) || (i > 0 && !(levels[i].in_dbfs > levels[i - 1].in_dbfs)))
      throw Error(ErrorCode::bad_argument, "the levels of a static curve have to rise, each a finite number");
    least = std::min(least, gain);
    most = std::max(most, gain);
    sum += gain;
  }
  curve.least_gain_db = least;
  curve.most_gain_db = most;
  curve.makeup_db = sum / static_cast<double>(levels.size());
}

struct BestSide {
  Side side;
  std::optional<double> plateau_db;  // gain at the end whose range is used up
  std::span<const LevelPair> used;
};

BestSide best_side(std::span<const LevelPair> levels) {
  // A range that is used up looks like a bend of its own: it goes before the fit.
  const std::size_t low = used_up(levels, true), high = used_up(levels, false);
  BestSide best{{}, std::nullopt, levels};
  for (const bool above : {true, false}) {
    std::span<const LevelPair> part = levels;
    const std::size_t flat = above ? high : low, other = above ? low : high;
    std::optional<double> plateau;
    // Both ends flat: the bend lies between them, and one of the ends is the used-up range.
    if (flat >= 1 && other >= 1 && levels.size() - flat > kLeastLevels) {
      part = above ? levels.first(levels.size() - flat - 1) : levels.subspan(flat + 1);
      const LevelPair& end = above ? levels.back() : levels.front();
      plateau = end.out_dbfs - end.in_dbfs;
    }
    Side side = fitted(part, above);
    const auto& fit = best.side.fit;
    if (fit.parameters.empty() || side.fit.rms < kBetter * fit.rms - kSameDb ||
        (side.fit.rms < fit.rms + kSameDb && fit.parameters[1] > 0))
      best = {std::move(side), plateau, part};
  }
  return best;
}

// A knee of no width, or at its end, has no slope of its own: the others are told without it.
std::optional<StaticCurve::Uncertainty> uncertainty_of(bool above, std::span<const double> p,
                                                       std::span<const LevelPair> levels,
                                                       const StaticCurve& curve) {
  double known = 0;
  for (const LevelPair& level : levels)
    known += level.uncertainty_db * level.uncertainty_db / 4 / static_cast<double>(levels.size());
  const auto deviations = [&](bool with_knee) {
    const std::vector<double> at = with_knee ? std::vector{p[0], p[1], p[3], p[2]}
                                             : std::vector{p[0], p[1], p[3]},
                              steps(at.size(), 1e-4);
    return fit_deviations(
        [&](std::span<const double> q, std::span<double> left) {
          for (std::size_t i = 0; i < levels.size(); ++i)
            left[i] = gain_of(above, q[0], std::exp(q[1]), with_knee ? q[3] : p[2], q[2], levels[i].in_dbfs) -
                      (levels[i].out_dbfs - levels[i].in_dbfs);
        },
        levels.size(), at, steps, std::sqrt(known));
  };
  const bool with_knee = !curve.knee_undecided() && curve.knee_db > 0.01;
  auto found = deviations(with_knee);
  if (!found && with_knee) found = deviations(false);
  if (!found) return std::nullopt;
  const double t = student_k2(levels.size() - found->size());
  StaticCurve::Uncertainty u{t * (*found)[0], curve.slope * t * (*found)[1], t * (*found)[2], {}};
  if (found->size() > 3) u.knee_db = t * (*found)[3];
  return u;
}

StaticCurve::Kind kind_of(bool above, double slope) {
  using Kind = StaticCurve::Kind;
  if (above)
    return slope > 1 ? Kind::upward_expander : slope < kLimiterSlope ? Kind::limiter : Kind::compressor;
  return slope < 1 ? Kind::upward_compressor : slope > kGateSlope ? Kind::gate : Kind::expander;
}

}  // namespace

double StaticCurve::gain_db(double in_dbfs) const {
  const bool above = kind == Kind::compressor || kind == Kind::limiter || kind == Kind::upward_expander;
  if (kind == Kind::linear) return makeup_db;
  const double limit = range_from_dbfs.value_or(above ? 1e300 : -1e300);
  return gain_of(above, threshold_dbfs, slope, knee_db, makeup_db,
                 above ? std::min(in_dbfs, limit) : std::max(in_dbfs, limit));
}

std::optional<double> StaticCurve::ratio() const {
  if (slope <= 1.05 * kLeastSlope) return std::nullopt;
  return 1 / slope;
}

bool StaticCurve::knee_undecided() const { return knee_db < step_db; }

std::string name_of(StaticCurve::Kind kind) {
  switch (kind) {
    case StaticCurve::Kind::compressor:
      return "compressor";
    case StaticCurve::Kind::limiter:
      return "limiter";
    case StaticCurve::Kind::upward_expander:
      return "upward expander";
    case StaticCurve::Kind::expander:
      return "expander";
    case StaticCurve::Kind::gate:
      return "gate";
    case StaticCurve::Kind::upward_compressor:
      return "upward compressor";
    default:
      return "linear";
  }
}

StaticCurve fit_static_curve(std::span<const LevelPair> levels) {
  if (levels.size() < kLeastLevels)
    throw Error(ErrorCode::bad_argument, fmt::format("a static curve needs at least {} levels, there are {}",
                                                     kLeastLevels, levels.size()));
  StaticCurve curve;
  add_gains(levels, curve);
  if (curve.most_gain_db - curve.least_gain_db < kLinearDb) {
    std::vector<double> gains;
    for (const LevelPair& level : levels) gains.push_back(level.out_dbfs - level.in_dbfs);
    curve.uncertainty = {0, 0, uncertainty_of_mean(gains), {}};
    return curve;
  }
  const auto [best, plateau_db, used] = best_side(levels);
  const auto& p = best.fit.parameters;
  curve.threshold_dbfs = p[0];
  curve.slope = std::exp(p[1]);
  curve.knee_db = p[2];
  curve.makeup_db = p[3];
  curve.fit_error_db = best.fit.rms;
  if (plateau_db)
    curve.range_from_dbfs = curve.threshold_dbfs + (*plateau_db - curve.makeup_db) / (curve.slope - 1);
  curve.kind = kind_of(best.above, curve.slope);
  for (std::size_t i = 1; i < used.size(); ++i)
    if (used[i].in_dbfs >= curve.threshold_dbfs || i + 1 == used.size()) {
      curve.step_db = used[i].in_dbfs - used[i - 1].in_dbfs;
      break;
    }
  curve.uncertainty = uncertainty_of(best.above, p, used, curve);
  return curve;
}

}  // namespace wavicon
