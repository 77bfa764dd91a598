// SPDX-License-Identifier: MIT
#include "wavicon/intake/align.hpp"

#include <algorithm>
#include <cmath>

#include "coarse_search.hpp"
#include "comparable.hpp"
#include "curve_timing.hpp"
#include "delay_line.hpp"
#include "explained_power.hpp"
#include "hit.hpp"
#include "kept_channel.hpp"
#include "row_of_hits.hpp"
#include "samples.hpp"
#include "segment_timer.hpp"
#include "segment_walk.hpp"
#include "slip_check.hpp"
#include "slip_pieces.hpp"
#include "slip_place.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/intake/hits.hpp"

namespace wavicon {
namespace {

constexpr double kWorthALook = 0.3;    // of what each segment reaches by itself
constexpr double kNothingLeft = 1e-9;  // of the power: nothing can be found that leaves less
constexpr double kProvenLeft = 1e-4;   // of the power: so much alike are no two by chance
constexpr double kPlainlyMore = 10;    // times that, at other places
constexpr double kLeftByLine = 0.5;    // of the power beside a line that most segments lie on: -3 dB
constexpr double kMostOfThem = 0.6;
constexpr double kWorthTrying = 1e-3;  // of the power, left at a place: others are tried
constexpr double kPlainlyLessElsewhere = 0.25;
constexpr std::size_t kMostTried = 6;
constexpr double kNearlyAll = 0.9;          // of the power: no room for a slip
constexpr double kExplained = 0.7;          // of the power: no other place has as much
constexpr std::int64_t kBesideLine = 2048;  // frames: more than a period of 24 Hz
constexpr double kBesideAlike = 0.7;        // of how well all agree on the line
constexpr double kHopeless = 0.9;           // of the power after one pass: no later one makes a proof of it
constexpr double kBentLeft = 0.5;           // of the power beside a gain: a curve is tried
constexpr double kEndsS = 0.005;            // by which ends that fade are known
constexpr int kAroundEnds = 8;              // places on either side
constexpr double kPlainlyLess = 0.8;        // of the power that one delay leaves
constexpr double kNextToNothing = 0.05;     // of it: a slip that one delay did not show
constexpr double kNearlyFree = 0.98;        // of what each segment reaches by itself: one delay for all
constexpr double kBeside = 2;               // frames
constexpr int kPasses = 3;                  // each with the place that the one before found
constexpr double kStill = 1e-7;             // frames
constexpr double kWholeFrame = 0.01;        // so near to a whole frame counts as one

using intake_detail::DelayLine;
using intake_detail::energy;
using intake_detail::kMostAcross;
using intake_detail::kMostSegments;
using intake_detail::kNear;
using intake_detail::kPlainlyAlike;
using intake_detail::Line;
using intake_detail::Segment;

class Aligner {
 public:
  Aligner(AudioSource& reference, AudioSource& capture, const AlignOptions& options)
      : a_(reference, options.reference_channel),
        b_(capture, options.capture_channel),
        options_(of_one_channel(options)),
        coarse_search_(a_, options_.reference_channel, b_, options_.capture_channel,
                       options.drift ? options.most_drift_ppm : 0, transforms_),
        walk_(a_, b_, options_, coarse_search_) {}

  std::optional<Alignment> run() {
    const auto envelope = intake_detail::envelope_of(a_, options_.reference_channel);
    const auto active = intake_detail::active_part(envelope, a_.frames());
    if (!active) return std::nullopt;
    if (intake_detail::is_hit(*active, a_.sample_rate_hz())) return hit(*active);
    if (intake_detail::holds_hits_alone(envelope))
      if (auto found = by_row()) return found;
    Alignment result;
    if (!find_coarse(result)) {
      if (options_.doubtful) return std::nullopt;
      if (auto found = by_line(result)) return found;
      return by_residual(*active);
    }
    if (!track_segments()) return options_.doubtful ? std::optional(result) : std::nullopt;
    line_up(result);
    if (const auto other = better_place(result)) {
      coarse_ = *other;
      forget();
      Alignment again = result;
      again.slips.clear();
      if (track_segments()) line_up(again);
      again.slips_untold = again.slips_untold || segments_.empty() || better_place(again);
      result = again;
    }
    if (const auto other = place_that_leaves_less()) result = *other;
    if (result.slips_untold && !result.slips.empty())
      if (const auto whole = along_one_line(result)) result = *whole;
    const bool untold = result.slips_untold || leans_too_much(result);
    if (untold && !options_.doubtful) return std::nullopt;
    return result;
  }

