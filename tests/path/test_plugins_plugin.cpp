// SPDX-License-Identifier: MIT
// LV2 plugins of known behaviour and known fault, each named after it.

#include <lv2/atom/atom.h>
#include <lv2/buf-size/buf-size.h>
#include <lv2/core/lv2.h>
#include <lv2/options/options.h>
#include <lv2/state/state.h>
#include <lv2/urid/urid.h>
#include <lv2/worker/worker.h>

#include <array>
#include <chrono>
#include <cmath>
#include <cstring>
#include <string>
#include <thread>
#include <vector>

namespace {

struct Instance {
  std::string name;
  std::array<float*, 8> ports{};
  std::vector<float> delay;
  std::uint64_t frame = 0;
  const LV2_Worker_Schedule* schedule = nullptr;
  std::int32_t longest_block = 0;
  float worked = 0;
  float offset = 0;
  const LV2_URID_Map* map = nullptr;
};

const void* feature(const LV2_Feature* const* features, const char* uri) {
  for (; *features != nullptr; ++features)
    if (std::strcmp((*features)->URI, uri) == 0) return (*features)->data;
  return nullptr;
}

std::int32_t longest_block(const LV2_Feature* const* features) {
  const auto* map = static_cast<const LV2_URID_Map*>(feature(features, LV2_URID__map));
  const auto* option = static_cast<const LV2_Options_Option*>(feature(features, LV2_OPTIONS__options));
  if (map == nullptr || option == nullptr) return 0;
  const LV2_URID wanted = map->map(map->handle, LV2_BUF_SIZE__maxBlockLength);
  for (; option->key != 0; ++option)
    if (option->key == wanted) return *static_cast<const std::int32_t*>(option->value);
  return 0;
}

LV2_Handle instantiate(const LV2_Descriptor* descriptor, double, const char*,
                       const LV2_Feature* const* features) {
  auto* self = new Instance{std::string(descriptor->URI).substr(std::strlen("urn:wavicon-test:"))};
  if (self->name == "refuses-to-start") {
    delete self;
    return nullptr;
  }
  self->delay.assign(100, 0.0F);
  self->schedule = static_cast<const LV2_Worker_Schedule*>(feature(features, LV2_WORKER__schedule));
  self->longest_block = longest_block(features);
  self->map = static_cast<const LV2_URID_Map*>(feature(features, LV2_URID__map));
  return self;
}

void connect_port(LV2_Handle handle, std::uint32_t port, void* data) {
  auto& ports = static_cast<Instance*>(handle)->ports;
  if (port < ports.size()) ports[port] = static_cast<float*>(data);
}

void run_late(Instance& self, std::uint32_t frames) {
  for (std::uint32_t n = 0; n < frames; ++n) {
    float& slot = self.delay[self.frame++ % self.delay.size()];
    self.ports[1][n] = slot;
    slot = self.ports[0][n];
  }
  *self.ports[2] = self.name == "moody" && self.frame > 2000 ? 99.0F : 100.0F;
}

// Puts out twice its input once the work that it asked for in its first run was answered; 0 when the host
// owes it something.
void run_work(Instance& self, std::uint32_t frames) {
  const auto* events = reinterpret_cast<const LV2_Atom_Sequence*>(self.ports[2]);
  const auto* notes = reinterpret_cast<const LV2_Atom*>(self.ports[3]);
  const bool owed = self.schedule == nullptr || self.longest_block != static_cast<std::int32_t>(frames) ||
                    events->atom.size != sizeof(LV2_Atom_Sequence_Body) || notes->size < 1024 ||
                    self.ports[4][frames - 1] != 0.0F;
  const float asked = 2.0F;
  if (self.frame == 0 && self.schedule != nullptr)
    self.schedule->schedule_work(self.schedule->handle, sizeof asked, &asked);
  for (std::uint32_t n = 0; n < frames; ++n) self.ports[1][n] = owed ? 0.0F : self.worked * self.ports[0][n];
  self.frame += frames;
  *self.ports[5] = self.worked;
}

void run(LV2_Handle handle, std::uint32_t frames) {
  auto& self = *static_cast<Instance*>(handle);
  const auto& p = self.ports;
  if (self.name == "late" || self.name == "moody") return run_late(self, frames);
  if (self.name == "slow") std::this_thread::sleep_for(std::chrono::milliseconds(25));
  if (self.name == "asks-for-work") return run_work(self, frames);
  for (std::uint32_t n = 0; n < frames; ++n) {
    if (self.name == "mono-to-stereo") {
      p[1][n] = p[0][n];
      p[2][n] = -p[0][n];
    } else if (self.name == "stereo-to-mono") {
      p[2][n] = p[0][n] + p[1][n];
    } else if (self.name == "swaps") {
      p[2][n] = p[1][n];
      p[3][n] = p[0][n];
    } else if (self.name == "writes-nan") {
      p[1][n] = self.frame++ == 1000 ? NAN : p[0][n];
    } else if (self.name == "keeps-state") {
      p[1][n] = *p[3] > 0 ? *p[2] * p[0][n] + self.offset : p[0][n];
    } else if (self.name == "keyed") {
      p[1][n] = p[0][n] + p[2][n];
    } else if (self.name == "odd-default") {
      p[1][n] = *p[3] > 0 || *p[2] > 20 ? NAN : *p[2] * p[0][n];
    } else if (self.name == "slow") {
      p[1][n] = p[0][n];
    } else if (self.name == "panel") {
      p[1][n] = *p[3] > 0 ? p[0][n] * std::pow(10.0F, *p[2] / 20) + *p[4] + p[7][n] : 0.0F;
    }
  }
}

LV2_Worker_Status work(LV2_Handle, LV2_Worker_Respond_Function respond, LV2_Worker_Respond_Handle handle,
                       std::uint32_t size, const void* data) {
  return respond(handle, size, data);
}

LV2_Worker_Status work_response(LV2_Handle handle, std::uint32_t, const void* body) {
  std::memcpy(&static_cast<Instance*>(handle)->worked, body, sizeof(float));
  return LV2_WORKER_SUCCESS;
}

LV2_State_Status save(LV2_Handle, LV2_State_Store_Function, LV2_State_Handle, std::uint32_t,
                      const LV2_Feature* const*) {
  return LV2_STATE_SUCCESS;
}

LV2_State_Status restore(LV2_Handle handle, LV2_State_Retrieve_Function retrieve, LV2_State_Handle state,
                         std::uint32_t, const LV2_Feature* const*) {
  auto& self = *static_cast<Instance*>(handle);
  std::size_t size = 0;
  std::uint32_t type = 0, flags = 0;
  const void* value =
      retrieve(state, self.map->map(self.map->handle, "urn:wavicon-test:offset"), &size, &type, &flags);
  if (value != nullptr && size == sizeof(float)) std::memcpy(&self.offset, value, sizeof(float));
  return LV2_STATE_SUCCESS;
}

const void* extension_data(const char* uri) {
  static const LV2_State_Interface kState = {save, restore};
  if (std::strcmp(uri, LV2_STATE__interface) == 0) return &kState;
  static const LV2_Worker_Interface kWorker = {work, work_response, nullptr};
  return std::strcmp(uri, LV2_WORKER__interface) == 0 ? &kWorker : nullptr;
}

void cleanup(LV2_Handle handle) { delete static_cast<Instance*>(handle); }

constexpr std::array kUris = {"urn:wavicon-test:mono-to-stereo",
                              "urn:wavicon-test:stereo-to-mono",
                              "urn:wavicon-test:swaps",
                              "urn:wavicon-test:late",
                              "urn:wavicon-test:moody",
                              "urn:wavicon-test:writes-nan",
                              "urn:wavicon-test:refuses-to-start",
                              "urn:wavicon-test:needs-the-moon",
                              "urn:wavicon-test:asks-for-work",
                              "urn:wavicon-test:panel",
                              "urn:wavicon-test:keeps-state",
                              "urn:wavicon-test:keyed",
                              "urn:wavicon-test:odd-default",
                              "urn:wavicon-test:slow"};

}  // namespace

extern "C" LV2_SYMBOL_EXPORT const LV2_Descriptor* lv2_descriptor(std::uint32_t index) {
  static std::array<LV2_Descriptor, kUris.size()> descriptors;
  if (index >= kUris.size()) return nullptr;
  descriptors[index] = {kUris[index], instantiate, connect_port, nullptr,
                        run,          nullptr,     cleanup,      extension_data};
  return &descriptors[index];
}
