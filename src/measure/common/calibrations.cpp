// SPDX-License-Identifier: MIT
#include "measure/common/calibrations.hpp"

#include <fmt/format.h>

#include "wavicon/audio/error.hpp"
#include "wavicon/measure/common/calibration.hpp"

namespace wavicon::measure_detail {

OptionField Calibrations::field() {
  return {.key = "calibrate",
          .target = &texts_,
          .sentence =
              "what a full-scale sine is: 0dBFS=2.45Vrms, 0dBFS=18dBu; of all captures, or one for "
              "each"};
}

void Calibrations::check(const MeasureRequest& request) const {
  for (const std::string& text : texts_) (void)full_scale_vrms(text);
  if (texts_.size() > 1 && texts_.size() != request.capture_count)
    throw Error(ErrorCode::bad_argument,
                fmt::format("{} calibrations for {} capture{}: give one for all, or one for each",
                            texts_.size(), request.capture_count, request.capture_count == 1 ? "" : "s"));
}

std::optional<double> Calibrations::full_scale_vrms_of(std::size_t capture) const {
  if (texts_.empty()) return std::nullopt;
  return full_scale_vrms(texts_.size() == 1 ? texts_[0] : texts_.at(capture));
}

}  // namespace wavicon::measure_detail