 private:
  // A short capture of a beat that comes again fits some bars off as well, to a part. Where some of it is
  // left, the other places of excerpts are tried, each with what it holds in common.
  std::optional<Alignment> place_that_leaves_less() {
    double least = left_over();
    if (segments_.empty() || least < kWorthTrying) return std::nullopt;
    least *= kPlainlyLessElsewhere;
    const auto segments = segments_;
    const auto line = line_;
    const auto places = places_;
    const double coarse = coarse_;
    const std::int64_t excerpt = excerpt_, length = length_;
    std::optional<Alignment> best;
    std::size_t tried = 0;
    for (const double delay : walk_.places_of_excerpts()) {
      if (std::abs(delay - coarse) < kNear || ++tried > kMostTried) continue;
      coarse_ = delay;
      excerpt_ = std::max<std::int64_t>(0, -std::llround(delay));
      forget();
      Alignment again;
      if (!track_segments()) continue;
      line_up(again);
      const double left = left_over();
      if (again.slips_untold || !again.slips.empty() || left > least) continue;
      least = left;
      again.by_residual = true;
      best = again;
    }
    if (best) return best;
    coarse_ = coarse;
    excerpt_ = excerpt;
    forget();
    segments_ = segments;
    line_ = line;
    places_ = places;
    length_ = length;
    return std::nullopt;
  }

  // A filter that delays each frequency by another time makes a sweep lean more than any clock does.
  [[nodiscard]] bool leans_too_much(const Alignment& found) const {
    return std::abs(found.drift_ppm) > options_.most_drift_ppm + found.drift_uncertainty_ppm;
  }

  // A bar of a machine that drifts fits a bar off as well, and looks like a slip there and back. Where nearly
  // all of the reference lies on the line of the longest piece, there is none.
  std::optional<Alignment> along_one_line(const Alignment& found) {
    Alignment whole = found;
    whole.slips.clear();
    const double explained = intake_detail::explained_power(looked_at(), whole);
    if (explained < kNearlyAll) return std::nullopt;
    segments_.clear();
    line_ = DelayLine(length_);
    line_.set({found.delay_frames, found.frames_per_frame - 1});
    std::vector<Segment> along;
    for (const std::int64_t first : places_)
      along.push_back(
          {first, line_.line().at(static_cast<double>(first) + 0.5 * static_cast<double>(length_)), 1, 0});
    const std::vector<double> alike = timer().alike(along, line_.line());
    for (std::size_t i = 0; i < along.size(); ++i)
      if (alike[i] > kPlainlyAlike) segments_.push_back(along[i]);
    if (segments_.empty()) return std::nullopt;
    settle(options_.drift);
    finish(whole);
    timer().take_gain(segments_, whole);
    whole.slips_untold = !intake_detail::slips_are_told(looked_at(), segments_, line_.line(), whole);
    return whole.slips_untold ? std::nullopt : std::optional(whole);
  }

  // Of a row of hits, which may repeat one sound, the whole row tells where it lies: nearly all of its hits,
  // and none of them alone. Between its hits frames may be lost that it does not see.
  std::optional<Alignment> by_row() {
    Alignment result;
    if (find_row(result) && track_segments()) {
      line_up(result);
      if (!result.slips_untold && !better_place(result)) return result;
    }
    forget();
    return std::nullopt;
  }

  // By what an alignment is looked at, as the segments stand.
  [[nodiscard]] intake_detail::AlignedPair looked_at() {
    return {a_, b_, options_, timer(), walk_.search(length_), places_, length_};
  }

