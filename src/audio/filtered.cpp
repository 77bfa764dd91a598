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
}

void FilteredSource::read(std::int64_t first_frame, std::span<double> planar) {
  const auto channels = static_cast<std::size_t>(source_.channel_count());
  const std::size_t length = planar.size() / channels, wide = length + before_ + behind_;
  wide_.resize(wide * channels);
  source_.read(first_frame - static_cast<std::int64_t>(before_), wide_);
  for (std::size_t c = 0; c < channels; ++c) {
    Convolver& filter = filters_[filters_.size() == 1 ? 0 : c];
    const std::size_t taps = filter.tap_count(), start = before_ - (taps - 1 - taps / 2);
    filter.apply(std::span<const double>(wide_).subspan(c * wide + start, length + taps - 1),
                 planar.subspan(c * length, length));
  }
}

}  // namespace wavicon
