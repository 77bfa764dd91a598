// SPDX-License-Identifier: MIT
#include "wavicon/measure/latency/latency.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <complex>

#include "measure/common/lined_up.hpp"
#include "measure/common/slip_findings.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/fractional.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/intake/locate.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

constexpr std::int64_t kLookFrames = 1 << 17;  // of the response around the arrival
constexpr double kEarlierS = 0.1;
constexpr double kEarlierRatio = 0.2;     // of the strongest arrival
constexpr double kOneSided = 2;           // times what lies as far behind
constexpr double kOverRest = 8;           // times what lies around
constexpr std::int64_t kNearFrames = 24;  // of the strongest arrival: its own skirts
constexpr double kWeak = 1e-3;            // of the strongest bin's power
constexpr std::int64_t kShownBefore = 20, kShownAfter = 28, kMostShown = 1200;  // samples in the picture
constexpr double kShownHitS = 0.1;                                              // of the first hit of a row
constexpr double kSame = 0.05;                                                  // samples
constexpr double kShownAsNone = 0.005;  // samples, which two digits show as 0
constexpr double kPlainMatch = 0.98;    // of a hit; noise 50 dB below leaves 0.99, a saturated one has less
constexpr double kNoisyMatch = 0.95;    // of a mark

// The best place of A to look at: its loudest sample among some stretches.
std::int64_t loud_frame(AudioSource& a, int channel, std::int64_t first, std::int64_t end) {
  std::int64_t best = first;
  double most = -1;
  const std::int64_t span = std::max<std::int64_t>(1, end - first),
                     length = std::min<std::int64_t>(8192, span);
  for (int i = 0; i < 16; ++i) {
    const std::int64_t at = first + i * (span - length) / 15;
    const auto x = read_channel(a, channel, at, length);
    for (std::size_t n = 2; n + 2 < x.size(); ++n)
      // Steep beats high: a crossing is what the eye compares. Over a few samples, so that hiss is passed
      // over.
      if (const double slope = std::abs(x[n + 2] + x[n + 1] - x[n - 1] - x[n - 2]); slope > most) {
        most = slope;
        best = at + static_cast<std::int64_t>(n);
      }
  }
  return best;
}

// An arrival before the one that was lined up, seen in the response between the two.
void find_earlier(AudioSource& a, AudioSource& b, const Alignment& alignment, LatencyResult& result) {
  const std::int64_t begin = alignment.piece_first_frame, end = alignment.piece_end_frame,
                     length = std::min(kLookFrames, end - begin);
  if (length < 4096) return;
  const std::int64_t middle = loud_frame(a, result.options.a_channel, begin, end);
  const std::int64_t first = std::clamp(middle - length / 2, begin, end - length);
  RealTransform transform(fast_transform_length(static_cast<std::size_t>(2 * length)));
  const auto x = transform.bins_of(read_channel(a, result.options.a_channel, first, length));
  std::vector<double> y(static_cast<std::size_t>(length));
  read_aligned(b, result.options.b_channel, alignment, first, FractionalReader(), y);
  auto response = transform.bins_of(y);
  double highest = 0;
  for (const auto& bin : x) highest = std::max(highest, std::norm(bin));
  for (std::size_t k = 0; k < x.size(); ++k)
    response[k] *= std::conj(x[k]) / (std::norm(x[k]) + kWeak * highest);
  const auto h = transform.invert(response);
  const auto reach =
      std::min<std::int64_t>(static_cast<std::int64_t>(kEarlierS * result.sample_rate_hz), length / 4);
  double at_zero = 0;
  for (std::int64_t n = -2; n <= 2; ++n)
    at_zero = std::max(
        at_zero, std::abs(h[static_cast<std::size_t>(n < 0 ? n + static_cast<std::int64_t>(h.size()) : n)]));
  double most = 0, squares = 0;
  std::int64_t lag = 0;
  for (std::int64_t n = kNearFrames; n < reach; ++n) {
    const double value = std::abs(h[h.size() - static_cast<std::size_t>(n)]);
    squares += value * value;
    // What a periodic programme does to the response, it does to both sides.
    if (value > most && value > kOneSided * std::abs(h[static_cast<std::size_t>(n)])) {
      most = value;
      lag = n;
    }
  }
  const double around =
      std::sqrt(squares / static_cast<double>(std::max<std::int64_t>(1, reach - kNearFrames)));
  if (most < kEarlierRatio * at_zero || most < kOverRest * around) return;
  result.earlier_samples = static_cast<double>(lag);
  result.earlier_db = db_from_ratio(most / at_zero);
}

