// SPDX-License-Identifier: MIT
#include "wavicon/intake/hits.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "comparable.hpp"
#include "envelope.hpp"
#include "hit.hpp"
#include "row_of_hits.hpp"
#include "samples.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/workers.hpp"

namespace wavicon {
namespace {

using intake_detail::correlation_of;
using intake_detail::energy;
using intake_detail::Envelope;
using intake_detail::envelope_of;

constexpr double kSudden = 4;                           // in power: 6 dB
constexpr double kUnderLoudest = 1e-3;                  // in power: 30 dB
constexpr double kFaded = 1e-4;                         // of a hit's loudest block: 40 dB
constexpr std::size_t kApart = 50;                      // blocks from hit to hit at least
constexpr std::size_t kLongest = 300;                   // blocks that are compared of one
constexpr std::size_t kBeforeNext = 15;                 // blocks: what the windows of two hits share not
constexpr std::size_t kEarly = 120;                     // blocks that hold most of a hit
constexpr double kHasFaded = 0.03;                      // of a hit's power, before the next one: 15 dB
constexpr double kMost = 0.8;                           // of its power
constexpr double kReachS = 0.03;                        // by which one hit may lie off the row
constexpr std::size_t kSmooth = 8;                      // blocks by which onsets of two rows may differ
constexpr std::size_t kMostPlaces = 8;                  // of a row that are tried
constexpr double kWorthATry = 0.3;                      // of the best correlation of onsets
constexpr double kMostOfSpread = 0.5, kSpreadDb = 20;   // what a spread of gains takes from a place
constexpr double kSameSpread = 1.5, kSameSpreadDb = 1;  // times and beside that of the best place
constexpr std::size_t kLeastHits = 3;
constexpr double kLeastFound = 0.6;
constexpr std::size_t kMostTried = 48;  // hits by which a place of the row is judged

// Blocks at which hits begin.
std::vector<std::size_t> onsets_of(const Envelope& envelope) {
  const auto& powers = envelope.powers;
  std::vector<std::size_t> onsets;
  if (powers.empty()) return onsets;
  const double least = kUnderLoudest * *std::max_element(powers.begin(), powers.end());
  if (!(least > 0)) return onsets;
  for (std::size_t k = 0; k < powers.size(); ++k) {
    const double now = envelope.ahead(k);
    if (now < least || now < kSudden * envelope.behind(k)) continue;
    // From where it rises on, what stands most over what was there before is its beginning.
    std::size_t best = k;
    const auto rise = [&](std::size_t i) { return envelope.ahead(i) / (envelope.behind(i) + least); };
    for (std::size_t i = k; i < std::min(powers.size(), k + Envelope::kBehind); ++i)
      if (rise(i) > rise(best)) best = i;
    onsets.push_back(best);
    k = best + kApart;
  }
  return onsets;
}

std::vector<Hit> hits_of(const Envelope& envelope, std::int64_t frames) {
  const auto& powers = envelope.powers;
  const std::vector<std::size_t> onsets = onsets_of(envelope);
  std::vector<Hit> hits;
  for (std::size_t i = 0; i < onsets.size(); ++i) {
    const std::size_t next = i + 1 < onsets.size() ? onsets[i + 1] : powers.size() + kBeforeNext;
    const std::size_t first = onsets[i],
                      last = std::min({first + kLongest, next - kBeforeNext, powers.size()});
    const auto begin = powers.begin() + static_cast<std::ptrdiff_t>(first);
    const double loudest = *std::max_element(begin, powers.begin() + static_cast<std::ptrdiff_t>(last));
    std::size_t end = last;
    while (end > first + 1 && powers[end - 1] < kFaded * loudest) --end;
    hits.push_back({static_cast<std::int64_t>(first) * envelope.block,
                    std::min(frames, static_cast<std::int64_t>(end) * envelope.block)});
  }
  return hits;
}

// What rises at each block, a little wider than it is.
std::vector<double> rises_of(const Envelope& envelope) {
  std::vector<double> rises(envelope.powers.size(), 0.0);
  for (const std::size_t k : onsets_of(envelope))
    for (std::size_t i = k > kSmooth ? k - kSmooth : 0; i < std::min(rises.size(), k + kSmooth + 1); ++i) {
      const double off = static_cast<double>(i > k ? i - k : k - i);
      rises[i] = std::max(rises[i], 1 - off / (kSmooth + 1));
    }
  return rises;
}

// Delays of the whole row at which its onsets meet, in frames, the best first.
std::vector<std::int64_t> places_of_row(const Envelope& a, const Envelope& b) {
  const auto x = rises_of(a), y = rises_of(b);
  const auto found = correlation_of(x, y);
  const auto first = -static_cast<std::int64_t>(x.size()) + 1;
  std::vector<std::pair<double, std::int64_t>> peaks;
  for (std::size_t i = 0; i < found.size(); ++i) {
    const double before = i > 0 ? found[i - 1] : 0, after = i + 1 < found.size() ? found[i + 1] : 0;
    if (found[i] > before && found[i] >= after)
      peaks.emplace_back(found[i], first + static_cast<std::int64_t>(i));
  }
  std::sort(peaks.begin(), peaks.end(), [](const auto& p, const auto& q) {
    return p.first != q.first ? p.first > q.first : std::abs(p.second) < std::abs(q.second);
  });
  std::vector<std::int64_t> lags;
  for (const auto& [height, lag] : peaks) {
    if (height < kWorthATry * peaks.front().first || lags.size() >= kMostPlaces) break;
    if (std::none_of(lags.begin(), lags.end(), [&, at = lag](std::int64_t other) {
          return std::abs(other - at) < static_cast<std::int64_t>(2 * kSmooth);
        }))
      lags.push_back(lag);
  }
  for (std::int64_t& lag : lags) lag *= a.block;
  return lags;
}

// A place of the row, and what speaks for it.
struct Tried {
  std::int64_t delay = 0;
  std::vector<std::pair<std::size_t, intake_detail::HitPlace>> found;  // hit, place
  int looked = 0;                                                      // hits that fall into the capture
  int alone = 0;   // hits of either side without a partner, though the other side's time holds it
  double sum = 0;  // of matches
  std::vector<double> gains_db;  // of each that was found
  // Loud and soft hits have to lie where they lie in the reference, whatever a compressor does to them.
  [[nodiscard]] double spread_db() const {
    if (gains_db.empty()) return 0;
    const double mean = std::accumulate(gains_db.begin(), gains_db.end(), 0.0) / count();
    double squares = 0;
    for (const double gain : gains_db) squares += (gain - mean) * (gain - mean);
    return std::sqrt(squares / count());
  }
  [[nodiscard]] double count() const { return static_cast<double>(gains_db.size()); }
  [[nodiscard]] double score() const {
    return sum * (1 - std::min(kMostOfSpread, spread_db() / kSpreadDb)) - alone;
  }
};

// Both sources are read by several threads.
class Rows {
 public:
  Rows(AudioSource& a, AudioSource& b, const AlignOptions& options)
      : a_(a),
        b_(b),
        options_(options),
        envelope_a_(envelope_of(a, options.reference_channel)),
        envelope_b_(envelope_of(b, options.capture_channel)),
        hits_(hits_of(envelope_a_, a.frames())),
        others_(hits_of(envelope_b_, b.frames())),
        reach_(std::llround(kReachS * a.sample_rate_hz())) {}

