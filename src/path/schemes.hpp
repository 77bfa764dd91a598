// SPDX-License-Identifier: MIT
#pragma once
// The kinds of unit, each behind its scheme. Internal to `path`.

#include <memory>
#include <vector>

#include "wavicon/path/unit.hpp"

namespace wavicon::path_detail {

/// Makes the ends of a setting's range finite and puts them in order; what was wrong is added to `remarks` as
/// a sentence.
void put_range_right(SettingInfo& setting, std::vector<std::string>& remarks);
/// Makes its default a number within the range; as above.
void put_default_right(SettingInfo& setting, std::vector<std::string>& remarks);

/// Channels of one instance against those of the signal.
struct Instances {
  int count = 1;         ///< instances side by side
  bool doubled = false;  ///< one channel feeds both inputs
  int outputs = 1;       ///< channels that come out of all instances
};
/// @throws Error bad_argument when they do not fit.
[[nodiscard]] Instances fit_channels(const UnitInfo& info, int channel_count);

/// A unit that is made of instances of a plugin side by side, each run over its channels. A unit whose
/// instances refer to its own members clears them in its destructor.
template <typename Instance>
class InstancedUnit : public Unit {
 public:
  int output_channel_count() const noexcept override { return fit_.outputs; }
  void run(const float* const* inputs, float* const* outputs) override {
    for (std::size_t i = 0; i < instances_.size(); ++i)
      instances_[i]->run(inputs + i, outputs + i, fit_.doubled);
  }
  std::int64_t latency_frames() const noexcept override {
    return instances_.empty() ? 0 : instances_.front()->latency_frames();
  }

 protected:
  Instances fit_;
  std::vector<std::unique_ptr<Instance>> instances_;
};

[[nodiscard]] std::unique_ptr<Unit> open_stand_in(const UnitSpec& spec);
[[nodiscard]] std::vector<UnitListing> list_stand_ins();

[[nodiscard]] std::unique_ptr<Unit> open_lv2(const UnitSpec& spec, const UnitSearch& search);
[[nodiscard]] std::vector<UnitListing> list_lv2(const UnitSearch& search);

[[nodiscard]] std::unique_ptr<Unit> open_ladspa(const UnitSpec& spec, const UnitSearch& search);
[[nodiscard]] std::vector<UnitListing> list_ladspa(const UnitSearch& search);

}  // namespace wavicon::path_detail
