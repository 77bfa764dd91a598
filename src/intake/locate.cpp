// SPDX-License-Identifier: MIT
#include "wavicon/intake/locate.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <utility>

#include "mark_search.hpp"
#include "samples.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon {
namespace {

using namespace intake_detail;

// Speeds at which a stimulus may have been played by mistake: ratios of the usual rates.
constexpr std::array kSpeeds = {48.0 / 44.1,  44.1 / 48.0,  2.0,          0.5,
                                96.0 / 44.1,  44.1 / 96.0,  88.2 / 48.0,  48.0 / 88.2,
                                4.0,          0.25,         192.0 / 44.1, 44.1 / 192.0,
                                176.4 / 48.0, 48.0 / 176.4, 96.0 / 88.2,  88.2 / 96.0};
constexpr double kMarkTopHz = 5000;  // as mark_samples() makes it, or 0.4 of the rate
constexpr double kSilence = 1e-9;    // local RMS under which nothing is looked for: -180 dBFS

// Both lists over all channels; of the same mark in several channels the best is kept.
std::vector<Found> best_of_channels(std::vector<Found> all, double mark_frames) {
  std::sort(all.begin(), all.end(),
            [](const Found& a, const Found& b) { return a.mark.frame < b.mark.frame; });
  std::vector<Found> kept;
  for (const Found& found : all) {
    if (!kept.empty() && found.mark.frame - kept.back().mark.frame < mark_frames / 2) {
      if (found.mark.match > kept.back().mark.match + 1e-6) kept.back() = found;
    } else {
      kept.push_back(found);
    }
  }
  return kept;
}

Take make_take(const std::optional<Found>& start, const std::optional<Found>& end, const Stimulus& stimulus,
               double scale, double speed, const LocateOptions& options) {
  const PlacedMarks& marks = *stimulus.marks();
  Take take;
  take.rate_ratio = speed;
  take.frames_per_frame = scale;
  take.channel = start ? start->channel : end->channel;
  double gain = 0;
  for (const auto& found : {start, end})
    if (found) gain += found->mark.gain / (start && end ? 2 : 1);
  take.gain_db = db_from_ratio(std::max(std::abs(gain), 1e-15));
  take.polarity = gain < 0 ? -1 : 1;
  if (start) take.start = start->mark;
  if (end) take.end = end->mark;
  if (start && end) {
    const double distance = static_cast<double>(marks.end_frame - marks.start_frame) * scale;
    const double off = end->mark.frame - start->mark.frame - distance;
    if (std::abs(off) <= std::max(0.5, options.most_drift_ppm * 1e-6 * distance)) {
      take.drift_ppm = off / distance * 1e6;
      take.frames_per_frame = scale * (1 + off / distance);
    } else {
      take.slipped_frames = std::llround(off);
    }
  }
  take.first_frame = start
                         ? start->mark.frame - static_cast<double>(marks.start_frame) * take.frames_per_frame
                         : end->mark.frame - static_cast<double>(marks.end_frame) * take.frames_per_frame;
  return take;
}

// Pairs of marks at the very distance that they were played at; of those that reach into each other the
// loudest, as an echo repeats both. What else was found of the same kind within a pair, or shortly behind it,
// and is softer, is an echo and is taken out.
std::vector<std::pair<Found, Found>> whole_pairs(std::vector<Found>& starts, std::vector<Found>& ends,
                                                 double distance, const LocateOptions& options) {
  const double tolerance = std::max(0.5, options.most_drift_ppm * 1e-6 * distance);
  const auto gain = [](const std::pair<Found, Found>& pair) {
    return std::abs(pair.first.mark.gain) + std::abs(pair.second.mark.gain);
  };
  std::vector<std::pair<Found, Found>> pairs;
  for (const Found& start : starts)
    for (const Found& end : ends)
      if (std::abs(end.mark.frame - start.mark.frame - distance) <= tolerance) pairs.emplace_back(start, end);
  std::sort(pairs.begin(), pairs.end(), [&](const auto& p, const auto& q) { return gain(p) > gain(q); });
  std::vector<std::pair<Found, Found>> kept;
  for (const auto& pair : pairs)
    if (std::none_of(kept.begin(), kept.end(), [&](const auto& other) {
          return std::abs(pair.first.mark.frame - other.first.mark.frame) < distance;
        }))
      kept.push_back(pair);
  for (const auto& [start, end] : kept) {
    const auto repeats = [&](const FoundMark& of, double from, double to) {
      return [=](const Found& found) {
        return found.mark.frame > from && found.mark.frame < to &&
               std::abs(found.mark.gain) <= std::abs(of.gain);
      };
    };
    std::erase_if(starts, repeats(start.mark, start.mark.frame - 0.5, end.mark.frame));
    std::erase_if(ends, repeats(end.mark, end.mark.frame - 0.5, end.mark.frame + distance));
  }
  return kept;
}

// Joins each start with the end that lies at the right distance, or at one that a slip of up to a tenth
// explains.
std::vector<Take> pair_up(std::vector<Found> starts, std::vector<Found> ends, const Stimulus& stimulus,
                          double scale, double speed, const LocateOptions& options) {
  const PlacedMarks& marks = *stimulus.marks();
  const double distance = static_cast<double>(marks.end_frame - marks.start_frame) * scale;
  std::vector<Take> takes;
  for (const auto& [start, end] : whole_pairs(starts, ends, distance, options))
    takes.push_back(make_take(start, end, stimulus, scale, speed, options));
  for (std::size_t i = 0; i < starts.size(); ++i) {
    const double expected = starts[i].mark.frame + distance;
    auto best = ends.end();
    for (auto end = ends.begin(); end != ends.end(); ++end) {
      const bool before_next = i + 1 == starts.size() || end->mark.frame < starts[i + 1].mark.frame;
      const bool near =
          std::abs(end->mark.frame - expected) < 0.1 * distance + static_cast<double>(marks.frames) * scale;
      if (before_next && near &&
          (best == ends.end() ||
           std::abs(end->mark.frame - expected) < std::abs(best->mark.frame - expected)))
        best = end;
    }
    if (best == ends.end()) {
      takes.push_back(make_take(starts[i], std::nullopt, stimulus, scale, speed, options));
    } else {
      takes.push_back(make_take(starts[i], *best, stimulus, scale, speed, options));
      ends.erase(best);
    }
  }
  for (const Found& end : ends)
    takes.push_back(make_take(std::nullopt, end, stimulus, scale, speed, options));
  std::sort(takes.begin(), takes.end(),
            [](const Take& a, const Take& b) { return a.first_frame < b.first_frame; });
  return takes;
}

// A chirp at another rate is rounded to whole frames; run backwards, that rounding lies at its start. Added
// to the place where it was found, this gives the place of the stimulus's own first frame of that mark.
double backwards_shift(std::size_t template_frames, const Stimulus& stimulus, double scale) {
  return static_cast<double>(template_frames - 1) - static_cast<double>(stimulus.marks()->frames - 1) * scale;
}

// A chirp that was stretched by a drifting clock pulls its own place by a part of a sample, forwards and
// backwards ones in opposite directions: both are looked at again through a chirp that is stretched alike.
Take sharpened(AudioSource& capture, const Stimulus& stimulus, Take take, double scale, double speed,
               const LocateOptions& options, RealTransforms& transforms) {
  for (int pass = 0; pass < 2 && take.start && take.end && take.drift_ppm != 0; ++pass) {
    const double rate = stimulus.recipe().sample_rate_hz;
    const auto mark = mark_samples(rate * take.frames_per_frame, rate);
    const std::vector<double> backwards(mark.rbegin(), mark.rend());
    auto again = [&](const FoundMark& found, const std::vector<double>& by) {
      const std::int64_t first = std::llround(found.frame);
      const auto segment = read_channel(capture, take.channel, first, static_cast<std::int64_t>(by.size()));
      return Found{refine(segment, by, static_cast<double>(first), found.match, transforms), take.channel};
    };
    FoundMark end = *take.end;
    end.frame -= backwards_shift(mark.size(), stimulus, take.frames_per_frame);
    Found found_end = again(end, backwards);
    found_end.mark.frame += backwards_shift(mark.size(), stimulus, take.frames_per_frame);
    take = make_take(again(*take.start, mark), found_end, stimulus, scale, speed, options);
  }
  return take;
}

// Signed gain of each channel at one of the marks: the largest correlation within a few frames.
std::vector<double> channel_gains(AudioSource& capture, const Take& take, const std::vector<double>& mark,
                                  double least_match) {
  constexpr std::int64_t kReach = 32;
  const std::vector<double> backwards(mark.rbegin(), mark.rend());
  const std::vector<double>& by = take.start ? mark : backwards;
  const std::int64_t first = std::llround(take.start ? take.start->frame : take.end->frame) - kReach;
  const std::size_t window = by.size() + 2 * kReach;
  std::vector<double> planar(window * static_cast<std::size_t>(capture.channel_count()));
  capture.read(first, planar);
  std::vector<double> gains;
  for (int c = 0; c < capture.channel_count(); ++c) {
    double gain = 0, highest = least_match;
    for (std::size_t offset = 0; offset <= 2 * kReach; ++offset) {
      const auto segment =
          std::span<const double>(planar).subspan(static_cast<std::size_t>(c) * window + offset, by.size());
      const double both = sum_of_products(segment, by);
      const double local = energy(segment),
                   match = local > 0 ? std::abs(both) / std::sqrt(local * energy(by)) : 0;
      if (match <= highest) continue;
      highest = match;
      gain = both / energy(by);
    }
    gains.push_back(gain);
  }
  return gains;
}

std::vector<Take> locate_at_speed(AudioSource& capture, const Stimulus& stimulus, double speed,
                                  const LocateOptions& options, RealTransforms& transforms) {
  const double stimulus_rate = stimulus.recipe().sample_rate_hz;
  const double scale = capture.sample_rate_hz() / stimulus_rate / speed;
  const auto mark = mark_samples(stimulus_rate * scale, stimulus_rate);
  if (mark.size() < 16 || mark.size() > static_cast<std::size_t>(capture.frames())) return {};
  FoundMarks found = search_marks(capture, mark, kMarkTopHz * speed, options.least_match, transforms);
  for (Found& end : found.backwards) end.mark.frame += backwards_shift(mark.size(), stimulus, scale);
  const double frames = static_cast<double>(mark.size());
  auto takes = pair_up(best_of_channels(std::move(found.forwards), frames),
                       best_of_channels(std::move(found.backwards), frames), stimulus, scale, speed, options);
  for (Take& take : takes) {
    take = sharpened(capture, stimulus, take, scale, speed, options, transforms);
    take.channel_gains = channel_gains(capture, take, mark, options.least_match);
  }
  return takes;
}

// A capture of the stimulus's own rate and length that holds both marks where the stimulus has them needs no
// search.
std::optional<Take> locate_in_place(AudioSource& capture, const Stimulus& stimulus,
                                    const LocateOptions& options, RealTransforms& transforms) {
  constexpr double kSurely = 0.9;
  const double rate = stimulus.recipe().sample_rate_hz;
  const PlacedMarks& marks = *stimulus.marks();
  if (capture.sample_rate_hz() != rate || capture.frames() < stimulus.frames() ||
      capture.frames() > stimulus.frames() + marks.frames)
    return std::nullopt;
  const auto mark = mark_samples(rate);
  const std::vector<double> backwards(mark.rbegin(), mark.rend());
  std::optional<Take> best;
  for (int c = 0; c < capture.channel_count(); ++c) {
    auto look = [&](std::int64_t at, const std::vector<double>& by) {
      const auto segment = read_channel(capture, c, at, static_cast<std::int64_t>(by.size()));
      const double both = sum_of_products(segment, by);
      const double match = std::abs(both) / std::sqrt(std::max(energy(segment), kSilence) * energy(by));
      return match < kSurely ? Found{{0, 0, 0}, c}
                             : Found{refine(segment, by, static_cast<double>(at), match, transforms), c};
    };
    const Found start = look(marks.start_frame, mark), end = look(marks.end_frame, backwards);
    if (start.mark.match == 0 || end.mark.match == 0) continue;
    const Take take = make_take(start, end, stimulus, 1.0, 1.0, options);
    if (!best || take.start->match + take.end->match > best->start->match + best->end->match + 1e-6)
      best = take;
  }
  if (best) best->channel_gains = channel_gains(capture, *best, mark, options.least_match);
  return best;
}

bool has_both(const std::vector<Take>& takes) {
  return std::any_of(takes.begin(), takes.end(), [](const Take& take) { return take.start && take.end; });
}

}  // namespace

