// SPDX-License-Identifier: MIT
#include "wavicon/measure/dynamics/dynamics.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <span>

#include "measure/common/tone_level.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kSameLevelDb = 0.01;
constexpr double kLeastAmplitude = 1e-8;  // -160 dBFS: below, there is no gain to read
constexpr double kLongestFitS = 0.5;
constexpr int kPeriods = 2;                    // of the sliding fit
constexpr double kFewPeriods = 5;              // an attack that takes less is followed over one period
constexpr double kHopPeriods = 1.0 / 16;       // periods between two gains
constexpr double kCoarseAfterS = 0.02;         // from there on hops grow
constexpr int kCoarser = 8;                    // times the hop, long after a step
constexpr std::int64_t kOutlinePlaces = 1500;  // about what a picture is wide

class Meter {
 public:
  Meter(AudioSource& a, AudioSource& b, const Stimulus& stimulus, const Take& a_take, const Take& b_take)
      : a_(a), b_(b), stimulus_(stimulus), a_take_(a_take), b_take_(b_take), rate_(b.sample_rate_hz()) {}

  DynamicsResult run(const std::string& name) {
    DynamicsResult result{rate_, {}};
    std::vector<std::string> names;
    std::vector<std::size_t> chosen;
    for (std::size_t i = 0; i < stimulus_.parts().size(); ++i) {
      const PlacedPart& part = stimulus_.parts()[i];
      if (part.kind != "staircase" && part.kind != "block") continue;
      names.push_back(part.name);
      if (name.empty() || part.name == name) chosen.push_back(i);
    }
    if (chosen.empty())
      throw Error(ErrorCode::bad_argument,
                  name.empty() ? "the stimulus holds neither a staircase nor a block: 'wavicon make "
                                 "staircase' gives the static curve, 'wavicon make block' the times"
                               : fmt::format("the stimulus has no staircase or block '{}'{}", name,
                                             name_hint(name, names)));
    const int count =
        a_.channel_count() == 1 ? b_.channel_count() : std::min(a_.channel_count(), b_.channel_count());
    for (int c = 0; c < count; ++c) {
      channel_b_ = c;
      channel_a_ = a_.channel_count() == 1 ? 0 : c;
      ChannelDynamics channel;
      // Staircases first: the models of a block's detector need the static curve.
      for (const std::size_t i : chosen)
        if (const auto* staircase = std::get_if<Staircase>(&stimulus_.recipe().parts[i].kind))
          climb(*staircase, stimulus_.parts()[i], channel);
      for (const std::size_t i : chosen)
        if (const auto* block = std::get_if<LevelBlock>(&stimulus_.recipe().parts[i].kind))
          follow(*block, stimulus_.parts()[i], channel);
      channel.silent = std::all_of(channel.staircases.begin(), channel.staircases.end(),
                                   [](const auto& s) { return s.steps.empty(); }) &&
                       channel.blocks.empty();
      result.channels.push_back(std::move(channel));
    }
    return result;
  }

 private:
  // Frames of the stimulus as they lie in a capture; refuses what is cut off.
  std::vector<double> read(AudioSource& source, int channel, const Take& take, const std::string& part,
                           double first, double end, std::int64_t& from) const {
    from = std::llround(std::ceil(take.first_frame + first * take.frames_per_frame));
    const auto to = static_cast<std::int64_t>(std::floor(take.first_frame + end * take.frames_per_frame));
    if (from < 0 || to > source.frames())
      throw Error(ErrorCode::bad_input, fmt::format("{} does not hold all of the part '{}': it is cut off",
                                                    &source == &a_ ? "A" : "B", part));
    auto samples = read_channel(source, channel, from, to - from);
    for (std::size_t n = 0; n < samples.size(); ++n)
      if (!std::isfinite(samples[n]))
        throw Error(ErrorCode::bad_input, fmt::format("{} holds NaN or infinity in channel {}, frame {}",
                                                      &source == &a_ ? "A" : "B", channel + 1,
                                                      from + static_cast<std::int64_t>(n)));
    return samples;
  }
  std::vector<double> read_b(const std::string& part, double first, double end) const {
    std::int64_t from = 0;
    return read(b_, channel_b_, b_take_, part, first, end, from);
  }
  std::vector<double> read_a(const std::string& part, double first, double end) const {
    std::int64_t from = 0;
    return read(a_, channel_a_, a_take_, part, first, end, from);
  }
  [[nodiscard]] double step_of(double hz, const Take& take) const {
    return 2 * std::numbers::pi * hz / (stimulus_.recipe().sample_rate_hz * take.frames_per_frame);
  }

