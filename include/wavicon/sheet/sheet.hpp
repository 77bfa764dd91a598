// SPDX-License-Identifier: MIT
#pragma once
// What a measurement hands over: readings, curves and findings of one capture, as plain data. No arithmetic,
// no text layout.

#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <variant>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/finding_code.hpp"

namespace wavicon {

struct ReadingEntry;

/// One circumstance of a reading; the name carries the unit (`duration_s`).
using ConditionValue = std::variant<bool, std::int64_t, double, std::string, std::vector<double>>;
/// Circumstances in the order in which a person wants to read them.
using Conditions = std::vector<std::pair<std::string, ConditionValue>>;

/// One measured value; never alone.
struct Reading {
  std::string name;             ///< snake case with the unit as suffix: `thd_db`
  std::optional<int> channel;   ///< from 0; none for a reading of the whole capture
  std::optional<double> value;  ///< none when it does not exist; then a finding says why
  std::string unit;             ///< as printed: "dB", "dBFS", "Hz", "%"
  std::optional<double> floor;  ///< what would be read with nothing in the path, same unit, same conditions
  bool bound = false;           ///< the value is only an upper bound
  Conditions conditions;
  std::string text;  ///< of a reading that is a word, such as `verdict`; it has no value
  std::optional<double>
      uncertainty;  ///< half the interval that holds the true value in 95 of 100 cases, same unit
  const ReadingEntry* entry = nullptr;  ///< of the catalogue; null for what was not made by a measurement
};

/// Values over one axis.
struct Curve {
  std::string name;
  std::optional<int> channel;  ///< from 0
  std::string x_unit;
  std::string y_unit;
  std::vector<double> x;
  std::vector<double> y;  ///< as long as x
};

/// Levels over two axes.
struct LevelMap {
  std::string name;
  std::optional<int> channel;  ///< from 0
  std::string x_unit;
  std::string y_unit;
  std::string z_unit;
  std::vector<double> x;
  std::vector<double> y;
  std::vector<double> z;  ///< y.size() values for each x, one x after the other
};

/// A name for a stretch of the x axis: a part of the stimulus.
struct AxisLabel {
  std::string text;
  double from = 0;
  double to = 0;
};

enum class Severity { note, warning, fault };

/// A sentence for a person that says what the readings mean.
struct Finding {
  Severity severity = Severity::note;
  FindingCode code = FindingCode::detail;
  std::string text;
  std::optional<int> channel;  ///< from 0; none when it is about the whole capture
};

/// The file or memory that was measured.
struct CaptureInfo {
  std::string file;    ///< as given; empty for audio in memory
  std::string format;  ///< "24-bit", "32-bit float", …
  double sample_rate_hz = 0;
  int channels = 0;
  std::int64_t frames = 0;
  std::string cut_off;       ///< what the file announces and does not hold; empty for a whole one
  std::string broken_chunk;  ///< what beside the sound cannot be read, and why; empty: nothing
  std::optional<std::int64_t> reported_samples;  ///< latency that what recorded it reported, and left in
  std::string recipe;              ///< text of the stimulus's recipe; empty where it is not known
  std::vector<std::string> chain;  ///< units that it went through, as `feed` wrote them into it
};

/// What a sheet depended on, beside the capture.
struct SheetContext {
  std::string version;                                       ///< of the program that measured
  int arithmetic = 0;                                        ///< kArithmetic of the program
  std::int64_t made_s = 0;                                   ///< of the measurement: seconds since 1970, UTC
  std::vector<std::pair<std::string, std::string>> options;  ///< those that were given, as text
  std::string stimulus;            ///< SHA-256 of its recipe: "sha256:…"; empty where it is not known
  std::string recipe;              ///< its text
  std::vector<std::string> chain;  ///< as CaptureInfo has it
  std::string machine;             ///< its name; empty unless that was asked for
  double took_s = 0;               ///< of a plan's cell: seconds that it took; 0: not known
};

/// Raised with every change by which the same capture gives another figure: what was measured by different
/// ones is not quite comparable ("Changed results" in CHANGELOG.md says where).
inline constexpr int kArithmetic = 3;

/// All that one measurement says about one capture.
struct Sheet {
  std::string measurement;
  CaptureInfo capture;
  std::vector<Reading> readings;
  std::vector<Curve> curves;
  std::vector<Finding> findings;
  std::vector<LevelMap> maps;
  std::vector<AxisLabel> labels;  ///< for drawing
  std::vector<std::string>
      channel_names;  ///< where they are no channels of the capture: "mid", "side"; else empty
  std::optional<SheetContext> context;
};

/// "channel 2", or the name that stands for it.
[[nodiscard]] WAVICON_EXPORT std::string channel_name(const Sheet& sheet, int channel);
/// The reading of that name and channel, or null.
[[nodiscard]] WAVICON_EXPORT const Reading* find_reading(const Sheet& sheet, const std::string& name,
                                                         std::optional<int> channel);
/// The circumstance of that name, or null.
[[nodiscard]] WAVICON_EXPORT const ConditionValue* find_condition(const Reading& reading,
                                                                  const std::string& name);
[[nodiscard]] WAVICON_EXPORT const ConditionValue* find_condition(const Conditions& conditions,
                                                                  const std::string& name);
/// A number with up to six digits, a word, "yes" or "no", the numbers of a list.
[[nodiscard]] WAVICON_EXPORT std::string plain_text(const ConditionValue& value);
/// "note", "warning" or "fault".
[[nodiscard]] WAVICON_EXPORT std::string name_of(Severity severity);

}  // namespace wavicon