  void forget() {
    segments_.clear();
    line_ = DelayLine();
    timer_.reset();
  }

  // Where the levels of what comes again say that it lies; none where enough of it lies where it was found.
  std::optional<double> better_place(const Alignment& found) {
    const intake_detail::AlignedPair pair = looked_at();
    const double here = intake_detail::explained_power(pair, found);
    if (here > kExplained) return std::nullopt;
    std::vector<double> others = walk_.places_of_excerpts();
    const std::vector<double> own = delays_of_pieces(found);
    std::erase_if(others, [&](double delay) {
      return std::any_of(own.begin(), own.end(), [&](double d) { return std::abs(d - delay) < kNear; });
    });
    return intake_detail::better_explained(pair, found, here, others);
  }

  void line_up(Alignment& result) {
    const std::vector<Segment> tracked = segments_;
    const bool one = start_from_one_delay();
    solve(result);
    const bool slipped = !result.slips.empty();
    const double left = one && options_.drift && (slipped || !line_.is_consistent() || lie_elsewhere(tracked))
                            ? left_over_pieces(result.slips, tracked)
                            : 0;
    if (left > kNothingLeft) {
      // Slow content fits one delay nearly as well as a drift, and beside a slip one delay is wrong for what
      // lies behind it: what leaves plainly less is taken.
      const auto segments = segments_;
      const auto line = line_;
      const auto slips = result.slips;
      segments_ = tracked;
      result.slips.clear();
      solve(result);
      const double enough = !slipped && !result.slips.empty() ? kNextToNothing : kPlainlyLess;
      if (left_over_pieces(result.slips, tracked) > enough * left) {
        segments_ = segments;
        line_ = line;
        result.slips = slips;
      }
    }
    if (options_.drift && !line_.leans()) {
      result.drift_bound_ppm = 1e6 * (std::abs(line_.line().slope) + 2 * line_.slope_sigma());
      // Along a line that does not lean, what is a whole number of frames late is so exactly.
      line_.fit(segments_, false);
      settle(false);
    }
    finish(result);
    timer().take_gain(segments_, result);
    if (!result.slips.empty()) {
      measure_slips(result, tracked);
      intake_detail::merge_unseen_pieces(result.slips, places_, length_);
    }
    intake_detail::keep_to_piece(result, segments_, length_);
    result.slips_untold = !intake_detail::slips_are_told(looked_at(), segments_, line_.line(), result);
  }

  // Whether segments were found, as like as they can be, beside the line: it may have left them aside.
  [[nodiscard]] bool lie_elsewhere(const std::vector<Segment>& tracked) const {
    return std::count_if(tracked.begin(), tracked.end(), [&](const Segment& s) {
             return s.alike > kPlainlyAlike && std::abs(s.delay - line_.line().at(line_.centre(s))) > kBeside;
           }) > kMostAcross;
  }

  // Counts and places of slips, by the line's pace and what each piece says of its own delay.
  void measure_slips(Alignment& result, const std::vector<Segment>& tracked) {
    std::vector<Slip> measured;
    std::optional<Line> last;
    std::int64_t last_end = 0;
    for_each_piece(result.slips, tracked, [&](const Line& line) {
      if (const auto frames = last ? std::llround(line.delay - last->delay) : 0; frames != 0)
        measured.push_back(intake_detail::place_slip(a_, b_, options_, {*last, line, result.gain},
                                                     {last_end, segments_.front().first + length_, frames}));
      last = line;
      last_end = segments_.back().first;
    });
    result.slips = std::move(measured);
  }

  // Calls look(line) with each piece between slips as segments_, timed by itself at the pace of the line.
  template <typename Look>
  void for_each_piece(const std::vector<Slip>& slips, const std::vector<Segment>& tracked, Look&& look) {
    const std::vector<Segment> kept = segments_;
    const double slope = line_.line().slope;
    for (std::size_t i = 0; i <= slips.size(); ++i) {
      segments_.clear();
      for (const Segment& s : tracked)
        if ((i == 0 || s.first >= slips[i - 1].before_frame) &&
            (i == slips.size() || s.first <= slips[i].after_frame))
          segments_.push_back(s);
      if (segments_.empty()) continue;
      for (int pass = 0; pass < 2; ++pass) refine();
      DelayLine own(length_);
      std::vector<Segment> level = segments_;
      for (Segment& s : level) s.delay -= slope * line_.centre(s);
      own.fit(level, false);
      look(Line{own.line().delay, slope});
    }
    segments_ = kept;
  }

