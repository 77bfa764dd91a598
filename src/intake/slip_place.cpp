// SPDX-License-Identifier: MIT
#include "slip_place.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace wavicon::intake_detail {
namespace {

constexpr std::int64_t kMostFrames = 1 << 22;  // that are looked at
constexpr double kNoDifference = 300;  // times the mean error of a frame: chance over some thousand frames

// Running sums of what is left of the capture along a line.
std::vector<double> left_along(AudioSource& capture, int channel, const Line& line, double gain,
                               std::int64_t first, const std::vector<double>& x) {
  static const FractionalReader reader;
  Alignment along;
  along.delay_frames = line.delay;
  along.frames_per_frame = 1 + line.slope;
  std::vector<double> y(x.size()), sums(x.size() + 1, 0.0);
  read_aligned(capture, channel, along, first, reader, y);
  for (std::size_t n = 0; n < x.size(); ++n)
    sums[n + 1] = sums[n] + (y[n] - gain * x[n]) * (y[n] - gain * x[n]);
  return sums;
}

}  // namespace

Slip place_slip(AudioSource& reference, AudioSource& capture, const AlignOptions& channels,
                const SlipSides& sides, const Slip& found) {
  const std::int64_t count = found.before_frame - found.after_frame;
  const auto lost = static_cast<std::size_t>(std::max<std::int64_t>(0, -found.frames));
  if (count > kMostFrames || count <= static_cast<std::int64_t>(lost)) return found;
  const auto x = read_channel(reference, channels.reference_channel, found.after_frame, count);
  const auto before = left_along(capture, channels.capture_channel, sides.before, sides.gain,
                                 found.after_frame, x),
             after =
                 left_along(capture, channels.capture_channel, sides.after, sides.gain, found.after_frame, x);
  const auto left = [&](std::size_t p) { return before[p] + after.back() - after[p + lost]; };
  const std::size_t places = x.size() - lost + 1;
  double least = left(0);
  for (std::size_t p = 1; p < places; ++p) least = std::min(least, left(p));
  const double limit = least + kNoDifference * least / static_cast<double>(x.size());
  std::size_t first = 0, last = places - 1;
  while (left(first) > limit) ++first;
  while (left(last) > limit) --last;
  return {found.after_frame + static_cast<std::int64_t>(first),
          found.after_frame + static_cast<std::int64_t>(last + lost), found.frames};
}

}  // namespace wavicon::intake_detail

namespace wavicon {

std::vector<double> delays_of_pieces(const Alignment& alignment) {
  std::vector<double> delays = {0};
  std::size_t own = 0;
  for (const Slip& slip : alignment.slips) {
    delays.push_back(delays.back() + static_cast<double>(slip.frames));
    if (slip.before_frame <= alignment.piece_first_frame) own = delays.size() - 1;
  }
  const double moved = alignment.delay_frames - delays[own];
  for (double& delay : delays) delay += moved;
  return delays;
}

std::string slips_text(const std::vector<Slip>& slips, double sample_rate_hz) {
  constexpr std::size_t kMost = 3;
  std::string text;
  for (std::size_t i = 0; i < std::min(kMost, slips.size()); ++i)
    text += fmt::format("{}{} frame{} {} {}", i == 0 ? "" : ", ", std::abs(slips[i].frames),
                        std::abs(slips[i].frames) == 1 ? " was" : "s were",
                        slips[i].frames < 0 ? "lost" : "inserted", place_text(slips[i], sample_rate_hz));
  if (slips.size() > kMost) text += fmt::format(", and so on at {} more places", slips.size() - kMost);
  return text;
}

std::string place_text(const Slip& slip, double sample_rate_hz) {
  constexpr double kOnePlaceS = 0.002;
  const double from = static_cast<double>(slip.after_frame) / sample_rate_hz,
               lost = static_cast<double>(std::max<std::int64_t>(0, -slip.frames)) / sample_rate_hz,
               to = static_cast<double>(slip.before_frame) / sample_rate_hz - lost;
  return to - from < kOnePlaceS ? fmt::format("at {:.3f} s", from)
                                : fmt::format("between {:.3f} and {:.3f} s", from, to);
}

}  // namespace wavicon
