// SPDX-License-Identifier: MIT
#include "sweep_course.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <complex>
#include <numbers>
#include <numeric>
#include <vector>

#include "samples.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"
#include "wavicon/audio/linear_system.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/window.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kLookS = 0.04;      // of a short spectrum
constexpr double kLowestHz = 300;    // below, a block holds too few periods to tell a phase
constexpr double kMostOffLog = 0.1;  // of a frequency: the middle of what a line leaves of the rough course
constexpr double kMostOffLinear = 0.01;  // of the rate
constexpr double kFaster = 8;            // times, for sweeps that stay below
constexpr double kPhaseS = 0.01;         // of a stretch whose phase is read
constexpr std::size_t kPhases = 600;     // at most
constexpr int kSteps = 20;               // it stands still after about eight
constexpr int kStandsBy = 8;             // what is still far off by then is none
constexpr double kHopeless = 1;          // radians RMS
constexpr double kMostSpread = 0.02;     // radians RMS beside the course: more is no sweep
constexpr double kEdge = 0.01;           // of the sweep left out at both ends, where it may be faded

// Cycles since the start and their changes with the three unknowns, for either law.
struct Course {
  bool log = true;
  double from_hz = 0;
  double rate = 0;    // log: octaves in units of e per second; linear: Hz per second
  double cycles = 0;  // at the start

  [[nodiscard]] double at(double t) const {
    return cycles + (log ? from_hz * std::expm1(rate * t) / rate : from_hz * t + 0.5 * rate * t * t);
  }
  [[nodiscard]] double hz(double t) const { return log ? from_hz * std::exp(rate * t) : from_hz + rate * t; }
  [[nodiscard]] std::array<double, 3> slopes(double t) const {
    if (!log) return {1, t, 0.5 * t * t};
    const double e = std::exp(rate * t);
    return {1, (e - 1) / rate, from_hz * (t * e * rate - (e - 1)) / (rate * rate)};
  }
};

// Frequency over time from the highest bin of short spectra.
std::vector<std::pair<double, double>> rough_course(std::span<const double> x, double rate) {
  const std::size_t length = fast_transform_length(static_cast<std::size_t>(kLookS * rate));
  RealTransform transform(length);
  const auto window = kaiser_window(length, 8);
  std::vector<std::pair<double, double>> course;
  for (std::size_t at = 0; at + length <= x.size(); at += std::max<std::size_t>(1, length / 4)) {
    const auto input = transform.input();
    for (std::size_t i = 0; i < length; ++i) input[i] = window[i] * x[at + i];
    transform.execute();
    const auto bins = transform.bins();
    std::size_t top = 1;
    for (std::size_t b = 1; b + 1 < bins.size(); ++b)
      if (std::norm(bins[b]) > std::norm(bins[top])) top = b;
    const double shift = line_offset(std::norm(bins[top - 1]), std::norm(bins[top]),
                                     std::norm(bins[std::min(top + 1, bins.size() - 1)]));
    const double hz = (static_cast<double>(top) + shift) * rate / static_cast<double>(length);
    if (hz > kLowestHz && hz < 0.48 * rate)
      course.emplace_back((static_cast<double>(at) + static_cast<double>(length) / 2) / rate, hz);
  }
  return course;
}

// A straight line through (t, y), and the middle of what it leaves.
std::array<double, 3> line_through(const std::vector<std::pair<double, double>>& points) {
  double n = 0, t = 0, y = 0, tt = 0, ty = 0;
  for (const auto& [a, b] : points) {
    n += 1;
    t += a;
    y += b;
    tt += a * a;
    ty += a * b;
  }
  const double slope = (n * ty - t * y) / (n * tt - t * t), start = (y - slope * t) / n;
  std::vector<double> rest;
  for (const auto& [a, b] : points) rest.push_back(std::abs(b - start - slope * a));
  std::nth_element(rest.begin(), rest.begin() + static_cast<std::ptrdiff_t>(rest.size() / 2), rest.end());
  return {start, slope, rest[rest.size() / 2]};
}

using Turn = std::complex<double>;

Turn turn_of(double cycles) {
  const Phase phase = phase_from_cycles(cycles);
  return {cosine(phase), sine(phase)};
}

Turn joined(const Turn& a, const Turn& b) {
  return {a.real() * b.real() - a.imag() * b.imag(), a.real() * b.imag() + a.imag() * b.real()};
}

