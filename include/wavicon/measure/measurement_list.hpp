// SPDX-License-Identifier: MIT
#pragma once
// Every measurement there is, in one list.

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/measure/measurement.hpp"

namespace wavicon {

using MeasurementList = std::vector<MeasurementDescriptor>;

/// Those of this library. A program may copy it and add its own.
[[nodiscard]] WAVICON_EXPORT const MeasurementList& measurements();

/// The one of that name, or null.
[[nodiscard]] WAVICON_EXPORT const MeasurementDescriptor* find_measurement(const MeasurementList& list,
                                                                           std::string_view name);

/// Every table of readings of the list, and those of the health check and of kits.
[[nodiscard]] WAVICON_EXPORT std::vector<const ReadingTable*> reading_tables(const MeasurementList& list);
/// The name of every reading that a measurement can give, patterns as they are ("h{}_dbc").
[[nodiscard]] WAVICON_EXPORT std::vector<std::string> reading_names(const MeasurementDescriptor& measurement);

/// The same of tables.
[[nodiscard]] WAVICON_EXPORT std::vector<std::string> reading_names_of(
    const std::vector<const ReadingTable*>& tables);

/// Measures a capture by the name of a measurement, with its defaults: played as its stimulus says, else
/// taken apart first where the measurement can do that.
///
/// @param reference  A, for measurements of B against A; none: what was played.
/// @throws Error bad_argument for no such measurement, or as it.
[[nodiscard]] WAVICON_EXPORT std::vector<Sheet> measure_by_name(
    std::string_view name, const JudgedCapture& capture, const std::optional<JudgedCapture>& reference = {});

/// The words that a recipe's `measure` takes: names of measurements that are made of parts, and "nothing".
[[nodiscard]] WAVICON_EXPORT std::vector<std::string> measure_words(const MeasurementList& list);
/// What is wrong with the words that a part names; empty for nothing.
[[nodiscard]] WAVICON_EXPORT std::string measure_problem(const MeasurementList& list, const RecipePart& part);

/// One measurement of one part.
struct PartSheet {
  std::size_t part = 0;     ///< of Stimulus::parts()
  std::string measurement;  ///< its name
  Sheet sheet;              ///< every reading with the part's name among its conditions; empty with a problem
  std::string problem;      ///< why it could not be made; empty when it was
  std::optional<FindingCode> unfit;  ///< the fault for which the gate refused it
};

/// Every measurement that a part names; of parts that name none, the usual ones, of the first part of each
/// kind. What measures all parts at once is made once. Measurements against what was played take the stimulus
/// as A.
///
/// @param capture  whose stimulus is known, and where it lies; held faults are admitted for each measurement
/// by itself. @throws Error bad_argument otherwise.
[[nodiscard]] WAVICON_EXPORT std::vector<PartSheet> measure_parts(
    const JudgedCapture& capture, const MeasurementList& list = measurements());

/// What a recording program did to a bounce, and what its parts measure, as one row.
struct BounceReading {
  Sheet sheet;                       ///< readings of the bounce, then the headline readings of its parts
  std::vector<std::string> columns;  ///< names of the readings that make the row
};

/// @param bounce  judged with the stimulus of its kit and held faults: they are told, and what they spoil is
/// left out.
/// @throws Error bad_input when the stimulus was not found in it.
[[nodiscard]] WAVICON_EXPORT BounceReading measure_bounce(const JudgedCapture& bounce,
                                                          const MeasurementList& list = measurements());

}  // namespace wavicon
