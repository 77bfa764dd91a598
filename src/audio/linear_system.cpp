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

}  // namespace wavicon