void show(AudioSource& a, AudioSource& b, double gain, std::int64_t first, std::int64_t end,
          LatencyResult& result) {
  const std::int64_t place = loud_frame(a, result.options.a_channel, first, end);
  const auto late = static_cast<std::int64_t>(std::ceil(result.latency_samples));
  const std::int64_t from = place - kShownBefore + std::min<std::int64_t>(0, std::max(late, -kMostShown)),
                     to = place + kShownAfter + std::max<std::int64_t>(0, std::min(late, kMostShown));
  result.shown_a = read_channel(a, result.options.a_channel, from, to - from);
  result.shown_b = read_channel(b, result.options.b_channel, from, to - from);
  Alignment moved;
  moved.delay_frames = result.latency_samples + static_cast<double>(place) * result.drift_ppm * 1e-6;
  result.shown_moved.resize(result.shown_a.size());
  read_aligned(b, result.options.b_channel, moved, from, FractionalReader(), result.shown_moved);
  for (std::size_t n = 0; n < result.shown_a.size(); ++n) {
    result.shown_samples.push_back(static_cast<double>(from - place) + static_cast<double>(n));
    result.shown_b[n] /= gain;
    result.shown_moved[n] /= gain;
  }
}

bool by_marks(AudioSource& a, AudioSource& b, const Stimulus& stimulus, LatencyResult& result) {
  const auto in_a = locate(a, stimulus), in_b = locate(b, stimulus);
  if (in_a.empty() || in_b.empty()) return false;
  // The same appearance in both: the first one.
  const Take &p = in_a.front(), &q = in_b.front();
  std::vector<double> late;
  double own = 0;  // squares of what each mark is off by
  result.confidence = 1;
  for (const auto& [x, y] : {std::pair{&p.start, &q.start}, std::pair{&p.end, &q.end}})
    if (*x && *y) {
      late.push_back((*y)->frame - (*x)->frame);
      own += std::pow(deviation_of(**x, a.sample_rate_hz()).frames, 2) +
             std::pow(deviation_of(**y, a.sample_rate_hz()).frames, 2);
      result.confidence = std::min(result.confidence, (*y)->match);
    }
  if (late.empty() || std::abs(p.rate_ratio - q.rate_ratio) > 1e-6) return false;
  result.by_marks = true;
  result.repeats = static_cast<int>(late.size());
  result.drift_ppm = late.size() == 2 ? (q.frames_per_frame / p.frames_per_frame - 1) * 1e6 : 0;
  // Two marks that differ by more than a drift explains have lost frames between them: the first one counts.
  const bool slipped = q.slipped_frames != p.slipped_frames;
  result.latency_samples = late.front();
  const double apart = late.back() - late.front();
  if (!slipped && std::abs(apart) < 0.5) {
    result.latency_samples = 0.5 * (late.front() + late.back());
    result.spread_samples = 0.5 * std::abs(apart);
    if (std::abs(apart) < kSame) result.drift_ppm = 0;
  }
  const auto count = static_cast<double>(late.size());
  result.uncertainty_samples = 2 * std::sqrt(own) / count;
  if (result.drift_ppm != 0)
    result.drift_uncertainty_ppm =
        1e6 * 2 * std::sqrt(own) / std::max(1.0, (*p.end).frame - (*p.start).frame);
  // Two marks in noise scatter; what lies between them says it again.
  if (!slipped && result.confidence < kNoisyMatch && result.drift_ppm == 0)
    if (const auto all = align(a, b,
                               {.reference_channel = result.options.a_channel,
                                .capture_channel = result.options.b_channel,
                                .drift = false});
        all && std::abs(all->delay_frames - result.latency_samples) < 0.5) {
      result.latency_samples = all->delay_frames;
      result.uncertainty_samples = all->uncertainty_frames;
    }
  result.polarity = p.polarity * q.polarity;
  const auto& marks = *stimulus.marks();
  const auto first = static_cast<std::int64_t>(p.first_frame + static_cast<double>(marks.start_frame));
  show(a, b, ratio_from_db(q.gain_db - p.gain_db) * result.polarity, first, first + marks.frames, result);
  return true;
}

