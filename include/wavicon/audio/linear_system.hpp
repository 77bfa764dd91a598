// SPDX-License-Identifier: MIT
#pragma once
// The symmetric linear systems of least-squares fits.

#include <cstddef>
#include <memory>
#include <span>
#include <vector>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// A symmetric positive definite matrix, factored once for any number of right-hand sides (Cholesky, LDLᵀ).
class WAVICON_EXPORT SymmetricSystem {
 public:
  /// @param matrix  size × size, row after row; only the lower triangle is read.
  SymmetricSystem(std::span<const double> matrix, std::size_t size);
  ~SymmetricSystem();
  SymmetricSystem(SymmetricSystem&&) noexcept;
  SymmetricSystem& operator=(SymmetricSystem&&) noexcept;

  /// Whether the unknowns can be told apart: smallest pivot over largest is above 1e-12.
  [[nodiscard]] bool well_posed() const noexcept;
  /// @param right_side  size values. @return the unknowns.
  [[nodiscard]] std::vector<double> solve(std::span<const double> right_side) const;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

/// What solve_block() finds.
struct BlockSolution {
  bool solved = false;
  std::vector<std::vector<double>> unknowns;  ///< for each right-hand side
  std::vector<double> last_inverse_diagonal;  ///< of the inverse matrix, for the last `wanted` unknowns
};

/// Solves a symmetric positive definite system (Cholesky) for several right-hand sides, with the diagonal of
/// the inverse for the last unknowns: their variance for noise of variance 1.
///
/// @param matrix  size × size, row after row; only the lower triangle is read.
[[nodiscard]] WAVICON_EXPORT BlockSolution solve_block(std::span<const double> matrix, std::size_t size,
                                                       std::span<const std::vector<double>> right_sides,
                                                       std::size_t wanted);
/// The same. @param room  what is worked in, kept for the next one of hundreds.
[[nodiscard]] WAVICON_EXPORT BlockSolution solve_block(std::span<const double> matrix, std::size_t size,
                                                       std::span<const std::vector<double>> right_sides,
                                                       std::size_t wanted, std::vector<double>& room);

}  // namespace wavicon
