// SPDX-License-Identifier: MIT
#include "wavicon/audio/linear_system.hpp"

#include <Eigen/Cholesky>

namespace wavicon {

struct SymmetricSystem::Impl {
  Eigen::LDLT<Eigen::MatrixXd> factors;
};

SymmetricSystem::SymmetricSystem(std::span<const double> matrix, std::size_t size)
    : impl_(std::make_unique<Impl>()) {
  using RowMajor = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;
  const auto n = static_cast<Eigen::Index>(size);
  impl_->factors.compute(Eigen::Map<const RowMajor>(matrix.data(), n, n));
}
SymmetricSystem::~SymmetricSystem() = default;
SymmetricSystem::SymmetricSystem(SymmetricSystem&&) noexcept = default;
SymmetricSystem& SymmetricSystem::operator=(SymmetricSystem&&) noexcept = default;

bool SymmetricSystem::well_posed() const noexcept {
  const auto& pivots = impl_->factors.vectorD();
  return impl_->factors.info() == Eigen::Success && pivots.minCoeff() > 1e-12 * pivots.maxCoeff();
}

std::vector<double> SymmetricSystem::solve(std::span<const double> right_side) const {
  const Eigen::Map<const Eigen::VectorXd> b(right_side.data(), static_cast<Eigen::Index>(right_side.size()));
  const Eigen::VectorXd x = impl_->factors.solve(b);
  return {x.data(), x.data() + x.size()};
}

BlockSolution solve_block(std::span<const double> matrix, std::size_t size,
                          std::span<const std::vector<double>> right_sides, std::size_t wanted) {
  const auto n = static_cast<Eigen::Index>(size), last = static_cast<Eigen::Index>(wanted);
  // The lower triangle, row after row, is the upper one column after column.
  const Eigen::LLT<Eigen::MatrixXd, Eigen::Upper> factors(
      Eigen::Map<const Eigen::MatrixXd>(matrix.data(), n, n));
  BlockSolution result;
  result.solved = factors.info() == Eigen::Success;
  if (!result.solved) return result;
  for (const auto& side : right_sides) {
    const Eigen::VectorXd x = factors.solve(Eigen::Map<const Eigen::VectorXd>(side.data(), n));
    result.unknowns.emplace_back(x.data(), x.data() + n);
  }
  // The last block of the inverse is the inverse of the last block of the factors.
  Eigen::MatrixXd inverse = Eigen::MatrixXd::Identity(last, last);
  const Eigen::MatrixXd corner = factors.matrixLLT().bottomRightCorner(last, last);
  corner.triangularView<Eigen::Upper>().solveInPlace(inverse);
  for (Eigen::Index i = 0; i < last; ++i)
    result.last_inverse_diagonal.push_back(inverse.row(i).squaredNorm());
  return result;
}

}  // namespace wavicon
