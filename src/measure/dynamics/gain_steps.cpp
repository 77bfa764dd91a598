// SPDX-License-Identifier: MIT
#include "wavicon/measure/dynamics/gain_steps.hpp"

#include <algorithm>
#include <array>
#include <cmath>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/least_squares.hpp"
#include "wavicon/audio/student.hpp"
#include "wavicon/audio/workers.hpp"

namespace wavicon {
namespace {

constexpr double kEndShare = 0.15;     // of the time after the step
constexpr double kStartShare = 0.2;    // of the time before it: from there
constexpr double kEarlyShare = 0.04;   // to there; what looks ahead moves early
constexpr double kUnsettled = 0.02;    // of the change: more still moves before the step
constexpr double kStillShare = 0.003;  // of the change, between two ends of the end
constexpr double kLeastChangeDb = 1;
constexpr double kTo63 = 0.6321205588;    // 1 - 1/e, of the whole change
constexpr std::size_t kMostPoints = 500;  // in a fit: more only cost time
constexpr double kTimes = 4;              // of the time to 90 % that models are fitted over
constexpr std::size_t kGrid = 2000;       // steps of a model without closed form
constexpr double kShortestS = 2e-5;
constexpr double kHalved = 0.5;     // of the error: what a further constant has to bring
constexpr double kSeen = 0.6;       // of the resolution: a shorter constant is the window's
constexpr double kGoodFit = 0.004;  // of the change: nothing is gained by a hold

// Mean gain between two times, the nearest value when there is none between them; each value counts for the
// time that it stands for.
double mean_between(const GainOverTime& g, double from, double to) {
  const auto at = [&](double t) {
    return static_cast<std::size_t>(std::lower_bound(g.time_s.begin(), g.time_s.end(), t) - g.time_s.begin());
  };
  const std::size_t first = std::min(at(from), g.time_s.size() - 1), end = std::max(first + 1, at(to));
  double sum = 0, weight = 0;
  for (std::size_t i = first; i < end; ++i) {
    const double w = i + 1 < end ? g.time_s[i + 1] - g.time_s[i] : 1e-9;
    sum += w * g.gain_db[i];
    weight += w;
  }
  return sum / weight;
}

// First time from `from` on at which the gain has gone that share of its way.
std::optional<double> reached_at(const GainOverTime& g, std::size_t from, double start, double change,
                                 double share) {
  for (std::size_t i = std::max<std::size_t>(1, from); i < g.time_s.size(); ++i) {
    const double here = (g.gain_db[i] - start) / change;
    if (here < share) continue;
    const double before = (g.gain_db[i - 1] - start) / change;
    const double t = here > before ? std::clamp((share - before) / (here - before), 0.0, 1.0) : 1;
    return g.time_s[i - 1] + t * (g.time_s[i] - g.time_s[i - 1]);
  }
  return std::nullopt;
}

// The models as gains in dB over time since the step.
class Models {
 public:
  Models(const GainStep& step, const GainStepOptions& options) : step_(step), options_(options) {
    if (options.curve != nullptr) {
      from_ = options.curve->gain_db(options.from_dbfs);
      to_ = options.curve->gain_db(options.to_dbfs);
    }
    low_ = ratio_from_db(options.from_dbfs);
    high_ = ratio_from_db(options.to_dbfs);
  }

  [[nodiscard]] bool levels_known() const {
    return options_.curve != nullptr && std::abs(to_ - from_) > 0.5 * std::abs(step_.end_db - step_.start_db);
  }

