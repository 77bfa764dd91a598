// SPDX-License-Identifier: MIT
// A plugin that is sound but for the one fault that its setting chooses, each of known size.

#include <lv2/core/lv2.h>
#include <lv2/state/state.h>
#include <lv2/urid/urid.h>

#include <array>
#include <cstdint>
#include <cstdlib>
#include <cstring>
#include <mutex>
#include <vector>

namespace {

enum Fault {
  none,
  allocates,         // once a block, and gives it back
  locks,             // once a block
  counts_frames,     // half as loud in blocks of one frame
  counts_instances,  // each instance a little louder than the one before
  keeps_too_much,    // what it saves after a run makes it half as loud
  keeps_nan,         // a filter of the first order: a broken sample stays
  offset,            // 0.001 in silence
  echo,              // half as loud again 12000 frames later
  leaks,             // nine tenths come through while it is not enabled
};
enum Port { in, out, fault, enabled, ports };

constexpr std::size_t kEcho = 12000;

struct Instance {
  std::array<float*, ports> port{};
  std::vector<float> line = std::vector<float>(kEcho, 0.0F);
  std::size_t at = 0;
  float last = 0, gain = 1, own = 1;
  bool ran = false;
  std::mutex mutex;
  LV2_URID key = 0, type = 0;
};

void* volatile kept = nullptr;
int instances = 0;

LV2_Handle instantiate(const LV2_Descriptor*, double, const char*, const LV2_Feature* const* features) {
  auto* self = new Instance;
  self->own = 1.0F + 0.001F * static_cast<float>(instances++);
  for (; *features != nullptr; ++features)
    if (std::strcmp((*features)->URI, LV2_URID__map) == 0) {
      const auto* map = static_cast<const LV2_URID_Map*>((*features)->data);
      self->key = map->map(map->handle, "urn:wavicon-test:ran");
      self->type = map->map(map->handle, "http://lv2plug.in/ns/ext/atom#Float");
    }
  return self;
}

void connect_port(LV2_Handle handle, std::uint32_t port, void* data) {
  if (port < ports) static_cast<Instance*>(handle)->port[port] = static_cast<float*>(data);
}

void run(LV2_Handle handle, std::uint32_t frames) {
  auto& self = *static_cast<Instance*>(handle);
  const int what = static_cast<int>(*self.port[fault]);
  self.ran = true;
  if (what == allocates) {
    kept = std::malloc(64);
    std::free(kept);
  }
  if (what == locks) self.mutex.lock(), self.mutex.unlock();
  for (std::uint32_t n = 0; n < frames; ++n) {
    const float x = self.port[in][n];
    float y = self.gain * x;
    if (what == counts_frames && frames == 1) y *= 0.5F;
    if (what == counts_instances) y *= self.own;
    if (what == keeps_nan) y = self.last = 0.5F * self.last + x;
    if (what == offset) y += 0.001F;
    if (what == echo) {
      y += 0.5F * self.line[self.at];
      self.line[self.at] = x;
      self.at = (self.at + 1) % kEcho;
    }
    if (*self.port[enabled] <= 0) y = what == leaks ? 0.9F * x : x;
    self.port[out][n] = y;
  }
}

LV2_State_Status save(LV2_Handle handle, LV2_State_Store_Function store, LV2_State_Handle state,
                      std::uint32_t, const LV2_Feature* const*) {
  auto& self = *static_cast<Instance*>(handle);
  const float gain = self.ran && static_cast<int>(*self.port[fault]) == keeps_too_much ? 0.5F : 1.0F;
  return store(state, self.key, &gain, sizeof gain, self.type, LV2_STATE_IS_POD | LV2_STATE_IS_PORTABLE);
}

LV2_State_Status restore(LV2_Handle handle, LV2_State_Retrieve_Function retrieve, LV2_State_Handle state,
                         std::uint32_t, const LV2_Feature* const*) {
  auto& self = *static_cast<Instance*>(handle);
  std::size_t size = 0;
  std::uint32_t type = 0, flags = 0;
  const void* value = retrieve(state, self.key, &size, &type, &flags);
  if (value != nullptr && size == sizeof(float)) std::memcpy(&self.gain, value, sizeof(float));
  return LV2_STATE_SUCCESS;
}

const void* extension_data(const char* uri) {
  static const LV2_State_Interface kState = {save, restore};
  return std::strcmp(uri, LV2_STATE__interface) == 0 ? &kState : nullptr;
}

void cleanup(LV2_Handle handle) { delete static_cast<Instance*>(handle); }

}  // namespace

extern "C" LV2_SYMBOL_EXPORT const LV2_Descriptor* lv2_descriptor(std::uint32_t index) {
  static const LV2_Descriptor kPlugin = {
      "urn:wavicon-test:unsound", instantiate, connect_port, nullptr, run, nullptr, cleanup, extension_data};
  return index == 0 ? &kPlugin : nullptr;
}
