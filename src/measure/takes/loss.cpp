// SPDX-License-Identifier: MIT
#include "measure/takes/loss.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <vector>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/least_squares.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr double kOverNoise = 1.26;  // of power
constexpr double kDeviations = 3;
constexpr double kLostFromHz = 800;
constexpr std::size_t kLeastBands = 6;
constexpr double kSameWordsDb = 0.7, kOtherWordsDb = 2;
constexpr double kScatter = 2;         // χ² per degree of freedom, from which the words are others
constexpr double kPlainlyBetter = 16;  // χ² that a corner takes off
constexpr double kLeastLossDb = -3;    // at the highest band
constexpr double kOneOrOther = 4;      // χ² by which so many poles explain it better than others
constexpr double kDbPerPole = 6.0206;  // and octave

struct Difference {
  double hz = 0, db = 0;
  double axis = 0;      // the frequency, straight or as the bilinear transform bends it
  double noise_db = 0;  // one deviation of it, from both noises
};

bool stands_out(const RecordedTake& take, std::size_t i) {
  if (take.band_noise_rms.empty()) return take.band_rms[i] > 0;
  const double power = take.band_rms[i] * take.band_rms[i],
               noise = take.band_noise_rms[i] * take.band_noise_rms[i];
  return power > kOverNoise * noise && kDeviations * take.band_deviation[i] < 1;
}

double signal_of(const RecordedTake& take, std::size_t i) {
  const double noise = take.band_noise_rms.empty() ? 0 : take.band_noise_rms[i];
  return std::max(1e-300, take.band_rms[i] * take.band_rms[i] - noise * noise);
}

double fall_db(double axis, double corner, double order) {
  return -db_from_power_ratio(1 + std::pow(axis / corner, 2 * order));
}

// A digital filter falls faster towards half the rate than one of coils and capacitors.
double bent_hz(double hz, double rate) {
  return rate / std::numbers::pi * std::tan(std::numbers::pi * std::min(hz / rate, 0.49));
}
double straight_hz(double bent, double rate) {
  return rate / std::numbers::pi * std::atan(std::numbers::pi * bent / rate);
}

// c, ln(corner), n.
struct Fall {
  std::array<double, 3> p{};
  double chi_square = 0;
};

Residuals residuals_of(const std::vector<Difference>& bands, double words_db, std::optional<double> order) {
  return [&bands, words_db, order](std::span<const double> p, std::span<double> left) {
    for (std::size_t i = 0; i < bands.size(); ++i)
      left[i] = (p[0] + fall_db(bands[i].axis, std::exp(p[1]), order ? *order : p[2]) - bands[i].db) /
                std::hypot(words_db, bands[i].noise_db);
  };
}

Fall fitted(const std::vector<Difference>& bands, double words_db, std::optional<double> order) {
  const Residuals residuals = residuals_of(bands, words_db, order);
  Fall best{.chi_square = 1e300};
  const double top = bands.back().axis;
  for (const double corner : {0.2, 0.4, 0.7})
    for (const double n : {1.0, 3.0}) {
      std::vector<FitParameter> parameters = {
          {bands.front().db, bands.front().db - 12, bands.front().db + 12},
          {std::log(corner * top), std::log(bands.front().axis), std::log(1.2 * top)}};
      if (!order) parameters.push_back({n, 0.3, 8});
      const auto fit = fit_least_squares(residuals, bands.size(), parameters);
      const double chi = fit.rms * fit.rms * static_cast<double>(bands.size());
      if (chi >= best.chi_square) continue;
      best = {{fit.parameters[0], fit.parameters[1], order ? *order : fit.parameters[2]}, chi};
    }
  return best;
}

double flat_chi_square(const std::vector<Difference>& bands, double words_db) {
  double weights = 0, mean = 0, chi = 0;
  const auto weight = [&](const Difference& d) {
    return 1 / (words_db * words_db + d.noise_db * d.noise_db);
  };
  for (const Difference& d : bands) {
    weights += weight(d);
    mean += weight(d) * d.db;
  }
  mean /= weights;
  for (const Difference& d : bands) chi += weight(d) * (d.db - mean) * (d.db - mean);
  return chi;
}

struct Mean {
  double db = 0, weight = 0;
};

Mean mean_of(const std::vector<Difference>& bands, double from_hz, double to_hz, double words_db) {
  Mean mean;
  for (const Difference& d : bands) {
    if (d.hz < from_hz || d.hz >= to_hz) continue;
    const double weight = 1 / (words_db * words_db + d.noise_db * d.noise_db);
    mean.db += weight * d.db;
    mean.weight += weight;
  }
  if (mean.weight > 0) mean.db /= mean.weight;
  return mean;
}

