// SPDX-License-Identifier: MIT
// A limit as it is written after --limit, against a sheet.

#include "wavicon/sheet/limit.hpp"
#include "target.hpp"
#include "wavicon/audio/nearest_names.hpp"

using namespace wavicon;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  fuzz::Bytes bytes(data, size);
  Sheet sheet;
  Reading reading{.name = "thd_db"};
  if (bytes.choice(4) > 0) reading.value = bytes.number<double>();
  reading.bound = bytes.choice(2) == 1;
  sheet.readings.push_back(reading);
  const std::string text = bytes.rest();
  fuzz::accepted([&] {
    const Limit limit = parse_limit(text);
    fuzz::require(!limit.name.empty() && limit.value == limit.value, "a limit has a name and a value");
    for (const LimitResult& result : check_limit(limit, sheet))
      fuzz::require(reading.value.has_value() || result.outcome != LimitResult::Outcome::kept,
                    "without a value nothing is kept");
  });
  (void)name_hint(text, {"thd_db", "thd_percent", text});
  return 0;
}
