// SPDX-License-Identifier: MIT
#include "wavicon/measure/spectrum/spectrum.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measure/common/density.hpp"
#include "measure/common/power_spread.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/student.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kBeta = 20;  // of the Kaiser window: side lobes at -155 dB
constexpr double kWindowWidths =
    5.5;  // widths of the lobe at half amplitude that a window needs to part two lines
constexpr double kConstant = 0.8;          // of the squares of all windows' means: what is the same in each
constexpr double kStandsOut = 31.6;        // 15 dB over what lies around
constexpr std::size_t kMostPoints = 3000;  // of a curve: twice what a picture is wide
constexpr int kMostOrders = 60;            // of a tone that are named among the peaks
constexpr double kCarrierHz = 18000;
constexpr double kLobeDb = 0.005;     // by which the crest of a lobe may differ from its power, of one line
constexpr double kOfNoise = 2;        // its uncertainty, beyond that
constexpr double kLobesOfBlock = 12;  // half lobes in a block in which lines are told from noise
constexpr double kSpreadDb = 4.34;    // 10/ln 10: of a relative error of power

// Two channels as half their sum and half their difference.
class MidSide : public AudioSource {
 public:
  explicit MidSide(AudioSource& source) : source_(source) {}
  double sample_rate_hz() const noexcept override { return source_.sample_rate_hz(); }
  int channel_count() const noexcept override { return 2; }
  std::int64_t frames() const noexcept override { return source_.frames(); }
  void read(std::int64_t first_frame, std::span<double> planar) override {
    source_.read(first_frame, planar);
    const std::size_t length = planar.size() / 2;
    for (std::size_t n = 0; n < length; ++n) {
      const double left = planar[n], right = planar[length + n];
      planar[n] = (left + right) / 2;
      planar[length + n] = (left - right) / 2;
    }
  }

 private:
  AudioSource& source_;
};

void require_valid(const SpectrumOptions& o, const AudioSource& source) {
  auto fail = [](const std::string& what) { throw Error(ErrorCode::bad_argument, what); };
  if (!(o.resolution_hz >= 0.1 && o.resolution_hz <= 5000))
    fail(fmt::format("a resolution of {} Hz is not within 0.1 to 5000", o.resolution_hz));
  if (!(o.overlap >= 0 && o.overlap <= 0.95))
    fail(fmt::format("an overlap of {} is not within 0 to 0.95", o.overlap));
  if (o.averages && *o.averages < 1) fail("at least one window is averaged");
  if (o.bands_per_octave != 0 && o.bands_per_octave != 1 && o.bands_per_octave != 3 &&
      o.bands_per_octave != 6 && o.bands_per_octave != 12 && o.bands_per_octave != 24)
    fail(fmt::format("{} bands per octave: 1, 3, 6, 12 and 24 are", o.bands_per_octave));
  if (o.most_peaks < 0 || o.most_peaks > 100)
    fail(fmt::format("{} peaks are not within 0 to 100", o.most_peaks));
  if (o.mid_side && source.channel_count() != 2)
    fail(fmt::format("mid and side need two channels, it has {}", source.channel_count()));
  if (o.tone_hz && !(*o.tone_hz > 0 && *o.tone_hz < source.sample_rate_hz() / 2))
    fail(fmt::format("a tone of {} Hz is not below half the sample rate", *o.tone_hz));
}

// What a line is likely to be, by its frequency alone.
std::string guess_of(double hz, double tone_hz, double rate, double reach_hz) {
  if (std::abs(hz - tone_hz) < reach_hz) return "tone";
  for (int k = 2; k * tone_hz < rate / 2 && k <= kMostOrders; ++k)
    if (std::abs(hz - k * tone_hz) < reach_hz) return fmt::format("harmonic {}", k);
  for (const double base : {50.0, 60.0})
    for (int k = 1; k <= 10; ++k)
      if (std::abs(hz - k * base) < std::min(reach_hz, 0.3 * k + 0.5))
        return fmt::format("mains {:g} Hz, line {}", base, k);
  for (int k = 2; k <= kMostOrders; ++k)
    if (k * tone_hz > rate / 2 &&
        std::abs(hz - std::abs(k * tone_hz - rate * std::round(k * tone_hz / rate))) < reach_hz)
      return fmt::format("fold-back of order {}", k);
  return hz > kCarrierHz ? "carrier" : "line";
}

