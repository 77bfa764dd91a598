// SPDX-License-Identifier: MIT
#pragma once
// What full scale is in volts, of all captures or of each. Internal to `measure`.

#include <optional>
#include <string>
#include <vector>

#include "wavicon/measure/measurement.hpp"

namespace wavicon::measure_detail {

/// The option `--calibrate`, given once for all captures or once for each.
class Calibrations {
 public:
  [[nodiscard]] OptionField field();
  /// @throws Error bad_argument for another number of them than of captures, or one that is written
  /// otherwise.
  void check(const MeasureRequest& request) const;
  [[nodiscard]] bool given() const { return !texts_.empty(); }
  /// Volts RMS of a full-scale sine; none when no calibration is given.
  [[nodiscard]] std::optional<double> full_scale_vrms_of(std::size_t capture) const;

 private:
  std::vector<std::string> texts_;
};

}  // namespace wavicon::measure_detail
