// SPDX-License-Identifier: MIT
#include "renderers.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>
#include <vector>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon::stimulus_detail {

std::int64_t frames_of(double seconds, double sample_rate_hz) {
  return std::llround(seconds * sample_rate_hz);
}

double fade_gain(std::int64_t frame, std::int64_t length) {
  if (frame >= length) return 1.0;
  const double half_cycles = 0.5 * (static_cast<double>(frame) + 0.5) / static_cast<double>(length);
  return 0.5 - 0.5 * cosine(phase_from_cycles(half_cycles));
}

namespace {

// Level that changes linearly in dB.
class LevelRamp {
 public:
  LevelRamp(double from_db, double to_db, double frames)
      : start_(ratio_from_db(from_db)), per_frame_((to_db - from_db) * std::numbers::ln10 / 20.0 / frames) {}
  [[nodiscard]] double at(std::int64_t frame) const {
    return per_frame_ == 0 ? start_ : start_ * exponential(per_frame_ * static_cast<double>(frame));
  }

 private:
  double start_;
  double per_frame_;
};

class Fades {
 public:
  Fades(double in_s, double out_s, double sample_rate_hz, std::int64_t frames)
      : in_(frames_of(in_s, sample_rate_hz)), out_(frames_of(out_s, sample_rate_hz)), frames_(frames) {}
  [[nodiscard]] double at(std::int64_t frame) const {
    return fade_gain(frame, in_) * fade_gain(frames_ - 1 - frame, out_);
  }

 private:
  std::int64_t in_, out_, frames_;
};

// Calls take(first, samples) for rows that stay in the first cache.
template <typename Take>
void in_rows(std::int64_t first, std::span<double> out, const Take& take) {
  constexpr std::size_t kRow = 1024;
  for (std::size_t at = 0; at < out.size(); at += kRow)
    take(first + static_cast<std::int64_t>(at), out.subspan(at, std::min(kRow, out.size() - at)));
}

// Parts whose samples are a function of the frame alone, the same on every channel: a row of them is written
// by `row(first, out)`.
template <typename Row>
class RowRenderer : public Renderer {
 public:
  RowRenderer(std::int64_t frames, Row row) : frames_(frames), row_(std::move(row)) {}
  std::int64_t frames() const override { return frames_; }
  void add(std::int64_t first, int, double gain, std::span<double> out) override {
    in_rows(first, out, [&](std::int64_t at, std::span<double> part) {
      row_held_.resize(part.size());
      row_(at, std::span<double>(row_held_));
      for (std::size_t i = 0; i < part.size(); ++i) part[i] += gain * row_held_[i];
    });
  }