// Mean square of a line by its highest bin and the two beside it.
double crest_power(const Density& density, std::size_t bin, double noise_hz) {
  const auto& v = density.values();
  const double before = std::log(v[bin - 1]), here = std::log(v[bin]), after = std::log(v[bin + 1]),
               shift = crest_shift(v[bin - 1], v[bin], v[bin + 1]);
  return std::exp(here - 0.25 * (before - after) * shift) * noise_hz;
}

std::vector<SpectrumPeak> peaks_of(const Density& density, const PowerSpread& chance,
                                   const SpectrumOptions& options, double rate, double half_lobe_hz,
                                   double noise_hz) {
  std::vector<SpectrumPeak> peaks;
  const auto& values = density.values();
  const auto first = static_cast<std::size_t>(half_lobe_hz / density.bin_hz()) + 1;
  for (std::size_t b = std::max<std::size_t>(2, first); b + 2 < values.size(); ++b) {
    const double hz = static_cast<double>(b) * density.bin_hz();
    if (values[b] < values[b - 1] || values[b] <= values[b + 1] ||
        values[b] < kStandsOut * density.around(hz))
      continue;
    const double exact = density.exact_hz(b);
    const double peak = std::sqrt(2 * density.line_power(exact));
    double uncertainty_db = chance.line_uncertainty_db(peak, density.around(exact));
    // A line has the window's lobe: another one within it, or one that moves, does not.
    const double shape_db = std::abs(db_from_ratio(std::sqrt(2 * crest_power(density, b, noise_hz)) / peak));
    if (shape_db > kLobeDb + kOfNoise * uncertainty_db)
      uncertainty_db = std::hypot(uncertainty_db, 2 * shape_db);
    peaks.push_back({exact, peak, "", uncertainty_db});
  }
  std::sort(peaks.begin(), peaks.end(), [](const auto& a, const auto& b) { return a.peak > b.peak; });
  std::vector<SpectrumPeak> apart;
  for (const SpectrumPeak& peak : peaks)
    if (static_cast<int>(apart.size()) < options.most_peaks &&
        std::none_of(apart.begin(), apart.end(),
                     [&](const auto& p) { return std::abs(p.hz - peak.hz) < half_lobe_hz; }))
      apart.push_back(peak);
  if (apart.empty()) return apart;
  const double tone = options.tone_hz.value_or(apart[0].hz);
  for (SpectrumPeak& peak : apart)
    peak.guess = guess_of(peak.hz, tone, rate, std::max(density.bin_hz(), 1e-4 * peak.hz));
  return apart;
}

// Centres and half a band as a ratio: exact bands of the series 1000·2^(n/N), edges half a band away.
struct BandAxis {
  BandAxis(int per_octave, double rate) : half(std::exp2(0.5 / per_octave)) {
    // Bands of octaves lie on 1 kHz; even fractions lie half a band beside it, as IEC 61260 has it (to
    // verify).
    const double origin = per_octave % 2 == 1 ? 1000 : 1000 * half;
    for (int n = -10 * per_octave; n <= 10 * per_octave; ++n)
      if (const double centre = origin * std::exp2(static_cast<double>(n) / per_octave);
          centre / half >= 14 && centre * half <= rate / 2)
        centres_hz.push_back(centre);
  }
  [[nodiscard]] double power(const std::vector<double>& density, double bin_hz, std::size_t band) const {
    return band_power(density, bin_hz, centres_hz[band] / half, centres_hz[band] * half, unweighted);
  }
  double half;
  std::vector<double> centres_hz;
};

// Bands of an averaged density: their spread as chance has it, lines apart.
std::vector<SpectrumBand> bands_of(const Density& density, const std::vector<double>& noise,
                                   const PowerSpread& chance, const BandAxis& axis) {
  std::vector<SpectrumBand> bands;
  for (std::size_t i = 0; i < axis.centres_hz.size(); ++i) {
    const double centre = axis.centres_hz[i],
                 uncertainty_db = chance.uncertainty_db(density.values(), noise, density.bin_hz(),
                                                        centre / axis.half, centre * axis.half, unweighted);
    bands.push_back({centre, std::sqrt(axis.power(density.values(), density.bin_hz(), i)), uncertainty_db / 2,
                     uncertainty_db});
  }
  return bands;
}

