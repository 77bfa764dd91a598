// SPDX-License-Identifier: MIT
#include "coarse_search.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <deque>
#include <functional>
#include <numeric>
#include <tuple>

#include "audio/wide.hpp"
#include "samples.hpp"
#include "segment_delay.hpp"
#include "wavicon/audio/decimator.hpp"
#include "wavicon/audio/fractional.hpp"
#include "wavicon/audio/workers.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kLowRateHz = 11000;  // at least
constexpr double kLowCutoff = 0.35;   // of the low rate
constexpr double kExcerptS = 8;       // what is long stands out of noise
constexpr double kShortS = 1;         // under a drift that takes the long one apart
constexpr std::size_t kExcerpts = 3;  // tried one after the other
constexpr std::size_t kSpread = 5;    // short ones, from one end to the other
constexpr std::int64_t kLooks = 8;    // at each stretch, to tell loud from soft
constexpr double kFloor = 1e-3;       // of the highest bin: below, a phase is noise
constexpr double kEdgeS = 0.02;       // of an excerpt, so that its cut is not taken for sound
constexpr std::size_t kBlock = 64;    // low samples of an envelope's step
constexpr double kRootBlock = 8;      // √kBlock: Σu²v² of samples from sums over blocks
constexpr double kLeastT = 0.01;      // of its mean: silence against silence says nothing
constexpr double kPlain = 30;         // from here on nothing else is tried
constexpr double kApartS = 0.01;      // by which peaks are two
constexpr double kWorthALook = 0.6;   // of the highest
constexpr std::size_t kMostAlike = 16;
constexpr double kPlainS = 60;  // of a reference that is correlated as it is
constexpr std::size_t kMostCrests = 12;
constexpr double kNearlyAsHigh = 0.9;                   // of the highest: a candidate
constexpr double kAsHigh = 0.995;                       // of the highest: as good, and the nearest is taken
constexpr std::int64_t kSegment = 4096, kReach = 2048;  // low samples of a segment, and to either side of it
constexpr std::int64_t kLeastSegment = 512, kLongSegment = 16384;
constexpr std::int64_t kMostSegments = 48;
constexpr std::size_t kOwnPeak = 4;  // low samples that a peak is wide
constexpr double kNearlyTheSame = 0.7;
constexpr double kSegmentExponent = 0.7;  // of the spectra's sizes taken off
constexpr double kSilent = 1e-5;          // of the loudest segment's power
constexpr double kOnTheSpot = 1.5;        // low samples
// Heights, with the part of the segments that have to agree (unrelated pairs: docs/alignment.md).
constexpr double kPlainly = 40;  // longer segments are worth a look
constexpr double kSurely = 24, kFifth = 0.2;
constexpr double kLikely = 10, kMany = 0.6;
constexpr double kHardly = 7, kNearlyAll = 0.7;
constexpr int kLeastAgreed = 3, kEnough = 6, kMost = 8;
constexpr int kLeastLooked = 5, kFew = 2;  // of what is too short for five segments

constexpr std::array kUsualRates = {44.1, 48.0, 88.2, 96.0};
constexpr std::size_t kLikeLength = 4096;  // low samples
constexpr double kTapeStep = 2e-4, kLongestTapeS = 180;
constexpr int kTapeSteps = 50;
constexpr int kMostHands = 16;
constexpr double kSpeedHeight = 16, kSpeedOver = 1.5;  // of one speed, and over all others

using Bins = std::vector<std::complex<double>>;

// Spectrum over a power of its size.
WAVICON_WIDE void divide_by_size(double* bins, double floor, std::size_t count) {
  for (std::size_t k = 0; k < count; ++k) {
    const double size =
        std::max(std::sqrt(bins[2 * k] * bins[2 * k] + bins[2 * k + 1] * bins[2 * k + 1]), floor);
    bins[2 * k] /= size;
    bins[2 * k + 1] /= size;
  }
}

