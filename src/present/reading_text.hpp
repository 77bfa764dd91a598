// SPDX-License-Identifier: MIT
#pragma once
// Numbers, uncertainties and circumstances of readings as text. Internal to `present`.

#include <string>
#include <vector>

#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon::present_detail {

/// With that many digits after the point, never "-0.00".
[[nodiscard]] std::string rounded(double value, int digits);

/// Without the zeros behind the last digit that says something.
[[nodiscard]] std::string without_zeros(std::string text);

/// With the digits of its entry in the catalogue, or fewer where it is not as sure as that.
[[nodiscard]] std::string number_text(double value, const ReadingEntry* entry, double uncertainty = 0);

/// "±0.4"; nothing where the digits that are shown are sure.
[[nodiscard]] std::string uncertainty_text(const Reading& reading);

/// A circumstance in words; its name's suffix becomes the unit.
[[nodiscard]] std::string condition_text(const std::string& name, const ConditionValue& value);

/// Whether all readings have that circumstance, with that value.
[[nodiscard]] bool shared_by_all(const std::pair<std::string, ConditionValue>& condition,
                                 const std::vector<const Reading*>& readings);

/// "H2" for "h2_dbc" where the catalogue calls it "H{}"; the name of what is in no catalogue.
[[nodiscard]] std::string words_of(const Reading& reading);

/// As value_text(), and a bound with as few digits as a bound deserves.
[[nodiscard]] std::string short_text(const Reading& reading);

/// A value and its unit for a person: frequencies from 1000 Hz on in kHz. A bound has "< " before it.
struct ValueText {
  std::string number, unit, uncertainty;
};
[[nodiscard]] ValueText value_for_person(const Reading& reading);

}  // namespace wavicon::present_detail
