// SPDX-License-Identifier: MIT
#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>

#include "measure/harmonics/methods.hpp"
#include "wavicon/audio/linear_system.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr int kMostOrders =
    300;  // above the 300th of a tone this low there is nothing left to disturb H2 … H10
constexpr int kFrequencySteps = 30;  // it converges in four to eight; the rest is a safeguard
constexpr double kRestBeta = 14;     // window for the spectrum of what the fit leaves
constexpr double kRestLoss = 2.991;  // of its values: n·Σw⁴/(Σw²)²

// Σ e^{i·angle·n} over n = 0 … length-1, in closed form; angle as phase.
std::complex<double> exponential_sum(Phase step, std::size_t length) {
  if (step == 0) return static_cast<double>(length);
  // Half angles: sin(N·a/2)/sin(a/2)·e^{i·(N-1)·a/2}. Halving a phase loses its top bit, which both sines
  // share but for a sign that cancels against the exponential's.
  const Phase half = step / 2, odd = step % 2;
  const Phase half_n = half * length + (odd != 0 ? length / 2 : 0);
  const double ratio = sine(half_n) / sine(half);
  const Phase turn = half * (length - 1) + (odd != 0 ? (length - 1) / 2 : 0);
  return {ratio * cosine(turn), ratio * sine(turn)};
}

// x[n] ≈ c0 + Σ_k (a_k cos(k·w·n) + b_k sin(k·w·n)), least squares at one frequency.
class HarmonicModel {
 public:
  HarmonicModel(Phase step, int order_count, std::size_t length)
      : step_(step), orders_(order_count), length_(length), system_(normal_matrix(), unknowns()) {}

  [[nodiscard]] std::size_t unknowns() const { return 2 * static_cast<std::size_t>(orders_) + 1; }
  [[nodiscard]] bool well_posed() const { return system_.well_posed(); }

  // Coefficients c0, a1, b1, a2, b2, …; solved twice, the second time for what the first left, which takes
  // the rounding of the normal equations out again.
  [[nodiscard]] std::vector<double> fit(std::span<const double> x) const {
    std::vector<double> coefficients = system_.solve(projections(x));
    std::vector<double> rest(x.begin(), x.end());
    subtract(coefficients, rest);
    const auto correction = system_.solve(projections(rest));
    for (std::size_t i = 0; i < coefficients.size(); ++i) coefficients[i] += correction[i];
    return coefficients;
  }

  void subtract(const std::vector<double>& c, std::vector<double>& x) const {
    for (double& value : x) value -= c[0];
    for (std::size_t k = 1; 2 * k < c.size(); ++k)
      add_tone(x, step_ * static_cast<Phase>(k), std::complex(-c[2 * k - 1], c[2 * k]));
  }

  // Change of the model with the angle per frame: Σ_k k·n·(b_k cos - a_k sin).
  [[nodiscard]] std::vector<double> slope(const std::vector<double>& c) const {
    std::vector<double> result(length_, 0.0);
    for (std::size_t k = 1; 2 * k < c.size(); ++k) {
      const double order = static_cast<double>(k);
      add_tone(result, step_ * static_cast<Phase>(k), std::complex(order * c[2 * k], order * c[2 * k - 1]));
    }
    for (std::size_t n = 0; n < length_; ++n) result[n] *= static_cast<double>(n);
    return result;
  }

 private:
  std::vector<double> normal_matrix() const {
    std::vector<std::complex<double>> g;
    for (int d = 0; d <= 2 * orders_; ++d)
      g.push_back(exponential_sum(step_ * static_cast<Phase>(d), length_));
    const std::size_t size = unknowns();
    std::vector<double> matrix(size * size, 0.0);
    auto at = [&](std::size_t row, std::size_t column) -> double& { return matrix[row * size + column]; };
    at(0, 0) = g[0].real();
    for (int j = 1; j <= orders_; ++j) {
      const std::size_t c = 2 * static_cast<std::size_t>(j) - 1, s = c + 1;
      at(c, 0) = g[static_cast<std::size_t>(j)].real();
      at(s, 0) = g[static_cast<std::size_t>(j)].imag();
      for (int k = 1; k <= j;
           ++k) {  // products of cosines and sines as sums at the difference and the sum of the orders
        const std::complex<double> minus = g[static_cast<std::size_t>(j - k)],
                                   plus = g[static_cast<std::size_t>(j + k)];
        const std::size_t kc = 2 * static_cast<std::size_t>(k) - 1, ks = kc + 1;
        at(c, kc) = 0.5 * (minus.real() + plus.real());
        at(s, ks) = 0.5 * (minus.real() - plus.real());
        at(s, kc) = 0.5 * (plus.imag() + minus.imag());
        if (ks < c) at(c, ks) = 0.5 * (plus.imag() - minus.imag());
      }
    }
    return matrix;
  }

