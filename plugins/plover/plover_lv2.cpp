// SPDX-License-Identifier: MIT
// Plover as an LV2 plugin: ports in, ports out, the arithmetic is src/path/plover.cpp.

#include "path/plover.hpp"

#include "lv2_stand_in.hpp"

namespace {

enum Port : std::uint32_t {
  kIn,
  kOut,
  kThreshold,
  kRatio,
  kKnee,
  kAttack,
  kRelease,
  kRelease2,
  kDetector,
  kMakeup,
  kCount
};

struct Design {
  using Arithmetic = wavicon::stand_in::Plover;
  using Settings = wavicon::stand_in::PloverSettings;
  static constexpr const char* kUri = "urn:saltmarsh:plover";
  static constexpr std::uint32_t kPortCount = kCount, kLatency = 0;

  static Settings settings(const std::array<float*, kCount>& ports) {
    return {*ports[kThreshold], *ports[kRatio],    *ports[kKnee],         *ports[kAttack],
            *ports[kRelease],   *ports[kRelease2], *ports[kDetector] > 0, *ports[kMakeup]};
  }
};

}  // namespace

LV2_SYMBOL_EXPORT const LV2_Descriptor* lv2_descriptor(std::uint32_t index) {
  return wavicon::plugins::Plugin<Design>::descriptor(index);
}
