#pragma once
// A capture opened for measuring: distrusted first, its stimulus found in it.

#include <memory>

#include "commands.hpp"
#include "wavicon/intake/health.hpp"

namespace wavicon::cli {

/// The options --stimulus, --part and --despite-faults.
struct IntakeOptions {
  std::string stimulus;
  std::string part;
  bool despite_faults = false;
  /// @param part_help  what --part does for this command; null for a command without it.
  void add_to(CLI::App& app, const char* part_help);
};

struct Capture {
  std::unique_ptr<FileSource> source;
  std::unique_ptr<Stimulus> stimulus;  ///< null when there is none
  std::optional<Take> take;            ///< where the stimulus lies; none without marks
  bool broken = false;                 ///< holds a value that is no number: nothing was looked for in it
  std::vector<Finding> findings;       ///< to be added to the sheet
  Conditions conditions;               ///< to be added to every reading

  [[nodiscard]] double seconds_of(double stimulus_frame) const;
};

/// Reads what the file is, checks its health and finds its stimulus.
///
/// @throws Error bad_input for a capture with a fault, unless despite_faults.
[[nodiscard]] Capture open_capture(const std::string& path, const IntakeOptions& options);

/// A of a measurement that has to know where each part lies: a stimulus with marks, or a capture of one.
///
/// @throws Error bad_input for anything else.
[[nodiscard]] Capture open_played(const std::string& path, const IntakeOptions& options);
/// B of it; the stimulus is that of A unless one is named. @throws Error bad_input when it is not in there.
[[nodiscard]] Capture open_answer(const std::string& path, const std::string& played, IntakeOptions options);

/// A stretch of a capture in seconds.
struct StretchS {
  double from_s = 0;
  std::optional<double> to_s;
};

/// --from and --to as given; else the part of that name, or from the first part to the last, where the
/// stimulus lies; else everything. Says in the findings and conditions which it was.
///
/// @throws Error bad_argument for a part that is not there, with the nearest names.
[[nodiscard]] StretchS stretch_of(Capture& capture, const SheetOptions& sheet, const std::string& part);

/// The same when that part is noise with a period: its whole periods; none otherwise.
[[nodiscard]] std::optional<RepeatingStretch> repeating_part(const Capture& capture,
                                                             const SheetOptions& sheet,
                                                             const std::string& part);

/// @throws Error bad_argument when --channel names one that is not there.
void require_channel(const SheetOptions& sheet, int channel_count);
/// Keeps what is said of one channel (from 1) and of the whole.
void keep_channel(Sheet& sheet, const std::optional<int>& channel);

/// Adds the capture's findings and conditions to its sheet.
void finish(Sheet& sheet, const Capture& capture);

/// Calls measure(path) for each capture (but for A, where there is one) and puts the file's name before its
/// errors.
std::vector<Sheet> measure_each(const SheetOptions& options,
                                const std::function<Sheet(const std::string&)>& measure);

}  // namespace wavicon::cli
