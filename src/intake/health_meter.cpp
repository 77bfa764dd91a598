// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <cstring>
#include <deque>
#include <numbers>
#include <utility>

#include "chunk.hpp"
#include "jumps.hpp"
#include "repeats.hpp"
#include "runs.hpp"
#include "samples.hpp"
#include "wavicon/audio/between_samples.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/workers.hpp"
#include "wavicon/intake/health.hpp"

namespace wavicon {
namespace {

using namespace intake_detail;

constexpr std::size_t kHeld = 16 * kChunk;  // frames collected before they are looked at
// Frames that a channel keeps: those that are looked back at and those that are collected, a whole number of
// the latter.
constexpr std::size_t kKept = ((RepeatFinder::kLookedBack + kHeld) / kHeld + 1) * kHeld;
constexpr double kLoud = 0.7;        // a steady sine below this stays within full scale between its samples
constexpr double kOver = 1.0005;     // 0.004 dB: what the interpolation itself may be off
constexpr double kJumpSteps = 64;    // of the format: dither jumps by 8
constexpr double kLeastJump = 3e-5;  // of full scale: -90 dB
constexpr double kGroupS = 0.125;    // of sound whose mean counts as one
constexpr double kRepeatSteps = 64;  // softer sound takes the same few values again by chance

// Samples at exactly the highest level: of a high tone a clipped crest holds one or two in a row. A tone that
// repeats itself bit for bit reaches its crest in the same way each time; steps of the format make crests
// flat as well.
struct FlatTop {
  static constexpr double kLeastShare = 0.03;  // of the samples; a sine clipped by 0.1 dB has 5 %
  static constexpr double kOverSteps = 4;      // times the share that steps of the format explain
  static constexpr double kAsLoud = 0.9;  // sound that might have reached it: a beat does at some places only
  static constexpr std::int64_t kLeastCount = 12;
  static constexpr std::size_t kWays = 3;  // to come there
  double level = 0;
  std::int64_t first_frame = 0, count = 0, chunks = 0;
  std::array<double, kWays> before{};
  std::size_t ways = 0;

  void take(const double* x, double peak, std::int64_t at) {
    if (peak > level) *this = FlatTop{.level = peak, .first_frame = at};
    if (peak > kAsLoud * level) ++chunks;
    if (peak < level || peak == 0) return;
    for (std::size_t n = 0; n < kChunk; ++n) {
      if (std::abs(x[n]) != level) continue;
      ++count;
      const double from = std::abs(*(x + n - 1));
      if (ways < kWays && from != level &&
          std::find(before.begin(), before.begin() + static_cast<std::ptrdiff_t>(ways), from) ==
              before.begin() + static_cast<std::ptrdiff_t>(ways))
        before[ways++] = from;
    }
  }
  [[nodiscard]] bool is_clipped(double step) const {
    const double share = static_cast<double>(count) / static_cast<double>(std::max<std::int64_t>(1, chunks) *
                                                                          static_cast<std::int64_t>(kChunk)),
                 by_steps = 2 / std::numbers::pi * std::sqrt(2 * step / std::max(level, step));
    return count >= kLeastCount && ways == kWays && share > std::max(kLeastShare, kOverSteps * by_steps);
  }
};

// One channel's state.
struct ChannelMeter {
  // A ring of kKept frames, and before it the kHistory frames that lie before its first one.
  std::vector<double> samples = std::vector<double>(kHistory + kKept, 0.0);
  ChannelHealth health;
  RunFollower runs;
  JumpFinder jumps;
  RepeatFinder repeats;
  FlatTop flat_top;
  CodeBits codes;
  bool codes_known = false;  // nothing more can come of them
  double sum = 0;
  double group_sum = 0, group_squares = 0;  // of means over kGroupS
  std::size_t group_chunks = 0, groups = 0, chunks_per_group;
  double last_peak = 0;
  std::size_t held = 0;    // frames collected
  std::int64_t frame = 0;  // of the first frame collected
  bool waits = false;      // it got the same bits as the first channel, which is looked at for both

