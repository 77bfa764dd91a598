// SPDX-License-Identifier: MIT
#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <complex>
#include <map>
#include <vector>

#include "renderers.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"
#include "wavicon/audio/random.hpp"

namespace wavicon::stimulus_detail {
namespace {

constexpr double kBlockS = 1.2;  // spectral blocks: 0.8 Hz between bins, so that 20 Hz is shaped by many
constexpr double kScannedS =
    600;  // longer noise takes its level from the expectation, which it then keeps by 0.01 dB

// Twelve uniform numbers of 16 bits, summed: mean 0, variance 1, Gaussian but for its ends at ±6, and the
// same bits on every machine.
double nearly_gaussian(std::uint64_t seed, std::uint64_t stream, std::uint64_t index) {
  std::int64_t sum = 0;
  for (std::uint64_t i = 0; i < 3; ++i) {
    const std::uint64_t bits = random_bits(seed, stream, 3 * index + i);
    sum += static_cast<std::int64_t>((bits & 0xFFFF) + (bits >> 16 & 0xFFFF) + (bits >> 32 & 0xFFFF) +
                                     (bits >> 48));
  }
  return (static_cast<double>(sum) - 12 * 32767.5) / 65536.0;
}

// Transform of radix 2 in place, Σ x[k]·e^{+2πi·k·n/N}. Our own because a library's order of additions
// depends on the processor, and a recipe gives the same bytes on all of them.
void inverse_transform(std::vector<std::complex<double>>& x,
                       const std::vector<std::complex<double>>& rotors) {
  const std::size_t length = x.size();
  for (std::size_t i = 1, j = 0; i < length; ++i) {
    std::size_t bit = length >> 1;
    for (; (j & bit) != 0; bit >>= 1) j ^= bit;
    j |= bit;
    if (i < j) std::swap(x[i], x[j]);
  }
  for (std::size_t half = 1; half < length; half *= 2) {
    const std::size_t stride = length / (2 * half);
    for (std::size_t start = 0; start < length; start += 2 * half)
      for (std::size_t k = 0; k < half; ++k) {
        const std::complex<double> rotor = rotors[k * stride];
        std::complex<double>&a = x[start + k], &b = x[start + k + half];
        const std::complex<double> turned(rotor.real() * b.real() - rotor.imag() * b.imag(),
                                          rotor.real() * b.imag() + rotor.imag() * b.real());
        b = a - turned;
        a += turned;
      }
  }
}

struct Band {
  double from_hz;
  double to_hz;
};

// Exact centres of the bands that nominal ones stand for are powers of 10^(3/10) and 10^(1/10) times 1 kHz
// (IEC 61260-1, to verify).
Band band_of(const Noise& p, double rate) {
  auto around = [&](double nominal_hz, double half_width) {
    const double tenths = std::round(10 * db_from_ratio(nominal_hz / 1000) / 20);
    const double centre = 1000 * ratio_from_db(20 * tenths / 10);
    return Band{centre * ratio_from_db(-half_width), std::min(rate / 2, centre * ratio_from_db(half_width))};
  };
  if (p.octave_hz) return around(*p.octave_hz, 3.0);              // 10^(±3/20)
  if (p.third_octave_hz) return around(*p.third_octave_hz, 1.0);  // 10^(±1/20)
  const double from = p.from_hz > 0 || p.colour != "pink" ? p.from_hz : kPinkFromHz;
  return {from, p.to_hz.value_or(rate / 2)};
}

bool is_plain_white(const Noise& p) {
  return p.colour == "white" && p.from_hz == 0 && !p.to_hz && !p.octave_hz && !p.third_octave_hz;
}

// Amplitudes of the bins up to half the rate that give a variance of 1, bins at the band's edges in part.
std::vector<double> spectral_gains(const Noise& p, double rate, std::size_t length, bool with_0_hz,
                                   bool with_half_rate) {
  const Band band = band_of(p, rate);
  const double bin = rate / static_cast<double>(length);
  const std::size_t half = length / 2;
  std::vector<double> gains;
  double power = 0;
  for (std::size_t k = 0; k <= half; ++k) {
    const double hz = static_cast<double>(k) * bin;
    const double inside = std::clamp(
        (std::min(hz + bin / 2, band.to_hz) - std::max(hz - bin / 2, band.from_hz)) / bin, 0.0, 1.0);
    const bool left_out = (k == 0 && !with_0_hz) || (k == half && !with_half_rate);
    gains.push_back(left_out ? 0.0 : std::sqrt(inside / (p.colour == "pink" ? hz : 1.0)));
    power += gains[k] * gains[k] * (k == 0 || k == half ? 1 : 2);
  }
  for (double& gain : gains) gain /= std::sqrt(power);
  return gains;
}

std::vector<std::complex<double>> rotors_of(std::size_t length) {
  std::vector<std::complex<double>> rotors;
  for (std::size_t k = 0; k < length / 2; ++k) {
    const auto phase = phase_from_cycles(static_cast<double>(k) / static_cast<double>(length));
    rotors.emplace_back(cosine(phase), sine(phase));
  }
  return rotors;
}

// Unscaled noise of one channel, variance 1 in expectation.
class Source {
 public:
  virtual ~Source() = default;
  virtual void write(std::int64_t first, std::uint64_t stream, std::span<double> out) = 0;
};

class WhiteSource : public Source {
 public:
  explicit WhiteSource(std::uint64_t seed) : seed_(seed) {}
  void write(std::int64_t first, std::uint64_t stream, std::span<double> out) override {
    for (std::size_t i = 0; i < out.size(); ++i)
      out[i] = nearly_gaussian(seed_, stream, static_cast<std::uint64_t>(first) + i);
  }

