// SPDX-License-Identifier: MIT
// An audio file with what is embedded in it: opened, read, its recipe parsed, judged.

#include "target.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/file/limits.hpp"

using namespace wavicon;

namespace {

constexpr std::int64_t kMostFrames = 3000;  // that are judged: longer ones say nothing more about a reader

void read(const std::string& path, CutOff cut_off) {
  FileSource source(path, cut_off);
  const AudioFileInfo& info = source.info();
  fuzz::require(info.sample_rate_hz >= kLowestCaptureRateHz && info.sample_rate_hz <= kHighestSampleRateHz,
                "the rate keeps its bounds");
  fuzz::require(info.channel_count >= 1 && info.channel_count <= kMostChannels,
                "the channels keep their bounds");
  fuzz::require(info.cues.size() <= kMostCues && info.recipe.size() <= kLongestRecipeBytes,
                "cues and recipe keep their bounds");
  std::vector<double> planar(static_cast<std::size_t>(64 * info.channel_count));
  for (const std::int64_t at : {std::int64_t{0}, info.frames / 2, info.frames - 64, info.frames})
    source.read(at, planar);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string& path = fuzz::in_file(data, size, ".wav");
  for (const CutOff cut_off : {CutOff::refused, CutOff::accepted})
    fuzz::accepted([&] { read(path, cut_off); });
  fuzz::accepted([&] {
    const AudioFileInfo info = AudioReader(path, CutOff::accepted).info();
    if (info.frames <= kMostFrames && info.frames * info.channel_count <= 4 * kMostFrames)
      (void)judge_file(path, {.despite_faults = true});
  });
  return 0;
}
