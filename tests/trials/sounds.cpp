// SPDX-License-Identifier: MIT
#include "trials/sounds.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <complex>
#include <memory>
#include <numbers>

namespace wavicon::trials {
namespace {

constexpr double kTurn = 2 * std::numbers::pi;

// Sine of 2π·turns: that of the nearest of 1024 turns of a table, turned on by a short series; rounding only.
// Trials spend most of their time in their own sounds.
class Sines {
 public:
  Sines() {
    for (std::size_t i = 0; i < table_.size(); ++i) {
      const double x = kTurn / kSteps * (static_cast<double>(i) - (i > kSteps / 2 ? kSteps : 0));
      table_[i] = {std::cos(x), std::sin(x)};
    }
  }
  [[nodiscard]] double at(double turns) const {
    constexpr double kToWhole = 0x1.8p52;  // added and taken off: rounded to a whole number
    const double steps = kSteps * turns, nearest = (steps + kToWhole) - kToWhole;
    const double x = (steps - nearest) * (kTurn / kSteps), y = x * x;
    const auto& [cosine, sine] =
        table_[static_cast<std::size_t>(static_cast<std::int64_t>(nearest)) % kSteps];
    const double sine_of_rest = x - x * y * (1.0 / 6 - y / 120), less_than_one = y * (0.5 - y / 24);
    return sine + (cosine * sine_of_rest - sine * less_than_one);
  }

 private:
  static constexpr std::size_t kSteps = 1024;
  std::array<std::pair<double, double>, kSteps> table_{};
};

double sine_of_turns(double turns) {
  static const Sines made;
  return made.at(turns);
}

// A note: from when on, for how long it is heard, and what it is at a time after its beginning.
struct Note {
  double from_s = 0, length_s = 0;
  Sound sound;
};

// Notes in order of time.
Sound played(std::vector<Note> notes, double seconds) {
  std::sort(notes.begin(), notes.end(), [](const Note& p, const Note& q) { return p.from_s < q.from_s; });
  double longest = 0;
  for (const Note& note : notes) longest = std::max(longest, note.length_s);
  const auto shared = std::make_shared<std::vector<Note>>(std::move(notes));
  return [shared, longest, seconds](double t) {
    if (t < 0 || t > seconds) return 0.0;
    auto note = std::lower_bound(shared->begin(), shared->end(), t - longest,
                                 [](const Note& one, double at) { return one.from_s < at; });
    double sum = 0;
    for (; note != shared->end() && note->from_s <= t; ++note)
      if (t - note->from_s < note->length_s) sum += note->sound(t - note->from_s);
    return sum;
  };
}

// 0 … 1 over a time, smooth at both ends.
double rise(double t, double over_s) {
  return t <= 0 ? 0 : t >= over_s ? 1 : 0.5 - 0.5 * std::cos(std::numbers::pi * t / over_s);
}

// Noise up to about 16 kHz: independent values 40 000 times a second, joined by a windowed sinc.
class Grain {
 public:
  Grain() : table_(static_cast<std::size_t>(2 * kReach * kFine + 2)) {
    for (std::size_t i = 0; i < table_.size(); ++i) {
      const double u = static_cast<double>(i) / kFine - kReach, w = (u / kReach + 1) * std::numbers::pi;
      const double window =
          0.35875 - 0.48829 * std::cos(w) + 0.14128 * std::cos(2 * w) - 0.01168 * std::cos(3 * w);
      const double x = 0.8 * std::numbers::pi * u;
      table_[i] = std::abs(u) >= kReach ? 0 : window * (std::abs(x) < 1e-9 ? 1 : std::sin(x) / x);
    }
  }
  [[nodiscard]] double at(double t, std::uint64_t seed) const {
    const double place = t * kRateHz;
    const auto middle = static_cast<std::int64_t>(std::floor(place));
    double sum = 0;
    for (std::int64_t k = middle - kReach + 1; k <= middle + kReach; ++k) {
      const double u = (place - static_cast<double>(k) + kReach) * kFine;
      const auto i = static_cast<std::size_t>(u);
      const double part = u - static_cast<double>(i);
      sum += value(seed, k) * (table_[i] + part * (table_[i + 1] - table_[i]));
    }
    return sum;
  }