  std::vector<double> projections(std::span<const double> x) const {
    std::vector<double> result(unknowns());
    result[0] = tone_sum(x, 0).real();
    for (int k = 1; k <= orders_; ++k) {
      const std::complex<double> sum = tone_sum(x, step_ * static_cast<Phase>(k));
      result[2 * static_cast<std::size_t>(k) - 1] = sum.real();
      result[2 * static_cast<std::size_t>(k)] = -sum.imag();
    }
    return result;
  }

  Phase step_;
  int orders_;
  std::size_t length_;
  SymmetricSystem system_;
};

double dot(std::span<const double> a, std::span<const double> b) {
  double sum = 0;
  for (std::size_t i = 0; i < a.size(); ++i) sum += a[i] * b[i];
  return sum;
}

int orders_below_half_rate(double hz, double sample_rate_hz) {
  return std::clamp(static_cast<int>(std::ceil(sample_rate_hz / 2 / hz)) - 1, 1, kMostOrders);
}

struct Fit {
  double hz = 0;
  std::vector<double> coefficients;
  std::vector<double> rest;
  bool well_posed = false;
};

Fit solve_at(std::span<const double> x, double hz, double sample_rate_hz, double& move_hz) {
  const HarmonicModel model(phase_step(hz, sample_rate_hz), orders_below_half_rate(hz, sample_rate_hz),
                            x.size());
  Fit fit{hz, {}, {x.begin(), x.end()}, model.well_posed()};
  move_hz = 0;
  if (!fit.well_posed) return fit;
  fit.coefficients = model.fit(x);
  model.subtract(fit.coefficients, fit.rest);
  // Gauss-Newton in the frequency alone: the slope freed of what the other unknowns could take up.
  auto slope = model.slope(fit.coefficients);
  model.subtract(model.fit(slope), slope);
  const double size = dot(slope, slope);
  if (size > 0) move_hz = dot(slope, fit.rest) / size * sample_rate_hz / (2 * std::numbers::pi);
  return fit;
}

Fit fit_tone(std::span<const double> x, double sample_rate_hz, double rough_hz) {
  const double resolution_hz = sample_rate_hz / static_cast<double>(x.size());
  double hz = rough_hz, move_hz = 0;
  Fit fit = solve_at(x, hz, sample_rate_hz, move_hz);
  for (int i = 0; i < kFrequencySteps && fit.well_posed && std::abs(move_hz) > 1e-12 * hz; ++i) {
    move_hz = std::clamp(move_hz, -0.25 * resolution_hz, 0.25 * resolution_hz);
    if (hz + move_hz <= 0 || hz + move_hz >= sample_rate_hz / 2) break;
    double next_move_hz = 0;
    Fit next = solve_at(x, hz + move_hz, sample_rate_hz, next_move_hz);
    if (!next.well_posed || (i > 3 && dot(next.rest, next.rest) > dot(fit.rest, fit.rest))) break;
    hz += move_hz;
    fit = std::move(next);
    move_hz = next_move_hz;
  }
  return fit;
}

// Mean square of the rest within a band, by its spectrum.
double band_mean_square(std::span<const double> rest, double sample_rate_hz, double from_hz, double to_hz) {
  const auto window = kaiser_window(rest.size(), kRestBeta);
  RealTransform transform(fast_transform_length(rest.size()));
  const auto input = transform.input();
  std::fill(input.begin(), input.end(), 0.0);
  double squares = 0;
  for (std::size_t i = 0; i < rest.size(); ++i) {
    input[i] = window[i] * rest[i];
    squares += window[i] * window[i];
  }
  transform.execute();
  const double bin = sample_rate_hz / static_cast<double>(transform.length());
  double sum = 0;
  for (std::size_t b = 0; b < transform.bins().size(); ++b) {
    const double hz = static_cast<double>(b) * bin;
    const double inside =
        std::min({hz + bin / 2, to_hz, sample_rate_hz / 2}) - std::max({hz - bin / 2, from_hz, 0.0});
    if (inside > 0) sum += inside / bin * std::norm(transform.bins()[b]);
  }
  return 2.0 * sum / (squares * static_cast<double>(transform.length()));
}

void draw_fit(const Fit& fit, ChannelHarmonics& channel) {
  for (std::size_t k = 1; 2 * k < fit.coefficients.size(); ++k) {
    channel.spectrum_hz.push_back(static_cast<double>(k) * fit.hz);
    channel.spectrum_amplitude.push_back(std::hypot(fit.coefficients[2 * k - 1], fit.coefficients[2 * k]));
  }
}

}  // namespace

