// SPDX-License-Identifier: MIT
#include "wavicon/measure/common/calibration.hpp"

#include <fmt/format.h>

#include <cmath>
#include <cstdlib>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"

namespace wavicon {

double full_scale_vrms(const std::string& text) {
  const std::string start = "0dBFS=";
  if (text.rfind(start, 0) == 0) {
    const char* number = text.c_str() + start.size();
    char* end = nullptr;
    const double value = std::strtod(number, &end);
    const std::string unit = end;
    if (end != number && std::isfinite(value)) {
      if (unit == "Vrms" && value > 0) return value;
      if (unit == "mVrms" && value > 0) return value / 1000;
      if (unit == "dBu") return kVoltsAt0Dbu * ratio_from_db(value);
    }
  }
  throw Error(
      ErrorCode::bad_argument,
      fmt::format("calibration '{}': write what a full-scale sine is, as 0dBFS=2.45Vrms, 0dBFS=850mVrms or "
                  "0dBFS=18dBu",
                  text));
}

double level_dbfs_of(const std::string& text, const std::optional<double>& vrms_at_full_scale) {
  char* end = nullptr;
  const double value = std::strtod(text.c_str(), &end);
  const std::string unit = end;
  const bool number = end != text.c_str() && std::isfinite(value);
  if (number && (unit.empty() || unit == "dBFS")) return value;
  std::optional<double> volts;
  if (number && value > 0 && (unit == "V" || unit == "Vrms")) volts = value;
  if (number && value > 0 && (unit == "mV" || unit == "mVrms")) volts = value / 1000;
  if (number && unit == "dBu") volts = kVoltsAt0Dbu * ratio_from_db(value);
  if (number && unit == "dBV") volts = ratio_from_db(value);
  if (!volts)
    throw Error(ErrorCode::bad_argument,
                fmt::format("level '{}': write it as -20, -20dBFS, 4V, 50mV, 4dBu or -10dBV", text));
  if (!vrms_at_full_scale)
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("level '{}' is in volts: say what full scale is, with --calibrate 0dBFS=2.45Vrms", text));
  return db_from_ratio(*volts / *vrms_at_full_scale);
}

}  // namespace wavicon
