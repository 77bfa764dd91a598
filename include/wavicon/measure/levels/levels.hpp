// SPDX-License-Identifier: MIT
#pragma once
// How loud it is: RMS, peaks, DC, loudness, and how they move over time. Definitions: docs/levels.md.

#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/sample_format.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/measure/common/rms_reference.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

struct LevelsOptions {
  double from_s = 0;
  std::optional<double> to_s;  ///< none: to the end
  double window_s = 0.3;       ///< of the RMS over time, 0.001 … 60; a multiple of the hop
  double hop_s = 0.1;          ///< of the RMS over time, 0.001 … window_s
  bool true_peak = true;
  bool loudness = true;  ///< not defined below 4 kHz
  RmsReference rms_reference = RmsReference::square;
  std::optional<double> full_scale_vrms;  ///< volts RMS of a full-scale sine: levels in volts and dBu as well
};

/// By what the sixteen and more parts of a stretch differ.
struct LevelUncertainty {
  double rms_db = 0;
  double peak_db = 0;
  double dc = 0;  ///< full scale = 1
};

/// Full scale = 1.
struct ChannelLevels {
  double peak = 0;
  double true_peak = 0;  ///< ITU-R BS.1770 Annex 2; 0 when it was not asked for
  double rms = 0;        ///< DC included
  double dc = 0;
  std::vector<double> rms_over_time;  ///< one for each hop; the last window may be shorter
  /// Half the intervals (k = 2) that hold the figures of all stretches of this kind; none for a signal that
  /// moves by 3 dB, or is shorter than 1024 frames: its figures are those of this stretch alone.
  std::optional<LevelUncertainty> uncertainty;
};

/// What ITU-R BS.1770-4 and EBU R 128 say of all channels together; none for too little sound.
struct Loudness {
  bool defined = true;                        ///< not for rates below 4 kHz
  std::optional<double> integrated_lufs;      ///< gated; needs 0.4 s above -70 LUFS
  std::optional<double> range_lu;             ///< EBU Tech 3342; needs 3 s
  std::optional<double> momentary_max_lufs;   ///< 0.4 s
  std::optional<double> short_term_max_lufs;  ///< 3 s
  /// As LevelUncertainty; none for a signal that moves, and for less than 3.2 s.
  std::optional<double> integrated_uncertainty_lu, momentary_max_uncertainty_lu,
      short_term_max_uncertainty_lu;
  std::vector<double> momentary_lufs;   ///< every 0.1 s from 0.4 s on
  std::vector<double> short_term_lufs;  ///< every 0.1 s from 3 s on
};

struct LevelsResult {
  LevelsOptions options;
  SampleFormat format = SampleFormat::float64;  ///< how the capture was stored: decides the floor
  double sample_rate_hz = 0;
  std::int64_t frames = 0;
  double hop_s = 0;
  std::vector<ChannelLevels> channels;
  Loudness loudness;  ///< of all channels: mono, left and right, or the order of the WAVE format (up to six)
  std::vector<Finding> findings;  ///< of the gate, of a stream
};

struct LevelsResult;
namespace measure_detail {
LevelsResult levels_of(AudioSource& source, const LevelsOptions& options);
}

/// Collects levels block by block, in memory that grows by a few numbers a second, or was taken before
/// (reserve()). For one thread at a time.
class WAVICON_EXPORT LevelMeter {
 public:
  /// @param format, policy  as StreamGate: what passes is judged as well.
  /// @throws Error bad_argument for options out of range, fewer than 1 channel, or a rate that is not above
  /// 0.
  LevelMeter(int channel_count, double sample_rate_hz, const LevelsOptions& options,
             SampleFormat format = SampleFormat::float64, const GatePolicy& policy = {});
  ~LevelMeter();
  LevelMeter(LevelMeter&&) noexcept;
  LevelMeter& operator=(LevelMeter&&) noexcept;

  /// Takes the memory for a stream of that length, in blocks of at most `block_frames`: until its end push()
  /// allocates nothing where one thread is allowed, so that an audio callback may call it.
  void reserve(double seconds, std::int64_t block_frames);
  /// @param planar  one run for each channel, all of the same length.
  /// @throws Error bad_input for a NaN or infinite sample, naming channel and frame; bad_argument for another
  /// length, or after finish().
  void push(std::span<const double> planar);
  /// Nothing may be pushed after it. @throws Error bad_input when there was no frame; UnfitCapture as
  /// StreamGate.
  [[nodiscard]] LevelsResult finish();

 private:
  struct Judged {};  ///< for samples whose capture has been judged
  friend LevelsResult measure_detail::levels_of(AudioSource&, const LevelsOptions&);
  LevelMeter(int channel_count, double sample_rate_hz, const LevelsOptions& options, Judged);
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

/// A stretch of a capture through a LevelMeter.
///
/// @throws Error as LevelMeter; bad_input for a stretch without a frame.
/// @accuracy  RMS 1e-9 dB, DC 1e-12 of full scale, loudness of tones 1e-6 LU against closed forms at 48 kHz,
/// and within 0.002 LU below 10 kHz at other rates (levels_test.cpp).
[[nodiscard]] WAVICON_EXPORT LevelsResult measure_levels(const JudgedCapture& capture,
                                                         const LevelsOptions& options = {});

/// Readings per channel and of the whole, RMS and loudness over time and a histogram of loudness as curves.
[[nodiscard]] WAVICON_EXPORT Sheet levels_sheet(const LevelsResult& result, const CaptureInfo& capture);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& levels_readings();

}  // namespace wavicon