  // What is left when each piece lies by itself.
  double left_over_pieces(const std::vector<Slip>& slips, const std::vector<Segment>& tracked) {
    if (slips.empty()) return left_over();
    const DelayLine kept = line_;
    double sum = 0, count = 0;
    for_each_piece(slips, tracked, [&](const Line& line) {
      line_.set(line);
      sum += left_over() * static_cast<double>(segments_.size());
      count += static_cast<double>(segments_.size());
    });
    line_ = kept;
    return count > 0 ? sum / count : 1;
  }

  // A drift takes segments apart before they are told by themselves, as a sweep's are narrow. Where a line
  // through most of them leaves plainly less than the capture holds, that proves a place that chance does not
  // make.
  std::optional<Alignment> by_line(const Alignment& doubtful) {
    Alignment result = doubtful;
    const bool likely = intake_detail::is_likely(
        {.height = result.confidence, .looked = result.looked, .agreed = result.agreed});
    if (!likely || !track_segments()) return std::nullopt;
    line_up(result);
    const bool most =
        static_cast<double>(segments_.size()) >= kMostOfThem * static_cast<double>(places_.size());
    result.by_residual = true;
    if (most && !leans_too_much(result) && result.slips.empty() && left_over() < kLeftByLine &&
        stands_alone())
      return result;
    segments_.clear();
    line_ = DelayLine();
    return std::nullopt;
  }

  // Whether all segments together agree on the line and on no place beside it, as tones do a period later:
  // frames that are lost of these by whole periods leave next to nothing.
  bool stands_alone() {
    std::vector<double> sum(2 * kBesideLine + 1, 0.0);
    for (const Segment& s : segments_) {
      const auto agree = walk_.search(length_).in_phase_near(
          s.first, line_.line().at(static_cast<double>(s.first)), kBesideLine);
      for (std::size_t i = 0; i < agree.size(); ++i) sum[i] += agree[i];
    }
    std::size_t at = kBesideLine;
    for (std::size_t i = kBesideLine - 2; i <= kBesideLine + 2; ++i)
      if (std::abs(sum[i]) > std::abs(sum[at])) at = i;
    const double peak = std::abs(sum[at]);
    std::size_t low = at, high = at;
    while (low > 0 && std::abs(sum[low]) > 0.5 * peak) --low;
    while (high + 1 < sum.size() && std::abs(sum[high]) > 0.5 * peak) ++high;
    if (low == 0 || high + 1 == sum.size()) return false;
    double other = 0;
    for (std::size_t i = 0; i < sum.size(); ++i)
      if (i < low || i > high) other = std::max(other, std::abs(sum[i]));
    return other < kBesideAlike * peak;
  }

  // Steady tones have no more than their edges to be found by. Where all of the capture is there to 40 dB,
  // and plainly less of it at the other places that come into question, nothing else has to prove it.
  std::optional<Alignment> by_residual(const intake_detail::Stretch& active) {
    std::vector<double> places = coarse_search_.plain();
    if (places.empty()) return std::nullopt;
    coarse_ = places.front();
    excerpt_ = 0;
    if (!track_segments()) return std::nullopt;
    add_places_by_ends(active, places);
    // A place is known to a low sample only: all of them are looked at, each at its best.
    ProvenPlace straight;
    std::vector<double> perhaps_bent;
    for (const double place : places) {
      const double here = left_at(place);
      straight.offer(line_.line().delay, here);
      // What is bent leaves a share beside a gain, and nothing beside a curve.
      if (here <= kBentLeft) perhaps_bent.push_back(line_.line().delay);
    }
    if (straight.is_proven(kProvenLeft)) {
      left_at(straight.delay);
      return at_rest(line_.delay_sigma());
    }
    const auto bent = intake_detail::time_by_curves_over(a_, active.first, active.end, b_, perhaps_bent);
    const intake_detail::CurveTiming* best = intake_detail::proven_curve(bent);
    if (best == nullptr ||
        !intake_detail::holds_everywhere(a_, options_.reference_channel, active.first, active.end, b_,
                                         options_.capture_channel, best->delay_frames))
      return std::nullopt;
    left_at(best->delay_frames);
    line_.set({best->delay_frames, 0});
    return at_rest(best->sigma_frames);
  }

