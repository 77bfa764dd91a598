// Tern as an LV2 plugin: ports in, ports out, the arithmetic is src/path/tern.cpp.

#include <lv2/core/lv2.h>

#include <array>
#include <cstdint>
#include <new>

#include "path/tern.hpp"

namespace {

enum Port : std::uint32_t {
  kIn,
  kOut,
  kDrive,
  kAsymmetry,
  kOversampling,
  kOutput,
  kLatency,
  kNaive,
  kPortCount
};

struct TernPlugin {
  std::array<float*, kPortCount> ports{};
  wavicon::stand_in::Tern tern{{}};
};

// The settings as the ports hold them; any oversampling between the steps counts as the step below.
wavicon::stand_in::TernSettings settings_of(const TernPlugin& plugin) {
  int oversampling = 1;
  while (oversampling < 16 && 2 * oversampling <= static_cast<int>(*plugin.ports[kOversampling]))
    oversampling *= 2;
  return {*plugin.ports[kDrive], *plugin.ports[kAsymmetry], oversampling, *plugin.ports[kOutput],
          *plugin.ports[kNaive] > 0};
}

LV2_Handle instantiate(const LV2_Descriptor*, double, const char*, const LV2_Feature* const*) {
  try {
    return new TernPlugin;
  } catch (const std::bad_alloc&) {
    return nullptr;
  }
}

void connect_port(LV2_Handle handle, std::uint32_t port, void* data) {
  if (port < kPortCount) static_cast<TernPlugin*>(handle)->ports[port] = static_cast<float*>(data);
}

void run(LV2_Handle handle, std::uint32_t frames) {
  auto& plugin = *static_cast<TernPlugin*>(handle);
  // Changing the oversampling builds filters, which allocates: a stand-in may, as its hosts render off line.
  plugin.tern.set(settings_of(plugin));
  plugin.tern.run(plugin.ports[kIn], plugin.ports[kOut], static_cast<int>(frames));
  *plugin.ports[kLatency] = static_cast<float>(plugin.tern.latency_frames());
}

void cleanup(LV2_Handle handle) { delete static_cast<TernPlugin*>(handle); }

const LV2_Descriptor kDescriptor = {
    "urn:saltmarsh:tern", instantiate, connect_port, nullptr, run, nullptr, cleanup, nullptr};

}  // namespace

extern "C" LV2_SYMBOL_EXPORT const LV2_Descriptor* lv2_descriptor(std::uint32_t index) {
  return index == 0 ? &kDescriptor : nullptr;
}