// Bands of what repeats, from its lines as they are; their spread as the periods differ.
void read_periods(AudioSource& source, FrameRange range, const BandAxis& axis, SpectrumResult& result) {
  const auto period = static_cast<std::size_t>(result.options.period_frames);
  range.first += result.options.period_frames;
  const WelchPlan plan{.frames = period,
                       .hop = period,
                       .length = period,
                       .beta = 0,
                       .rate = source.sample_rate_hz(),
                       .noise_bins = 1};
  const std::size_t count = axis.centres_hz.size();
  std::vector<std::vector<double>> sums(result.channels.size(), std::vector<double>(count, 0.0)),
      squares = sums;
  for_each_window(source, range, plan,
                  [&](std::size_t c, std::int64_t w, const std::vector<double>& density) {
                    result.period_count = w + 1;
                    for (std::size_t i = 0; i < count; ++i) {
                      const double power = axis.power(density, plan.bin_hz(), i);
                      sums[c][i] += power;
                      squares[c][i] += power * power;
                    }
                  });
  const auto periods = static_cast<double>(result.period_count);
  for (std::size_t c = 0; c < sums.size(); ++c)
    for (std::size_t i = 0; i < count; ++i) {
      const double mean = sums[c][i] / periods,
                   variance =
                       std::max(0.0, squares[c][i] / periods - mean * mean) / std::max(1.0, periods - 1);
      const double spread_db = mean > 0 ? kSpreadDb * std::sqrt(variance) / mean : 0;
      std::optional<double> uncertainty_db;
      if (result.period_count > 1)
        uncertainty_db = student_k2(static_cast<std::size_t>(result.period_count - 1)) * spread_db;
      result.channels[c].bands.push_back({axis.centres_hz[i], std::sqrt(mean), spread_db, uncertainty_db});
    }
}

// Bins gathered for drawing, log spacing, the highest of each group.
void gather(const std::vector<double>& values, double bin_hz, std::size_t first, double scale,
            std::vector<double>& hz, std::vector<double>& level) {
  hz.clear();
  const double last = static_cast<double>(values.size() - 1);
  double edge = static_cast<double>(std::max<std::size_t>(1, first));
  const double step = std::pow(last / edge, 1.0 / static_cast<double>(kMostPoints));
  for (auto b = static_cast<std::size_t>(edge); b < values.size();) {
    const auto end =
        std::min(values.size(), std::max(b + 1, static_cast<std::size_t>(static_cast<double>(b) * step)));
    const auto highest = std::max_element(values.begin() + static_cast<std::ptrdiff_t>(b),
                                          values.begin() + static_cast<std::ptrdiff_t>(end));
    hz.push_back(static_cast<double>(highest - values.begin()) * bin_hz);
    level.push_back(std::sqrt(*highest * scale));
    b = end;
  }
}

// Means of all windows: of a constant they are the same one.
struct Means {
  double sum = 0, squares = 0, count = 0;
  [[nodiscard]] bool are_alike() const { return sum * sum >= kConstant * squares * count; }
};

