// SPDX-License-Identifier: MIT
#include "island_parts.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "noise_kind.hpp"
#include "samples.hpp"
#include "steady_lines.hpp"
#include "sweep_course.hpp"
#include "tone_pieces.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr std::int64_t kImpulseFrames = 3;
constexpr double kHitS = 0.012;  // shorter ones hold too little to be anything else
constexpr double kLongestHitS = 0.45;
constexpr double kOffset = 0.98;      // mean over RMS: a direct voltage
constexpr double kMostlyTones = 0.8;  // of a stretch's frames
constexpr double kLeastSweepS = 0.1;
constexpr double kLeastOctaves = 0.5;
constexpr double kMostStrayDb = -6;  // of what a sweep leaves: three quarters of the power are its own
constexpr double kCertainSweepRad = 0.015, kCertainSweepDb = 12;
constexpr double kCertainStray = 0.03;  // RMS of what the lines leave
constexpr double kLeastLinesS = 0.35;
constexpr double kLeastNoiseS = 0.5;

double degrees(double cycles) { return 360 * (cycles - std::floor(cycles)); }

// One island, taken apart.
class Taker {
 public:
  Taker(double rate, double idle_rms, std::int64_t room_before, std::int64_t room_after)
      : rate_(rate), idle_(idle_rms), room_before_(room_before), room_after_(room_after) {}

  std::vector<RecognisedPart> operator()(std::span<const double> x, std::int64_t first) {
    x_ = x;
    first_ = first;
    parts_.clear();
    if (!take_short() && !take_ramp() && !take_tones() && !take_lines() && !take_sweep() && !take_noise())
      add_rest();
    return std::move(parts_);
  }

 private:
  RecognisedPart& add(const std::string& kind, std::int64_t from, std::int64_t frames, double level) {
    parts_.push_back({.kind = kind,
                      .first_frame = first_ + from,
                      .frames = frames,
                      .level_dbfs = db_from_ratio(std::max(level, 1e-15))});
    return parts_.back();
  }
  [[nodiscard]] std::int64_t size() const { return static_cast<std::int64_t>(x_.size()); }
  [[nodiscard]] double seconds() const { return static_cast<double>(x_.size()) / rate_; }

  bool take_short() {
    const double rms = rms_of(x_), peak = peak_of(x_);
    double mean = 0;
    for (const double v : x_) mean += v / static_cast<double>(x_.size());
    if (size() <= kImpulseFrames) {
      const auto top = std::max_element(x_.begin(), x_.end(),
                                        [](double p, double q) { return std::abs(p) < std::abs(q); });
      RecognisedPart& part = add("impulse", 0, size(), peak);
      if (size() == 1) {
        part.written = Impulse{.level_dbfs = part.level_dbfs, .negative = *top < 0, .seconds = 1 / rate_};
        part.certain = true;
      } else {
        part.reason = fmt::format("{} samples long: a recipe has impulses of one", size());
      }
      return true;
    }
    if (rms > 0 && std::abs(mean) > kOffset * rms && seconds() > kHitS) {
      add("offset", 0, size(), std::abs(mean)).reason = "a direct voltage: recipes have none";
      return true;
    }
    if (seconds() < kHitS) {
      add("hit", 0, size(), rms).reason = "too short to be anything else";
      return true;
    }
    return false;
  }

  bool take_tones() {
    const std::vector<TonePiece> pieces = tone_pieces(x_, rate_, idle_, room_before_, room_after_);
    std::int64_t held = 0;
    for (const TonePiece& piece : pieces) held += piece.end - piece.first;
    if (static_cast<double>(held) < kMostlyTones * static_cast<double>(size())) return false;
    // Beside a strong tone a softer one may stand, as in a pair.
    if (pieces.size() == 1 && overtones_of(pieces.front()) > kMostOvertones && take_lines()) return true;
    std::int64_t next = 0;
    for (const TonePiece& piece : pieces) {
      add_unexplained(next, piece.first);
      next = piece.end;
      RecognisedPart& part = add("tone", piece.first, piece.end - piece.first, piece.amplitude);
      const double frames = static_cast<double>(part.frames);
      part.written = Tone{.frequency_hz = piece.cycles_per_frame * rate_,
                          .level_dbfs = part.level_dbfs,
                          .phase_deg = degrees(piece.phase_cycles),
                          .seconds = frames / rate_,
                          .fade_in_s = std::min(piece.fade_in_frames, 0.5 * frames) / rate_,
                          .fade_out_s = std::min(piece.fade_out_frames, 0.5 * frames) / rate_};
      part.certain = true;
      if (const double overtones = overtones_of(piece); overtones > kMostOvertones) {
        part.certain = false;
        part.reason =
            fmt::format("{:.0f} dB of overtones: a distorted tone, or a note", db_from_ratio(overtones));
      }
    }
    add_unexplained(next, size());
    return true;
  }

