#include "wavicon/intake/locate.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <complex>
#include <numbers>
#include <numeric>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon {
namespace {

// Speeds at which a stimulus may have been played by mistake: ratios of the usual rates.
constexpr std::array kSpeeds = {48.0 / 44.1,  44.1 / 48.0,  2.0,          0.5,
                                96.0 / 44.1,  44.1 / 96.0,  88.2 / 48.0,  48.0 / 88.2,
                                4.0,          0.25,         192.0 / 44.1, 44.1 / 192.0,
                                176.4 / 48.0, 48.0 / 176.4, 96.0 / 88.2,  88.2 / 96.0};
constexpr double kSilence = 1e-9;  // local RMS under which nothing is looked for: -180 dBFS
constexpr int kRefinements = 12;
constexpr double kChirpBand = 1e-6;  // power of a bin over the highest: 60 dB

struct Found {
  FoundMark mark;
  int channel = 0;
};

double energy(std::span<const double> x) { return std::inner_product(x.begin(), x.end(), x.begin(), 0.0); }

// Delay of `segment` against `mark`, a fraction of a sample, and the gain there: the maximum of the
// correlation between samples, by Newton's method on the cross-spectrum.
FoundMark refine(std::span<const double> segment, std::span<const double> mark, double first_frame,
                 double match, RealTransforms& transforms) {
  RealTransform& transform = transforms.get(fast_transform_length(4 * mark.size()));
  auto spectrum = [&](std::span<const double> x) {
    std::fill(transform.input().begin(), transform.input().end(), 0.0);
    std::copy(x.begin(), x.end(), transform.input().begin());
    transform.execute();
    return std::vector<std::complex<double>>(transform.bins().begin(), transform.bins().end());
  };
  const auto a = spectrum(segment), b = spectrum(mark);
  const double step = 2 * std::numbers::pi / static_cast<double>(transform.length());
  // Bins far outside of the chirp's band hold nothing of it.
  std::vector<std::pair<double, std::complex<double>>> cross;
  double highest = 0;
  for (const auto& bin : b) highest = std::max(highest, std::norm(bin));
  for (std::size_t k = 1; k < a.size(); ++k)
    if (std::norm(b[k]) > kChirpBand * highest)
      cross.emplace_back(step * static_cast<double>(k), a[k] * std::conj(b[k]));
  double delay = 0, sum = 0, sign = 0;
  for (int i = 0; i < kRefinements; ++i) {
    double slope = 0, curvature = 0;
    sum = 0;
    for (const auto& [w, product] : cross) {
      const std::complex<double> c = product * std::polar(1.0, w * delay);
      sum += c.real();
      slope -= w * c.imag();
      curvature -= w * w * c.real();
    }
    if (sign == 0) sign = sum < 0 ? -1 : 1;
    if (sign * curvature >= 0) break;
    const double move = std::clamp(-slope / curvature, -0.5, 0.5);
    delay += move;
    if (std::abs(move) < 1e-9) break;
  }
  const double own = energy(mark) * static_cast<double>(transform.length()) / 2;
  return {first_frame + delay, sum / own, match};
}

// Matched filter over a whole channel, block by block, and the places where it stands out.
class MarkFinder {
 public:
  MarkFinder(std::span<const double> channel, std::vector<double> mark, double least_match,
             RealTransforms& transforms)
      : x_(channel),
        mark_(std::move(mark)),
        least_(least_match),
        transforms_(transforms),
        transform_(transforms.get(fast_transform_length(8 * mark_.size()))) {
    backwards_.assign(mark_.rbegin(), mark_.rend());
  }

  // Marks that run forwards, and those that run backwards.
  std::pair<std::vector<FoundMark>, std::vector<FoundMark>> find() {
    local_ = local_energy();
    return {find(mark_), find(backwards_)};
  }

 private:
  // Energy of the capture under a mark that starts at each frame; the mark may begin before the capture or
  // end after it by its edge.
  [[nodiscard]] std::vector<double> local_energy() const {
    std::vector<double> sums(x_.size() + 1, 0.0), result(x_.size());
    for (std::size_t n = 0; n < x_.size(); ++n) sums[n + 1] = sums[n] + x_[n] * x_[n];
    for (std::size_t n = 0; n < x_.size(); ++n)
      result[n] = sums[std::min(x_.size(), n + mark_.size())] - sums[n];
    return result;
  }

  std::vector<FoundMark> find(const std::vector<double>& mark) {
    const std::vector<double> correlation = filter(mark);
    const double own = energy(mark), least_energy = kSilence * kSilence * static_cast<double>(mark.size());
    std::vector<FoundMark> found;
    std::size_t best = 0;
    double best_match = 0;
    auto flush = [&] {
      if (best_match > 0) {
        std::vector<double> segment(mark.size(), 0.0);
        std::copy_n(x_.begin() + static_cast<std::ptrdiff_t>(best), std::min(mark.size(), x_.size() - best),
                    segment.begin());
        found.push_back(refine(segment, mark, static_cast<double>(best), best_match, transforms_));
      }
      best_match = 0;
    };
    for (std::size_t n = 0; n < correlation.size(); ++n) {
      if (best_match > 0 && n > best + mark.size() / 2) flush();
      if (local_[n] < least_energy) continue;
      const double match = std::abs(correlation[n]) / std::sqrt(own * local_[n]);
      if (match > least_ && match > best_match) {
        best = n;
        best_match = match;
      }
    }
    flush();
    return found;
  }

