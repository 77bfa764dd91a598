// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measure/common/level.hpp"
#include "wavicon/measure/dynamics/as_fast.hpp"
#include "wavicon/measure/dynamics/dynamics.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

using measure_detail::tidy_db;

constexpr double kAsGood = 1.5;     // times the error of the best model, and …
constexpr double kAsGoodDb = 0.01;  // … what a gain is read to
constexpr double kShowsAttackHz = 10000;
constexpr double kSettledDb = 0.05;    // that a step of the staircase may wander
constexpr double kPoorFitDb = 0.3;     // of a static curve
constexpr double kReturned = 0.98;     // of the change
constexpr double kTo90 = 2.302585093;  // constants to 90 % of one exponential
constexpr double kTo99 = 4.6;          // time constants to 99 %: ln 100
constexpr double kOvershootDb = 0.1;
constexpr double kShownTimes = 6;    // of the time to 63 %, of shapes
constexpr double kCloseMs = 0.15;    // of what the panel says, as a share
constexpr double kOtherShape = 0.2;  // of the other unit's value: to 63 % and to 90 % say the same within it

std::string milliseconds(double s) {
  const double ms = 1000 * s;
  return fmt::format("{:.{}f} ms", ms, std::abs(ms) < 10 ? 2 : std::abs(ms) < 100 ? 1 : 0);
}

class Writer {
 public:
  Writer(SheetBuilder& sheet, const CaptureInfo& a, const PanelValues& panel, const LikeLadder& like,
         double rate)
      : sheet_(sheet), a_(a), panel_(panel), like_(like), rate_(rate) {}

  void write(const ChannelDynamics& c, int channel) {
    channel_ = channel;
    if (c.silent) {
      say(Severity::warning, FindingCode::not_measured, "silent, or nothing of A in it: not measured");
      return;
    }
    several_ = c.staircases.size() > 1;
    for (const StaircaseDynamics& s : c.staircases) write(s);
    const bool curve = std::any_of(c.staircases.begin(), c.staircases.end(),
                                   [](const auto& s) { return s.curve.has_value(); });
    several_ = c.blocks.size() > 1;
    for (const BlockDynamics& b : c.blocks) write(b, curve);
    if (!like_.rungs.empty() && !compared_)
      say(Severity::warning, FindingCode::not_measured,
          fmt::format(
              "not compared with {}: neither its attack nor its release changes from one capture to the "
              "next by more than what is uncertain of it, in the order of its panel",
              like_.name));
  }

 private:
  void say(Severity severity, FindingCode code, std::string text) {
    sheet_.say(severity, code, std::move(text), channel_);
  }
  Reading& add(const char* name, std::optional<double> value, Conditions more,
               std::optional<double> uncertainty = std::nullopt) {
    more.insert(more.end(), common_.begin(), common_.end());
    Reading& added = sheet_.add(name, channel_, value, std::move(more));
    if (value) added.uncertainty = uncertainty;
    return added;
  }
  void draw(const std::string& name, const char* x, const char* y, std::vector<double> xs,
            std::vector<double> ys) {
    sheet_.draw({name, channel_, x, y, std::move(xs), std::move(ys)});
  }

  void write(const StaircaseDynamics& s) {
    const std::string at = several_ ? fmt::format(" at {:g} Hz", s.frequency_hz) : "";
    if (s.steps.empty()) {
      say(Severity::warning, FindingCode::not_measured,
          fmt::format("the steps of '{}'{} are silent: no static curve", s.part, at));
      return;
    }
    common_ = {{"reference", a_.file},
               {"frequency_hz", s.frequency_hz},
               {"levels_dbfs", std::vector{s.steps.front().level.in_dbfs, s.steps.back().level.in_dbfs}},
               {"sample_rate_hz", rate_}};
    if (several_) common_.emplace_back("part", s.part);
    Curve out{"static curve" + at, channel_, "dBFS", "dBFS", {}, {}},
        gain{"gain" + at, channel_, "dBFS", "dB", {}, {}}, thd{"THD" + at, channel_, "dBFS", "dB", {}, {}};
    double wander = 0, wander_at = 0;
    const LevelStep* lowest = &s.steps.front();
    for (const LevelStep& step : s.steps) {
      const double in = step.level.in_dbfs, g = step.level.out_dbfs - in;
      out.x.push_back(in);
      out.y.push_back(step.level.out_dbfs);
      gain.x.push_back(in);
      gain.y.push_back(g);
      if (step.thd_db) {
        thd.x.push_back(in);
        thd.y.push_back(*step.thd_db);
      }
      if (std::abs(step.wander_db) > std::abs(wander)) {
        wander = step.wander_db;
        wander_at = in;
      }
      if (g < lowest->level.out_dbfs - lowest->level.in_dbfs) lowest = &step;
    }
    if (s.curve)
      describe(*s.curve, *lowest, at);
    else
      say(Severity::warning, FindingCode::too_coarse,
          fmt::format("{} level{} too few for a static curve{}: it takes at least 4", s.level_count,
                      s.level_count == 1 ? " is" : "s are", at));
    if (std::abs(wander) > kSettledDb)
      say(Severity::warning, FindingCode::unsettled,
          fmt::format(
              "the gain still moves by {:.2f} dB within the second half of the step at {:.1f} dBFS{}: "
              "longer steps are needed (step_s)",
              std::abs(wander), wander_at, at));
    for (Curve* curve : {&out, &gain, &thd})
      if (!curve->x.empty()) sheet_.draw(std::move(*curve));
  }