// Above, only the first take stands out of its noise: the other one lacks what lies between it and its own.
void add_bound(const RecordedTake& first, const RecordedTake& take, double c, TakeLoss& loss) {
  double least = 0;
  for (std::size_t i = 0; i < take.band_hz.size(); ++i)
    if (take.band_hz[i] >= loss.above_hz && stands_out(first, i) && !stands_out(take, i))
      least = std::min(least, db_from_power_ratio(kOverNoise * take.band_noise_rms[i] *
                                                  take.band_noise_rms[i] / signal_of(first, i)) -
                                  c);
  if (!(least < 0)) return;
  loss.bound = true;
  loss.loss_db = least;
}

}  // namespace

std::optional<double> noise_from(const RecordedTake& take) {
  for (std::size_t i = 0; i + 1 < take.band_hz.size(); ++i)
    if (take.band_hz[i] > kLostFromHz && !stands_out(take, i) && !stands_out(take, i + 1))
      return take.band_hz[i] / std::pow(10.0, 0.05);
  return std::nullopt;
}

std::optional<TakeLoss> loss_against(const RecordedTake& first, const RecordedTake& take, double rate,
                                     std::optional<double> above_hz) {
  if (take.band_hz != first.band_hz) return std::nullopt;
  std::vector<Difference> bands;
  const double end_hz = std::min(noise_from(take).value_or(1e9), noise_from(first).value_or(1e9));
  for (std::size_t i = 0; i < take.band_hz.size(); ++i)
    if (take.band_hz[i] < end_hz && stands_out(take, i) && stands_out(first, i))
      bands.push_back({take.band_hz[i], db_from_power_ratio(signal_of(take, i) / signal_of(first, i)),
                       take.band_hz[i],
                       kDbOfPowerShare * std::hypot(take.band_deviation[i], first.band_deviation[i])});
  if (bands.size() < kLeastBands) return std::nullopt;
  double words_db = kSameWordsDb;
  Fall fall = fitted(bands, words_db, std::nullopt);
  if (fall.chi_square > kScatter * static_cast<double>(bands.size() - 3)) {
    words_db = kOtherWordsDb;
    fall = fitted(bands, words_db, std::nullopt);
  }
  std::vector<Difference> bent = bands;
  for (Difference& d : bent) d.axis = bent_hz(d.hz, rate);
  const Fall other = fitted(bent, words_db, std::nullopt);
  const bool bends = other.chi_square < fall.chi_square;
  if (bends) {
    fall = other;
    bands = std::move(bent);
  }
  const double corner = bends ? straight_hz(std::exp(fall.p[1]), rate) : std::exp(fall.p[1]);
  const double at_top = fall_db(bands.back().axis, std::exp(fall.p[1]), fall.p[2]);
  const bool found =
      flat_chi_square(bands, words_db) - fall.chi_square > kPlainlyBetter && at_top < kLeastLossDb;
  if (!found && !above_hz) return std::nullopt;
  TakeLoss loss;
  loss.above_hz = above_hz.value_or(corner);
  const Mean above = mean_of(bands, loss.above_hz, 1e9, words_db);
  const Mean below = mean_of(bands, 0, loss.above_hz, words_db);
  const double c = found ? fall.p[0] : below.db;
  if (above.weight > 0) {
    loss.loss_db = above.db - c;
    loss.loss_uncertainty_db =
        2 * std::hypot(1 / std::sqrt(above.weight), below.weight > 0 ? 1 / std::sqrt(below.weight) : 0);
  } else {
    add_bound(first, take, c, loss);
    if (!loss.bound) return std::nullopt;
  }
  if (!found) return loss;
  loss.corner_hz = corner;
  loss.slope_db_per_octave = kDbPerPole * fall.p[2];
  const std::array<double, 3> steps = {1e-3, 1e-3, 1e-3};
  if (const auto sure =
          fit_deviations(residuals_of(bands, words_db, std::nullopt), bands.size(), fall.p, steps, 1)) {
    loss.corner_uncertainty_hz = 2 * (*sure)[1] * *loss.corner_hz;
    loss.slope_uncertainty_db = 2 * (*sure)[2] * kDbPerPole;
  } else {
    loss.corner_hz.reset();
  }
  // Named only where no other number explains it as well.
  const auto chi = [&](double order) { return fitted(bands, words_db, order).chi_square; };
  std::array<std::pair<double, int>, 3> poles = {{{chi(1), 1}, {chi(2), 2}, {chi(4), 4}}};
  std::sort(poles.begin(), poles.end());
  if (poles[1].first - poles[0].first > kOneOrOther) loss.poles = poles[0].second;
  if (std::abs(loss.slope_db_per_octave - kDbPerPole * loss.poles) >
      loss.slope_uncertainty_db + 0.5 * kDbPerPole)
    loss.poles = 0;
  return loss;
}

}  // namespace wavicon::measure_detail