// Σ window·x·(sine, cosine) of the course from frame `at` on. Over the few milliseconds of a window its
// cycles are a polynomial of the fourth degree (to 1e-6 of a cycle for ten octaves a second), which five
// turns carry on from sample to sample.
std::pair<double, double> beside(std::span<const double> x, const std::vector<double>& window, double rate,
                                 const Course& course, std::size_t at) {
  const double half = 0.5 * static_cast<double>(window.size()),
               middle_s = (static_cast<double>(at) + half) / rate;
  // The first four derivatives by the frame, in the middle and at the start.
  std::array<double, 4> m{course.hz(middle_s) / rate, 0, 0, 0};
  if (course.log)
    for (std::size_t i = 1; i < 4; ++i) m[i] = m[i - 1] * course.rate / rate;
  else
    m[1] = course.rate / (rate * rate);
  const double u = -half;
  const double moved = u * (m[0] + u * (m[1] / 2 + u * (m[2] / 6 + u * m[3] / 24))),
               first = m[0] + u * (m[1] + u * (m[2] / 2 + u * m[3] / 6)),
               second = m[1] + u * (m[2] + u * m[3] / 2), third = m[2] + u * m[3], fourth = m[3];
  Turn turn = turn_of(course.at(middle_s) + moved),
       d1 = turn_of(first + second / 2 + third / 6 + fourth / 24),
       d2 = turn_of(second + third + fourth * 7 / 12), d3 = turn_of(third + fourth * 3 / 2);
  const Turn d4 = turn_of(fourth);
  double across = 0, along = 0;
  for (std::size_t i = 0; i < window.size(); ++i) {
    const double sample = window[i] * x[at + i];
    across += sample * turn.imag();
    along += sample * turn.real();
    turn = joined(turn, d1);
    d1 = joined(d1, d2);
    d2 = joined(d2, d3);
    d3 = joined(d3, d4);
  }
  return {across, along};
}

struct Fitted {
  Course course;
  double spread = 1e9;
};

// Times, and cycles of the signal's phase beside the course there.
std::vector<std::pair<double, double>> phases_beside(std::span<const double> x, double rate,
                                                     const Course& course,
                                                     const std::vector<double>& window) {
  const std::size_t block = window.size(), hop = std::max(block / 2, x.size() / kPhases);
  const double length_s = static_cast<double>(x.size()) / rate;
  std::vector<std::pair<double, double>> phases;
  double last = 0;
  for (std::size_t at = 0; at + block <= x.size(); at += hop) {
    const double t = (static_cast<double>(at) + 0.5 * static_cast<double>(block - 1)) / rate,
                 hz = course.hz(t);
    if (t < kEdge * length_s || t > (1 - kEdge) * length_s || hz < kLowestHz || hz > 0.49 * rate) continue;
    const auto [re, im] = beside(x, window, rate, course, at);
    double cycles = std::atan2(im, re) / (2 * std::numbers::pi);
    if (!phases.empty()) cycles += std::round(last - cycles);
    last = cycles;
    phases.emplace_back(t, cycles);
  }
  return phases;
}

// Moves the course until the phase of the signal beside it stands still.
Fitted refine(std::span<const double> x, double rate, Course course) {
  const auto block = static_cast<std::size_t>(kPhaseS * rate);
  const auto window = kaiser_window(block, 8);
  Fitted best{course, 1e9};
  for (int step = 0; step < kSteps; ++step) {
    std::vector<double> matrix(9, 0.0), right(3, 0.0);
    const auto phases = phases_beside(x, rate, course, window);
    if (phases.size() < 16) return best;
    double mean_square = 0;
    for (const auto& [t, cycles] : phases) {
      const auto s = course.slopes(t);
      for (std::size_t i = 0; i < 3; ++i) {
        right[i] += s[i] * cycles;
        for (std::size_t k = 0; k < 3; ++k) matrix[3 * i + k] += s[i] * s[k];
      }
    }
    // Scaled to unit diagonal: the slopes differ by many orders of magnitude.
    std::array<double, 3> scale{};
    for (std::size_t i = 0; i < 3; ++i) scale[i] = 1 / std::sqrt(std::max(1e-300, matrix[4 * i]));
    for (std::size_t i = 0; i < 3; ++i) {
      right[i] *= scale[i];
      for (std::size_t k = 0; k < 3; ++k) matrix[3 * i + k] *= scale[i] * scale[k];
    }
    const SymmetricSystem system(matrix, 3);
    if (!system.well_posed()) return best;
    const auto move = system.solve(right);
    for (const auto& [t, cycles] : phases) {
      const auto s = course.slopes(t);
      double rest = cycles;
      for (std::size_t i = 0; i < 3; ++i) rest -= s[i] * move[i] * scale[i];
      mean_square += rest * rest;
    }
    course.cycles += move[0] * scale[0];
    course.from_hz += move[1] * scale[1];
    course.rate += move[2] * scale[2];
    if (course.log && !(course.from_hz > 0)) return best;
    const double spread = 2 * std::numbers::pi * std::sqrt(mean_square / static_cast<double>(phases.size()));
    const bool still = std::abs(spread - best.spread) < 1e-9 + 1e-4 * spread && step > 2;
    if (spread < best.spread || step < 3) best = {course, spread};
    if (still || (step >= kStandsBy && spread > kHopeless)) break;
  }
  return best;
}