  ChannelMeter(const RunLimits& limits, double rate)
      : runs(limits, health),
        jumps(rate, std::max(kLeastJump, kJumpSteps * limits.step)),
        repeats(kRepeatSteps * limits.step, samples.data() + kHistory, kKept),
        chunks_per_group(std::max<std::size_t>(1, static_cast<std::size_t>(kGroupS * rate / kChunk))) {}

  // Goes on from where another one stands that got the same.
  void go_on_from(const ChannelMeter& other) {
    const bool same = health.same_as_first, inverse = health.inverse_of_first;
    *this = other;
    runs.move_to(health);
    repeats.move_to(samples.data() + kHistory);
    health.same_as_first = same;
    health.inverse_of_first = inverse;
    waits = false;
  }

  void add_sum(double chunk_sum) {
    sum += chunk_sum;
    group_sum += chunk_sum;
    if (++group_chunks < chunks_per_group) return;
    const double mean = group_sum / static_cast<double>(group_chunks * kChunk);
    group_squares += mean * mean;
    ++groups;
    group_sum = 0;
    group_chunks = 0;
  }

  // Of what is collected, in the ring.
  [[nodiscard]] std::size_t place() const { return static_cast<std::size_t>(frame) % kKept; }

  // How far the mean would be off by chance: what lies low in the sound never sums up to nothing.
  [[nodiscard]] double mean_spread(double mean) const {
    if (groups < 2) return 0;
    const auto n = static_cast<double>(groups);
    return std::sqrt(std::max(0.0, group_squares / n - mean * mean) / (n - 1));
  }
};

}  // namespace

namespace {

void require_shape(int channel_count, double sample_rate_hz) {
  if (channel_count < 1)
    throw Error(ErrorCode::bad_argument, fmt::format("{} channels: at least 1 is needed", channel_count));
  if (!(sample_rate_hz > 0) || !std::isfinite(sample_rate_hz))
    throw Error(ErrorCode::bad_argument, fmt::format("sample rate {} Hz is not above 0", sample_rate_hz));
}

}  // namespace

struct HealthMeter::Impl {
  RunLimits limits;
  SampleFormat format;
  std::deque<ChannelMeter> channels;  // never moved: runs refer to their channel
  bool finished = false;

  Impl(int channel_count, double rate, SampleFormat sample_format)
      : limits(rate, sample_format), format(sample_format) {
    for (int c = 0; c < channel_count; ++c) channels.emplace_back(limits, rate).waits = c > 0;
  }

  // What a channel gets, and what the first one gets beside it, which has not taken it yet.
  void part_from_first(ChannelMeter& m, std::span<const double> x, std::span<const double> first) const {
    if (m.waits && std::memcmp(x.data(), first.data(), x.size_bytes()) != 0) m.go_on_from(channels.front());
  }

  void take(ChannelMeter& m, std::span<const double> x, std::span<const double> first) const {
    ChannelHealth& h = m.health;
    const bool is_first = &m == &channels.front();
    if (h.same_as_first && !is_first && !m.waits) h.same_as_first = are_alike(x, first, 1);
    if (h.inverse_of_first) h.inverse_of_first = !is_first && are_alike(x, first, -1);
    if (m.waits) return;
    for (std::size_t done = 0; done < x.size();) {
      const std::size_t count = std::min(kHeld - m.held, x.size() - done);
      std::copy_n(x.data() + done, count, m.samples.data() + kHistory + m.place() + m.held);
      m.held += count;
      done += count;
      if (m.held == kHeld) look(m);
    }
  }

  void look(ChannelMeter& m) const {
    look_at_chunks(m);
    m.frame += static_cast<std::int64_t>(m.held);
    m.held = 0;
    if (m.place() != 0) return;
    std::copy(m.samples.end() - static_cast<std::ptrdiff_t>(kHistory), m.samples.end(), m.samples.begin());
  }

