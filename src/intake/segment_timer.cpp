// SPDX-License-Identifier: MIT
#include "segment_timer.hpp"

#include <algorithm>
#include <cmath>

#include "samples.hpp"
#include "wavicon/audio/jackknife.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kMostOff = 2;        // two sounds that have nothing in common
constexpr double kSaysNothing = 1e6;  // frames: the standard deviation of a segment without time in it

}  // namespace

SegmentTimer::SegmentTimer(AudioSource& reference, AudioSource& capture, const AlignOptions& channels,
                           std::int64_t segment_frames)
    : a_(reference),
      b_(capture),
      channel_a_(channels.reference_channel),
      channel_b_(channels.capture_channel),
      timing_(reference.sample_rate_hz(), hann_window(static_cast<std::size_t>(segment_frames))),
      y_(static_cast<std::size_t>(segment_frames)) {}

void SegmentTimer::refine(std::vector<Segment>& segments, double slope) {
  const std::vector<double>& window = timing_.window();
  const auto length = static_cast<std::int64_t>(window.size());
  const DelayLine line(length);
  Alignment along;
  along.frames_per_frame = 1 + slope;
  for (Segment& s : segments) {
    // Each is timed more than once.
    auto own = own_.find(s.first);
    if (own == own_.end()) {
      auto x = read_channel(a_, channel_a_, s.first, length);
      for (std::size_t n = 0; n < x.size(); ++n) x[n] *= window[n];
      own = own_.emplace(s.first, timing_.spectrum_of(x)).first;
    }
    along.delay_frames = s.delay - slope * line.centre(s);
    read_aligned(b_, channel_b_, along, s.first, reader_, y_);
    for (std::size_t n = 0; n < window.size(); ++n) y_[n] *= window[n];
    const auto late = timing_(own->second, y_);
    // What says nothing of time counts for nothing.
    s.sigma = late ? late->sigma_frames : kSaysNothing;
    s.delay += late ? late->frames : 0;
  }
}

double SegmentTimer::alike(const Segment& segment, const Line& line) {
  const auto found = likeness(segment.first, line);
  return found ? found->alike : 0;
}

std::optional<SegmentTimer::Likeness> SegmentTimer::likeness(std::int64_t first, const Line& line) {
  const auto x = read_channel(a_, channel_a_, first, static_cast<std::int64_t>(y_.size()));
  const double power = energy(x);
  if (!(power > 0)) return std::nullopt;
  Alignment along;
  along.delay_frames = line.delay;
  along.frames_per_frame = 1 + line.slope;
  read_aligned(b_, channel_b_, along, first, reader_, y_);
  const double both = sum_of_products(x, y_), energies = power * energy(y_);
  return Likeness{power, both / power, energies > 0 ? std::abs(both) / std::sqrt(energies) : 0};
}

double SegmentTimer::left_over(const std::vector<Segment>& segments, const Line& line) {
  double sum = 0;
  for (const Segment& s : segments) {
    const double here = alike(s, line);
    sum += 1 - here * here;
  }
  return segments.empty() ? 1 : sum / static_cast<double>(segments.size());
}

std::optional<double> SegmentTimer::off(const Segment& segment, const Line& line, double gain) {
  Alignment along;
  along.delay_frames = line.delay;
  along.frames_per_frame = 1 + line.slope;
  const auto x = read_channel(a_, channel_a_, segment.first, static_cast<std::int64_t>(y_.size()));
  read_aligned(b_, channel_b_, along, segment.first, reader_, y_);
  double left = 0;
  for (std::size_t n = 0; n < x.size(); ++n) left += (y_[n] - gain * x[n]) * (y_[n] - gain * x[n]);
  const double whole = gain * gain * energy(x);
  if (!(whole > 0)) return std::nullopt;
  return std::min(kMostOff, left / whole);
}

double SegmentTimer::gain(const std::vector<Segment>& segments, const Alignment& along) {
  Alignment with = along;
  take_gain(segments, with);
  return with.gain;
}

void SegmentTimer::take_gain(const std::vector<Segment>& segments, Alignment& along) {
  std::vector<PartSums<2>> products;  // Σxy, Σxx
  PartSums<2> all{};
  for (const Segment& s : segments) {
    const auto x = read_channel(a_, channel_a_, s.first, static_cast<std::int64_t>(y_.size()));
    read_aligned(b_, channel_b_, along, s.first, reader_, y_);
    products.push_back({sum_of_products(x, y_), energy(x)});
    add_sums(all, products.back());
  }
  along.gain = all[0] / all[1];
  along.gain_uncertainty = jackknife(
      products, [&](const auto& p) { return p[0] / p[1] / along.gain; }, 4);
}

}  // namespace wavicon::intake_detail