  // Σ x[n + i]·mark[i] for each n, by overlapping transforms.
  std::vector<double> filter(const std::vector<double>& mark) {
    const std::size_t length = transform_.length(), hop = length - mark.size();
    std::fill(transform_.input().begin(), transform_.input().end(), 0.0);
    std::copy(mark.begin(), mark.end(), transform_.input().begin());
    transform_.execute();
    const std::vector<std::complex<double>> kernel(transform_.bins().begin(), transform_.bins().end());
    std::vector<double> result(x_.size());
    std::vector<std::complex<double>> product(kernel.size());
    for (std::size_t start = 0; start < x_.size(); start += hop) {
      const std::size_t count = std::min(length, x_.size() - start);
      std::fill(transform_.input().begin(), transform_.input().end(), 0.0);
      std::copy_n(x_.begin() + static_cast<std::ptrdiff_t>(start), count, transform_.input().begin());
      transform_.execute();
      for (std::size_t k = 0; k < kernel.size(); ++k)
        product[k] = transform_.bins()[k] * std::conj(kernel[k]);
      const auto block = transform_.invert(product);
      std::copy_n(block.begin(), std::min(hop, x_.size() - start),
                  result.begin() + static_cast<std::ptrdiff_t>(start));
    }
    return result;
  }

  std::span<const double> x_;
  std::vector<double> mark_, backwards_, local_;
  double least_;
  RealTransforms& transforms_;
  RealTransform& transform_;
};

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

// Joins each start with the end that lies at the right distance, or at one that a slip of up to a tenth
// explains.
std::vector<Take> pair_up(const std::vector<Found>& starts, std::vector<Found> ends, const Stimulus& stimulus,
                          double scale, double speed, const LocateOptions& options) {
  const PlacedMarks& marks = *stimulus.marks();
  const double distance = static_cast<double>(marks.end_frame - marks.start_frame) * scale;
  std::vector<Take> takes;
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
Take sharpened(const Audio& capture, const Stimulus& stimulus, Take take, double scale, double speed,
               const LocateOptions& options, RealTransforms& transforms) {
  for (int pass = 0; pass < 2 && take.start && take.end && take.drift_ppm != 0; ++pass) {
    const double rate = stimulus.recipe().sample_rate_hz;
    const auto mark = mark_samples(rate * take.frames_per_frame, rate);
    const std::vector<double> backwards(mark.rbegin(), mark.rend());
    const auto x = capture.channel(take.channel);
    auto again = [&](const FoundMark& found, const std::vector<double>& by) {
      const auto first = static_cast<std::size_t>(
          std::clamp<double>(std::round(found.frame), 0, static_cast<double>(x.size())));
      std::vector<double> segment(by.size(), 0.0);
      std::copy_n(x.begin() + static_cast<std::ptrdiff_t>(first), std::min(by.size(), x.size() - first),
                  segment.begin());
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

std::vector<Take> locate_at_speed(const Audio& capture, const Stimulus& stimulus, double speed,
                                  const LocateOptions& options, RealTransforms& transforms) {
  const double stimulus_rate = stimulus.recipe().sample_rate_hz;
  const double scale = capture.sample_rate_hz() / stimulus_rate / speed;
  const auto mark = mark_samples(stimulus_rate * scale, stimulus_rate);
  if (mark.size() < 16 || mark.size() > static_cast<std::size_t>(capture.frames())) return {};
  std::vector<Found> starts, ends;
  for (int c = 0; c < capture.channel_count(); ++c) {
    const auto [forwards, backwards] =
        MarkFinder(capture.channel(c), mark, options.least_match, transforms).find();
    for (const FoundMark& found : forwards) starts.push_back({found, c});
    for (FoundMark found : backwards) {
      found.frame += backwards_shift(mark.size(), stimulus, scale);
      ends.push_back({found, c});
    }
  }
  const double frames = static_cast<double>(mark.size());
  auto takes = pair_up(best_of_channels(starts, frames), best_of_channels(ends, frames), stimulus, scale,
                       speed, options);
  for (Take& take : takes) take = sharpened(capture, stimulus, take, scale, speed, options, transforms);
  return takes;
}

// A capture of the stimulus's own rate and length that holds both marks where the stimulus has them needs no
// search.
std::optional<Take> locate_in_place(const Audio& capture, const Stimulus& stimulus,
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
      const auto segment = capture.channel(c).subspan(static_cast<std::size_t>(at), by.size());
      const double both = std::inner_product(segment.begin(), segment.end(), by.begin(), 0.0);
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
  return best;
}

bool has_both(const std::vector<Take>& takes) {
  return std::any_of(takes.begin(), takes.end(), [](const Take& take) { return take.start && take.end; });
}

}  // namespace

std::vector<Take> locate(const Audio& capture, const Stimulus& stimulus, const LocateOptions& options) {
  if (!stimulus.marks())
    throw Error(ErrorCode::bad_argument,
                "the stimulus carries no marks to be found by; make it without --no-marks");
  require_measurable(capture);
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

}  // namespace wavicon