// A channel from its mean density, and from the highest one where it was held.
ChannelSpectrum channel_of(std::vector<double> mean, const std::vector<double>& held, const Means& means,
                           const WelchPlan& plan, const PowerSpread& chance, const BandAxis* axis,
                           const SpectrumResult& result) {
  const SpectrumOptions& options = result.options;
  const double rate = result.sample_rate_hz, half_lobe_hz = plan.lobe_half_bins() * plan.bin_hz();
  // A sine's highest bin holds its power over the window's noise bandwidth.
  const double scale = options.density ? 1 : 2 * plan.noise_bins * rate / static_cast<double>(plan.frames);
  const std::size_t first = options.remove_dc ? static_cast<std::size_t>(plan.lobe_half_bins()) + 1 : 0;
  ChannelSpectrum channel;
  for (double& value : mean) value /= static_cast<double>(result.window_count);
  channel.silent = std::all_of(mean.begin(), mean.end(), [](double v) { return v == 0; });
  gather(mean, plan.bin_hz(), first, scale, channel.hz, channel.level);
  std::vector<double> ignored;
  if (options.peak_hold) gather(held, plan.bin_hz(), first, scale, ignored, channel.held);
  if (options.peak_hold) channel.held.resize(channel.hz.size(), 0);
  const Density density(std::move(mean), plan);
  const std::vector<double> noise =
      without_lines(density.values(), static_cast<std::size_t>(kLobesOfBlock * plan.lobe_half_bins()));
  channel.dc =
      std::sqrt(std::max(0.0, band_power(density.values(), plan.bin_hz(), 0, half_lobe_hz, unweighted)));
  const auto beside = static_cast<std::size_t>(plan.lobe_half_bins()) + 2;
  const bool stands_out =
      beside < density.values().size() && density.values()[0] > kStandsOut * density.values()[beside];
  channel.constant = stands_out && means.are_alike();
  channel.wobbles = stands_out && !channel.constant;
  const auto uncertainty_db = [&](double from_hz, double to_hz) {
    return chance.uncertainty_db(density.values(), noise, plan.bin_hz(), from_hz, to_hz, unweighted);
  };
  channel.dc_uncertainty_db =
      channel.constant ? chance.line_uncertainty_db(std::sqrt(2.0) * channel.dc, density.values()[beside])
                       : uncertainty_db(0, half_lobe_hz);
  if (half_lobe_hz < 20) {
    channel.below_20_rms =
        std::sqrt(band_power(density.values(), plan.bin_hz(), half_lobe_hz, 20, unweighted));
    channel.below_20_uncertainty_db = uncertainty_db(half_lobe_hz, 20);
  }
  if (!channel.silent)
    channel.peaks = peaks_of(density, chance, options, rate, half_lobe_hz,
                             plan.noise_bins * rate / static_cast<double>(plan.frames));
  if (axis != nullptr) channel.bands = bands_of(density, noise, chance, *axis);
  return channel;
}

}  // namespace

SpectrumResult measure_spectrum(const JudgedCapture& capture, const SpectrumOptions& options) {
  AudioSource& given = capture.source();
  require_valid(options, given);
  MidSide mid_side(given);
  AudioSource& source = options.mid_side ? static_cast<AudioSource&>(mid_side) : given;
  const double rate = source.sample_rate_hz();
  FrameRange range = frame_range(source, options.from_s, options.to_s);
  const WelchPlan plan =
      plan_welch(rate, range.frames(), kWindowWidths / options.resolution_hz, options.overlap, kBeta);
  if (options.period_frames > 0 && range.frames() < 2 * options.period_frames)
    throw Error(ErrorCode::bad_argument,
                fmt::format("{} frames hold less than two periods of {}: the first is for settling",
                            range.frames(), options.period_frames));
  const FrameRange whole = range;
  if (options.averages)
    range.end = std::min(range.end, range.first + static_cast<std::int64_t>(plan.frames) +
                                        (*options.averages - 1) * static_cast<std::int64_t>(plan.hop));
  SpectrumResult result;
  result.options = options;
  result.sample_rate_hz = rate;
  result.frames = range.frames();
  result.window_s = static_cast<double>(plan.frames) / rate;
  result.bin_hz = plan.bin_hz();
  const auto count = static_cast<std::size_t>(source.channel_count());
  std::vector<std::vector<double>> mean(count, std::vector<double>(plan.length / 2 + 1, 0.0)), held(count);
  if (options.peak_hold)
    for (auto& values : held) values.assign(plan.length / 2 + 1, 0.0);
  std::vector<Means> means(count);
  for_each_window(
      source, range, plan,
      [&](std::size_t c, std::int64_t w, const std::vector<double>& density) {
        for (std::size_t b = 0; b < density.size(); ++b) mean[c][b] += density[b];
        for (std::size_t b = 0; b < held[c].size(); ++b) held[c][b] = std::max(held[c][b], density[b]);
        result.window_count = w + 1;
      },
      [&](std::size_t c, double window_mean) {
        means[c].sum += window_mean;
        means[c].squares += window_mean * window_mean;
        ++means[c].count;
      });
  std::optional<BandAxis> axis;
  if (options.bands_per_octave > 0) axis.emplace(options.bands_per_octave, rate);
  const BandAxis* of_density = axis && options.period_frames == 0 ? &*axis : nullptr;
  const PowerSpread chance(plan, range.frames(), kaiser_window(plan.frames, plan.beta));
  for (std::size_t c = 0; c < count; ++c)
    result.channels.push_back(
        channel_of(std::move(mean[c]), held[c], means[c], plan, chance, of_density, result));
  if (axis && options.period_frames > 0) read_periods(source, whole, *axis, result);
  return result;
}

}  // namespace wavicon
