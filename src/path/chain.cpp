// SPDX-License-Identifier: MIT
#include "wavicon/path/chain.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <chrono>
#include <cmath>
#include <exception>

#include "audio/wide.hpp"
#include "wavicon/audio/error.hpp"

namespace wavicon {
namespace {

constexpr int kRowFrames = 8192;  // at most, of more than one block

// Planar samples of a row of blocks, with the pointers that units want.
struct UnitBlock {
  std::vector<float> samples;
  std::vector<float*> channels;

  void resize(int channel_count, int frames) {
    samples.assign(static_cast<std::size_t>(channel_count) * static_cast<std::size_t>(frames), 0.0F);
    channels.clear();
    for (int c = 0; c < channel_count; ++c)
      channels.push_back(samples.data() + static_cast<std::ptrdiff_t>(c) * frames);
  }
};

constexpr std::uint32_t kMagnitude = 0x7FFFFFFF;
constexpr std::uint32_t kInfinity = 0x7F800000;

// Magnitudes of floats compare like their bits as integers, and what is no finite number lies above all that
// are: one pass over the block finds both the peak and whether it can be trusted.
WAVICON_WIDE std::uint32_t highest_bits(const float* samples, std::size_t count) {
  std::int32_t highest = 0;
  for (std::size_t i = 0; i < count; ++i) {
    const auto magnitude = static_cast<std::int32_t>(std::bit_cast<std::uint32_t>(samples[i]) & kMagnitude);
    highest = highest < magnitude ? magnitude : highest;
  }
  return static_cast<std::uint32_t>(highest);
}

std::uint32_t highest_bits(std::span<const float> samples) {
  return highest_bits(samples.data(), samples.size());
}

void spread(std::span<const float> interleaved, const UnitBlock& block, std::size_t to, std::size_t frames) {
  const std::size_t count = block.channels.size();
  if (count == 1) {
    std::copy_n(interleaved.begin(), frames, block.channels[0] + to);
    return;
  }
  for (std::size_t c = 0; c < count; ++c)
    for (std::size_t n = 0; n < frames; ++n) block.channels[c][to + n] = interleaved[n * count + c];
}

void gather(const UnitBlock& block, std::size_t from, std::size_t frames, std::span<float> interleaved) {
  const std::size_t count = block.channels.size();
  if (count == 1) {
    std::copy_n(block.channels[0] + from, frames, interleaved.begin());
    return;
  }
  for (std::size_t c = 0; c < count; ++c)
    for (std::size_t n = 0; n < frames; ++n) interleaved[n * count + c] = block.channels[c][from + n];
}

// What may be the cause of what went wrong.
std::string remarks_of(const UnitInfo& info) {
  std::string text;
  for (const std::string& remark : info.remarks) text += "; " + remark;
  return text;
}

}  // namespace

struct Chain::Impl {
  std::vector<std::unique_ptr<Unit>> units;
  std::vector<UnitBlock> blocks;  ///< blocks[i] is what goes into unit i, blocks[units.size()] what comes out
  double sample_rate_hz = 0;
  int block_frames = 0;
  int row_blocks = 1;                           ///< that go through a unit together
  std::chrono::steady_clock::duration taken{};  ///< by the units so far

  // Some blocks through all units, one unit after the other. Of faults the earliest block's counts, and in it
  // the first unit's, as if each block went through all units by itself.
  void run(std::int64_t at_frame, int count) {
    std::exception_ptr failure;
    for (std::size_t i = 0; i < units.size() && count > 0; ++i) {
      const auto began = std::chrono::steady_clock::now();
      int done = 0;
      try {
        units[i]->run_row({blocks[i].channels.data(), static_cast<int>(blocks[i].channels.size()),
                           blocks[i + 1].channels.data(), block_frames, count},
                          done);
      } catch (const Error& error) {
        const std::int64_t at = at_frame + static_cast<std::int64_t>(done) * block_frames;
        failure = std::make_exception_ptr(
            Error(error.code(), fmt::format("{} in the block at frame {} ({:.6f} s of the stimulus)",
                                            error.what(), at, static_cast<double>(at) / sample_rate_hz)));
        count = done;
      }
      taken += std::chrono::steady_clock::now() - began;
      for (int block = 0; block < count; ++block)
        if (highest_of(blocks[i + 1], block) >= kInfinity) {
          failure = std::make_exception_ptr(broken_sample(i, at_frame, block));
          count = block;
        }
    }
    if (failure) std::rethrow_exception(failure);
  }

  // Highest magnitude of a block, as bits.
  [[nodiscard]] std::uint32_t highest_of(const UnitBlock& row, int block) const {
    std::uint32_t highest = 0;
    for (const float* channel : row.channels)
      highest = std::max(highest, highest_bits(channel + static_cast<std::ptrdiff_t>(block) * block_frames,
                                               static_cast<std::size_t>(block_frames)));
    return highest;
  }

  Error broken_sample(std::size_t unit, std::int64_t at_frame, int block) const {
    const UnitBlock& row = blocks[unit + 1];
    for (std::size_t c = 0; c < row.channels.size(); ++c)
      for (int n = 0; n < block_frames; ++n) {
        const std::int64_t in_row = static_cast<std::int64_t>(block) * block_frames + n;
        const float value = row.channels[c][in_row];
        if (std::isfinite(value)) continue;
        const std::int64_t frame = at_frame + in_row;
        return Error(
            ErrorCode::unit_failed,
            fmt::format("{} wrote {} into channel {} at frame {} ({:.6f} s of the stimulus){}",
                        units[unit]->info().name, std::isnan(value) ? "not-a-number" : "an infinite value",
                        c + 1, frame, static_cast<double>(frame) / sample_rate_hz,
                        remarks_of(units[unit]->info())));
      }
    return Error(ErrorCode::unit_failed, units[unit]->info().name + " wrote what is no number");
  }