void flatten(Bins& bins, double exponent) {
  const double floor = kFloor * std::sqrt(highest_power(bins));
  if (!(floor > 0)) return;
  if (exponent == 1)
    divide_by_size(reinterpret_cast<double*>(bins.data()), floor, bins.size());
  else
    for (auto& bin : bins) bin /= std::pow(std::max(std::sqrt(std::norm(bin)), floor), exponent);
  bins[0] = 0;
}

double power_of(const Bins& bins) {
  double sum = 0;
  for (const auto& bin : bins) sum += std::norm(bin);
  return sum;
}

// One channel of a stretch; `room` is used again.
void read_one(AudioSource& source, int channel, std::int64_t first, std::vector<double>& room,
              std::span<double> samples) {
  room.resize(samples.size() * static_cast<std::size_t>(source.channel_count()));
  source.read(first, room);
  std::copy_n(room.begin() + static_cast<std::ptrdiff_t>(static_cast<std::size_t>(channel) * samples.size()),
              samples.size(), samples.begin());
}

// Σx² block by block.
std::vector<double> envelope(std::span<const double> x) {
  std::vector<double> blocks((x.size() + kBlock - 1) / kBlock);
  for (std::size_t i = 0; i < blocks.size(); ++i)
    blocks[i] = energy(x.subspan(i * kBlock, std::min(kBlock, x.size() - i * kBlock))) / kRootBlock;
  return blocks;
}

}  // namespace

CoarseSearch::CoarseSearch(AudioSource& reference, int reference_channel, AudioSource& capture,
                           int capture_channel, double most_drift_ppm, RealTransforms& transforms)
    : a_(reference),
      b_(capture),
      a_channel_(reference_channel),
      b_channel_(capture_channel),
      most_drift_(most_drift_ppm * 1e-6),
      transforms_(transforms) {
  while (a_.sample_rate_hz() / static_cast<double>(2 * step_) > kLowRateHz) step_ *= 2;
}

std::optional<CoarsePlace> CoarseSearch::run() {
  const double rate = a_.sample_rate_hz();
  const std::int64_t both = std::min(a_.frames(), b_.frames());
  std::vector<Peak> peaks;
  double highest = 0;
  for (const double seconds : {kExcerptS, kShortS}) {
    const auto length = std::min<std::int64_t>(both, std::llround(seconds * rate));
    for (const std::int64_t first : loudest(length)) {
      for (const Peak& peak : peaks_of(excerpt_at(first, length, 1))) {
        peaks.push_back(peak);
        highest = std::max(highest, peak.height);
      }
      if (highest > kPlain) break;
    }
    // What is proven, or too short to be taken in pieces, needs no shorter excerpt.
    if (highest > kSurely || most_drift_ == 0 || static_cast<double>(length) < 2 * kShortS * rate) break;
  }
  if (peaks.empty()) return std::nullopt;
  CoarsePlace best = choose(std::move(peaks));
  count_agreement(best);
  return best;
}

std::vector<double> CoarseSearch::places_of_excerpts() {
  const double rate = a_.sample_rate_hz();
  const auto length = std::min<std::int64_t>(a_.frames(), std::llround(kShortS * rate));
  std::vector<Peak> all;
  for (std::size_t i = 0; i < kSpread; ++i) {
    const std::int64_t first =
        static_cast<std::int64_t>(i) * (a_.frames() - length) / static_cast<std::int64_t>(kSpread - 1);
    const std::vector<Peak> peaks = peaks_of(excerpt_at(first, length, 1), Blocks::kept);
    for (const Peak& peak : peaks)
      if (peak.height > kLikely && peak.height > kWorthALook * peaks.front().height) all.push_back(peak);
  }
  std::sort(all.begin(), all.end(), [](const Peak& p, const Peak& q) { return p.height > q.height; });
  std::vector<double> delays;
  for (const Peak& peak : all)
    if (delays.size() < kMostAlike && std::none_of(delays.begin(), delays.end(), [&](double d) {
          return std::abs(d - peak.delay_frames) < kApartS * rate;
        }))
      delays.push_back(peak.delay_frames);
  return delays;
}

