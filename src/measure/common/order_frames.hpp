// SPDX-License-Identifier: MIT
#pragma once
// All orders of a known phase in one short frame, by weighted least squares. Internal to `measure`.

#include <complex>
#include <memory>
#include <span>
#include <vector>

#include "wavicon/audio/transform.hpp"

namespace wavicon::measure_detail {

/// One signal's orders in one frame.
struct FrameOrders {
  std::vector<std::complex<double>> amplitude;  ///< of orders 0 … K in the middle of the frame: peak values
  double residual_power = 0;                    ///< mean square of what no order explains
  std::vector<double> sigma;  ///< RMS error of each amplitude by what is left around it; empty: not asked for
};

/// Where orders lie, to see what is left around them.
struct OrderPlaces {
  double cycles_per_sample = 0;  ///< of order 1 in the middle of the frame
  double reach = 0;              ///< that is looked at around each, in cycles per sample
};

struct FrameFit {
  std::vector<double> inflation;     ///< of each order's variance: 1 when it stands alone
  std::vector<FrameOrders> signals;  ///< empty when the frame cannot be solved
};

/// Fits DC and orders 1 … K at once; amplitudes change linearly within the frame.
class OrderFitter {
 public:
  /// @param frame  length in samples; the weights are a Kaiser window, β = 20.
  OrderFitter(std::size_t frame, int highest_order);
  [[nodiscard]] std::size_t frame() const { return weights_.size(); }

  /// @param cosine, sine  of the phase of order 1, `frame` values each. @param signals  `frame` values each.
  [[nodiscard]] FrameFit fit(std::span<const double> cosine, std::span<const double> sine,
                             std::span<const std::span<const double>> signals);

  /// How sure the amplitudes of the fit just made are: the windowed residual's power around each order, over
  /// the freedom that the fit leaves, times the variance that noise of power 1 has there (weighted least
  /// squares, closed form for orders that stand apart, inflated as the fit says where they do not).
  /// @param signal  its samples. @param index  of it in the fit.
  void find_sigmas(std::span<const double> cosine, std::span<const double> sine,
                   std::span<const double> signal, std::size_t index, const OrderPlaces& places,
                   FrameFit& fit);

 private:
  void sum_phases(std::span<const double> cosine, std::span<const double> sine,
                  std::span<const std::span<const double>> signals);
  void fill_matrix();
  static void fill_row(const double* c, const double* s, std::size_t k, bool is_sine, std::size_t last,
                       double* row);

  int highest_;
  std::vector<double> weights_, slope_;          // w, and u from -1 to 1
  std::vector<double> re_, im_;                  // e^{jdφ} while d counts up
  std::vector<double> sum_cos_[3], sum_sin_[3];  // Σ w·u^p·cos(dφ), sin
  std::vector<std::vector<double>> sides_;
  std::vector<std::vector<double>> unknowns_;  // of each signal: slopes, then amplitudes
  double squares_ = 0, slope_squares_ = 0;     // Σw², Σw²u²/Σwu²
  std::unique_ptr<RealTransform> transform_;   // of the residual
  std::vector<double> matrix_, room_;
};

}  // namespace wavicon::measure_detail
