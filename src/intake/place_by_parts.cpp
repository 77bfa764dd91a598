// SPDX-License-Identifier: MIT
#include "place_by_parts.hpp"

#include <algorithm>
#include <cmath>
#include <iterator>
#include <numbers>
#include <vector>

#include "delay_line.hpp"
#include "islands.hpp"
#include "kept_channel.hpp"
#include "place_by_edges.hpp"
#include "samples.hpp"
#include "tone_pieces.hpp"
#include "wavicon/audio/workers.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kSameHz = 0.01;     // of the frequency
constexpr double kSameLength = 0.1;  // of the length
constexpr double kWindowS = 0.001;   // in which votes agree
constexpr double kMostIslandS = 120;
constexpr std::size_t kLeastVotes = 6;
constexpr std::size_t kLeastTones = 3;
constexpr double kLikeHz = 0.02;        // of the frequency: turned by the same phase
constexpr double kBroken = 1;           // frames by which a phase lies off the line
constexpr double kLeastShare = 0.5;     // of the stimulus's ends
constexpr double kNearlyAsMany = 0.85;  // of the most votes: another place
constexpr double kReachS = 0.05;        // by which a tone may lie beside its place
constexpr double kMostDrift = 3e-4;
constexpr double kEndSigma = 3;  // frames
constexpr double kPhaseSigma = 0.05;
constexpr std::size_t kLeastPhases = 3;
constexpr double kSilent = 1e-6;       // of the amplitude that went in
constexpr double kSettledShare = 0.3;  // of a step, before its end: where the phase is read

struct PlayedTone {
  double hz = 0;
  double first = 0, end = 0;  // frames
};

std::vector<PlayedTone> tones_of(const Stimulus& stimulus) {
  const double rate = stimulus.recipe().sample_rate_hz;
  std::vector<PlayedTone> tones;
  for (std::size_t i = 0; i < stimulus.parts().size(); ++i) {
    const auto first = static_cast<double>(stimulus.parts()[i].first_frame),
               end = first + static_cast<double>(stimulus.parts()[i].frames);
    const PartKind& kind = stimulus.recipe().parts[i].kind;
    if (const auto* tone = std::get_if<Tone>(&kind)) tones.push_back({tone->frequency_hz, first, end});
    if (const auto* staircase = std::get_if<Staircase>(&kind))
      for (const StaircaseStep& step : staircase_steps(*staircase, rate)) {
        const double edge = staircase->edge_s * rate,
                     at = first + static_cast<double>(step.first_frame) - edge;
        tones.push_back({step.frequency_hz, at, at + static_cast<double>(step.frames) + 2 * edge});
      }
    if (const auto* block = std::get_if<LevelBlock>(&kind)) {
      const BlockSteps steps = block_steps(*block, rate);
      for (const auto& [from, to] : {std::pair{0.0, steps.up_frame},
                                     {steps.up_frame, steps.down_frame},
                                     {steps.down_frame, static_cast<double>(steps.frames)}})
        tones.push_back({block->frequency_hz, first + from, first + to});
    }
    const auto* burst = std::get_if<Burst>(&kind);
    const auto* carrier = burst != nullptr ? std::get_if<Tone>(&burst->carrier) : nullptr;
    for (std::int64_t n = 0; carrier != nullptr && n < burst->count; ++n) {
      const double at = first + static_cast<double>(n) * burst->on_s * (1 + burst->gap) * rate;
      tones.push_back({carrier->frequency_hz, at, at + burst->on_s * rate});
    }
  }
  std::sort(tones.begin(), tones.end(),
            [](const PlayedTone& p, const PlayedTone& q) { return p.first < q.first; });
  return tones;
}

std::vector<PlayedTone> tones_in(AudioSource& capture, int channel) {
  const double rate = capture.sample_rate_hz();
  std::vector<PlayedTone> tones;
  const Islands islands = find_islands(capture, channel);
  KeptChannel kept(capture, channel);
  std::vector<std::vector<TonePiece>> pieces(islands.islands.size());
  for_each_part(pieces.size(), [&](std::size_t i) {
    const Island& island = islands.islands[i];
    const auto x = read_channel(kept, 0, island.first,
                                std::min(island.frames(), static_cast<std::int64_t>(kMostIslandS * rate)));
    pieces[i] = tone_pieces(x, rate, islands.idle_rms);
  });
  for (std::size_t i = 0; i < pieces.size(); ++i) {
    const auto first = static_cast<double>(islands.islands[i].first);
    for (const TonePiece& piece : pieces[i])
      tones.push_back({piece.cycles_per_frame * rate, first + static_cast<double>(piece.first),
                       first + static_cast<double>(piece.end)});
  }
  return tones;
}

// What a tone of the stimulus is in the capture.
struct Match {
  const PlayedTone* tone = nullptr;
  double first_late = 0, end_late = 0;  // frames by which its ends come after the stimulus's
};

bool alike(const PlayedTone& p, const PlayedTone& q) {
  return std::abs(q.hz / p.hz - 1) < kSameHz &&
         std::abs((q.end - q.first) / (p.end - p.first) - 1) < kSameLength;
}

