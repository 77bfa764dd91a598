// SPDX-License-Identifier: MIT
#include "stimulus_file.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <vector>

#include "commands.hpp"
#include "wavicon/file/stimulus_file.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon::cli {
namespace {

constexpr double kSilentDb = -400;  // stands for the level of silence
constexpr double kRoomDb = 0.1;     // left below full scale when a pad is proposed
constexpr double kOverDb = 0.2;     // over full scale between samples from which a converter is in danger

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
  Progress progress("make " + file, quiet);
  const WrittenStimulus written = write_stimulus_file(file, stimulus, [&](double part) { progress(part); });
  const double true_peak_db = written.true_peak_dbtp.value_or(kSilentDb);
  say(quiet, fmt::format("{}: {}", file, summary(stimulus)));
  if (written.clipped.count > 0)
    warn(quiet,
         fmt::format(
             "the parts add up to {:+.2f} dBFS ({:+.2f} dBTP): {} samples were clipped by the {}-bit format, "
             "first at {:.6f} s; lower them with --pad {:.1f}, or write 32-bit float with --bits 32",
             written.peak_dbfs.value_or(kSilentDb), true_peak_db, written.clipped.count, recipe.bits,
             static_cast<double>(written.clipped.first_frame) / recipe.sample_rate_hz,
             -true_peak_db - kRoomDb));
  else if (recipe.bits != 32 && true_peak_db > kOverDb)
    warn(quiet, fmt::format("between its samples it reaches {:+.2f} dBTP: a converter clips there; lower it "
                            "with --pad {:.1f}",
                            true_peak_db, -true_peak_db - kRoomDb));
}

}  // namespace wavicon::cli
