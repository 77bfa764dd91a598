// SPDX-License-Identifier: MIT
#include "wavicon/audio/least_squares.hpp"

#include <Eigen/LU>
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

std::optional<std::vector<double>> fit_deviations(const Residuals& residuals, std::size_t count,
                                                  std::span<const double> at, std::span<const double> steps,
                                                  double least) {
  constexpr double kMostAlike = 0.99;
  const auto rows = static_cast<Eigen::Index>(count), columns = static_cast<Eigen::Index>(at.size());
  if (rows <= columns) return std::nullopt;
  Eigen::VectorXd left(rows), above(rows), below(rows);
  residuals(at, {left.data(), count});
  Eigen::MatrixXd slopes(rows, columns);
  std::vector<double> moved(at.begin(), at.end());
  for (std::size_t i = 0; i < at.size(); ++i) {
    moved[i] = at[i] + steps[i];
    residuals(moved, {above.data(), count});
    moved[i] = at[i] - steps[i];
    residuals(moved, {below.data(), count});
    moved[i] = at[i];
    slopes.col(static_cast<Eigen::Index>(i)) = (above - below) / (2 * steps[i]);
  }
  const Eigen::FullPivLU<Eigen::MatrixXd> normal(slopes.transpose() * slopes);
  if (!normal.isInvertible()) return std::nullopt;
  const double squares = left.squaredNorm(),
               alike = squares > 0 ? left.head(rows - 1).dot(left.tail(rows - 1)) / squares : 0,
               r = std::clamp(alike, 0.0, kMostAlike),
               variance =
                   std::max(squares / static_cast<double>(rows - columns) * (1 + r) / (1 - r), least * least);
  const Eigen::MatrixXd inverse = normal.inverse();
  std::vector<double> deviations;
  for (Eigen::Index i = 0; i < columns; ++i)
    deviations.push_back(std::sqrt(std::max(0.0, variance * inverse(i, i))));
  return deviations;
}

}  // namespace wavicon
