// SPDX-License-Identifier: MIT
#include "trials/reading_trials.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>
#include <optional>

#include "trials/sounds.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/intake/recognise.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon::trials {
namespace {

using Samples = std::vector<double>;

constexpr double kTurn = 2 * std::numbers::pi;

double db(double ratio) { return 20 * std::log10(ratio); }
double ratio(double decibels) { return std::pow(10, decibels / 20); }

/// What a reading should be. Where it carries no uncertainty, `allowed` is what it may be off.
struct Truth {
  std::string reading;
  double value = 0;
  double allowed = 0.01;
};

struct Trial {
  std::string measurement;
  std::string what;  ///< for a person
  double rate_hz = 48000;
  Samples a, b;  ///< a: the reference, where the measurement takes one
  std::vector<Truth> truths;
  SampleFormat format = SampleFormat::float64;
};

// As the program measures a file.
Sheet measured_as_a_file(const Trial& trial) {
  const MeasurementDescriptor& descriptor = *find_measurement(measurements(), trial.measurement);
  const auto measurement = descriptor.make();
  const GatePolicy policy = policy_of(descriptor);
  GatePolicy held = policy;
  held.hold_faults = true;
  const auto judged = [&](const Samples& x) {
    return judge(audio_of(x, trial.rate_hz), trial.format, {}, held);
  };
  MeasureRequest request;
  JudgedCapture b = judged(trial.b);
  if (descriptor.input == MeasuredInput::recording) {
    b = judge_row({b.admitted(policy)});
  } else if (!trial.a.empty() && descriptor.by_reference) {
    request.clean_signal = recognised(judged(trial.a), policy);
    b = holding(b, *request.clean_signal, policy);
  } else if (!trial.a.empty()) {
    const JudgedCapture a = judged(trial.a);
    request.reference = descriptor.recognises ? recognised(a, policy) : a.admitted(policy);
    b = descriptor.recognises ? placed_by(b, *request.reference, policy) : b.admitted(policy);
  } else {
    b = descriptor.recognises ? recognised(b, policy) : b.admitted(policy);
  }
  measurement->check(request);
  std::vector<Sheet> sheets = measured(*measurement, request, b);
  measurement->conclude(request, sheets);
  return sheets.at(0);
}

enum class Damage { none, dropout, clipped, cut, late, hum, echo, stored };

const char* name_of(Damage damage) {
  static const char* const kNames[] = {"whole", "dropout", "clipped", "cut", "late", "hum", "echo", "16 bit"};
  return kNames[static_cast<int>(damage)];
}

Damage any_damage(Dice& dice) {
  return dice.chance(0.5) ? Damage::none : static_cast<Damage>(dice.whole(1, 7));
}

// What happened to a capture; the truth stays that of the unit, and the level and the noise that are damage's
// own are added to it by the trial.
void spoil(Trial& trial, Damage damage, Dice& dice) {
  Samples& x = trial.b;
  const double peak = peak_of(x);
  const auto at = static_cast<std::size_t>(dice.uniform(0.2, 0.7) * static_cast<double>(x.size()));
  switch (damage) {
    case Damage::dropout:
      std::fill_n(x.begin() + static_cast<std::ptrdiff_t>(at),
                  static_cast<std::size_t>(dice.uniform(0.002, 0.05) * trial.rate_hz), 0.0);
      break;
    case Damage::clipped: {
      // Converters clip at full scale; what bends far below is the unit.
      if (peak < 0.5) break;
      const double limit = peak * dice.uniform(0.5, 0.95);
      for (double& v : x) v = std::clamp(v, -limit, limit);
      break;
    }
    case Damage::cut:
      x.erase(x.begin() + static_cast<std::ptrdiff_t>(at), x.end());
      break;
    case Damage::late:
      x.insert(x.begin(), static_cast<std::size_t>(dice.uniform(0.05, 0.8) * trial.rate_hz), 0.0);
      break;
    case Damage::hum: {
      const double level = peak * dice.ratio(1e-4, 1e-2), hz = dice.chance(0.5) ? 50.02 : 59.97;
      for (std::size_t n = 0; n < x.size(); ++n)
        x[n] += level * std::sin(kTurn * hz * static_cast<double>(n) / trial.rate_hz);
      break;
    }
    case Damage::echo: {
      const auto late = static_cast<std::size_t>(dice.uniform(0.003, 0.1) * trial.rate_hz);
      const double level = dice.uniform(0.05, 0.5);
      trial.what += fmt::format(", again {} frames later at {:.2f}", late, level);
      for (std::size_t n = x.size(); n-- > late;) x[n] += level * x[n - late];
      break;
    }
    case Damage::stored:
      trial.format = SampleFormat::pcm16;
      for (double& v : x)
        v = std::clamp(std::floor(32768 * v + dice.uniform(0, 1) - dice.uniform(0, 1) + 0.5), -32768.0,
                       32767.0) /
            32768;
      break;
    default:
      break;
  }
}

double any_rate(Dice& dice) {
  static constexpr double kRates[] = {44100, 48000, 48000, 96000};
  return kRates[dice.whole(0, 3)];
}

// Where an order is heard, and whether it is alone there among ten.
double place_of(int order, double hz, double rate) {
  const double at = order * hz;
  return std::abs(at - rate * std::round(at / rate));
}
bool apart_from_all(int order, double hz, double rate) {
  constexpr double kApartHz = 150;
  const double own = place_of(order, hz, rate);
  if (own < kApartHz || own > rate / 2 - kApartHz) return order * hz < 0.48 * rate && own > 20;
  for (int k = 1; k <= 10; ++k)
    if (k != order && std::abs(place_of(k, hz, rate) - own) < std::min(kApartHz, 0.5 * hz)) return false;
  return true;
}

// A tone and orders of it as a memoryless unit at its own rate makes them: those above half the rate fold by
// themselves.
Trial harmonics(Dice& dice) {
  Trial trial{.measurement = "harmonics", .rate_hz = any_rate(dice)};
  const double hz = dice.ratio(40, 6000), level_db = dice.uniform(-40, -3), seconds = dice.ratio(0.3, 2),
               noise_db = level_db + dice.uniform(-110, -50), a = ratio(level_db);
  Samples x(static_cast<std::size_t>(seconds * trial.rate_hz));
  double squares = 0;
  const auto add = [&](int k, double amplitude, double turn) {
    for (std::size_t n = 0; n < x.size(); ++n) {
      const double cycles = std::fmod(k * hz / trial.rate_hz * static_cast<double>(n), 1.0) + turn;
      x[n] += amplitude * std::sin(kTurn * cycles);
    }
  };
  add(1, a, dice.uniform(0, 1));
  trial.truths = {{"fundamental_hz", hz, 1e-5 * hz}, {"fundamental_dbfs", level_db}};
  for (int k = 2; k <= 7; ++k) {
    const double order_db = dice.uniform(-110, -20) - 4 * k;
    if (dice.chance(0.3)) continue;
    add(k, a * ratio(order_db), dice.uniform(0, 1));
    squares += ratio(order_db) * ratio(order_db);
    if (apart_from_all(k, hz, trial.rate_hz)) trial.truths.push_back({fmt::format("h{}_dbc", k), order_db});
  }
  bool told_apart = true;
  for (int k = 2; k <= 10; ++k) told_apart = told_apart && apart_from_all(k, hz, trial.rate_hz);
  if (squares > 0 && told_apart) trial.truths.push_back({"thd_db", db(std::sqrt(squares))});
  add_noise(x, ratio(noise_db), static_cast<std::uint64_t>(dice.whole(1, 1 << 30)));
  trial.b = std::move(x);
  trial.what =
      fmt::format("{:.1f} Hz at {:.1f} dBFS, {:.2f} s, noise {:.1f} dBFS", hz, level_db, seconds, noise_db);
  return trial;
}

// White noise, with or without hum or a tone under which it is measured.
Trial noise(Dice& dice) {
  Trial trial{.measurement = "noise", .rate_hz = any_rate(dice)};
  const double level_db = dice.uniform(-120, -30), seconds = dice.ratio(0.3, 4),
               band = 19980 / (trial.rate_hz / 2);
  Samples x(static_cast<std::size_t>(seconds * trial.rate_hz));
  add_noise(x, ratio(level_db), static_cast<std::uint64_t>(dice.whole(1, 1 << 30)));
  double power = ratio(level_db) * ratio(level_db) * band;
  const bool hum = dice.chance(0.3), tone = !hum && dice.chance(0.4);
  const double line_db = level_db + dice.uniform(-15, 20), hz = hum ? 50 : dice.uniform(300, 9000);
  if (hum) {
    for (std::size_t n = 0; n < x.size(); ++n)
      x[n] += ratio(line_db) * std::sin(kTurn * hz * static_cast<double>(n) / trial.rate_hz);
    power += ratio(line_db) * ratio(line_db) / 2;
  }
  // One that stands far out: it is cut out.
  if (tone) {
    const double tone_level = ratio(std::min(-1.0, level_db + dice.uniform(40, 90)));
    for (std::size_t n = 0; n < x.size(); ++n)
      x[n] += tone_level * std::sin(kTurn * std::fmod(hz * static_cast<double>(n) / trial.rate_hz, 1.0));
  }
  trial.truths = {{"noise_dbfs", 10 * std::log10(power), 0.05}};
  trial.b = std::move(x);
  trial.what = fmt::format("white {:.1f} dBFS, {:.2f} s{}", level_db, seconds,
                           hum    ? fmt::format(", hum {:.1f} dBFS", line_db)
                           : tone ? fmt::format(", tone of {:.0f} Hz", hz)
                                  : "");
  return trial;
}

Sound any_programme(Dice& dice, double seconds) {
  const auto own = static_cast<std::uint64_t>(dice.whole(1, std::int64_t{1} << 40));
  switch (dice.whole(0, 3)) {
    case 0:
      return voice(seconds, own);
    case 1:
      return music(seconds, own);
    case 2:
      return drums(seconds, dice.uniform(90, 130), own);
    default:
      return hiss(seconds, 0.1, own);
  }
}

// A programme and a copy of it that came later, softer, at another clock, with noise.
Trial copy_of_programme(Dice& dice, const std::string& measurement) {
  Trial trial{.measurement = measurement, .rate_hz = any_rate(dice)};
  const double seconds = dice.uniform(2.5, 5),
               late = dice.chance(0.4) ? std::round(dice.uniform(0, 9000)) : dice.uniform(-3000, 20000),
               ppm = dice.chance(0.6) ? 0 : dice.uniform(-150, 150), gain_db = dice.uniform(-20, 6),
               noise_db = dice.uniform(-90, -25);
  const double polarity = dice.chance(0.2) ? -1 : 1;
  const Sound sound = any_programme(dice, seconds);
  trial.a = taken(sound, {trial.rate_hz, std::llround(seconds * trial.rate_hz)});
  trial.b = taken(sound, {trial.rate_hz, std::llround((seconds + 0.5) * trial.rate_hz), late, ppm,
                          polarity * ratio(gain_db)});
  add_noise(trial.b, rms_of(trial.a) * ratio(gain_db + noise_db),
            static_cast<std::uint64_t>(dice.whole(1, 1 << 30)));
  trial.what = fmt::format("{:.1f} s, {:.2f} frames late, {:.1f} ppm, {:+.1f} dB{}, noise {:.1f} dB", seconds,
                           late, ppm, gain_db, polarity < 0 ? ", inverted" : "", noise_db);
  if (measurement == "latency")
    trial.truths = {{"latency_samples", late, 0.01}, {"polarity", polarity, 0}};
  else
    trial.truths = {{"delay_samples", late, 0.01},
                    {"drift_ppm", ppm, 0.05},
                    {"gain_db", gain_db, 0.01},
                    {"polarity", polarity, 0}};
  return trial;
}

// Levels are sums over the samples.
Trial levels(Dice& dice) {
  Trial trial{.measurement = "levels", .rate_hz = any_rate(dice)};
  const double seconds = dice.uniform(1, 4);
  trial.b = taken(any_programme(dice, seconds), {trial.rate_hz, std::llround(seconds * trial.rate_hz)});
  const double offset = dice.chance(0.3) ? dice.uniform(-0.02, 0.02) : 0;
  double sum = 0, squares = 0;
  for (double& v : trial.b) v += offset;
  for (const double v : trial.b) {
    sum += v;
    squares += v * v;
  }
  const auto count = static_cast<double>(trial.b.size());
  trial.truths = {{"rms_dbfs", 10 * std::log10(squares / count), 1e-6},
                  {"peak_dbfs", db(peak_of(trial.b)), 1e-6},
                  {"dc_offset", sum / count, 1e-9}};
  trial.what = fmt::format("{:.1f} s, offset {:.4f}", seconds, offset);
  return trial;
}

// A programme through a bell and a gain: the response at 1 kHz.
Trial response(Dice& dice) {
  Trial trial{.measurement = "response", .rate_hz = any_rate(dice)};
  const double seconds = dice.uniform(4.5, 7), late = std::round(dice.uniform(0, 4000)),
               gain_db = dice.uniform(-12, 6);
  const Sound sound = hiss(seconds, 0.05, static_cast<std::uint64_t>(dice.whole(1, 1 << 30)));
  trial.a = taken(sound, {trial.rate_hz, std::llround(seconds * trial.rate_hz)});
  trial.b = moved(trial.a, static_cast<std::int64_t>(late), trial.a.size() + 5000);
  std::vector<Biquad> filter;
  if (dice.chance(0.5)) filter.push_back(low_cut(dice.ratio(40, 600), trial.rate_hz));
  if (dice.chance(0.5)) filter.push_back(high_cut(dice.ratio(3000, 15000), trial.rate_hz));
  double truth = gain_db;
  for (const Biquad& section : filter) {
    section.run(trial.b);
    truth += db(section.gain_at(1000, trial.rate_hz));
  }
  for (double& v : trial.b) v *= ratio(gain_db);
  add_noise(trial.b, rms_of(trial.b) * ratio(dice.uniform(-90, -30)),
            static_cast<std::uint64_t>(dice.whole(1, 1 << 30)));
  trial.truths = {{"gain_db", truth, 0.15}};
  trial.what = fmt::format("{:.1f} s, {} filters, {:+.1f} dB", seconds, filter.size(), gain_db);
  return trial;
}

// A level and a correlation that two sources make by closed form.
Trial pair(Dice& dice) {
  Trial trial{.measurement = "pair", .rate_hz = any_rate(dice)};
  const double seconds = dice.uniform(2, 4), gain_db = dice.uniform(-12, 12);
  trial.a = taken(any_programme(dice, seconds), {trial.rate_hz, std::llround(seconds * trial.rate_hz)});
  trial.b = trial.a;
  for (double& v : trial.b) v *= ratio(gain_db);
  add_noise(trial.b, rms_of(trial.b) * dice.ratio(1e-4, 1),
            static_cast<std::uint64_t>(dice.whole(1, 1 << 30)));
  double xx = 0, yy = 0, xy = 0;
  for (std::size_t n = 0; n < trial.a.size(); ++n) {
    xx += trial.a[n] * trial.a[n];
    yy += trial.b[n] * trial.b[n];
    xy += trial.a[n] * trial.b[n];
  }
  trial.truths = {{"level_difference_db", 10 * std::log10(yy / xx), 1e-6},
                  {"correlation", xy / std::sqrt(xx * yy), 1e-9}};
  trial.what = fmt::format("{:.1f} s, {:+.1f} dB", seconds, gain_db);
  return trial;
}

// Steps of a tone through a gain that depends on the level alone: threshold, slope and make-up are known.
Trial dynamics(Dice& dice) {
  Trial trial{.measurement = "dynamics", .rate_hz = any_rate(dice)};
  const double threshold_db = dice.uniform(-35, -15), slope = dice.ratio(0.1, 0.7),
               knee_db = dice.uniform(0, 10), makeup_db = dice.uniform(-6, 6), step_s = 0.4,
               noise_db = dice.uniform(-110, -70), hz = dice.ratio(300, 4000);
  constexpr int kSteps = 17;
  const auto each = static_cast<std::size_t>(step_s * trial.rate_hz);
  for (int i = 0; i < kSteps; ++i) {
    const double in_db = -50 + 3 * i, over = in_db - threshold_db,
                 bent = over <= -knee_db / 2  ? 0
                        : over >= knee_db / 2 ? over
                                              : std::pow(over + knee_db / 2, 2) / (2 * knee_db),
                 gain_db = makeup_db + (slope - 1) * bent;
    for (std::size_t n = 0; n < each; ++n) {
      const double v =
          ratio(in_db) * std::sin(kTurn * std::fmod(hz * static_cast<double>(n) / trial.rate_hz, 1.0));
      trial.a.push_back(v);
      trial.b.push_back(ratio(gain_db) * v);
    }
  }
  const std::vector<double> silence(static_cast<std::size_t>(0.3 * trial.rate_hz), 0.0);
  for (Samples* x : {&trial.a, &trial.b}) {
    x->insert(x->begin(), silence.begin(), silence.end());
    x->insert(x->end(), silence.begin(), silence.end());
  }
  add_noise(trial.b, ratio(noise_db), static_cast<std::uint64_t>(dice.whole(1, 1 << 30)));
  trial.truths = {{"threshold_dbfs", threshold_db, 0.1},
                  {"slope_db_per_db", slope, 0.01},
                  {"makeup_db", makeup_db, 0.02}};
  trial.what =
      fmt::format("{:.0f} Hz, threshold {:.1f} dBFS, slope {:.2f}, knee {:.1f} dB, noise {:.0f} dBFS", hz,
                  threshold_db, slope, knee_db, noise_db);
  return trial;
}

// A tone that came louder, later and bent: gain of its fundamental, by the integral over one period.
Trial waveforms(Dice& dice) {
  Trial trial{.measurement = "waveforms", .rate_hz = any_rate(dice)};
  const double hz = dice.ratio(100, 3000), level = ratio(dice.uniform(-30, -6)),
               gain_db = dice.uniform(-12, 6), drive = dice.chance(0.5) ? 0 : dice.uniform(0.3, 2),
               noise_db = dice.uniform(-110, -60);
  const auto unit = [&](double v) { return drive > 0 ? std::tanh(drive * v) / drive : v; };
  const auto count = static_cast<std::size_t>(1.2 * trial.rate_hz),
             silent = static_cast<std::size_t>(0.3 * trial.rate_hz);
  trial.a.assign(silent, 0.0);
  for (std::size_t n = 0; n < count; ++n)
    trial.a.push_back(level * std::sin(kTurn * std::fmod(hz * static_cast<double>(n) / trial.rate_hz, 1.0)));
  trial.a.resize(trial.a.size() + silent, 0.0);
  for (const double v : trial.a) trial.b.push_back(ratio(gain_db) * unit(v));
  add_noise(trial.b, ratio(noise_db), static_cast<std::uint64_t>(dice.whole(1, 1 << 30)));
  double first = 0;
  constexpr int kPoints = 4096;
  for (int i = 0; i < kPoints; ++i) {
    const double s = std::sin(kTurn * i / kPoints);
    first += 2.0 / kPoints * unit(level * s) * s;
  }
  trial.truths = {{"gain_db", gain_db + db(first / level), 0.01}};
  trial.what = fmt::format("{:.0f} Hz at {:.1f} dBFS, drive {:.2f}, noise {:.0f} dBFS", hz, db(level), drive,
                           noise_db);
  return trial;
}

// The strongest of two lines in noise.
Trial spectrum(Dice& dice) {
  Trial trial{.measurement = "spectrum", .rate_hz = any_rate(dice)};
  const double level_db = dice.uniform(-60, -3), noise_db = level_db - dice.uniform(10, 90),
               hz = dice.ratio(100, 15000), other_hz = hz * dice.uniform(0.4, 0.9),
               other_db = level_db - dice.uniform(3, 60);
  trial.b.assign(static_cast<std::size_t>(dice.ratio(0.5, 4) * trial.rate_hz), 0.0);
  for (std::size_t n = 0; n < trial.b.size(); ++n) {
    const double t = static_cast<double>(n) / trial.rate_hz;
    trial.b[n] = ratio(level_db) * std::sin(kTurn * std::fmod(hz * t, 1.0)) +
                 ratio(other_db) * std::sin(kTurn * std::fmod(other_hz * t, 1.0) + 1);
  }
  add_noise(trial.b, ratio(noise_db), static_cast<std::uint64_t>(dice.whole(1, 1 << 30)));
  trial.truths = {{"line_dbfs", level_db, 0.02}};
  trial.what = fmt::format("{:.0f} Hz at {:.1f} dBFS, {:.0f} Hz at {:.1f}, noise {:.0f} dBFS", hz, level_db,
                           other_hz, other_db, noise_db);
  return trial;
}

// A sweep through a curve of the fifth degree at its own rate: orders in closed form, of which those above
// half the rate fold.
Trial aliasing(Dice& dice) {
  Trial trial{.measurement = "aliasing", .rate_hz = any_rate(dice)};
  const double seconds = dice.uniform(2, 4), level = ratio(dice.uniform(-18, -3)),
               third = dice.chance(0.2) ? 0 : -dice.ratio(1e-3, 0.3),
               fifth = dice.chance(0.5) ? 0 : dice.ratio(1e-3, 0.2), gain_db = dice.uniform(-12, 3),
               noise_db = dice.uniform(-130, -70);
  const auto late = std::llround(dice.uniform(0, 4000));
  const Sound sweep = log_sweep(20, 20000, seconds, level, 0.3);
  trial.a = taken(sweep, {trial.rate_hz, std::llround((seconds + 0.8) * trial.rate_hz)});
  trial.b = moved(trial.a, late, trial.a.size() + 6000);
  for (double& v : trial.b) v = ratio(gain_db) * (v + third * v * v * v + fifth * v * v * v * v * v);
  add_noise(trial.b, ratio(noise_db), static_cast<std::uint64_t>(dice.whole(1, 1 << 30)));
  const double a2 = level * level, first = level * (1 + 0.75 * third * a2 + 0.625 * fifth * a2 * a2),
               order_3 = std::abs(level * a2 * (third / 4 + 5 * fifth * a2 / 16)),
               order_5 = std::abs(fifth * level * a2 * a2 / 16),
               // At 96 kHz order 3 folds to above 36 kHz, out of the band.
      worst = (trial.rate_hz > 90000 ? order_5 : std::max(order_3, order_5)) / first;
  trial.truths = {{"worst_alias_dbc", worst > 0 ? db(worst) : -400, 0.3}};
  trial.what = fmt::format("{:.1f} s, {:.1f} dBFS, cube {:.2g}, fifth {:.2g}, noise {:.0f} dBFS", seconds,
                           db(level), third, fifth, noise_db);
  return trial;
}

// Steps of a tone that a unit with a gain cuts off at its own full scale.
Trial clipping(Dice& dice) {
  Trial trial{.measurement = "clipping", .rate_hz = any_rate(dice)};
  const double hz = dice.ratio(300, 3000), gain_db = dice.uniform(-9, 6), limit = ratio(dice.uniform(-9, -1)),
               noise_db = dice.uniform(-120, -80);
  const auto silent = static_cast<std::size_t>(0.3 * trial.rate_hz);
  trial.a.assign(silent, 0.0);
  for (int i = 0; i < 13; ++i)
    for (std::size_t n = 0; n < static_cast<std::size_t>(0.4 * trial.rate_hz); ++n)
      trial.a.push_back(ratio(-36 + 3 * i) *
                        std::sin(kTurn * std::fmod(hz * static_cast<double>(n) / trial.rate_hz, 1.0)));
  trial.a.resize(trial.a.size() + silent, 0.0);
  for (const double v : trial.a) trial.b.push_back(std::clamp(ratio(gain_db) * v, -limit, limit));
  add_noise(trial.b, ratio(noise_db), static_cast<std::uint64_t>(dice.whole(1, 1 << 30)));
  trial.truths = {{"gain_db", gain_db, 0.02}};
  trial.what = fmt::format("{:.0f} Hz, {:+.1f} dB, limit {:.1f} dBFS, noise {:.0f} dBFS", hz, gain_db,
                           db(limit), noise_db);
  return trial;
}

// Takes of noise between silences: the level of the first, and how many there are.
Trial takes(Dice& dice) {
  Trial trial{.measurement = "takes", .rate_hz = any_rate(dice)};
  const auto count = static_cast<int>(dice.whole(2, 4));
  const double idle = ratio(dice.uniform(-110, -70)), gap_s = dice.uniform(0.8, 1.5);
  double first = 0;
  const auto pause = static_cast<std::size_t>(gap_s * trial.rate_hz);
  trial.b.assign(pause, 0.0);
  for (int i = 0; i < count; ++i) {
    Samples take(static_cast<std::size_t>(dice.uniform(1.5, 3) * trial.rate_hz), 0.0);
    add_noise(take, ratio(dice.uniform(-35, -15)), static_cast<std::uint64_t>(dice.whole(1, 1 << 30)));
    if (i == 0) first = rms_of(take);
    trial.b.insert(trial.b.end(), take.begin(), take.end());
    trial.b.resize(trial.b.size() + pause, 0.0);
  }
  add_noise(trial.b, idle, static_cast<std::uint64_t>(dice.whole(1, 1 << 30)));
  trial.truths = {{"take_count", static_cast<double>(count), 0},
                  {"rms_dbfs", db(std::hypot(first, idle)), 0.05},
                  {"gap_noise_dbfs", db(idle), 0.3}};
  trial.what = fmt::format("{} takes, pauses of {:.1f} s at {:.0f} dBFS", count, gap_s, db(idle));
  return trial;
}

// Those that take long are rarer.
Trial any_trial(Dice& dice) {
  const auto at = dice.whole(0, 99);
  if (at < 35) return harmonics(dice);
  if (at < 62) return noise(dice);
  if (at < 72) return levels(dice);
  if (at < 84) return spectrum(dice);
  if (at < 87) return pair(dice);
  if (at < 90) return copy_of_programme(dice, "latency");
  if (at < 92) return copy_of_programme(dice, "null");
  if (at < 93) return response(dice);
  if (at < 95) return waveforms(dice);
  if (at < 96) return aliasing(dice);
  if (at < 97) return clipping(dice);
  if (at < 98) return takes(dice);
  return dynamics(dice);
}

// Which truths damage leaves as they were: the rest is what the damage itself reads.
bool still_true(const Truth& truth, const std::string& measurement, Damage damage) {
  if (damage == Damage::none) return true;
  const std::string& r = truth.reading;
  if (measurement == "levels" || measurement == "pair")
    return false;  // these read the damage, as they should
  if (measurement == "noise") return damage == Damage::cut;
  // These read the level as it came.
  if (measurement == "spectrum") return damage == Damage::stored;  // silence counts in the mean
  if (measurement == "aliasing") return damage == Damage::late || damage == Damage::stored;
  if (measurement == "takes") return damage == Damage::late && r == "take_count";
  if (measurement == "dynamics" || measurement == "waveforms" || measurement == "clipping")
    return damage == Damage::late || damage == Damage::stored || damage == Damage::hum;
  if (measurement == "response") return damage == Damage::cut || damage == Damage::dropout;
  if (measurement == "harmonics") return damage != Damage::echo || r == "fundamental_hz";
  if (r == "polarity") return true;
  if (damage == Damage::late) return r == "drift_ppm" || r == "gain_db";
  if (damage == Damage::echo || damage == Damage::clipped) return r == "drift_ppm";
  return true;
}

std::pair<Trial, Damage> spoiled_trial(int index, std::uint64_t seed) {
  Dice dice(seed * 1000003 + static_cast<std::uint64_t>(index));
  Trial trial = any_trial(dice);
  const Damage damage = any_damage(dice);
  spoil(trial, damage, dice);
  return {std::move(trial), damage};
}

}  // namespace