// Each hit of a row by itself.
bool by_hits(AudioSource& a, AudioSource& b, LatencyResult& result) {
  const auto row = align_hits(
      a, b, {.reference_channel = result.options.a_channel, .capture_channel = result.options.b_channel});
  if (!row) return false;
  result.row = judge_hits(row->hits, row->looked);
  const HitLatencies& found = *result.row;
  const std::size_t first = found.jumps.empty() ? found.hits.size() : found.jumps.front();
  double own = 0, squares = 0;
  for (std::size_t i = 0; i < found.hits.size(); ++i) {
    if (i < first) result.latency_samples += found.hits[i].delay_frames / static_cast<double>(first);
    if (i < first) own += std::pow(found.hits[i].uncertainty_frames, 2);
    squares += std::pow(found.off_samples[i], 2);
  }
  const auto count = static_cast<double>(found.hits.size()), taken = static_cast<double>(first);
  result.spread_samples = std::sqrt(squares / (count - 1));
  result.uncertainty_samples = std::max(std::sqrt(own) / taken, 2 * result.spread_samples / std::sqrt(taken));
  if (found.course == HitCourse::drifts) {
    result.latency_samples = found.at_start_frames;
    result.uncertainty_samples = found.at_start_uncertainty_frames;
    result.drift_ppm = found.drift_ppm;
  }
  result.polarity = row->gain < 0 ? -1 : 1;
  result.candidates = row->candidates;
  Alignment along{.delay_frames = result.latency_samples,
                  .piece_first_frame = found.hits.front().first_frame,
                  .piece_end_frame = found.hits.back().first_frame + kLookFrames};
  along.frames_per_frame += 1e-6 * result.drift_ppm;
  if (found.course == HitCourse::steady) find_earlier(a, b, along, result);
  show(a, b, row->gain, found.hits.front().first_frame,
       found.hits.front().first_frame + std::llround(kShownHitS * result.sample_rate_hz), result);
  return true;
}

}  // namespace