  void describe(const StaticCurve& curve, const LevelStep& lowest, const std::string& at) {
    const Conditions shape = {{"kind", name_of(curve.kind)}, {"fit_error_db", curve.fit_error_db}};
    if (curve.kind == StaticCurve::Kind::linear) {
      add("makeup_db", curve.makeup_db, shape,
          curve.uncertainty ? std::optional(curve.uncertainty->makeup_db) : std::nullopt);
      say(Severity::note, FindingCode::nothing_found,
          fmt::format("the gain is the same at every level{}, {:+.2f} dB: there is no "
                      "threshold within what was played",
                      at, curve.makeup_db));
      return;
    }
    const auto sure = [&](double StaticCurve::Uncertainty::*which) {
      return curve.uncertainty ? std::optional((*curve.uncertainty).*which) : std::nullopt;
    };
    const auto slope_sure = sure(&StaticCurve::Uncertainty::slope);
    add("threshold_dbfs", curve.threshold_dbfs, shape, sure(&StaticCurve::Uncertainty::threshold_db));
    const Conditions none;
    const auto ratio = curve.ratio();
    // Of an expander the panel's ratio is the slope below the threshold.
    const bool below = curve.kind == StaticCurve::Kind::expander || curve.kind == StaticCurve::Kind::gate ||
                       curve.kind == StaticCurve::Kind::upward_expander;
    const std::optional<double> named = below ? std::optional(curve.slope) : ratio;
    add("ratio", named, none,
        below || !slope_sure ? slope_sure : std::optional(*slope_sure / (curve.slope * curve.slope)));
    add("slope_db_per_db", curve.slope, none, slope_sure);
    Reading& knee =
        add("knee_db", curve.knee_undecided() ? std::max(curve.step_db, curve.knee_db) : curve.knee_db, none);
    knee.bound = curve.knee_undecided();
    if (curve.uncertainty && !knee.bound) knee.uncertainty = curve.uncertainty->knee_db;
    const auto makeup_sure = sure(&StaticCurve::Uncertainty::makeup_db);
    add("makeup_db", curve.makeup_db, none, makeup_sure);
    add("reduction_max_db", std::max(0.0, curve.makeup_db - curve.least_gain_db),
        {{"level_dbfs", lowest.level.in_dbfs}},
        std::hypot(lowest.uncertainty_db, lowest.wander_db, makeup_sure.value_or(0)));
    if (lowest.thd_db)
      add("thd_db", *lowest.thd_db,
          {{"level_dbfs", lowest.level.in_dbfs},
           {"reduction_db", curve.makeup_db - (lowest.level.out_dbfs - lowest.level.in_dbfs)},
           {"orders", std::int64_t{10}}},
          lowest.thd_uncertainty_db);
    std::string text =
        fmt::format("{}{}: threshold {:.1f} dBFS, ", name_of(curve.kind), at, curve.threshold_dbfs);
    text += named ? fmt::format("ratio {:.3g}", *named) : "no dB more comes out above it";
    text += curve.knee_undecided() ? fmt::format(", knee narrower than the steps of {:.3g} dB", curve.step_db)
                                   : fmt::format(", knee {:.1f} dB wide", curve.knee_db);
    text += fmt::format(", make-up {:+.2f} dB; gain from {:+.2f} to {:+.2f} dB", tidy_db(curve.makeup_db),
                        tidy_db(curve.most_gain_db), tidy_db(curve.least_gain_db));
    if (curve.range_from_dbfs) text += fmt::format("; its range ends at {:.1f} dBFS", *curve.range_from_dbfs);
    if (lowest.thd_db && curve.kind == StaticCurve::Kind::compressor)
      text += fmt::format("; THD {:.1f} dB at maximum gain reduction", *lowest.thd_db);
    say(Severity::note, FindingCode::result, text);
    if (curve.fit_error_db > kPoorFitDb)
      say(Severity::warning, FindingCode::doubtful,
          fmt::format("two lines and a knee leave {:.2f} dB{}: the curve has more bends "
                      "than one; look at it (--draw static)",
                      curve.fit_error_db, at));
    if (curve.knee_undecided())
      say(Severity::note, FindingCode::too_coarse,
          fmt::format("the staircase is too coarse to say how wide the knee is{}: use steps of less "
                      "than {:.3g} dB around {:.0f} dBFS",
                      at, curve.step_db, curve.threshold_dbfs));
  }

