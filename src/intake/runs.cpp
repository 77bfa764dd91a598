// SPDX-License-Identifier: MIT
#include "runs.hpp"

#include <algorithm>
#include <cmath>

namespace wavicon::intake_detail {
namespace {

constexpr std::int64_t kShortestClip = 3;  // frames at one value; two can be a crest between two samples
constexpr double kClipDropSteps =
    8;  // steps of the format by which a cut crest falls off beside the run; a round one falls slowly
constexpr double kFloatStep = 0x1p-23;        // of a float capture, near full scale
constexpr double kShortestDropoutS = 0.0004;  // zeros: 20 frames at 48 kHz
constexpr std::int64_t kFewestZeros = 8;      // at low rates: a tone has two in a row
constexpr std::size_t kKeptStretches = 16;    // that are named; the rest is counted
constexpr double kLongestDropoutS = 0.2;      // longer silence is a pause
constexpr double kDropoutEdge =
    0.0005;  // of the level around it: sound that stops on less may just have faded
constexpr double kDropoutEdgeSteps = 4;  // dither in silence moves by two
constexpr double kDropoutSteps = 32;     // of the format: sound below this level has zeros of its own
constexpr double kLevelS = 0.02;         // memory of the level around
constexpr double kNewSound = 10;         // times the level before: what begins behind a pause, such as a hit
constexpr double kLookBehindS = 0.02;

}  // namespace

RunLimits::RunLimits(double sample_rate_hz, SampleFormat format)
    : step(is_integer(format) ? std::ldexp(1.0, 1 - std::min(24, bits(format))) : kFloatStep),
      decay(std::exp(-1.0 / (kLevelS * sample_rate_hz))),
      chunk_decay(std::pow(decay, static_cast<double>(kChunk))),
      shortest_dropout(
          std::max<std::int64_t>(kFewestZeros, std::llround(kShortestDropoutS * sample_rate_hz))),
      longest_dropout(std::llround(kLongestDropoutS * sample_rate_hz)),
      look_behind(std::llround(kLookBehindS * sample_rate_hz)) {}

void RunFollower::pass(const double* x, double peak) {
  if (suspect_until_ >= 0) look_behind(peak);
  level_ = std::max(peak, level_ * limits_->chunk_decay);
  constexpr auto frames = static_cast<std::ptrdiff_t>(kChunk);
  frame_ += frames;
  last_ = x[frames - 1];
  const bool pair = last_ == x[frames - 2];
  run_ = pair ? 2 : 1;
  before_run_ = x[frames - 1 - run_];
  zeros_from_ = -1;
  if (last_ != 0) return;
  zeros_from_ = frame_ - run_;
  level_at_zeros_ = level_;
  last_sound_ = before_run_;
}

void RunFollower::take(double x, double quantum) {
  if (frame_ > 0 && x == last_) {
    ++run_;
  } else {
    if (frame_ > 0) end_run(x, quantum);
    before_run_ = last_;
    run_ = 1;
  }
  follow_zeros(x, quantum);
  if (suspect_until_ >= 0) look_behind(std::abs(x));
  level_ = std::max(std::abs(x), level_ * limits_->decay);
  last_ = x;
  ++frame_;
}

// A run at the highest level so far that falls away steeply on both sides was cut off; a higher one takes its
// place.
void RunFollower::end_run(double after, double quantum) {
  ChannelHealth& h = *health_;
  const double size = std::abs(last_);
  if (run_ < kShortestClip || size == 0) return;
  const double sign = last_ < 0 ? -1 : 1;
  const double drop = std::min(size - sign * before_run_, size - sign * after);
  if (drop < kClipDropSteps * quantum) return;
  if (size > h.clip_level * (1 + 1e-6)) {
    h.clip_level = size;
    h.clipped_frames = 0;
    h.clipped.clear();
  }
  if (size < h.clip_level * (1 - 1e-6)) return;
  h.clipped_frames += run_;
  if (h.clipped.size() < kKeptStretches) h.clipped.push_back({frame_ - run_, run_});
}

void RunFollower::follow_zeros(double x, double quantum) {
  if (x == 0) {
    if (zeros_from_ < 0) {
      zeros_from_ = frame_;
      level_at_zeros_ = level_;
      last_sound_ = last_;
    }
    return;
  }
  if (zeros_from_ < 0) return;
  const std::int64_t length = frame_ - zeros_from_;
  const double edge = std::max(kDropoutEdge * level_at_zeros_, kDropoutEdgeSteps * quantum);
  const bool sound = level_at_zeros_ > kDropoutSteps * quantum;
  const bool cut = zeros_from_ > 0 && length >= limits_->shortest_dropout &&
                   length <= limits_->longest_dropout && sound && std::abs(last_sound_) > edge &&
                   std::abs(x) > edge;
  if (cut) {
    confirm();
    suspect_ = {zeros_from_, length};
    suspect_level_ = level_at_zeros_;
    suspect_until_ = frame_ + limits_->look_behind;
  }
  zeros_from_ = -1;
}

// Sound that goes on behind the zeros was cut off; a far louder one has begun there.
void RunFollower::look_behind(double peak) {
  if (peak > kNewSound * suspect_level_)
    suspect_until_ = -1;
  else if (frame_ >= suspect_until_)
    confirm();
}

void RunFollower::confirm() {
  if (suspect_until_ < 0) return;
  suspect_until_ = -1;
  ++health_->dropout_count;
  if (health_->dropouts.size() < kKeptStretches) health_->dropouts.push_back(suspect_);
}

}  // namespace wavicon::intake_detail