  // Along a line that does not lean.
  [[nodiscard]] Alignment at_rest(double sigma) {
    Alignment result;
    result.by_residual = true;
    // Of a line through segments that are spread evenly.
    result.drift_bound_ppm =
        1e6 * 2 * std::sqrt(12.0) * sigma / static_cast<double>(std::max<std::int64_t>(1, a_.frames()));
    finish(result);
    result.uncertainty_frames = 2 * sigma;
    timer().take_gain(segments_, result);
    return result;
  }

  // The best place by what is left there, and what the next best one leaves.
  struct ProvenPlace {
    double delay = 0, left = 1, next = 1;
    bool any = false;
    void offer(double at, double here) {
      const bool same = any && std::abs(at - delay) < 1;
      if (here < left) {
        if (!same) next = left;
        left = here;
        delay = at;
        any = true;
      } else if (!same) {
        next = std::min(next, here);
      }
    }
    [[nodiscard]] bool is_proven(double most) const {
      return any && left <= most && next >= kPlainlyMore * left + kNothingLeft;
    }
  };

  // Where both begin and end with silence, and sound for as long: there, and some periods of a tone about it.
  void add_places_by_ends(const intake_detail::Stretch& active, std::vector<double>& places) {
    const auto other =
        intake_detail::active_part(intake_detail::envelope_of(b_, options_.capture_channel), b_.frames());
    const double rate = a_.sample_rate_hz(), step = kEndsS / kAroundEnds * rate;
    if (!other || std::abs(static_cast<double>(other->frames() - active.frames())) > kEndsS * rate) return;
    const double middle = 0.5 * static_cast<double>(other->first + other->end - active.first - active.end);
    if (std::any_of(places.begin(), places.end(), [&](double at) { return std::abs(at - middle) < step; }))
      return;
    for (int i = -kAroundEnds; i <= kAroundEnds; ++i) places.push_back(middle + i * step);
  }

  // What is left when all of the reference lies near one place, at the best delay there.
  double left_at(double place) {
    segments_.clear();
    // They lie half over each other: every other one holds it all.
    const std::size_t step = places_.size() > kMostSegments / 2 ? 2 : 1;
    for (std::size_t i = 0; i < places_.size(); i += step)
      if (energy(read_channel(a_, options_.reference_channel, places_[i], length_)) > 0)
        segments_.push_back({places_[i], place, 1, 0});
    line_ = DelayLine(length_);
    line_.set({place, 0});
    settle(false, 1);
    const double left = left_over();
    if (left > kHopeless) return left;
    settle(false);
    return left_over();
  }

  // Slips and the line, from segments as they stand.
  void solve(Alignment& result) {
    std::sort(segments_.begin(), segments_.end(),
              [](const Segment& p, const Segment& q) { return p.first < q.first; });
    result.slips = intake_detail::slips_between(segments_, a_.sample_rate_hz(), options_);
    // No drift goes across a slip.
    segments_ = intake_detail::longest_piece(segments_, result.slips);
    line_ = DelayLine(length_);
    line_.fit(segments_, options_.drift);
    settle(options_.drift);
    add_small_slips(result);
  }

