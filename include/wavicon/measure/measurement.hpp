// SPDX-License-Identifier: MIT
#pragma once
// The shape of a measurement: what every one announces of itself, and how it is run. From the list of them
// (measurement_list.hpp) commands, their help, recipes' `measure` and the tests that hold for all are made.

#include <cstddef>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/sink.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/measure/common/rms_reference.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/picture.hpp"
#include "wavicon/sheet/row_layout.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// What a measurement is made of.
enum class MeasuredInput {
  capture,    ///< one capture; several are measured one after the other
  against,    ///< B against A; several Bs one after the other
  pair,       ///< two captures, or two channels of one
  recording,  ///< one recording; several are put in a row
};

/// One option of a measurement, bound to where its value is kept.
struct OptionField {
  using Target = std::variant<bool*, int*, double*, std::optional<int>*, std::optional<double>*, std::string*,
                              std::vector<int>*, std::vector<double>*, std::vector<std::string>*>;
  std::string key;       ///< snake case with the unit as suffix: "window_s", as recipes and plans write it
  Target target;         ///< holds the default; valid as long as the measurement
  std::string unit;      ///< "s", "Hz"; empty for none
  std::string sentence;  ///< what it does
  std::optional<Range> range;      ///< of each number; none: anything
  std::vector<std::string> words;  ///< that are allowed; empty: any
  std::size_t count = 0;           ///< of a list: exactly so many values; 0: any
  bool repeatable = false;         ///< a list of such groups, one after the other
};

/// The key without its unit and with dashes: "window" of "window_s".
[[nodiscard]] WAVICON_EXPORT std::string option_name(const OptionField& field);
/// @throws Error bad_argument naming option, value and what is allowed, for a number out of range or another
/// word.
WAVICON_EXPORT void require_in_range(const std::vector<OptionField>& fields);
/// Keys and values, as text, of the fields that are not as in `defaults`, which has the same ones.
[[nodiscard]] WAVICON_EXPORT std::vector<std::pair<std::string, std::string>> given_options(
    const std::vector<OptionField>& fields, const std::vector<OptionField>& defaults);

/// A capture or another signal that is taken beside the captures.
struct ExtraInput {
  std::string name;  ///< "reference"
  std::string sentence;
  bool row = false;  ///< several, each judged as a capture (against A, where there is one)
};

/// Audio that is made on the way.
struct ExtraOutput {
  std::string name;  ///< "residual"
  std::string sentence;
  bool several = false;            ///< a folder of files
  bool one_capture = true;         ///< only when one capture is measured
  bool folder_of_several = false;  ///< a file of one capture, a folder with one for each of several
};

/// A picture by the word that chooses it.
struct PictureChoice {
  std::string word;
  std::string sentence;
};

/// Which part of a stimulus a recipe's `measure` may name the measurement for.
enum class PartUse {
  no,
  possible,  ///< when the recipe says so
  usual,     ///< also when it says nothing
};

/// What a measurement is asked for, beside its own options.
struct MeasureRequest {
  Selection selection;
  std::optional<int> channel;  ///< from 0; none: all
  RmsReference rms_reference = RmsReference::square;
  std::string picture;                                     ///< the word of a PictureChoice; empty: the first
  std::optional<JudgedCapture> reference;                  ///< A, where there is one
  std::optional<JudgedCapture> clean_signal;               ///< that the captures hold: see by_reference
  std::map<std::string, JudgedCapture> inputs;             ///< by ExtraInput::name
  std::map<std::string, std::vector<JudgedCapture>> rows;  ///< those that are several
  OpenSink open_sink;                                      ///< empty: no output is wanted
  std::function<void(double)> progress;                    ///< how far the capture was read: followed()
  std::size_t capture_count = 1;                           ///< that will be measured
  bool pairs = false;  ///< each capture has an A of its own: the sheets are read as a grid
};

/// One measurement with its options, ready to be run: over one capture after the other, then conclude().
class WAVICON_EXPORT Measurement {
 public:
  Measurement() = default;
  Measurement(const Measurement&) = delete;
  Measurement& operator=(const Measurement&) = delete;
  virtual ~Measurement() = default;