 private:
  std::uint64_t seed_;
};

// Blocks of shaped random spectra under a sine window, overlapping by half: the squares of the windows add up
// to 1, so the noise is stationary. One complex transform gives two blocks, its real and its imaginary part.
class ShapedSource : public Source {
 public:
  ShapedSource(const Noise& p, double rate)
      : seed_(static_cast<std::uint64_t>(p.seed)),
        length_(std::bit_ceil(static_cast<std::size_t>(kBlockS * rate))),
        hop_(length_ / 2),
        gains_(spectral_gains(p, rate, length_, p.colour != "pink", true)),
        rotors_(rotors_of(length_)) {}

  void write(std::int64_t first, std::uint64_t stream, std::span<double> out) override {
    for (std::size_t i = 0; i < out.size();) {
      const auto n = static_cast<std::uint64_t>(first) + i;
      const std::uint64_t segment = n / hop_;
      const std::size_t at = n % hop_, count = std::min(out.size() - i, hop_ - at);
      // Segment s holds the second half of block s and the first half of block s + 1.
      const double* early = block(segment, stream) + hop_ + at;
      const double* late = block(segment + 1, stream) + at;
      for (std::size_t k = 0; k < count; ++k) out[i + k] = early[k] + late[k];
      i += count;
    }
  }

 private:
  struct Pair {
    std::uint64_t number = ~std::uint64_t{0};
    std::uint64_t stream = 0;
    std::vector<double> samples;  ///< two windowed blocks
    std::uint64_t used = 0;
  };

  const double* block(std::uint64_t index, std::uint64_t stream) {
    const std::uint64_t number = index / 2;
    Pair* oldest = &pairs_[0];
    for (Pair& pair : pairs_) {
      if (pair.number == number && pair.stream == stream) {
        pair.used = ++uses_;
        return pair.samples.data() + (index % 2) * length_;
      }
      if (pair.used < oldest->used) oldest = &pair;
    }
    fill(*oldest, number, stream);
    return oldest->samples.data() + (index % 2) * length_;
  }

  void fill(Pair& pair, std::uint64_t number, std::uint64_t stream) {
    spectrum_.resize(length_);
    for (std::size_t k = 0; k < length_; ++k) {
      const double gain = gains_[std::min(k, length_ - k)];
      const std::uint64_t index = 2 * (number * length_ + k);
      spectrum_[k] = gain == 0 ? std::complex<double>(0)
                               : std::complex(gain * nearly_gaussian(seed_, stream, index),
                                              gain * nearly_gaussian(seed_, stream, index + 1));
    }
    inverse_transform(spectrum_, rotors_);
    pair.samples.resize(2 * length_);
    for (std::size_t n = 0; n < length_; ++n) {
      const double window =
          sine(phase_from_cycles((static_cast<double>(n) + 0.5) / (2.0 * static_cast<double>(length_))));
      pair.samples[n] = window * spectrum_[n].real();
      pair.samples[length_ + n] = window * spectrum_[n].imag();
    }
    pair.number = number;
    pair.stream = stream;
    pair.used = ++uses_;
  }

