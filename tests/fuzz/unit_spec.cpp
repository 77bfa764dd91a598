// SPDX-License-Identifier: MIT
// A unit as it is written after --through, and what it then does to a block.

#include "target.hpp"
#include "wavicon/path/chain.hpp"

using namespace wavicon;

namespace {

void run(std::unique_ptr<Unit> unit) {
  std::vector<std::unique_ptr<Unit>> units;
  units.push_back(std::move(unit));
  Chain chain(std::move(units));
  chain.prepare(48000, 2, 64);
  float level = 0;
  chain.feed(
      [&](std::span<float> block) {
        for (float& x : block) x = level = -0.97F * level + 0.01F;
        return static_cast<std::int64_t>(block.size() / 2);
      },
      512, [](std::span<const float>) {});
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string text(reinterpret_cast<const char*>(data), size);
  fuzz::accepted([&] {
    const UnitSpec spec = parse_unit(text);
    // Plugins are code: what they do is no matter of reading.
    if (spec.scheme == "sim") run(open_unit(spec));
  });
  return 0;
}
