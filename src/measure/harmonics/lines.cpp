// SPDX-License-Identifier: MIT
#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <numbers>
#include <optional>

#include "measure/common/density.hpp"
#include "measure/common/line_spectrum.hpp"
#include "measure/harmonics/methods.hpp"
#include "wavicon/audio/decibels.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr std::size_t kLongestWindow = std::size_t{1} << 20;  // frames: longer ones cost more than they tell
constexpr double kShortestWindowS = 0.25;
constexpr double kShortestWindowPeriods = 50;  // of the tone: its orders come apart
constexpr double kWanderForShorter = 0.12;  // energy that a line at order 10 loses against its lobe: 0.5 dB
constexpr double kWanderForLobes = 7e-4;    // the same at one order: 0.003 dB
constexpr double kWanderSignificance = 6;   // times what the noise does to the comparison
constexpr double kSkirtUnderNoise = 1.0 / 64;  // power; 18 dB
constexpr double kSkirtUnderLine = 1e-8;       // power of the line itself; 0.001 dB at worst
constexpr double kLobeOverNoise = 100;         // power; 20 dB
constexpr double kOtherInLobe =
    2.5;  // amplitude of another line over that of what a single one leaves of the lobe
constexpr double kByChance = 2.5;  // times the lobe's noise that noise leaves, too
constexpr double kPeriodsOfThird = 7,
                 kThirdBeta = 10;      // its lobe is narrower than the way to DC and order 2
constexpr double kThirdsByChance = 4;  // standard deviations, of three thirds and the share of their window
constexpr double kOfMoves = 1.5;
constexpr std::array kBetas = {8.0, 10.0, 12.0, 14.0, 16.0, 18.0, 20.0, 24.0, 28.0, 33.0, kLineBeta};
constexpr double kLeastOpen = 0.1;          // of the band, between lobes
constexpr double kNoiseWindowS = 0.65;      // DC's lobe ends at 12.5/0.65 s = 19.2 Hz
constexpr double kNoiseWindowPeriods = 60;  // of the tone: noise between its orders is seen

// All places of lines that belong to the tone, sorted: DC, every order below half the rate, folded ones that
// are asked for.
std::vector<double> line_places_hz(double fundamental_hz, double sample_rate_hz,
                                   const std::vector<HarmonicOrder>& orders) {
  std::vector<double> places{0.0};
  for (int k = 1; k * fundamental_hz < sample_rate_hz / 2; ++k) places.push_back(k * fundamental_hz);
  for (const HarmonicOrder& order : orders)
    if (order.folded) places.push_back(order.at_hz);
  std::sort(places.begin(), places.end());
  return places;
}

// How much energy a single line loses against its lobe because the tone's frequency or level moves within the
// window; 0 when noise alone could explain the difference.
double wander(const LineSpectrum& spectrum, double fundamental_hz, std::span<const double> places_hz) {
  const double noise = spectrum.noise_power_per_bin(fundamental_hz, places_hz);
  const double lobe_noise = noise * static_cast<double>(spectrum.lobe_bins(fundamental_hz));
  const double lobe = spectrum.lobe_power(fundamental_hz) - lobe_noise;
  const double line = spectrum.line_powers(std::array{1}, kLineBeta)[0];
  if (!(lobe > 0) || !(line > 0)) return 0;
  const double lost = lobe / line - 1.0;
  return lost > kWanderSignificance * std::sqrt(lobe_noise / lobe) ? lost : 0.0;
}

// The narrowest window whose skirts, from everything else in the spectrum, stay under the noise of every line
// or far under the line.
double beta_for(const LineSpectrum& spectrum, const std::vector<HarmonicOrder>& orders,
                std::span<const double> places_hz) {
  std::vector<std::pair<double, double>> wants;  // skirt load, power that the skirts may not exceed
  // A line's noise is at least that of a rectangle: one bin of 1/window.
  const double least_noise = spectrum.padding();
  for (const HarmonicOrder& order : orders) {
    if (order.hidden) continue;
    const double noise = spectrum.noise_power_per_bin(order.at_hz, places_hz) * least_noise;
    const double line = std::max(0.0, spectrum.lobe_power(order.at_hz));
    wants.emplace_back(spectrum.skirt_load(order.at_hz),
                       std::max(noise * kSkirtUnderNoise, line * kSkirtUnderLine));
  }
  for (const double beta : kBetas) {
    const double skirt = kaiser_skirt_ratio(beta, 1.0);
    if (std::all_of(wants.begin(), wants.end(),
                    [&](const auto& w) { return skirt * skirt * w.first < w.second; }))
      return beta;
  }
  return kLineBeta;
}

