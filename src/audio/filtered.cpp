// SPDX-License-Identifier: MIT
#include "wavicon/audio/filtered.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "wavicon/audio/error.hpp"

namespace wavicon {
namespace {

constexpr std::size_t kLengthOfTaps =
    4;  // a block three times as long as the filter costs least, within 10 %
constexpr std::size_t kLeastLength = 1024;  // samples: below it the transform's own cost rules
constexpr std::size_t kLeastBlock = 8192;   // frames that are filtered at once, for the sake of short filters
constexpr std::size_t kMostKept = 2'000'000;  // samples of filtered blocks
constexpr std::size_t kLeastKept = 2;         // blocks: a read may reach over two

}  // namespace

Convolver::Convolver(std::span<const double> taps)
    : tap_count_(taps.size()),
      transform_(fast_transform_length(std::max(kLeastLength, kLengthOfTaps * taps.size()))),
      product_(transform_.length() / 2 + 1) {
  if (taps.empty()) throw Error(ErrorCode::bad_argument, "a filter needs one tap at least");
  spectrum_ = transform_.bins_of(taps);
}

void Convolver::apply(std::span<const double> in, std::span<double> out) {
  const std::size_t behind = tap_count_ - 1, most = transform_.length() - behind;
  for (std::size_t at = 0; at < out.size(); at += most) {
    const std::size_t count = std::min(most, out.size() - at);
    transform_.execute(in.subspan(at, count + behind));
    const auto bins = transform_.bins();
    for (std::size_t k = 0; k < bins.size(); ++k) {
      // Without the checks for infinities that the operator makes.
      const double a = bins[k].real(), b = bins[k].imag(), c = spectrum_[k].real(), d = spectrum_[k].imag();
      product_[k] = {a * c - b * d, a * d + b * c};
    }
    const auto result = transform_.invert(product_);
    std::copy_n(result.begin() + static_cast<std::ptrdiff_t>(behind), count,
                out.begin() + static_cast<std::ptrdiff_t>(at));
  }
}

FilteredSource::FilteredSource(AudioSource& source, const std::vector<std::vector<double>>& filters)
    : source_(source) {
  const auto channels = static_cast<std::size_t>(source.channel_count());
  if (filters.size() != 1 && filters.size() != channels)
    throw Error(ErrorCode::bad_argument,
                fmt::format("{} filters for {} channels: one, or one for each", filters.size(), channels));
  for (const auto& taps : filters) {
    filters_.emplace_back(taps);
    before_ = std::max(before_, taps.size() - 1 - taps.size() / 2);
    behind_ = std::max(behind_, taps.size() / 2);
  }
  block_frames_ =
      std::max_element(filters_.begin(), filters_.end(), [](const Convolver& p, const Convolver& q) {
        return p.tap_count() < q.tap_count();
      })->block_frames();
  block_frames_ *= (kLeastBlock + block_frames_ - 1) / block_frames_;
  most_blocks_ = std::max(kLeastKept, kMostKept / (block_frames_ * channels));
}

void FilteredSource::fill(Block& block) {
  const auto channels = static_cast<std::size_t>(source_.channel_count());
  const std::size_t wide = block_frames_ + before_ + behind_;
  wide_.resize(wide * channels);
  block.planar.resize(block_frames_ * channels);
  source_.read(block.number * static_cast<std::int64_t>(block_frames_) - static_cast<std::int64_t>(before_),
               wide_);
  for (std::size_t c = 0; c < channels; ++c) {
    Convolver& filter = filters_[filters_.size() == 1 ? 0 : c];
    const std::size_t taps = filter.tap_count(), start = before_ - (taps - 1 - taps / 2);
    filter.apply(std::span<const double>(wide_).subspan(c * wide + start, block_frames_ + taps - 1),
                 std::span(block.planar).subspan(c * block_frames_, block_frames_));
  }
}

const FilteredSource::Block& FilteredSource::block(std::int64_t number) {
  auto found =
      std::find_if(blocks_.begin(), blocks_.end(), [&](const Block& b) { return b.number == number; });
  if (found == blocks_.end()) {
    // The oldest one is taken out first: what cannot be read leaves no block that claims to hold it.
    Block taken;
    if (blocks_.size() >= most_blocks_) {
      const auto oldest = std::min_element(blocks_.begin(), blocks_.end(),
                                           [](const Block& p, const Block& q) { return p.used < q.used; });
      taken = std::move(*oldest);
      blocks_.erase(oldest);
    }
    taken.number = number;
    fill(taken);
    found = blocks_.insert(blocks_.end(), std::move(taken));
  }
  found->used = ++uses_;
  return *found;
}

void FilteredSource::read(std::int64_t first_frame, std::span<double> planar) {
  const auto channels = static_cast<std::size_t>(source_.channel_count());
  const auto size = static_cast<std::int64_t>(block_frames_),
             length = static_cast<std::int64_t>(planar.size() / channels);
  for (std::int64_t done = 0; done < length;) {
    const std::int64_t at = first_frame + done, into = (at % size + size) % size, number = (at - into) / size,
                       count = std::min(size - into, length - done);
    const Block& from = block(number);
    for (std::size_t c = 0; c < channels; ++c)
      std::copy_n(from.planar.begin() + static_cast<std::ptrdiff_t>(c * block_frames_) + into, count,
                  planar.begin() + static_cast<std::ptrdiff_t>(c) * length + done);
    done += count;
  }
}

}  // namespace wavicon
