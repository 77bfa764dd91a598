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

}  // namespace wavicon
