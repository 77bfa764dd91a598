// SPDX-License-Identifier: MIT
#include "stimulus/inverse_transform.hpp"

#include "audio/wide.hpp"
#include "wavicon/audio/elementary.hpp"

namespace wavicon::stimulus_detail {
namespace {

constexpr std::size_t kAtOnce = 2048;  // values whose stages all stay in the nearest cache

// Pairs that lie `half` apart. Always the same operations in the same order, however many are side by side.
inline __attribute__((always_inline)) void join_pairs(double* __restrict real, double* __restrict imaginary,
                                                      const double* __restrict rotor_real,
                                                      const double* __restrict rotor_imaginary,
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

// One stage over a stretch.
WAVICON_WIDE void join(double* real, double* imaginary, const double* rotor_real,
                       const double* rotor_imaginary, std::size_t half) {
  join_pairs(real, imaginary, rotor_real, rotor_imaginary, half);
}

template <std::size_t kHalf>
inline __attribute__((always_inline)) void join_short(double* real, double* imaginary,
                                                      const double* rotor_real, const double* rotor_imaginary,
                                                      std::size_t length) {
  for (std::size_t start = 0; start < length; start += 2 * kHalf)
    join_pairs(real + start, imaginary + start, rotor_real + kHalf - 1, rotor_imaginary + kHalf - 1, kHalf);
}

// The first stages of a stretch in one call: in each there are many short runs.
WAVICON_WIDE void join_all_short(double* real, double* imaginary, const double* rotor_real,
                                 const double* rotor_imaginary, std::size_t length) {
  join_short<1>(real, imaginary, rotor_real, rotor_imaginary, length);
  join_short<2>(real, imaginary, rotor_real, rotor_imaginary, length);
  join_short<4>(real, imaginary, rotor_real, rotor_imaginary, length);
  join_short<8>(real, imaginary, rotor_real, rotor_imaginary, length);
}
constexpr std::size_t kShort = 16;  // the first stage that is not one of these

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
  std::size_t half = 1;
  if (length >= kShort) {
    join_all_short(real_.data() + first, imaginary_.data() + first, rotor_real_.data(),
                   rotor_imaginary_.data(), length);
    half = kShort;
  }
  for (; half < length; half *= 2)
    for (std::size_t start = first; start < first + length; start += 2 * half) stage(start, half);
}

}  // namespace wavicon::stimulus_detail
