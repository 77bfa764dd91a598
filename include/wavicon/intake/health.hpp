// SPDX-License-Identifier: MIT
#pragma once
// Whether a capture is fit to be measured: what is wrong with it by itself, and against the stimulus that it
// should hold.

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/export.hpp"
#include "wavicon/audio/sample_format.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/align.hpp"
#include "wavicon/intake/locate.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// A stretch of one channel, in frames of the capture.
struct Stretch {
  std::int64_t first_frame = 0;
  std::int64_t frames = 0;
};

/// Lines at multiples of the mains frequency that are there nearly all the time.
struct MainsHum {
  double base_hz = 50;
  double line_hz = 0;  ///< of the strongest line
  double peak = 0;     ///< its amplitude, full scale = 1
};

/// What a channel shows by itself.
struct ChannelHealth {
  double peak = 0;  ///< full scale = 1
  double dc = 0;
  double dc_spread = 0;  ///< standard deviation of it by what lies low in the sound; 0 for less than 0.25 s
  std::int64_t clipped_frames = 0;  ///< in runs cut off at one value
  double clip_level = 0;            ///< that value; 0 when nothing is clipped
  std::vector<Stretch> clipped;     ///< the first runs, at most 16
  std::int64_t dropout_count = 0;   ///< runs of zeros with sound cut off on both sides
  std::vector<Stretch> dropouts;    ///< at most 16
  std::int64_t repeat_count = 0;    ///< blocks that were played again in place
  std::vector<Stretch> repeats;     ///< the copies; at most 16
  std::int64_t jump_count = 0;  ///< single places that change far more abruptly than what lies around them
  std::vector<Stretch> jumps;   ///< at most 16
  std::int64_t over_count = 0;  ///< stretches of 64 frames that exceed full scale between their samples
  double highest_between = 0;   ///< highest magnitude between samples there, full scale = 1; else 0
  std::int64_t over_frame = 0;  ///< the first one
  int used_bits = 0;            ///< smallest word length that holds every sample; 0 for more than 24
  int stuck_bits = 0;           ///< lowest bits that never change though they are not all 0
  bool silent = true;
  bool same_as_first = true;                 ///< bit for bit the first channel; true for the first one
  bool inverse_of_first = true;              ///< bit for bit the first channel with its polarity turned
  std::optional<std::int64_t> broken_frame;  ///< first NaN or infinite sample
  std::optional<double>
      band_end_hz;  ///< where the spectrum falls off a cliff far below half the rate; none when it does not
  std::optional<MainsHum> hum;
};

/// Collects what channels show by themselves, block by block, in constant memory.
class WAVICON_EXPORT HealthMeter {
 public:
  /// @throws Error bad_argument for fewer than 1 channel, or a rate that is not above 0.
  HealthMeter(int channel_count, double sample_rate_hz, SampleFormat format);
  ~HealthMeter();
  HealthMeter(HealthMeter&&) noexcept;
  HealthMeter& operator=(HealthMeter&&) noexcept;

  /// @param planar  one run for each channel, all of the same length. @throws Error bad_argument for another
  /// length, or after finish().
  void push(std::span<const double> planar);
  /// @return one entry per channel. Nothing may be pushed after it.
  [[nodiscard]] std::vector<ChannelHealth> finish();

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

struct HealthResult {
  SampleFormat format = SampleFormat::float64;
  double sample_rate_hz = 0;
  std::int64_t frames = 0;
  std::vector<ChannelHealth> channels;
  bool referenced = false;  ///< a reference was given
  std::int64_t reference_frames = 0;
  std::optional<Alignment> alignment;  ///< to the reference; none when it was not found
  bool aligned_by_marks =
      false;                  ///< those of the stimulus, found in both: what the take says is not said again
  int stimulus_channels = 0;  ///< of the stimulus that was given
  bool compared = false;      ///< a stimulus was given
  std::vector<Take> takes;    ///< of the stimulus
  std::optional<std::size_t> best;    ///< which take is used
  std::optional<double> slip_frame;   ///< where frames were lost or repeated, in frames of the capture
  bool same_on_all_channels = false;  ///< two or more channels, bit for bit the same
  /// Channels of the capture, from 0, that should carry the stimulus and do not.
  std::vector<int> missing_channels;
  /// For each channel of the capture, the channel of the stimulus that it holds, from 0; empty when those
  /// cannot be told apart.
  std::vector<int> carries;
};

struct HealthOptions {
  SampleFormat format = SampleFormat::float64;  ///< how the capture was stored
  std::optional<std::size_t> take;              ///< which appearance to use, from 0; none: the best
  AudioSource* reference = nullptr;  ///< what was played, when it is no stimulus; read during the call
  bool spectra = true;  ///< also look where the spectrum ends and for mains hum, which costs some 0.1 s
  LocateOptions locate;
  std::optional<Take> place;  ///< where the stimulus lies, when that is known: its marks are not looked for
};

/// Checks a capture by itself, and against a stimulus when one is given.
///
/// @param capture   read in blocks: memory does not grow with its length.
/// @param stimulus  null for none; rendered during the call.
/// @throws Error bad_input for 0 frames, bad_argument for a take that is not there
[[nodiscard]] WAVICON_EXPORT HealthResult check_health(AudioSource& capture, Stimulus* stimulus,
                                                       const HealthOptions& options = {});
[[nodiscard]] WAVICON_EXPORT HealthResult check_health(const Audio& capture, Stimulus* stimulus,
                                                       const HealthOptions& options = {});

/// Readings and findings; a finding of severity fault means that the capture is unfit to be measured.
[[nodiscard]] WAVICON_EXPORT Sheet health_sheet(const HealthResult& result, const CaptureInfo& capture);

/// Whether a sheet holds a fault.
[[nodiscard]] WAVICON_EXPORT bool is_unfit(const Sheet& sheet);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& health_readings();

}  // namespace wavicon
