// SPDX-License-Identifier: MIT
#include <algorithm>
#include <array>
#include <atomic>
#include <bit>
#include <cmath>
#include <map>
#include <optional>
#include <vector>

#include "audio/wide.hpp"
#include "inverse_transform.hpp"
#include "renderers.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"
#include "wavicon/audio/random.hpp"

namespace wavicon::stimulus_detail {
namespace {

constexpr double kBlockS = 1.2;  // spectral blocks: 0.8 Hz between bins, so that 20 Hz is shaped by many
constexpr double kScannedS =
    600;  // longer noise takes its level from the expectation, which it then keeps by 0.01 dB

// Numbers that are kept from finding a level, 32 MB of all noise that is there at once; those that have no
// room are made again.
constexpr std::size_t kMostKept = 4'000'000;
std::atomic<std::size_t> numbers_kept = 0;

// Samples in blocks that are kept for streams read side by side: 64 MB.
constexpr std::size_t kMostInPairs = 8'000'000;

// Whether there is room for so many, which is then taken.
bool take_room(std::size_t count) {
  if (count <= kMostKept && numbers_kept.fetch_add(count) + count <= kMostKept) return true;
  if (count <= kMostKept) numbers_kept -= count;
  return false;
}

// Twelve uniform numbers of 16 bits, summed: mean 0, variance 1, Gaussian but for its ends at ±6, and the
// same bits on every machine. Two sums side by side; numbers of 32 bits become doubles eight at once, those
// of 64 one by one.
inline double nearly_gaussian(std::uint64_t seed, std::uint64_t stream, std::uint64_t index) {
  constexpr std::uint64_t kTwo = 0x0000FFFF0000FFFF;
  std::uint64_t sums = 0;
  for (std::uint64_t i = 0; i < 3; ++i) {
    const std::uint64_t bits = random_bits(seed, stream, 3 * index + i);
    sums += (bits & kTwo) + (bits >> 16 & kTwo);
  }
  const auto sum = static_cast<std::int32_t>((sums >> 32) + (sums & 0xFFFFFFFF));
  return (static_cast<double>(sum) - 12 * 32767.5) / 65536.0;
}

// Numbers first, first + 1, … of it.
WAVICON_WIDE void write_gaussian(std::uint64_t seed, std::uint64_t stream, std::uint64_t first, double* out,
                                 std::size_t count) {
  for (std::size_t i = 0; i < count; ++i) out[i] = nearly_gaussian(seed, stream, first + i);
}

// Numbers first + 2·k of it, for each k.
WAVICON_WIDE void write_gaussian_at(std::uint64_t seed, std::uint64_t stream, std::uint64_t first,
                                    const std::size_t* k, double* out, std::size_t count) {
  for (std::size_t i = 0; i < count; ++i) out[i] = nearly_gaussian(seed, stream, first + 2 * k[i]);
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
    write_gaussian(seed_, stream, static_cast<std::uint64_t>(first), out.data(), out.size());
  }

 private:
  std::uint64_t seed_;
};

// Blocks of shaped random spectra under a sine window, overlapping by half: the squares of the windows add up
// to 1, so the noise is stationary. One complex transform gives two blocks, its real and its imaginary part.
class ShapedSource : public Source {
 public:
  // @param streams  that are read side by side: two pairs of each are kept, as far as there is room.
  ShapedSource(const Noise& p, double rate, int streams)
      : seed_(static_cast<std::uint64_t>(p.seed)),
        length_(std::bit_ceil(static_cast<std::size_t>(kBlockS * rate))),
        hop_(length_ / 2),
        gains_(length_),
        transform_(length_),
        window_(length_) {
    const std::size_t room = kMostInPairs / (2 * length_);
    pairs_.resize(
        std::max<std::size_t>(3, std::min<std::size_t>(room, 2 * static_cast<std::size_t>(streams))));
    const auto gains = spectral_gains(p, rate, length_, p.colour != "pink", true);
    for (std::size_t place = 0; place < length_; ++place) {
      const std::size_t k = transform_.bins()[place];
      gains_[place] = gains[std::min(k, length_ - k)];
    }
    for (std::size_t n = 0; n < length_; ++n)
      window_[n] =
          sine(phase_from_cycles((static_cast<double>(n) + 0.5) / (2.0 * static_cast<double>(length_))));
  }

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
    const auto real = transform_.real(), imaginary = transform_.imaginary();
    constexpr std::size_t kPiece = 256;
    std::array<double, kPiece> first{}, second{};
    // In the order of places, not of bins: numbers can be had in any order, memory is fast in one.
    for (std::size_t start = 0; start < length_; start += kPiece) {
      const std::size_t count = std::min(kPiece, length_ - start);
      const std::uint64_t index = 2 * number * length_;
      const std::size_t* bins = transform_.bins().data() + start;
      write_gaussian_at(seed_, stream, index, bins, first.data(), count);
      write_gaussian_at(seed_, stream, index + 1, bins, second.data(), count);
      for (std::size_t i = 0; i < count; ++i) {
        const double gain = gains_[start + i];
        real[start + i] = gain == 0 ? 0 : gain * first[i];
        imaginary[start + i] = gain == 0 ? 0 : gain * second[i];
      }
    }
    transform_.execute();
    pair.samples.resize(2 * length_);
    for (std::size_t n = 0; n < length_; ++n) {
      pair.samples[n] = window_[n] * real[n];
      pair.samples[length_ + n] = window_[n] * imaginary[n];
    }
    pair.number = number;
    pair.stream = stream;
    pair.used = ++uses_;
  }