std::vector<Take> locate(AudioSource& capture, const Stimulus& stimulus, const LocateOptions& options) {
  if (!stimulus.marks())
    throw Error(ErrorCode::bad_argument,
                "the stimulus carries no marks to be found by; make it without --no-marks");
  if (capture.frames() == 0) throw Error(ErrorCode::bad_input, "there is no audio in it: 0 frames");
  RealTransforms transforms;
  if (const auto in_place = locate_in_place(capture, stimulus, options, transforms)) return {*in_place};
  auto takes = locate_at_speed(capture, stimulus, 1.0, options, transforms);
  if (has_both(takes)) return takes;
  for (const double speed : kSpeeds) {
    // A chirp at a slightly wrong speed still matches a little: only both marks at the right distance are
    // believed.
    auto others = locate_at_speed(capture, stimulus, speed, options, transforms);
    std::erase_if(others,
                  [](const Take& take) { return !take.start || !take.end || take.slipped_frames != 0; });
    if (!others.empty()) return others;
  }
  return takes;
}

std::vector<Take> locate(const Audio& capture, const Stimulus& stimulus, const LocateOptions& options) {
  require_measurable(capture);
  MemorySource source(capture);
  return locate(source, stimulus, options);
}

std::optional<RepeatingStretch> repeating_stretch(const Stimulus& stimulus, std::size_t part,
                                                  const Take& take, double capture_rate_hz) {
  const auto* noise = std::get_if<Noise>(&stimulus.recipe().parts[part].kind);
  if (noise == nullptr || !noise->period_s) return std::nullopt;
  const double rate = stimulus.recipe().sample_rate_hz;
  const auto period = static_cast<double>(noise_period_frames(*noise, rate));
  const PlacedPart& placed = stimulus.parts()[part];
  // The first period is for settling: a fade may lie in it.
  const double from =
                   static_cast<double>(placed.first_frame) + std::max(0.0, noise->fade_in_s * rate - period),
               to = static_cast<double>(placed.first_frame + placed.frames) - noise->fade_out_s * rate;
  if (to - from < 2 * period) return std::nullopt;
  const auto seconds = [&](double frame) {
    return (take.first_frame + frame * take.frames_per_frame) / capture_rate_hz;
  };
  const double in_capture = period * take.frames_per_frame;
  RepeatingStretch stretch{std::max(0.0, seconds(from)), seconds(to), std::llround(in_capture), 0};
  stretch.slip_frames = in_capture - static_cast<double>(stretch.period_frames);
  return stretch;
}