  void write(const BlockDynamics& b, bool curve) {
    const std::string of = several_ ? fmt::format(" ('{}')", b.part) : "";
    common_ = {{"reference", a_.file},
               {"frequency_hz", b.frequency_hz},
               {"block_dbfs", std::vector{b.low_dbfs, b.high_dbfs}},
               {"sample_rate_hz", rate_}};
    if (several_) common_.emplace_back("part", b.part);
    const std::string name = several_ ? " (" + b.part + ")" : "";
    draw("gain over time" + name, "s", "dB", b.gain.time_s, b.gain.gain_db);
    draw("waveform" + name, "s", "", b.wave_s, b.wave);
    if (b.attack.models.empty()) {
      say(Severity::warning, FindingCode::not_measured,
          fmt::format("the block from {:.1f} to {:.1f} dBFS{} changes the gain by {:.2f} dB only: no times; "
                      "choose its "
                      "levels on both sides of the threshold",
                      b.low_dbfs, b.high_dbfs, of, std::abs(b.attack.end_db - b.attack.start_db)));
      return;
    }
    write_attack(b, of, name, curve);
    write_release(b, of, name);
  }

  void times(const char* what, const GainStep& step) {
    const Conditions way = {{"gain_from_db", step.start_db}, {"gain_to_db", step.end_db}};
    const auto ms = [](const std::optional<double>& s) {
      return s ? std::optional(1000 * *s) : std::nullopt;
    };
    add(fmt::format("{}_63_ms", what).c_str(), ms(step.to_63_s), way, 1000 * step.to_63_uncertainty_s);
    add(fmt::format("{}_90_ms", what).c_str(), ms(step.to_90_s), {}, 1000 * step.to_90_uncertainty_s);
    if (step.to_90_s)
      add(fmt::format("{}_equivalent_ms", what).c_str(), 1000 * *step.to_90_s / kTo90,
          {{"means", std::string("constant of a plain peak compressor that takes as long to 90 %")}},
          1000 * step.to_90_uncertainty_s / kTo90);
  }

  // At which value of the other unit's panel it takes as long.
  void compare(const char* what, const BlockDynamics& b, GainStep BlockDynamics::*step) {
    const auto to_90 = as_fast(b, step, &GainStep::to_90_s, &GainStep::to_90_uncertainty_s),
               to_63 = as_fast(b, step, &GainStep::to_63_s, &GainStep::to_63_uncertainty_s);
    if (!to_90) return;
    compared_ = true;
    Reading& like =
        add(fmt::format("{}_like_ms", what).c_str(), to_90->panel_ms,
            {{"like", like_.name}, {"between_ms", std::vector{to_90->below_ms, to_90->above_ms}}});
    like.bound = to_90->faster || to_90->slower;
    if (!like.bound) like.uncertainty = to_90->uncertainty_ms;
    if (like.bound) {
      say(Severity::note, FindingCode::result,
          fmt::format("{}: {} than {} at {:g} ms, {} of its captures", what,
                      to_90->faster ? "faster" : "slower", like_.name, to_90->panel_ms,
                      to_90->faster ? "the fastest" : "the slowest"));
      return;
    }
    std::string text = fmt::format(
        "{}: as fast as {} at {:.3g} ms ± {:.2g} ms (to 90 %, between its {:g} and {:g} ms)", what,
        like_.name, to_90->panel_ms, to_90->uncertainty_ms, to_90->below_ms, to_90->above_ms);
    if (to_63 && !to_63->faster && !to_63->slower &&
        std::abs(to_63->panel_ms - to_90->panel_ms) >
            std::max(kOtherShape * to_90->panel_ms, to_63->uncertainty_ms + to_90->uncertainty_ms))
      text += fmt::format("; to 63 % it is {:.3g} ms: the two move along other shapes", to_63->panel_ms);
    say(Severity::note, FindingCode::result, text);
  }

