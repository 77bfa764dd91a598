// SPDX-License-Identifier: MIT
#pragma once
// What counts as 0 dB of an RMS level.

#include <string>

namespace wavicon {

/// `square` full scale = 1 (a full-scale sine reads -3.01 dBFS), `sine` a full-scale sine reads 0.
enum class RmsReference { square, sine };

/// What is added to 20·log10 of an RMS value.
[[nodiscard]] inline double rms_reference_db(RmsReference reference) {
  return reference == RmsReference::sine ? 3.0102999566398120 : 0.0;
}
/// The word in conditions: "square", "sine".
[[nodiscard]] inline std::string name_of(RmsReference reference) {
  return reference == RmsReference::sine ? "sine" : "square";
}

}  // namespace wavicon
