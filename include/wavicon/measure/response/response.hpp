// SPDX-License-Identifier: MIT
#pragma once
// What curve is it? Output over input, from a sweep, noise, or whatever both hold. Definitions:
// docs/response.md.

#include <complex>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/align.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/intake/locate.hpp"
#include "wavicon/sheet/catalogue.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// What is known of one A, kept from one B to the next: overlays of a sweep take a third less time.
class WAVICON_EXPORT ResponseCache {
 public:
  ResponseCache();
  ~ResponseCache();
  ResponseCache(const ResponseCache&) = delete;
  ResponseCache& operator=(const ResponseCache&) = delete;
  struct Impl;
  [[nodiscard]] Impl& impl() const noexcept { return *impl_; }

 private:
  std::unique_ptr<Impl> impl_;
};

struct ResponseOptions {
  ResponseCache* cache = nullptr;  ///< of this same A; not owned
  double from_s = 0;               ///< stretch of A
  std::optional<double> to_s;
  std::optional<Alignment> alignment;  ///< of B to A, when it is known; none: found
  bool sweep =
      false;  ///< A's stretch is one sweep: the whole of it is divided; else averaged, with coherence
  std::int64_t period_frames =
      0;                     ///< A's stretch repeats every so many frames (periodic noise); 0: it does not
  double sweep_from_hz = 0;  ///< band of the sweep; 0: everything
  double sweep_to_hz = 0;
  double smoothing = 0;        ///< 1/n octave: n, 1 … 48; 0: none
  double reference_hz = 1000;  ///< where `gain_db` is read
  double band_from_hz = 100;   ///< of the ripple
  double band_to_hz = 10000;
};

/// How a part of a stimulus is measured where it lies in A and in B: as a sweep, as noise that repeats, or
/// averaged.
///
/// @param in_a, in_b  where the stimulus lies in both; Take{} for the stimulus itself.
[[nodiscard]] WAVICON_EXPORT ResponseOptions response_options(const Stimulus& stimulus, std::size_t part,
                                                              const Take& in_a, const Take& in_b,
                                                              double a_rate_hz,
                                                              const ResponseOptions& otherwise = {});

/// A place of the curve, on a log axis of 48 to the octave.
struct ResponsePoint {
  double hz = 0;
  std::complex<double> ratio;  ///< B over A, the common delay taken off
  double coherence = 1;
  double uncertainty_db = 0;  ///< of the magnitude, k = 2, from the noise that the measurement saw
  double group_delay_s = 0;   ///< beside the common delay
};

/// An end of the passband, or a slope beyond it.
struct ResponseEdge {
  double hz = 0;  ///< 3 dB below the level at which most of the curve stands
  double slope_db_per_octave =
      0;  ///< where it falls, steepest over half an octave, without sign; 0 when too little of it is seen
  int order = 0;                     ///< that the slope suggests: 6 dB per octave each; 0: none
  std::optional<double> hz_at_1_db;  ///< 1 dB below it
  std::optional<double> hz_at_6_db;
};

/// One level below and another above a corner.
struct ResponseShelf {
  double hz = 0;       ///< where half of the gain in dB is reached
  double gain_db = 0;  ///< on the side away from the reference frequency
  bool high = true;    ///< that side lies above
  int order = 1;       ///< 1 or 2, that fits better
};

/// Where one curve takes over from another.
struct ResponseCrossover {
  double hz = 0;
  double below_db = 0;     ///< under the level of the first one's band
  double sum_db = 0;       ///< of both added, over that level
  double inverted_db = 0;  ///< the same with one of them inverted
  double inverted_uncertainty_db = 0, sum_uncertainty_db = 0;
  double notch_hz = 0, notch_db = 0;  ///< lowest of both sums within an octave, over that level
  double notch_uncertainty_db = 0;    ///< k = 2; 0 for a bound
  bool notch_bound = false;           ///< no deeper can be told: both are not known well enough
  bool notch_inverted = false;        ///< of the sum with one inverted
  std::vector<double> hz_axis, as_they_are_db, one_inverted_db;  ///< both sums over frequency
  double uncertainty_hz = 0, uncertainty_db = 0;                 ///< k = 2, from both curves there
};

/// A hump or a dip over the level that lies around it.
struct ResponseBell {
  double hz = 0;
  double gain_db = 0;    ///< over the level on both sides
  double q = 0;          ///< centre over the width at half of the gain in dB
  double around_db = 0;  ///< that level
};

/// Of each figure, k = 2, in its own unit: how far it moves when every place of the curve is drawn anew
/// within its own uncertainty.
struct ResponseUncertainty {
  double gain_db = 0, broadband_db = 0, loudness_lu = 0, ripple_db = 0;
  ResponseEdge lower, upper;
  ResponseBell bell;
  ResponseShelf shelf;
};

