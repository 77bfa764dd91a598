// SPDX-License-Identifier: MIT
#include "stimulus/inverse_transform.hpp"

#include "audio/wide.hpp"
#include "wavicon/audio/elementary.hpp"

namespace wavicon::stimulus_detail {
namespace {

constexpr std::size_t kAtOnce = 2048;  // values whose stages all stay in the nearest cache

// One stage over a stretch: pairs that lie `half` apart.
WAVICON_WIDE void join(double* __restrict real, double* __restrict imaginary,
                       const double* __restrict rotor_real, const double* __restrict rotor_imaginary,
                       std::size_t half) {
  double* __restrict later_real = real + half;
  double* __restrict later_imaginary = imaginary + half;
  for (std::size_t k = 0; k < half; ++k) {
    const double turned_real = rotor_real[k] * later_real[k] - rotor_imaginary[k] * later_imaginary[k];
    const double turned_imaginary = rotor_real[k] * later_imaginary[k] + rotor_imaginary[k] * later_real[k];
    later_real[k] = real[k] - turned_real;
    later_imaginary[k] = imaginary[k] - turned_imaginary;
    real[k] += turned_real;
    imaginary[k] += turned_imaginary;
  }
}

}  // namespace

InverseTransform::InverseTransform(std::size_t length)
    : places_(length), real_(length), imaginary_(length), rotor_real_(length), rotor_imaginary_(length) {
  for (std::size_t i = 1, j = 0; i < length; ++i) {
    std::size_t bit = length >> 1;
    for (; (j & bit) != 0; bit >>= 1) j ^= bit;
    j |= bit;
    places_[i] = j;
  }
  const std::size_t longest = length / 2;
  for (std::size_t k = 0; k < longest; ++k) {
    const auto phase = phase_from_cycles(static_cast<double>(k) / static_cast<double>(length));
    const double along = cosine(phase), across = sine(phase);
    for (std::size_t half = longest; half >= 1 && k % (longest / half) == 0; half /= 2) {
      rotor_real_[half - 1 + k / (longest / half)] = along;
      rotor_imaginary_[half - 1 + k / (longest / half)] = across;
    }
  }
}

// Both halves to their end first: what is joined was just touched.
void InverseTransform::transform(std::size_t first, std::size_t length) {
  const auto stage = [&](std::size_t start, std::size_t half) {
    join(real_.data() + start, imaginary_.data() + start, rotor_real_.data() + half - 1,
         rotor_imaginary_.data() + half - 1, half);
  };
  if (length > kAtOnce) {
    transform(first, length / 2);
    transform(first + length / 2, length / 2);
    stage(first, length / 2);
    return;
  }
  for (std::size_t half = 1; half < length; half *= 2)
    for (std::size_t start = first; start < first + length; start += 2 * half) stage(start, half);
}

}  // namespace wavicon::stimulus_detail
