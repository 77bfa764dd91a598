// SPDX-License-Identifier: MIT
#include "wavicon/file/excerpts.hpp"

#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <cstdint>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/file/text_file.hpp"

namespace wavicon {
namespace {

constexpr double kFaintDbfs = -30, kHeardDbfs = -6;  // peaks
constexpr double kStepS = 0.1;                       // in which the loudest place is looked for
constexpr int kMostHeard = 2;                        // channels
constexpr std::uint64_t kLongestFlac = 64U << 20;

// First frame of the loudest stretch of that length.
std::size_t loudest(const std::vector<std::vector<float>>& planar, double rate_hz, std::size_t frames) {
  const std::size_t all = planar.at(0).size(),
                    step = std::max<std::size_t>(1, static_cast<std::size_t>(kStepS * rate_hz));
  std::vector<double> energy((all + step - 1) / step, 0.0);
  for (const auto& channel : planar)
    for (std::size_t n = 0; n < all; ++n) energy[n / step] += static_cast<double>(channel[n]) * channel[n];
  const std::size_t wide = std::max<std::size_t>(1, frames / step);
  double best = -1, sum = 0;
  std::size_t at = 0;
  for (std::size_t i = 0; i < energy.size(); ++i) {
    sum += energy[i];
    if (i >= wide) sum -= energy[i - wide];
    if (sum > best * (1 + 1e-9)) best = sum, at = i + 1 >= wide ? i + 1 - wide : 0;
  }
  return std::min(at * step, all - std::min(all, frames));
}

Excerpt made(const std::string& name, const std::vector<std::vector<float>>& planar, double rate_hz,
             std::size_t first, std::size_t frames) {
  Excerpt excerpt{.name = name,
                  .from_s = static_cast<double>(first) / rate_hz,
                  .seconds = static_cast<double>(frames) / rate_hz};
  const int channels = std::min(kMostHeard, static_cast<int>(planar.size()));
  Audio audio(rate_hz, channels, static_cast<std::int64_t>(frames));
  double peak = 0;
  for (int c = 0; c < channels; ++c)
    for (std::size_t n = 0; n < frames; ++n)
      peak = std::max(peak, static_cast<double>(std::abs(planar[static_cast<std::size_t>(c)][first + n])));
  if (peak > 0 && db_from_ratio(peak) < kFaintDbfs)
    excerpt.louder_db = std::floor(kHeardDbfs - db_from_ratio(peak));
  const double gain = ratio_from_db(excerpt.louder_db);
  for (int c = 0; c < channels; ++c)
    for (std::size_t n = 0; n < frames; ++n)
      audio.channel(c)[n] = static_cast<float>(gain * planar[static_cast<std::size_t>(c)][first + n]);
  std::string folder = (std::filesystem::temp_directory_path() / "wavicon-XXXXXX").string();
  if (::mkdtemp(folder.data()) == nullptr)
    throw Error(ErrorCode::write_failed,
                "no folder for sounds can be made in " + std::filesystem::temp_directory_path().string());
  const std::filesystem::path file = std::filesystem::path(folder) / "sound.flac";
  try {
    write_audio_file(file, audio, {.format = SampleFormat::pcm16, .dither = true});
    excerpt.flac = read_text_file(file, "sound", kLongestFlac);
  } catch (...) {
    std::filesystem::remove_all(folder);
    throw;
  }
  std::filesystem::remove_all(folder);
  return excerpt;
}

}  // namespace

std::vector<Excerpt> excerpts(const std::vector<std::pair<std::string, std::filesystem::path>>& files) {
  std::vector<Excerpt> all;
  std::vector<std::vector<std::vector<float>>> sounds;
  std::vector<double> rates;
  for (const auto& [name, path] : files) {
    if (sounds.size() == kMostExcerpts) break;
    rates.push_back(AudioReader(path).info().sample_rate_hz);
    sounds.push_back(read_planar(path));
  }
  if (sounds.empty()) return all;
  const auto length = [&](std::size_t i) { return sounds[i].at(0).size(); };
  bool together = true;
  for (std::size_t i = 1; i < sounds.size(); ++i)
    together = together && length(i) == length(0) && rates[i] == rates[0];
  const auto frames_of = [&](std::size_t i) {
    return std::min(length(i), static_cast<std::size_t>(kLongestExcerptS * rates[i]));
  };
  const std::size_t last = sounds.size() - 1, common = loudest(sounds[last], rates[last], frames_of(last));
  for (std::size_t i = 0; i < sounds.size(); ++i) {
    if (length(i) == 0) continue;
    all.push_back(made(files[i].first, sounds[i], rates[i],
                       together ? common : loudest(sounds[i], rates[i], frames_of(i)), frames_of(i)));
  }
  return all;
}

}  // namespace wavicon
