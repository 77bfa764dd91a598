// SPDX-License-Identifier: MIT
// A recipe: read, written, read again as the same; its first and last moment rendered.

#include "target.hpp"
#include "wavicon/stimulus/stimulus.hpp"

using namespace wavicon;

namespace {

constexpr double kMostSines = 4e7;  // samples times oscillators that are worth the time

double work_of(const Recipe& recipe) {
  double sines = 0;
  for (const RecipePart& part : recipe.parts) {
    const auto* multitone = std::get_if<Multitone>(&part.kind);
    sines += multitone == nullptr ? 4 : static_cast<double>(multitone->oscillators.size());
    if (const auto* noise = std::get_if<Noise>(&part.kind); noise != nullptr && noise->period_s)
      sines += 100 * *noise->period_s;  // a transform of the whole period
  }
  return sines * recipe.sample_rate_hz;
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string text(reinterpret_cast<const char*>(data), size);
  fuzz::accepted([&] {
    const Recipe recipe = parse_recipe(text, "fuzz.toml");
    const std::string written = recipe_text(recipe);
    fuzz::require(recipe_text(parse_recipe(written, "again.toml")) == written,
                  "a written recipe reads the same");
    Stimulus stimulus(recipe);
    // Long periods and hundreds of sines are slow, and no worse than short ones.
    if (work_of(recipe) > 4 * kMostSines) return;
    const double seconds = std::min(1.0, kMostSines / work_of(recipe));
    std::vector<double> out(static_cast<std::size_t>(seconds * recipe.sample_rate_hz));
    stimulus.render(0, 0, out);
    out.resize(std::min<std::size_t>(out.size(), 256));
    stimulus.render(stimulus.frames() - static_cast<std::int64_t>(out.size() / 2), recipe.channel_count - 1,
                    out);
    for (std::size_t i = out.size() / 2 + 1; i < out.size(); ++i)
      fuzz::require(out[i] == 0, "nothing sounds after the end");
  });
  return 0;
}
