// SPDX-License-Identifier: MIT
#include "wavicon/measure/pair/pair.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "measure/common/cross_spectra.hpp"
#include "measure/common/frame_range.hpp"
#include "measure/levels/levels_of.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/jackknife.hpp"
#include "wavicon/intake/align.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kHopS = 0.1;
constexpr double kTwoDeviationsDeg = 2 * 180 / std::numbers::pi;
constexpr std::int64_t kBlockHops = 8;  // hops read at once

// One channel of a source as a source of its own.
class OneChannel : public AudioSource {
 public:
  OneChannel(AudioSource& source, int channel) : source_(source), channel_(channel) {}
  [[nodiscard]] double sample_rate_hz() const noexcept override { return source_.sample_rate_hz(); }
  [[nodiscard]] int channel_count() const noexcept override { return 1; }
  [[nodiscard]] std::int64_t frames() const noexcept override { return source_.frames(); }
  void read(std::int64_t first_frame, std::span<double> planar) override {
    const auto x = read_channel(source_, channel_, first_frame, static_cast<std::int64_t>(planar.size()));
    std::copy(x.begin(), x.end(), planar.begin());
  }

 private:
  AudioSource& source_;
  int channel_;
};

std::vector<PairBand> bands_of(const CrossSpectra& spectra, double rate, double offset, bool whole_offset) {
  // The cross-spectrum was taken with B moved by the whole part of the offset; as they lie, B is later by
  // that.
  const double moved = whole_offset ? std::round(offset) : 0, bin = spectra.bin_hz();
  const double scale = spectra.density_scale() * bin, half = std::pow(10.0, 0.05);
  const PowerSpread chance_of = spectra.spread();
  std::vector<PairBand> bands;
  for (int band = -17; band <= 13; ++band) {  // 20 Hz to 20 kHz
    PairBand b;
    b.hz = 1000 * std::pow(10.0, band / 10.0);
    const auto from = static_cast<std::size_t>(std::ceil(b.hz / half / bin)),
               to = static_cast<std::size_t>(b.hz * half / bin);
    if (to >= spectra.xx().size() || from > to) continue;
    double x = 0, y = 0;
    std::complex<double> aligned = 0, lying = 0;
    for (std::size_t k = from; k <= to; ++k) {
      const double hz = static_cast<double>(k) * bin, turn = 2 * std::numbers::pi * hz / rate;
      x += spectra.xx()[k];
      y += spectra.yy()[k];
      aligned += spectra.xy()[k] * std::polar(1.0, turn * (offset - moved));
      lying += spectra.xy()[k] * std::polar(1.0, -turn * moved);
    }
    if (x <= 0 || y <= 0) continue;
    b.a = std::sqrt(x * scale);
    b.b = std::sqrt(y * scale);
    b.correlation = std::clamp(lying.real() / std::sqrt(x * y), -1.0, 1.0);
    b.mid = std::sqrt(std::max(0.0, (x + y + 2 * lying.real()) / 4 * scale));
    b.side = std::sqrt(std::max(0.0, (x + y - 2 * lying.real()) / 4 * scale));
    const double chance = 1.0 / static_cast<double>(spectra.windows());
    b.coherence = std::clamp((std::norm(aligned) / (x * y) - chance) / (1 - chance + 1e-12), 0.0, 1.0);
    // Independent values in the band: its width times the seconds that count, in one window at least.
    const double values = std::max(chance_of.seconds() * (static_cast<double>(to - from) + 1) * bin,
                                   static_cast<double>(spectra.windows()) / 2);
    b.phase_uncertainty_deg =
        std::min(180.0, kTwoDeviationsDeg * std::sqrt((1 - b.coherence) / (2 * b.coherence * values)));
    // At the centre, so that a delay turns as it should there.
    b.phase_deg = std::remainder(
        (std::arg(aligned) - 2 * std::numbers::pi * b.hz / rate * offset) * 180 / std::numbers::pi, 360.0);
    bands.push_back(b);
  }
  return bands;
}

FrameRange shared_range(AudioSource& a, AudioSource& b, const PairOptions& options) {
  if (a.sample_rate_hz() != b.sample_rate_hz())
    throw Error(ErrorCode::bad_argument,
                fmt::format("A has {:g} Hz and B has {:g} Hz: bring both to one rate first",
                            a.sample_rate_hz(), b.sample_rate_hz()));
  if (options.a_channel < 0 || options.a_channel >= a.channel_count() || options.b_channel < 0 ||
      options.b_channel >= b.channel_count())
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("A has {} channels and B has {}: channels {} and {} are not there", a.channel_count(),
                    b.channel_count(), options.a_channel + 1, options.b_channel + 1));
  FrameRange range = frame_range(a, options.from_s, options.to_s);
  (void)frame_range(b, 0, std::nullopt);
  range.end = std::min(range.end, b.frames());
  if (range.end <= range.first) throw Error(ErrorCode::bad_input, "B ends before the stretch begins");
  return range;
}

// Σxx, Σyy, Σxy.
using Energies = PartSums<3>;

double level_db(const Energies& e) { return db_from_power_ratio(e[1] / e[0]); }
double correlation(const Energies& e) { return std::clamp(e[2] / std::sqrt(e[0] * e[1]), -1.0, 1.0); }
double mono_sum_ratio(const Energies& e) {
  return std::sqrt(std::max(0.0, (e[0] + e[1] + 2 * e[2]) / 4) / (0.5 * (e[0] + e[1])));
}