  // RMS of the steady part beside its sine, over the sine's.
  [[nodiscard]] double overtones_of(const TonePiece& piece) const {
    const std::int64_t length = std::min<std::int64_t>(piece.steady_end - piece.steady_first, 65536),
                       from = (piece.steady_first + piece.steady_end - length) / 2;
    double left = 0;
    for (std::int64_t n = from; n < from + length; ++n) {
      const double off =
          x_[static_cast<std::size_t>(n)] -
          piece.amplitude *
              std::sin(2 * std::numbers::pi *
                       (piece.phase_cycles + piece.cycles_per_frame * static_cast<double>(n - piece.first)));
      left += off * off;
    }
    const double noise = idle_ * idle_ * static_cast<double>(length);
    return std::sqrt(std::max(0.0, left - noise) / static_cast<double>(length)) /
           (piece.amplitude / std::numbers::sqrt2);
  }

  // Between tones: what is neither.
  void add_unexplained(std::int64_t from, std::int64_t to) {
    if (static_cast<double>(to - from) < 0.005 * rate_) return;
    const auto x = x_.subspan(static_cast<std::size_t>(from), static_cast<std::size_t>(to - from));
    if (rms_of(x) < std::max(1e-6, 2 * idle_)) return;
    add("programme", from, to - from, rms_of(x)).reason = "no model explains it";
  }

  bool take_ramp() {
    const auto ramp = level_ramp(x_, rate_);
    if (!ramp) return false;
    RecognisedPart& part = add("multitone", 0, size(), std::max(ramp->from_amplitude, ramp->to_amplitude));
    Oscillator tone{.frequency_hz = ramp->cycles_per_frame * rate_,
                    .level_dbfs = db_from_ratio(ramp->from_amplitude),
                    .to_dbfs = db_from_ratio(ramp->to_amplitude),
                    .phase_deg = degrees(ramp->phase_cycles)};
    part.written = Multitone{.oscillators = {tone}, .seconds = seconds()};
    part.certain = true;
    return true;
  }

  // One tone and its overtones, which are plainly softer.
  static bool are_orders(const std::vector<SteadyLine>& lines) {
    const SteadyLine& first = lines.front();
    return std::all_of(lines.begin() + 1, lines.end(), [&](const SteadyLine& line) {
      const double order = line.cycles_per_frame / first.cycles_per_frame;
      return std::abs(order - std::round(order)) < 1e-4 * order && line.amplitude < 0.5 * first.amplitude;
    });
  }

  bool take_lines() {
    const auto found = steady_lines(x_);
    if (!found || are_orders(found->lines)) return false;
    double peak = 0;
    std::vector<Oscillator> oscillators;
    for (const SteadyLine& line : found->lines) {
      peak += line.amplitude;
      oscillators.push_back({.frequency_hz = line.cycles_per_frame * rate_,
                             .level_dbfs = db_from_ratio(line.amplitude),
                             .phase_deg = degrees(line.phase_cycles)});
    }
    RecognisedPart& part = add("multitone", 0, size(), peak);
    const auto wave = [&](std::int64_t n) {
      double sum = 0;
      for (const SteadyLine& line : found->lines)
        sum +=
            line.amplitude * std::sin(2 * std::numbers::pi *
                                      (line.phase_cycles + line.cycles_per_frame * static_cast<double>(n)));
      return sum;
    };
    part.written = Multitone{.oscillators = oscillators,
                             .seconds = seconds(),
                             .fade_in_s = fade_of(wave, 0, size(), false),
                             .fade_out_s = fade_of(wave, 0, size(), true)};
    part.certain = found->stray < kCertainStray && seconds() > kLeastLinesS;
    if (!part.certain)
      part.reason = fmt::format("{:.0f} dB of it are not these lines", db_from_ratio(found->stray));
    return true;
  }

