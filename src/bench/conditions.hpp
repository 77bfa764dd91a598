// SPDX-License-Identifier: MIT
#pragma once
// By which conditions readings compare, and which kind of reading one is. Internal to `bench`.

#include <string>

#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon::bench_detail {

/// Of a measurement's catalogue; null where it has none of that name.
[[nodiscard]] const ReadingEntry* entry_of(const std::string& measurement, const std::string& reading);

/// Those that a reading is comparable by, by name, numbers rounded to four digits: not where and how long it
/// was looked at, and not what was found out on the way. Of the worst of several (orders, places, lines) it
/// was found out which that is.
[[nodiscard]] Conditions comparable(const std::string& measurement, const Reading& reading);

/// Text of comparable conditions, and back; the same conditions give the same text.
[[nodiscard]] std::string conditions_text(const Conditions& conditions);
[[nodiscard]] Conditions parse_conditions(const std::string& text);

/// The first condition by which two readings are not comparable, as "sample_rate_hz 96000 (not 48000)"; empty
/// where there is none. Levels may differ by half a decibel, other numbers by a hundredth.
[[nodiscard]] std::string difference(const Conditions& conditions, const Conditions& from);

}  // namespace wavicon::bench_detail