  void look_at_chunks(ChannelMeter& m) const {
    const std::size_t held = m.held;
    const std::int64_t frame = m.frame;
    double* x = m.samples.data() + kHistory + m.place();
    std::size_t n = 0;
    for (; n + kChunk <= held; n += kChunk) take_chunk(m, x + n, frame + static_cast<std::int64_t>(n));
    if (n == held) return;
    // The last, shorter chunk of all: one sample after the other, and the look for jumps and crests with
    // silence behind it.
    std::fill(x + held, x + n + kChunk, 0.0);
    ChunkFacts facts = examined(m, x + n, frame + static_cast<std::int64_t>(n));
    m.add_sum(facts.sum);
    m.health.peak = std::max(m.health.peak, facts.peak);
    for (std::size_t i = n; i < held; ++i) m.runs.take(x[i], quantum(m));
    std::fill(x + held, x + n + kChunk, x[held - 1]);
    join_codes(m, x + n);
  }

  // Facts of a chunk, in which what is no number was replaced by 0.
  ChunkFacts examined(ChannelMeter& m, double* x, std::int64_t at) const {
    ChunkFacts facts = examine(x);
    if (std::isfinite(facts.sum)) return facts;
    for (std::size_t n = 0; n < kChunk; ++n) {
      if (std::isfinite(x[n])) continue;
      if (!m.health.broken_frame) m.health.broken_frame = at + static_cast<std::int64_t>(n);
      x[n] = 0;
    }
    return examine(x);
  }

  void take_chunk(ChannelMeter& m, double* x, std::int64_t at) const {
    const ChunkFacts facts = examined(m, x, at);
    m.add_sum(facts.sum);
    m.health.peak = std::max(m.health.peak, facts.peak);
    join_codes(m, x);
    if (facts.three_equal || m.runs.pending())
      for (std::size_t n = 0; n < kChunk; ++n) m.runs.take(x[n], quantum(m));
    else
      m.runs.pass(x, facts.peak);
    m.repeats.take(x, facts.anchors, facts.peak);
    m.flat_top.take(x, facts.peak, at);
    const double jump = at == 0 ? 0 : facts.jump;  // where the capture begins is no jump
    m.jumps.take(jump, m.jumps.may_stand_out(jump) ? jump_place(x, jump) : JumpFinder::kNowhere);
    if (std::max(facts.peak, m.last_peak) > kLoud) look_between(m, x, at);
    m.last_peak = facts.peak;
  }

  static std::size_t jump_place(const double* x, double jump) {
    for (std::size_t n = 0; n < kChunk; ++n)
      if (std::abs((x[n] - *(x + n - 3)) - 3.0 * (*(x + n - 1) - *(x + n - 2))) == jump) return n;
    return 0;
  }

  // Between the samples of the chunk, as far as what follows them is known, and the end of the one before.
  static void look_between(ChannelMeter& m, const double* x, std::int64_t at) {
    const auto [highest, index] = highest_between({x - 2 * kBetweenReach, kChunk + 2 * kBetweenReach});
    ChannelHealth& h = m.health;
    h.highest_between = std::max(h.highest_between, highest);
    if (highest > kOver && h.over_count++ == 0)
      h.over_frame = std::max<std::int64_t>(
          0, at + static_cast<std::int64_t>(index) - static_cast<std::int64_t>(kBetweenReach));
  }

  void join_codes(ChannelMeter& m, const double* x) const {
    if (m.codes_known) return;
    m.codes.take(x);
    // Every bit has been seen changing, or no code of 24 bits holds the samples.
    m.codes_known = !m.codes.fits || ((m.codes.any & 1) != 0 && (m.codes.all & 1) == 0 && is_integer(format));
  }

