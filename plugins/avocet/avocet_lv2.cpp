// SPDX-License-Identifier: MIT
// Avocet as an LV2 plugin: ports in, ports out, the arithmetic is src/path/avocet.cpp.

#include "path/avocet.hpp"

#include "lv2_stand_in.hpp"

namespace {

enum Port : std::uint32_t {
  kIn,
  kOut,
  kCut,
  kCutHz,
  kBell,
  kBellHz,
  kQ,
  kShelf,
  kShelfHz,
  kLevel,
  kLift,
  kCount
};

struct Design {
  using Arithmetic = wavicon::stand_in::Avocet;
  using Settings = wavicon::stand_in::AvocetSettings;
  static constexpr const char* kUri = "urn:saltmarsh:avocet";
  static constexpr std::uint32_t kPortCount = kCount, kLatency = 0;

  static Settings settings(const std::array<float*, kCount>& ports) {
    return {static_cast<int>(*ports[kCut]),
            *ports[kCutHz],
            *ports[kBell],
            *ports[kBellHz],
            *ports[kQ],
            *ports[kShelf],
            *ports[kShelfHz],
            *ports[kLevel],
            *ports[kLift]};
  }
};

}  // namespace

LV2_SYMBOL_EXPORT const LV2_Descriptor* lv2_descriptor(std::uint32_t index) {
  return wavicon::plugins::Plugin<Design>::descriptor(index);
}
