// SPDX-License-Identifier: MIT
#include "measure/common/ahead_source.hpp"

#include <algorithm>

namespace wavicon::measure_detail {
namespace {

constexpr std::int64_t kSlack =
    4;  // frames by which the next read may begin or end elsewhere: a drift moves it

}  // namespace

void AheadSource::read(std::int64_t first_frame, std::span<double> planar) {
  const auto channels = static_cast<std::size_t>(channel_count()), length = planar.size() / channels;
  const auto count = static_cast<std::int64_t>(length);
  bool there = false;
  if (reading_) {
    // What failed there is read again here, and fails where it is asked for.
    try {
      reading_->wait();
      there = true;
    } catch (const std::exception&) {
    }
    reading_.reset();
  }
  there = there && first_frame >= ahead_first_ && first_frame + count <= ahead_first_ + ahead_frames_;
  if (there)
    for (std::size_t c = 0; c < channels; ++c)
      std::copy_n(
          ahead_.begin() + static_cast<std::ptrdiff_t>(c) * ahead_frames_ + (first_frame - ahead_first_),
          length, planar.begin() + static_cast<std::ptrdiff_t>(c * length));
  else
    source_.read(first_frame, planar);
  const std::int64_t hop = first_frame - last_;
  if (alone_ && allowed_threads() > 1 && last_ >= 0 && hop > 0 && hop <= count)
    expect(first_frame + hop, count);
  last_ = std::max<std::int64_t>(0, first_frame);
}

void AheadSource::expect(std::int64_t first, std::int64_t frames) {
  if (first >= this->frames()) return;
  ahead_first_ = first - kSlack;
  ahead_frames_ = frames + 2 * kSlack;
  ahead_.resize(static_cast<std::size_t>(ahead_frames_ * channel_count()));
  reading_.emplace([this] { source_.read(ahead_first_, ahead_); });
}

}  // namespace wavicon::measure_detail