  std::optional<HitRow> run() {
    if (hits_.size() < kLeastHits || others_.empty()) return std::nullopt;
    std::vector<Tried> tries;
    const std::size_t step = (hits_.size() + kMostTried - 1) / kMostTried;
    const std::vector<std::int64_t> places = places_of_row(envelope_a_, envelope_b_);
    tries.resize(places.size());
    for_each_part(places.size(), [&](std::size_t i) { tries[i] = try_at(places[i], step); });
    const auto best = std::max_element(tries.begin(), tries.end(), [](const Tried& p, const Tried& q) {
      return p.score() != q.score() ? p.score() < q.score() : std::abs(p.delay) > std::abs(q.delay);
    });
    if (best == tries.end() || !enough(*best)) return std::nullopt;
    HitRow row;
    for (const Tried& other : tries)
      if (&other != &*best && enough(other) && other.alone <= best->alone &&
          other.spread_db() <= kSameSpread * best->spread_db() + kSameSpreadDb)
        row.candidates.push_back(static_cast<double>(other.delay));
    std::sort(row.candidates.begin(), row.candidates.end(),
              [](double p, double q) { return std::abs(p) < std::abs(q); });
    const Tried all = step == 1 ? *best : try_at(best->delay, 1);
    if (!enough(all)) return std::nullopt;
    row.looked = all.looked;
    measure(all, row);
    // What matches may still say nothing of time.
    return row.hits.size() < kLeastHits ? std::nullopt : std::optional(row);
  }

 private:
  [[nodiscard]] bool enough(const Tried& tried) const {
    const auto found = static_cast<double>(tried.found.size());
    return tried.found.size() >= kLeastHits &&
           (options_.doubtful || found >= kLeastFound * static_cast<double>(tried.looked));
  }