LatencyResult measure_latency(const JudgedCapture& judged_a, const JudgedCapture& judged_b,
                              const LatencyOptions& options) {
  AudioSource &a = judged_a.source(), &b = judged_b.source();
  if (a.sample_rate_hz() != b.sample_rate_hz())
    throw Error(ErrorCode::bad_argument,
                fmt::format("A has {:g} Hz and B has {:g} Hz: a latency in samples needs one rate",
                            a.sample_rate_hz(), b.sample_rate_hz()));
  for (const auto& [source, channel, name] :
       {std::tuple{&a, options.a_channel, "A"}, std::tuple{&b, options.b_channel, "B"}}) {
    if (source->frames() == 0)
      throw Error(ErrorCode::bad_input, fmt::format("{} holds no audio: 0 frames", name));
    if (channel < 0 || channel >= source->channel_count())
      throw Error(ErrorCode::bad_argument,
                  fmt::format("{} has no channel {}, it has {}", name, channel + 1, source->channel_count()));
  }
  LatencyResult result;
  result.options = options;
  result.sample_rate_hz = a.sample_rate_hz();
  const auto& stimulus = judged_a.known_stimulus();
  if (options.each_hit) {
    if (by_hits(a, b, result)) return result;
    throw Error(ErrorCode::bad_input,
                fmt::format("A holds {} hits, sudden beginnings 50 ms apart, and in B fewer than three, or "
                            "less than six of ten of them, are found with a match of 92 %",
                            find_hits(a, options.a_channel).size()));
  }
  if (stimulus && stimulus->marks() && by_marks(a, b, *stimulus, result)) return result;
  if (is_row_of_hits(a, options.a_channel) && by_hits(a, b, result)) return result;

  const Alignment found = measure_detail::lined_up(
      a, b, {.reference_channel = options.a_channel, .capture_channel = options.b_channel});
  result.latency_samples = found.delay_frames;
  result.drift_ppm = found.drift_ppm;
  // A drift that moves less than the segments scatter is none.
  const double moved =
      std::abs(found.drift_ppm) * 1e-6 * static_cast<double>(found.end_frame - found.first_frame);
  if (moved < std::max(kSame, 3 * found.spread_frames)) {
    result.latency_samples +=
        0.5 * found.drift_ppm * 1e-6 * static_cast<double>(found.end_frame + found.first_frame);
    result.drift_ppm = 0;
  }
  result.spread_samples = found.spread_frames;
  result.polarity = found.gain < 0 ? -1 : 1;
  result.confidence = found.confidence;
  result.by_residual = found.by_residual;
  result.match = found.match;
  result.uncertainty_samples = found.uncertainty_frames;
  if (result.drift_ppm != 0) result.drift_uncertainty_ppm = found.drift_uncertainty_ppm;
  result.drift_bound_ppm = found.drift_bound_ppm;
  result.candidates = found.candidates;
  result.slips = found.slips;
  if (!found.slips.empty()) {
    result.piece_samples = delays_of_pieces(found);
    result.piece_from_s = static_cast<double>(found.piece_first_frame) / result.sample_rate_hz;
    result.piece_to_s = static_cast<double>(found.piece_end_frame) / result.sample_rate_hz;
  }
  find_earlier(a, b, found, result);
  show(a, b, found.gain, found.piece_first_frame, found.piece_end_frame, result);
  return result;
}

std::string latency_verdict(const std::vector<double>& latency_samples,
                            const std::vector<double>& block_frames) {
  if (latency_samples.size() < 2) return "";
  const auto [low, high] = std::minmax_element(latency_samples.begin(), latency_samples.end());
  if (*high - *low < kSame) return fmt::format("constant: {:.2f} samples", 0.5 * (*low + *high));
  if (block_frames.size() == latency_samples.size()) {
    double n = 0, x = 0, y = 0, xx = 0, xy = 0;
    for (std::size_t i = 0; i < block_frames.size(); ++i) {
      n += 1;
      x += block_frames[i];
      y += latency_samples[i];
      xx += block_frames[i] * block_frames[i];
      xy += block_frames[i] * latency_samples[i];
    }
    const double determinant = n * xx - x * x;
    if (determinant > 0) {
      const double slope = (n * xy - x * y) / determinant, rest = (y - slope * x) / n;
      double most = 0;
      for (std::size_t i = 0; i < block_frames.size(); ++i)
        most = std::max(most, std::abs(latency_samples[i] - slope * block_frames[i] - rest));
      // Two points always lie on a line.
      if (most < kSame && block_frames.size() > 2)
        return fmt::format("follows the block size: {:.2f} × block {} {:.2f} samples", slope,
                           rest < 0 ? "-" : "+", std::abs(rest));
    }
  }
  return fmt::format("varies by {:.2f} samples", *high - *low);
}