// Amplitude of the signal beside the course: in the middle, and by how much it changes.
void add_level(std::span<const double> x, double rate, const Course& course, SweepCourse& found) {
  const auto block = static_cast<std::size_t>(kPhaseS * rate);
  const auto window = kaiser_window(block, 8);
  const double weight = std::accumulate(window.begin(), window.end(), 0.0);
  std::vector<double> levels;
  const std::size_t hop = std::max(block, x.size() / 64);
  for (std::size_t at = x.size() / 20; at + block <= x.size() - x.size() / 20; at += hop) {
    const double hz = course.hz(static_cast<double>(at) / rate);
    if (hz < kLowestHz || hz > 0.49 * rate) continue;
    const auto [re, im] = beside(x, window, rate, course, at);
    levels.push_back(2 * std::hypot(re, im) / weight);
  }
  if (levels.empty()) return;
  std::sort(levels.begin(), levels.end());
  found.amplitude = levels[levels.size() / 2];
  if (levels.front() > 0) found.wander_db = db_from_ratio(levels.back() / levels.front());
}

}  // namespace

double SweepCourse::cycles_at(double t) const {
  const Course course{log, from_hz, log ? std::log(to_hz / from_hz) / seconds : (to_hz - from_hz) / seconds,
                      cycles};
  return course.at(t);
}

namespace {

std::optional<SweepCourse> course_at(std::span<const double> sound, double rate) {
  const auto points = rough_course(sound, rate);
  if (points.size() < 8) return std::nullopt;
  std::vector<std::pair<double, double>> logs;
  for (const auto& [t, hz] : points) logs.emplace_back(t, std::log(hz));
  const auto straight = line_through(points), bent = line_through(logs);
  Fitted best;
  if (std::abs(bent[1]) > 1e-3 && bent[2] < kMostOffLog)
    best = refine(sound, rate, {true, std::exp(bent[0]), bent[1], 0});
  if (best.spread > kMostSpread && std::abs(straight[1]) > 1 && straight[2] < kMostOffLinear * rate)
    best = refine(sound, rate, {false, straight[0], straight[1], 0});
  if (best.spread > kMostSpread) return std::nullopt;
  // The whole stretch lies between 0 and half the rate.
  const double seconds = static_cast<double>(sound.size()) / rate;
  SweepCourse found{best.course.log, best.course.from_hz, best.course.hz(seconds), seconds,
                    best.course.cycles};
  if (!(found.from_hz > 0 && found.from_hz < rate / 2 && found.to_hz > 0 && found.to_hz < rate / 2))
    return std::nullopt;
  found.spread_rad = best.spread;
  add_level(sound, rate, best.course, found);
  return found;
}

}  // namespace

std::optional<SweepCourse> sweep_course(std::span<const double> sound, double sample_rate_hz) {
  if (auto found = course_at(sound, sample_rate_hz)) return found;
  // What stays low is read as if it went faster.
  auto slow = course_at(sound, kFaster * sample_rate_hz);
  if (!slow) return slow;
  slow->from_hz /= kFaster;
  slow->to_hz /= kFaster;
  slow->seconds *= kFaster;
  return slow;
}

}  // namespace wavicon::intake_detail
