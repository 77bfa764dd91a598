// SPDX-License-Identifier: MIT
// What a sweep cannot tell, told by stepped tones of the same capture.
#include <fmt/format.h>

#include <algorithm>
#include <iterator>
#include <utility>

#include "wavicon/measure/aliasing/aliasing.hpp"

namespace wavicon {
namespace {

bool is_of_the_worst(const Reading& r) {
  return r.name.rfind("worst_alias", 0) == 0 || r.name == "total_alias_dbc" || r.name == "alias_dbc";
}

}  // namespace

bool tells_worst(const Sheet& sheet) {
  return std::none_of(sheet.readings.begin(), sheet.readings.end(),
                      [](const Reading& r) { return r.name == "worst_alias_dbc" && r.bound; });
}

void tell_by_steps(Sheet& sweep, const Sheet& steps, const std::string& part) {
  std::vector<Finding> said;
  std::vector<int> channels;
  for (const Reading& own : sweep.readings) {
    if (own.name != "worst_alias_dbc" || !own.bound || !own.channel) continue;
    const Reading* other = find_reading(steps, own.name, *own.channel);
    if (other == nullptr || !other->value || (other->bound && *other->value >= *own.value)) continue;
    channels.push_back(*own.channel);
    said.push_back(
        {Severity::note, FindingCode::result,
         fmt::format("the sweep cannot tell (no product above {:.1f} dBc); the stepped tones '{}' of the "
                     "same capture can, at their frequencies",
                     *own.value, part),
         own.channel});
    for (const Finding& finding : steps.findings)
      if (finding.channel == own.channel && finding.code != FindingCode::detail) said.push_back(finding);
  }
  for (const int channel : channels) {
    const auto of_channel = [&](const Reading& r) { return r.channel == channel && is_of_the_worst(r); };
    // Those of the steps stand where the first of the sweep's stood.
    std::vector<Reading> merged;
    bool told = false;
    for (Reading& own : sweep.readings) {
      if (!of_channel(own)) {
        merged.push_back(std::move(own));
      } else if (!std::exchange(told, true)) {
        std::copy_if(steps.readings.begin(), steps.readings.end(), std::back_inserter(merged), of_channel);
      }
    }
    sweep.readings = std::move(merged);
    std::erase_if(sweep.findings, [&](const Finding& finding) {
      return finding.channel == channel && finding.code == FindingCode::nothing_found;
    });
    for (const Curve& curve : steps.curves)
      if (curve.channel == channel && curve.name == "worst fold-back" && !curve.x.empty()) {
        std::erase_if(sweep.curves,
                      [&](const Curve& own) { return own.channel == channel && own.name == curve.name; });
        sweep.curves.push_back(curve);
      }
  }
  sweep.findings.insert(sweep.findings.begin(), said.begin(), said.end());
}

}  // namespace wavicon
