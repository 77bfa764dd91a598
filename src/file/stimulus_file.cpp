// SPDX-License-Identifier: MIT
#include "wavicon/file/stimulus_file.hpp"

#include <algorithm>
#include <vector>

#include "wavicon/audio/between_samples.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon {
namespace {

constexpr std::int64_t kBlockFrames = 8192;  // rendered and written at once
constexpr double kLoud = 0.7;  // a steady sine below it does not exceed full scale between its samples

AudioWriteOptions write_options(const Stimulus& stimulus) {
  const Recipe& recipe = stimulus.recipe();
  AudioWriteOptions options{recipe.sample_rate_hz, recipe.channel_count,
                            recipe.bits == 16   ? SampleFormat::pcm16
                            : recipe.bits == 24 ? SampleFormat::pcm24
                                                : SampleFormat::float32};
  options.dither = recipe.dither;
  options.seed = static_cast<std::uint64_t>(recipe.seed);
  options.frames = stimulus.frames();
  options.recipe = recipe_text(recipe);
  options.description = recipe.name;
  const auto& marks = stimulus.marks();
  if (marks) options.cues.push_back({marks->start_frame, "start mark"});
  for (const PlacedPart& part : stimulus.parts()) options.cues.push_back({part.first_frame, part.name});
  if (marks) options.cues.push_back({marks->end_frame, "end mark"});
  return options;
}

std::optional<double> level(double amplitude) {
  return amplitude > 0 ? std::optional(db_from_ratio(amplitude)) : std::nullopt;
}

}  // namespace

WrittenStimulus write_stimulus_file(const std::filesystem::path& path, Stimulus& stimulus,
                                    const std::function<void(double)>& progress) {
  AudioWriter writer(path, write_options(stimulus));
  const auto channels = static_cast<std::size_t>(stimulus.recipe().channel_count);
  std::vector<double> one, block;
  double highest = 0, between = 0;
  for (std::int64_t start = 0; start < stimulus.frames(); start += kBlockFrames) {
    const auto count = static_cast<std::size_t>(std::min(kBlockFrames, stimulus.frames() - start));
    one.resize(count + 2 * kBetweenReach);
    block.resize(count * channels);
    for (std::size_t c = 0; c < channels; ++c) {
      stimulus.render(start - static_cast<std::int64_t>(kBetweenReach), static_cast<int>(c), one);
      for (std::size_t n = 0; n < count; ++n) block[n * channels + c] = one[n + kBetweenReach];
      if (peak(one) > kLoud) between = std::max(between, highest_between(one).first);
    }
    highest = std::max(highest, peak(block));
    writer.write(block);
    if (progress) progress(static_cast<double>(start) / static_cast<double>(stimulus.frames()));
  }
  writer.finish();
  return {level(highest), level(std::max(highest, between)), writer.clipped()};
}

}  // namespace wavicon