  std::optional<AsFast> as_fast(const BlockDynamics& b, GainStep BlockDynamics::*step,
                                std::optional<double> GainStep::*time, double GainStep::*sure) const {
    const auto& own = (b.*step).*time;
    if (!own) return std::nullopt;
    std::vector<RungTime> rungs;
    for (const LikeRung& rung : like_.rungs) {
      const auto& channels = rung.result.channels;
      if (channels.empty()) continue;
      const auto& channel = channels[std::min(static_cast<std::size_t>(channel_), channels.size() - 1)];
      for (const BlockDynamics& other : channel.blocks) {
        // What is over within the window is a bound, and no rung.
        const GainStep& move = other.*step;
        if (other.part == b.part && !move.models.empty() && move.*time && *move.to_63_s >= other.window_s)
          rungs.push_back({rung.panel_ms, *(move.*time), move.*sure});
      }
    }
    return as_fast_as(rungs, *own, (b.*step).*sure);
  }

  void write_attack(const BlockDynamics& b, const std::string& of, const std::string& name, bool curve) {
    const GainStep& up = b.attack;
    add("onset_ms", up.onset_s ? std::optional(1000 * *up.onset_s) : std::nullopt,
        {{"to", std::string("10 %")}, {"window_ms", 1000 * b.window_s}}, 1000 * up.onset_uncertainty_s);
    if (up.to_63_s && *up.to_63_s < b.window_s) return write_unseen_attack(b, of);
    times("attack", up);
    compare("attack", b, &BlockDynamics::attack);
    if (up.overshoot_db > kOvershootDb) add("overshoot_db", up.overshoot_db, {}, up.overshoot_uncertainty_db);
    if (up.to_63_s && up.to_90_s)
      say(Severity::note, FindingCode::result,
          sentence("attack", up, panel_.attack_ms) +
              fmt::format(" ({:g} Hz, {:.1f} to {:.1f} dBFS, {:+.2f} dB of gain){}", b.frequency_hz,
                          b.low_dbfs, b.high_dbfs, up.end_db - up.start_db, of) +
              (up.overshoot_db > kOvershootDb
                   ? fmt::format("; the gain overshoots by {:.1f} dB", up.overshoot_db)
                   : ""));
    if (up.unsettled)
      say(Severity::warning, FindingCode::unsettled,
          fmt::format("the gain still moves before the block steps up{}: more silence "
                      "before the block, or a longer low_s, is needed",
                      of));
    const ModelFit& best = up.models.front();
    write_two_constants("attack", up);
    const bool settled =
        std::max(best.constant_s, best.model == DetectorModel::two_constants ? best.second_s : 0) * kTo99 <
        b.high_s;
    if (!settled)
      say(Severity::warning, FindingCode::too_short,
          fmt::format("the high part of the block lasts {} and the attack is not over by then{}: high_s has "
                      "to be at least {:.1f}",
                      milliseconds(b.high_s), of, std::ceil(10 * kTo99 * best.constant_s) / 10));
    if (curve) {
      const std::string next =
          up.models.size() > 1
              ? fmt::format("; next best: {}, {:.2g} dB", name_of(up.models[1].model), up.models[1].error_db)
              : "";
      if (const ModelFit* other = as_good(up.models); other != nullptr) {
        say(Severity::note, FindingCode::left_out,
            fmt::format(
                "cannot tell peak from mean square (rms){}: {} explains the attack within {:.2g} dB, {} "
                "within {:.2g} dB",
                of, name_of(best.model), best.error_db, name_of(other->model), other->error_db));
      } else {
        Reading& detector = add("detector", std::nullopt,
                                {{"model", name_of(best.model)},
                                 {"constant_ms", 1000 * best.constant_s},
                                 {"second_constant_ms", 1000 * best.second_s},
                                 {"fit_error_db", best.error_db}});
        detector.text = hears_rms(best.model) ? "rms" : "peak";
        std::string constants = milliseconds(best.constant_s);
        if (best.second_s > 0) constants += " and " + milliseconds(best.second_s);
        if (best.model == DetectorModel::two_constants)
          constants =
              fmt::format("{:.0f} % by {}, {:.0f} % by {}", 100 * (1 - best.share),
                          milliseconds(best.constant_s), 100 * best.share, milliseconds(best.second_s));
        say(Severity::note, FindingCode::detail,
            fmt::format("it hears the {}{}: {} with {} explains the attack within {:.2g} dB{}",
                        hears_rms(best.model) ? "mean square (rms)" : "peak", of, name_of(best.model),
                        constants, best.error_db, next));
      }
    } else {
      say(Severity::note, FindingCode::left_out,
          fmt::format("whether it hears peak or rms{} takes the static curve: play a staircase as well", of));
    }
    shape("attack shape" + name, b, up, up_zero(b));
  }