  void climb(const Staircase& staircase, const PlacedPart& part, ChannelDynamics& channel) const {
    const double stimulus_rate = stimulus_.recipe().sample_rate_hz;
    for (const StaircaseStep& step : staircase_steps(staircase, stimulus_rate)) {
      if (channel.staircases.empty() || channel.staircases.back().part != part.name ||
          channel.staircases.back().frequency_hz != step.frequency_hz)
        channel.staircases.push_back({.part = part.name, .frequency_hz = step.frequency_hz});
      const double end = static_cast<double>(part.first_frame + step.first_frame + step.frames),
                   length = std::min(static_cast<double>(step.frames) / 2, kLongestFitS * stimulus_rate);
      const ToneLevel a =
          tone_level(read_a(part.name, end - length, end), step_of(step.frequency_hz, a_take_));
      const auto y = read_b(part.name, end - length, end);
      const double turn = step_of(step.frequency_hz, b_take_);
      const ToneLevel b = tone_level(y, turn);
      if (a.amplitude < kLeastAmplitude || b.amplitude < kLeastAmplitude) continue;
      const double sure = b.uncertainty(y.size());
      LevelStep out{.level = {db_from_ratio(a.amplitude), db_from_ratio(b.amplitude),
                              db_from_ratio(1 + sure / b.amplitude)},
                    .uncertainty_db = db_from_ratio(1 + sure / b.amplitude)};
      const ToneLevel early = tone_level(std::span(y).first(y.size() / 2), turn),
                      late = tone_level(std::span(y).last(y.size() / 2), turn);
      if (early.amplitude > 0 && late.amplitude > 0)
        out.wander_db = db_from_ratio(late.amplitude / early.amplitude);
      if (const auto thd = b.thd_ratio(y.size())) {
        out.thd_db = db_from_ratio(*thd);
        out.thd_uncertainty_db = db_from_ratio(1 + sure / (*thd * b.amplitude));
      }
      channel.staircases.back().steps.push_back(out);
    }
    for (StaircaseDynamics& found : channel.staircases) {
      if (found.part != part.name) continue;
      std::sort(found.steps.begin(), found.steps.end(),
                [](const auto& p, const auto& q) { return p.level.in_dbfs < q.level.in_dbfs; });
      std::vector<LevelPair> levels;
      for (const LevelStep& step : found.steps)
        if (levels.empty() || step.level.in_dbfs > levels.back().in_dbfs + kSameLevelDb)
          levels.push_back(step.level);
      found.level_count = levels.size();
      if (levels.size() >= 4) found.curve = fit_static_curve(levels);
    }
  }

  struct Played {  // the block as B's frames hold it
    double turn = 0, phase = 0;
    double up = 0, down = 0;
    double low = 0, high = 0;
    std::vector<double> cosine = {}, sine = {};  // of its tone at each of them
    [[nodiscard]] double level(double n) const { return n >= up && n < down ? high : low; }
    void make_tone(std::size_t frames) {
      const Phase origin = phase_from_cycles(phase / (2 * std::numbers::pi)),
                  step = phase_from_cycles(turn / (2 * std::numbers::pi));
      cosine.resize(frames);
      sine.resize(frames);
      steady_sines(origin + kQuarterCycle, step, cosine);
      steady_sines(origin, step, sine);
    }
  };

  // Gain where a window of that many frames stands; none when the fit has nothing to hold on to.
  static std::optional<std::pair<double, double>> gain_at(std::span<const double> y, const Played& p,
                                                          double centre, double frames) {
    const auto first = static_cast<std::int64_t>(std::ceil(centre - frames / 2)),
               end = static_cast<std::int64_t>(std::floor(centre + frames / 2)) + 1;
    if (first < 0 || end > static_cast<std::int64_t>(y.size())) return std::nullopt;
    const bool plain = frames * p.turn < 3 * std::numbers::pi;  // a single period
    std::vector<double> fade(static_cast<std::size_t>(end - first), 1.0);
    if (!plain)
      steady_sines(phase_from_cycles((static_cast<double>(first) - centre) / frames) + kQuarterCycle,
                   phase_from_cycles(1 / frames), fade);
    double cc = 0, ss = 0, cs = 0, yc = 0, ys = 0, weight = 0, moment = 0;
    for (std::int64_t n = first; n < end; ++n) {
      const auto t = static_cast<double>(n);
      const auto at = static_cast<std::size_t>(n);
      const double w = 0.5 + 0.5 * fade[static_cast<std::size_t>(n - first)], level = p.level(t);
      const double c = level * p.cosine[at], s = level * p.sine[at], v = y[at];
      cc += w * c * c;
      ss += w * s * s;
      cs += w * c * s;
      yc += w * v * c;
      ys += w * v * s;
      weight += w * level * level;
      moment += w * level * level * t;
    }
    const double determinant = cc * ss - cs * cs;
    if (!(determinant > 1e-6 * cc * ss)) return std::nullopt;
    const double alpha = (yc * ss - ys * cs) / determinant, beta = (ys * cc - yc * cs) / determinant;
    const double gain = std::hypot(alpha, beta);
    if (!(gain > 1e-8)) return std::nullopt;
    return std::pair{moment / weight, db_from_ratio(gain)};
  }