// A stretch of the reference, at another speed when that is not 1, with faded ends.
CoarseSearch::Excerpt CoarseSearch::excerpt_at(std::int64_t first, std::int64_t length,
                                               double frames_per_frame) const {
  const auto count = static_cast<std::size_t>(static_cast<double>(length) * frames_per_frame) / step_ + 1;
  Excerpt excerpt{first, {}};
  const auto around = static_cast<std::int64_t>(FractionalReader::kReach);
  const double pace = 1 / frames_per_frame;
  if (frames_per_frame == 1) {
    excerpt.samples = low(a_, a_channel_, first, count);
  } else if (std::abs(frames_per_frame - 1) <= kTapeSteps * kTapeStep) {
    // Low samples have room above them for so little.
    const auto x =
        low(a_, a_channel_, first - around * step(),
            static_cast<std::size_t>(static_cast<double>(count) * pace) + 2 * FractionalReader::kReach + 2);
    excerpt.samples.resize(count);
    FractionalReader().read(x, static_cast<double>(around), pace, excerpt.samples);
  } else {
    const Decimator decimate(step_, kLowCutoff);
    std::vector<double> faster(count * step_ + decimate.length());
    const auto x =
        read_channel(a_, a_channel_, first - around,
                     static_cast<std::int64_t>(static_cast<double>(faster.size()) * pace) + 2 * around + 2);
    FractionalReader().read(x, static_cast<double>(around), pace, faster);
    excerpt.samples = decimate(faster);
    excerpt.samples.resize(count);
  }
  const auto edge = static_cast<std::size_t>(kEdgeS * a_.sample_rate_hz() / static_cast<double>(step_));
  const auto window = edged_window(excerpt.samples.size(), edge);
  for (std::size_t n = 0; n < window.size(); ++n) excerpt.samples[n] *= window[n];
  return excerpt;
}

std::optional<double> CoarseSearch::speed() {
  const double rate = a_.sample_rate_hz();
  const auto length = std::min(a_.frames(), static_cast<std::int64_t>(kShortS * rate));
  const auto places = loudest(length);
  if (places.empty()) return std::nullopt;
  std::vector<double> ratios;
  for (const double from : kUsualRates)
    for (const double to : kUsualRates)
      if (from != to && std::none_of(ratios.begin(), ratios.end(),
                                     [&](double r) { return std::abs(r - from / to) < 1e-6; }))
        ratios.push_back(from / to);
  // A tape's speed changes the length but little.
  const double lengths = static_cast<double>(b_.frames()) / static_cast<double>(a_.frames());
  if (lengths > 0.9 && lengths < 1.25 && static_cast<double>(b_.frames()) < kLongestTapeS * rate)
    for (int k = 1; k <= kTapeSteps; ++k) {
      ratios.push_back(1 + k * kTapeStep);
      ratios.push_back(1 - k * kTapeStep);
    }
  std::vector<double> heights(ratios.size());
  // One for each thread.
  struct Hand {
    RealTransforms transforms;
    CoarseSearch search;
    // @param share  of what may be kept, by all of them together.
    Hand(const CoarseSearch& of, std::size_t share)
        : search(of.a_, of.a_channel_, of.b_, of.b_channel_, of.most_drift_, transforms) {
      search.most_peaks_ = 1;
      search.most_kept_ = of.most_kept_ / share;
    }
  };
  std::deque<Hand> hands;
  const auto count = static_cast<std::size_t>(std::clamp(allowed_threads(), 1, kMostHands));
  for (std::size_t i = 0; i < count; ++i) hands.emplace_back(*this, count);
  for_each_part(hands.size(), [&](std::size_t hand) {
    CoarseSearch& search = hands[hand].search;
    for (std::size_t i = hand; i < ratios.size(); i += hands.size()) {
      Excerpt excerpt = search.excerpt_at(places.front(), length, ratios[i]);
      // Lengths that are nearly the same share the blocks of the capture.
      excerpt.samples.resize((excerpt.samples.size() + kLikeLength - 1) / kLikeLength * kLikeLength);
      const auto peaks = search.peaks_of(excerpt, Blocks::kept);
      heights[i] = peaks.empty() ? 0 : peaks.front().height;
    }
  });
  const auto highest = std::max_element(heights.begin(), heights.end());
  const double height = *highest, best = ratios[static_cast<std::size_t>(highest - heights.begin())];
  double next = 0;
  for (std::size_t i = 0; i < ratios.size(); ++i)
    if (std::abs(ratios[i] / best - 1) > 4 * kTapeStep) next = std::max(next, heights[i]);
  if (height < kSpeedHeight || height < kSpeedOver * next) return std::nullopt;
  return best;
}

