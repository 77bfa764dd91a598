// SPDX-License-Identifier: MIT
#include "place_by_edges.hpp"

#include <algorithm>
#include <cmath>
#include <memory>
#include <numeric>
#include <span>

#include "envelope.hpp"
#include "samples.hpp"
#include "wavicon/audio/linear_system.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kHalfS = 0.0025;   // of a window around an edge, at least
constexpr double kHalfPeriods = 3;  // of the tone
constexpr double kReachS = 0.08;    // around where the levels over time lie best
constexpr double kJump = 4;         // in power: 6 dB
constexpr std::size_t kLeastEdges = 4;
constexpr double kMostLeft = 0.1;   // of an edge's power
constexpr double kPlainlyMore = 4;  // times what is left, at other delays
constexpr double kNothingLeft = 1e-7;
constexpr double kLagsPerPeriod = 8;
constexpr std::size_t kUnknowns = 4;  // the tone and its slope in time, each in phase and a quarter later

// What an edge looks like in the stimulus, ready to be compared.
class EdgeShape {
 public:
  EdgeShape(Stimulus& stimulus, const LevelEdge& edge, double rate) : edge_(edge) {
    const auto half = std::llround(std::max(kHalfS, kHalfPeriods / edge.hz) * rate);
    first_ = std::llround(edge.frame) - half;
    length_ = static_cast<std::size_t>(2 * half);
    std::vector<double> x(length_ + 2);
    stimulus.render(first_ - 1, 0, x);
    const auto middle = x.begin() + 1 + half;
    const double before = std::inner_product(x.begin() + 1, middle, x.begin() + 1, 0.0),
                 after = std::inner_product(middle, x.end() - 1, middle, 0.0);
    jumps_ = std::max(before, after) > kJump * std::min(before, after);
    for (auto& one : basis_) one.resize(length_);
    for (std::size_t n = 0; n < length_; ++n) {
      const double u = (static_cast<double>(n) - static_cast<double>(half)) / static_cast<double>(half);
      basis_[0][n] = x[n + 1];
      basis_[1][n] = u * x[n + 1];
      basis_[2][n] = x[n + 2] - x[n];
      basis_[3][n] = u * basis_[2][n];
    }
    std::vector<double> matrix(kUnknowns * kUnknowns);
    for (std::size_t i = 0; i < kUnknowns; ++i)
      for (std::size_t j = 0; j <= i; ++j) matrix[i * kUnknowns + j] = sum_of_products(basis_[i], basis_[j]);
    system_ = std::make_unique<SymmetricSystem>(matrix, kUnknowns);
  }

  [[nodiscard]] bool usable() const { return jumps_ && system_->well_posed(); }
  [[nodiscard]] std::int64_t first() const { return first_; }
  [[nodiscard]] std::int64_t length() const { return static_cast<std::int64_t>(length_); }
  [[nodiscard]] double hz() const { return edge_.hz; }

  // Share of y's power that no gain which runs linearly explains; 1 of silence.
  [[nodiscard]] double left(std::span<const double> y) const {
    const double power = energy(y);
    if (!(power > 0)) return 1;
    std::vector<double> sides(kUnknowns);
    for (std::size_t i = 0; i < kUnknowns; ++i) sides[i] = sum_of_products(y, basis_[i]);
    const auto found = system_->solve(sides);
    return std::clamp(1 - std::inner_product(found.begin(), found.end(), sides.begin(), 0.0) / power, 0.0,
                      1.0);
  }

 private:
  LevelEdge edge_;
  std::int64_t first_ = 0;
  std::size_t length_ = 0;
  bool jumps_ = false;
  std::vector<double> basis_[kUnknowns];
  std::unique_ptr<SymmetricSystem> system_;
};

// Amplitudes over time less their mean.
std::vector<double> swings_of(const Envelope& envelope) {
  std::vector<double> swings;
  for (const double power : envelope.powers) swings.push_back(std::sqrt(power));
  const double mean = std::accumulate(swings.begin(), swings.end(), 0.0) /
                      static_cast<double>(std::max<std::size_t>(1, swings.size()));
  for (double& swing : swings) swing -= mean;
  return swings;
}

// Frames by which the levels over time lie best.
std::optional<std::int64_t> rough_delay(Stimulus& stimulus, AudioSource& capture, int channel) {
  const Envelope b = envelope_of(capture, channel);
  Envelope a{.block = b.block, .powers = {}};
  std::vector<double> x(static_cast<std::size_t>(a.block));
  for (std::int64_t at = 0; at + a.block <= stimulus.frames(); at += a.block) {
    stimulus.render(at, 0, x);
    a.powers.push_back(energy(x));
  }
  if (a.powers.empty() || b.powers.empty()) return std::nullopt;
  const auto p = swings_of(a), q = swings_of(b);
  const auto found = correlation_of(p, q);
  const auto top = std::max_element(found.begin(), found.end()) - found.begin();
  return (top - static_cast<std::ptrdiff_t>(p.size() - 1)) * a.block;
}

}  // namespace

std::optional<double> delay_by_edges(Stimulus& stimulus, const std::vector<LevelEdge>& edges,
                                     AudioSource& capture, int channel) {
  const double rate = capture.sample_rate_hz();
  std::vector<EdgeShape> shapes;
  double period = 0;
  for (const LevelEdge& edge : edges) {
    EdgeShape shape(stimulus, edge, rate);
    if (!shape.usable()) continue;
    period = std::max(period, rate / shape.hz());
    shapes.push_back(std::move(shape));
  }
  if (shapes.size() < kLeastEdges) return std::nullopt;
  const auto rough = rough_delay(stimulus, capture, channel);
  if (!rough) return std::nullopt;
  const std::int64_t reach = std::llround(kReachS * rate),
                     step = std::max<std::int64_t>(1, std::llround(period / kLagsPerPeriod));
  std::vector<std::vector<double>> heard;
  for (const EdgeShape& shape : shapes) {
    const std::int64_t first = shape.first() + *rough;
    if (first < 0 || first + shape.length() > capture.frames()) return std::nullopt;
    heard.push_back(read_channel(capture, channel, first - reach, shape.length() + 2 * reach));
  }
  struct Tried {
    std::int64_t lag = 0;
    double sum = 0, worst = 0;
  };
  std::vector<Tried> tries;
  for (std::int64_t lag = -reach; lag <= reach; lag += step) {
    Tried tried{.lag = lag};
    for (std::size_t i = 0; i < shapes.size(); ++i) {
      const double left = shapes[i].left(std::span(heard[i]).subspan(
          static_cast<std::size_t>(reach + lag), static_cast<std::size_t>(shapes[i].length())));
      tried.sum += left;
      tried.worst = std::max(tried.worst, left);
    }
    tries.push_back(tried);
  }
  const auto best = std::min_element(tries.begin(), tries.end(),
                                     [](const Tried& p, const Tried& q) { return p.sum < q.sum; });
  if (best->worst > kMostLeft) return std::nullopt;
  for (const Tried& other : tries)
    if (2 * static_cast<double>(std::abs(other.lag - best->lag)) >= period &&
        other.sum < kPlainlyMore * best->sum + kNothingLeft)
      return std::nullopt;
  return static_cast<double>(*rough + best->lag);
}

}  // namespace wavicon::intake_detail
