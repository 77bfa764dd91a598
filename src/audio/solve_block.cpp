// SPDX-License-Identifier: MIT
// Cholesky's factors of systems that are solved by the hundred. Rows are taken off rows, four at a time: no
// sum runs along a register, so the same bits come of every width.
#include <algorithm>
#include <cmath>

#include "wavicon/audio/linear_system.hpp"
#include "wide.hpp"

namespace wavicon {
namespace {

constexpr std::size_t kLanes = 8;  // rows begin at multiples of it
constexpr std::size_t kPanel = 4;  // columns of factors that are taken off at once

std::size_t rounded_up(std::size_t count) { return (count + kLanes - 1) / kLanes * kLanes; }

// y -= factor · x.
WAVICON_WIDE void take_off(double factor, const double* __restrict x, double* __restrict y,
                           std::size_t count) {
  for (std::size_t i = 0; i < count; ++i) y[i] -= factor * x[i];
}

// y -= f[0] · x₀ + … + f[3] · x₃, rows of x `stride` apart.
WAVICON_WITHIN_WIDE void take_off_four(const double* f, const double* __restrict x, std::size_t stride,
                                       double* __restrict y, std::size_t count) {
  const double f0 = f[0], f1 = f[1], f2 = f[2], f3 = f[3];
  for (std::size_t i = 0; i < count; ++i)
    y[i] -= (f0 * x[i] + f1 * x[stride + i]) + (f2 * x[2 * stride + i] + f3 * x[3 * stride + i]);
}

// What four columns of factors take from rows first … size of the matrix, up to the diagonal; what lies
// beyond it in a row is not read by anyone.
WAVICON_WIDE void take_off_panel(const double* columns, std::size_t stride, std::size_t first,
                                 std::size_t size, double* matrix) {
  const std::size_t from = first / kLanes * kLanes;
  for (std::size_t i = first; i < size; ++i) {
    const double f[kPanel] = {columns[i], columns[stride + i], columns[2 * stride + i],
                              columns[3 * stride + i]};
    take_off_four(f, columns + from, stride, matrix + i * stride + from,
                  (i - from) / kLanes * kLanes + kLanes);
  }
}

// The same from one row.
WAVICON_WIDE void take_off_rows(const double* f, const double* x, std::size_t stride, double* y,
                                std::size_t count) {
  take_off_four(f, x, stride, y, count);
}

WAVICON_WIDE void divide(double* x, double by, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i) x[i] /= by;
}

WAVICON_WIDE void add_squares(const double* __restrict x, double* __restrict sums, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i) sums[i] += x[i] * x[i];
}

// Σ x·y, in lanes of one order.
WAVICON_WIDE void add_products(const double* x, const double* y, std::size_t count, double* lanes) {
  double sums[kLanes] = {};
  std::size_t i = 0;
  for (; i + kLanes <= count; i += kLanes)
    for (std::size_t j = 0; j < kLanes; ++j) sums[j] += x[i + j] * y[i + j];
  for (std::size_t j = 0; i < count; ++i, ++j) sums[j] += x[i] * y[i];
  std::copy(sums, sums + kLanes, lanes);
}

double product_of(const double* x, const double* y, std::size_t count) {
  double lanes[kLanes];
  add_products(x, y, count, lanes);
  return ((lanes[0] + lanes[4]) + (lanes[2] + lanes[6])) + ((lanes[1] + lanes[5]) + (lanes[3] + lanes[7]));
}