namespace {

void say_offset(SheetBuilder& sheet, const LatencyResult& r, const Conditions& conditions) {
  const double reported = *r.options.reported_samples, offset = r.latency_samples - reported,
               whole = std::round(offset);
  sheet.add("reported_samples", std::nullopt, reported, conditions);
  sheet.add("offset_samples", std::nullopt, offset, conditions).uncertainty = r.uncertainty_samples;
  sheet.say(
      Severity::note, FindingCode::result,
      whole == 0
          ? fmt::format("{:g} samples are reported, which is right: nothing to enter ({:+.2f} remain)",
                        reported, offset)
          : fmt::format("{:g} samples are reported: shift recordings {} by another {:.0f} samples ({:+.2f} "
                        "remain)",
                        reported, whole > 0 ? "earlier" : "later", std::abs(whole), offset - whole),
      std::nullopt);
}

void say_slips(SheetBuilder& sheet, const LatencyResult& r) {
  for (std::size_t i = 0; i < r.slips.size(); ++i)
    measure_detail::say_slip(
        sheet, r.slips[i], r.sample_rate_hz,
        fmt::format("before, the latency is {:.2f} samples, behind {:.2f}; capture it again with a larger "
                    "buffer",
                    r.piece_samples[i], r.piece_samples[i + 1]));
}

void add_hits(SheetBuilder& sheet, const LatencyResult& r, const Conditions& conditions) {
  const HitLatencies& row = *r.row;
  std::vector<double> times, delays;
  const auto add = [&](const char* name, std::size_t i, double value) {
    Conditions own = conditions;
    own.emplace_back("at_s", static_cast<double>(row.hits[i].first_frame) / r.sample_rate_hz);
    own.emplace_back("match", row.hits[i].match);
    sheet.add(name, std::nullopt, value, own).uncertainty = row.hits[i].uncertainty_frames;
  };
  add("worst_hit_samples", row.worst, row.off_samples[row.worst]);
  for (std::size_t i = 0; i < row.hits.size(); ++i) {
    add("hit_samples", i, row.hits[i].delay_frames);
    times.push_back(static_cast<double>(row.hits[i].first_frame) / r.sample_rate_hz);
    delays.push_back(row.hits[i].delay_frames);
  }
  sheet.draw({"latency of each hit", std::nullopt, "s", "samples", times, delays});
}

std::string course_of(const LatencyResult& r) {
  const HitLatencies& row = *r.row;
  const auto at_s = [&](std::size_t i) {
    return static_cast<double>(row.hits[i].first_frame) / r.sample_rate_hz;
  };
  const std::string count = fmt::format("{} hits", row.hits.size());
  switch (row.course) {
    case HitCourse::steady:
      return fmt::format(": {}, steady to {:.2g} samples", count,
                         std::max(0.001, std::abs(row.off_samples[row.worst])));
    case HitCourse::drifts:
      return fmt::format(" at the start: {}, which drift by {:+.3f} ppm, {:+.2f} samples a minute", count,
                         r.drift_ppm, r.drift_ppm * 1e-6 * 60 * r.sample_rate_hz);
    case HitCourse::jumps: {
      std::string jumps;
      for (std::size_t i = 0; i < row.jumps.size(); ++i)
        jumps += fmt::format("{}by {:+.2f} samples at {:.3f} s", i == 0 ? "" : ", ", row.jump_samples[i],
                             at_s(row.jumps[i]));
      return fmt::format(" up to {:.3f} s; it jumps {} ({})", at_s(row.jumps.front()), jumps, count);
    }
    case HitCourse::jitters:
      return fmt::format(
          " on average, and not steadily: {} jitter by {:.2f} samples (RMS), the worst is "
          "{:+.2f} off, at {:.3f} s",
          count, r.spread_samples, row.off_samples[row.worst], at_s(row.worst));
  }
  return "";
}

}  // namespace

