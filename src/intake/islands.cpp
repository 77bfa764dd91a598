// SPDX-License-Identifier: MIT
#include "islands.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "samples.hpp"
#include "wavicon/audio/error.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kBlockS = 0.001;
constexpr std::size_t kIdleBlocks = 20;
constexpr std::int64_t kPauseBlocks = 5;
constexpr double kOverIdle = 7.94;       // of the power: 9 dB
constexpr double kLeastPower = 3.2e-13;  // -125 dBFS
constexpr double kNoPause = 0.0316;      // of the loudest block's power: -15 dB
constexpr double kOverIdleRms = 5;       // magnitude of a sample that sounds
constexpr double kLeastMagnitude = 1e-6;

}  // namespace

Islands find_islands(AudioSource& source, int channel) {
  const auto block = std::max<std::int64_t>(1, std::llround(kBlockS * source.sample_rate_hz()));
  std::vector<double> powers;
  std::vector<double> scratch(static_cast<std::size_t>(source.channel_count() * 64 * block));
  for_each_block(source, 0, source.frames(), scratch,
                 [&](std::int64_t, std::span<const double> planar, std::int64_t frames) {
                   const auto run = planar.subspan(static_cast<std::size_t>(channel * frames),
                                                   static_cast<std::size_t>(frames));
                   for (std::size_t n = 0; n < run.size(); n += static_cast<std::size_t>(block)) {
                     const auto part =
                         run.subspan(n, std::min(static_cast<std::size_t>(block), run.size() - n));
                     powers.push_back(energy(part) / static_cast<double>(part.size()));
                   }
                 });
  Islands found;
  if (powers.empty()) return found;
  for (std::size_t i = 0; i < powers.size(); ++i)
    if (!std::isfinite(powers[i]))
      throw Error(ErrorCode::bad_input, fmt::format("NaN or infinity (channel {}, near frame {})",
                                                    channel + 1, static_cast<std::int64_t>(i) * block));
  const std::size_t around = std::min(kIdleBlocks, powers.size());
  double sum = 0, idle = 1e300;
  for (std::size_t i = 0; i < powers.size(); ++i) {
    sum += powers[i];
    if (i >= around) sum -= powers[i - around];
    if (i + 1 >= around) idle = std::min(idle, std::max(0.0, sum) / static_cast<double>(around));
  }
  const double top = *std::max_element(powers.begin(), powers.end());
  if (top <= kLeastPower) return found;
  const bool pauses = idle < kNoPause * top;
  found.idle_rms = pauses ? std::sqrt(idle) : 0;
  found.limit = std::max(kLeastMagnitude, kOverIdleRms * found.idle_rms);
  const double least = pauses ? std::max(kLeastPower, kOverIdle * idle) : 0;
  const auto count = static_cast<std::int64_t>(powers.size());
  std::int64_t first = -1, last = -1;
  const auto close = [&] {
    if (first < 0) return;
    found.islands.push_back(
        {std::max<std::int64_t>(0, (first - 1) * block), std::min(source.frames(), (last + 2) * block)});
    first = -1;
  };
  for (std::int64_t i = 0; i < count; ++i) {
    if (!(powers[static_cast<std::size_t>(i)] > least)) continue;
    if (first >= 0 && i - last > kPauseBlocks) close();
    if (first < 0) first = i;
    last = i;
  }
  close();
  // To the sample: the outermost ones that sound.
  for (Island& island : found.islands) {
    const std::int64_t edge = std::min(island.frames(), 8 * block);
    const auto head = read_channel(source, channel, island.first, edge),
               tail = read_channel(source, channel, island.end - edge, edge);
    const auto sounds = [&](double v) { return std::abs(v) > found.limit; };
    const auto at = std::find_if(head.begin(), head.end(), sounds);
    const auto to = std::find_if(tail.rbegin(), tail.rend(), sounds);
    if (to != tail.rend()) island.end -= to - tail.rbegin();
    if (at != head.end()) island.first += at - head.begin();
  }
  std::erase_if(found.islands, [](const Island& island) { return island.frames() <= 0; });
  return found;
}

}  // namespace wavicon::intake_detail
