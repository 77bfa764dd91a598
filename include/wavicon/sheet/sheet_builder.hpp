// SPDX-License-Identifier: MIT
#pragma once
// Makes a sheet from the entries of a measurement's table: no reading without its unit, and without what it
// owes.

#include <optional>
#include <string>
#include <string_view>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// Collects readings, curves and findings of one measurement of one capture.
class WAVICON_EXPORT SheetBuilder {
 public:
  /// @param table  outlives every sheet that is made from it.
  SheetBuilder(const ReadingTable& table, CaptureInfo capture);
  /// Goes on with a sheet that was made from the same table.
  SheetBuilder(const ReadingTable& table, Sheet sheet);

  /// Adds a reading, to which floor, bound, uncertainty and text can be given through the reference; it is
  /// valid until the next one is added.
  ///
  /// @throws std::logic_error for a name that the table does not have.
  Reading& add(std::string_view name, std::optional<int> channel, std::optional<double> value,
               Conditions conditions = {});
  void say(Severity severity, FindingCode code, std::string text, std::optional<int> channel = std::nullopt);
  void draw(Curve curve);

  /// What has been collected so far, for what the calls above do not cover.
  [[nodiscard]] Sheet& sheet() noexcept { return sheet_; }

  /// Hands the sheet over.
  ///
  /// @throws std::logic_error naming a reading and what it lacks, in builds with WAVICON_STRICT_SHEETS (every
  /// build that has tests).
  [[nodiscard]] Sheet finish();

 private:
  const ReadingTable& table_;
  Sheet sheet_;
};

}  // namespace wavicon
