// SPDX-License-Identifier: MIT
#include "measure/common/loudness_histogram.hpp"

#include <cmath>
#include <map>

namespace wavicon::measure_detail {

constexpr double kGateLufs = -70;  // ITU-R BS.1770, absolute gate

Curve loudness_histogram(const std::string& name, const std::vector<double>& momentary_lufs) {
  std::map<int, int> counts;
  int count = 0;
  for (const double lufs : momentary_lufs)
    if (std::isfinite(lufs) && lufs > kGateLufs) {
      ++counts[static_cast<int>(std::lround(lufs))];
      ++count;
    }
  Curve curve{name, std::nullopt, "LUFS", "%", {}, {}};
  if (count == 0) return curve;
  for (int lufs = counts.begin()->first; lufs <= counts.rbegin()->first; ++lufs) {
    curve.x.push_back(lufs);
    curve.y.push_back(100.0 * counts[lufs] / count);
  }
  return curve;
}

}  // namespace wavicon::measure_detail