 private:
  std::int64_t frames_;
  Row row_;
  std::vector<double> row_held_;
};

template <typename Row>
std::unique_ptr<Renderer> row_renderer(std::int64_t frames, Row row) {
  return std::make_unique<RowRenderer<Row>>(frames, std::move(row));
}

// The same by a function of one frame.
template <typename Signal>
std::unique_ptr<Renderer> function_renderer(std::int64_t frames, Signal signal) {
  return row_renderer(frames, [signal = std::move(signal)](std::int64_t first, std::span<double> out) {
    for (std::size_t i = 0; i < out.size(); ++i) out[i] = signal(first + static_cast<std::int64_t>(i));
  });
}

struct Sine {
  Phase origin;
  Phase step;
  double amplitude;
  Sine(double hz, double phase_deg, double level_dbfs, double rate)
      : origin(phase_from_cycles(phase_deg / 360.0)),
        step(phase_step(hz, rate)),
        amplitude(ratio_from_db(level_dbfs)) {}
  double operator()(std::int64_t n) const { return amplitude * sine(origin + step * static_cast<Phase>(n)); }
  /// The same of a row of frames.
  void write(std::int64_t first, std::span<double> out) const {
    steady_sines(origin + step * static_cast<Phase>(first), step, out);
    for (double& x : out) x *= amplitude;
  }
};

std::unique_ptr<Renderer> make(const Tone& p, double rate) {
  const std::int64_t frames = frames_of(p.seconds, rate);
  const Fades fades(p.fade_in_s, p.fade_out_s, rate, frames);
  const Sine wave(p.frequency_hz, p.phase_deg, p.level_dbfs + p.clip_db, rate);
  const double most = p.clip_db > 0 ? ratio_from_db(p.level_dbfs) : 2 * wave.amplitude;
  return row_renderer(frames, [=](std::int64_t first, std::span<double> out) {
    wave.write(first, out);
    for (std::size_t i = 0; i < out.size(); ++i)
      out[i] = fades.at(first + static_cast<std::int64_t>(i)) * std::clamp(out[i], -most, most);
  });
}

// One sine of a multitone, silent before its delay.
struct GlidingSine {
  std::int64_t delay;
  Phase origin;
  GlidingPhase phase;
  LevelRamp level;
  /// @param phases, wave  scratch of the row's length.
  void add(std::int64_t first, std::span<double> out, std::span<Phase> phases, std::span<double> wave) const {
    const auto silent = static_cast<std::size_t>(
        std::clamp<std::int64_t>(delay - first, 0, static_cast<std::int64_t>(out.size())));
    out = out.subspan(silent);
    if (out.empty()) return;
    const std::int64_t since = first + static_cast<std::int64_t>(silent) - delay;
    phases = phases.first(out.size());
    phase.fill(static_cast<std::uint64_t>(since), phases);
    for (Phase& p : phases) p += origin;
    sines(phases, wave);
    for (std::size_t i = 0; i < out.size(); ++i)
      out[i] += level.at(since + static_cast<std::int64_t>(i)) * wave[i];
  }
};

class MultitoneRenderer : public Renderer {
 public:
  MultitoneRenderer(const Multitone& p, double rate)
      : frames_(frames_of(p.seconds, rate)), fades_(p.fade_in_s, p.fade_out_s, rate, frames_) {
    for (const Oscillator& o : p.oscillators) {
      const std::int64_t delay = frames_of(o.delay_s, rate);
      const double length = std::max(1.0, static_cast<double>(frames_ - delay));
      sines_.push_back({delay,
                        phase_from_cycles(o.phase_deg / 360.0),
                        {o.frequency_hz, o.to_hz.value_or(o.frequency_hz), length, rate},
                        {o.level_dbfs, o.to_dbfs.value_or(o.level_dbfs), length}});
    }
  }
  std::int64_t frames() const override { return frames_; }
  void add(std::int64_t first, int, double gain, std::span<double> out) override {
    in_rows(first, out, [&](std::int64_t at, std::span<double> part) {
      phases_.resize(part.size());
      wave_.resize(part.size());
      sum_.assign(part.size(), 0.0);
      for (const GlidingSine& sine : sines_) sine.add(at, sum_, phases_, wave_);
      for (std::size_t i = 0; i < part.size(); ++i)
        part[i] += gain * fades_.at(at + static_cast<std::int64_t>(i)) * sum_[i];
    });
  }

 private:
  std::int64_t frames_;
  Fades fades_;
  std::vector<GlidingSine> sines_;
  std::vector<Phase> phases_;
  std::vector<double> wave_, sum_;
};

std::unique_ptr<Renderer> make(const TwoTone& asked, double rate) {
  const TwoTone p = resolved(asked);
  const std::int64_t frames = frames_of(p.seconds, rate);
  const Fades fades(p.fade_in_s, p.fade_out_s, rate, frames);
  const double peak = ratio_from_db(p.level_dbfs);
  Sine lower(p.lower_hz, 0, 0, rate), upper(p.upper_hz, 0, 0, rate);
  lower.amplitude = peak * p.ratio / (1 + p.ratio);
  upper.amplitude = peak / (1 + p.ratio);
  return row_renderer(frames,
                      [=, other = std::vector<double>()](std::int64_t first, std::span<double> out) mutable {
                        other.resize(out.size());
                        lower.write(first, out);
                        upper.write(first, other);
                        for (std::size_t i = 0; i < out.size(); ++i)
                          out[i] = fades.at(first + static_cast<std::int64_t>(i)) * (out[i] + other[i]);
                      });
}

// A carrier of one burst, gated again and again.
class BurstRenderer : public Renderer {
 public:
  BurstRenderer(const Burst& p, double rate, int channel_count)
      : on_(frames_of(p.on_s, rate)),
        period_(on_ + frames_of(p.gap * p.on_s, rate)),
        count_(p.count),
        edge_(frames_of(p.edge_s, rate)) {
    const double seconds = static_cast<double>(on_) / rate;
    auto bare = [&](auto kind) {
      kind.seconds = seconds;
      kind.fade_in_s = kind.fade_out_s = 0;
      return make_renderer(kind, rate, channel_count);
    };
    carrier_ = std::visit(bare, p.carrier);
  }
  std::int64_t frames() const override { return period_ * count_; }
  void add(std::int64_t first, int channel, double gain, std::span<double> out) override {
    const std::int64_t end = first + static_cast<std::int64_t>(out.size());
    for (std::int64_t burst = first / period_; burst * period_ < end; ++burst) {
      const std::int64_t start = burst * period_, from = std::max(first, start),
                         to = std::min({end, start + on_, start + carrier_->frames()});
      if (to <= from) continue;
      scratch_.assign(static_cast<std::size_t>(to - from), 0.0);
      carrier_->add(from - start, channel, gain, scratch_);
      for (std::int64_t n = from; n < to; ++n)
        out[static_cast<std::size_t>(n - first)] += scratch_[static_cast<std::size_t>(n - from)] *
                                                    fade_gain(n - start, edge_) *
                                                    fade_gain(on_ - 1 - (n - start), edge_);
    }
  }