  GainOverTime slide(std::span<const double> y, const Played& p, double frames) const {
    GainOverTime g;
    const double period = 2 * std::numbers::pi / p.turn;
    const double hop = std::max(1.0, kHopPeriods * period);
    double at = frames / 2;
    while (at < static_cast<double>(y.size()) - frames / 2) {
      if (const auto found = gain_at(y, p, at, frames))
        if (g.time_s.empty() || found->first / rate_ > g.time_s.back()) {
          g.time_s.push_back(found->first / rate_);
          g.gain_db.push_back(found->second);
        }
      const double from_step = std::min(std::abs(at - p.up), std::abs(at - p.down));
      at += from_step / rate_ > kCoarseAfterS ? kCoarser * hop : hop;
    }
    return g;
  }

  static GainOverTime stretch(const GainOverTime& g, double from_s, double to_s, double zero_s) {
    GainOverTime part;
    for (std::size_t i = 0; i < g.time_s.size(); ++i)
      if (g.time_s[i] >= from_s && g.time_s[i] < to_s) {
        part.time_s.push_back(g.time_s[i] - zero_s);
        part.gain_db.push_back(g.gain_db[i]);
      }
    return part;
  }

  // Of the staircase whose tone lies nearest; none when no staircase was bent.
  static const StaticCurve* nearest_curve(const ChannelDynamics& channel, double frequency_hz) {
    const StaticCurve* curve = nullptr;
    double nearest = 1e300;
    for (const StaircaseDynamics& s : channel.staircases)
      if (s.curve && s.curve->kind != StaticCurve::Kind::linear &&
          std::abs(s.frequency_hz - frequency_hz) < nearest) {
        nearest = std::abs(s.frequency_hz - frequency_hz);
        curve = &*s.curve;
      }
    return curve;
  }

  // Lowest and highest sample place by place: what a picture of the wave needs; the samples where they are
  // few.
  void outline(std::span<const double> y, double from_s, std::int64_t most, std::vector<double>& times_s,
               std::vector<double>& values) const {
    const auto places = std::min(most, static_cast<std::int64_t>(y.size()));
    for (std::int64_t k = 0; k < places; ++k) {
      const auto i = static_cast<std::ptrdiff_t>(k * static_cast<std::int64_t>(y.size()) / places),
                 j = static_cast<std::ptrdiff_t>((k + 1) * static_cast<std::int64_t>(y.size()) / places);
      const auto [low, high] = std::minmax_element(y.begin() + i, y.begin() + j);
      for (const double v : {*low, *high}) {
        times_s.push_back(from_s + static_cast<double>(i) / rate_);
        values.push_back(v);
        if (j == i + 1) break;
      }
    }
  }

  // The tone while the gain moves.
  void outline_step(std::span<const double> y, double zero_s, const GainStep& step,
                    std::vector<double>& times_s, std::vector<double>& values) const {
    if (!step.to_90_s) return;
    const auto frames = static_cast<double>(y.size());
    const double from = std::clamp(std::floor((zero_s - kShownBefore * *step.to_90_s) * rate_), 0.0, frames),
                 to = std::clamp(std::ceil((zero_s + kShownBehind * *step.to_90_s) * rate_), from, frames);
    outline(y.subspan(static_cast<std::size_t>(from), static_cast<std::size_t>(to - from)),
            from / rate_ - zero_s, kOutlinePlaces, times_s, values);
  }