  [[nodiscard]] std::int64_t latency() const {
    std::int64_t sum = 0;
    for (const auto& unit : units) sum += unit->latency_frames();
    return sum;
  }
};

Chain::Chain(std::vector<std::unique_ptr<Unit>> units) : impl_(std::make_unique<Impl>()) {
  impl_->units = std::move(units);
}
Chain::~Chain() = default;

double Chain::claimed_rate_hz() const noexcept {
  double rate = impl_->sample_rate_hz;
  for (const auto& unit : impl_->units)
    if (unit->claimed_rate_hz() > 0) rate = unit->claimed_rate_hz();
  return rate;
}

std::vector<std::string> Chain::remarks() const {
  std::vector<std::string> found;
  for (const auto& unit : impl_->units)
    for (const std::string& remark : unit->info().remarks) found.push_back(unit->info().name + ": " + remark);
  return found;
}

int Chain::prepare(double sample_rate_hz, int channel_count, int block_frames) {
  if (block_frames < 1 || block_frames > 65536)
    throw Error(ErrorCode::bad_argument,
                fmt::format("block of {} frames is not within 1 to 65536", block_frames));
  impl_->sample_rate_hz = sample_rate_hz;
  impl_->block_frames = block_frames;
  impl_->row_blocks = std::clamp(kRowFrames / block_frames, 1, Unit::kMostBlocks);
  const int row_frames = impl_->row_blocks * block_frames;
  impl_->blocks.assign(impl_->units.size() + 1, {});
  impl_->blocks[0].resize(channel_count, row_frames);
  for (std::size_t i = 0; i < impl_->units.size(); ++i) {
    impl_->units[i]->prepare(sample_rate_hz, channel_count, block_frames);
    channel_count = impl_->units[i]->output_channel_count();
    impl_->blocks[i + 1].resize(channel_count, row_frames);
  }
  return channel_count;
}

FeedResult Chain::feed(const FeedSource& source, std::int64_t frames, const FeedSink& sink,
                       const FeedOptions& options) {
  UnitBlock& in = impl_->blocks.front();
  UnitBlock& out = impl_->blocks.back();
  const auto length = static_cast<std::int64_t>(impl_->block_frames);
  const std::size_t ins = in.channels.size(), outs = out.channels.size();
  std::vector<float> fed(static_cast<std::size_t>(length) * ins),
      taken(static_cast<std::size_t>(length) * outs);
  FeedResult result;
  impl_->taken = {};
  std::int64_t skip = 0, wanted = frames + options.tail_frames, at = 0;
  std::uint32_t peak_in = 0, peak_out = 0;
  // The block at a frame, from the source into its place in the row.
  const auto fill = [&](std::int64_t begin, int block) {
    const std::int64_t given = std::clamp<std::int64_t>(frames - begin, 0, length);
    if (given < length) std::fill(fed.begin(), fed.end(), 0.0F);
    if (given > 0) source(std::span(fed).first(static_cast<std::size_t>(given) * ins));
    spread(fed, in, static_cast<std::size_t>(block) * static_cast<std::size_t>(length),
           static_cast<std::size_t>(length));
    peak_in = std::max(peak_in, impl_->highest_of(in, block));
    if (peak_in >= kInfinity)
      throw Error(ErrorCode::bad_input,
                  fmt::format("the stimulus holds a value that is no finite number between frames {} and {}",
                              begin, begin + length));
  };
  const auto hand_over = [&](int block) {
    const std::int64_t from = std::min(skip, length), count = std::min(length - from, wanted - result.frames);
    skip -= from;
    if (count <= 0) return;
    const auto kept = std::span(taken).first(static_cast<std::size_t>(count) * outs);
    gather(
        out,
        static_cast<std::size_t>(block) * static_cast<std::size_t>(length) + static_cast<std::size_t>(from),
        static_cast<std::size_t>(count), kept);
    peak_out = std::max(peak_out, count == length ? impl_->highest_of(out, block) : highest_bits(kept));
    sink(kept);
    result.frames += count;
  };
  while (result.frames < wanted) {
    // The first block by itself: what the units report then is their latency.
    const std::int64_t left = (skip + wanted - result.frames + length - 1) / length;
    const int count = at == 0 ? 1 : static_cast<int>(std::min<std::int64_t>(left, impl_->row_blocks));
    for (int block = 0; block < count; ++block) fill(at + block * length, block);
    impl_->run(at, count);
    if (at == 0) {
      result.latency_frames = impl_->latency();
      skip = options.keep_latency ? 0 : result.latency_frames;
      wanted += options.keep_latency ? result.latency_frames : 0;
    }
    at += count * length;
    for (int block = 0; block < count; ++block) hand_over(block);
    if (options.progress)
      options.progress(std::min(1.0, static_cast<double>(result.frames) / static_cast<double>(wanted)));
  }
  result.run_s = std::chrono::duration<double>(impl_->taken).count();
  result.audio_s = static_cast<double>(at) / impl_->sample_rate_hz;
  result.latency_changed = impl_->latency() != result.latency_frames;
  result.peak_in = std::bit_cast<float>(peak_in);
  result.peak_out = std::bit_cast<float>(peak_out);
  return result;
}

}  // namespace wavicon
