// SPDX-License-Identifier: MIT
#pragma once
// What several measurements share of their options and requests. Internal to `measure`.

#include <vector>

#include "wavicon/measure/measurement.hpp"

namespace wavicon::measure_detail {

/// FROM TO in Hz; empty keeps what a measurement has by itself.
[[nodiscard]] OptionField band_field(std::vector<double>& band_hz, const char* sentence);
/// Puts a given band into a measurement's ends.
template <typename From, typename To>
void take_band(const std::vector<double>& band_hz, From& from_hz, To& to_hz) {
  if (band_hz.size() != 2) return;
  from_hz = band_hz[0];
  to_hz = band_hz[1];
}

/// A rank for measurements that take any part when it is named, and the whole otherwise.
[[nodiscard]] int only_when_named(const PartKind& kind);

/// Adds the condition `part` to every reading when there is one.
void add_part(Sheet& sheet, const std::string& part);

/// The name for a picture over several captures or one.
[[nodiscard]] const char* one_or_several(const std::vector<Sheet>& sheets, const char* one,
                                         const char* several);

}  // namespace wavicon::measure_detail
