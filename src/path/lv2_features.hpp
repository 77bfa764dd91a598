// SPDX-License-Identifier: MIT
#pragma once
// What a host owes an LV2 plugin: numbers for URIs, options, block lengths, a worker. Internal to `path`.

#include <lv2/atom/atom.h>
#include <lv2/core/lv2.h>
#include <lv2/options/options.h>
#include <lv2/urid/urid.h>
#include <lv2/worker/worker.h>

#include <array>
#include <cstdint>
#include <map>
#include <string>
#include <vector>

namespace wavicon::path_detail {

/// URIs this host can meet when a plugin requires them; `block_frames` decides about powers of two.
[[nodiscard]] bool meets_feature(const std::string& uri, int block_frames);

/// Numbers for URIs, from 1.
class UridMap {
 public:
  UridMap();
  UridMap(const UridMap&) = delete;
  UridMap& operator=(const UridMap&) = delete;
  LV2_URID map(const char* uri);
  const char* unmap(LV2_URID urid) const;
  [[nodiscard]] const LV2_Feature* map_feature() const { return &map_feature_; }
  [[nodiscard]] const LV2_Feature* unmap_feature() const { return &unmap_feature_; }

 private:
  std::map<std::string, LV2_URID> numbers_;
  std::vector<const char*> uris_;
  LV2_URID_Map map_{};
  LV2_URID_Unmap unmap_{};
  LV2_Feature map_feature_{};
  LV2_Feature unmap_feature_{};
};

/// Work that a plugin hands away from its audio thread. Nothing here runs in real time, so it is done at
/// once, and the answers are delivered after the run, as the specification asks.
class Worker {
 public:
  Worker();
  Worker(const Worker&) = delete;
  Worker& operator=(const Worker&) = delete;
  [[nodiscard]] const LV2_Feature* feature() const { return &feature_; }
  /// The plugin's side, once it is instantiated; null when it has none.
  void attach(LV2_Handle plugin, const LV2_Worker_Interface* interface);
  void deliver();

 private:
  static LV2_Worker_Status schedule(LV2_Worker_Schedule_Handle self, std::uint32_t size, const void* data);
  static LV2_Worker_Status respond(LV2_Worker_Respond_Handle self, std::uint32_t size, const void* data);

  LV2_Worker_Schedule schedule_{};
  LV2_Feature feature_{};
  LV2_Handle plugin_ = nullptr;
  const LV2_Worker_Interface* interface_ = nullptr;
  std::vector<std::vector<std::uint8_t>> early_;  ///< work asked for before the plugin was attached
  std::vector<std::vector<std::uint8_t>> answers_;
};

/// The feature array for one instance; outlives it.
class Features {
 public:
  Features(UridMap& urids, double sample_rate_hz, int block_frames);
  Features(const Features&) = delete;
  Features& operator=(const Features&) = delete;
  [[nodiscard]] const LV2_Feature* const* array() const { return list_.data(); }
  Worker& worker() { return worker_; }

 private:
  std::int32_t block_frames_;
  std::int32_t sequence_bytes_;
  float sample_rate_hz_;
  std::array<LV2_Options_Option, 6> options_{};
  LV2_Feature options_feature_{};
  LV2_Feature bounded_{};
  LV2_Feature fixed_{};
  LV2_Feature power_of_two_{};
  LV2_Feature default_state_{};
  LV2_Feature restore_{};
  Worker worker_;
  std::vector<const LV2_Feature*> list_;
};

inline constexpr std::int32_t kSequenceBytes = 65536;  ///< of each event buffer

}  // namespace wavicon::path_detail
