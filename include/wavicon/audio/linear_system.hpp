#pragma once
// The symmetric linear systems of least-squares fits.

#include <cstddef>
#include <memory>
#include <span>
#include <vector>

namespace wavicon {

/// A symmetric positive definite matrix, factored once for any number of right-hand sides (Cholesky, LDLᵀ).
class SymmetricSystem {
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

}  // namespace wavicon