 private:
  std::int64_t on_, period_, count_, edge_;
  std::unique_ptr<Renderer> carrier_;
  std::vector<double> scratch_;
};

// A step where it lies, edges included.
struct StepPlace {
  std::int64_t first = 0;
  std::int64_t frames = 0;
};

std::vector<StepPlace> step_places(const Staircase& p, double rate) {
  const std::size_t count = p.frequencies_hz.size() * p.levels_dbfs.size();
  const std::int64_t gap = frames_of(p.gap_s, rate);
  std::vector<StepPlace> places;
  std::int64_t next = 0;
  for (std::size_t i = 0; i < count; ++i) {
    const std::int64_t frames = frames_of(p.lengths_s.empty() ? p.step_s : p.lengths_s[i], rate);
    if (!p.starts_s.empty()) next = frames_of(p.starts_s[i], rate);
    places.push_back({next, frames});
    next += frames + gap;
  }
  return places;
}

std::unique_ptr<Renderer> make(const Staircase& p, double rate) {
  const std::int64_t edge = frames_of(p.edge_s, rate);
  std::vector<Sine> steps;
  for (std::size_t f = 0; f < p.frequencies_hz.size(); ++f)
    for (const double level : p.levels_dbfs) {
      const double phase = p.phases_deg.empty() ? 0 : p.phases_deg[steps.size()];
      steps.emplace_back(p.frequencies_hz[f], phase, level + (p.trims_db.empty() ? 0 : p.trims_db[f]), rate);
    }
  const auto places = step_places(p, rate);
  std::vector<std::size_t> order(places.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  std::stable_sort(order.begin(), order.end(),
                   [&](std::size_t i, std::size_t k) { return places[i].first < places[k].first; });
  std::int64_t end = 0;
  for (const StepPlace& place : places) end = std::max(end, place.first + place.frames);
  if (p.starts_s.empty()) end += frames_of(p.gap_s, rate);
  return row_renderer(end, [=](std::int64_t first, std::span<double> out) {
    std::fill(out.begin(), out.end(), 0.0);
    const std::int64_t stop = first + static_cast<std::int64_t>(out.size());
    // The last step that begins before, and those that begin within; each ends where the next one begins.
    auto after = std::upper_bound(order.begin(), order.end(), first,
                                  [&](std::int64_t at, std::size_t i) { return at < places[i].first; });
    for (auto at = after == order.begin() ? after : after - 1; at != order.end(); ++at) {
      const StepPlace& place = places[*at];
      if (place.first >= stop) break;
      const std::int64_t next = at + 1 == order.end() ? stop : std::min(stop, places[*(at + 1)].first),
                         from = std::max(first, place.first), to = std::min(next, place.first + place.frames);
      if (to <= from) continue;
      const auto row =
          out.subspan(static_cast<std::size_t>(from - first), static_cast<std::size_t>(to - from));
      steps[*at].write(from - place.first, row);
      for (std::size_t i = 0; i < row.size(); ++i) {
        const std::int64_t in = from - place.first + static_cast<std::int64_t>(i);
        row[i] = row[i] * fade_gain(in, edge) * fade_gain(place.frames - 1 - in, edge);
      }
    }
  });
}

std::unique_ptr<Renderer> make(const LevelBlock& p, double rate) {
  const auto [up, down, frames] = block_steps(p, rate);
  const Sine wave(p.frequency_hz, p.phase_deg, 0, rate);
  const double low = ratio_from_db(p.low_dbfs), high = ratio_from_db(p.high_dbfs);
  return row_renderer(frames, [=, up = up, down = down](std::int64_t first, std::span<double> out) {
    wave.write(first, out);
    for (std::size_t i = 0; i < out.size(); ++i) {
      const auto t = static_cast<double>(first + static_cast<std::int64_t>(i));
      out[i] *= t >= up && t < down ? high : low;
    }
  });
}

std::unique_ptr<Renderer> make(const Impulse& p, double rate) {
  const double level = ratio_from_db(p.level_dbfs) * (p.negative ? -1 : 1);
  return function_renderer(std::max<std::int64_t>(1, frames_of(p.seconds, rate)),
                           [=](std::int64_t n) { return n == 0 ? level : 0.0; });
}

std::unique_ptr<Renderer> make(const Silence& p, double rate) {
  return function_renderer(frames_of(p.seconds, rate), [](std::int64_t) { return 0.0; });
}

// Channel c (from 0) starts after c·(c+1)/2 tones and c longer gaps.
class ChannelNumbersRenderer : public Renderer {
 public:
  ChannelNumbersRenderer(const ChannelNumbers& p, double rate, int channel_count)
      : beep_(frames_of(p.beep_s, rate)),
        gap_(frames_of(p.gap_s, rate)),
        edge_(std::min(beep_ / 2, frames_of(0.002, rate))),
        channel_count_(channel_count),
        wave_(p.frequency_hz, 0, p.level_dbfs, rate) {}
  std::int64_t frames() const override { return start_of(channel_count_); }
  void add(std::int64_t first, int channel, double gain, std::span<double> out) override {
    const std::int64_t start = start_of(channel), end = start + (channel + 1) * (beep_ + gap_);
    for (std::size_t i = 0; i < out.size(); ++i) {
      const std::int64_t n = first + static_cast<std::int64_t>(i);
      if (n < start || n >= end) continue;
      const std::int64_t in = (n - start) % (beep_ + gap_);
      if (in < beep_) out[i] += gain * wave_(in) * fade_gain(in, edge_) * fade_gain(beep_ - 1 - in, edge_);
    }
  }

 private:
  [[nodiscard]] std::int64_t start_of(int channel) const {
    return static_cast<std::int64_t>(channel) * (channel + 1) / 2 * (beep_ + gap_) +
           2 * static_cast<std::int64_t>(channel) * gap_;
  }
  std::int64_t beep_, gap_, edge_;
  int channel_count_;
  Sine wave_;
};

}  // namespace

namespace {

class SweepRenderer : public Renderer {
 public:
  SweepRenderer(const Sweep& p, double rate)
      : sweep_(p),
        rate_(rate),
        frames_(std::max<std::int64_t>(1, frames_of(sweep_seconds(p) * (p.return_trip ? 2 : 1), rate))),
        fades_(p.fade_in_s, p.fade_out_s, rate, frames_),
        level_(p.level_dbfs, p.to_dbfs.value_or(p.level_dbfs), static_cast<double>(frames_)) {}
  std::int64_t frames() const override { return frames_; }
  void add(std::int64_t first, int, double gain, std::span<double> out) override {
    in_rows(first, out, [&](std::int64_t at, std::span<double> part) {
      cycles_.resize(part.size());
      phases_.resize(part.size());
      for (std::size_t i = 0; i < part.size(); ++i)
        cycles_[i] = static_cast<double>(at + static_cast<std::int64_t>(i)) / rate_;
      sweep_cycles(sweep_, std::span<double>(cycles_));
      phases_from_cycles(cycles_, phases_);
      sines(phases_, cycles_);
      for (std::size_t i = 0; i < part.size(); ++i) {
        const std::int64_t n = at + static_cast<std::int64_t>(i);
        part[i] += gain * (fades_.at(n) * level_.at(n) * cycles_[i]);
      }
    });
  }

