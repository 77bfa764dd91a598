// SPDX-License-Identifier: MIT
#pragma once
// Figures in sentences. Internal to `measure`.

#include <fmt/format.h>

#include <string>

namespace wavicon::measure_detail {

/// "743 Hz", "20.6 kHz": Hz below 1 kHz and kHz above.
[[nodiscard]] inline std::string hz_text(double hz, int significant = 3) {
  return hz >= 1000 ? fmt::format("{:.{}g} kHz", hz / 1000, significant)
                    : fmt::format("{:.{}g} Hz", hz, significant);
}

}  // namespace wavicon::measure_detail