// Every step_-th sample of the channel, low-passed; output i belongs to frame first + i·step_ (a constant
// shift, the same for both, is left out).
std::vector<double> CoarseSearch::low(AudioSource& source, int channel, std::int64_t first,
                                      std::size_t count) const {
  constexpr std::size_t kPiece = 4096;  // low samples made at once: what they need stays in the cache
  const Decimator decimate(step_, kLowCutoff);
  const std::size_t tail = decimate.length() - step_;  // frames that the next piece needs again
  std::vector<double> fresh, held(tail), samples;
  samples.reserve(count);
  read_one(source, channel, first, fresh, held);
  auto at = first + static_cast<std::int64_t>(tail);
  while (samples.size() < count) {
    const std::size_t frames = std::min(kPiece, count - samples.size()) * step_;
    held.resize(tail + frames);
    read_one(source, channel, at, fresh, std::span(held).subspan(tail));
    at += static_cast<std::int64_t>(frames);
    const auto low = decimate(held);
    samples.insert(samples.end(), low.begin(), low.end());
    std::copy(held.end() - static_cast<std::ptrdiff_t>(tail), held.end(), held.begin());
  }
  return samples;
}

// The places of the loudest stretches of the reference, loudest first, by what is heard of them.
std::vector<std::int64_t> CoarseSearch::loudest(std::int64_t length) const {
  std::vector<std::pair<double, std::int64_t>> places;
  const std::int64_t count = std::clamp<std::int64_t>(a_.frames() / std::max<std::int64_t>(1, length), 1, 12);
  const auto glance = static_cast<std::size_t>(
      std::clamp<std::int64_t>(length / (kLooks * step()), 1, static_cast<std::int64_t>(8 * kBlock)));
  for (std::int64_t i = 0; i < count; ++i) {
    const std::int64_t first = count == 1 ? 0 : i * (a_.frames() - length) / (count - 1);
    double sum = 0;
    for (std::int64_t k = 0; k < kLooks; ++k)
      sum += energy(low(a_, a_channel_, first + k * length / kLooks, glance));
    places.emplace_back(-sum, first);
  }
  std::sort(places.begin(), places.end());
  std::vector<std::int64_t> result;
  for (const auto& [level, first] : places)
    if (level < 0 && result.size() < kExcerpts) result.push_back(first);
  return result;
}

std::size_t CoarseSearch::edge() const {
  return static_cast<std::size_t>(kEdgeS * a_.sample_rate_hz() / static_cast<double>(step_)) + 1;
}

CoarseSearch::Block CoarseSearch::made_block(std::int64_t start, std::vector<double> samples,
                                             RealTransform& transform, RealTransform& envelopes) {
  const auto window = edged_window(2 * edge(), edge());
  for (std::size_t n = 0; n < edge(); ++n) {
    samples[n] *= window[n];
    samples[samples.size() - 1 - n] *= window[n];
  }
  Block block{start, transform.bins_of(samples), 0, {}};
  flatten(block.bins, 1);
  block.power = power_of(block.bins);
  if (block.power > 0) block.envelope = envelopes.bins_of(envelope(transform.invert(block.bins)));
  return block;
}

