// SPDX-License-Identifier: MIT
#pragma once
// What a reading is: the one place for its unit, its words, its digits, its definition, and what it owes.
// Each measurement has a table of its readings; sheets are made from its entries.

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// How a value answers when the capture is made louder by g dB.
enum class GainLaw {
  same,    ///< not at all
  adds,    ///< by g: a level re full scale
  scales,  ///< by the factor: an amplitude
  other,   ///< in a way of its own: it refers to full scale, or to something that does not move along
};

/// How a value answers when the capture is turned upside down.
enum class PolarityLaw { same, turns_sign, other };

/// How a value answers when the same sound is sampled at another rate.
enum class RateLaw {
  same,    ///< not at all
  scales,  ///< in proportion: it counts samples
  other,   ///< in a way of its own: it refers to the format, or to what only the higher rate can hold
};

/// Whether a reading carries a floor, an uncertainty.
enum class Owes {
  no,         ///< it has none: a count, a setting, a word
  always,     ///< with every value
  sometimes,  ///< where the measurement can say it
};

/// Which of two values an engineer would rather have, all else equal.
enum class Better {
  neither,
  lower,
  higher,
  nearer_to_zero,
};

/// One kind of reading of one measurement.
struct ReadingEntry {
  std::string name;        ///< snake case with the unit as suffix; "{}" stands for a whole number: "h{}_dbc"
  std::string unit;        ///< as printed: "dB", "dBFS", "Hz", "%"; empty for a ratio, a count or a word
  std::string words;       ///< for a person: "THD+N", "noise floor, A-weighted"; "{}" as in the name
  int digits = 2;          ///< after the point, in tables; of a percentage, all that count
  std::string definition;  ///< one sentence
  std::string source;      ///< a standard, or a formula
  std::string misleads;    ///< when not to believe what it seems to say; empty where it cannot mislead
  GainLaw gain = GainLaw::same;
  PolarityLaw polarity = PolarityLaw::same;
  RateLaw rate = RateLaw::same;
  Owes floor = Owes::no;
  Owes uncertainty = Owes::no;
  Better better = Better::neither;
  std::vector<std::string> conditions;  ///< what it is meaningless without, by name
};

/// The readings that one measurement can give. Lives as long as the program: readings refer to its entries.
struct ReadingTable {
  std::string measurement;
  std::vector<ReadingEntry> entries;
};

/// The entry of a reading's name, or null. "h3_dbc" is found under "h{}_dbc".
[[nodiscard]] WAVICON_EXPORT const ReadingEntry* find_entry(const ReadingTable& table, std::string_view name);

/// A reading with the unit of its entry. @throws std::logic_error for a name that the table does not have.
[[nodiscard]] WAVICON_EXPORT Reading make_reading(const ReadingTable& table, std::string_view name,
                                                  std::optional<int> channel, std::optional<double> value,
                                                  Conditions conditions = {});

/// What the reading owes by its entry and does not carry: "condition bandwidth_hz", "floor", "uncertainty";
/// empty when nothing is missing. A reading without value or word owes its conditions alone.
[[nodiscard]] WAVICON_EXPORT std::vector<std::string> missing_of(const Reading& reading);

/// Text for a person, as `wavicon explain` prints it: words, unit, definition, source, when it misleads, what
/// it carries.
[[nodiscard]] WAVICON_EXPORT std::string explanation(const ReadingEntry& entry,
                                                     const std::string& measurement);

}  // namespace wavicon
