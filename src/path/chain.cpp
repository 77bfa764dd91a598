// SPDX-License-Identifier: MIT
#include "wavicon/path/chain.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <chrono>
#include <cmath>

#include "audio/wide.hpp"
#include "wavicon/audio/error.hpp"

namespace wavicon {
namespace {

// Planar samples of one block, with the pointers that units want.
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

void spread(std::span<const float> interleaved, const UnitBlock& block, std::size_t frames) {
  const std::size_t count = block.channels.size();
  if (count == 1) {
    std::copy_n(interleaved.begin(), frames, block.channels[0]);
    return;
  }
  for (std::size_t c = 0; c < count; ++c)
    for (std::size_t n = 0; n < frames; ++n) block.channels[c][n] = interleaved[n * count + c];
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
  std::chrono::steady_clock::duration taken{};  ///< by the units so far

  // One block through all units; the highest magnitude of what came out, as bits.
  std::uint32_t run(std::int64_t at_frame) {
    std::uint32_t highest = units.empty() ? highest_bits(blocks[0].samples) : 0;
    for (std::size_t i = 0; i < units.size(); ++i) {
      const auto began = std::chrono::steady_clock::now();
      try {
        units[i]->run(blocks[i].channels.data(), blocks[i + 1].channels.data());
      } catch (const Error& error) {
        throw Error(error.code(),
                    fmt::format("{} in the block at frame {} ({:.6f} s of the stimulus)", error.what(),
                                at_frame, static_cast<double>(at_frame) / sample_rate_hz));
      }
      taken += std::chrono::steady_clock::now() - began;
      highest = highest_bits(blocks[i + 1].samples);
      if (highest >= kInfinity) throw broken_sample(i, at_frame);
    }
    return highest;
  }

  Error broken_sample(std::size_t unit, std::int64_t at_frame) const {
    const UnitBlock& block = blocks[unit + 1];
    const auto bad =
        std::find_if(block.samples.begin(), block.samples.end(), [](float x) { return !std::isfinite(x); });
    const auto index = bad - block.samples.begin();
    const auto frame = at_frame + index % block_frames;
    return Error(
        ErrorCode::unit_failed,
        fmt::format("{} wrote {} into channel {} at frame {} ({:.6f} s of the stimulus){}",
                    units[unit]->info().name, std::isnan(*bad) ? "not-a-number" : "an infinite value",
                    index / block_frames + 1, frame, static_cast<double>(frame) / sample_rate_hz,
                    remarks_of(units[unit]->info())));
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
  impl_->blocks.assign(impl_->units.size() + 1, {});
  impl_->blocks[0].resize(channel_count, block_frames);
  for (std::size_t i = 0; i < impl_->units.size(); ++i) {
    impl_->units[i]->prepare(sample_rate_hz, channel_count, block_frames);
    channel_count = impl_->units[i]->output_channel_count();
    impl_->blocks[i + 1].resize(channel_count, block_frames);
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
  while (result.frames < wanted) {
    const std::int64_t given = std::clamp<std::int64_t>(frames - at, 0, length);
    if (given < length) std::fill(fed.begin(), fed.end(), 0.0F);
    if (given > 0) source(std::span(fed).first(static_cast<std::size_t>(given) * ins));
    spread(fed, in, static_cast<std::size_t>(length));
    peak_in = std::max(peak_in, highest_bits(in.samples));
    if (peak_in >= kInfinity)
      throw Error(ErrorCode::bad_input,
                  fmt::format("the stimulus holds a value that is no finite number between frames {} and {}",
                              at, at + length));
    const std::uint32_t highest = impl_->run(at);
    if (at == 0) {
      result.latency_frames = impl_->latency();
      skip = options.keep_latency ? 0 : result.latency_frames;
      wanted += options.keep_latency ? result.latency_frames : 0;
    }
    at += length;
    const std::int64_t from = std::min(skip, length), count = std::min(length - from, wanted - result.frames);
    skip -= from;
    if (count > 0) {
      const auto kept = std::span(taken).first(static_cast<std::size_t>(count) * outs);
      gather(out, static_cast<std::size_t>(from), static_cast<std::size_t>(count), kept);
      peak_out = std::max(peak_out, count == length ? highest : highest_bits(kept));
      sink(kept);
      result.frames += count;
    }
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