Sheet latency_sheet(const LatencyResult& r, const CaptureInfo& a, const CaptureInfo& b) {
  SheetBuilder sheet(latency_readings(), b);
  const double ms = 1000 * r.latency_samples / r.sample_rate_hz;
  Conditions conditions = {{"reference", a.file},
                           {"by", std::string(r.row           ? "hits"
                                              : r.by_marks    ? "marks"
                                              : r.match > 0   ? "hit"
                                              : r.by_residual ? "residual"
                                                              : "programme")},
                           {"sample_rate_hz", r.sample_rate_hz}};
  if (r.row)
    conditions.emplace_back("hits", static_cast<std::int64_t>(r.row->hits.size()));
  else if (r.match > 0)
    conditions.emplace_back("match", r.match);
  else if (!r.by_residual)
    conditions.emplace_back(r.by_marks ? "least_match" : "confidence", r.confidence);
  if (!r.row && !r.by_marks && r.match == 0 && r.drift_ppm == 0)
    conditions.emplace_back("drift_bound_ppm", r.drift_bound_ppm);
  if (r.by_marks) conditions.emplace_back("repeats", static_cast<std::int64_t>(r.repeats));
  auto add = [&](const char* name, double value) -> Reading& {
    return sheet.add(name, std::nullopt, value, conditions);
  };
  auto say = [&](Severity severity, FindingCode code, std::string text) {
    sheet.say(severity, code, std::move(text), std::nullopt);
  };
  add("latency_samples", r.latency_samples).uncertainty = r.uncertainty_samples;
  Reading& in_ms = add("latency_ms", ms);
  if (r.uncertainty_samples) in_ms.uncertainty = 1000 * *r.uncertainty_samples / r.sample_rate_hz;
  if (r.match == 0 && (!r.by_marks || r.repeats > 1)) add("spread_samples", r.spread_samples);
  add("polarity", r.polarity);
  if (r.drift_ppm != 0) add("drift_ppm", r.drift_ppm).uncertainty = r.drift_uncertainty_ppm;
  if (r.row) add_hits(sheet, r, conditions);
  say(Severity::note, FindingCode::result,
      fmt::format("B comes {:.2f} samples ({:.3f} ms) {} A{}{}", std::abs(r.latency_samples), std::abs(ms),
                  r.latency_samples < -kShownAsNone ? "before" : "after", r.polarity < 0 ? ", inverted" : "",
                  r.row             ? course_of(r)
                  : r.match > 0     ? fmt::format("; one hit, which matches to {:.1f} %", 100 * r.match)
                  : r.slips.empty() ? ""
                                    : fmt::format(" from {:.3f} to {:.3f} s, and not throughout",
                                                  r.piece_from_s, r.piece_to_s)));
  say_slips(sheet, r);
  if (r.row && r.row->looked > static_cast<int>(r.row->hits.size()))
    say(Severity::warning, FindingCode::doubtful,
        fmt::format("{} of {} hits of A were not found in B: they are not there, or sound otherwise",
                    r.row->looked - static_cast<int>(r.row->hits.size()), r.row->looked));
  if (r.match > 0 && r.match < kPlainMatch)
    say(Severity::warning, FindingCode::doubtful,
        "one hit that does not match plainly: by its place alone another one of its kind cannot be told from "
        "it; use several hits, speech, or a stimulus with marks");
  if (r.options.reported_samples) say_offset(sheet, r, conditions);
  if (r.drift_ppm != 0 && !r.row)
    say(Severity::warning, FindingCode::clock_drift,
        fmt::format("the clocks drift by {:+.3f} ppm: the latency holds for the start, "
                    "and moves by {:+.2f} samples a minute",
                    r.drift_ppm, r.drift_ppm * 1e-6 * 60 * r.sample_rate_hz));
  if (!r.candidates.empty()) {
    std::string places;
    for (const double place : r.candidates)
      places += fmt::format("{}{:.0f}", places.empty() ? "" : ", ", place);
    say(Severity::warning, FindingCode::ambiguous_place,
        fmt::format("the signal repeats itself: {} samples would fit nearly as well; use "
                    "a stimulus with marks, or speech",
                    places));
  }
  if (r.earlier_samples)
    say(Severity::warning, FindingCode::doubtful,
        fmt::format(
            "a weaker arrival ({:.1f} dB) comes {:.0f} samples before the one that was taken: an echo is "
            "stronger than the direct sound; then the latency is {:.2f} samples",
            r.earlier_db, *r.earlier_samples, r.latency_samples - *r.earlier_samples));
  auto curve = [&](const char* name, const std::vector<double>& y) {
    sheet.draw({name, std::nullopt, "samples", "", r.shown_samples, y});
  };
  curve("A", r.shown_a);
  curve("B as it came", r.shown_b);
  curve("B moved", r.shown_moved);
  return sheet.finish();
}

}  // namespace wavicon
