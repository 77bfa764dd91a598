// SPDX-License-Identifier: MIT
#include "hit.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>

#include "audio/wide.hpp"
#include "band_vote.hpp"
#include "curve_timing.hpp"
#include "samples.hpp"
#include "segment_delay.hpp"
#include "wavicon/audio/fractional.hpp"
#include "wavicon/intake/align.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kLongestHitS = 0.6;
constexpr double kEdgeS = 0.005;       // of the window over it
constexpr double kFloor = 0.1;         // of the highest bin: whitening goes no deeper, or noise would count
constexpr double kLeastEnergy = 1e-8;  // of the loudest stretch of the capture: less is silence
constexpr std::size_t kLeastLength = 65536;  // of a transform
constexpr std::size_t kMostPlaces = 24;      // that are looked at more closely
constexpr std::size_t kMostNear = 4;         // of those near a delay
constexpr double kApartS = 0.0005;           // by which places are two
constexpr int kBetween = 4;             // places looked at on either side of a whole frame, up to half of one
constexpr int kPasses = 4;              // of the timing
constexpr double kStill = 1e-7;         // frames
constexpr double kNearlyAsWell = 0.98;  // of the best match
constexpr double kAgree = 0.6;  // mean of the bands' correlations: right places 0.72 up, wrong ones 0.46
constexpr double kPlainlyAgree = 0.7;  // with that and many bands, a filter may have taken from the match …
constexpr double kTakenByFilter = 0.05;  // … so much
constexpr int kManyBands = 12;
constexpr double kVoteReachS = 5e-5;  // about the place
constexpr double kDispersed = 2;      // χ² per degree of freedom of the bands: they were moved, not noisy

using Bins = std::vector<std::complex<double>>;

WAVICON_WIDE void divide_by_root(double* bins, double floor, std::size_t count) {
  for (std::size_t k = 0; k < count; ++k) {
    const double root =
        std::sqrt(std::sqrt(bins[2 * k] * bins[2 * k] + bins[2 * k + 1] * bins[2 * k + 1]) + floor);
    bins[2 * k] /= root;
    bins[2 * k + 1] /= root;
  }
}

// Correlation over the roots of both energies, where what lies there is more than silence.
WAVICON_WIDE void match_all(const double* correlation, const double* sums, std::size_t length,
                            double own_energy, double least, std::size_t count, double* matches) {
  for (std::size_t n = 0; n < count; ++n) {
    const double there = sums[n + length] - sums[n], match = correlation[n] / std::sqrt(own_energy * there);
    matches[n] = there > least ? match : 0.0;
  }
}

// Spectrum over the root of its size.
void whiten(Bins& bins) {
  const double floor = kFloor * std::sqrt(highest_power(bins));
  if (floor > 0) divide_by_root(reinterpret_cast<double*>(bins.data()), floor, bins.size());
}

struct Candidate {
  double match = 0;
  std::int64_t place = 0;  // of the stretch's first frame in the capture
};

// The hit, ready to be compared.
struct Hit {
  std::int64_t first = 0;  // in the reference
  std::vector<double> window, samples;
};

Hit taken(AudioSource& reference, int channel, const Stretch& active) {
  const double rate = reference.sample_rate_hz();
  Hit hit;
  hit.first = active.first - std::llround(kAroundHitS * rate);
  const std::int64_t length = active.frames() + 2 * std::llround(kAroundHitS * rate);
  hit.window = edged_window(static_cast<std::size_t>(length), static_cast<std::size_t>(kEdgeS * rate));
  hit.samples = read_channel(reference, channel, hit.first, length);
  for (std::size_t n = 0; n < hit.samples.size(); ++n) hit.samples[n] *= hit.window[n];
  return hit;
}

// Keeps the best of those that lie near each other.
void keep(std::vector<Candidate>& places, const Candidate& one, std::int64_t apart, std::size_t most) {
  for (Candidate& other : places)
    if (std::abs(other.place - one.place) < apart) {
      if (std::abs(one.match) > std::abs(other.match)) other = one;
      return;
    }
  places.push_back(one);
  if (places.size() <= most) return;
  places.erase(std::min_element(places.begin(), places.end(), [](const Candidate& p, const Candidate& q) {
    return std::abs(p.match) < std::abs(q.match);
  }));
}

class Search {
 public:
  Search(const Hit& hit, AudioSource& capture, int channel, std::size_t transform_length,
         std::size_t most_places, RealTransforms& transforms)
      : hit_(hit),
        capture_(capture),
        channel_(channel),
        length_(hit.samples.size()),
        most_places_(most_places),
        transforms_(transforms),
        transform_(transforms.get(fast_transform_length(transform_length))),
        apart_(std::max<std::int64_t>(2, std::llround(kApartS * capture.sample_rate_hz()))) {
    own_ = transform_.bins_of(hit.samples);
    whiten(own_);
    own_energy_ = energy_of(own_);
  }

