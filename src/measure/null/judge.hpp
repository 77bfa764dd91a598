// SPDX-License-Identifier: MIT
#pragma once
// What a residual is, from what was collected of it. Internal to `measure`.

#include <span>
#include <vector>

#include "measure/common/cross_spectra.hpp"
#include "wavicon/audio/decimator.hpp"
#include "wavicon/measure/null/null.hpp"

namespace wavicon::measure_detail {

/// Bits that samples need: 1 … 24, or 0 when they do not lie on a grid of 24.
class UsedBits {
 public:
  void add(std::span<const double> samples);
  [[nodiscard]] int bits() const;

 private:
  bool off_grid_ = false;
  std::uint32_t all_ = 0;
};

/// Collects one channel of A and of the residual, block by block, hops first.
class ResidualMeter {
 public:
  /// @param frames  of the whole comparison.
  ResidualMeter(double rate, std::size_t hop, std::int64_t frames);
  void add(std::int64_t first_frame, std::span<const double> reference, std::span<const double> residual);
  /// Fills everything of the channel but channels, gain, verdict and reason.
  void finish(double band_from_hz, double band_to_hz, ChannelNull& channel);

 private:
  void add_low(std::span<const double> residual);
  void compare_levels(ChannelNull& channel) const;
  // Densities and what of the residual is coherent with A, in the band.
  void add_densities(double band_from_hz, double band_to_hz, ChannelNull& channel) const;
  // Bin by bin, whether A has power of its own there, beyond the skirts of its lines.
  [[nodiscard]] std::vector<bool> own_power() const;
  // Depths in the band, plain and weighted.
  void weigh(double band_from_hz, double band_to_hz, ChannelNull& channel) const;
  void add_third_octaves(ChannelNull& channel) const;
  void add_mains(ChannelNull& channel);
  // By how much chance may have moved the depths.
  void add_uncertainties(double band_from_hz, double band_to_hz, ChannelNull& channel) const;

  double rate_;
  std::size_t hop_;
  CrossSpectra spectra_;  // of reference and residual
  double reference_square_ = 0, residual_square_ = 0;
  std::int64_t frames_ = 0;
  double peak_ = 0;
  std::int64_t peak_frame_ = 0, first_frame_ = -1;
  std::vector<double> reference_hops_, residual_hops_;
  Decimator decimate_;
  std::vector<double> pending_, low_;
  std::vector<double> line_hz_;  // of the mains
};

/// Sets verdict and reason of each channel and of the whole.
void judge(NullResult& result);

}  // namespace wavicon::measure_detail