void measure_orders(const LineSpectrum& spectrum, double wandering, std::span<const double> places_hz,
                    ChannelHarmonics& channel) {
  const double beta = beta_for(spectrum, channel.orders, places_hz);
  std::vector<int> numbers;
  for (const HarmonicOrder& order : channel.orders) numbers.push_back(order.order);
  const auto lines = spectrum.line_powers(numbers, beta);
  const auto phases = spectrum.phases_deg(numbers, beta);
  const double noise_ratio = spectrum.line_noise(beta);
  // Samples are rounded to 53 bits: no line can be known to better than that, spread over the window.
  const double rounding =
      std::pow(channel.fundamental_amplitude * 0x1p-53, 2) / static_cast<double>(channel.window_frames);

  for (std::size_t i = 0; i < channel.orders.size(); ++i) {
    HarmonicOrder& order = channel.orders[i];
    if (order.hidden) continue;
    const double per_bin = spectrum.noise_power_per_bin(order.at_hz, places_hz);
    const double lobe_noise = per_bin * static_cast<double>(spectrum.lobe_bins(order.at_hz));
    const double lobe = spectrum.lobe_power(order.at_hz);
    const double noise = std::max(per_bin * noise_ratio, rounding);
    const bool by_lobe =
        wandering * order.order * order.order > kWanderForLobes && lobe > kLobeOverNoise * lobe_noise;
    // A lobe's own noise is taken off here; set_level takes off that of a single line.
    set_level(order, by_lobe ? lobe - lobe_noise + noise : lines[i], noise, channel.window_count);
    order.phase_deg = phases[i];
  }
}

// One wide-lobed window sees only the middle third of its stretch; several short ones see nearly all of it,
// which steadies readings of noise. They stay long enough for DC to end below 20 Hz and for lobes to leave
// half of the spectrum free.
std::optional<Windowing> noise_windowing(std::size_t stretch_frames, double sample_rate_hz,
                                         double fundamental_hz) {
  const double least = sample_rate_hz * std::max(kNoiseWindowS, kNoiseWindowPeriods / fundamental_hz);
  const std::size_t frames = std::bit_ceil(static_cast<std::size_t>(least));
  if (2 * stretch_frames < 3 * frames) return std::nullopt;
  const std::size_t hop = frames / 4;
  return Windowing{frames, 1 + (stretch_frames - frames) / hop, hop};
}

void measure_rest(const LineSpectrum& spectrum, const HarmonicsOptions& options,
                  std::span<const double> places_hz, ChannelHarmonics& channel) {
  channel.band_to_hz = std::min(options.band_to_hz, spectrum.sample_rate_hz() / 2);
  const double f = channel.fundamental_hz;
  const auto in_band = [&](const std::vector<double>& power) {
    return band_power(power, spectrum.hz_per_bin(), options.band_from_hz, channel.band_to_hz, unweighted) /
           spectrum.hz_per_bin();
  };
  const auto without_tone = spectrum.power_without(std::array{0.0, f}, places_hz);
  channel.thd_n_ratio = std::sqrt(in_band(without_tone)) / channel.fundamental_amplitude;

  // All orders go where their lobes leave half of the spectrum to see the noise by; otherwise only the
  // counted ones.
  const bool room = f > 4 * spectrum.lobe_half_hz();
  std::vector<double> without_harmonics{0.0};
  for (int k = 1;
       k * f < channel.band_to_hz + spectrum.lobe_half_hz() && (room || k <= options.highest_order); ++k)
    without_harmonics.push_back(k * f);
  const auto rest = spectrum.power_without(without_harmonics, places_hz);
  channel.residual_noise_rms = std::sqrt(in_band(rest) / 2);
  // As densities: half of a line's squared amplitude is its mean square.
  const PowerSpread chance = spectrum.spread();
  // Where lobes were taken out, what lies beside them stands: fewer values tell of the noise.
  double covered = 0;
  for (const double hz : without_harmonics)
    covered += std::max(0.0, std::min(hz + spectrum.lobe_half_hz(), channel.band_to_hz) -
                                 std::max(hz - spectrum.lobe_half_hz(), options.band_from_hz));
  const double fewer =
      1 / std::sqrt(std::max(kLeastOpen, 1 - covered / (channel.band_to_hz - options.band_from_hz)));
  const auto uncertainty_db = [&](std::vector<double> power) {
    // Lines of other things are no noise: they are there in every stretch.
    std::vector<double> noise = without_lines(
        rest, static_cast<std::size_t>(kNoiseBlockLobes * 2 * kLobeHalfBins * spectrum.padding()));
    for (std::vector<double>* values : {&power, &noise})
      for (double& v : *values) v /= 2 * spectrum.hz_per_bin();
    return chance.uncertainty_db(power, noise, spectrum.hz_per_bin(), options.band_from_hz,
                                 channel.band_to_hz, unweighted);
  };
  channel.thd_n_uncertainty_db = std::hypot(uncertainty_db(without_tone), channel.fundamental_uncertainty_db);
  channel.residual_uncertainty_db = fewer * uncertainty_db(rest);
}