  std::uint64_t seed_;
  std::size_t length_, hop_;
  std::vector<double> gains_;
  std::vector<std::complex<double>> rotors_, spectrum_;
  std::array<Pair, 3> pairs_;
  std::uint64_t uses_ = 0;
};

// One period over and over: amplitudes that are exactly those of the colour, phases at random. A Gaussian
// period would have bins that are nearly empty, at which nothing can be measured.
class PeriodicSource : public Source {
 public:
  PeriodicSource(const Noise& p, double rate)
      : seed_(static_cast<std::uint64_t>(p.seed)),
        length_(static_cast<std::size_t>(noise_period_frames(p, rate))),
        gains_(spectral_gains(p, rate, length_, false, false)) {}

  void write(std::int64_t first, std::uint64_t stream, std::span<double> out) override {
    const std::vector<double>& period = period_of(stream);
    for (std::size_t i = 0; i < out.size(); ++i)
      out[i] = period[(static_cast<std::uint64_t>(first) + i) % length_];
  }

 private:
  const std::vector<double>& period_of(std::uint64_t stream) {
    std::vector<double>& period = periods_[stream];
    if (!period.empty()) return period;
    std::vector<std::complex<double>> spectrum(length_);
    for (std::size_t k = 1; k < length_ / 2; ++k) {
      const Phase phase = random_bits(seed_, stream, k);
      spectrum[k] = {gains_[k] * cosine(phase), gains_[k] * sine(phase)};
      spectrum[length_ - k] = std::conj(spectrum[k]);
    }
    inverse_transform(spectrum, rotors_of(length_));
    for (const auto& value : spectrum) period.push_back(value.real());
    return period;
  }

  std::uint64_t seed_;
  std::size_t length_;
  std::vector<double> gains_;
  std::map<std::uint64_t, std::vector<double>> periods_;  // by stream
};

class NoiseRenderer : public Renderer {
 public:
  NoiseRenderer(const Noise& p, double rate, int channel_count)
      : independent_(p.independent),
        frames_(std::max<std::int64_t>(1, frames_of(p.seconds, rate))),
        fade_in_(frames_of(p.fade_in_s, rate)),
        fade_out_(frames_of(p.fade_out_s, rate)) {
    if (p.period_s)
      source_ = std::make_unique<PeriodicSource>(p, rate);
    else if (is_plain_white(p))
      source_ = std::make_unique<WhiteSource>(static_cast<std::uint64_t>(p.seed));
    else
      source_ = std::make_unique<ShapedSource>(p, rate);
    const bool peak = p.level_as == "peak";
    const bool scan = peak || p.seconds <= kScannedS;
    for (int c = 0; c < (independent_ ? channel_count : 1); ++c)
      gains_.push_back(ratio_from_db(p.level_dbfs) / (p.period_s && !peak ? 1.0
                                                      : scan ? measure(static_cast<std::uint64_t>(c), peak)
                                                             : 1.0));
  }

  std::int64_t frames() const override { return frames_; }
  void add(std::int64_t first, int channel, double gain, std::span<double> out) override {
    const int stream = independent_ ? channel : 0;
    scratch_.resize(out.size());
    source_->write(first, static_cast<std::uint64_t>(stream), scratch_);
    const double scale = gain * gains_[static_cast<std::size_t>(stream)];
    for (std::size_t i = 0; i < out.size(); ++i) {
      const std::int64_t n = first + static_cast<std::int64_t>(i);
      out[i] += scale * scratch_[i] * fade_gain(n, fade_in_) * fade_gain(frames_ - 1 - n, fade_out_);
    }
  }

 private:
  // RMS or peak of the noise as it will be, so that the level is met and not only expected.
  double measure(std::uint64_t stream, bool peak) {
    constexpr std::int64_t kBlock = 16384;
    double squares = 0, highest = 0;
    for (std::int64_t start = 0; start < frames_; start += kBlock) {
      scratch_.resize(static_cast<std::size_t>(std::min(kBlock, frames_ - start)));
      source_->write(start, stream, scratch_);
      for (const double x : scratch_) {
        squares += x * x;
        highest = std::max(highest, std::abs(x));
      }
    }
    const double found = peak ? highest : std::sqrt(squares / static_cast<double>(frames_));
    return found > 0 ? found : 1.0;
  }

  bool independent_;
  std::int64_t frames_, fade_in_, fade_out_;
  std::unique_ptr<Source> source_;
  std::vector<double> gains_;
  std::vector<double> scratch_;
};

}  // namespace

std::unique_ptr<Renderer> make_noise(const Noise& noise, double sample_rate_hz, int channel_count) {
  return std::make_unique<NoiseRenderer>(noise, sample_rate_hz, channel_count);
}

}  // namespace wavicon::stimulus_detail
