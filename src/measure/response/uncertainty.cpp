// SPDX-License-Identifier: MIT
#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <vector>

#include "measure/response/features.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/audio/student.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr int kDraws = 32;
constexpr double kMostDraws = 0.75;  // of them: in so many a feature is seen that is there
constexpr double kOfManyPlaces = 2;  // uncertainties: the highest of hundreds of places is so high by chance
constexpr std::uint64_t kSeed = 17;
// Drawn curves hold the noise twice: where it is not small against the way from place to place, their crests
// go through more places.
constexpr double kOfCrest = 0.2;
constexpr double kCrestDb = 0.002;  // of a parabola through three places

std::optional<double> level_at(const ChannelResponse& channel, double hz) {
  for (std::size_t i = 1; i < channel.points.size(); ++i) {
    const ResponsePoint &p = channel.points[i - 1], &q = channel.points[i];
    if (p.hz > hz || q.hz < hz) continue;
    const double t = std::log(hz / p.hz) / std::log(q.hz / p.hz);
    return db_of(p) + t * (db_of(q) - db_of(p));
  }
  return std::nullopt;
}

// Of a normal distribution (Box and Muller 1958, to verify).
double normal(std::uint64_t stream, std::uint64_t at) {
  const double u = 1 - random_uniform(kSeed, 2 * stream, at), v = random_uniform(kSeed, 2 * stream + 1, at);
  return std::sqrt(-2 * std::log(u)) * std::cos(2 * std::numbers::pi * v);
}

// What one figure was in each draw that had it.
class Drawn {
 public:
  void add(double value) {
    sum_ += value;
    squares_ += value * value;
    ++count_;
  }
  [[nodiscard]] bool is_usual() const { return count_ >= kMostDraws * kDraws; }
  [[nodiscard]] double uncertainty() const {
    if (count_ < 2) return 0;
    const double mean = sum_ / count_;
    return student_k2(static_cast<std::size_t>(count_ - 1)) *
           std::sqrt(std::max(0.0, squares_ / count_ - mean * mean) * count_ / (count_ - 1));
  }

 private:
  double sum_ = 0, squares_ = 0;
  int count_ = 0;
};

struct DrawnEdge {
  Drawn hz, hz_at_1_db, hz_at_6_db, slope;
  void add(const std::optional<ResponseEdge>& edge) {
    if (!edge) return;
    hz.add(edge->hz);
    if (edge->hz_at_1_db) hz_at_1_db.add(*edge->hz_at_1_db);
    if (edge->hz_at_6_db) hz_at_6_db.add(*edge->hz_at_6_db);
    slope.add(edge->slope_db_per_octave);
  }
  void write(std::optional<ResponseEdge>& found, ResponseEdge& uncertainty) const {
    if (!hz.is_usual()) found.reset();
    uncertainty.hz = hz.uncertainty();
    uncertainty.hz_at_1_db = hz_at_1_db.uncertainty();
    uncertainty.hz_at_6_db = hz_at_6_db.uncertainty();
    uncertainty.slope_db_per_octave = slope.uncertainty();
    if (!found || uncertainty.slope_db_per_octave < found->slope_db_per_octave) return;
    found->slope_db_per_octave = 0;
    found->order = 0;
  }
};

// Places that lie closer than can be told apart are off together.
void draw_anew(ChannelResponse& channel, int draw, double resolution_hz) {
  for (std::size_t i = 0; i < channel.points.size(); ++i) {
    ResponsePoint& p = channel.points[i];
    const double apart_hz = p.hz * (std::exp2(1 / kPerOctave) - 1);
    const double off = apart_hz >= resolution_hz ? normal(static_cast<std::uint64_t>(2 * draw), i)
                                                 : normal(static_cast<std::uint64_t>(2 * draw + 1),
                                                          static_cast<std::uint64_t>(p.hz / resolution_hz));
    p.ratio *= ratio_from_db(0.5 * p.uncertainty_db * off);
  }
}

}  // namespace

void describe(ChannelResponse& channel, const ResponseOptions& options, double rate, bool with_shelf) {
  std::vector<double> within;
  for (const ResponsePoint& p : channel.points)
    if (p.hz >= options.band_from_hz && p.hz <= options.band_to_hz) within.push_back(db_of(p));
  channel.gain_db = level_at(channel, options.reference_hz)
                        .value_or(within.empty() ? db_of(channel.points.front()) : within[within.size() / 2]);
  if (within.empty()) return;
  channel.ripple_db =
      *std::max_element(within.begin(), within.end()) - *std::min_element(within.begin(), within.end());
  const double level = plateau_db(channel.points);
  channel.band_db = level;
  channel.bell = find_bell(channel.points, options.band_from_hz, options.band_to_hz);
  channel.lower = find_edge(channel.points, level, -1, rate);
  channel.upper = find_edge(channel.points, level, 1, rate);
  // Where the capture ends in the middle of the sweep, a fall that shows no slope of its own may be a dip's.
  if (channel.cut_hz) {
    auto& open = options.sweep_from_hz <= options.sweep_to_hz ? channel.upper : channel.lower;
    if (open && open->order == 0) open.reset();
  }
  // A cut with a slope of its own is no shelf.
  const bool cut = (channel.lower && channel.lower->order > 0) || (channel.upper && channel.upper->order > 0);
  if (with_shelf && !channel.bell && !cut)
    channel.shelf = find_shelf(channel.points, options.reference_hz, rate);
}

void add_uncertainties(ChannelResponse& channel, const ResponseOptions& options, double rate,
                       double resolution_hz) {
  Drawn ripple, bell_hz, bell_db, bell_q;
  DrawnEdge lower, upper;
  for (int draw = 0; draw < kDraws; ++draw) {
    ChannelResponse drawn;
    drawn.points = channel.points;
    drawn.cut_hz = channel.cut_hz;
    draw_anew(drawn, draw, resolution_hz);
    describe(drawn, options, rate, false);
    ripple.add(drawn.ripple_db);
    lower.add(drawn.lower);
    upper.add(drawn.upper);
    if (!drawn.bell) continue;
    bell_hz.add(drawn.bell->hz);
    bell_db.add(drawn.bell->gain_db);
    bell_q.add(drawn.bell->q);
  }
  ResponseUncertainty& all = channel.uncertainty;
  const auto nearest = std::min_element(
      channel.points.begin(), channel.points.end(), [&](const ResponsePoint& p, const ResponsePoint& q) {
        return std::abs(p.hz - options.reference_hz) < std::abs(q.hz - options.reference_hz);
      });
  all.gain_db = nearest->uncertainty_db;
  all.ripple_db = ripple.uncertainty();
  lower.write(channel.lower, all.lower);
  upper.write(channel.upper, all.upper);
  const double by_draws = bell_hz.uncertainty(),
               apart_hz = channel.bell ? channel.bell->hz * (std::exp2(1 / kPerOctave) - 1) : 1;
  all.bell = {by_draws * (1 + kOfCrest * std::min(1.0, 4 * by_draws / apart_hz)),
              std::hypot(bell_db.uncertainty(), kCrestDb), bell_q.uncertainty(), 0};
  if (channel.bell &&
      (!bell_hz.is_usual() || std::abs(channel.bell->gain_db) < kOfManyPlaces * all.bell.gain_db))
    channel.bell.reset();
  if (!channel.shelf) return;
  all.shelf = shelf_uncertainty(channel.points, *channel.shelf);
  if (std::abs(channel.shelf->gain_db) < all.shelf.gain_db) channel.shelf.reset();
}

}  // namespace wavicon::measure_detail
