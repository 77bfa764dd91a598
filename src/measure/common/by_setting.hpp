// SPDX-License-Identifier: MIT
#pragma once
// Captures of one ladder, by the setting that their names carry.

#include <cstddef>
#include <string>
#include <vector>

namespace wavicon::measure_detail {

/// Places of the names in the order of their setting, when they differ in one number and nothing else
/// ("tern-16-times.wav" behind "tern-2-times.wav"); else as they are given.
[[nodiscard]] std::vector<std::size_t> order_by_setting(const std::vector<std::string>& names);

/// The number by which the names differ, when it is all they differ in; else nothing.
[[nodiscard]] std::vector<double> setting_values(const std::vector<std::string>& names);

/// What all names begin with, without their folder, up to the last whole word; empty: nothing.
[[nodiscard]] std::string shared_name(const std::vector<std::string>& names);

/// The word before the number by which the names differ: "drive" of "tern-drive-6.wav"; else "setting".
[[nodiscard]] std::string setting_word(const std::vector<std::string>& names);

/// What tells each name apart from the others: the word around what differs ("oversampling=8"), else the
/// name.
[[nodiscard]] std::vector<std::string> setting_labels(const std::vector<std::string>& names);

}  // namespace wavicon::measure_detail