// A = L Lᵀ; L's columns one after the other.
class Factors {
 public:
  // @param room  for rows of the matrix, columns of L and rows of an inverse. What an earlier system left above
  //              their diagonals is added up beside theirs, and read by nobody.
  Factors(std::span<const double> matrix, std::size_t size, std::vector<double>& room)
      : size_(size), stride_(rounded_up(size)) {
    const std::size_t rows = (size_ + kPanel) * stride_, columns = rounded_up(size_ + kPanel) * stride_;
    room.resize(2 * rows + columns);
    rows_ = room.data();
    columns_ = rows_ + rows;
    inverse_ = columns_ + columns;
    for (std::size_t i = 0; i < size_; ++i)
      std::copy_n(matrix.data() + i * size_, i + 1, rows_ + i * stride_);
    for (std::size_t k = 0; k < size_ && solved_; k += kPanel) {
      const std::size_t end = std::min(size_, k + kPanel);
      for (std::size_t i = k; i < size_; ++i)
        for (std::size_t c = k; c < std::min(end, i + 1); ++c) column(c)[i] = rows_[i * stride_ + c];
      for (std::size_t c = k; c < end && solved_; ++c) {
        for (std::size_t before = k; before < c; ++before)
          take_off(column(before)[c], column(before) + c, column(c) + c, size_ - c);
        const double pivot = column(c)[c];
        solved_ = pivot > 0 && std::isfinite(pivot);
        if (solved_) divide(column(c) + c, std::sqrt(pivot), size_ - c);
      }
      if (solved_ && end < size_) take_off_panel(column(k), stride_, end, size_, rows_);
    }
  }

  [[nodiscard]] bool solved() const { return solved_; }

  [[nodiscard]] std::vector<double> solve(std::span<const double> right_side) const {
    std::vector<double> x(right_side.begin(), right_side.end());
    for (std::size_t k = 0; k < size_; ++k) {
      x[k] /= column(k)[k];
      take_off(x[k], column(k) + k + 1, x.data() + k + 1, size_ - k - 1);
    }
    for (std::size_t k = size_; k-- > 0;) {
      x[k] -= product_of(column(k) + k + 1, x.data() + k + 1, size_ - k - 1);
      x[k] /= column(k)[k];
    }
    return x;
  }

  // Diagonal of the inverse for the last unknowns: squares of the columns of the inverse of L's last block.
  [[nodiscard]] std::vector<double> last_inverse_diagonal(std::size_t wanted) {
    const std::size_t first = size_ - wanted;
    std::vector<double> sums(stride_, 0.0);
    for (std::size_t k = 0; k < wanted; ++k) {
      double* row = inverse_ + k * stride_;
      std::fill_n(row, stride_, 0.0);
      row[k] = 1;
      const std::size_t whole = k / kPanel * kPanel;
      for (std::size_t j = 0; j < whole; j += kPanel) {
        double f[kPanel];
        for (std::size_t c = 0; c < kPanel; ++c) f[c] = column(first + j + c)[first + k];
        take_off_rows(f, inverse_ + j * stride_, stride_, row, rounded_up(j + kPanel));
      }
      for (std::size_t j = whole; j < k; ++j)
        take_off(column(first + j)[first + k], inverse_ + j * stride_, row, rounded_up(j + 1));
      divide(row, column(first + k)[first + k], rounded_up(k + 1));
      add_squares(row, sums.data(), rounded_up(k + 1));
    }
    sums.resize(wanted);
    return sums;
  }

 private:
  [[nodiscard]] double* column(std::size_t k) { return columns_ + k * stride_; }
  [[nodiscard]] const double* column(std::size_t k) const { return columns_ + k * stride_; }

  std::size_t size_, stride_;
  double *rows_ = nullptr, *columns_ = nullptr, *inverse_ = nullptr;
  bool solved_ = true;
};

}  // namespace

BlockSolution solve_block(std::span<const double> matrix, std::size_t size,
                          std::span<const std::vector<double>> right_sides, std::size_t wanted) {
  std::vector<double> room;
  return solve_block(matrix, size, right_sides, wanted, room);
}

BlockSolution solve_block(std::span<const double> matrix, std::size_t size,
                          std::span<const std::vector<double>> right_sides, std::size_t wanted,
                          std::vector<double>& room) {
  BlockSolution result;
  Factors factors(matrix, size, room);
  result.solved = factors.solved();
  if (!result.solved) return result;
  for (const auto& side : right_sides) result.unknowns.push_back(factors.solve(side));
  result.last_inverse_diagonal = factors.last_inverse_diagonal(wanted);
  return result;
}

}  // namespace wavicon
