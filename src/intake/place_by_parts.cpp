// SPDX-License-Identifier: MIT
#include "place_by_parts.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <vector>

#include "islands.hpp"
#include "tone_pieces.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kSameHz = 0.01;     // of the frequency
constexpr double kSameLength = 0.1;  // of the length
constexpr double kWindowS = 0.001;   // in which votes agree
constexpr double kMostIslandS = 120;
constexpr std::size_t kLeastVotes = 6;
constexpr double kLeastShare = 0.5;     // of the stimulus's ends
constexpr double kNearlyAsMany = 0.85;  // of the most votes: another place
constexpr double kSettledShare = 0.3;   // of a step, before its end: where the phase is read

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
  return tones;
}

std::vector<PlayedTone> tones_in(AudioSource& capture, int channel) {
  const double rate = capture.sample_rate_hz();
  std::vector<PlayedTone> tones;
  const Islands islands = find_islands(capture, channel);
  for (const Island& island : islands.islands) {
    const auto x = read_channel(capture, channel, island.first,
                                std::min(island.frames(), static_cast<std::int64_t>(kMostIslandS * rate)));
    for (const TonePiece& piece : tone_pieces(x, rate, islands.idle_rms))
      tones.push_back({piece.cycles_per_frame * rate, static_cast<double>(island.first + piece.first),
                       static_cast<double>(island.first + piece.end)});
  }
  return tones;
}

// Phase of a tone of that frequency over a stretch, in cycles at its first frame.
double phase_of(std::span<const double> x, double cycles_per_frame) {
  std::complex<double> sum = 0;
  for (std::size_t n = 0; n < x.size(); ++n) {
    const double h = 0.5 - 0.5 * std::cos(2 * std::numbers::pi * (static_cast<double>(n) + 0.5) /
                                          static_cast<double>(x.size()));
    sum += h * x[n] * std::polar(1.0, -2 * std::numbers::pi * cycles_per_frame * static_cast<double>(n));
  }
  return std::arg(sum) / (2 * std::numbers::pi);
}

double median(std::vector<double> values) {
  const auto at = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
  std::nth_element(values.begin(), at, values.end());
  return *at;
}

// From the votes' place to a part of a sample, as long as half a period is wider than their scatter.
double by_phase(const Stimulus& stimulus, const std::vector<PlayedTone>& played, AudioSource& capture,
                int channel, double delay, double scatter) {
  const double rate = capture.sample_rate_hz();
  Recipe recipe = stimulus.recipe();
  Stimulus rendered(recipe);
  std::vector<double> late;
  for (const PlayedTone& tone : played) {
    const double period = rate / tone.hz;
    if (0.4 * period < scatter) continue;
    // The last third of it, where a device has come to rest.
    const auto length = static_cast<std::int64_t>(kSettledShare * (tone.end - tone.first));
    const auto first =
        static_cast<std::int64_t>(tone.end) - length - std::llround(0.1 * static_cast<double>(length));
    if (static_cast<double>(length) < 4 * period) continue;
    std::vector<double> x(static_cast<std::size_t>(length));
    rendered.render(first, 0, x);
    const auto y = read_channel(capture, channel, first + std::llround(delay), length);
    const double turned = std::remainder(phase_of(y, tone.hz / rate) - phase_of(x, tone.hz / rate), 1.0);
    late.push_back(static_cast<double>(std::llround(delay)) - turned * period);
  }
  return late.empty() ? delay : median(late);
}

}  // namespace

std::optional<double> place_by_parts(const Stimulus& stimulus, AudioSource& capture, int channel) {
  const std::vector<PlayedTone> played = tones_of(stimulus), found = tones_in(capture, channel);
  std::vector<double> votes;
  for (const PlayedTone& p : played)
    for (const PlayedTone& q : found) {
      if (std::abs(q.hz / p.hz - 1) > kSameHz ||
          std::abs((q.end - q.first) / (p.end - p.first) - 1) > kSameLength)
        continue;
      votes.push_back(q.first - p.first);
      votes.push_back(q.end - p.end);
    }
  if (votes.size() < kLeastVotes) return std::nullopt;
  std::sort(votes.begin(), votes.end());
  const double window = kWindowS * capture.sample_rate_hz();
  std::size_t most = 0, at = 0;
  for (std::size_t i = 0, k = 0; i < votes.size(); ++i) {
    while (k < votes.size() && votes[k] <= votes[i] + window) ++k;
    if (k - i > most) {
      most = k - i;
      at = i;
    }
  }
  std::size_t other = 0;
  for (std::size_t i = 0, k = 0; i < votes.size(); ++i) {
    while (k < votes.size() && votes[k] <= votes[i] + window) ++k;
    if (votes[i] > votes[at + most - 1] + window || votes[k - 1] < votes[at] - window)
      other = std::max(other, k - i);
  }
  if (most < kLeastVotes ||
      static_cast<double>(most) < kLeastShare * 2 * static_cast<double>(played.size()) ||
      static_cast<double>(other) > kNearlyAsMany * static_cast<double>(most))
    return std::nullopt;
  const std::vector<double> agreed(votes.begin() + static_cast<std::ptrdiff_t>(at),
                                   votes.begin() + static_cast<std::ptrdiff_t>(at + most));
  const double delay = median(agreed);
  std::vector<double> off;
  for (const double vote : agreed) off.push_back(std::abs(vote - delay));
  return by_phase(stimulus, played, capture, channel, delay, 2 * median(off));
}

}  // namespace wavicon::intake_detail
