// SPDX-License-Identifier: MIT
#include "trials/align_cases.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <complex>
#include <numbers>
#include <optional>

#include "measure/judged.hpp"
#include "trials/sounds.hpp"
#include "trials/table.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/intake/align.hpp"
#include "wavicon/intake/recognise.hpp"
#include "wavicon/measure/null/null.hpp"

namespace wavicon::trials {
namespace {

using Samples = std::vector<double>;

constexpr double kRates[] = {44100, 48000, 96000, 192000};

struct Named {
  std::string name;
  Sound sound;
  double seconds;
};

std::optional<Alignment> aligned(const Samples& x, const Samples& y, double rate) {
  const Audio a = audio_of(x, rate), b = audio_of(y, rate);
  MemorySource from(a), against(b);
  return align(from, against);
}

std::vector<Named> hits(std::uint64_t seed) {
  return {{"kick", kick(seed), 0.7},
          {"snare", snare(seed), 0.6},
          {"tom", tom(seed), 0.7},
          {"click", click(), 0.3},
          {"burst", burst(1000, 0.02), 0.3}};
}

std::vector<Named> all_kinds(std::uint64_t seed) {
  std::vector<Named> sounds = hits(seed);
  sounds.push_back({"log sweep", log_sweep(20, 20000, 2, 0.5, 0.3), 2.6});
  sounds.push_back({"linear sweep", linear_sweep(20, 20000, 2, 0.5, 0.3), 2.6});
  sounds.push_back({"noise", hiss(3, 0.1, seed), 3});
  sounds.push_back({"voice", voice(4, seed), 4});
  sounds.push_back({"music", music(4, seed), 4});
  sounds.push_back({"drums", drums(6, 110, seed), 6});
  return sounds;
}

void exact_copies(std::uint64_t seed, int& misses) {
  Row place("exact copies, whole frames: place", 0.0005, "samples"), drift("exact copies: drift", 0, "ppm"),
      null("exact copies: null says identical", 0, "");
  for (const double rate : kRates)
    for (const Named& one : all_kinds(seed)) {
      const Samples x = taken(one.sound, {rate, std::llround(one.seconds * rate)});
      for (const std::int64_t late : {0, 1, 1097, 40000, 400000})
        for (const double gain : {1.0, -0.1}) {
          const std::string what =
              fmt::format("{} at {:g} Hz, {} frames late, × {:g}", one.name, rate, late, gain);
          Samples y = moved(x, late, x.size() + static_cast<std::size_t>(late) + 3000);
          for (double& v : y) v *= gain;
          const auto found = aligned(x, y, rate);
          if (!found) {
            place.add_refused(what);
            continue;
          }
          place.add(found->delay_frames - static_cast<double>(late), what);
          drift.add(found->drift_ppm, what);
          if (late > 2000 || rate > 50000) continue;
          const Audio a = audio_of(x, rate), b = audio_of(y, rate);
          MemorySource from(a), against(b);
          const NullResult result = measure_null(testing::taken(from), testing::taken(against));
          null.expect(result.verdict <= NullVerdict::rounding, what + ": " + name_of(result.verdict));
        }
    }
  for (const Row* row : {&place, &drift, &null}) {
    row->print();
    misses += row->misses();
  }
}

// Frames by which a filter delays a sound: its phase delay and its group delay, each frequency down to 50 dB
// below the loudest weighing by (2πf)², what it tells of time.
std::pair<double, double> delays_of_filter(const Samples& x, const std::vector<Biquad>& filter, double rate) {
  RealTransform transform(fast_transform_length(x.size()));
  const auto bins = transform.bins_of(x);
  double highest = 0;
  for (const auto& bin : bins) highest = std::max(highest, std::norm(bin));
  const auto at = [&](double hz) {
    std::complex<double> h = 1;
    for (const Biquad& section : filter) h *= section.at(hz, rate);
    return h;
  };
  double phase = 0, group = 0, weights = 0;
  for (std::size_t k = 1; k < bins.size(); ++k) {
    const double hz = static_cast<double>(k) * rate / static_cast<double>(transform.length());
    if (hz > 0.45 * rate) break;
    const std::complex<double> h = at(hz);
    if (std::norm(bins[k] * h) < 1e-5 * highest) continue;
    const double turn = 2 * std::numbers::pi / rate, w = turn * hz;
    phase -= w * std::arg(h);
    group -= w * w * std::arg(at(hz + 0.01) / at(hz - 0.01)) / (0.02 * turn);
    weights += w * w;
  }
  return std::minmax(phase / weights, group / weights);
}

void single_hits(std::uint64_t seed, int& misses) {
  Row noisy("single hits, noise 50 dB below", 0.1, "samples"),
      filtered("single hits, 80 Hz to 8 kHz, beyond the filter's own delay ± U", 0.1, "samples"),
      hot("single hits through tanh", 0.1, "samples"),
      sure("the same: within 1.5 × the uncertainty", 1.5, "× U");
  for (const double rate : kRates)
    for (std::uint64_t i = 0; i < 6; ++i)
      for (const Named& one : hits(seed + 17 * i)) {
        const double late = 5000.37 + 0.11 * static_cast<double>(i);
        const Samples x = taken(one.sound, {rate, std::llround(one.seconds * rate)});
        const Taking how{rate, std::llround((one.seconds + 1) * rate), late};
        const Samples clean = taken(one.sound, how);
        const std::vector<Biquad> band = {low_cut(80, rate), high_cut(8000, rate)};
        for (int way = 0; way < 3; ++way) {
          Row& row = way == 0 ? noisy : way == 1 ? filtered : hot;
          Samples y = clean;
          std::pair<double, double> own{0, 0};
          if (way == 1) {
            for (const Biquad& section : band) section.run(y);
            own = delays_of_filter(x, band, rate);
          }
          if (way == 2)
            for (double& v : y) v = std::tanh(3 * v);
          add_noise(y, peak_of(clean) * (way == 0 ? 3.2e-3 : 1e-5), seed + i);
          const std::string what = fmt::format("{} {} at {:g} Hz", one.name, i, rate);
          const auto found = aligned(x, y, rate);
          if (!found) {
            row.add_refused(what);
            continue;
          }
          const double off = found->delay_frames - late, sure_to = way == 1 ? found->uncertainty_frames : 0;
          row.add(off > own.second ? std::max(0.0, off - own.second - sure_to)
                                   : std::min(0.0, off - own.first + sure_to),
                  what);
          if (way == 0) sure.add((found->delay_frames - late) / found->uncertainty_frames, what);
        }
      }
  for (const Row* row : {&noisy, &sure, &filtered, &hot}) {
    row->print();
    misses += row->misses();
  }
}

// 16 times as many values, bent, and brought back by a long windowed sinc.
Samples bent_oversampled(const Sound& sound, const Taking& how, int curve, int over) {
  const auto bend = [&](double v) {
    return curve == 0 ? std::tanh(3 * v) : curve == 1 ? std::clamp(3 * v, -0.4, 0.4) : v + 0.3 * v * v;
  };
  const Samples wide = taken(sound, {how.rate_hz * over, how.frames * over, how.delay_frames * over});
  Samples bent(wide.size());
  for (std::size_t n = 0; n < wide.size(); ++n) bent[n] = bend(wide[n]);
  if (over == 1) return bent;
  const int reach = 24 * over;
  Samples taps(static_cast<std::size_t>(2 * reach + 1));
  double all = 0;
  for (int k = -reach; k <= reach; ++k) {
    const double u = std::numbers::pi * 0.92 * k / over, w = std::numbers::pi * k / reach;
    all += taps[static_cast<std::size_t>(k + reach)] =
        (k == 0 ? 1 : std::sin(u) / u) * (0.42 + 0.5 * std::cos(w) + 0.08 * std::cos(2 * w));
  }
  Samples y(static_cast<std::size_t>(how.frames), 0.0);
  for (std::int64_t n = 0; n < how.frames; ++n)
    for (int k = -reach; k <= reach; ++k) {
      const std::int64_t at = n * over + k;
      if (at >= 0 && at < static_cast<std::int64_t>(bent.size()))
        y[static_cast<std::size_t>(n)] +=
            taps[static_cast<std::size_t>(k + reach)] / all * bent[static_cast<std::size_t>(at)];
    }
  return y;
}

void sweeps(int& misses) {
  Row place("sweeps of 2 to 30 s through curves, 1 × and 4 ×", 0.05, "samples"),
      drift("the same: drift", 0, "ppm");
  for (const double rate : kRates)
    for (const bool linear : {false, true})
      for (const double seconds : {2.0, 8.0, 30.0}) {
        if (seconds > 8 && rate > 50000) continue;
        const Sound sound =
            linear ? linear_sweep(20, 20000, seconds, 0.5, 0.5) : log_sweep(20, 20000, seconds, 0.5, 0.5);
        const Samples x = taken(sound, {rate, std::llround((seconds + 1) * rate)});
        for (int curve = 0; curve < 3; ++curve)
          for (const int over : {1, 4}) {
            if (over > 1 && (rate > 50000 || seconds > 8)) continue;
            const Samples y = bent_oversampled(
                sound, {rate, std::llround((seconds + 1.5) * rate), 777.25 + curve}, curve, over);
            const std::string what = fmt::format("{} sweep of {:g} s at {:g} Hz, curve {}, {} ×",
                                                 linear ? "linear" : "log", seconds, rate, curve, over);
            const auto found = aligned(x, y, rate);
            if (!found) {
              place.add_refused(what);
              continue;
            }
            place.add(found->delay_frames - 777.25 - curve, what);
            drift.add(found->drift_ppm, what);
          }
      }
  for (const Row* row : {&place, &drift}) {
    row->print();
    misses += row->misses();
  }
}

void programme(std::uint64_t seed, int& misses) {
  Row place("programme, noise at -80 dB, drift 0 to ±300 ppm: place in the middle", 0.001, "samples"),
      drift("the same: drift", 0.01, "ppm"), gain("the same: gain", 0.002, "dB"),
      whole("the same: no frames said to be lost", 0, "");
  for (const double rate : kRates)
    for (std::uint64_t i = 0; i < 3; ++i)
      for (const Named& one : {Named{"voice", voice(12, seed + i), 12},
                               {"music", music(12, seed + i), 12},
                               {"noise", hiss(12, 0.05, seed + i), 12},
                               {"drums", drums(12, 100, seed + i), 12}}) {
        if (rate > 100000 && i > 0) continue;
        const Samples x = taken(one.sound, {rate, std::llround(one.seconds * rate)});
        for (const double ppm : {0.0, 20.0, -150.0, 300.0, -300.0}) {
          const double late = i == 0 ? 4321.37 : i == 1 ? -1234.6 : 0.5, level = i == 1 ? -0.1 : 0.7;
          Samples y = taken(one.sound, {rate, std::llround((one.seconds + 0.3) * rate), late, ppm, level});
          add_noise(y, 1e-4 * rms_of(y), seed + 3 * i);
          const std::string what = fmt::format("{} {} at {:g} Hz, {:g} ppm", one.name, i, rate, ppm);
          const auto found = aligned(x, y, rate);
          if (!found) {
            place.add_refused(what);
            continue;
          }
          const double middle = 0.5 * static_cast<double>(found->first_frame + found->end_frame);
          place.add(found->delay_frames - late + middle * (found->frames_per_frame - 1 - ppm * 1e-6), what);
          drift.add(found->drift_ppm - ppm, what);
          whole.expect(found->slips.empty(), what);
          gain.add(20 * std::log10(found->gain / level), what);
        }
      }
  for (const Row* row : {&place, &drift, &gain, &whole}) {
    row->print();
    misses += row->misses();
  }
}

void speeds(std::uint64_t seed, int& misses) {
  Row row("other speeds named", 2e-4, "of it");
  for (const double rate : {44100.0, 48000.0, 96000.0})
    for (const Named& one : {Named{"voice", voice(8, seed), 8},
                             {"music", music(8, seed), 8},
                             {"drums", drums(8, 96, seed), 8}}) {
      const Samples x = taken(one.sound, {rate, std::llround(one.seconds * rate)});
      for (const double ratio : {44.1 / 48, 48 / 44.1, 2.0, 0.5, 1.01, 0.99, 1.0037, 0.9944}) {
        const Samples y =
            taken(one.sound, {rate, std::llround(one.seconds * ratio * rate), 700.3, 1e6 * (ratio - 1)});
        const std::string what = fmt::format("{} at {:g} Hz, {:.4f}", one.name, rate, ratio);
        const Audio a = audio_of(x, rate), b = audio_of(y, rate);
        MemorySource from(a), against(b);
        // Hits that run away from each other are told one by one, with their drift.
        if (const auto as_it_is = align(from, against)) {
          row.add(as_it_is->frames_per_frame / ratio - 1, what + ", by what drifts");
          continue;
        }
        if (const auto found = speed_between(from, against))
          row.add(*found / ratio - 1, what);
        else
          row.add_refused(what);
      }
    }
  row.print();
  misses += row.misses();
}

void slips(std::uint64_t seed, int& misses) {
  Row count("frames lost or inserted, 1 to 48 000, at one or three places: how many and where", 0, ""),
      drift("the same: drift", 0.1, "ppm");
  const double rate = 48000;
  for (const Named& one : {Named{"voice", voice(20, seed), 20},
                           {"music", music(20, seed), 20},
                           {"drums", drums(20, 104, seed), 20},
                           {"noise", hiss(20, 0.05, seed), 20}}) {
    const Samples x = taken(one.sound, {rate, std::llround(one.seconds * rate)});
    for (const std::int64_t frames : {1, 2, 7, 64, 300, 5000, 48000})
      for (const int sign : {-1, 1})
        for (const int places : {1, 3}) {
          Samples y;
          std::size_t from = 0;
          std::vector<std::size_t> at = {240007};
          if (places == 3) at = {240007, 500003, 750011};
          for (const std::size_t place : at) {
            y.insert(y.end(), x.begin() + static_cast<std::ptrdiff_t>(from),
                     x.begin() + static_cast<std::ptrdiff_t>(place));
            from = place;
            if (sign < 0)
              from += static_cast<std::size_t>(frames);
            else
              y.insert(y.end(), x.begin() + 30000, x.begin() + 30000 + frames);
          }
          y.insert(y.end(), x.begin() + static_cast<std::ptrdiff_t>(from), x.end());
          const std::string what = fmt::format("{}, {} × {}", one.name, sign * frames, places);
          const auto found = aligned(x, y, rate);
          if (!found) {
            count.add_refused(what);
            continue;
          }
          std::string seen;
          bool right = found->slips.size() == at.size();
          for (std::size_t i = 0; i < found->slips.size(); ++i) {
            const Slip& slip = found->slips[i];
            seen += fmt::format(" {} at {}…{}", slip.frames, slip.after_frame, slip.before_frame);
            if (!right) continue;
            const auto place = static_cast<std::int64_t>(at[i]);
            right = right && slip.frames == sign * frames && slip.after_frame <= place + 96 &&
                    slip.before_frame >= place + (sign < 0 ? frames : 0) - 96;
          }
          count.expect(right, what + ":" + seen);
          drift.add(found->drift_ppm, what);
        }
  }
  for (const Row* row : {&count, &drift}) {
    row->print();
    misses += row->misses();
  }
}

void blocks(int& misses) {
  Row edges("blocks of tone with edges of 0 to 50 ms: edges", 1, "periods"),
      level("the same: level", 0.01, "dB"), hz("the same: frequency", 1, "ppm"),
      found_all("the same: all found, and certain", 0, "");
  for (const double rate : kRates)
    for (const double tone_hz : {50.0, 200.0, 997.0, 5000.0, 15000.0})
      for (const double fade : {0.0, 0.002, 0.01, 0.05}) {
        std::vector<Sound> sounds;
        std::vector<double> begins, levels;
        for (int i = 0; i < 6; ++i) {
          begins.push_back(0.21 + 1.1 * i);
          levels.push_back(std::pow(10.0, (-36.0 + 6 * i) / 20));
          sounds.push_back(tone(tone_hz, levels.back(), begins.back(), begins.back() + 0.8, fade, 0.1 * i));
        }
        Samples x = taken(sum(sounds), {rate, std::llround(7 * rate)});
        add_noise(x, 1e-5, 3);
        const Audio audio = audio_of(x, rate);
        MemorySource source(audio);
        const Recognition recognition = recognise(source);
        const std::string what =
            fmt::format("{:g} Hz at {:g} Hz, edges of {:g} ms", tone_hz, rate, 1000 * fade);
        struct Seen {
          double first, end, level_dbfs, hz;
        };
        std::vector<Seen> seen;
        bool certain = !recognition.parts.empty();
        for (const RecognisedPart& part : recognition.parts) {
          if (part.kind == "silence") continue;
          certain = certain && part.certain;
          if (!part.written) continue;
          const double first = static_cast<double>(part.first_frame) / rate;
          if (const auto* steady = std::get_if<Tone>(&*part.written))
            seen.push_back({first, first + static_cast<double>(part.frames) / rate, part.level_dbfs,
                            steady->frequency_hz});
          // Steps of one tone are one part; they are given without their edges.
          if (const auto* steps = std::get_if<Staircase>(&*part.written))
            for (const StaircaseStep& step : staircase_steps(*steps, rate)) {
              const double at = first + static_cast<double>(step.first_frame) / rate - steps->edge_s,
                           end = at + static_cast<double>(step.frames) / rate + 2 * steps->edge_s;
              seen.push_back({at, end, step.level_dbfs, step.frequency_hz});
            }
        }
        found_all.expect(certain && seen.size() == 6,
                         fmt::format("{}: {} parts, {} tones", what, recognition.parts.size(), seen.size()));
        if (seen.size() != 6) continue;
        for (std::size_t i = 0; i < 6; ++i) {
          const double period = std::max(1 / tone_hz, 2 / rate);
          edges.add((seen[i].first - begins[i]) / period, what);
          edges.add((seen[i].end - begins[i] - 0.8) / period, what);
          level.add(seen[i].level_dbfs - 20 * std::log10(levels[i]), what);
          hz.add(1e6 * (seen[i].hz / tone_hz - 1), what);
        }
      }
  for (const Row* row : {&found_all, &edges, &level, &hz}) {
    row->print();
    misses += row->misses();
  }
}

}  // namespace

int align_cases(std::uint64_t seed, std::string_view only) {
  int misses = 0;
  Row::print_head();
  const auto wanted = [&](std::string_view name) { return only.empty() || only == name; };
  if (wanted("copies")) exact_copies(seed, misses);
  if (wanted("hits")) single_hits(seed, misses);
  if (wanted("sweeps")) sweeps(misses);
  if (wanted("programme")) programme(seed, misses);
  if (wanted("speeds")) speeds(seed, misses);
  if (wanted("slips")) slips(seed, misses);
  if (wanted("blocks")) blocks(misses);
  return misses;
}

namespace {

constexpr double kPairRate = 24000, kLongestS = 60;
constexpr int kKinds = 8;
constexpr const char* kKindNames[kKinds] = {"voice",  "music", "drums", "row of hits",
                                            "blocks", "noise", "pad",   "sweeps"};

Sound sound_of(int kind, std::uint64_t own) {
  Dice of(own);
  std::vector<Sound> sounds;
  switch (kind) {
    case 0:
      return voice(kLongestS, own);
    case 1:
      return music(kLongestS, own);
    case 2:
      return drums(kLongestS, 90 + 10 * static_cast<double>(of.whole(0, 5)), own);
    case 3:
      for (double at = of.uniform(0, 0.5); at + 0.6 < kLongestS; at += of.uniform(0.4, 1))
        sounds.push_back(shifted(of.chance(0.5) ? snare(own) : tom(own), at));
      return sum(std::move(sounds));
    case 4: {
      const double hz = of.ratio(80, 6000), length = of.uniform(0.15, 0.6), pause = of.uniform(0.05, 0.4);
      double level = 0.01;
      for (double at = of.uniform(0.05, 0.5); at + length < kLongestS; at += length + pause, level *= 1.12) {
        if (level > 0.8) level = 0.01;
        sounds.push_back(tone(hz, level, at, at + length, of.uniform(0, 0.02)));
      }
      return sum(std::move(sounds));
    }
    case 5:
      return hiss(kLongestS, 0.1, own);
    case 6:
      return pad(kLongestS, own);
    default:
      for (double at = of.uniform(0, 1); at < kLongestS;) {
        const double from = of.uniform(15, 60), to = of.uniform(6000, 11000), length = of.ratio(1, 20);
        sounds.push_back(of.chance(0.5) ? log_sweep(from, to, length, 0.4, at)
                                        : linear_sweep(from, to, length, 0.4, at));
        at += length + of.uniform(0.3, 1);
      }
      return sum(std::move(sounds));
  }
}

}  // namespace

int unrelated_pairs(int count, std::uint64_t seed) {
  Dice dice(seed);
  // A pool: making them takes longer than lining them up.
  const int of_each = std::clamp(count / 100, 2, 10);
  std::vector<Samples> pool;
  for (int i = 0; i < kKinds * of_each; ++i)
    pool.push_back(
        taken(sound_of(i / of_each, static_cast<std::uint64_t>(dice.whole(1, std::int64_t{1} << 40))),
              {kPairRate, std::llround(kLongestS * kPairRate)}));
  const auto cut = [&](int one, double& seconds) {
    seconds = dice.ratio(1, kLongestS);
    const auto length = std::llround(seconds * kPairRate);
    const auto first = pool[static_cast<std::size_t>(one)].begin() +
                       dice.whole(0, std::llround(kLongestS * kPairRate) - length);
    return Samples(first, first + length);
  };
  int accepted = 0, alike = 0;
  for (int i = 0; i < count; ++i) {
    const auto kind = static_cast<int>(dice.whole(0, kKinds - 1));
    const auto other = dice.chance(0.6) ? kind : static_cast<int>(dice.whole(0, kKinds - 1));
    const auto one = static_cast<int>(dice.whole(0, of_each - 1));
    auto two = static_cast<int>(dice.whole(0, of_each - 1));
    if (kind == other && one == two) two = (two + 1) % of_each;
    double a_s = 0, b_s = 0;
    const Samples x = cut(kind * of_each + one, a_s), y = cut(other * of_each + two, b_s);
    alike += kind == other;
    // Scraps in which nothing sounds.
    if (rms_of(x) == 0 || rms_of(y) == 0) continue;
    if (const auto found = aligned(x, y, kPairRate)) {
      ++accepted;
      fmt::print(
          "lined up: pair {}, {} {} of {:.1f} s and {} {} of {:.1f} s: height {:.1f}, {} of {}, match "
          "{:.3f}{}{}\n",
          i, kKindNames[kind], one, a_s, kKindNames[other], two, b_s, found->confidence, found->agreed,
          found->looked, found->match, found->by_residual ? ", by residual" : "",
          found->by_hits ? ", by hits" : "");
    }
    if (i % 250 == 249) {
      fmt::print("{} pairs, {} of one kind: {} lined up\n", i + 1, alike, accepted);
      std::fflush(stdout);
    }
  }
  fmt::print("{} pairs, {} of one kind: {} lined up\n", count, alike, accepted);
  return accepted;
}

}  // namespace wavicon::trials