  // @param p  logarithms of the constants, then shares.
  void run(DetectorModel model, std::span<const double> p, std::span<const double> times, double hold,
           std::span<double> out) const {
    const double a = std::exp(p[0]), change = step_.end_db - step_.start_db;
    const double start_factor = ratio_from_db(step_.start_db), end_factor = ratio_from_db(step_.end_db);
    std::vector<double> grid;
    const double last = std::max(1e-6, times.back() - hold);
    if (model == DetectorModel::mean_square_then_gain) grid = two_stages(a, std::exp(p[1]), last);
    for (std::size_t i = 0; i < times.size(); ++i) {
      const double t = std::max(0.0, times[i] - hold),
                   e = model == DetectorModel::mean_square_then_gain ? 0 : std::exp(-t / a);
      switch (model) {
        case DetectorModel::gain_in_db:
          out[i] = step_.end_db - change * e;
          break;
        case DetectorModel::gain:
          out[i] = db_from_ratio(end_factor + (start_factor - end_factor) * e);
          break;
        case DetectorModel::mean_square:
          out[i] = of_level(std::sqrt(high_ * high_ + (low_ * low_ - high_ * high_) * e));
          break;
        case DetectorModel::amplitude:
          out[i] = of_level(high_ + (low_ - high_) * e);
          break;
        case DetectorModel::two_constants:
          out[i] = step_.end_db - change * ((1 - p[2]) * e + p[2] * std::exp(-t / (a * std::exp(p[1]))));
          break;
        case DetectorModel::mean_square_then_gain: {
          const double at = t / last * static_cast<double>(kGrid);
          const auto k = std::min(kGrid - 1, static_cast<std::size_t>(at));
          const double part = at - static_cast<double>(k);
          out[i] = grid[k] + part * (grid[k + 1] - grid[k]);
          break;
        }
      }
    }
  }

 private:
  // Gain that the static curve asks for, brought to the ends that were measured.
  [[nodiscard]] double of_level(double amplitude) const {
    const double asked = options_.curve->gain_db(db_from_ratio(amplitude));
    return step_.start_db + (step_.end_db - step_.start_db) * (asked - from_) / (to_ - from_);
  }

  [[nodiscard]] std::vector<double> two_stages(double first_s, double second_s, double last) const {
    std::vector<double> gain(kGrid + 1);
    gain[0] = step_.start_db;
    const double dt = last / kGrid, keep = std::exp(-dt / second_s);
    double before = step_.start_db;
    for (std::size_t k = 1; k <= kGrid; ++k) {
      const double e = std::exp(-static_cast<double>(k) * dt / first_s);
      const double asked = of_level(std::sqrt(high_ * high_ + (low_ * low_ - high_ * high_) * e));
      gain[k] = (before + asked) / 2 + (gain[k - 1] - (before + asked) / 2) * keep;
      before = asked;
    }
    return gain;
  }