const CoarseSearch::Block& CoarseSearch::kept_block(std::int64_t start, RealTransform& transform,
                                                    RealTransform& envelopes) {
  if (block_samples_ != transform.length()) blocks_.clear();
  block_samples_ = transform.length();
  const auto kept =
      std::find_if(blocks_.begin(), blocks_.end(), [&](const Block& block) { return block.start == start; });
  if (kept != blocks_.end()) return *kept;
  Block block = made_block(start, low(b_, b_channel_, start, transform.length()), transform, envelopes);
  if ((blocks_.size() + 1) * block_samples_ > most_kept_) return fresh_ = std::move(block);
  return blocks_.emplace_back(std::move(block));
}

// The highest peaks over the whole capture, by their heights over chance, the highest first.
std::vector<CoarseSearch::Peak> CoarseSearch::peaks_of(const Excerpt& excerpt, Blocks kept) {
  const std::size_t own = excerpt.samples.size();
  // Whole blocks: what goes round in the correlation goes round in the envelopes as well.
  const std::size_t blocks = fast_transform_length(std::max<std::size_t>(4, 4 * (own + edge()) / kBlock + 1));
  RealTransform &transform = transforms_.get(blocks * kBlock), &envelopes = transforms_.get(blocks);
  Sought sought{excerpt.first, transform.bins_of(excerpt.samples), 0, {}, transform, envelopes};
  flatten(sought.bins, 1);
  sought.power = power_of(sought.bins);
  if (!(sought.power > 0)) return {};
  sought.envelope = envelopes.bins_of(envelope(transform.invert(sought.bins)));
  // The ends of a block are faded, and lie within the next one's middle.
  const std::size_t hop = transform.length() - own - 2 * edge();
  const std::int64_t step_on = static_cast<std::int64_t>(hop) * step(),
                     begin = -(static_cast<std::int64_t>(own + edge())) * step();
  std::vector<Peak> peaks;
  if (kept == Blocks::kept) {
    for (std::int64_t start = begin; start < b_.frames(); start += step_on)
      add_peaks(kept_block(start, transform, envelopes), sought, hop, peaks);
    return peaks;
  }
  std::vector<double> here = low(b_, b_channel_, begin, transform.length()), next;
  for (std::int64_t start = begin; start < b_.frames(); start += step_on) {
    // The next one is read while this one is looked at.
    std::optional<WorkBeside> reading;
    if (start + step_on < b_.frames())
      reading.emplace([&, then = start + step_on] { next = low(b_, b_channel_, then, transform.length()); });
    add_peaks(made_block(start, std::move(here), transform, envelopes), sought, hop, peaks);
    if (reading) reading->wait();
    here = std::move(next);
  }
  return peaks;
}

// Those of one block, among those that were found before.
void CoarseSearch::add_peaks(const Block& block, const Sought& sought, std::size_t hop,
                             std::vector<Peak>& peaks) const {
  if (!(block.power > 0)) return;
  double both = 0;
  for (std::size_t k = 0; k < sought.bins.size(); ++k)
    both += std::norm(sought.bins[k]) * std::norm(block.bins[k]);
  const double kappa = static_cast<double>(sought.bins.size()) * both / (sought.power * block.power);
  Bins v_bins = block.envelope;
  times_conjugates(v_bins, sought.envelope);
  const auto together = sought.envelopes.invert(v_bins);
  const std::size_t blocks = sought.envelopes.length();
  std::vector<double> chance(blocks);
  for (std::size_t i = 0; i < blocks; ++i) {
    const std::size_t before = (i + blocks - 1) % blocks, after = (i + 1) % blocks;
    chance[i] = std::max(0.0, (together[before] + 2 * together[i] + together[after]) / 4);
  }
  const double floor =
      kLeastT * std::accumulate(chance.begin(), chance.end(), 0.0) / static_cast<double>(chance.size());
  if (!(floor > 0)) return;
  Bins cross = block.bins;
  times_conjugates(cross, sought.bins);
  const auto c = sought.transform.invert(cross);
  const auto height_at = [&](std::size_t n) {
    const double at = static_cast<double>(n) / kBlock;
    const auto i = std::min(static_cast<std::size_t>(at), chance.size() - 2);
    const double part = at - static_cast<double>(i);
    return std::abs(c[n]) /
           std::sqrt(kappa * std::max(floor, chance[i] + part * (chance[i + 1] - chance[i])));
  };
  const auto apart = std::max(2.0 * static_cast<double>(step_), std::round(kApartS * a_.sample_rate_hz()));
  for (std::size_t n = edge(); n < edge() + hop; ++n) {
    const double size = std::abs(c[n]);
    if (size < std::abs(c[n - 1]) || size < std::abs(c[n + 1])) continue;
    const double height = height_at(n);
    if (peaks.size() == most_peaks_ && height <= peaks.back().height) continue;
    const Peak peak{static_cast<double>(block.start + static_cast<std::int64_t>(n) * step() - sought.first),
                    height, c[n] < 0 ? -1 : 1, sought.first};
    const auto near = std::find_if(peaks.begin(), peaks.end(), [&](const Peak& p) {
      return std::abs(p.delay_frames - peak.delay_frames) < apart;
    });
    if (near != peaks.end()) {
      if (near->height >= height) continue;
      *near = peak;
    } else {
      if (peaks.size() == most_peaks_) peaks.pop_back();
      peaks.push_back(peak);
    }
    std::sort(peaks.begin(), peaks.end(), [](const Peak& p, const Peak& q) { return p.height > q.height; });
  }
}