  // The best places first … end of the capture, block by block: correlation over the energy of what lies
  // there, then of that stretch alone.
  std::optional<HitPlace> best(std::int64_t first, std::int64_t end) {
    std::vector<Candidate> places;
    const auto hop = static_cast<std::int64_t>(transform_.length() - length_);
    for (std::int64_t start = first; start < end; start += hop)
      look(start, std::min(hop, end - start), places);
    for (Candidate& one : places) one.match = match(one.place, one.place);
    std::sort(places.begin(), places.end(),
              [](const Candidate& p, const Candidate& q) { return std::abs(p.match) > std::abs(q.match); });
    if (places.empty() || places.front().match == 0) return std::nullopt;
    HitPlace found{.delay_frames = places.front().place - hit_.first, .match = places.front().match};
    vote(places.front().place, found);
    for (std::size_t i = 1; i < places.size(); ++i)
      if (std::abs(places[i].match) > kNearlyAsWell * std::abs(found.match) &&
          places[i].place != places.front().place)
        found.others.push_back(places[i].place - hit_.first);
    return found;
  }

 private:
  // Of the samples whose spectrum it is (Parseval): 0 Hz and half the rate stand there once, all else twice.
  [[nodiscard]] double energy_of(const Bins& bins) const {
    const std::span<const double> parts(reinterpret_cast<const double*>(bins.data()), 2 * bins.size());
    return (2 * energy(parts) - std::norm(bins.front()) - std::norm(bins.back())) /
           static_cast<double>(transform_.length());
  }
  void vote(std::int64_t place, HitPlace& found) {
    auto y = read_channel(capture_, channel_, place, static_cast<std::int64_t>(length_));
    for (std::size_t n = 0; n < y.size(); ++n) y[n] *= hit_.window[n];
    const double rate = capture_.sample_rate_hz();
    const BandVote vote = vote_of_bands(
        hit_.samples, y, rate, std::max<std::int64_t>(2, std::llround(kVoteReachS * rate)), transforms_);
    found.agreement = vote.agreement * (found.match < 0 ? -1 : 1);
    found.bands = vote.bands;
  }
  // The match at one place, of that stretch alone.
  [[nodiscard]] double match(std::int64_t place, std::int64_t& best_place) {
    auto y = read_channel(capture_, channel_, place, static_cast<std::int64_t>(length_));
    for (std::size_t n = 0; n < y.size(); ++n) y[n] *= hit_.window[n];
    Bins other = transform_.bins_of(y);
    whiten(other);
    const double energies = own_energy_ * energy_of(other);
    if (!(energies > 0)) return 0;
    times_conjugates(other, own_);
    const auto correlation = transform_.invert(other);
    double best = 0;
    std::int64_t best_lag = 0;
    for (std::int64_t lag = -apart_; lag <= apart_; ++lag) {
      const auto index =
          static_cast<std::size_t>(lag < 0 ? lag + static_cast<std::int64_t>(transform_.length()) : lag);
      if (std::abs(correlation[index]) <= std::abs(best)) continue;
      best = correlation[index];
      best_lag = lag;
    }
    best_place = place + best_lag;
    return between(other, static_cast<double>(best_lag), best) / std::sqrt(energies);
  }

  // The crest near a whole lag, which need not lie on it.
  [[nodiscard]] double between(const Bins& cross, double lag, double best) const {
    const double turn = 2 * std::numbers::pi / static_cast<double>(transform_.length());
    for (int i = -kBetween; i <= kBetween; ++i) {
      const double at = lag + static_cast<double>(i) / (2 * kBetween);
      // 0 Hz and half the rate stand once in a spectrum of real samples.
      const double once =
          cross.front().real() +
          (cross.back() * std::polar(1.0, turn * at * static_cast<double>(cross.size() - 1))).real();
      const double sum =
          (2 * sum_of_turned(cross, turn * at) - once) / static_cast<double>(transform_.length());
      if (std::abs(sum) > std::abs(best)) best = sum;
    }
    return best;
  }

