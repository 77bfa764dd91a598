// SPDX-License-Identifier: MIT
#include "measure/response/features.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <vector>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/least_squares.hpp"
#include "wavicon/audio/linear_system.hpp"

namespace wavicon {
namespace measure_detail {
namespace {

constexpr double kDeepDb = 10;      // under the band from which a slope is looked for
constexpr double kStraightDb = 25;  // under it a cut falls straight
constexpr double kDeepestDb = 85;
constexpr double kDbPerPole = 6.0206;     // and octave
constexpr double kOrderTolerance = 0.25;  // of an order: filters have whole ones
constexpr double kCutDb = 24;             // of a fall that is a cut in any case
constexpr double kAtRestDb = 0.8;         // and octave
constexpr double kLittleDb = 12;          // fallen: a shelf that is near its rest looks like this
constexpr double kOfSteepest = 0.3, kMostlyOfSteepest = 0.6;
constexpr double kAsHighAs = 2;  // times its uncertainty under the highest place: as high as it
constexpr double kLeastBellDb = 0.3;
constexpr double kLevelEndsDb = 1;
constexpr double kPlateauShare = 0.12;  // of the places at an end: what lies flat there
constexpr double kLeastShelfDb = 0.5;
constexpr double kShelfFitDb = 0.15;

constexpr double kCrossDb = 20;  // under both bands: a crossover lies higher

struct FeatureCrest {
  double hz = 0, db = 0;
};

// By a parabola through three places, or, where noise makes more of them as high, through all of these.
FeatureCrest feature_crest(std::span<const ResponsePoint> points, std::size_t top, int sign) {
  const double highest = sign * db_of(points[top]), near = kAsHighAs * points[top].uncertainty_db;
  std::size_t first = top - 1, last = top + 1;
  while (first > 0 && sign * db_of(points[first - 1]) > highest - near) --first;
  while (last + 1 < points.size() && sign * db_of(points[last + 1]) > highest - near) ++last;
  // About the middle of its own, so that odd and even powers part.
  const double middle = 0.5 * static_cast<double>(first + last);
  double count = 0, x2 = 0, x4 = 0, y = 0, xy = 0, x2y = 0;
  for (std::size_t i = first; i <= last; ++i) {
    const double x = static_cast<double>(i) - middle, v = db_of(points[i]);
    ++count;
    x2 += x * x;
    x4 += x * x * x * x;
    y += v;
    xy += x * v;
    x2y += x * x * v;
  }
  const double bend = (count * x2y - x2 * y) / (count * x4 - x2 * x2), tilt = xy / x2,
               level = (y - bend * x2) / count;
  const double shift = sign * bend < 0 ? std::clamp(-tilt / (2 * bend), -0.5 * count, 0.5 * count) : 0;
  const double hz_at_middle =
      points[first].hz * std::exp2((middle - static_cast<double>(first)) / kPerOctave);
  return {hz_at_middle * std::exp2(shift / kPerOctave), level + tilt * shift + bend * shift * shift};
}

std::optional<ResponseBell> bell_within(std::span<const ResponsePoint> inside) {
  if (inside.size() < 8) return std::nullopt;
  const double left = db_of(inside.front()), right = db_of(inside.back());
  // Ends at different levels: a shelf or a cut, not a bell over something level.
  if (std::abs(left - right) > kLevelEndsDb) return std::nullopt;
  const double around = 0.5 * (left + right);
  std::size_t top = 0;
  for (std::size_t i = 0; i < inside.size(); ++i)
    if (std::abs(db_of(inside[i]) - around) > std::abs(db_of(inside[top]) - around)) top = i;
  const double gain = db_of(inside[top]) - around;
  if (std::abs(gain) < kLeastBellDb || top == 0 || top + 1 == inside.size()) return std::nullopt;
  const auto flank = [&](std::ptrdiff_t way) -> std::optional<double> {
    for (auto i = static_cast<std::ptrdiff_t>(top);
         i + way >= 0 && i + way < static_cast<std::ptrdiff_t>(inside.size()); i += way) {
      const ResponsePoint &in = inside[static_cast<std::size_t>(i)],
                          &out = inside[static_cast<std::size_t>(i + way)];
      const double a = (db_of(in) - around) / gain, b = (db_of(out) - around) / gain;
      if (b > 0.5) continue;
      return in.hz * std::pow(out.hz / in.hz, (a - 0.5) / std::max(1e-12, a - b));
    }
    return std::nullopt;
  };
  const auto low = flank(-1), high = flank(1);
  if (!low || !high) return std::nullopt;
  const FeatureCrest crest = feature_crest(inside, top, gain > 0 ? 1 : -1);
  return ResponseBell{crest.hz, crest.db - around, crest.hz / (*high - *low), around};
}

// Where the curve has fallen to a level for good, coming from outside.
struct Passing {
  double hz = 0;
  std::ptrdiff_t out = 0;  // the first place beyond
};

std::optional<Passing> passing(std::span<const ResponsePoint> points, double level, int way) {
  const auto count = static_cast<std::ptrdiff_t>(points.size());
  std::ptrdiff_t at = way < 0 ? 0 : count - 1;
  while (at >= 0 && at < count && db_of(points[static_cast<std::size_t>(at)]) < level) at -= way;
  const std::ptrdiff_t out = at + way;
  if (at < 0 || at >= count || out < 0 || out >= count) return std::nullopt;
  const ResponsePoint &in = points[static_cast<std::size_t>(at)],
                      &beyond = points[static_cast<std::size_t>(out)];
  const double t = (db_of(in) - level) / std::max(1e-12, db_of(in) - db_of(beyond));
  return Passing{in.hz * std::pow(beyond.hz / in.hz, t), out};
}

// Poles that the fall beyond an edge suggests, from half octaves; 0 when too little of it is seen. A bilinear
// transform bends the frequency axis towards half the rate: of the straight and the bent axis the one is
// taken on which the fall is steadier.
double find_order(std::span<const ResponsePoint> points, double level, int way, std::ptrdiff_t first,
                  double rate) {
  const auto count = static_cast<std::ptrdiff_t>(points.size()),
             span = static_cast<std::ptrdiff_t>(kPerOctave / 2);
  std::vector<double> straight, bent;
  for (const double shallowest : {kStraightDb, kDeepDb}) {
    if (!straight.empty()) break;
    for (std::ptrdiff_t i = first; i >= 0 && i < count && i + way * span >= 0 && i + way * span < count;
         i += way) {
      const ResponsePoint &near = points[static_cast<std::size_t>(i)],
                          &far = points[static_cast<std::size_t>(i + way * span)];
      const double from = level - db_of(near), to = level - db_of(far);
      if (from < shallowest || to > kDeepestDb) continue;
      const double ratio =
          std::tan(std::numbers::pi * far.hz / rate) / std::tan(std::numbers::pi * near.hz / rate);
      straight.push_back((to - from) / (kDbPerPole / 2));
      bent.push_back((to - from) / std::abs(db_from_ratio(ratio)));
    }
  }
  if (straight.empty()) return 0;
  const auto spread = [](const std::vector<double>& v) {
    return *std::max_element(v.begin(), v.end()) - *std::min_element(v.begin(), v.end());
  };
  const std::vector<double>& axis = spread(straight) <= spread(bent) ? straight : bent;
  return *std::max_element(axis.begin(), axis.end());
}

// @param over  frequency over that of the corner.
double shelf_db(double over, double gain_db, int order) {
  const double v = ratio_from_db(gain_db), x = std::pow(over, 2 * order) / v;
  return db_from_power_ratio((1 + v * v * x) / (1 + x));
}

}  // namespace

double db_of(const ResponsePoint& p) { return db_from_ratio(std::max(1e-12, std::abs(p.ratio))); }

double plateau_db(std::span<const ResponsePoint> points) {
  std::vector<double> levels;
  for (const ResponsePoint& p : points) levels.push_back(db_of(p));
  if (levels.empty()) return 0;
  std::sort(levels.begin(), levels.end());
  const std::size_t count =
      std::max<std::size_t>(1, static_cast<std::size_t>(kPlateauShare * static_cast<double>(levels.size())));
  std::size_t best = 0;
  for (std::size_t i = 0; i + count <= levels.size(); ++i)
    if (levels[i + count - 1] - levels[i] < levels[best + count - 1] - levels[best]) best = i;
  double sum = 0;
  for (std::size_t i = best; i < best + count; ++i) sum += levels[i];
  return sum / static_cast<double>(count);
}

std::optional<ResponseBell> find_bell(std::span<const ResponsePoint> points, double from_hz, double to_hz) {
  if (auto found = bell_within(points)) return found;
  std::vector<ResponsePoint> inside;
  for (const ResponsePoint& p : points)
    if (p.hz >= from_hz && p.hz <= to_hz) inside.push_back(p);
  return bell_within(inside);
}

namespace {

// Whether the curve has come to rest again where it ends: the fall is a shelf's, or a dip's, and no edge.
bool levels_off(std::span<const ResponsePoint> points, double level, int way) {
  const auto count = static_cast<std::ptrdiff_t>(points.size()),
             third = static_cast<std::ptrdiff_t>(kPerOctave / 3), end = way < 0 ? 0 : count - 1;
  if (count <= 2 * third) return false;
  const auto db_at = [&](std::ptrdiff_t i) { return db_of(points[static_cast<std::size_t>(i)]); };
  if (level - db_at(end) > kCutDb) return false;
  double steepest = 0;
  for (std::ptrdiff_t i = end; i - way * third >= 0 && i - way * third < count; i -= way)
    steepest = std::max(steepest, 3 * (db_at(i - way * third) - db_at(i)));
  const double at_end = 3 * (db_at(end - way * third) - db_at(end));
  const double fallen = level - db_at(end);
  return at_end < std::max(kAtRestDb, (fallen < kLittleDb ? kMostlyOfSteepest : kOfSteepest) * steepest);
}

}  // namespace

std::optional<ResponseEdge> find_edge(std::span<const ResponsePoint> points, double level, int way,
                                      double rate) {
  const auto at = passing(points, level - 3, way);
  if (!at || levels_off(points, level, way)) return std::nullopt;
  ResponseEdge edge{at->hz};
  if (const auto one = passing(points, level - 1, way)) edge.hz_at_1_db = one->hz;
  if (const auto six = passing(points, level - 6, way)) edge.hz_at_6_db = six->hz;
  const double order = find_order(points, level, way, at->out, rate);
  edge.slope_db_per_octave = kDbPerPole * order;
  if (order > 0.6 && std::abs(order - std::round(order)) < kOrderTolerance)
    edge.order = static_cast<int>(std::lround(order));
  return edge;
}

std::optional<ResponseShelf> find_shelf(std::span<const ResponsePoint> all, double reference_hz,
                                        double rate) {
  const std::span<const ResponsePoint> points = all;
  if (points.size() < 24 || std::abs(db_of(points.front()) - db_of(points.back())) < kLeastShelfDb)
    return std::nullopt;
  const double first = std::log(points.front().hz), last = std::log(points.back().hz),
               low = db_of(points.front()), rise = db_of(points.back()) - low;
  std::optional<ResponseShelf> best;
  double least = kShelfFitDb;
  const auto bent = [&](double hz) { return std::tan(std::numbers::pi * std::min(hz / rate, 0.499)); };
  for (const int variant : {1, 2, -1, -2})  // the order, below 0 on the bent axis
    for (const double place : {0.3, 0.6, 0.9}) {
      const int order = std::abs(variant);
      const FitParameter parameters[] = {
          {low, low - 6, low + 6}, {1.1 * rise, -40, 40}, {first + place * (last - first), first, last}};
      const auto fit = fit_least_squares(
          [&](std::span<const double> p, std::span<double> left) {
            for (std::size_t i = 0; i < points.size(); ++i) {
              const double corner = std::exp(p[2]),
                           over = variant > 0 ? points[i].hz / corner : bent(points[i].hz) / bent(corner);
              left[i] = p[0] + shelf_db(over, p[1], order) - db_of(points[i]);
            }
          },
          points.size(), parameters);
      if (fit.rms >= least) continue;
      least = fit.rms;
      const double corner = std::exp(fit.parameters[2]);
      const bool high = corner > reference_hz;
      best = ResponseShelf{corner, (high ? 1 : -1) * fit.parameters[1], high, order};
    }
  return best;
}

ResponseShelf shelf_uncertainty(std::span<const ResponsePoint> points, const ResponseShelf& shelf) {
  // Slopes of level, gain and corner (as a logarithm), of the shelf as it lies on the axis.
  constexpr double kStep = 1e-4;
  const double gain = shelf.high ? shelf.gain_db : -shelf.gain_db;
  std::vector<std::array<double, 3>> slopes;
  std::vector<double> normal(9, 0.0);
  for (const ResponsePoint& p : points) {
    const double over = p.hz / shelf.hz, here = shelf_db(over, gain, shelf.order);
    slopes.push_back({1, (shelf_db(over, gain + kStep, shelf.order) - here) / kStep,
                      (shelf_db(over * std::exp(-kStep), gain, shelf.order) - here) / kStep});
    for (std::size_t i = 0; i < 3; ++i)
      for (std::size_t k = 0; k < 3; ++k) normal[3 * i + k] += slopes.back()[i] * slopes.back()[k];
  }
  const SymmetricSystem system(normal, 3);
  if (!system.well_posed()) return {0, std::abs(shelf.gain_db), shelf.high, shelf.order};
  double gain_square = 0, corner_square = 0;
  for (std::size_t i = 0; i < points.size(); ++i) {
    const auto moved = system.solve(slopes[i]);
    gain_square += std::pow(moved[1] * points[i].uncertainty_db, 2);
    corner_square += std::pow(moved[2] * points[i].uncertainty_db, 2);
  }
  return {shelf.hz * std::sqrt(corner_square), std::sqrt(gain_square), shelf.high, shelf.order};
}

}  // namespace measure_detail

using namespace measure_detail;

namespace {

// Both ways added at one place, upright and with the second inverted: level and what is uncertain of it.
struct Sums {
  double hz = 0, upright = 0, inverted = 0, error = 0;  // amplitudes
};

double error_db(double amplitude, double error) {
  return amplitude > 0 ? db_from_ratio(1 + error / amplitude) : 0;
}

// Calls look(p, q) with the places that both have, rising.
template <typename Look>
void for_each_shared(const ChannelResponse& first, const ChannelResponse& second, Look&& look) {
  constexpr double kSamePlace = 1.001;
  std::size_t j = 0;
  for (const ResponsePoint& p : first.points) {
    while (j < second.points.size() && second.points[j].hz * kSamePlace < p.hz) ++j;
    if (j == second.points.size()) return;
    if (second.points[j].hz < kSamePlace * p.hz) look(p, second.points[j]);
  }
}

std::vector<Sums> sums_of(const ChannelResponse& first, const ChannelResponse& second,
                          double sample_rate_hz) {
  std::vector<Sums> sums;
  for_each_shared(first, second, [&](const ResponsePoint& p, const ResponsePoint& q) {
    const double turn =
        2 * std::numbers::pi * p.hz / sample_rate_hz * (second.delay_samples - first.delay_samples);
    const auto other = q.ratio * std::polar(1.0, -turn);
    const auto sure = [](const ResponsePoint& point) {
      return std::abs(point.ratio) * (ratio_from_db(point.uncertainty_db) - 1);
    };
    sums.push_back(
        {p.hz, std::abs(p.ratio + other), std::abs(p.ratio - other), std::hypot(sure(p), sure(q))});
  });
  return sums;
}

void add_sums(const ChannelResponse& first, const ChannelResponse& second, double sample_rate_hz,
              double band_db, ResponseCrossover& found) {
  constexpr double kOctave = 2;
  const std::vector<Sums> sums = sums_of(first, second, sample_rate_hz);
  const auto level = [&](double amplitude) { return db_from_ratio(std::max(1e-12, amplitude)) - band_db; };
  const Sums *at = nullptr, *notch = nullptr;
  const auto lower = [](const Sums& s) { return std::min(s.upright, s.inverted); };
  for (const Sums& s : sums) {
    found.hz_axis.push_back(s.hz);
    found.as_they_are_db.push_back(level(s.upright));
    found.one_inverted_db.push_back(level(s.inverted));
    if (at == nullptr || std::abs(std::log(s.hz / found.hz)) < std::abs(std::log(at->hz / found.hz))) at = &s;
    if (s.hz > kOctave * found.hz || kOctave * s.hz < found.hz) continue;
    if (notch == nullptr || lower(s) < lower(*notch)) notch = &s;
  }
  if (at == nullptr || notch == nullptr) return;
  found.sum_db = level(at->upright);
  found.sum_uncertainty_db = error_db(at->upright, at->error);
  found.inverted_db = level(at->inverted);
  found.inverted_uncertainty_db = error_db(at->inverted, at->error);
  found.notch_hz = notch->hz;
  found.notch_inverted = notch->inverted < notch->upright;
  found.notch_bound = notch->error > lower(*notch);
  found.notch_db = level(lower(*notch) + (found.notch_bound ? notch->error : 0));
  if (!found.notch_bound) found.notch_uncertainty_db = error_db(lower(*notch), notch->error);
}

}  // namespace

std::optional<ResponseCrossover> find_crossover(const ChannelResponse& first, const ChannelResponse& second,
                                                double sample_rate_hz) {
  const auto top = [](const ChannelResponse& c) {
    double most = -1e300;
    for (const ResponsePoint& p : c.points) most = std::max(most, db_of(p));
    return most;
  };
  const double first_db = top(first), second_db = top(second);
  std::optional<ResponseCrossover> best;
  const ResponsePoint *last_p = nullptr, *last_q = nullptr;
  for_each_shared(first, second, [&](const ResponsePoint& p, const ResponsePoint& q) {
    if (last_p != nullptr) {
      const double before = db_of(*last_p) - db_of(*last_q), here = db_of(p) - db_of(q);
      if ((before > 0) != (here > 0)) {
        const double t = before / (before - here), hz = last_p->hz * std::pow(p.hz / last_p->hz, t);
        const double level = db_of(*last_p) + t * (db_of(p) - db_of(*last_p));
        if (level > first_db - kCrossDb && level > second_db - kCrossDb &&
            (!best || level - first_db > -best->below_db)) {
          best = ResponseCrossover{.hz = hz, .below_db = first_db - level};
          best->uncertainty_db = std::hypot(p.uncertainty_db, q.uncertainty_db);
          best->uncertainty_hz =
              best->uncertainty_db / std::max(1e-12, std::abs(here - before)) * (p.hz - last_p->hz);
        }
      }
    }
    last_p = &p;
    last_q = &q;
  });
  if (best) add_sums(first, second, sample_rate_hz, first_db, *best);
  return best;
}

}  // namespace wavicon
