// SPDX-License-Identifier: MIT
// Tern as an LV2 plugin: ports in, ports out, the arithmetic is src/path/tern.cpp.

#include "path/tern.hpp"

#include "lv2_stand_in.hpp"

namespace {

enum Port : std::uint32_t {
  kIn,
  kOut,
  kDrive,
  kAsymmetry,
  kOversampling,
  kOutput,
  kReportedLatency,
  kNaive,
  kCount
};

struct Design {
  using Arithmetic = wavicon::stand_in::Tern;
  using Settings = wavicon::stand_in::TernSettings;
  static constexpr const char* kUri = "urn:saltmarsh:tern";
  static constexpr std::uint32_t kPortCount = kCount, kLatency = kReportedLatency;

  // Any oversampling between the steps counts as the step below.
  static Settings settings(const std::array<float*, kCount>& ports) {
    int oversampling = 1;
    while (oversampling < 16 && 2 * oversampling <= static_cast<int>(*ports[kOversampling]))
      oversampling *= 2;
    return {*ports[kDrive], *ports[kAsymmetry], oversampling, *ports[kOutput], *ports[kNaive] > 0};
  }
};

}  // namespace

LV2_SYMBOL_EXPORT const LV2_Descriptor* lv2_descriptor(std::uint32_t index) {
  return wavicon::plugins::Plugin<Design>::descriptor(index);
}
