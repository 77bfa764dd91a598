// SPDX-License-Identifier: MIT
#include "wavicon/audio/least_squares.hpp"

#include <algorithm>
#include <cmath>
#include <unsupported/Eigen/NonLinearOptimization>
#include <unsupported/Eigen/NumericalDiff>

namespace wavicon {
namespace {

// Steps of the derivatives are relative: no parameter may come near 0.
constexpr double kOffset = 4;
constexpr double kInside = 1e-3;  // of the range: a start on the bound itself could not move

struct Problem {
  using Scalar = double;
  using InputType = Eigen::VectorXd;
  using ValueType = Eigen::VectorXd;
  using JacobianType = Eigen::MatrixXd;
  enum { InputsAtCompileTime = Eigen::Dynamic, ValuesAtCompileTime = Eigen::Dynamic };

  const Residuals& residuals;
  std::span<const FitParameter> parameters;
  std::size_t count;

  [[nodiscard]] int inputs() const { return static_cast<int>(parameters.size()); }
  [[nodiscard]] int values() const { return static_cast<int>(count); }
  [[nodiscard]] std::vector<double> bounded(const Eigen::VectorXd& free) const {
    std::vector<double> p;
    for (std::size_t i = 0; i < parameters.size(); ++i)
      p.push_back(parameters[i].low +
                  (parameters[i].high - parameters[i].low) *
                      (0.5 + 0.5 * std::sin(free[static_cast<Eigen::Index>(i)] - kOffset)));
    return p;
  }
  int operator()(const Eigen::VectorXd& free, Eigen::VectorXd& out) const {
    residuals(bounded(free), {out.data(), count});
    return 0;
  }
};

}  // namespace

LeastSquaresFit fit_least_squares(const Residuals& residuals, std::size_t count,
                                  std::span<const FitParameter> parameters) {
  const Problem problem{residuals, parameters, count};
  Eigen::VectorXd free(static_cast<Eigen::Index>(parameters.size()));
  for (std::size_t i = 0; i < parameters.size(); ++i) {
    const double share = (parameters[i].start - parameters[i].low) / (parameters[i].high - parameters[i].low);
    free[static_cast<Eigen::Index>(i)] = kOffset + std::asin(2 * std::clamp(share, kInside, 1 - kInside) - 1);
  }
  Eigen::NumericalDiff<Problem> differences(problem);
  Eigen::LevenbergMarquardt<Eigen::NumericalDiff<Problem>> solver(differences);
  solver.parameters.xtol = solver.parameters.ftol = 1e-10;
  solver.parameters.maxfev = 400;
  solver.minimize(free);
  Eigen::VectorXd left(static_cast<Eigen::Index>(count));
  problem(free, left);
  return {problem.bounded(free),
          std::sqrt(left.squaredNorm() / static_cast<double>(std::max<std::size_t>(1, count)))};
}

}  // namespace wavicon
