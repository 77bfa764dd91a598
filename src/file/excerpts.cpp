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
constexpr std::size_t kMostHeard = 2;                // channels
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

// A stretch of a sound, at most two channels of it.
struct Stretch {
  const std::vector<std::vector<float>>* planar = nullptr;
  double rate_hz = 0;
  std::size_t first = 0, frames = 0;
  [[nodiscard]] std::size_t channels() const { return std::min(kMostHeard, planar->size()); }
  [[nodiscard]] double peak() const {
    double peak = 0;
    for (std::size_t c = 0; c < channels(); ++c)
      for (std::size_t n = 0; n < frames; ++n)
        peak = std::max(peak, static_cast<double>(std::abs((*planar)[c][first + n])));
    return peak;
  }
};

// Whole decibels: up where it is faint, down where it exceeds full scale.
double gain_for(double peak) {
  if (!(peak > 0)) return 0;
  const double peak_dbfs = db_from_ratio(peak);
  return peak_dbfs < kFaintDbfs || peak_dbfs > 0 ? std::floor(kHeardDbfs - peak_dbfs) : 0;
}

Excerpt made(const std::string& name, const Stretch& stretch, double louder_db) {
  Excerpt excerpt{.name = name,
                  .from_s = static_cast<double>(stretch.first) / stretch.rate_hz,
                  .seconds = static_cast<double>(stretch.frames) / stretch.rate_hz,
                  .louder_db = louder_db};
  Audio audio(stretch.rate_hz, static_cast<int>(stretch.channels()),
              static_cast<std::int64_t>(stretch.frames));
  const double gain = ratio_from_db(louder_db);
  for (std::size_t c = 0; c < stretch.channels(); ++c)
    for (std::size_t n = 0; n < stretch.frames; ++n)
      audio.channel(static_cast<int>(c))[n] =
          static_cast<float>(gain * (*stretch.planar)[c][stretch.first + n]);
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

std::vector<Excerpt> excerpts(const std::vector<ExcerptSource>& sources, bool one_timeline) {
  std::vector<std::vector<std::vector<float>>> sounds;
  std::vector<Stretch> stretches;
  for (const ExcerptSource& source : sources) {
    if (sounds.size() == kMostExcerpts) break;
    const double rate_hz = AudioReader(source.file).info().sample_rate_hz;
    sounds.push_back(read_planar(source.file));
    stretches.push_back({.rate_hz = rate_hz});
  }
  std::size_t placed_by = sounds.empty() ? 0 : sounds.size() - 1;
  for (std::size_t i = sounds.size(); i-- > 0;)
    if (sources[i].residual) placed_by = i;
  double common_s = 0;
  for (std::size_t i = 0; i < sounds.size(); ++i) {
    Stretch& stretch = stretches[i];
    stretch.planar = &sounds[i];
    const std::size_t length = sounds[i].at(0).size();
    stretch.frames = std::min(length, static_cast<std::size_t>(kLongestExcerptS * stretch.rate_hz));
    stretch.first = length == 0 ? 0 : loudest(sounds[i], stretch.rate_hz, stretch.frames);
    if (i == placed_by) common_s = static_cast<double>(stretch.first) / stretch.rate_hz;
  }
  double peak = 0;
  for (std::size_t i = 0; i < sounds.size(); ++i) {
    Stretch& stretch = stretches[i];
    const std::size_t length = sounds[i].at(0).size();
    if (one_timeline) {
      stretch.first = std::min(length, static_cast<std::size_t>(std::llround(common_s * stretch.rate_hz)));
      stretch.frames = std::min(stretch.frames, length - stretch.first);
    }
    if (!sources[i].residual) peak = std::max(peak, stretch.peak());
  }
  std::vector<Excerpt> all;
  for (std::size_t i = 0; i < sounds.size(); ++i)
    if (stretches[i].frames > 0)
      all.push_back(
          made(sources[i].name, stretches[i], gain_for(sources[i].residual ? stretches[i].peak() : peak)));
  return all;
}

}  // namespace wavicon