  void look(std::int64_t start, std::int64_t count, std::vector<Candidate>& found) {
    const auto y = read_channel(capture_, channel_, start, static_cast<std::int64_t>(transform_.length()));
    Bins other = transform_.bins_of(y);
    whiten(other);
    const auto white = transform_.invert(other);
    std::vector<double> sums(white.size() + 1, 0.0);
    for (std::size_t n = 0; n < white.size(); ++n) sums[n + 1] = sums[n] + white[n] * white[n];
    times_conjugates(other, own_);
    const auto correlation = transform_.invert(other);
    const auto places = static_cast<std::size_t>(count);
    double loudest = 0;
    for (std::size_t n = 0; n < places; ++n) loudest = std::max(loudest, sums[n + length_] - sums[n]);
    loudest_ = std::max(loudest_, loudest);
    std::vector<double> matches(places);
    match_all(correlation.data(), sums.data(), length_, own_energy_, kLeastEnergy * loudest_, places,
              matches.data());
    for (std::size_t n = 1; n + 1 < places; ++n) {
      const double here = std::abs(matches[n]);
      if (here > 0 && here >= std::abs(matches[n - 1]) && here >= std::abs(matches[n + 1]) &&
          here > least(found))
        keep(found, {matches[n], start + static_cast<std::int64_t>(n)}, apart_, most_places_);
    }
  }
  [[nodiscard]] double least(const std::vector<Candidate>& found) const {
    double least = 0;
    if (found.size() < most_places_) return least;
    least = 1e300;
    for (const Candidate& one : found) least = std::min(least, std::abs(one.match));
    return least;
  }

  const Hit& hit_;
  AudioSource& capture_;
  int channel_;
  std::size_t length_;
  std::size_t most_places_;
  RealTransforms& transforms_;
  RealTransform& transform_;
  std::int64_t apart_;
  Bins own_;
  double own_energy_ = 0;
  double loudest_ = 0;
};

}  // namespace

bool is_hit(const Stretch& active, double sample_rate_hz) noexcept {
  return static_cast<double>(active.frames()) < kLongestHitS * sample_rate_hz;
}

bool is_believable(const HitPlace& place, double least_match) noexcept {
  const double match = std::abs(place.match);
  if (match >= least_match) return place.agreement >= kAgree;
  return match >= least_match - kTakenByFilter && place.bands >= kManyBands &&
         place.agreement >= kPlainlyAgree;
}

std::optional<HitPlace> find_hit(AudioSource& reference, int reference_channel, const Stretch& active,
                                 AudioSource& capture, int capture_channel, RealTransforms& transforms) {
  const Hit hit = taken(reference, reference_channel, active);
  const std::size_t length = hit.samples.size();
  return Search(hit, capture, capture_channel, std::max(4 * length, kLeastLength), kMostPlaces, transforms)
      .best(-static_cast<std::int64_t>(length), capture.frames());
}

std::optional<HitPlace> find_hit_near(AudioSource& reference, int reference_channel, const Stretch& active,
                                      AudioSource& capture, int capture_channel, std::int64_t delay_frames,
                                      std::int64_t reach_frames, RealTransforms& transforms) {
  const Hit hit = taken(reference, reference_channel, active);
  const auto reach = static_cast<std::size_t>(2 * reach_frames + 1);
  const std::int64_t first = hit.first + delay_frames - reach_frames;
  return Search(hit, capture, capture_channel, hit.samples.size() + reach, kMostNear, transforms)
      .best(first, first + static_cast<std::int64_t>(reach));
}

std::optional<TimedHit> time_hit(AudioSource& reference, int reference_channel, const Stretch& active,
                                 AudioSource& capture, int capture_channel, double delay_frames) {
  const auto around = std::llround(kAroundHitS * reference.sample_rate_hz());
  const std::int64_t first = active.first - around, length = active.frames() + 2 * around;
  SegmentDelays timing(reference.sample_rate_hz(),
                       edged_window(static_cast<std::size_t>(length), static_cast<std::size_t>(around / 2)),
                       0.0);
  const std::vector<double>& window = timing.window();
  auto x = read_channel(reference, reference_channel, first, length);
  TimedHit result{.delay_frames = delay_frames, .own = energy(x)};
  const std::vector<double> whole = x;
  for (std::size_t n = 0; n < x.size(); ++n) x[n] *= window[n];
  const auto own = timing.spectrum_of(x);
  const FractionalReader reader;
  std::vector<double> y(x.size());
  for (int pass = 0; pass < kPasses; ++pass) {
    Alignment along;
    along.delay_frames = result.delay_frames;
    read_aligned(capture, capture_channel, along, first, reader, y);
    result.both = sum_of_products(whole, y);
    for (std::size_t n = 0; n < y.size(); ++n) y[n] *= window[n];
    const auto late = timing(own, y);
    if (!late) return std::nullopt;
    result.delay_frames += late->frames;
    // Bands that a filter moved against each other: each of them could be the delay.
    result.sigma_frames = late->sigma_frames * std::sqrt(late->scatter);
    if (late->scatter > kDispersed)
      result.sigma_frames = std::hypot(result.sigma_frames, late->spread_frames);
    if (std::abs(late->frames) < kStill) break;
  }
  const auto bent =
      time_by_curve(reference, reference_channel, first, window, capture, capture_channel, delay_frames);
  if (bent && is_bent(*bent)) {
    result.delay_frames = bent->delay_frames;
    result.sigma_frames = bent->sigma_frames;
    result.proven_by_curve = proven_curve({&*bent, 1}) != nullptr;
  }
  return result;
}

}  // namespace wavicon::intake_detail
