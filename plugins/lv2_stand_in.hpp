// SPDX-License-Identifier: MIT
#pragma once
// A stand-in's arithmetic as an LV2 plugin of one channel: port 0 is the input, port 1 the output, the rest
// are controls.
//
// Design says: `Arithmetic`; `Settings` with ==; `kUri`; `kPortCount`; `kLatency`, the port that reports
// latency (0: none); settings(ports).

#include <lv2/core/lv2.h>

#include <array>
#include <cstdint>
#include <new>
#include <optional>

namespace wavicon::plugins {

template <typename Design>
class Plugin {
 public:
  using Ports = std::array<float*, Design::kPortCount>;

  static const LV2_Descriptor* descriptor(std::uint32_t index) {
    static const LV2_Descriptor kDescriptor = {Design::kUri, instantiate, connect, nullptr,
                                               run,          nullptr,     cleanup, nullptr};
    return index == 0 ? &kDescriptor : nullptr;
  }

 private:
  explicit Plugin(double rate) : arithmetic_({}, rate) {}

  static LV2_Handle instantiate(const LV2_Descriptor*, double rate, const char*, const LV2_Feature* const*) {
    try {
      return new Plugin(rate);
    } catch (const std::bad_alloc&) {
      return nullptr;
    }
  }
  static void connect(LV2_Handle handle, std::uint32_t port, void* data) {
    if (port < Design::kPortCount) static_cast<Plugin*>(handle)->ports_[port] = static_cast<float*>(data);
  }
  static void run(LV2_Handle handle, std::uint32_t frames) {
    auto& plugin = *static_cast<Plugin*>(handle);
    const auto settings = Design::settings(plugin.ports_);
    // Some settings allocate when they change: a stand-in may, as its hosts render off line.
    if (plugin.settings_ != settings) {
      plugin.arithmetic_.set(settings);
      plugin.settings_ = settings;
    }
    plugin.arithmetic_.run(plugin.ports_[0], plugin.ports_[1], static_cast<int>(frames));
    if constexpr (Design::kLatency != 0)
      *plugin.ports_[Design::kLatency] = static_cast<float>(plugin.arithmetic_.latency_frames());
  }
  static void cleanup(LV2_Handle handle) { delete static_cast<Plugin*>(handle); }

  Ports ports_{};
  typename Design::Arithmetic arithmetic_;
  std::optional<typename Design::Settings> settings_;
};

}  // namespace wavicon::plugins