  /// Its options; values are set through them.
  [[nodiscard]] virtual std::vector<OptionField> fields() { return {}; }
  /// Refuses what cannot be done before anything is opened. @throws Error bad_argument.
  virtual void check(const MeasureRequest& request) const { (void)request; }
  /// @param index  of the capture among those that are measured.
  /// @return one sheet, or several (the steps of a staircase).
  [[nodiscard]] virtual std::vector<Sheet> measure(const MeasureRequest& request,
                                                   const JudgedCapture& capture, std::size_t index) = 0;
  /// Adds what can be said once all captures are measured.
  virtual void conclude(const MeasureRequest& request, std::vector<Sheet>& sheets) {
    (void)request;
    (void)sheets;
  }
  /// Places of several captures in the order in which they are measured and shown.
  [[nodiscard]] virtual std::vector<std::size_t> order(const std::vector<std::string>& files) const;
  /// The answer to what an option asked of several captures together, to be shown before everything else;
  /// empty for nothing.
  [[nodiscard]] virtual std::string answer(const std::vector<Sheet>& sheets) const {
    (void)sheets;
    return {};
  }
  /// What the captures are beside each other, a sentence a line; empty for nothing.
  [[nodiscard]] virtual std::vector<std::string> compare(const std::vector<Sheet>& sheets) const {
    (void)sheets;
    return {};
  }
  /// What is drawn of the sheets; word: of a PictureChoice.
  [[nodiscard]] virtual Picture picture(const std::vector<Sheet>& sheets, const std::string& word) const {
    (void)sheets;
    (void)word;
    return {};
  }
  [[nodiscard]] virtual std::optional<RowLayout> rows(const std::vector<Sheet>& sheets) const {
    (void)sheets;
    return std::nullopt;
  }
};

/// What a measurement announces of itself.
struct MeasurementDescriptor {
  std::string name;      ///< one word: the command
  std::string question;  ///< that it answers
  MeasuredInput input = MeasuredInput::capture;
  std::vector<const ReadingTable& (*)()> tables;  ///< of the sheets that it can give
  std::vector<FindingCode> tolerated;             ///< faults that it lives with
  std::vector<FindingCode> told;                  ///< warnings for which it has words of its own
  std::string part_help;                          ///< what naming a part does; empty: it takes none
  std::vector<ExtraInput> inputs;
  std::vector<ExtraOutput> outputs;
  std::vector<PictureChoice> pictures;  ///< the first is the default; empty: none
  bool draws_several = true;            ///< captures over each other in one picture
  std::vector<std::string> grid;        ///< readings of a cell, the one that decides first, where files are
                                        ///< compared by pairs; empty: they cannot be
  bool of_one_file = false;             ///< against: A and B may be channels of one file
  bool all_parts_at_once = false;       ///< every part that suits is measured together
  bool recognises = false;              ///< signals without a recipe are taken apart first
  /// A capture can be measured by a clean signal that somebody else made (`--reference`): that is the
  /// request's clean_signal, and the capture is what holding() made of it.
  bool by_reference = false;
  PartUse (*part_use)(const PartKind&) = nullptr;  ///< null: none
  std::vector<std::string> headline;               ///< readings that tell captures apart at a glance
  std::vector<std::string> deciding;  ///< readings that answer for one capture, patterns among them
  std::unique_ptr<Measurement> (*make)() = nullptr;
};

/// What the gate lets through for a measurement.
[[nodiscard]] WAVICON_EXPORT GatePolicy policy_of(const MeasurementDescriptor& descriptor,
                                                  bool despite_faults = false);

/// Measures one judged capture and adds to its sheets what the gate said of it, and of A.
///
/// @throws Error as the measurement.
[[nodiscard]] WAVICON_EXPORT std::vector<Sheet> measured(Measurement& measurement,
                                                         const MeasureRequest& request,
                                                         const JudgedCapture& capture, std::size_t index = 0);

/// Keeps what is said of one channel, from 0, and of the whole.
WAVICON_EXPORT void keep_channel(Sheet& sheet, std::optional<int> channel);

/// @throws Error bad_argument when a channel is asked for that is not there.
WAVICON_EXPORT void require_channel(const MeasureRequest& request, int channel_count);

}  // namespace wavicon