 private:
  static constexpr std::int64_t kReach = 16;
  static constexpr double kFine = 2048, kRateHz = 40000;
  // About gaussian, of variance 1: the sum of four even values.
  static double value(std::uint64_t seed, std::int64_t k) {
    std::uint64_t z = seed * 0xD1342543DE82EF95ULL + static_cast<std::uint64_t>(k) * 0x9E3779B97F4A7C15ULL;
    double sum = 0;
    for (int i = 0; i < 4; ++i) {
      z += 0x9E3779B97F4A7C15ULL;
      std::uint64_t v = (z ^ (z >> 30)) * 0xBF58476D1CE4E5B9ULL;
      v = (v ^ (v >> 27)) * 0x94D049BB133111EBULL;
      sum += static_cast<double>((v ^ (v >> 31)) >> 11) * 0x1p-53;
    }
    return (sum - 2) * std::sqrt(3.0);
  }
  std::vector<double> table_;
};

double grain(double t, std::uint64_t seed) {
  static const Grain made;
  return made.at(t, seed);
}

}  // namespace

double Dice::ratio(double from, double to) { return from * std::pow(to / from, uniform(0, 1)); }

double Dice::gaussian() {
  const double u = 1 - uniform(0, 1), v = uniform(0, 1);
  return std::sqrt(-2 * std::log(u)) * std::cos(kTurn * v);
}

// Syllables of a gliding pitch with two formants, and bursts of noise between them.
Sound voice(double seconds, std::uint64_t seed) {
  Dice dice(seed);
  std::vector<Note> notes;
  const double base = dice.uniform(95, 210);
  for (double at = dice.uniform(0.02, 0.3); at < seconds;) {
    const double length = dice.uniform(0.09, 0.32), level = dice.uniform(0.04, 0.14);
    const double pitch = base * dice.uniform(0.85, 1.25), glide = dice.uniform(-60, 60);
    const double first = dice.uniform(300, 800), second = dice.uniform(900, 2500);
    std::vector<std::pair<double, double>> partials;  // amplitude, turn
    for (int k = 1; k * (pitch + std::abs(glide)) < 5000; ++k) {
      const double hz = k * pitch;
      const double shape =
          1 / (1 + std::pow((hz - first) / 150, 2)) + 0.5 / (1 + std::pow((hz - second) / 250, 2));
      partials.emplace_back(level * (shape + 0.02), dice.uniform(0, 1));
    }
    notes.push_back({at, length, [=](double t) {
                       const double phase = pitch * t + 0.5 * glide * t * t;
                       double sum = 0, k = 0;
                       for (const auto& [amplitude, turn] : partials)
                         sum += amplitude * sine_of_turns(++k * phase + turn);
                       return sum * rise(t, 0.02) * rise(length - t, 0.04);
                     }});
    at += length * dice.uniform(0.7, 1.1);
    if (dice.chance(0.4)) {
      const double noisy = dice.uniform(0.04, 0.12), hz = dice.uniform(3000, 7000);
      const auto own = static_cast<std::uint64_t>(dice.whole(1, 1 << 30));
      notes.push_back({at, noisy, [=](double t) {
                         return 0.05 * grain(t / 4, own) * sine_of_turns(hz * t) * rise(t, 0.015) *
                                rise(noisy - t, 0.02);
                       }});
      at += noisy;
    }
    if (dice.chance(0.12)) at += dice.uniform(0.1, 0.5);
  }
  return played(std::move(notes), seconds);
}

// Struck strings in chords.
Sound music(double seconds, std::uint64_t seed) {
  Dice dice(seed);
  std::vector<Note> notes;
  const double beat = dice.uniform(0.2, 0.4);
  for (double at = 0.05; at < seconds; at += beat * static_cast<double>(dice.whole(1, 3)) / 2)
    for (std::int64_t i = dice.whole(1, 3); i > 0; --i) {
      const double hz = 110 * std::exp2(static_cast<double>(dice.whole(0, 36)) / 12);
      const double level = dice.uniform(0.02, 0.1), decay = dice.uniform(1.5, 5);
      struct Partial {
        double level, decay, hz, turn;
      };
      std::vector<Partial> partials;
      for (int k = 1; k <= 7 && k * hz < 16000; ++k)
        partials.push_back(
            {level / k, decay * std::sqrt(k), k * hz * std::sqrt(1 + 2e-4 * k * k), dice.uniform(0, 1)});
      notes.push_back({at + 0.01 * dice.uniform(0, 1), 2, [=](double t) {
                         double sum = 0;
                         for (const Partial& p : partials)
                           sum += p.level * std::exp(-p.decay * t) * sine_of_turns(p.hz * t + p.turn);
                         return sum * rise(t, 0.004) * rise(2 - t, 0.3);
                       }});
    }
  return played(std::move(notes), seconds);
}

// Chords that swell and go on for seconds.
Sound pad(double seconds, std::uint64_t seed) {
  Dice dice(seed);
  std::vector<Note> notes;
  for (double at = 0; at < seconds; at += dice.uniform(1, 2.5))
    for (int i = 0; i < 4; ++i) {
      const double hz = 110 * std::exp2(static_cast<double>(dice.whole(0, 30)) / 12),
                   slow = dice.uniform(0.2, 1);
      const double turn = dice.uniform(0, 1), level = dice.uniform(0.03, 0.08);
      notes.push_back({at, 4, [=](double t) {
                         double sum = 0;
                         for (int k = 1; k <= 4; ++k)
                           sum += level / (k * k) * sine_of_turns(k * hz * t + turn * k) *
                                  (1 + 0.3 * sine_of_turns(slow * k * t));
                         return sum * rise(t, 1.2) * rise(4 - t, 1.5);
                       }});
    }
  return played(std::move(notes), seconds);
}

Sound hiss(double seconds, double rms, std::uint64_t seed) {
  return [=](double t) { return t < 0 || t > seconds ? 0 : rms * grain(t, seed); };
}

Sound drums(double seconds, double beats_per_minute, std::uint64_t seed) {
  Dice dice(seed);
  const Sound low = kick(seed), high = snare(seed + 1);
  std::vector<Note> notes;
  const double beat = 60 / beats_per_minute;
  for (int i = 0; (i + 1) * beat / 2 < seconds; ++i) {
    const double level = dice.uniform(0.5, 1);
    if (i % 4 == 2 || dice.chance(0.1))
      notes.push_back({i * beat / 2, 0.6, [=](double t) { return level * high(t); }});
    if (i % 4 == 0 || dice.chance(0.25))
      notes.push_back({i * beat / 2, 0.6, [=](double t) { return level * low(t); }});
  }
  return played(std::move(notes), seconds);
}

Sound log_sweep(double from_hz, double to_hz, double seconds, double level, double at_s) {
  const double growth = std::log(to_hz / from_hz) / seconds;
  return [=](double time) {
    const double t = time - at_s;
    if (t < 0 || t > seconds) return 0.0;
    return level * rise(t, 0.02) * rise(seconds - t, 0.005) *
           std::sin(kTurn * from_hz / growth * (std::exp(growth * t) - 1));
  };
}

Sound linear_sweep(double from_hz, double to_hz, double seconds, double level, double at_s) {
  return [=](double time) {
    const double t = time - at_s;
    if (t < 0 || t > seconds) return 0.0;
    return level * rise(t, 0.02) * rise(seconds - t, 0.005) *
           std::sin(kTurn * (from_hz * t + 0.5 * (to_hz - from_hz) / seconds * t * t));
  };
}

Sound tone(double hz, double level, double from_s, double to_s, double fade_s, double turn) {
  return [=](double t) {
    if (t < from_s || t > to_s) return 0.0;
    const double edge = fade_s > 0 ? rise(t - from_s, fade_s) * rise(to_s - t, fade_s) : 1;
    return level * edge * std::sin(kTurn * (hz * (t - from_s) + turn));
  };
}

Sound kick(std::uint64_t seed) {
  Dice dice(seed);
  const double hz = dice.uniform(42, 62), fall = dice.uniform(20, 45), more = dice.uniform(60, 160),
               decay = dice.uniform(9, 16), beater = dice.uniform(0.03, 0.15);
  return [=](double time) {
    const double t = time - 0.05;
    if (t < 0 || t > 0.5) return 0.0;
    const double phase = hz * t + more / fall * (1 - std::exp(-fall * t));
    return rise(t, 0.001) * rise(0.5 - t, 0.1) *
           (0.5 * std::exp(-decay * t) * std::sin(kTurn * phase) +
            beater * std::exp(-250 * t) * std::sin(kTurn * 2400 * t));
  };
}

Sound snare(std::uint64_t seed) {
  Dice dice(seed);
  const double hz = dice.uniform(160, 240), decay = dice.uniform(14, 24), wires = dice.uniform(0.06, 0.14);
  return [=](double time) {
    const double t = time - 0.05;
    if (t < 0 || t > 0.45) return 0.0;
    return rise(t, 0.0006) * rise(0.45 - t, 0.1) *
           (0.2 * std::exp(-decay * 1.3 * t) * std::sin(kTurn * hz * t) +
            wires * std::exp(-decay * t) * grain(t, seed));
  };
}

Sound tom(std::uint64_t seed) {
  Dice dice(seed);
  const double hz = dice.uniform(80, 160), decay = dice.uniform(6, 11);
  return [=](double time) {
    const double t = time - 0.05;
    if (t < 0 || t > 0.5) return 0.0;
    return rise(t, 0.001) * rise(0.5 - t, 0.15) * 0.4 * std::exp(-decay * t) *
           (std::sin(kTurn * (hz * t + 0.6 * (1 - std::exp(-40 * t)))) +
            0.4 * std::sin(kTurn * 1.59 * hz * t) + 0.2 * std::exp(-60 * t) * std::sin(kTurn * 6.3 * hz * t));
  };
}

// Half a millisecond, with a pulse of its own shape.
Sound click() {
  return [](double time) {
    const double t = (time - 0.05) / 6e-5;
    return std::abs(t) > 9 ? 0.0 : 0.5 * (1 - 0.6 * t) * std::exp(-0.5 * t * t);
  };
}

Sound burst(double hz, double seconds) { return tone(hz, 0.4, 0.05, 0.05 + seconds, 0.45 * seconds); }

Sound sum(std::vector<Sound> sounds) {
  return [all = std::move(sounds)](double t) {
    double value = 0;
    for (const Sound& one : all) value += one(t);
    return value;
  };
}

Sound shifted(Sound sound, double late_s) {
  return [own = std::move(sound), late_s](double t) { return own(t - late_s); };
}

std::vector<double> taken(const Sound& sound, const Taking& how) {
  std::vector<double> x(static_cast<std::size_t>(how.frames));
  const double step = 1 / (how.rate_hz * (1 + how.drift_ppm * 1e-6));
  for (std::size_t n = 0; n < x.size(); ++n)
    x[n] = how.gain * sound((static_cast<double>(n) - how.delay_frames) * step);
  return x;
}

std::vector<double> moved(const std::vector<double>& x, std::int64_t late, std::size_t length) {
  std::vector<double> y(length, 0.0);
  for (std::size_t n = 0; n < x.size(); ++n) {
    const std::int64_t at = static_cast<std::int64_t>(n) + late;
    if (at >= 0 && at < static_cast<std::int64_t>(length)) y[static_cast<std::size_t>(at)] = x[n];
  }
  return y;
}

void add_noise(std::vector<double>& x, double rms, std::uint64_t seed) {
  Dice dice(seed);
  for (double& v : x) v += rms * dice.gaussian();
}

double rms_of(const std::vector<double>& x) {
  double squares = 0;
  for (const double v : x) squares += v * v;
  return x.empty() ? 0 : std::sqrt(squares / static_cast<double>(x.size()));
}

double peak_of(const std::vector<double>& x) {
  double peak = 0;
  for (const double v : x) peak = std::max(peak, std::abs(v));
  return peak;
}

Audio audio_of(const std::vector<double>& x, double rate_hz) {
  Audio audio(rate_hz, 1, static_cast<std::int64_t>(x.size()));
  std::copy(x.begin(), x.end(), audio.channel(0).begin());
  return audio;
}

void Biquad::run(std::vector<double>& x) const {
  double x1 = 0, x2 = 0, y1 = 0, y2 = 0;
  for (double& v : x) {
    const double y = b0 * v + b1 * x1 + b2 * x2 - a1 * y1 - a2 * y2;
    x2 = x1;
    x1 = v;
    y2 = y1;
    y1 = y;
    v = y;
  }
}

std::complex<double> Biquad::at(double hz, double rate_hz) const {
  const auto z = std::polar(1.0, -kTurn * hz / rate_hz);
  return (b0 + z * (b1 + z * b2)) / (1.0 + z * (a1 + z * a2));
}

double Biquad::gain_at(double hz, double rate_hz) const { return std::abs(at(hz, rate_hz)); }

Biquad low_cut(double hz, double rate_hz) {
  const double w = kTurn * hz / rate_hz, c = std::cos(w), s = std::sin(w) / std::numbers::sqrt2, n = 1 + s;
  return {(1 + c) / 2 / n, -(1 + c) / n, (1 + c) / 2 / n, -2 * c / n, (1 - s) / n};
}

Biquad high_cut(double hz, double rate_hz) {
  const double w = kTurn * hz / rate_hz, c = std::cos(w), s = std::sin(w) / std::numbers::sqrt2, n = 1 + s;
  return {(1 - c) / 2 / n, (1 - c) / n, (1 - c) / 2 / n, -2 * c / n, (1 - s) / n};
}

}  // namespace wavicon::trials