void show_trial(int index, std::uint64_t seed) {
  const auto [trial, damage] = spoiled_trial(index, seed);
  fmt::print("{}, {:g} Hz, {}, {}\n", trial.measurement, trial.rate_hz, trial.what, name_of(damage));
  for (const Truth& truth : trial.truths) fmt::print("truth {} {:.6g}\n", truth.reading, truth.value);
  const Sheet sheet = measured_as_a_file(trial);
  for (const Finding& finding : sheet.findings)
    fmt::print("{}: {}\n", name_of(finding.severity), finding.text);
  for (const Reading& r : sheet.readings)
    if (r.value)
      fmt::print("{} {}{:.6g} ± {:.3g}\n", r.name, r.bound ? "< " : "", *r.value, r.uncertainty.value_or(0));
}

TrialCounts reading_trials(int count, std::uint64_t seed, bool table) {
  std::map<std::string, TrialCounts> by_measurement;
  for (int i = 0; i < count; ++i) {
    const auto [trial, damage] = spoiled_trial(i, seed);
    TrialCounts& counts = by_measurement[trial.measurement];
    const auto tell = [&, i, damage = damage, &trial = trial](const Truth& truth, const std::string& what) {
      fmt::print("silent error: trial {} (seed {}), {}, {}, {}: {} {}, truth {:.6g}\n", i, seed,
                 trial.measurement, trial.what, name_of(damage), truth.reading, what, truth.value);
      std::fflush(stdout);
    };
    std::optional<Sheet> sheet;
    try {
      sheet = measured_as_a_file(trial);
    } catch (const Error&) {
      ++counts.left_out;
      continue;
    }
    const bool warned = std::any_of(sheet->findings.begin(), sheet->findings.end(),
                                    [](const Finding& f) { return f.severity != Severity::note; });
    for (const Truth& truth : trial.truths) {
      if (!still_true(truth, trial.measurement, damage)) continue;
      const auto found = std::find_if(sheet->readings.begin(), sheet->readings.end(),
                                      [&](const Reading& r) { return r.name == truth.reading; });
      ++counts.readings;
      if (found == sheet->readings.end() || !found->value) {
        ++counts.left_out;
        continue;
      }
      const double value = *found->value, off = std::abs(value - truth.value);
      if (found->bound) {
        if (truth.value <= value + truth.allowed) {
          ++counts.bounds;
        } else if (warned) {
          ++counts.told;
        } else {
          ++counts.silent_errors;
          tell(truth, fmt::format("< {:.6g}", value));
        }
        continue;
      }
      // A uncertainty of nothing still has the arithmetic's.
      const double unsure = found->uncertainty
                                ? std::max(*found->uncertainty, 1e-4 * std::max(1.0, std::abs(value)))
                                : truth.allowed;
      if (off <= unsure) {
        ++counts.within;
      } else if (off <= 3 * unsure) {
        ++counts.near;
      } else if (warned) {
        ++counts.told;
      } else {
        ++counts.silent_errors;
        tell(truth, fmt::format("{:.6g} ± {:.2g}", value, unsure));
      }
    }
  }
  TrialCounts all;
  if (table)
    fmt::print(
        "| measurement | readings | within | up to 3 × | bounds kept | left out or refused | off and warned "
        "| silent "
        "errors |\n|---|---|---|---|---|---|---|---|\n");
  for (const auto& [name, c] : by_measurement) {
    if (table)
      fmt::print("| {} | {} | {} | {} | {} | {} | {} | {} |\n", name, c.readings, c.within, c.near, c.bounds,
                 c.left_out, c.told, c.silent_errors);
    all.readings += c.readings;
    all.within += c.within;
    all.near += c.near;
    all.bounds += c.bounds;
    all.left_out += c.left_out;
    all.told += c.told;
    all.silent_errors += c.silent_errors;
  }
  return all;
}

}  // namespace wavicon::trials