 private:
  Sweep sweep_;
  double rate_;
  std::int64_t frames_;
  Fades fades_;
  LevelRamp level_;
  std::vector<double> cycles_;
  std::vector<Phase> phases_;
};

}  // namespace

std::unique_ptr<Renderer> make_sweep(const Sweep& p, double rate) {
  return std::make_unique<SweepRenderer>(p, rate);
}

namespace {

struct Make {
  double rate;
  int channel_count;
  std::unique_ptr<Renderer> operator()(const Multitone& p) const {
    return std::make_unique<MultitoneRenderer>(p, rate);
  }
  std::unique_ptr<Renderer> operator()(const Sweep& p) const { return make_sweep(p, rate); }
  std::unique_ptr<Renderer> operator()(const Noise& p) const { return make_noise(p, rate, channel_count); }
  std::unique_ptr<Renderer> operator()(const Programme& p) const { return make_programme(p, rate); }
  std::unique_ptr<Renderer> operator()(const Burst& p) const {
    return std::make_unique<BurstRenderer>(p, rate, channel_count);
  }
  std::unique_ptr<Renderer> operator()(const ChannelNumbers& p) const {
    return std::make_unique<ChannelNumbersRenderer>(p, rate, channel_count);
  }
  std::unique_ptr<Renderer> operator()(const auto& p) const { return make(p, rate); }
};

}  // namespace

std::unique_ptr<Renderer> make_renderer(const PartKind& kind, double rate, int channel_count) {
  return std::visit(Make{rate, channel_count}, kind);
}

}  // namespace wavicon::stimulus_detail

