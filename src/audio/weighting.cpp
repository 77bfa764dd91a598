// SPDX-License-Identifier: MIT
#include "wavicon/audio/weighting.hpp"

#include <algorithm>
#include <complex>
#include <numbers>

namespace wavicon {

double a_weight(double f) {
  constexpr double kUnityAt1k = 1.5847674901546134;  // the formula itself reads -1.99966 dB there
  constexpr double k1 = 20.598997, k2 = 107.65265, k3 = 737.86223, k4 = 12194.217;  // Hz
  const double s = f * f;
  const double amplitude_squared_numerator = k4 * k4 * s * s;
  const double denominator = (s + k1 * k1) * (s + k4 * k4);
  const double ratio = amplitude_squared_numerator / denominator;
  return kUnityAt1k * ratio * ratio / ((s + k2 * k2) * (s + k3 * k3));
}

double itu_r_468_weight(double f) {
  constexpr double kUnityAt1k = 66.069344800759593;  // 18.2 dB
  const double s = f * f;
  const double even =
      ((-4.737338981378384e-24 * s + 2.043828333606125e-15) * s - 1.363894795463638e-7) * s + 1;
  const double odd = ((1.306612257412824e-19 * s - 2.118150887518656e-11) * s + 5.559488023498642e-4) * f;
  const double amplitude = 1.246332637532143e-4 * f;
  return kUnityAt1k * amplitude * amplitude / (even * even + odd * odd);
}

double k_weight(double frequency_hz) {
  const double angle = 2 * std::numbers::pi * std::clamp(frequency_hz, 0.0, 23999.0) / 48000;
  const std::complex<double> z = std::polar(1.0, -angle);
  const auto shelf = (1.53512485958697 + z * (-2.69169618940638 + z * 1.19839281085285)) /
                     (1.0 + z * (-1.69065929318241 + z * 0.73248077421585));
  const auto high_pass = (1.0 + z * (-2.0 + z)) / (1.0 + z * (-1.99004745483398 + z * 0.99007225036621));
  return std::norm(shelf * high_pass);
}

}  // namespace wavicon