  // The best model of the other kind, where it explains the attack nearly as well.
  static const ModelFit* as_good(const std::vector<ModelFit>& models) {
    const ModelFit& best = models.front();
    const auto other = std::find_if(models.begin(), models.end(), [&](const ModelFit& fit) {
      return hears_rms(fit.model) != hears_rms(best.model);
    });
    if (other == models.end()) return nullptr;
    return other->error_db < kAsGood * best.error_db + kAsGoodDb ? &*other : nullptr;
  }

  // Each value of the gain is taken over a window: what is over within it is only bounded.
  void write_unseen_attack(const BlockDynamics& b, const std::string& of) {
    const double window_ms = 1000 * b.window_s;
    const Conditions way = {{"gain_from_db", b.attack.start_db}, {"gain_to_db", b.attack.end_db}};
    add("attack_63_ms", window_ms, way).bound = true;
    if (b.attack.to_90_s) add("attack_90_ms", std::max(window_ms, 1000 * *b.attack.to_90_s), {}).bound = true;
    say(Severity::note, FindingCode::limited_range,
        fmt::format(
            "the attack is shorter than {}, over which {:g} Hz tells the gain{}{}", milliseconds(b.window_s),
            b.frequency_hz, of,
            b.frequency_hz < kShowsAttackHz
                ? fmt::format(": a block of {:g} kHz shows attacks from 0.1 ms", kShowsAttackHz / 1000)
                : ""));
  }

  void write_two_constants(const std::string& what, const GainStep& step) {
    const ModelFit& best = step.models.front();
    if (best.model != DetectorModel::two_constants) return;
    add((what + "_fast_ms").c_str(), 1000 * best.constant_s, {{"share", 1 - best.share}},
        1000 * best.constant_uncertainty_s);
    add((what + "_slow_ms").c_str(), 1000 * best.second_s, {{"share", best.share}},
        1000 * best.second_uncertainty_s);
  }

  void write_release(const BlockDynamics& b, const std::string& of, const std::string& name) {
    const GainStep& down = b.release;
    if (down.open_end)
      say(Severity::warning, FindingCode::too_short,
          fmt::format(
              "the release is longer than the {} after the block{}: the gain moves to their end, as it did "
              "before the block, so that nothing says where it would come to rest; {}, or play a staircase "
              "as well",
              milliseconds(b.after_s), of,
              down.needed_s ? fmt::format("leave a pause of {:.2g} s after it (after_s)", *down.needed_s)
                            : "leave a pause several times as long"));
    if (down.models.empty()) return;
    const ModelFit& best = down.models.front();
    times("release", down);
    compare("release", b, &BlockDynamics::release);
    if (best.hold_s > 2 * b.window_s) add("hold_ms", 1000 * best.hold_s, {}, 1000 * best.hold_uncertainty_s);
    const bool two = best.model == DetectorModel::two_constants;
    write_two_constants("release", down);
    const double longest = std::max(best.constant_s, best.second_s);
    if (down.reached < kReturned)
      say(Severity::warning, FindingCode::too_short,
          fmt::format("the gain is only {:.0f} % back when the block ends{}: after_s of "
                      "{:.1f} is too short for the release, "
                      "it needs about {:.1f}",
                      100 * std::max(0.0, down.reached), of, b.after_s,
                      std::max(1.2 * b.after_s, kTo99 * longest)));
    if (down.to_63_s && down.to_90_s) {
      std::string text = sentence("release", down, panel_.release_ms) + of;
      if (two)
        text += fmt::format("; it recovers by two constants: {:.0f} % by {}, {:.0f} % by {}",
                            100 * (1 - best.share), milliseconds(best.constant_s), 100 * best.share,
                            milliseconds(best.second_s));
      else
        text += fmt::format("; {} with {} explains it within {:.2g} dB", name_of(best.model),
                            milliseconds(best.constant_s), best.error_db);
      if (best.hold_s > 2 * b.window_s)
        text += fmt::format("; it holds for {} first", milliseconds(best.hold_s));
      say(Severity::note, FindingCode::result, text);
    }
    shape("release shape" + name, b, down, up_zero(b) + b.high_s);
  }