// A tone that wanders in frequency spreads each order over order × the spread: windows are halved until it
// fits a lobe.
LineSpectrum fitting_spectrum(std::span<const double> stretch, double sample_rate_hz, double rough_hz,
                              SpectralTools& tools, double& fundamental_hz, double& wandering) {
  const double shortest =
      std::max(kShortestWindowS * sample_rate_hz, kShortestWindowPeriods * sample_rate_hz / rough_hz);
  for (std::size_t longest = kLongestWindow;; longest /= 2) {
    const Windowing windowing = divide(stretch.size(), longest);
    if (windowing.frames < longest && windowing.frames > longest / 2) longest = windowing.frames;
    LineSpectrum spectrum(stretch, sample_rate_hz, windowing, tools);
    fundamental_hz = spectrum.refine_hz(rough_hz, std::max(0.01 * rough_hz, 10.0));
    wandering = wander(spectrum, fundamental_hz, line_places_hz(fundamental_hz, sample_rate_hz, {}));
    if (100 * wandering < kWanderForShorter || static_cast<double>(windowing.frames) / 2 < shortest)
      return spectrum;
  }
}

// What skirts and rounding leave of a clean tone, 0.00001 dB, is nothing.
double beyond_skirts(double share) { return std::max(0.0, share - 1e-6); }

// By how much the tone's level moves from one third of the stretch to another, as a share of it: half of the
// spread. A line so close to it that both are one in the spectrum beats with it. 0 where a third holds few
// periods.
double unsteadiness(std::span<const double> stretch, double sample_rate_hz, double fundamental_hz) {
  const std::size_t third = stretch.size() / 3;
  if (static_cast<double>(third) * fundamental_hz / sample_rate_hz < kPeriodsOfThird) return 0;
  const auto window = kaiser_window(third, kThirdBeta);
  std::vector<double> weighted(third);
  double low = 1e300, high = 0;
  for (std::size_t i = 0; i < 3; ++i) {
    for (std::size_t n = 0; n < third; ++n) weighted[n] = window[n] * stretch[i * third + n];
    const double size = std::abs(tone_sum(weighted, phase_step(fundamental_hz, sample_rate_hz)));
    low = std::min(low, size);
    high = std::max(high, size);
  }
  return high > 0 ? (high - low) / (high + low) : 0;
}

}  // namespace

ChannelHarmonics measure_by_lines(std::span<const double> stretch, double sample_rate_hz, double rough_hz,
                                  const HarmonicsOptions& options, SpectralTools& tools) {
  ChannelHarmonics channel;
  double wandering = 0;
  const LineSpectrum spectrum =
      fitting_spectrum(stretch, sample_rate_hz, rough_hz, tools, channel.fundamental_hz, wandering);
  const double f = channel.fundamental_hz;
  channel.window_frames = static_cast<std::int64_t>(spectrum.windowing().frames);
  channel.window_count = static_cast<int>(spectrum.windowing().count);
  channel.orders = place_orders(f, sample_rate_hz, options.highest_order, spectrum.lobe_half_hz());
  const auto places = line_places_hz(f, sample_rate_hz, channel.orders);

  const double lobe_noise =
      spectrum.noise_power_per_bin(f, places) * static_cast<double>(spectrum.lobe_bins(f));
  const double lobe = spectrum.lobe_power(f);
  if (lobe < 10 * lobe_noise || f + spectrum.lobe_half_hz() > sample_rate_hz / 2) {
    channel.state = ChannelHarmonics::State::no_tone;
    return channel;
  }
  channel.fundamental_amplitude = std::sqrt(lobe - lobe_noise);
  const double per_bin = lobe_noise / static_cast<double>(spectrum.lobe_bins(f)),
               line_noise = per_bin * spectrum.line_noise(kLineBeta), power = lobe - lobe_noise;
  // Another line within the lobe (hum beside a low tone) beats with it.
  const double line = spectrum.line_powers(std::array{1}, kLineBeta)[0],
               other = kOtherInLobe * std::sqrt(std::max(0.0, lobe - line - kByChance * lobe_noise) / power),
               window_s = static_cast<double>(channel.window_frames) / sample_rate_hz,
               // A third sees the noise of three times the bandwidth.
      moves = std::max(0.0, unsteadiness(stretch, sample_rate_hz, f) -
                                kThirdsByChance * std::sqrt(3 * line_noise / power));
  channel.fundamental_uncertainty_db =
      std::hypot(line_uncertainty_db(power, power * line_noise, per_bin * lobe_noise, channel.window_count),
                 db_from_ratio(1 + beyond_skirts(other)), db_from_ratio(1 + beyond_skirts(kOfMoves * moves)));
  channel.fundamental_uncertainty_hz =
      std::hypot(2 * spectrum.frequency_sigma_hz(channel.fundamental_amplitude, per_bin), other / window_s);
  channel.dc = spectrum.dc();
  measure_orders(spectrum, wandering, places, channel);
  set_thd(channel);
  const auto short_windows = noise_windowing(stretch.size(), sample_rate_hz, f);
  if (short_windows) {
    measure_rest(LineSpectrum(stretch, sample_rate_hz, *short_windows, tools), options, places, channel);
  } else {
    measure_rest(spectrum, options, places, channel);
  }
  spectrum.draw(channel.spectrum_hz, channel.spectrum_amplitude);
  const auto first = stretch.first(std::min(stretch.size(), spectrum.windowing().frames));
  fold_to_period(first, sample_rate_hz,
                 std::arg(tone_sum(first, phase_step(spectrum.window_frequencies_hz()[0], sample_rate_hz))),
                 channel);
  return channel;
}

}  // namespace wavicon::measure_detail