// Levels and correlation of each hop of a block that begins at a frame; adds the hops' energies.
void add_hops(std::span<const double> x, std::span<const double> y, std::int64_t at, std::int64_t hop,
              std::vector<Energies>& hops, PairResult& result) {
  const auto count = static_cast<std::int64_t>(x.size());
  for (std::int64_t first = 0; first < count; first += hop) {
    const std::int64_t end = std::min(count, first + hop);
    double p = 0, q = 0, c = 0;
    for (auto n = static_cast<std::size_t>(first); n < static_cast<std::size_t>(end); ++n) {
      p += x[n] * x[n];
      q += y[n] * y[n];
      c += x[n] * y[n];
    }
    if (!std::isfinite(p) || !std::isfinite(q))
      throw Error(
          ErrorCode::bad_input,
          fmt::format("{} holds NaN or infinity near {:.3f} s; 'wavicon health' names the place",
                      std::isfinite(p) ? "B" : "A", static_cast<double>(at + first) / result.sample_rate_hz));
    hops.push_back({p, q, c});
    const auto frames = static_cast<double>(end - first);
    result.a_over_time.push_back(std::sqrt(p / frames));
    result.b_over_time.push_back(std::sqrt(q / frames));
    result.correlation_over_time.push_back(p > 0 && q > 0 ? c / std::sqrt(p * q) : 0);
  }
}

// Of every fourth momentary loudness of both, which share no sound; what the gates leave out counts for
// little.
std::optional<double> uncertainty_of_loudnesses(const std::vector<double>& a, const std::vector<double>& b) {
  constexpr std::size_t kApart = 4;
  std::vector<Energies> moments;
  for (std::size_t i = 0; i < std::min(a.size(), b.size()); i += kApart)
    if (std::isfinite(a[i]) && std::isfinite(b[i]))
      moments.push_back({power_ratio_from_db(a[i]), power_ratio_from_db(b[i]), 0});
  return jackknife(moments, level_db);
}

void add_loudness(AudioSource& a, AudioSource& b, const FrameRange& range, PairResult& result) {
  const LevelsOptions levels{.from_s = static_cast<double>(range.first) / result.sample_rate_hz,
                             .to_s = static_cast<double>(range.end) / result.sample_rate_hz,
                             .true_peak = false};
  OneChannel of_a(a, result.options.a_channel), of_b(b, result.options.b_channel);
  auto loud_a = levels_of(of_a, levels).loudness, loud_b = levels_of(of_b, levels).loudness;
  result.a_lufs = loud_a.integrated_lufs;
  result.b_lufs = loud_b.integrated_lufs;
  result.loudness_uncertainty_lu = uncertainty_of_loudnesses(loud_a.momentary_lufs, loud_b.momentary_lufs);
  result.a_momentary_lufs = std::move(loud_a.momentary_lufs);
  result.b_momentary_lufs = std::move(loud_b.momentary_lufs);
}

}  // namespace

PairResult measure_pair(const JudgedCapture& judged_a, const JudgedCapture& judged_b,
                        const PairOptions& options) {
  AudioSource &a = judged_a.source(), &b = judged_b.source();
  const FrameRange range = shared_range(a, b, options);
  PairResult result;
  result.options = options;
  const double rate = result.sample_rate_hz = a.sample_rate_hz();
  result.seconds = static_cast<double>(range.frames()) / rate;

  const auto found =
      align(a, b, {.reference_channel = options.a_channel, .capture_channel = options.b_channel});
  if (found) {
    result.time_offset_samples = found->delay_frames;
    result.time_uncertainty_samples = found->uncertainty_frames;
    result.drift_ppm = found->drift_ppm;
    result.polarity = found->gain < 0 ? -1 : 1;
    result.slips = found->slips;
    result.piece_from_s = static_cast<double>(found->piece_first_frame) / rate;
    result.piece_to_s = static_cast<double>(found->piece_end_frame) / rate;
  }
  // What both share in time is seen on one side of a slip.
  const bool slipped = found && !found->slips.empty();
  const double offset = found ? found->delay_frames : 0;
  // A large offset would leave the two nothing to share within a window; a small one is left to the phase.
  const auto moved = std::llround(offset);
  const auto hop = static_cast<std::int64_t>(std::max(1.0, std::round(kHopS * rate)));
  result.hop_s = static_cast<double>(hop) / rate;
  CrossSpectra spectra(rate, range.frames());
  std::vector<Energies> hops;
  for (std::int64_t at = range.first; at < range.end; at += hop * kBlockHops) {
    const std::int64_t count = std::min(hop * kBlockHops, range.end - at);
    const auto x = read_channel(a, options.a_channel, at, count),
               y = read_channel(b, options.b_channel, at, count);
    add_hops(x, y, at, hop, hops, result);
    if (slipped && (at < found->piece_first_frame || at + count > found->piece_end_frame)) continue;
    spectra.add(x, moved == 0 ? y : read_channel(b, options.b_channel, at + moved, count));
  }
  Energies all{};
  for (const Energies& one : hops) add_sums(all, one);
  const auto [xx, yy, xy] = all;
  if (xx == 0 || yy == 0)
    throw Error(ErrorCode::bad_input,
                fmt::format("{} is silent: there is nothing to relate", xx == 0 ? "A" : "B"));
  const auto frames = static_cast<double>(range.frames());
  result.a_rms = std::sqrt(xx / frames);
  result.b_rms = std::sqrt(yy / frames);
  result.correlation = correlation(all);
  result.mono_sum_ratio = mono_sum_ratio(all);
  result.level_uncertainty_db = jackknife(hops, level_db);
  result.correlation_uncertainty = jackknife(hops, correlation);
  result.mono_sum_uncertainty_db =
      jackknife(hops, [](const Energies& e) { return db_from_ratio(mono_sum_ratio(e)); });
  result.bands = bands_of(spectra, rate, offset, moved != 0);
  add_loudness(a, b, range, result);
  return result;
}

}  // namespace wavicon
