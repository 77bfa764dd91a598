// SPDX-License-Identifier: MIT
#include "segment_timer.hpp"

#include <algorithm>
#include <cmath>

#include "samples.hpp"
#include "wavicon/audio/jackknife.hpp"
#include "wavicon/audio/workers.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr std::size_t kMostHands = 16;
constexpr double kMostOff = 2;        // two sounds that have nothing in common
constexpr double kSaysNothing = 1e6;  // frames: the standard deviation of a segment without time in it

Alignment along_line(const Line& line) {
  Alignment along;
  along.delay_frames = line.delay;
  along.frames_per_frame = 1 + line.slope;
  return along;
}

}  // namespace

SegmentTimer::SegmentTimer(AudioSource& reference, AudioSource& capture, const AlignOptions& channels,
                           std::int64_t segment_frames)
    : a_(reference),
      b_(capture),
      channel_a_(channels.reference_channel),
      channel_b_(channels.capture_channel),
      length_(static_cast<std::size_t>(segment_frames)) {}

template <typename FirstOf, typename AlongOf, typename Work>
void SegmentTimer::for_each_segment(std::size_t count, FirstOf&& first_of, AlongOf&& along_of, Work&& work) {
  if (count == 0) return;
  const std::size_t hands = std::min({static_cast<std::size_t>(allowed_threads()), count, kMostHands});
  while (hands_.size() < hands)
    hands_.push_back(
        {SegmentDelays(a_.sample_rate_hz(), hann_window(length_)), {}, std::vector<double>(length_)});
  for_each_part(hands, [&](std::size_t number) {
    Hand& hand = hands_[number];
    for (std::size_t i = number; i < count; i += hands) {
      auto x = read_channel(a_, channel_a_, first_of(i), static_cast<std::int64_t>(length_));
      read_aligned(b_, channel_b_, along_of(i), first_of(i), hand.reader, hand.y);
      work(i, x, hand.y, hand);
    }
  });
}

void SegmentTimer::refine(std::vector<Segment>& segments, double slope) {
  const DelayLine line(static_cast<std::int64_t>(length_));
  // Each is timed more than once.
  std::vector<SegmentDelays::Spectrum*> own;
  for (const Segment& s : segments) own.push_back(&own_[s.first]);
  for_each_segment(
      segments.size(), [&](std::size_t i) { return segments[i].first; },
      [&](std::size_t i) {
        Alignment along;
        along.frames_per_frame = 1 + slope;
        along.delay_frames = segments[i].delay - slope * line.centre(segments[i]);
        return along;
      },
      [&](std::size_t i, std::vector<double>& x, std::vector<double>& y, Hand& hand) {
        const std::vector<double>& window = hand.timing.window();
        if (own[i]->bins.empty()) {
          for (std::size_t n = 0; n < x.size(); ++n) x[n] *= window[n];
          *own[i] = hand.timing.spectrum_of(x);
        }
        for (std::size_t n = 0; n < window.size(); ++n) y[n] *= window[n];
        const auto late = hand.timing(*own[i], y);
        // What says nothing of time counts for nothing.
        segments[i].sigma = late ? late->sigma_frames : kSaysNothing;
        segments[i].delay += late ? late->frames : 0;
      });
}

double SegmentTimer::alike(const Segment& segment, const Line& line) {
  const auto found = likeness(segment.first, line);
  return found ? found->alike : 0;
}

std::optional<SegmentTimer::Likeness> SegmentTimer::likeness(std::int64_t first, const Line& line) {
  return likenesses({&first, 1}, {&line, 1}).front();
}

std::vector<std::optional<SegmentTimer::Likeness>> SegmentTimer::likenesses(
    std::span<const std::int64_t> firsts, std::span<const Line> lines) {
  std::vector<std::optional<Likeness>> found(firsts.size());
  for_each_segment(
      firsts.size(), [&](std::size_t i) { return firsts[i]; },
      [&](std::size_t i) { return along_line(lines[i]); },
      [&](std::size_t i, const std::vector<double>& x, const std::vector<double>& y, const Hand&) {
        const double power = energy(x);
        if (!(power > 0)) return;
        const double both = sum_of_products(x, y), energies = power * energy(y);
        found[i] = Likeness{power, both / power, energies > 0 ? std::abs(both) / std::sqrt(energies) : 0};
      });
  return found;
}

std::vector<double> SegmentTimer::alike(const std::vector<Segment>& segments, const Line& line) {
  std::vector<std::int64_t> firsts;
  for (const Segment& s : segments) firsts.push_back(s.first);
  std::vector<double> alike;
  for (const auto& found : likenesses(firsts, std::vector<Line>(firsts.size(), line)))
    alike.push_back(found ? found->alike : 0);
  return alike;
}

double SegmentTimer::left_over(const std::vector<Segment>& segments, const Line& line) {
  double sum = 0;
  for (const double here : alike(segments, line)) sum += 1 - here * here;
  return segments.empty() ? 1 : sum / static_cast<double>(segments.size());
}

std::optional<double> SegmentTimer::off(const Segment& segment, const Line& line, double gain) {
  std::optional<double> off;
  for_each_segment(
      1, [&](std::size_t) { return segment.first; }, [&](std::size_t) { return along_line(line); },
      [&](std::size_t, const std::vector<double>& x, const std::vector<double>& y, const Hand&) {
        double left = 0;
        for (std::size_t n = 0; n < x.size(); ++n) left += (y[n] - gain * x[n]) * (y[n] - gain * x[n]);
        const double whole = gain * gain * energy(x);
        if (whole > 0) off = std::min(kMostOff, left / whole);
      });
  return off;
}

double SegmentTimer::gain(const std::vector<Segment>& segments, const Alignment& along) {
  Alignment with = along;
  take_gain(segments, with);
  return with.gain;
}

void SegmentTimer::take_gain(const std::vector<Segment>& segments, Alignment& along) {
  std::vector<PartSums<2>> products(segments.size());  // Σxy, Σxx
  for_each_segment(
      segments.size(), [&](std::size_t i) { return segments[i].first; },
      [&](std::size_t) -> const Alignment& { return along; },
      [&](std::size_t i, const std::vector<double>& x, const std::vector<double>& y, const Hand&) {
        products[i] = {sum_of_products(x, y), energy(x)};
      });
  PartSums<2> all{};
  for (const auto& part : products) add_sums(all, part);
  along.gain = all[0] / all[1];
  along.gain_uncertainty = jackknife(
      products, [&](const auto& p) { return p[0] / p[1] / along.gain; }, 4);
}

}  // namespace wavicon::intake_detail