  void follow(const LevelBlock& block, const PlacedPart& part, ChannelDynamics& channel) const {
    const double stimulus_rate = stimulus_.recipe().sample_rate_hz;
    const BlockSteps steps = block_steps(block, stimulus_rate);
    const auto first = static_cast<double>(part.first_frame);
    BlockDynamics out{part.name, block.frequency_hz};
    // A's levels, late in each stretch.
    const auto level_of = [&](double from, double to) {
      const double length = std::min(kLongestFitS * stimulus_rate, 0.9 * (to - from));
      return tone_level(read_a(part.name, first + to - length, first + to),
                        step_of(block.frequency_hz, a_take_))
          .amplitude;
    };
    Played p;
    p.low = level_of(0, steps.up_frame);
    p.high = level_of(steps.up_frame, steps.down_frame);
    std::int64_t from = 0;
    const auto y =
        read(b_, channel_b_, b_take_, part.name, first, first + static_cast<double>(steps.frames), from);
    if (p.low < kLeastAmplitude || p.high < kLeastAmplitude ||
        std::all_of(y.begin(), y.end(), [](double v) { return std::abs(v) < kLeastAmplitude; }))
      return;
    out.low_dbfs = db_from_ratio(p.low);
    out.high_dbfs = db_from_ratio(p.high);
    const double zero = b_take_.first_frame + first * b_take_.frames_per_frame - static_cast<double>(from);
    p.turn = step_of(block.frequency_hz, b_take_);
    p.phase = -p.turn * zero;
    p.up = zero + steps.up_frame * b_take_.frames_per_frame;
    p.down = zero + steps.down_frame * b_take_.frames_per_frame;
    p.make_tone(y.size());
    const double up_s = p.up / rate_, down_s = p.down / rate_, end_s = static_cast<double>(y.size()) / rate_;
    out.low_s = up_s - zero / rate_;
    out.high_s = down_s - up_s;
    out.after_s = end_s - down_s;

    const StaticCurve* curve = nearest_curve(channel, block.frequency_hz);
    const double period = 2 * std::numbers::pi / p.turn;
    for (int periods = kPeriods; periods >= 1; --periods) {
      const double frames = periods * period;
      out.window_s = frames / rate_;
      out.gain = slide(y, p, frames);
      const auto up = stretch(out.gain, 0, down_s - out.window_s / 2, up_s);
      const auto down = stretch(out.gain, up_s, end_s, down_s);
      if (up.time_s.empty() || down.time_s.empty() || up.time_s.front() >= 0 || up.time_s.back() < 0 ||
          down.time_s.front() >= 0 || down.time_s.back() < 0)
        return;
      out.attack = measure_gain_step(up, {.from_dbfs = out.low_dbfs,
                                          .to_dbfs = out.high_dbfs,
                                          .curve = curve,
                                          .resolution_s = out.window_s});
      // It comes back to where it was, if it was at rest there; else to what the static curve says.
      std::optional<double> rest_db;
      if (!out.attack.unsettled)
        rest_db = out.attack.start_db;
      else if (curve != nullptr)
        rest_db = curve->gain_db(out.low_dbfs);
      out.release = measure_gain_step(down, {.from_dbfs = out.high_dbfs,
                                             .to_dbfs = out.low_dbfs,
                                             .curve = curve,
                                             .end_db = rest_db,
                                             .resolution_s = out.window_s,
                                             .release = true});
      const double attack_s = out.attack.to_63_s.value_or(1);
      if (attack_s >= kFewPeriods * period / rate_) break;
    }
    outline(y, 0, kOutlinePlaces, out.wave_s, out.wave);
    outline_step(y, up_s, out.attack, out.attack_wave_s, out.attack_wave);
    outline_step(y, down_s, out.release, out.release_wave_s, out.release_wave);
    channel.blocks.push_back(std::move(out));
  }

  AudioSource& a_;
  AudioSource& b_;
  const Stimulus& stimulus_;
  const Take& a_take_;
  const Take& b_take_;
  double rate_;
  int channel_a_ = 0, channel_b_ = 0;
};

}  // namespace

DynamicsResult measure_dynamics(const JudgedCapture& a, const JudgedCapture& b, const std::string& part) {
  if (a.sample_rate_hz() != b.sample_rate_hz())
    throw Error(ErrorCode::bad_argument,
                fmt::format("A has {:g} Hz and B has {:g} Hz: bring both to one rate first",
                            a.sample_rate_hz(), b.sample_rate_hz()));
  return Meter(a.source(), b.source(), a.stimulus(), a.take(), b.take()).run(part);
}

}  // namespace wavicon