  // Smallest step seen so far, of the format or of a shorter word length inside it.
  [[nodiscard]] double quantum(const ChannelMeter& m) const {
    return !m.codes.fits || m.codes.any == 0 ? limits.step
                                             : std::ldexp(1.0, std::countr_zero(m.codes.any) - 23);
  }
};

HealthMeter::HealthMeter(int channel_count, double sample_rate_hz, SampleFormat format)
    : impl_(std::make_unique<Impl>((require_shape(channel_count, sample_rate_hz), channel_count),
                                   sample_rate_hz, format)) {}
HealthMeter::~HealthMeter() = default;
HealthMeter::HealthMeter(HealthMeter&&) noexcept = default;
HealthMeter& HealthMeter::operator=(HealthMeter&&) noexcept = default;

void HealthMeter::push(std::span<const double> planar) {
  Impl& impl = *impl_;
  if (impl.finished) throw Error(ErrorCode::bad_argument, "blocks cannot be pushed after finish()");
  if (planar.size() % impl.channels.size() != 0)
    throw Error(ErrorCode::bad_argument,
                fmt::format("{} samples are no whole number of frames of {} channels", planar.size(),
                            impl.channels.size()));
  const std::size_t length = planar.size() / impl.channels.size();
  const auto of = [&](std::size_t c) { return planar.subspan(c * length, length); };
  for (std::size_t c = 1; c < impl.channels.size(); ++c) impl.part_from_first(impl.channels[c], of(c), of(0));
  for_each_part(impl.channels.size(), length,
                [&](std::size_t c) { impl.take(impl.channels[c], of(c), of(0)); });
}

namespace {

int lowest_constant_bits(const CodeBits& codes) {
  return std::min(24, std::countr_one(~(codes.any ^ codes.all) & 0xFFFFFF));
}

}  // namespace

std::vector<ChannelHealth> HealthMeter::finish() {
  Impl& impl = *impl_;
  if (std::exchange(impl.finished, true)) throw Error(ErrorCode::bad_argument, "finish() was called before");
  for (ChannelMeter& m : impl.channels)
    if (m.held > 0) impl.look(m);
  const std::int64_t frames = impl.channels.front().frame;
  std::vector<ChannelHealth> result;
  for (ChannelMeter& m : impl.channels) {
    ChannelHealth& h = m.health;
    if (m.waits) {
      const bool inverse = h.inverse_of_first;
      h = result.front();
      h.same_as_first = !h.broken_frame;  // what is no number is the same as nothing
      h.inverse_of_first = inverse && !h.silent;
      result.push_back(h);
      continue;
    }
    m.runs.finish();
    m.jumps.finish();
    m.repeats.finish();
    h.jump_count = m.jumps.count;
    h.jumps = m.jumps.found;
    h.repeat_count = m.repeats.count;
    h.repeats = m.repeats.found;
    // What stands above the run was not cut off there: the run was something else.
    const bool below_peak = h.peak > h.clip_level * (1 + 1e-4);
    const bool once = h.clipped.size() < 2 && h.clipped_frames < 6;
    if (below_peak || once) {
      h.clipped_frames = 0;
      h.clip_level = 0;
      h.clipped.clear();
    }
    if (h.clipped_frames == 0 && m.flat_top.level == h.peak && m.flat_top.is_clipped(impl.quantum(m))) {
      h.clip_level = h.peak;
      h.clipped_frames = m.flat_top.count;
      h.clipped = {{m.flat_top.first_frame, 1}};
    }
    h.silent = h.peak == 0;
    h.dc = frames > 0 ? m.sum / static_cast<double>(frames) : 0;
    h.dc_spread = m.mean_spread(h.dc);
    const bool coded = m.codes.fits && m.codes.any != 0;
    h.used_bits = coded ? 24 - std::countr_zero(m.codes.any) : 0;
    const int constant = coded ? lowest_constant_bits(m.codes) : 0;
    h.stuck_bits =
        constant > 0 && constant < 24 && (m.codes.all & ((1U << constant) - 1)) != 0 ? constant : 0;
    h.same_as_first = h.same_as_first && impl.channels.size() > 1;
    h.inverse_of_first = h.inverse_of_first && !h.silent;
    result.push_back(h);
  }
  return result;
}

}  // namespace wavicon