Alignment alignment_of(const Take& reference, const Take& capture) {
  Alignment alignment;
  alignment.frames_per_frame = capture.frames_per_frame / reference.frames_per_frame;
  // Two marks tell no drift smaller than their own error.
  if (std::abs(alignment.frames_per_frame - 1) < 2e-7) alignment.frames_per_frame = 1;
  alignment.drift_ppm = (alignment.frames_per_frame - 1) * 1e6;
  alignment.delay_frames = capture.first_frame - reference.first_frame * alignment.frames_per_frame;
  return alignment;
}

MarkDeviation deviation_of(const FoundMark& mark, double sample_rate_hz) {
  constexpr double kReadTo = 1e-3, kLeastMatch = 1e-3, kMostMatch = 1 - 1e-12;
  const auto samples = mark_samples(sample_rate_hz);
  double own = 0, moves = 0;
  for (std::size_t n = 1; n < samples.size(); ++n) {
    own += samples[n] * samples[n];
    moves += (samples[n] - samples[n - 1]) * (samples[n] - samples[n - 1]);
  }
  const double match = std::clamp(std::abs(mark.match), kLeastMatch, kMostMatch),
               noise = (1 / (match * match) - 1) * own / static_cast<double>(samples.size());
  return {std::hypot(std::sqrt(noise / moves), kReadTo), std::sqrt(noise / own)};
}

}  // namespace wavicon
