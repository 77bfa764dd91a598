// SPDX-License-Identifier: MIT
#pragma once
// Where a reference may lie in a capture, to a few frames, and whether that is more than chance. Internal to
// `intake`.

#include <complex>
#include <cstdint>
#include <optional>
#include <span>
#include <utility>
#include <vector>

#include "wavicon/audio/source.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon::intake_detail {

/// A place that an excerpt of the reference was found at.
struct CoarsePlace {
  double delay_frames = 0;
  int sign = 1;                    ///< -1: inverted
  double height = 0;               ///< of the correlation, in standard deviations of what chance gives there
  std::int64_t excerpt = 0;        ///< frame of the reference at which the excerpt begins
  int looked = 0;                  ///< segments that were searched for by themselves
  int agreed = 0;                  ///< of these, found where the place says
  std::vector<double> candidates;  ///< other delays that fit nearly as well, the nearest to 0 first
};

/// Brings both down to about 12 kHz, makes their spectra flat and correlates an excerpt of the reference with
/// all of the capture. The height c of a peak at a lag is weighed against what two unrelated signals of the
/// same envelopes give there: z = c / √(κT), T = Σ u²[n] v²[n + lag] in blocks of 64, κ = K Σ|U|²|V|² /
/// (Σ|U|² Σ|V|²) over K bins. Then segments of a third of a second are searched within ±2048 low samples,
/// each by itself: those that land on the place, or on one line through it, agree.
class CoarseSearch {
 public:
  CoarseSearch(AudioSource& reference, int reference_channel, AudioSource& capture, int capture_channel,
               double most_drift_ppm, RealTransforms& transforms);

  /// The best place, with how far it is to be believed; none when one of them is silent.
  [[nodiscard]] std::optional<CoarsePlace> run();
  /// Delays at which as much of the reference lies in the capture as anywhere, without any whitening, the
  /// best first: tones, of which a whitened spectrum keeps nothing but their edges. To a low sample.
  [[nodiscard]] std::vector<double> plain() const;
  /// Delays of short excerpts from all over the reference, each where the capture holds something as like it,
  /// the likeliest first; sixteen at most. To a low sample.
  [[nodiscard]] std::vector<double> places_of_excerpts();
  /// Capture frames per reference frame, where the capture was played at another speed: the ratios of the
  /// usual rates, and 1 % to either side in steps of 0.02 %; none when none of them stands out of all others.
  /// On as many threads as are allowed, all of which read both sources.
  [[nodiscard]] std::optional<double> speed();
  /// Frames in a low sample: the place is no surer.
  [[nodiscard]] std::int64_t step() const noexcept { return static_cast<std::int64_t>(step_); }

 private:
  using Bins = std::vector<std::complex<double>>;
  struct Excerpt {
    std::int64_t first = 0;
    std::vector<double> samples;
  };
  struct Peak {
    double delay_frames = 0;
    double height = 0;
    int sign = 1;
    std::int64_t excerpt = 0;
  };

  [[nodiscard]] std::vector<double> low(AudioSource& source, int channel, std::int64_t first,
                                        std::size_t count) const;
  [[nodiscard]] std::vector<std::int64_t> loudest(std::int64_t length) const;
  // A block of the capture, flat, and what its envelope is made of.
  struct Block {
    std::int64_t start = 0;
    Bins bins;
    double power = 0;
    Bins envelope;
  };
  // Whether blocks of the capture are kept for other excerpts, of about the same length.
  enum class Blocks { made_again, kept };
  [[nodiscard]] std::vector<Peak> peaks_of(const Excerpt& excerpt, Blocks blocks = Blocks::made_again);
  // What is looked for: an excerpt, flat, and what its envelope is made of.
  struct Sought {
    std::int64_t first = 0;  // of the excerpt
    Bins bins;
    double power = 0;
    Bins envelope;
    RealTransform &transform, &envelopes;
  };
  void add_peaks(const Block& block, const Sought& sought, std::size_t hop, std::vector<Peak>& peaks) const;
  // @param samples  of the capture, low, from `start` on.
  [[nodiscard]] Block made_block(std::int64_t start, std::vector<double> samples, RealTransform& transform,
                                 RealTransform& envelopes);
  [[nodiscard]] const Block& kept_block(std::int64_t start, RealTransform& transform,
                                        RealTransform& envelopes);
  // Samples by which the end of a block fades.
  [[nodiscard]] std::size_t edge() const;
  [[nodiscard]] Excerpt excerpt_at(std::int64_t first, std::int64_t length, double frames_per_frame) const;
  CoarsePlace choose(std::vector<Peak> peaks) const;
  [[nodiscard]] std::vector<double> alike_in_all(const std::vector<double>& delays) const;
  void count_agreement(CoarsePlace& place);
  [[nodiscard]] std::pair<int, int> agreement(const CoarsePlace& place, std::int64_t begin,
                                              std::int64_t common, std::int64_t own);

  AudioSource& a_;
  AudioSource& b_;
  int a_channel_, b_channel_;
  double most_drift_;
  std::size_t step_ = 1;
  std::size_t most_peaks_ = 64;        // that are kept of one excerpt
  std::size_t most_kept_ = 4'000'000;  // low samples in blocks that are kept: 32 MB
  RealTransforms& transforms_;
  std::vector<Block> blocks_;      // that are kept, all of one length
  std::size_t block_samples_ = 0;  // of each
  Block fresh_;                    // the newest one of those that are too many to be kept
};

/// Whether a place is more than chance gives. Unrelated pairs: docs/alignment.md.
[[nodiscard]] bool is_proven(const CoarsePlace& place) noexcept;
/// Whether it is worth to be proven by what it leaves: higher than chance makes it, or few segments agree.
[[nodiscard]] bool is_likely(const CoarsePlace& place) noexcept;

}  // namespace wavicon::intake_detail
