#include "stimulus_file.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <vector>

#include "commands.hpp"
#include "wavicon/audio/between_samples.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon::cli {
namespace {

constexpr std::int64_t kBlockFrames = 8192;

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

// The highest magnitude, at the samples and between them.
struct Highest {
  double sample = 0;
  double between = 0;
};

// Renders into the writer.
Highest write_blocks(const std::string& file, Stimulus& stimulus, AudioWriter& writer, bool quiet) {
  Progress progress("make " + file, quiet);
  const auto channels = static_cast<std::size_t>(stimulus.recipe().channel_count);
  std::vector<double> one, block;
  constexpr double kLoud = 0.7;  // what lies below does not exceed full scale between its samples
  Highest highest;
  for (std::int64_t start = 0; start < stimulus.frames(); start += kBlockFrames) {
    const auto count = static_cast<std::size_t>(std::min(kBlockFrames, stimulus.frames() - start));
    one.resize(count + 2 * kBetweenReach);
    block.resize(count * channels);
    for (std::size_t c = 0; c < channels; ++c) {
      stimulus.render(start - static_cast<std::int64_t>(kBetweenReach), static_cast<int>(c), one);
      for (std::size_t n = 0; n < count; ++n) block[n * channels + c] = one[n + kBetweenReach];
      if (peak(one) > kLoud) highest.between = std::max(highest.between, highest_between(one).first);
    }
    highest.sample = std::max(highest.sample, peak(block));
    writer.write(block);
    progress(static_cast<double>(start) / static_cast<double>(stimulus.frames()));
  }
  writer.finish();
  return highest;
}

std::string summary(const Stimulus& stimulus) {
  const Recipe& r = stimulus.recipe();
  std::string what = fmt::format("{} parts", stimulus.parts().size());
  if (stimulus.parts().size() == 1) what = stimulus.parts()[0].name;
  if (const auto* tone = std::get_if<Tone>(&r.parts[0].kind); tone != nullptr && r.parts.size() == 1)
    what = fmt::format("{:.10g} Hz at {:g} dBFS", tone->frequency_hz, tone->level_dbfs);
  const double whole_s = static_cast<double>(stimulus.frames()) / r.sample_rate_hz;
  std::string length = fmt::format("{:.6g} s", whole_s);
  if (stimulus.marks()) {
    std::int64_t end = 0;
    for (const PlacedPart& part : stimulus.parts()) end = std::max(end, part.first_frame + part.frames);
    length =
        fmt::format("{:.6g} s between marks ({:.6g} s in all)",
                    static_cast<double>(end - stimulus.parts()[0].first_frame) / r.sample_rate_hz, whole_s);
  }
  return fmt::format("{}, {}, {:g} Hz, {} channel{}, {}{}", what, length, r.sample_rate_hz, r.channel_count,
                     r.channel_count == 1 ? "" : "s",
                     r.bits == 32 ? "32-bit float" : fmt::format("{}-bit", r.bits),
                     r.dither ? fmt::format(", TPDF dither (seed {})", r.seed) : "");
}

}  // namespace

void write_stimulus(const Recipe& recipe, const std::string& file, bool quiet) {
  Stimulus stimulus(recipe);
  AudioWriter writer(file, write_options(stimulus));
  const Highest highest = write_blocks(file, stimulus, writer, quiet);
  const double true_peak_db = db_from_ratio(std::max(highest.sample, highest.between));
  say(quiet, fmt::format("{}: {}", file, summary(stimulus)));
  if (writer.clipped().count > 0)
    warn(quiet,
         fmt::format("the parts add up to {:+.2f} dBFS ({:+.2f} dBTP): {} samples were clipped by the {}-bit "
                     "format, first at {:.6f} s; lower "
                     "them with --pad {:.1f}, or write 32-bit float with --bits 32",
                     db_from_ratio(highest.sample), true_peak_db, writer.clipped().count, recipe.bits,
                     static_cast<double>(writer.clipped().first_frame) / recipe.sample_rate_hz,
                     -true_peak_db - 0.1));
  else if (recipe.bits != 32 && true_peak_db > 0.2)
    warn(quiet, fmt::format("between its samples it reaches {:+.2f} dBTP: a converter clips there; lower it "
                            "with --pad {:.1f}",
                            true_peak_db, -true_peak_db - 0.1));
}

}  // namespace wavicon::cli