// Of places that an excerpt fits nearly alike, as in a loop, the one that all of the reference fits; of those
// that it fits alike, the nearest.
CoarsePlace CoarseSearch::choose(std::vector<Peak> peaks) const {
  std::sort(peaks.begin(), peaks.end(), [](const Peak& p, const Peak& q) { return p.height > q.height; });
  std::vector<std::pair<double, Peak>> alike;
  for (const Peak& peak : peaks) {
    const bool high = peak.height >= kWorthALook * peaks.front().height && alike.size() < kMostAlike;
    const bool known = std::any_of(alike.begin(), alike.end(), [&](const auto& other) {
      return std::abs(other.second.delay_frames - peak.delay_frames) < kApartS * a_.sample_rate_hz();
    });
    if (high && !known) alike.emplace_back(1, peak);
  }
  if (alike.size() > 1) {
    std::vector<double> delays;
    for (const auto& [all, peak] : alike) delays.push_back(peak.delay_frames);
    const std::vector<double> all = alike_in_all(delays);
    for (std::size_t i = 0; i < all.size(); ++i) alike[i].first = all[i];
  }
  const double most = std::max_element(alike.begin(), alike.end(), [](const auto& p, const auto& q) {
                        return p.first < q.first;
                      })->first;
  const Peak* chosen = nullptr;
  for (const auto& [all, peak] : alike)
    if (all >= kAsHigh * most &&
        (chosen == nullptr || std::abs(peak.delay_frames) < std::abs(chosen->delay_frames)))
      chosen = &peak;
  CoarsePlace place;
  place.delay_frames = chosen->delay_frames;
  place.sign = chosen->sign;
  place.height = peaks.front().height;
  place.excerpt = chosen->excerpt;
  for (const auto& [all, peak] : alike)
    if (all >= kNearlyAsHigh * most && &peak != chosen) place.candidates.push_back(peak.delay_frames);
  std::sort(place.candidates.begin(), place.candidates.end(),
            [](double p, double q) { return std::abs(p) < std::abs(q); });
  return place;
}

