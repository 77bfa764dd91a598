// SPDX-License-Identifier: MIT
#pragma once
// Σ x[k]·e^{+2πi·k·n/N} with one order of additions. Our own because a library's depends on the processor,
// and a recipe gives the same bytes on all of them. Internal to `stimulus`.

#include <cstddef>
#include <span>
#include <vector>

namespace wavicon::stimulus_detail {

/// For one length, a power of two; radix 2, real and imaginary parts apart.
class InverseTransform {
 public:
  explicit InverseTransform(std::size_t length);
  /// Where bin k is to be written: in place, without a pass that only moves.
  [[nodiscard]] std::size_t place_of(std::size_t k) const { return places_[k]; }
  /// Which bin belongs to each place: the same exchange, the other way round.
  [[nodiscard]] std::span<const std::size_t> bins() const { return places_; }
  [[nodiscard]] std::span<double> real() { return real_; }
  [[nodiscard]] std::span<double> imaginary() { return imaginary_; }
  /// From bins at their places to samples in order.
  void execute() { transform(0, real_.size()); }

 private:
  void transform(std::size_t first, std::size_t length);

  std::vector<std::size_t> places_;
  std::vector<double> real_, imaginary_;
  // Of the stage that joins halves of h: e^{+πi·k/h} for k < h, from h - 1 on.
  std::vector<double> rotor_real_, rotor_imaginary_;
};

}  // namespace wavicon::stimulus_detail