ChannelHarmonics measure_by_joint_fit(std::span<const double> stretch, double sample_rate_hz, double rough_hz,
                                      const HarmonicsOptions& options) {
  ChannelHarmonics channel;
  channel.method = ChannelHarmonics::Method::joint_fit;
  channel.window_frames = static_cast<std::int64_t>(stretch.size());
  const Fit fit = fit_tone(stretch, sample_rate_hz, rough_hz);
  const auto amplitude = [&](std::size_t k) {
    return std::hypot(fit.coefficients[2 * k - 1], fit.coefficients[2 * k]);
  };
  // Of a·cos + b·sin as a cosine.
  const auto angle = [&](std::size_t k) {
    return std::atan2(-fit.coefficients[2 * k], fit.coefficients[2 * k - 1]);
  };
  const double length = static_cast<double>(stretch.size());
  const double freedom = length - static_cast<double>(fit.coefficients.size()) - 1.0;
  const double rest_square = fit.well_posed && freedom >= 1 ? dot(fit.rest, fit.rest) / freedom : 0;
  if (!fit.well_posed || freedom < 1 || amplitude(1) * amplitude(1) < 10 * 4 * rest_square / length) {
    channel.state = ChannelHarmonics::State::no_tone;
    return channel;
  }
  channel.fundamental_hz = fit.hz;
  channel.fundamental_amplitude = amplitude(1);
  channel.dc = fit.coefficients[0];
  channel.orders = place_orders(fit.hz, sample_rate_hz, options.highest_order, 0.5 * sample_rate_hz / length);
  const double rounding = std::pow(amplitude(1) * 0x1p-53, 2) / length;
  const double noise = std::max(4 * rest_square / length, rounding), power = amplitude(1) * amplitude(1);
  channel.fundamental_uncertainty_db = line_uncertainty_db(power, power * noise, noise * noise, 1);
  // Least variance of a frequency (Rife and Boorstyn 1974, to verify).
  channel.fundamental_uncertainty_hz = 2 * std::sqrt(24 * rest_square / (power * length * length * length)) *
                                       sample_rate_hz / (2 * std::numbers::pi);
  for (HarmonicOrder& order : channel.orders) {
    // Folded orders are not in the model: with so few periods they cannot be told from the rest.
    order.hidden = order.folded || 2 * static_cast<std::size_t>(order.order) >= fit.coefficients.size();
    if (order.hidden) continue;
    set_level(order, std::pow(amplitude(static_cast<std::size_t>(order.order)), 2), noise, 1);
    order.phase_deg =
        sine_phase_deg(angle(static_cast<std::size_t>(order.order)) - order.order * angle(1), order.order);
  }
  set_thd(channel);

  channel.band_to_hz = std::min(options.band_to_hz, sample_rate_hz / 2);
  const double rest_in_band =
      band_mean_square(fit.rest, sample_rate_hz, options.band_from_hz, channel.band_to_hz);
  const double rest_in_all = band_mean_square(fit.rest, sample_rate_hz, 0, sample_rate_hz / 2);
  const double noise_square = rest_in_all > 0 ? rest_square * std::min(1.0, rest_in_band / rest_in_all) : 0;
  double harmonics_square = 0;
  for (std::size_t k = 2; 2 * k < fit.coefficients.size(); ++k) {
    const double hz = static_cast<double>(k) * fit.hz;
    if (hz >= options.band_from_hz && hz <= channel.band_to_hz)
      harmonics_square += std::max(0.0, amplitude(k) * amplitude(k) - noise) / 2;
  }
  const double beside = harmonics_square * noise / 2;
  channel.residual_noise_rms = std::sqrt(noise_square);
  channel.thd_n_ratio = std::sqrt(2 * (noise_square + harmonics_square)) / channel.fundamental_amplitude;
  // Of a band's power: of the whole's, which all frames tell, and of the band's share of it, which a window
  // tells that uses fewer.
  const double share = rest_in_all > 0 ? std::clamp(rest_in_band / rest_in_all, 1e-6, 1.0) : 1,
               chance = noise_square * noise_square * (1 + kRestLoss * (1 - share) / share) / (0.5 * freedom);
  channel.residual_uncertainty_db = line_uncertainty_db(noise_square, 0, chance, 1);
  channel.thd_n_uncertainty_db =
      std::hypot(line_uncertainty_db(noise_square + harmonics_square, beside, chance, 1),
                 channel.fundamental_uncertainty_db);
  draw_fit(fit, channel);
  fold_to_period(stretch, sample_rate_hz, angle(1), channel);
  return channel;
}

}  // namespace wavicon::measure_detail
