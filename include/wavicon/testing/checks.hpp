// SPDX-License-Identifier: MIT
#pragma once
// What a test asks of a processor, as functions for any framework; wavicon/testing/gtest.hpp makes matchers
// of them.

#include <string>
#include <utility>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/sheet/sheet.hpp"
#include "wavicon/testing/processor.hpp"

namespace wavicon {

/// Whether it was kept, and what was read: the answer in words, the reading with its uncertainty and floor,
/// where it was not kept the file of a picture.
struct CheckOutcome {
  bool kept = false;
  std::string text;
  explicit operator bool() const noexcept { return kept; }
};

struct CheckOptions {
  double level_dbfs = -12;                    ///< peak of what is played
  double frequency_hz = 997;                  ///< of tones
  std::string pictures = "wavicon-pictures";  ///< folder of pictures of what was not kept; empty: none
};

/// The strongest product that folds back, of a sweep from 20 Hz to 0.45 of the rate, in dB over the carrier.
[[nodiscard]] WAVICON_EXPORT CheckOutcome folds_back_below(const Processor& processor, double limit_dbc,
                                                           const CheckOptions& options = {});
/// Its delay in samples, whatever it states: the time of noise after itself.
[[nodiscard]] WAVICON_EXPORT CheckOutcome has_latency(const Processor& processor, double samples,
                                                      double within_samples = 0.01,
                                                      const CheckOptions& options = {});
/// What is left of one and the other for noise, in dB under it: no delay, gain or polarity is taken off.
[[nodiscard]] WAVICON_EXPORT CheckOutcome nulls_with(const Processor& processor, const Processor& other,
                                                     double below_db, const CheckOptions& options = {});
/// The same samples, bit for bit, in blocks of 1, 17, 64, 512 and 4096 frames.
[[nodiscard]] WAVICON_EXPORT CheckOutcome same_whatever_the_block_size(const Processor& processor,
                                                                       const CheckOptions& options = {});
/// Two runs give the same samples, bit for bit.
[[nodiscard]] WAVICON_EXPORT CheckOutcome same_every_time(const Processor& processor,
                                                          const CheckOptions& options = {});
/// One second of nothing comes out below -120 dBFS.
[[nodiscard]] WAVICON_EXPORT CheckOutcome keeps_silence(const Processor& processor);
/// Gain at these frequencies, dB, of a sweep. @param curve  pairs of Hz and dB.
[[nodiscard]] WAVICON_EXPORT CheckOutcome has_response(const Processor& processor,
                                                       const std::vector<std::pair<double, double>>& curve,
                                                       double within_db, const CheckOptions& options = {});
/// A limit as --limit takes it, "thd_db<-80", on the measurement that has the reading: harmonics, levels,
/// noise and spectrum of a tone, aliasing and response of a sweep. @throws Error bad_argument for a reading
/// of another one: feed() a recipe and measure it.
[[nodiscard]] WAVICON_EXPORT CheckOutcome keeps_limit(const Processor& processor, const std::string& limit,
                                                      const CheckOptions& options = {});

}  // namespace wavicon