struct ChannelResponse {
  bool measured = false;
  std::vector<ResponsePoint> points;
  std::vector<double> impulse;  ///< response over time; the common delay lies at impulse_zero
  std::size_t impulse_zero = 0;
  double impulse_rest = 0;   ///< fraction of a frame by which it lies behind that
  double delay_samples = 0;  ///< the common delay that was taken off
  double gain_db = 0;        ///< at the reference frequency
  double broadband_db = 0;   ///< RMS of B over that of A
  double loudness_lu = 0;    ///< the same, K-weighted; of averaged spectra, else 0
  double band_db = 0;        ///< level at which most of the curve stands
  std::optional<int>
      crosstalk_from;    ///< A is silent in this channel: B is set against that other channel of A
  double ripple_db = 0;  ///< highest less lowest within the band

  std::optional<ResponseEdge> lower, upper;
  std::optional<ResponseBell> bell;    ///< the largest one
  std::optional<ResponseShelf> shelf;  ///< when there is no bell
  ResponseUncertainty uncertainty;
  double left_out_share = 0;  ///< of the axis: places without enough of A, or of coherence
  std::vector<std::pair<double, double>> clipped_hz;  ///< stretches of a sweep in which B clips: left out
  std::optional<double> cut_hz;  ///< B ends (or begins) while the sweep is there: left out beyond
  std::int64_t windows = 0;      ///< averaged, or periods; 0: a sweep
  double bin_hz = 0;
};

struct ResponseResult {
  ResponseOptions options;
  double sample_rate_hz = 0;
  double seconds = 0;
  Alignment alignment;
  std::vector<ChannelResponse> channels;
};

/// B over A, channel by channel (a mono A goes with every channel of B).
///
/// A sweep is divided as a whole: Y·X*/(|X|²+ε), ε a millionth of the middle of the band; the response over
/// time is cut to 0.5 s behind and 4096 frames before the delay, fading at both ends. Of what repeats, the
/// first period is dropped and the others are added up, line by line. Anything else is averaged in windows
/// of 0.34 s (H1, Kaiser β = 14; of 1.36 s below 300 Hz) after lining up to the whole frame; places whose
/// coherence is below 0.5 are left out.
///
/// @throws Error bad_input for silence, nothing in common; bad_argument for options out of range, different
/// rates.
/// @accuracy  0.001 dB and 0.01° of known filters over the band of a 5 s sweep, and of three periods of pink
/// noise of 1.4 s (response_test.cpp)
[[nodiscard]] WAVICON_EXPORT ResponseResult measure_response(const JudgedCapture& a, const JudgedCapture& b,
                                                             const ResponseOptions& options = {});

/// Where the curves of two units that share the work cross, where both are loudest; none when they do not.
[[nodiscard]] WAVICON_EXPORT std::optional<ResponseCrossover> find_crossover(const ChannelResponse& first,
                                                                             const ChannelResponse& second,
                                                                             double sample_rate_hz);

/// Readings, the curves "magnitude", "phase", "group delay", "impulse response", "coherence", and findings.
[[nodiscard]] WAVICON_EXPORT Sheet response_sheet(const ResponseResult& result, const CaptureInfo& a,
                                                  const CaptureInfo& b);

/// Where the capture before and this one share the work, as the two ways of a crossover do: readings
/// `crossover_hz`, `crossover_db`, `crossover_sum_db` and a finding are added to this one's sheet; nothing
/// where they do not.
WAVICON_EXPORT void add_crossover(const ResponseResult& before, const ResponseResult& here, const Sheet& of,
                                  Sheet& sheet);

/// The filter that brings what the first unit does to what the second one does: one for each channel, its
/// middle tap (size/2) at the same frame. FilteredSource takes it.
///
/// H2·H1*/(|H1|²+ε) of the responses over time, ε 80 dB below H1's highest; beyond what was measured of both
/// it runs out at the level of its ends.
///
/// @param seconds  length of the filter, 0.005 … 1.
/// @throws Error bad_argument for other numbers of channels, other rates, a channel without a response over
/// time (averaged spectra), or a stretch of it that clips or is cut off.
/// @accuracy  two equalisers null 70 dB deep through it, from an octave above what was measured
/// (response_test.cpp)
[[nodiscard]] WAVICON_EXPORT std::vector<std::vector<double>> matching_filters(const ResponseResult& first,
                                                                               const ResponseResult& second,
                                                                               double seconds = 0.5);

/// The curve "difference" that would bring the first capture to this one, and `difference_max_db`.
WAVICON_EXPORT void add_difference(const Sheet& first, Sheet& sheet);

/// What the sheets of this measurement can hold.
[[nodiscard]] WAVICON_EXPORT const ReadingTable& response_readings();

}  // namespace wavicon