namespace wavicon {

double sweep_seconds(const Sweep& p) {
  if (!p.synchronised) return p.seconds;
  const double octaves = std::log(p.to_hz / p.from_hz);
  return std::max(1.0, std::round(std::abs(p.from_hz * p.seconds / octaves))) * std::abs(octaves) / p.from_hz;
}

double sweep_cycles(const Sweep& p, double time_s) {
  sweep_cycles(p, std::span(&time_s, 1));
  return time_s;
}

void sweep_cycles(const Sweep& p, std::span<double> times_s) {
  const double length = sweep_seconds(p), rise = std::log(p.to_hz / p.from_hz) / length;
  const auto one_way = [&](std::span<double> t) {
    if (p.law == "linear") {
      for (double& x : t) x = (p.from_hz + 0.5 * (p.to_hz - p.from_hz) * x / length) * x;
      return;
    }
    for (double& x : t) x = rise * x;
    exponential_minus_one(t);
    for (double& x : t) x = p.from_hz / rise * x;
  };
  const auto is_back = [&](double t) { return p.return_trip && t > length; };
  if (std::none_of(times_s.begin(), times_s.end(), is_back)) return one_way(times_s);
  double turn = length;
  one_way(std::span(&turn, 1));
  std::vector<double> there(times_s.begin(), times_s.end());
  for (double& t : there)
    if (is_back(t)) t = 2 * length - t;
  one_way(there);
  for (std::size_t i = 0; i < times_s.size(); ++i)
    times_s[i] = is_back(times_s[i]) ? 2 * turn - there[i] : there[i];
}

BlockSteps block_steps(const LevelBlock& p, double rate) {
  if (p.exact)
    return {p.low_s * rate, (p.low_s + p.high_s) * rate,
            std::llround((p.low_s + p.high_s + p.after_s) * rate)};
  const auto cycles = [&](double seconds) { return std::max(1.0, std::round(seconds * p.frequency_hz)); };
  const double up = cycles(p.low_s) / p.frequency_hz * rate,
               down = up + cycles(p.high_s) / p.frequency_hz * rate;
  return {up, down, std::llround(down + p.after_s * rate)};
}

std::vector<StaircaseStep> staircase_steps(const Staircase& p, double rate) {
  using stimulus_detail::frames_of;
  const std::int64_t edge = frames_of(p.edge_s, rate);
  const auto places = stimulus_detail::step_places(p, rate);
  std::vector<StaircaseStep> steps;
  for (std::size_t f = 0; f < p.frequencies_hz.size(); ++f)
    for (const double level : p.levels_dbfs) {
      const auto& place = places[steps.size()];
      steps.push_back({p.frequencies_hz[f], level + (p.trims_db.empty() ? 0 : p.trims_db[f]),
                       place.first + edge, place.frames - 2 * edge});
    }
  return steps;
}

}  // namespace wavicon