  const GainStep& step_;
  const GainStepOptions& options_;
  double from_ = 0, to_ = 0, low_ = 0, high_ = 0;
};

std::vector<FitParameter> parameters_of(DetectorModel model, double guess, double longest) {
  const double low = std::log(kShortestS), high = std::log(20 * longest);
  const FitParameter constant{std::clamp(std::log(guess), low, high), low, high};
  if (model == DetectorModel::mean_square_then_gain) return {constant, constant};
  if (model == DetectorModel::two_constants)
    return {constant, {std::log(4.0), std::log(1.5), std::log(200.0)}, {0.5, 0.05, 0.95}};
  return {constant};
}

ModelFit fitted(const Models& models, DetectorModel model, std::span<const double> times,
                std::span<const double> gains, double to_63, bool hold) {
  LeastSquaresFit best;
  const std::size_t constants = parameters_of(model, to_63, times.back()).size();
  const Residuals residuals = [&](std::span<const double> p, std::span<double> left) {
    models.run(model, p.first(constants), times, hold ? p[constants] : 0, left);
    for (std::size_t i = 0; i < left.size(); ++i) left[i] -= gains[i];
  };
  constexpr std::array kStarts = {0.3, 1.0, 3.0};
  std::array<LeastSquaresFit, kStarts.size()> fits;
  for_each_part(fits.size(), [&](std::size_t i) {
    auto parameters = parameters_of(model, kStarts[i] * to_63, times.back());
    if (hold) parameters.push_back({0.1 * to_63, 0, std::min(to_63, times.back() / 2)});
    fits[i] = fit_least_squares(residuals, times.size(), parameters);
  });
  for (LeastSquaresFit& fit : fits)
    if (best.parameters.empty() || fit.rms < best.rms) best = std::move(fit);
  const auto& p = best.parameters;
  ModelFit result{
      .model = model, .constant_s = std::exp(p[0]), .hold_s = hold ? p[constants] : 0, .error_db = best.rms};
  if (model == DetectorModel::mean_square_then_gain) result.second_s = std::exp(p[1]);
  if (model == DetectorModel::two_constants) {
    result.second_s = result.constant_s * std::exp(p[1]);
    result.share = p[2];
  }
  std::vector<double> steps(p.size(), 1e-3);
  if (hold) steps[constants] = 1e-3 * std::max(to_63, kShortestS);
  if (const auto found = fit_deviations(residuals, times.size(), p, steps)) {
    const double t = student_k2(times.size() - p.size());
    result.constant_uncertainty_s = t * (*found)[0] * result.constant_s;
    if (model == DetectorModel::mean_square_then_gain)
      result.second_uncertainty_s = t * (*found)[1] * result.second_s;
    // The longer constant is given by the shorter one and their ratio.
    if (model == DetectorModel::two_constants)
      result.second_uncertainty_s = t * std::hypot((*found)[0], (*found)[1]) * result.second_s;
    if (hold) result.hold_uncertainty_s = t * (*found)[constants];
  }
  return result;
}

void fit_models(const GainOverTime& g, std::size_t first, const GainStepOptions& options, GainStep& step) {
  const double end =
      std::min(g.time_s.back(), std::max(kTimes * step.to_90_s.value_or(g.time_s.back()), 0.002));
  std::vector<double> times, gains;
  std::size_t count = 0;
  while (first + count < g.time_s.size() && g.time_s[first + count] <= end) ++count;
  const std::size_t stride = std::max<std::size_t>(1, count / kMostPoints);
  for (std::size_t i = 0; i < count; i += stride) {
    times.push_back(g.time_s[first + i]);
    gains.push_back(g.gain_db[first + i]);
  }
  if (times.size() < 8) return;
  const Models models(step, options);
  std::vector<DetectorModel> tried = {DetectorModel::gain_in_db, DetectorModel::gain};
  if (models.levels_known())
    for (const auto model :
         {DetectorModel::mean_square, DetectorModel::amplitude, DetectorModel::mean_square_then_gain})
      tried.push_back(model);
  const double guess = std::clamp(step.to_63_s.value_or(times.back()), kShortestS, times.back());
  const auto by_error = [](const ModelFit& a, const ModelFit& b) { return a.error_db < b.error_db; };
  const auto fit_all = [&](bool hold) {
    std::vector<ModelFit> fits(tried.size());
    for_each_part(tried.size(),
                  [&](std::size_t i) { fits[i] = fitted(models, tried[i], times, gains, guess, hold); });
    std::sort(fits.begin(), fits.end(), by_error);
    // Of two stages one counts for nothing when it is shorter than what a value of the gain averages over, or
    // when the other one alone explains it as well.
    if (fits.size() > 1 && fits.front().model == DetectorModel::mean_square_then_gain &&
        (std::min(fits[0].constant_s, fits[0].second_s) < kSeen * options.resolution_s ||
         fits[1].error_db < 1.15 * fits[0].error_db + 1e-6))
      std::rotate(fits.begin(), fits.begin() + 1, fits.end());
    return fits;
  };
  step.models = fit_all(false);
  const double change = std::abs(step.end_db - step.start_db);
  if (step.models.front().error_db > kGoodFit * change)
    if (auto held = fit_all(true); held.front().error_db < kHalved * step.models.front().error_db)
      step.models = std::move(held);
  // Without the static curve an attack by the mean square would look like them.
  if ((options.release || models.levels_known()) && step.models.front().error_db > kGoodFit * change) {
    const ModelFit two = fitted(models, DetectorModel::two_constants, times, gains, guess, false);
    const bool halves = two.error_db < kHalved * step.models.front().error_db;
    step.models.insert(halves ? step.models.begin() : step.models.end(), two);
  }
}

}  // namespace

namespace {

// Of single values of the gain between two times, and how many there are.
struct Rest {
  double scatter_db = 0, count = 0;
  [[nodiscard]] double of_mean() const { return count > 0 ? scatter_db / std::sqrt(count) : 0; }
};
Rest rest_between(const GainOverTime& g, double from, double to) {
  double sum = 0, squares = 0, count = 0;
  for (std::size_t i = 0; i < g.time_s.size(); ++i) {
    if (g.time_s[i] < from || g.time_s[i] > to) continue;
    sum += g.gain_db[i];
    squares += g.gain_db[i] * g.gain_db[i];
    ++count;
  }
  if (count < 2) return {};
  return {std::sqrt(std::max(0.0, squares / count - sum / count * sum / count)), count};
}

// dB per second around a time, over a tenth of it to either side.
double slope_at(const GainOverTime& g, double time, double resolution) {
  const double reach = std::max({0.1 * std::abs(time), resolution / 4, 1e-5});
  return (mean_between(g, time + reach / 2, time + 1.5 * reach) -
          mean_between(g, time - 1.5 * reach, time - reach / 2)) /
         (2 * reach);
}

// What a sliding fit of that length makes of a time to 63 %, and to 90 %, 5 to 95 % of built compressors.
// Long ones it moves by a part of itself.
constexpr double kOfWindow = 0.6;
constexpr double kOfEnds = 4;  // two deviations, of a constant that answers by half as much again
// Of single values, by repetition: the first of several crossings is nearer to the truth where the curve is
// steep, and farther where it is flat.
constexpr double kCrossings63 = 1.8, kCrossings90 = 2.15;
double window_share_63(double windows) {
  return windows < 1 ? 0.3 : windows < 1.5 ? 0.09 : std::min(0.03, kOfWindow / windows);
}
double window_share_90(double windows) {
  return windows < 1.2 ? 0.25 : windows < 2 ? 0.1 : std::min(0.03, kOfWindow / windows);
}

void add_time_uncertainties(const GainOverTime& g, double resolution, GainStep& step) {
  const double before = -g.time_s.front(), after = g.time_s.back();
  const Rest start = rest_between(g, -kStartShare * before, -kEarlyShare * before),
             end = rest_between(g, (1 - kEndShare) * after, after);
  const double scatter = std::max(start.scatter_db, end.scatter_db);
  step.overshoot_uncertainty_db = 2 * scatter;
  const auto of_scatter = [&](double time, double deviations = 2) {
    const double slope = std::abs(slope_at(g, time, resolution));
    return slope > 0 ? deviations * scatter / slope : 0;
  };
  const auto windows = [&](double time) { return resolution > 0 ? time / resolution : 1e9; };
  if (step.onset_s) step.onset_uncertainty_s = std::hypot(of_scatter(*step.onset_s), resolution / 4);
  if (step.to_63_s)
    step.to_63_uncertainty_s = std::hypot(of_scatter(*step.to_63_s, kCrossings63),
                                          window_share_63(windows(*step.to_63_s)) * *step.to_63_s);
  if (step.to_90_s)
    step.to_90_uncertainty_s = std::hypot(of_scatter(*step.to_90_s, kCrossings90),
                                          window_share_90(windows(*step.to_90_s)) * *step.to_90_s);
  // Models go between a start and an end that are means of what scatters.
  const double of_ends =
      kOfEnds * std::hypot(start.of_mean(), end.of_mean()) / std::abs(step.end_db - step.start_db);
  for (ModelFit& model : step.models) {
    model.constant_uncertainty_s = std::hypot(model.constant_uncertainty_s, of_ends * model.constant_s);
    model.second_uncertainty_s = std::hypot(model.second_uncertainty_s, of_ends * model.second_s);
  }
}

}  // namespace

std::string name_of(DetectorModel model) {
  switch (model) {
    case DetectorModel::gain_in_db:
      return "gain in dB";
    case DetectorModel::mean_square:
      return "mean square";
    case DetectorModel::amplitude:
      return "amplitude";
    case DetectorModel::gain:
      return "gain as a factor";
    case DetectorModel::mean_square_then_gain:
      return "mean square, then gain in dB";
    default:
      return "gain in dB, two constants";
  }
}

bool hears_rms(DetectorModel model) {
  return model == DetectorModel::mean_square || model == DetectorModel::mean_square_then_gain;
}

namespace {

// One exponential from the start to an end that is not known.
std::optional<double> needed_for(const GainOverTime& g, std::size_t first, double start_db) {
  constexpr double kKnown = 1.0 / 3;
  const std::size_t count = g.time_s.size() - first, stride = std::max<std::size_t>(1, count / kMostPoints);
  std::vector<double> times, gains;
  for (std::size_t i = first; i < g.time_s.size(); i += stride) {
    times.push_back(g.time_s[i]);
    gains.push_back(g.gain_db[i]);
  }
  if (times.size() < 8) return std::nullopt;
  const double seen = times.back(), moved = gains.back() - start_db;
  const Residuals residuals = [&](std::span<const double> p, std::span<double> left) {
    for (std::size_t i = 0; i < left.size(); ++i)
      left[i] = start_db + p[1] * -std::expm1(-times[i] / std::exp(p[0])) - gains[i];
  };
  LeastSquaresFit best;
  for (const double times_seen : {0.5, 2.0, 8.0}) {
    const double most = 100 * std::abs(moved) + 1;
    const FitParameter constant{std::log(times_seen * seen), std::log(0.05 * seen), std::log(50 * seen)},
        whole{moved / -std::expm1(-1 / times_seen), -most, most};
    auto fit = fit_least_squares(residuals, times.size(), std::array{constant, whole});
    if (best.parameters.empty() || fit.rms < best.rms) best = std::move(fit);
  }
  const auto sure = fit_deviations(residuals, times.size(), best.parameters, std::array{1e-3, 1e-3});
  // What the model leaves has a shape, and is no noise: it counts over all of what was seen.
  if (!sure || 2 * (*sure)[0] > kKnown || best.rms > kGoodFit * std::abs(best.parameters[1]))
    return std::nullopt;
  constexpr double kTo99 = 4.6;
  return kTo99 * std::exp(best.parameters[0]);
}

}  // namespace

GainStep measure_gain_step(const GainOverTime& g, const GainStepOptions& options) {
  const auto first =
      static_cast<std::size_t>(std::lower_bound(g.time_s.begin(), g.time_s.end(), 0.0) - g.time_s.begin());
  if (first == 0 || first == g.time_s.size() || g.gain_db.size() != g.time_s.size())
    throw Error(ErrorCode::bad_argument, "the gain has to be known before and after the step");
  GainStep step;
  // Before the step, but for the last of it: what looks ahead moves early.
  const double before_s = -g.time_s.front(), after_s = g.time_s.back();
  step.start_db = mean_between(g, -kStartShare * before_s, -kEarlyShare * before_s);
  const auto early = static_cast<std::size_t>(
      std::lower_bound(g.time_s.begin(), g.time_s.end(), -kEarlyShare * before_s) - g.time_s.begin());
  const double last = mean_between(g, (1 - kEndShare) * after_s, 1e300);
  const double earlier = mean_between(g, (1 - 2 * kEndShare) * after_s, (1 - kEndShare) * after_s);
  const bool moving = std::abs(last - earlier) > kStillShare * std::abs(last - step.start_db);
  step.end_db = moving ? options.end_db.value_or(last) : last;
  const double change = step.end_db - step.start_db;
  if (std::abs(change) < kLeastChangeDb) return step;
  if (moving && options.release && !options.end_db) {
    step.open_end = true;
    step.needed_s = needed_for(g, first, step.start_db);
    return step;
  }
  const double before = mean_between(g, -2 * kStartShare * before_s, -kStartShare * before_s);
  step.unsettled = std::abs(before - step.start_db) > kUnsettled * std::abs(change);
  step.reached = (last - step.start_db) / change;
  step.onset_s = reached_at(g, early, step.start_db, change, 0.1);
  step.to_63_s = reached_at(g, early, step.start_db, change, kTo63);
  step.to_90_s = reached_at(g, early, step.start_db, change, 0.9);
  double most = 0;
  for (std::size_t i = first; i < g.gain_db.size(); ++i)
    most = std::max(most, (g.gain_db[i] - step.end_db) * (change > 0 ? 1 : -1));
  step.overshoot_db = most;
  fit_models(g, first, options, step);
  add_time_uncertainties(g, options.resolution_s, step);
  return step;
}

}  // namespace wavicon