  void add_small_slips(Alignment& result) {
    const std::vector<Slip> small = intake_detail::small_slips_between(segments_, length_);
    if (small.empty()) return;
    result.slips.insert(result.slips.end(), small.begin(), small.end());
    std::sort(result.slips.begin(), result.slips.end(),
              [](const Slip& p, const Slip& q) { return p.after_frame < q.after_frame; });
    segments_ = intake_detail::longest_piece(segments_, result.slips);
    line_.fit(segments_, options_.drift);
    settle(options_.drift);
  }

  void settle(bool with_slope, int passes = kPasses) {
    for (int pass = 0; pass < passes; ++pass) {
      const Line before = line_.line();
      refine();
      line_.fit(segments_, with_slope);
      const double end = static_cast<double>(a_.frames());
      if (std::max(std::abs(line_.line().delay - before.delay),
                   std::abs(line_.line().at(end) - before.at(end))) < kStill)
        break;
    }
  }

  void finish(Alignment& result) {
    const Line line = line_.line();
    result.delay_frames = line.delay;
    result.frames_per_frame = 1 + line.slope;
    result.drift_ppm = line.slope * 1e6;
    if (line.slope != 0) result.drift_uncertainty_ppm = 2e6 * line_.slope_sigma();
    result.spread_frames = line_.spread();
    result.uncertainty_frames = 2 * line_.delay_sigma();
    const double end = std::min(static_cast<double>(a_.frames()),
                                (static_cast<double>(b_.frames()) - line.delay) / (1 + line.slope));
    result.first_frame =
        static_cast<std::int64_t>(std::ceil(std::max(0.0, -line.delay / (1 + line.slope)) - kWholeFrame));
    result.end_frame = static_cast<std::int64_t>(std::floor(end + kWholeFrame));
    result.piece_first_frame = result.first_frame;
    result.piece_end_frame = result.end_frame;
  }

  // One short sound: no segments, no drift.
  std::optional<Alignment> hit(const intake_detail::Stretch& active) {
    const auto place = intake_detail::find_hit(a_, options_.reference_channel, active, b_,
                                               options_.capture_channel, transforms_);
    if (!place) return std::nullopt;
    const auto timed =
        intake_detail::time_hit(a_, options_.reference_channel, active, b_, options_.capture_channel,
                                static_cast<double>(place->delay_frames));
    const bool believable =
        intake_detail::is_believable(*place, options_.least_match) || (timed && timed->proven_by_curve);
    if (!options_.doubtful && !(believable && timed)) return std::nullopt;
    Alignment result;
    result.match = std::abs(place->match);
    result.agreement = place->agreement;
    if (!timed) return result;
    line_.set({timed->delay_frames, 0});
    result.candidates.assign(place->others.begin(), place->others.end());
    finish(result);
    result.uncertainty_frames = 2 * timed->sigma_frames;
    result.gain = timed->both / timed->own;
    return result;
  }

  bool find_coarse(Alignment& result) {
    const auto place = coarse_search_.run();
    if (!place) return false;
    coarse_ = place->delay_frames;
    excerpt_ = place->excerpt;
    result.confidence = place->height;
    result.looked = place->looked;
    result.agreed = place->agreed;
    result.candidates = place->candidates;
    return options_.doubtful || intake_detail::is_proven(*place);
  }

  bool find_row(Alignment& result) {
    const auto row = intake_detail::row_of_hits(a_, b_, options_);
    if (!row) return false;
    coarse_ = row->hits.front().delay_frames;
    excerpt_ = row->hits.front().first_frame;
    result.looked = row->looked;
    result.agreed = static_cast<int>(row->hits.size());
    result.by_hits = true;
    result.candidates = row->candidates;
    return true;
  }

  bool track_segments() {
    intake_detail::Walked walked = walk_.from(coarse_, excerpt_);
    segments_.insert(segments_.end(), walked.found.begin(), walked.found.end());
    places_ = std::move(walked.places);
    length_ = walked.length;
    return !segments_.empty();
  }

