// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include "bench/result_parts.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/bench/run.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;

std::string told(const LimitResult& result) {
  const std::string unit = result.unit.empty() ? "" : " " + result.unit;
  return fmt::format("{}{}: {}", result.limit,
                     result.channel ? fmt::format(", channel {}", *result.channel + 1) : "",
                     result.value ? fmt::format("{:.6g}{}", *result.value, unit) : "no value");
}

}  // namespace

std::string bench_junit(const Plan& plan, const std::vector<CellResult>& results,
                        const std::vector<CellLimit>& limits) {
  std::string cases;
  std::size_t count = 0, failures = 0, errors = 0;
  for (const CellResult& result : results) {
    ++count;
    cases += fmt::format("    <testcase classname=\"{}\" name=\"{}\" time=\"{:.3f}\"", xml_escaped(plan.name),
                         xml_escaped(name_of(result)), result.seconds);
    if (has_sheets(result)) {
      cases += "/>\n";
    } else {
      ++errors;
      cases += fmt::format(">\n      <error message=\"{}\"/>\n    </testcase>\n", xml_escaped(result.reason));
    }
  }
  for (const CellLimit& limit : limits) {
    ++count;
    const LimitResult& result = limit.result;
    cases += fmt::format("    <testcase classname=\"{}\" name=\"{}, {}{}\"", xml_escaped(plan.name),
                         xml_escaped(name_of(results[limit.cell])), xml_escaped(result.limit),
                         result.channel ? fmt::format(", channel {}", *result.channel + 1) : "");
    if (result.outcome == LimitResult::Outcome::kept) {
      cases += "/>\n";
    } else {
      ++failures;
      cases +=
          fmt::format(">\n      <failure message=\"{}\"/>\n    </testcase>\n", xml_escaped(told(result)));
    }
  }
  return fmt::format(
      "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuites>\n  <testsuite name=\"{}\" tests=\"{}\" "
      "failures=\"{}\" errors=\"{}\">\n{}  </testsuite>\n</testsuites>\n",
      xml_escaped(plan.name), count, failures, errors, cases);
}

}  // namespace wavicon