std::vector<double> CoarseSearch::plain() const {
  const double rate = a_.sample_rate_hz();
  const auto frames = std::min<std::int64_t>(a_.frames(), std::llround(kPlainS * rate));
  const auto x = low(a_, a_channel_, 0, static_cast<std::size_t>(frames) / step_ + 1);
  RealTransform& transform = transforms_.get(fast_transform_length(2 * x.size()));
  const Bins a = transform.bins_of(x);
  const std::size_t hop = transform.length() - x.size();
  std::vector<std::pair<double, double>> crests;  // size, delay
  for (std::int64_t start = -static_cast<std::int64_t>(x.size()) * step(); start < b_.frames();
       start += static_cast<std::int64_t>(hop) * step()) {
    Bins b = transform.bins_of(low(b_, b_channel_, start, transform.length()));
    times_conjugates(b, a);
    const auto c = transform.invert(b);
    for (std::size_t n = 1; n < hop; ++n) {
      const double here = std::abs(c[n]);
      const double before = std::abs(c[n - 1]), after = std::abs(c[n + 1]), bend = before - 2 * here + after;
      if (here < before || here < after) continue;
      // As high as it is between samples.
      const double size = bend < 0 ? here - (before - after) * (before - after) / (8 * bend) : here;
      if (crests.size() == kMostCrests && size <= crests.back().first) continue;
      if (crests.size() == kMostCrests) crests.pop_back();
      const std::pair crest{size, static_cast<double>(start + static_cast<std::int64_t>(n) * step())};
      crests.insert(std::upper_bound(crests.begin(), crests.end(), crest, std::greater<>()), crest);
    }
  }
  std::vector<double> delays;
  for (const auto& [size, delay] : crests)
    if (size >= kNearlyAsHigh * crests.front().first) delays.push_back(delay);
  return delays;
}

// For each delay Σxy of all that both hold over the energy of the whole reference, at the best of three low
// samples.
std::vector<double> CoarseSearch::alike_in_all(const std::vector<double>& delays) const {
  constexpr std::size_t kAtOnce = 1 << 16;
  const std::size_t count = static_cast<std::size_t>(a_.frames()) / step_ + 1;
  std::vector<std::array<double, 3>> both(delays.size(), {0, 0, 0});
  double own = 0;
  for (std::size_t at = 0; at < count; at += kAtOnce) {
    const std::size_t here = std::min(kAtOnce, count - at);
    const auto first = static_cast<std::int64_t>(at) * step();
    const auto x = low(a_, a_channel_, first, here);
    for_each_part(delays.size(), [&](std::size_t i) {
      const auto y = low(b_, b_channel_, first + std::llround(delays[i]) - step(), here + 2);
      for (std::size_t shift = 0; shift < 3; ++shift)
        both[i][shift] += sum_of_products(x, std::span(y).subspan(shift, x.size()));
    });
    own += energy(x);
  }
  std::vector<double> alike;
  for (const auto& [early, there, late] : both)
    alike.push_back(own > 0 ? std::max({std::abs(early), std::abs(there), std::abs(late)}) / own : 0);
  return alike;
}

// Whether a segment is nearly the same a little later: then it cannot tell where it is.
bool repeats_itself(RealTransform& transform, Bins bins) {
  for (auto& bin : bins) bin = std::norm(bin);
  const auto c = transform.invert(bins);
  for (std::size_t lag = kOwnPeak; lag <= static_cast<std::size_t>(kReach); ++lag)
    if (std::abs(c[lag]) > kNearlyTheSame * c[0]) return true;
  return false;
}

// In segments of a third of a second first; a slow sweep needs longer ones to be told from itself a little
// later.
void CoarseSearch::count_agreement(CoarsePlace& place) {
  const auto late = static_cast<std::int64_t>(std::llround(place.delay_frames));
  const std::int64_t begin = std::max<std::int64_t>(0, -late),
                     end = std::min<std::int64_t>(a_.frames(), b_.frames() - late);
  const std::int64_t common = (end - begin) / step();
  // Six segments at least in what is short.
  const std::int64_t length = std::clamp(common / 6, kLeastSegment, kSegment);
  std::tie(place.looked, place.agreed) = agreement(place, begin, common, length);
  if (is_proven(place) || place.height < kPlainly || common < 3 * kLongSegment) return;
  const auto [looked, agreed] = agreement(place, begin, common, kLongSegment);
  if (agreed * place.looked > place.agreed * looked) {
    place.looked = looked;
    place.agreed = agreed;
  }
}

