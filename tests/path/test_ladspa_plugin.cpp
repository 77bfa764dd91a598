// SPDX-License-Identifier: MIT
// LADSPA plugins of known behaviour: a gain with every kind of hint, a delay that reports itself, and one
// without outputs.

#include <ladspa.h>

#include <array>
#include <cstdlib>

namespace {

struct Instance {
  std::array<float*, 8> ports{};
  std::array<float, 64> past{};
  unsigned long at = 0;
  unsigned long rate = 0;
};

LADSPA_Handle instantiate(const LADSPA_Descriptor*, unsigned long rate) {
  auto* self = new Instance;
  self->rate = rate;
  return self;
}
void connect_port(LADSPA_Handle handle, unsigned long port, LADSPA_Data* data) {
  static_cast<Instance*>(handle)->ports.at(port) = data;
}
// in, out, gain, corner, on, count: out = gain·in when on and the corner is that of the rate.
void run_gain(LADSPA_Handle handle, unsigned long frames) {
  const auto& self = *static_cast<Instance*>(handle);
  const bool good = *self.ports[4] > 0 && *self.ports[3] <= 0.5F * static_cast<float>(self.rate);
  for (unsigned long n = 0; n < frames; ++n)
    self.ports[1][n] = good ? *self.ports[2] * self.ports[0][n] + *self.ports[5] : 0;
}
// in, out, latency
void run_late(LADSPA_Handle handle, unsigned long frames) {
  auto& self = *static_cast<Instance*>(handle);
  for (unsigned long n = 0; n < frames; ++n) {
    float& slot = self.past.at(self.at++ % self.past.size());
    self.ports[1][n] = slot;
    slot = self.ports[0][n];
  }
  *self.ports[2] = static_cast<float>(self.past.size());
}
void run_nothing(LADSPA_Handle, unsigned long) {}
void cleanup(LADSPA_Handle handle) { delete static_cast<Instance*>(handle); }

constexpr int kIn = LADSPA_PORT_INPUT | LADSPA_PORT_AUDIO, kOut = LADSPA_PORT_OUTPUT | LADSPA_PORT_AUDIO,
              kSet = LADSPA_PORT_INPUT | LADSPA_PORT_CONTROL,
              kTell = LADSPA_PORT_OUTPUT | LADSPA_PORT_CONTROL;
constexpr int kBounds = LADSPA_HINT_BOUNDED_BELOW | LADSPA_HINT_BOUNDED_ABOVE;

const LADSPA_PortDescriptor kGainPorts[] = {kIn, kOut, kSet, kSet, kSet, kSet};
const char* const kGainNames[] = {"Input", "Output", "Gain", "Corner (Hz)", "On", "Count"};
const LADSPA_PortRangeHint kGainHints[] = {
    {0, 0, 0},
    {0, 0, 0},
    {kBounds | LADSPA_HINT_DEFAULT_1, 0, 4},
    {kBounds | LADSPA_HINT_SAMPLE_RATE | LADSPA_HINT_LOGARITHMIC | LADSPA_HINT_DEFAULT_MIDDLE, 0.001F, 0.5F},
    {LADSPA_HINT_TOGGLED | LADSPA_HINT_DEFAULT_1, 0, 0},
    {kBounds | LADSPA_HINT_INTEGER | LADSPA_HINT_DEFAULT_MINIMUM, 0, 3}};
const LADSPA_PortDescriptor kLatePorts[] = {kIn, kOut, kTell};
const char* const kLateNames[] = {"Input", "Output", "latency"};
const LADSPA_PortRangeHint kLateHints[] = {{0, 0, 0}, {0, 0, 0}, {0, 0, 0}};
const LADSPA_PortDescriptor kDeafPorts[] = {kIn};
const char* const kDeafNames[] = {"Input"};

const LADSPA_Descriptor kPlugins[] = {
    {9001, "gain", LADSPA_PROPERTY_HARD_RT_CAPABLE, "A gain", "Wavicon's tests", "none", 6, kGainPorts,
     kGainNames, kGainHints, nullptr, instantiate, connect_port, nullptr, run_gain, nullptr, nullptr, nullptr,
     cleanup},
    {9002, "late", 0, "A delay of 64 samples", "Wavicon's tests", "none", 3, kLatePorts, kLateNames,
     kLateHints, nullptr, instantiate, connect_port, nullptr, run_late, nullptr, nullptr, nullptr, cleanup},
    {9003, "deaf", 0, "Nothing comes out", "Wavicon's tests", "none", 1, kDeafPorts, kDeafNames, kLateHints,
     nullptr, instantiate, connect_port, nullptr, run_nothing, nullptr, nullptr, nullptr, cleanup}};

}  // namespace

extern "C" __attribute__((visibility("default"))) const LADSPA_Descriptor* ladspa_descriptor(
    unsigned long index) {
  return index < 3 ? &kPlugins[index] : nullptr;
}
