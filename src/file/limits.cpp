// SPDX-License-Identifier: MIT
#include "wavicon/file/limits.hpp"

#include <fmt/format.h>

#include "wavicon/stimulus/parts.hpp"

namespace wavicon {
namespace {

std::string bytes_text(std::uint64_t bytes) {
  if (bytes % (1U << 30) == 0) return fmt::format("{} GiB", bytes >> 30U);
  if (bytes % (1U << 20) == 0) return fmt::format("{} MiB", bytes >> 20U);
  if (bytes % (1U << 10) == 0) return fmt::format("{} KiB", bytes >> 10U);
  return fmt::format("{} bytes", bytes);
}

}  // namespace

std::vector<InputLimit> input_limits() {
  const std::string refused = "refused, exit 3", mistyped = "refused, exit 2",
                    place = "refused with line and column, exit 3";
  return {
      {"sample rate of a file",
       fmt::format("{:g} Hz to {:g} kHz", kLowestCaptureRateHz, kHighestSampleRateHz / 1000), refused},
      {"sample rate of a stimulus",
       fmt::format("{:g} to {:g} kHz", kLowestSampleRateHz / 1000, kHighestSampleRateHz / 1000), place},
      {"channels", fmt::format("1 to {}", kMostChannels), refused},
      {"frames of a file", "what its length holds; the last one has to be readable",
       "a fault where a file is cut off, else refused, exit 3"},
      {"samples read into memory at once",
       fmt::format("{}, {}", kMostSamplesAtOnce,
                   bytes_text(static_cast<std::uint64_t>(kMostSamplesAtOnce) * sizeof(double))),
       "exit 3: measure a stretch with --from and --to"},
      {"chunks of a WAV or AIFF file", fmt::format("{}", kMostChunks),
       "a warning; those beyond are not read"},
      {"size of a chunk beside the sound", bytes_text(kLongestChunkBytes), "a warning; it is not read"},
      {"cue marks of a file", fmt::format("{}", kMostCues), "a warning; those beyond are not read"},
      {"label of a cue mark", bytes_text(kLongestLabelBytes), "cut"},
      {"recipe", bytes_text(kLongestRecipeBytes), refused},
      {"parts of a recipe", fmt::format("{}", kMostParts), place},
      {"oscillators of a multitone", fmt::format("{}", kMostOscillators), place},
      {"values of one list, steps of a staircase", fmt::format("{}", kMostListed), place},
      {"length of a stimulus", fmt::format("{:g} h", kLongestS / 3600), place},
      {"name of a recipe or part",
       fmt::format("{} bytes of letters, digits, spaces and . _ -", kLongestNameBytes), place},
      {"a unit as it is written", bytes_text(kLongestUnitBytes), mistyped},
      {"captures of one ladder", fmt::format("{}", kMostLadderSteps), mistyped},
      {"what is kept of LADSPA libraries", bytes_text(kLongestCacheBytes), "thrown away and asked anew"},
  };
}

std::string limits_manual() {
  std::string text =
      "# Limits\n\nWhat comes from outside (files, recipes, plugins, options) is taken within these bounds. "
      "No "
      "buffer is made larger\nthan they allow, whatever a header announces. Made by `wavicon explain "
      "--limits`.\n\n| of | bound | beyond it |\n|---|---|---|\n";
  for (const InputLimit& limit : input_limits())
    text += fmt::format("| {} | {} | {} |\n", limit.of, limit.bound, limit.beyond);
  return text;
}

}  // namespace wavicon