  [[nodiscard]] static bool any_near(const std::vector<Hit>& hits, std::int64_t frame, std::int64_t reach) {
    const auto next = std::lower_bound(hits.begin(), hits.end(), frame - reach,
                                       [](const Hit& hit, std::int64_t at) { return hit.first_frame < at; });
    return next != hits.end() && next->first_frame <= frame + reach;
  }

  Tried try_at(std::int64_t delay, std::size_t step) {
    Tried tried{.delay = delay};
    RealTransforms transforms;
    for (std::size_t i = 0; i < hits_.size(); i += step) {
      const Hit& hit = hits_[i];
      if (hit.first_frame + delay < 0 || hit.end_frame + delay > b_.frames()) continue;
      ++tried.looked;
      const auto place =
          intake_detail::find_hit_near(a_, options_.reference_channel, {hit.first_frame, hit.end_frame}, b_,
                                       options_.capture_channel, delay, reach_, transforms);
      if (!place || (!options_.doubtful && !intake_detail::is_believable(*place, options_.least_match))) {
        ++tried.alone;
        continue;
      }
      tried.sum += std::abs(place->match);
      tried.gains_db.push_back(gain_db_of(hit, place->delay_frames));
      tried.found.emplace_back(i, *place);
    }
    for (const Hit& other : others_) {
      const std::int64_t here = other.first_frame - delay;
      if (step == 1 && here >= reach_ && here < a_.frames() - reach_ && !any_near(hits_, here, reach_))
        ++tried.alone;
    }
    return tried;
  }

  double gain_db_of(const Hit& hit, std::int64_t delay) {
    const std::int64_t length = hit.end_frame - hit.first_frame;
    const auto x = read_channel(a_, options_.reference_channel, hit.first_frame, length),
               y = read_channel(b_, options_.capture_channel, hit.first_frame + delay, length);
    const double both = intake_detail::sum_of_products(x, y), own = intake_detail::energy(x);
    return own > 0 ? db_from_ratio(std::max(1e-9, std::abs(both) / own)) : 0;
  }

  void measure(const Tried& tried, HitRow& row) {
    double both = 0, own = 0;
    for (const auto& [index, place] : tried.found) {
      const auto timed = intake_detail::time_hit(
          a_, options_.reference_channel, {hits_[index].first_frame, hits_[index].end_frame}, b_,
          options_.capture_channel, static_cast<double>(place.delay_frames));
      if (!timed) continue;
      row.hits.push_back(
          {hits_[index].first_frame, timed->delay_frames, 2 * timed->sigma_frames, std::abs(place.match)});
      both += timed->both;
      own += timed->own;
    }
    if (own > 0) row.gain = both / own;
  }

  AudioSource& a_;
  AudioSource& b_;
  AlignOptions options_;
  Envelope envelope_a_, envelope_b_;
  std::vector<Hit> hits_, others_;
  std::int64_t reach_;
};

}  // namespace

std::vector<Hit> find_hits(AudioSource& source, int channel) {
  intake_detail::require_channel(source, channel);
  return hits_of(envelope_of(source, channel), source.frames());
}

bool is_row_of_hits(AudioSource& source, int channel) {
  intake_detail::require_channel(source, channel);
  return intake_detail::holds_hits_alone(envelope_of(source, channel));
}

bool intake_detail::holds_hits_alone(const Envelope& envelope) {
  const std::vector<std::size_t> onsets = onsets_of(envelope);
  if (onsets.size() < kLeastHits) return false;
  // Nothing sounds but what has just begun.
  double early = 0, all = 0;
  for (const double power : envelope.powers) all += power;
  for (const std::size_t k : onsets)
    early += envelope.mean(k, k + kEarly) * static_cast<double>(std::min(kEarly, envelope.powers.size() - k));
  if (early < kMost * all) return false;
  for (std::size_t i = 0; i < onsets.size(); ++i) {
    const std::size_t next = i + 1 < onsets.size() ? onsets[i + 1] : envelope.powers.size();
    if (next < envelope.powers.size() && envelope.behind(next) > kHasFaded * envelope.ahead(onsets[i]))
      return false;
  }
  return true;
}

std::optional<HitRow> intake_detail::row_of_hits(KeptChannel& reference, KeptChannel& capture,
                                                 AlignOptions options) {
  options.reference_channel = options.capture_channel = 0;
  return Rows(reference, capture, options).run();
}

std::optional<HitRow> align_hits(AudioSource& reference, AudioSource& capture, const AlignOptions& options) {
  intake_detail::require_comparable(reference, capture, options);
  intake_detail::KeptChannel a(reference, options.reference_channel), b(capture, options.capture_channel);
  return intake_detail::row_of_hits(a, b, options);
}

}  // namespace wavicon