  std::uint64_t seed_;
  std::size_t length_, hop_;
  std::vector<double> gains_;  // by place
  InverseTransform transform_;
  std::vector<double> window_;
  std::vector<Pair> pairs_;
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
    InverseTransform transform(length_);
    const auto real = transform.real(), imaginary = transform.imaginary();
    for (std::size_t k = 1; k < length_ / 2; ++k) {
      const Phase phase = random_bits(seed_, stream, k);
      const double along = gains_[k] * cosine(phase), across = gains_[k] * sine(phase);
      real[transform.place_of(k)] = real[transform.place_of(length_ - k)] = along;
      imaginary[transform.place_of(k)] = across;
      imaginary[transform.place_of(length_ - k)] = -across;
    }
    transform.execute();
    period.assign(real.begin(), real.end());
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
        fade_out_(frames_of(p.fade_out_s, rate)),
        level_(ratio_from_db(p.level_dbfs)) {
    if (p.period_s)
      source_ = std::make_unique<PeriodicSource>(p, rate);
    else if (is_plain_white(p))
      source_ = std::make_unique<WhiteSource>(static_cast<std::uint64_t>(p.seed));
    else
      source_ = std::make_unique<ShapedSource>(p, rate, independent_ ? channel_count : 1);
    peak_ = p.level_as == "peak";
    scan_ = peak_ || (!p.period_s && p.seconds <= kScannedS);
    gains_.resize(static_cast<std::size_t>(independent_ ? channel_count : 1));
    kept_.resize(gains_.size());
  }

  ~NoiseRenderer() override { numbers_kept -= room_; }
  NoiseRenderer(const NoiseRenderer&) = delete;
  NoiseRenderer& operator=(const NoiseRenderer&) = delete;

  std::int64_t frames() const override { return frames_; }
  void add(std::int64_t first, int channel, double gain, std::span<double> out) override {
    const int stream = independent_ ? channel : 0;
    const double scale = gain * gain_of(static_cast<std::size_t>(stream));
    scratch_.resize(out.size());
    const std::vector<double>& kept = kept_[static_cast<std::size_t>(stream)];
    const double* numbers = scratch_.data();
    if (kept.empty())
      source_->write(first, static_cast<std::uint64_t>(stream), scratch_);
    else
      numbers = kept.data() + first;
    const auto size = static_cast<std::int64_t>(out.size());
    const std::int64_t faded_in = std::clamp<std::int64_t>(fade_in_ - first, 0, size),
                       fades_out = std::clamp<std::int64_t>(frames_ - fade_out_ - first, faded_in, size);
    const auto add_faded = [&](std::int64_t from, std::int64_t to) {
      for (std::int64_t i = from; i < to; ++i)
        out[static_cast<std::size_t>(i)] += scale * numbers[i] * fade_gain(first + i, fade_in_) *
                                            fade_gain(frames_ - 1 - first - i, fade_out_);
    };
    add_faded(0, faded_in);
    for (std::int64_t i = faded_in; i < fades_out; ++i)
      out[static_cast<std::size_t>(i)] += scale * numbers[i];
    add_faded(fades_out, size);
  }

 private:
  // Found when the first sample is asked for: who only looks for marks needs none.
  double gain_of(std::size_t stream) {
    auto& gain = gains_[stream];
    if (!gain) gain = level_ / (scan_ ? measure(static_cast<std::uint64_t>(stream), peak_) : 1.0);
    return *gain;
  }

  // RMS or peak of the noise as it will be, so that the level is met and not only expected.
  double measure(std::uint64_t stream, bool peak) {
    constexpr std::int64_t kBlock = 16384;
    std::vector<double>& kept = kept_[stream];
    const bool keep = take_room(static_cast<std::size_t>(frames_));
    if (keep) {
      room_ += static_cast<std::size_t>(frames_);
      kept.reserve(static_cast<std::size_t>(frames_));
    }
    double squares = 0, highest = 0;
    for (std::int64_t start = 0; start < frames_; start += kBlock) {
      scratch_.resize(static_cast<std::size_t>(std::min(kBlock, frames_ - start)));
      source_->write(start, stream, scratch_);
      if (keep) kept.insert(kept.end(), scratch_.begin(), scratch_.end());
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
  double level_;
  bool peak_ = false, scan_ = false;
  std::vector<std::optional<double>> gains_;  // of each stream
  std::vector<std::vector<double>> kept_;     // what was scanned, of each stream; empty: made again
  std::size_t room_ = 0;                      // that is taken for them
  std::vector<double> scratch_;
};

}  // namespace

std::unique_ptr<Renderer> make_noise(const Noise& noise, double sample_rate_hz, int channel_count) {
  return std::make_unique<NoiseRenderer>(noise, sample_rate_hz, channel_count);
}

}  // namespace wavicon::stimulus_detail
