// SPDX-License-Identifier: MIT
#pragma once
// All orders of a known phase in one short frame, by weighted least squares. Internal to `measure`.

#include <complex>
#include <span>
#include <vector>

namespace wavicon::measure_detail {

/// One signal's orders in one frame.
struct FrameOrders {
  std::vector<std::complex<double>> amplitude;  ///< of orders 0 … K in the middle of the frame: peak values
  double residual_power = 0;                    ///< mean square of what no order explains
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

 private:
  void sum_phases(std::span<const double> cosine, std::span<const double> sine,
                  std::span<const std::span<const double>> signals);
  void fill_matrix();

  int highest_;
  std::vector<double> weights_, slope_;          // w, and u from -1 to 1
  std::vector<double> re_, im_;                  // e^{jdφ} while d counts up
  std::vector<double> sum_cos_[3], sum_sin_[3];  // Σ w·u^p·cos(dφ), sin
  std::vector<std::vector<double>> sides_;
  std::vector<double> matrix_;
};

}  // namespace wavicon::measure_detail