  bool take_sweep() {
    if (seconds() < kLeastSweepS) return false;
    if (add_sweep(0, size())) return true;
    // There and back.
    const std::int64_t half = size() / 2;
    const auto out = course(0, half), back = course(half, size());
    if (!out || !back || out->log != back->log || std::abs(out->from_hz / back->to_hz - 1) > 0.01 ||
        std::abs(out->to_hz / back->from_hz - 1) > 0.01)
      return false;
    if (!add_sweep(0, half)) return false;
    auto& sweep = std::get<Sweep>(*parts_.back().written);
    sweep.return_trip = true;
    sweep.fade_out_s = sweep.fade_in_s;
    parts_.back().frames = size();
    return true;
  }
  [[nodiscard]] std::optional<SweepCourse> course(std::int64_t from, std::int64_t to) const {
    return sweep_course(x_.subspan(static_cast<std::size_t>(from), static_cast<std::size_t>(to - from)),
                        rate_);
  }
  bool add_sweep(std::int64_t from, std::int64_t to) {
    const auto found = course(from, to);
    if (!found || std::abs(std::log2(found->to_hz / found->from_hz)) < kLeastOctaves) return false;
    RecognisedPart& part = add("sweep", from, to - from, found->amplitude);
    Sweep sweep{.from_hz = found->from_hz,
                .to_hz = found->to_hz,
                .seconds = found->seconds,
                .law = found->log ? "log" : "linear",
                .level_dbfs = part.level_dbfs,
                .fade_in_s = 0,
                .fade_out_s = 0};
    part.stray_db = stray_of(*found, from, to, sweep);
    if (*part.stray_db > kMostStrayDb) {
      parts_.pop_back();
      return false;
    }
    part.written = sweep;
    part.certain = found->spread_rad < kCertainSweepRad && found->wander_db < kCertainSweepDb;
    if (!part.certain)
      part.reason = found->wander_db < kCertainSweepDb
                        ? fmt::format("its phase strays by {:.3f} rad", found->spread_rad)
                        : fmt::format("its level changes by {:.1f} dB", found->wander_db);
    return true;
  }
  // The usual fade that leaves least of the signal, at one end of a wave between two places.
  template <typename Wave>
  [[nodiscard]] double fade_of(const Wave& wave, std::int64_t from, std::int64_t to, bool end) const {
    const std::int64_t edge = std::min<std::int64_t>((to - from) / 4, std::llround(0.25 * rate_));
    std::vector<double> model;
    for (std::int64_t k = 0; k < edge; ++k) model.push_back(wave(end ? to - from - 1 - k : k));
    double best = 1e300, length = 0;
    for (const double fade_s : {0.0, 0.001, 0.002, 0.005, 0.01, 0.02, 0.03, 0.05, 0.1, 0.2}) {
      const double fade = fade_s * rate_;
      if (fade > static_cast<double>(edge)) break;
      double sum = 0;
      for (std::int64_t k = 0; k < edge; ++k) {
        const double at = static_cast<double>(k) + 0.5,
                     gain = at >= fade ? 1 : 0.5 - 0.5 * std::cos(std::numbers::pi * at / fade),
                     off = x_[static_cast<std::size_t>(end ? to - 1 - k : from + k)] -
                           gain * model[static_cast<std::size_t>(k)];
        sum += off * off;
      }
      if (sum < best) {
        best = sum;
        length = fade_s;
      }
    }
    return length;
  }
  // What the course leaves, with the fades that leave least; these are set.
  double stray_of(const SweepCourse& course, std::int64_t from, std::int64_t to, Sweep& sweep) const {
    const std::int64_t frames = to - from,
                       edge = std::min<std::int64_t>(frames / 4, std::llround(0.25 * rate_));
    const auto wave = [&](std::int64_t n) {
      return course.amplitude *
             std::sin(2 * std::numbers::pi * course.cycles_at(static_cast<double>(n) / rate_));
    };
    sweep.fade_in_s = fade_of(wave, from, to, false);
    sweep.fade_out_s = fade_of(wave, from, to, true);
    double left = 0, all = 0;
    for (std::int64_t n = edge; n < frames - edge; n += 3) {
      const double v = x_[static_cast<std::size_t>(from + n)], off = v - wave(n);
      left += off * off;
      all += v * v;
    }
    return all > 0 ? db_from_ratio(std::max(1e-10, std::sqrt(left / all))) : 0;
  }

  bool take_noise() {
    if (seconds() < kLeastNoiseS) return false;
    const auto found = noise_kind(x_, rate_);
    if (!found) return false;
    RecognisedPart& part = add("noise", 0, size(), found->rms);
    part.reason = "noise is drawn anew: of the same kind, other samples";
    if (found->colour == NoiseKind::Colour::other) {
      part.reason = fmt::format("its density runs by {:+.1f} dB per octave: recipes have white and pink",
                                found->tilt_db_per_octave);
    }
    Noise noise{.colour = found->colour == NoiseKind::Colour::pink ? "pink" : "white",
                .level_dbfs = part.level_dbfs,
                .seconds = seconds()};
    if (found->from_hz > 0) noise.from_hz = found->from_hz;
    if (found->to_hz < 0.47 * rate_) noise.to_hz = found->to_hz;
    if (found->period_frames > 0)
      noise.period_s = std::clamp(static_cast<double>(found->period_frames) / rate_, 0.05, 10.0);
    if (found->colour != NoiseKind::Colour::other) part.written = noise;
    part.certain = found->colour != NoiseKind::Colour::other;
    return true;
  }

  void add_rest() {
    const bool hit = seconds() < kLongestHitS;
    add(hit ? "hit" : "programme", 0, size(), rms_of(x_)).reason =
        hit ? "short, and no model explains it" : "no model explains it";
  }

  static constexpr double kMostOvertones = 0.0316;  // -30 dB
  std::span<const double> x_;
  std::int64_t first_ = 0;
  double rate_, idle_;
  std::int64_t room_before_, room_after_;
  std::vector<RecognisedPart> parts_;
};

}  // namespace

std::vector<RecognisedPart> island_parts(std::span<const double> x, std::int64_t first_frame,
                                         double sample_rate_hz, double idle_rms, std::int64_t room_before,
                                         std::int64_t room_after) {
  return Taker(sample_rate_hz, idle_rms, room_before, room_after)(x, first_frame);
}

}  // namespace wavicon::intake_detail