  // A narrow piece of a sweep fits as well a period later, and each of them is free to choose. Where one
  // delay for all explains them nearly as well, it is the one.
  // @return whether the segments were given it.
  bool start_from_one_delay() {
    const std::int64_t reach = walk_.reach();
    std::vector<double> sum(static_cast<std::size_t>(2 * reach + 1), 0.0);
    double free = 0, each = 0;
    for (const Segment& s : segments_) free += s.alike;
    const auto all = walk_.in_phase_near(places_, coarse_, reach);
    for (const auto& agree : all) {
      double most = 0;
      for (std::size_t i = 0; i < agree.size(); ++i) {
        sum[i] += agree[i];
        most = std::max(most, std::abs(agree[i]));
      }
      each += most;
    }
    const auto best = std::max_element(sum.begin(), sum.end(),
                                       [](double p, double q) { return std::abs(p) < std::abs(q); });
    if (std::abs(*best) < kWorthALook * each) return false;
    const auto at = static_cast<std::size_t>(best - sum.begin());
    const double delay = static_cast<double>(std::llround(coarse_) - reach) + static_cast<double>(at);
    std::vector<Segment> tracked;
    tracked.swap(segments_);
    for (std::size_t i = 0; i < all.size(); ++i)
      if (!all[i].empty() && std::abs(all[i][at]) >= intake_detail::kAlike)
        segments_.push_back({places_[i], delay, 1, 0});
    // Between samples it may fit better than at any.
    line_ = DelayLine(length_);
    line_.set({delay, 0});
    if (!segments_.empty()) settle(false, 1);
    double alike = 0;
    for (const double one : timer().alike(segments_, line_.line())) alike += one;
    if (segments_.empty() || alike < kNearlyFree * free) {
      segments_.swap(tracked);
      return false;
    }
    for (Segment& s : segments_) s.delay = line_.line().delay;
    return true;
  }

  // The timer for segments of the length that has been chosen.
  intake_detail::SegmentTimer& timer() {
    if (!timer_) timer_.emplace(a_, b_, options_, length_);
    return *timer_;
  }
  void refine() { timer().refine(segments_, line_.line().slope); }
  double left_over() { return timer().left_over(segments_, line_.line()); }

  // Of what is kept there is one channel each.
  [[nodiscard]] static AlignOptions of_one_channel(AlignOptions options) {
    options.reference_channel = options.capture_channel = 0;
    return options;
  }

  intake_detail::KeptChannel a_, b_;
  AlignOptions options_;
  std::int64_t excerpt_ = 0;
  double coarse_ = 0;
  std::int64_t length_ = 0;
  std::vector<std::int64_t> places_;  // at which segments were looked for
  std::vector<Segment> segments_;
  DelayLine line_;  // delay of a place of the reference
  std::optional<intake_detail::SegmentTimer> timer_;
  RealTransforms transforms_;
  intake_detail::CoarseSearch coarse_search_;
  intake_detail::SegmentWalk walk_;
};

}  // namespace

std::optional<Alignment> align(AudioSource& reference, AudioSource& capture, const AlignOptions& options) {
  intake_detail::require_comparable(reference, capture, options);
  return Aligner(reference, capture, options).run();
}

std::optional<double> speed_between(AudioSource& reference, AudioSource& capture,
                                    const AlignOptions& options) {
  intake_detail::require_comparable(reference, capture, options);
  intake_detail::KeptChannel a(reference, options.reference_channel), b(capture, options.capture_channel);
  RealTransforms transforms;
  return intake_detail::CoarseSearch(a, 0, b, 0, 0, transforms).speed();
}

void read_aligned(AudioSource& capture, int channel, const Alignment& alignment, std::int64_t first_frame,
                  const FractionalReader& reader, std::span<double> out) {
  const double place = alignment.delay_frames + static_cast<double>(first_frame) * alignment.frames_per_frame;
  const auto begin = static_cast<std::int64_t>(std::floor(place)) - FractionalReader::kReach;
  const auto count = static_cast<std::int64_t>(static_cast<double>(out.size()) * alignment.frames_per_frame) +
                     2 * FractionalReader::kReach + 2;
  const auto x = read_channel(capture, channel, begin, count);
  reader.read(x, place - static_cast<double>(begin), alignment.frames_per_frame, out);
}

}  // namespace wavicon