  static double up_zero(const BlockDynamics& b) { return b.gain.time_s.empty() ? 0 : b.low_s; }

  std::string sentence(const char* what, const GainStep& step, const std::optional<double>& panel_ms) const {
    const double equivalent = *step.to_90_s / kTo90;
    std::string text =
        panel_ms ? fmt::format("the panel's {} of {:g} ms = ", what, *panel_ms) : fmt::format("{}: ", what);
    text += fmt::format("{} to 63 %, {} to 90 % = what a plain peak compressor does at {}",
                        milliseconds(*step.to_63_s), milliseconds(*step.to_90_s), milliseconds(equivalent));
    if (panel_ms && std::abs(1000 * equivalent / *panel_ms - 1) > kCloseMs)
      text += fmt::format(", {:.2g} times the panel's", 1000 * equivalent / *panel_ms);
    return text;
  }

  // Share of the way over time in units of the time to 63 %: units lie on each other when their shape is the
  // same.
  void shape(const std::string& name, const BlockDynamics& b, const GainStep& step, double zero_s) {
    if (!step.to_63_s || !(*step.to_63_s > 0)) return;
    Curve curve{name, channel_, "", "%", {}, {}};
    for (std::size_t i = 0; i < b.gain.time_s.size(); ++i) {
      const double t = (b.gain.time_s[i] - zero_s) / *step.to_63_s;
      if (t < -0.5 || t > kShownTimes) continue;
      curve.x.push_back(t);
      curve.y.push_back(100 * (b.gain.gain_db[i] - step.start_db) / (step.end_db - step.start_db));
    }
    sheet_.draw(std::move(curve));
    in_ms(name.substr(0, name.find(' ')), name.substr(name.find(" shape") + 6), b, step, zero_s);
  }

  // The same over milliseconds, and the tone meanwhile.
  void in_ms(const std::string& what, const std::string& of, const BlockDynamics& b, const GainStep& step,
             double zero_s) {
    if (!step.to_90_s) return;
    const double from = zero_s - kShownBefore * *step.to_90_s, to = zero_s + kShownBehind * *step.to_90_s;
    Curve curve{what + " in ms" + of, channel_, "ms", "%", {}, {}};
    for (std::size_t i = 0; i < b.gain.time_s.size(); ++i)
      if (b.gain.time_s[i] >= from && b.gain.time_s[i] <= to) {
        curve.x.push_back(1000 * (b.gain.time_s[i] - zero_s));
        curve.y.push_back(100 * (b.gain.gain_db[i] - step.start_db) / (step.end_db - step.start_db));
      }
    sheet_.draw(std::move(curve));
    const bool attack = what == "attack";
    Curve wave{"tone at the " + what + of,
               channel_,
               "ms",
               "",
               attack ? b.attack_wave_s : b.release_wave_s,
               attack ? b.attack_wave : b.release_wave};
    for (double& t : wave.x) t *= 1000;
    sheet_.draw(std::move(wave));
  }

  SheetBuilder& sheet_;
  const CaptureInfo& a_;
  const PanelValues& panel_;
  const LikeLadder& like_;
  bool compared_ = false;
  double rate_;
  int channel_ = 0;
  bool several_ = false;
  Conditions common_;
};

}  // namespace

Sheet dynamics_sheet(const DynamicsResult& r, const CaptureInfo& a, const CaptureInfo& b,
                     const PanelValues& panel, const LikeLadder& like) {
  SheetBuilder sheet(dynamics_readings(), b);
  Writer writer(sheet, a, panel, like, r.sample_rate_hz);
  for (std::size_t c = 0; c < r.channels.size(); ++c) writer.write(r.channels[c], static_cast<int>(c));
  return sheet.finish();
}

}  // namespace wavicon