// The delay for which most ends vote within a window; none when another one has nearly as many.
std::optional<double> voted(const std::vector<PlayedTone>& played, const std::vector<PlayedTone>& found,
                            double window) {
  std::vector<double> votes;
  for (const PlayedTone& p : played)
    for (const PlayedTone& q : found)
      if (alike(p, q)) {
        votes.push_back(q.first - p.first);
        votes.push_back(q.end - p.end);
      }
  if (votes.size() < kLeastVotes) return std::nullopt;
  std::sort(votes.begin(), votes.end());
  const auto within = [&](std::size_t i) {
    return static_cast<std::size_t>(std::upper_bound(votes.begin(), votes.end(), votes[i] + window) -
                                    votes.begin()) -
           i;
  };
  std::size_t at = 0, other = 0;
  for (std::size_t i = 0; i < votes.size(); ++i)
    if (within(i) > within(at)) at = i;
  const std::size_t most = within(at);
  for (std::size_t i = 0; i < votes.size(); ++i)
    if (votes[i] > votes[at + most - 1] + window || votes[i] + window < votes[at])
      other = std::max(other, within(i));
  if (most < kLeastVotes || static_cast<double>(other) > kNearlyAsMany * static_cast<double>(most))
    return std::nullopt;
  return median_of({votes.begin() + static_cast<std::ptrdiff_t>(at),
                    votes.begin() + static_cast<std::ptrdiff_t>(at + most)});
}

// For each tone the one of the capture that lies nearest to where it should.
std::vector<Match> matched(const std::vector<PlayedTone>& played, const std::vector<PlayedTone>& found,
                           double delay, double reach) {
  std::vector<Match> matches;
  for (const PlayedTone& p : played) {
    const PlayedTone* nearest = nullptr;
    for (const PlayedTone& q : found)
      if (alike(p, q) && std::abs(q.first - p.first - delay) < reach &&
          (nearest == nullptr ||
           std::abs(q.first - p.first - delay) < std::abs(nearest->first - p.first - delay)))
        nearest = &q;
    if (nearest != nullptr) matches.push_back({&p, nearest->first - p.first, nearest->end - p.end});
  }
  return matches;
}

DelayLine line_through(std::vector<Segment> points) {
  DelayLine line(0);
  line.fit(points, true);
  if (!line.leans()) line.fit(points, false);
  return line;
}

// The most tones that have one frequency: a filter turns others by other phases.
std::vector<PlayedTone> of_one_frequency(const std::vector<PlayedTone>& tones) {
  std::vector<PlayedTone> most;
  for (const PlayedTone& one : tones) {
    std::vector<PlayedTone> like;
    std::copy_if(tones.begin(), tones.end(), std::back_inserter(like),
                 [&](const PlayedTone& other) { return std::abs(other.hz / one.hz - 1) < kLikeHz; });
    if (like.size() > most.size()) most = std::move(like);
  }
  return most;
}

// From where the ends lie to a part of a sample, by the phase of each tone when it has come to rest.
std::vector<Segment> by_phase(Stimulus& stimulus, const std::vector<PlayedTone>& played, AudioSource& capture,
                              int channel, const DelayLine& line, double scatter) {
  const double rate = capture.sample_rate_hz();
  std::vector<Segment> late;
  for (const PlayedTone& tone : played) {
    const double period = rate / tone.hz;
    // A period later it looks the same.
    if (0.4 * period < scatter) continue;
    const auto length = static_cast<std::int64_t>(kSettledShare * (tone.end - tone.first));
    const std::int64_t first =
        static_cast<std::int64_t>(tone.end) - length - std::llround(0.1 * static_cast<double>(length));
    if (static_cast<double>(length) < 4 * period) continue;
    std::vector<double> x(static_cast<std::size_t>(length));
    stimulus.render(first, 0, x);
    const std::int64_t moved = std::llround(line.line().at(static_cast<double>(first)));
    const auto y = read_channel(capture, channel, first + moved, length);
    const auto in = sine_amplitude(x, tone.hz / rate), out = sine_amplitude(y, tone.hz / rate);
    if (in == 0.0 || std::abs(out) < kSilent * std::abs(in)) continue;
    const double turned = std::arg(out / in) / (2 * std::numbers::pi);
    late.push_back({first + length / 2, static_cast<double>(moved) - turned * period, kPhaseSigma, 1});
  }
  std::sort(late.begin(), late.end(), [](const Segment& p, const Segment& q) { return p.first < q.first; });
  return late;
}

// A block says its times alone: one of its ends at least has to be where it should.
bool every_block_is_seen(const Stimulus& stimulus, const std::vector<Match>& matches) {
  for (const PlacedPart& part : stimulus.parts()) {
    if (part.kind != "block") continue;
    const auto first = static_cast<double>(part.first_frame), end = first + static_cast<double>(part.frames);
    if (std::none_of(matches.begin(), matches.end(),
                     [&](const Match& m) { return m.tone->first >= first - 1 && m.tone->end <= end + 1; }))
      return false;
  }
  return true;
}