// How many segments were searched for, and how many lie on the place or on one line through it.
std::pair<int, int> CoarseSearch::agreement(const CoarsePlace& place, std::int64_t begin, std::int64_t common,
                                            std::int64_t own) {
  const auto late = static_cast<std::int64_t>(std::llround(place.delay_frames));
  const auto length = static_cast<std::size_t>(own), reach = static_cast<std::size_t>(kReach);
  const std::int64_t count = std::clamp<std::int64_t>(common / own, 1, kMostSegments);
  struct Landing {
    double away = 0;  // frames from the excerpt
    double lag = 0;   // low samples off the place
    double power = 0;
    bool right_way = false;
  };
  const auto landing = [&](std::int64_t first, RealTransform& transform) -> std::optional<Landing> {
    const auto x = low(a_, a_channel_, first, length);
    Bins p = transform.bins_of(x);
    Bins q = transform.bins_of(low(b_, b_channel_, first + late - kReach * step(), length + 2 * reach));
    flatten(p, kSegmentExponent);
    if (repeats_itself(transform, p)) return std::nullopt;
    flatten(q, kSegmentExponent);
    times_conjugates(q, p);
    const auto c = transform.invert(q).first(2 * reach + 1);
    const auto peak =
        std::max_element(c.begin(), c.end(), [](double s, double t) { return std::abs(s) < std::abs(t); });
    return Landing{static_cast<double>(first - place.excerpt), static_cast<double>(peak - c.begin() - kReach),
                   energy(x), *peak * place.sign > 0};
  };
  std::vector<std::optional<Landing>> landings(static_cast<std::size_t>(count));
  const auto hands = static_cast<std::size_t>(
      std::clamp<std::int64_t>(allowed_threads(), 1, std::min<std::int64_t>(count, kMostHands)));
  for_each_part(hands, [&](std::size_t hand) {
    RealTransforms own_transforms;
    RealTransform& transform =
        (hand == 0 ? transforms_ : own_transforms).get(fast_transform_length(length + 2 * reach));
    for (std::size_t i = hand; i < landings.size(); i += hands) {
      const auto at = static_cast<std::int64_t>(i);
      landings[i] = landing(begin + (count == 1 ? 0 : at * (common - own) / (count - 1)) * step(), transform);
    }
  });
  std::vector<Landing> found;
  double loudest = 0, farthest = 1;
  for (const auto& landed : landings) {
    if (!landed) continue;
    found.push_back(*landed);
    loudest = std::max(loudest, landed->power);
    farthest = std::max(farthest, std::abs(landed->away) / static_cast<double>(step_));
  }
  std::erase_if(found, [&](const Landing& f) { return !(f.power > kSilent * loudest); });
  // Under a drift they lie on a line through the place: slopes by which the farthest moves one low sample.
  const auto slopes = static_cast<int>(std::ceil(most_drift_ * farthest));
  std::ptrdiff_t most = 0;
  for (int s = -slopes; s <= slopes; ++s) {
    const double slope = static_cast<double>(s) / farthest / static_cast<double>(step_);
    most = std::max(most, std::count_if(found.begin(), found.end(), [&](const Landing& f) {
                      return f.right_way && std::abs(f.lag - slope * f.away) <= kOnTheSpot;
                    }));
  }
  return {static_cast<int>(found.size()), static_cast<int>(most)};
}

namespace {

bool agrees(const CoarsePlace& place, double share) {
  return place.agreed >= share * static_cast<double>(place.looked);
}

}  // namespace

bool is_proven(const CoarsePlace& place) noexcept {
  const bool few = place.looked < kLeastLooked && place.agreed >= kFew && place.height >= kSurely;
  if (place.agreed < kLeastAgreed && !few) return false;
  return (place.height >= kSurely && agrees(place, kFifth)) ||
         (place.height >= kLikely && agrees(place, kMany) && place.agreed >= kEnough) ||
         (place.height >= kHardly && agrees(place, kNearlyAll) && place.agreed >= kMost);
}

bool is_likely(const CoarsePlace& place) noexcept {
  return place.height >= kSurely ||
         (place.height >= kLikely && agrees(place, kMany) && place.agreed >= kLeastAgreed);
}

}  // namespace wavicon::intake_detail
