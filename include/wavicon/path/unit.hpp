// SPDX-License-Identifier: MIT
#pragma once
// One thing that a signal goes through, and how it is named: SCHEME:NAME?setting=value&setting=value.

#include <cstdint>
#include <filesystem>
#include <functional>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// A named value that a setting can take.
struct SettingChoice {
  std::string label;
  double value = 0;
};

/// A setting of a unit: what may be given in SCHEME:NAME?symbol=value.
struct SettingInfo {
  std::string symbol;
  std::string name;  ///< for a person
  std::string unit;  ///< "dB", "Hz", "ms", …; empty for none
  double minimum = 0;
  double maximum = 1;
  double default_value = 0;
  bool integer = false;
  bool toggle = false;        ///< 0 or 1
  bool logarithmic = false;   ///< as a panel would space it
  bool choices_only = false;  ///< nothing between the choices is allowed
  std::vector<SettingChoice> choices;
};

/// What a unit is.
struct UnitInfo {
  std::string name;     ///< as it is written after --through, without settings
  std::string title;    ///< for a person
  std::string maker;    ///< empty when not known
  int input_count = 1;  ///< audio inputs of one instance; 0 inputs and outputs: as many as the signal has
  int output_count = 1;
  std::vector<SettingInfo> settings;
  std::vector<std::string> presets;  ///< what may be given as preset=NAME, in place of `settings`' defaults
  bool takes_state = false;          ///< state=FILE may be given
  std::string enabled_setting;       ///< symbol of the one that is 0 when the unit is bypassed; empty: none
  /// What is wrong with the plugin's own description and was put right, as sentences.
  std::vector<std::string> remarks;
  std::filesystem::path binary;  ///< of a plugin; empty for stand-ins
};

/// A unit's name with the settings that were asked for.
struct UnitSpec {
  std::string scheme;  ///< "sim", "lv2", "ladspa", "own"
  std::string name;
  std::vector<std::pair<std::string, std::string>> settings;
};

/// @throws Error bad_argument when the text is not SCHEME:NAME?setting=value&…, with an example.
[[nodiscard]] WAVICON_EXPORT UnitSpec parse_unit(const std::string& text);

/// The values of a ladder: "1,2,4". @throws Error bad_argument when one is empty.
[[nodiscard]] WAVICON_EXPORT std::vector<std::string> setting_ladder(const std::string& symbol,
                                                                     const std::string& text);

/// A value for a setting: a number in range, or the label of a choice.
///
/// @throws Error bad_argument naming unit and setting, what was given and what is allowed.
[[nodiscard]] WAVICON_EXPORT double parse_setting(const std::string& unit, const SettingInfo& setting,
                                                  const std::string& text);

/// The settings of a spec as values, in the order of `infos`, defaults where nothing was asked for.
///
/// @throws Error bad_argument as parse_setting(), or for an unknown or repeated setting, with the nearest
/// names.
[[nodiscard]] WAVICON_EXPORT std::vector<double> setting_values(const std::string& unit,
                                                                const std::vector<SettingInfo>& infos,
                                                                const UnitSpec& spec);

/// A unit with its settings, ready to be prepared for a signal and run. For one thread at a time.
class WAVICON_EXPORT Unit {
 public:
  virtual ~Unit() = default;

  [[nodiscard]] virtual const UnitInfo& info() const noexcept = 0;

  /// Makes the unit ready for a signal, from silence. Allocates.
  ///
  /// @param channel_count  of the signal; one instance per channel is made of a unit with one input and one
  /// output, and both inputs of a
  ///                       unit with two get a signal of one channel.
  /// @param block_frames   of every run(); at least 1.
  /// @throws Error bad_argument when the channels do not fit; unit_failed when the unit cannot be started,
  /// with the reason.
  virtual void prepare(double sample_rate_hz, int channel_count, int block_frames) = 0;

  /// Channels that come out, after prepare().
  [[nodiscard]] virtual int output_channel_count() const noexcept = 0;

  /// One block of exactly block_frames: one pointer per channel; inputs and outputs do not overlap.
  virtual void run(const float* const* inputs, float* const* outputs) = 0;

  /// Blocks that lie one behind the other in each channel.
  struct Row {
    const float* const* inputs = nullptr;
    int input_count = 0;
    float* const* outputs = nullptr;
    int block_frames = 0;
    int count = 1;  ///< blocks, at most kMostBlocks
  };
  static constexpr int kMostBlocks = 16;
  /// As many times run().
  ///
  /// @param done  set to the blocks whose outputs are there, also when one of them throws.
  virtual void run_row(const Row& row, int& done);

  /// Delay that the unit itself reports; valid after the first run().
  [[nodiscard]] virtual std::int64_t latency_frames() const noexcept = 0;

  /// Sample rate that the unit hands on with its output when it is another one than it was given; 0 for none.
  [[nodiscard]] virtual double claimed_rate_hz() const noexcept { return 0; }

  /// Turns a setting between two runs, as a hand on the panel does: what the unit remembers stays.
  ///
  /// @param setting  place in info().settings. @param value  within its range.
  /// @return false: the unit takes its settings only when it is opened.
  [[nodiscard]] virtual bool turn(std::size_t setting, double value) {
    (void)setting;
    (void)value;
    return false;
  }

  /// Saves what the unit would save in a session, and starts it anew from that, as prepare() did; prepare()
  /// first. @return false: there is nothing that it could save. @throws Error unit_failed when it does not
  /// come back.
  [[nodiscard]] virtual bool restart_from_own_state() { return false; }
};

/// A unit of the program itself: own:NAME?setting=value in chains and plans.
struct OwnUnit {
  std::string name;
  std::vector<SettingInfo> settings;
  /// Makes one with these values, in the order of the settings.
  std::function<std::unique_ptr<Unit>(const std::vector<double>& values)> make;
};

/// Where to look for units.
struct UnitSearch {
  /// Folders with bundles of our own, looked into before the system is scanned.
  std::vector<std::filesystem::path> own_bundle_folders;
  /// For settings whose range is a multiple of the sample rate.
  double sample_rate_hz = 48000;
  /// Whether plugin code runs in a process of its own: what crashes there is an error here.
  bool isolate = true;
  /// How long a plugin may make no progress, in seconds.
  double patience_s = 10;
  /// Those of the program itself. They run in its own process.
  std::vector<OwnUnit> own;
};

/// Finds a unit and checks its settings.
///
/// @throws Error bad_argument for an unknown scheme or unit (with the nearest names) or a setting that is not
/// allowed;
///               unit_failed when the unit is there and cannot be used, with the reason.
[[nodiscard]] WAVICON_EXPORT std::unique_ptr<Unit> open_unit(const UnitSpec& spec,
                                                             const UnitSearch& search = {});

/// What could be listed of a unit that is there.
struct UnitListing {
  std::string name;
  std::string title;
  int input_count = 0;
  int output_count = 0;
  std::string refused;  ///< why it cannot be used; empty when it can
};

/// Every unit that can be named, stand-ins first. Scanning the system's plugins can take seconds.
[[nodiscard]] WAVICON_EXPORT std::vector<UnitListing> list_units(const UnitSearch& search = {});

}  // namespace wavicon
