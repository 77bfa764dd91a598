// SPDX-License-Identifier: MIT
// LV2 plugins that do what no plugin should, each named after it: they behave for two blocks, and then no
// longer.

#include <lv2/core/lv2.h>

#include <array>
#include <cmath>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <stdexcept>
#include <string>
#include <vector>

namespace {

struct Instance {
  std::string name;
  std::array<float*, 2> ports{};
  int blocks = 0;
};

std::vector<std::vector<char>> hoard;

LV2_Handle instantiate(const LV2_Descriptor* descriptor, double, const char*, const LV2_Feature* const*) {
  auto* self = new Instance{std::string(descriptor->URI).substr(std::strlen("urn:wavicon-hostile:"))};
  if (self->name == "crashes-at-start") std::raise(SIGSEGV);
  std::printf("chatter that nobody asked for\n");
  return self;
}

void connect_port(LV2_Handle handle, std::uint32_t port, void* data) {
  if (port < 2) static_cast<Instance*>(handle)->ports[port] = static_cast<float*>(data);
}

void misbehave(const Instance& self, std::uint32_t frames) {
  float* out = self.ports[1];
  if (self.name == "crashes") *static_cast<volatile int*>(nullptr) = 1;
  if (self.name == "aborts") std::abort();
  if (self.name == "exits") std::exit(0);
  if (self.name == "throws") throw std::runtime_error("out of ideas");
  if (self.name == "divides-by-zero") std::raise(SIGFPE);
  if (self.name == "writes-infinity") out[3] = INFINITY;
  if (self.name == "writes-beyond")
    for (std::uint32_t n = 0; n < 8; ++n) out[frames + n] = 1;
  if (self.name == "writes-before")
    for (int n = 1; n < 8; ++n) out[-n] = 1;
  while (self.name == "takes-all-memory") hoard.emplace_back(64U << 20U, '1');
  for (volatile bool always = true; self.name == "hangs" && always;) continue;
}

void run(LV2_Handle handle, std::uint32_t frames) {
  auto& self = *static_cast<Instance*>(handle);
  std::memcpy(self.ports[1], self.ports[0], frames * sizeof(float));
  if (++self.blocks > 2) misbehave(self, frames);
}

void cleanup(LV2_Handle handle) { delete static_cast<Instance*>(handle); }

constexpr std::array kUris = {"urn:wavicon-hostile:crashes",         "urn:wavicon-hostile:aborts",
                              "urn:wavicon-hostile:hangs",           "urn:wavicon-hostile:exits",
                              "urn:wavicon-hostile:throws",          "urn:wavicon-hostile:takes-all-memory",
                              "urn:wavicon-hostile:writes-infinity", "urn:wavicon-hostile:writes-beyond",
                              "urn:wavicon-hostile:writes-before",   "urn:wavicon-hostile:crashes-at-start",
                              "urn:wavicon-hostile:divides-by-zero"};

}  // namespace

extern "C" LV2_SYMBOL_EXPORT const LV2_Descriptor* lv2_descriptor(std::uint32_t index) {
  static std::array<LV2_Descriptor, kUris.size()> descriptors;
  if (index >= kUris.size()) return nullptr;
  descriptors[index] = {kUris[index], instantiate, connect_port, nullptr, run, nullptr, cleanup, nullptr};
  return &descriptors[index];
}