// From a delay or line that is known to half a period: by the phases of the tones of one frequency; none when
// one of them lies beside their line.
std::optional<PartsPlace> settled_by_phase(Stimulus& stimulus, const std::vector<PlayedTone>& played,
                                           AudioSource& capture, int channel, const DelayLine& coarse,
                                           double scatter) {
  const std::vector<Segment> late =
      by_phase(stimulus, of_one_frequency(played), capture, channel, coarse, scatter);
  if (late.size() < kLeastPhases) return PartsPlace{coarse.line().delay, 1 + coarse.line().slope};
  const DelayLine line = line_through(late);
  // Frames that were lost while nothing sounded move all that follows, its phases too.
  const bool broken = std::any_of(late.begin(), late.end(), [&](const Segment& s) {
    return std::abs(s.delay - line.line().at(static_cast<double>(s.first))) > kBroken;
  });
  if (broken) return std::nullopt;
  return PartsPlace{line.line().delay, 1 + line.line().slope};
}

// Where one tone ends and another one of its frequency, or none, begins.
std::vector<LevelEdge> edges_of(const std::vector<PlayedTone>& played, double rate) {
  std::vector<LevelEdge> edges;
  const double apart = kWindowS * rate;
  for (const PlayedTone& tone : played)
    for (const double frame : {tone.first, tone.end}) {
      const bool other = std::any_of(played.begin(), played.end(), [&](const PlayedTone& q) {
        return std::abs(q.hz / tone.hz - 1) > kSameHz &&
               (std::abs(q.first - frame) < kReachS * rate || std::abs(q.end - frame) < kReachS * rate);
      });
      const bool known = std::any_of(edges.begin(), edges.end(),
                                     [&](const LevelEdge& e) { return std::abs(e.frame - frame) < apart; });
      if (!other && !known) edges.push_back({frame, tone.hz});
    }
  return edges;
}

std::optional<PartsPlace> place_by_steps(Stimulus& stimulus, const std::vector<PlayedTone>& played,
                                         AudioSource& capture, int channel) {
  const auto delay = delay_by_edges(stimulus, edges_of(played, capture.sample_rate_hz()), capture, channel);
  if (!delay) return std::nullopt;
  DelayLine coarse(0);
  coarse.set({*delay, 0});
  return settled_by_phase(stimulus, played, capture, channel, coarse, 0);
}

// What the ends say; where they say that frames are missing, nothing else is asked.
struct Voted {
  std::optional<PartsPlace> place;
  bool broken = false;
};

Voted place_by_votes(Stimulus& stimulus, const std::vector<PlayedTone>& played, AudioSource& capture,
                     int channel) {
  const std::vector<PlayedTone> found = tones_in(capture, channel);
  const double rate = capture.sample_rate_hz(), window = kWindowS * rate,
               drifted = kMostDrift * (played.back().end - played.front().first);
  const auto delay = voted(played, found, window + drifted);
  if (!delay) return {};
  const std::vector<Match> matches = matched(played, found, *delay, kReachS * rate + drifted);
  // By their middles: what rings before a cut rings behind it as well.
  std::vector<Segment> middles;
  for (const Match& m : matches)
    middles.push_back(
        {std::llround(0.5 * (m.tone->first + m.tone->end)), 0.5 * (m.first_late + m.end_late), kEndSigma, 1});
  if (middles.size() < kLeastTones) return {};
  const DelayLine coarse = line_through(middles);
  std::vector<double> off;
  for (const Segment& middle : middles)
    off.push_back(std::abs(middle.delay - coarse.line().at(static_cast<double>(middle.first))));
  const auto on_line =
      static_cast<std::size_t>(std::count_if(off.begin(), off.end(), [&](double v) { return v < window; }));
  // Both ends of a tone elsewhere: frames were lost or put in. One end alone is what a device made of it.
  const auto displaced = [&](const Match& m) {
    return std::abs(m.first_late - coarse.line().at(m.tone->first)) > window &&
           std::abs(m.end_late - coarse.line().at(m.tone->end)) > window;
  };
  if (on_line < kLeastTones ||
      static_cast<double>(on_line) < kLeastShare * static_cast<double>(played.size()))
    return {};
  if (std::any_of(matches.begin(), matches.end(), displaced) || !every_block_is_seen(stimulus, matches))
    return {.place = std::nullopt, .broken = true};
  const auto settled = settled_by_phase(stimulus, played, capture, channel, coarse, 2 * median_of(off));
  return {.place = settled, .broken = !settled};
}

}  // namespace

std::optional<PartsPlace> place_by_parts(Stimulus& stimulus, AudioSource& capture, int channel) {
  const std::vector<PlayedTone> played = tones_of(stimulus);
  if (played.empty()) return std::nullopt;
  const Voted said = place_by_votes(stimulus, played, capture, channel);
  if (said.place || said.broken) return said.place;
  return place_by_steps(stimulus, played, capture, channel);
}

}  // namespace wavicon::intake_detail
