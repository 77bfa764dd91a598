#include <algorithm>
#include <bit>
#include <cmath>

#include "wavicon/intake/health.hpp"

namespace wavicon {
namespace {

constexpr std::int64_t kShortestClip = 3;  // frames at one value; two can be a crest between two samples
constexpr double kClipDropSteps =
    8;  // steps of the format by which a cut crest falls off beside the run; a round one falls slowly
constexpr double kFloatStep = 0x1p-23;        // of a float capture, near full scale
constexpr double kShortestDropoutS = 0.0004;  // zeros: 20 frames at 48 kHz
constexpr std::size_t kKeptStretches = 16;
constexpr double kLongestDropoutS = 0.2;  // longer silence is a pause
constexpr double kDropoutEdge =
    0.0005;  // of the level around it: sound that stops on less may just have faded
constexpr double kDropoutEdgeSteps = 4;  // dither in silence moves by two
constexpr double kDropoutSteps = 32;     // of the format: sound below this level has zeros of its own
constexpr double kLevelS = 0.02;         // memory of the level around

// One channel's runs and sums.
struct ChannelMeter {
  ChannelHealth health;
  double sum = 0;
  double last = 0;        // sample before this one
  double before_run = 0;  // sample before the run of equal ones
  std::int64_t run = 0;   // equal samples up to the last one
  std::int64_t zeros_from = -1;
  double level = 0;  // decaying peak of the sound so far
  double level_at_zeros = 0;
  double last_sound = 0;  // sample before the zeros
  bool needs_more_than_24 = false;
  std::uint32_t seen_bits = 0;  // of 24-bit codes
};

}  // namespace

struct HealthMeter::Impl {
  std::vector<ChannelMeter> channels;
  double step = 0;
  double decay = 0;
  std::int64_t shortest_dropout = 0;
  std::int64_t longest_dropout = 0;
  std::int64_t frame = 0;

  void take(ChannelMeter& m, double x) {
    ChannelHealth& h = m.health;
    if (!std::isfinite(x)) {
      if (!h.broken_frame) h.broken_frame = frame;
      x = 0;
    }
    m.sum += x;
    const double size = std::abs(x);
    h.peak = std::max(h.peak, size);
    h.silent = h.silent && x == 0;
    count_bits(m, x);
    follow_run(m, x);
    follow_zeros(m, x);
    m.level = std::max(size, m.level * decay);
    m.last = x;
  }

  static void count_bits(ChannelMeter& m, double x) {
    if (m.needs_more_than_24) return;
    const double steps = x * 0x1p23;
    const auto code = std::abs(steps) <= 0x1p24 ? static_cast<std::int32_t>(steps) : 0;
    if (static_cast<double>(code) != steps) m.needs_more_than_24 = true;
    m.seen_bits |= static_cast<std::uint32_t>(code);
  }

  void follow_run(ChannelMeter& m, double x) {
    if (frame > 0 && x == m.last) {
      ++m.run;
      return;
    }
    if (frame > 0) end_run(m, x);
    m.before_run = m.last;
    m.run = 1;
  }

  // Smallest step seen so far, of the format or of a shorter word length inside it.
  [[nodiscard]] double quantum(const ChannelMeter& m) const {
    return m.needs_more_than_24 || m.seen_bits == 0 ? step
                                                    : std::ldexp(1.0, std::countr_zero(m.seen_bits) - 23);
  }

  // A run at the highest level so far that falls away steeply on both sides was cut off; a higher one takes
  // its place.
  void end_run(ChannelMeter& m, double after) {
    ChannelHealth& h = m.health;
    const double size = std::abs(m.last);
    if (m.run < kShortestClip || size == 0) return;
    const double sign = m.last < 0 ? -1 : 1;
    const double drop = std::min(size - sign * m.before_run, size - sign * after);
    if (drop < kClipDropSteps * quantum(m)) return;
    if (size > h.clip_level * (1 + 1e-6)) {
      h.clip_level = size;
      h.clipped_frames = 0;
      h.clipped.clear();
    }
    if (size < h.clip_level * (1 - 1e-6)) return;
    h.clipped_frames += m.run;
    if (h.clipped.size() < kKeptStretches) h.clipped.push_back({frame - m.run, m.run});
  }

  void follow_zeros(ChannelMeter& m, double x) {
    ChannelHealth& h = m.health;
    if (x == 0) {
      if (m.zeros_from < 0) {
        m.zeros_from = frame;
        m.level_at_zeros = m.level;
        m.last_sound = m.last;
      }
      return;
    }
    if (m.zeros_from < 0) return;
    const std::int64_t length = frame - m.zeros_from;
    const double edge = std::max(kDropoutEdge * m.level_at_zeros, kDropoutEdgeSteps * quantum(m));
    const bool sound = m.level_at_zeros > kDropoutSteps * quantum(m);
    const bool cut = m.zeros_from > 0 && length >= shortest_dropout && length <= longest_dropout && sound &&
                     std::abs(m.last_sound) > edge && std::abs(x) > edge;
    if (cut) {
      ++h.dropout_count;
      if (h.dropouts.size() < kKeptStretches) h.dropouts.push_back({m.zeros_from, length});
    }
    m.zeros_from = -1;
  }
};

HealthMeter::HealthMeter(int channel_count, double sample_rate_hz, SampleFormat format)
    : impl_(std::make_unique<Impl>()) {
  impl_->channels.resize(static_cast<std::size_t>(channel_count));
  impl_->step = is_integer(format) ? std::ldexp(1.0, 1 - std::min(24, bits(format))) : kFloatStep;
  impl_->decay = std::exp(-1.0 / (kLevelS * sample_rate_hz));
  impl_->shortest_dropout = std::llround(kShortestDropoutS * sample_rate_hz);
  impl_->longest_dropout = std::llround(kLongestDropoutS * sample_rate_hz);
}
HealthMeter::~HealthMeter() = default;
HealthMeter::HealthMeter(HealthMeter&&) noexcept = default;
HealthMeter& HealthMeter::operator=(HealthMeter&&) noexcept = default;

void HealthMeter::push(std::span<const double> interleaved) {
  const std::size_t count = impl_->channels.size();
  for (std::size_t i = 0; i < interleaved.size(); i += count, ++impl_->frame)
    for (std::size_t c = 0; c < count; ++c) impl_->take(impl_->channels[c], interleaved[i + c]);
}

std::vector<ChannelHealth> HealthMeter::finish() {
  std::vector<ChannelHealth> result;
  for (ChannelMeter& m : impl_->channels) {
    ChannelHealth& h = m.health;
    // What stands above the run was not cut off there: the run was something else.
    const bool below_peak = h.peak > h.clip_level * (1 + 1e-4);
    const bool once = h.clipped.size() < 2 && h.clipped_frames < 2 * kShortestClip;
    if (below_peak || once) {
      h.clipped_frames = 0;
      h.clip_level = 0;
      h.clipped.clear();
    }
    h.dc = impl_->frame > 0 ? m.sum / static_cast<double>(impl_->frame) : 0;
    h.used_bits = m.needs_more_than_24 || m.seen_bits == 0 ? 0 : 24 - std::countr_zero(m.seen_bits);
    result.push_back(h);
  }
  return result;
}

}  // namespace wavicon
