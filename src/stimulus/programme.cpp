// SPDX-License-Identifier: MIT
#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <optional>
#include <vector>

#include "renderers.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"
#include "wavicon/audio/random.hpp"

namespace wavicon::stimulus_detail {
namespace {

// Both kinds are sums of short sounds ("grains") that begin at places computed from seed and index, so that
// any frame can be rendered without those before it.
class GrainRenderer : public Renderer {
 public:
  GrainRenderer(const Programme& p, double rate)
      : rate_(rate),
        seed_(static_cast<std::uint64_t>(p.seed)),
        frames_(std::max<std::int64_t>(1, frames_of(p.seconds, rate))),
        fade_in_(frames_of(p.fade_in_s, rate)),
        fade_out_(frames_of(p.fade_out_s, rate)),
        level_dbfs_(p.level_dbfs) {}

  std::int64_t frames() const override { return frames_; }
  void add(std::int64_t first, int, double gain, std::span<double> out) override {
    // Found when the first sample is asked for: who only asks where the part lies needs none.
    if (!level_) level_ = level();
    std::vector<double> sound(out.size(), 0.0);
    add_sound(first, sound);
    for (std::size_t i = 0; i < out.size(); ++i) {
      const std::int64_t n = first + static_cast<std::int64_t>(i);
      out[i] += gain * *level_ * sound[i] * fade_gain(n, fade_in_) * fade_gain(frames_ - 1 - n, fade_out_);
    }
  }

 private:
  // Brings the sound to the RMS that was asked for.
  [[nodiscard]] double level() {
    constexpr double kMeasuredS = 8;
    constexpr std::size_t kBlock = 4096;
    double sum = 0;
    const std::int64_t end = frames_of(kMeasuredS, rate_);
    std::vector<double> block(kBlock);
    for (std::int64_t n = 0; n < end; n += kBlock) {
      std::fill(block.begin(), block.end(), 0.0);
      add_sound(n, block);
      for (std::int64_t i = 0; i < std::min<std::int64_t>(kBlock, end - n); ++i)
        sum += block[static_cast<std::size_t>(i)] * block[static_cast<std::size_t>(i)];
    }
    return ratio_from_db(level_dbfs_) / std::sqrt(sum / static_cast<double>(end));
  }

 protected:
  virtual void add_sound(std::int64_t first, std::span<double> out) = 0;

  static void add_grain(const std::vector<double>& grain, std::int64_t at, double gain, std::int64_t first,
                        std::span<double> out) {
    const auto length = static_cast<std::int64_t>(grain.size()),
               end = first + static_cast<std::int64_t>(out.size());
    for (std::int64_t n = std::max(first, at); n < std::min(end, at + length); ++n)
      out[static_cast<std::size_t>(n - first)] += gain * grain[static_cast<std::size_t>(n - at)];
  }
  [[nodiscard]] double uniform(std::uint64_t stream, std::int64_t index) const {
    return random_uniform(seed_, stream, static_cast<std::uint64_t>(index));
  }

  double rate_;
  std::uint64_t seed_;
  std::int64_t frames_;
  std::int64_t fade_in_, fade_out_;

 private:
  double level_dbfs_;
  std::optional<double> level_;
};

// A decaying sine with a soft beginning, in one formant or partial.
void add_ring(std::vector<double>& grain, double rate, double hz, double amplitude, double decay_per_s,
              double rise_s) {
  if (hz > 0.45 * rate) return;
  const Phase step = phase_step(hz, rate);
  const std::int64_t rise = frames_of(rise_s, rate);
  const double kept = exponential(-decay_per_s / rate);
  std::vector<double> wave(grain.size());
  steady_sines(0, step, wave);
  const auto soft = std::min(grain.size(), static_cast<std::size_t>(std::max<std::int64_t>(0, rise)));
  for (std::size_t n = 0; n < soft; ++n, amplitude *= kept)
    grain[n] += amplitude * wave[n] * fade_gain(static_cast<std::int64_t>(n), rise);
  for (std::size_t n = soft; n < grain.size(); ++n, amplitude *= kept) grain[n] += amplitude * wave[n];
}

// Fades the end out and takes the mean off, so that a row of grains holds no DC.
void finish_grain(std::vector<double>& grain, std::int64_t fade) {
  const auto length = static_cast<std::int64_t>(grain.size());
  double sum = 0, weights = 0;
  std::vector<double> weight(grain.size());
  for (std::int64_t n = 0; n < length; ++n) {
    double &x = grain[static_cast<std::size_t>(n)], &w = weight[static_cast<std::size_t>(n)];
    const double end = fade_gain(length - 1 - n, fade);
    x *= end;
    sum += x;
    w = fade_gain(n, fade) * end;
    weights += w;
  }
  for (std::size_t n = 0; n < grain.size(); ++n) grain[n] -= sum / weights * weight[n];
}

// A voice: pulses of the glottis, each ringing in four formants of one of five vowels; syllables of a fifth
// of a second in phrases, the voice falling towards the end of each; a hiss before some.
class Voice : public GrainRenderer {
 public:
  Voice(const Programme& p, double rate) : GrainRenderer(p, rate), slot_(frames_of(0.2, rate)) {
    constexpr double kFormantsHz[5][4] = {{700, 1150, 2500, 3600},
                                          {480, 1750, 2450, 3500},
                                          {310, 2150, 2900, 3700},
                                          {470, 850, 2450, 3400},
                                          {340, 720, 2300, 3300}};
    constexpr double kAmplitudes[4] = {1, 0.5, 0.22, 0.1}, kWidthsHz[4] = {80, 100, 130, 180};
    for (const auto& vowel : kFormantsHz) {
      grains_.emplace_back(static_cast<std::size_t>(frames_of(0.03, rate)), 0.0);
      for (std::size_t f = 0; f < 4; ++f)
        add_ring(grains_.back(), rate, vowel[f], kAmplitudes[f], M_PI * kWidthsHz[f], 0.0004);
      finish_grain(grains_.back(), frames_of(0.005, rate));
    }
  }

 protected:
  void add_sound(std::int64_t first, std::span<double> out) override {
    const std::int64_t end = first + static_cast<std::int64_t>(out.size());
    for (std::int64_t s = std::max<std::int64_t>(0, first / slot_ - 1); s * slot_ < end; ++s)
      if (spoken(s)) add_syllable(s, first, out);
  }

 private:
  static constexpr std::int64_t kSlots = 12;  // of a phrase and its pause
  [[nodiscard]] bool spoken(std::int64_t slot) const {
    return slot % kSlots < 6 + static_cast<std::int64_t>(4 * uniform(1, slot / kSlots));
  }
  void add_syllable(std::int64_t s, std::int64_t first, std::span<double> out) const {
    const std::vector<double>& grain = grains_[static_cast<std::size_t>(5 * uniform(2, s))];
    const double pitch_hz = 128 - 3.0 * static_cast<double>(s % kSlots) + 16 * (uniform(3, s) - 0.5);
    const double loudness = 0.5 + 0.5 * uniform(4, s);
    const std::int64_t start = s * slot_ + frames_of(0.045, rate_),
                       length = frames_of(0.1 + 0.05 * uniform(5, s), rate_);
    for (std::int64_t k = 0;; ++k) {
      // Pulses come a little unevenly, as breath does.
      const double at = (static_cast<double>(k) + 0.02 * uniform(6, 1000 * s + k)) / pitch_hz;
      const std::int64_t frame = start + frames_of(at, rate_);
      if (frame >= start + length) break;
      const double swell =
          fade_gain(frame - start, length / 4) * fade_gain(start + length - 1 - frame, length / 2);
      add_grain(grain, frame, loudness * swell, first, out);
    }
    if (uniform(7, s) < 0.4) add_hiss(s, first, out);
  }
  void add_hiss(std::int64_t s, std::int64_t first, std::span<double> out) const {
    const std::int64_t start = s * slot_, length = frames_of(0.05, rate_);
    for (std::int64_t n = std::max(first, start);
         n < std::min(first + static_cast<std::int64_t>(out.size()), start + length); ++n) {
      auto noise = [&](std::int64_t at) {
        return random_triangular(seed_, 8, static_cast<std::uint64_t>(at + 1));
      };
      const double swell = fade_gain(n - start, length / 2) * fade_gain(start + length - 1 - n, length / 2);
      out[static_cast<std::size_t>(n - first)] += 0.12 * swell * (noise(n) - noise(n - 1));
    }
  }

  std::int64_t slot_;
  std::vector<std::vector<double>> grains_;
};

// Plucked strings: four voices walking over a row of chords, each note ringing for a second and a half.
class Chamber : public GrainRenderer {
 public:
  Chamber(const Programme& p, double rate) : GrainRenderer(p, rate), beat_(frames_of(0.24, rate)) {}

 protected:
  void add_sound(std::int64_t first, std::span<double> out) override {
    const std::int64_t end = first + static_cast<std::int64_t>(out.size());
    const std::int64_t ring = frames_of(kRingS, rate_);
    for (std::int64_t beat = std::max<std::int64_t>(0, (first - ring) / beat_); beat * beat_ < end; ++beat)
      for (int voice = 0; voice < 4; ++voice) {
        const std::int64_t index = 4 * beat + voice;
        if (uniform(10, index) > (voice == 0 ? 0.4 : 0.55)) continue;
        const int note = kChords[static_cast<std::size_t>(beat / 8 % 4)]
                                [static_cast<std::size_t>(3 * uniform(11, index))] +
                         12 * voice;
        const std::int64_t late = frames_of(0.012 * uniform(12, index), rate_);
        add_grain(grain(note), beat * beat_ + late, (0.4 + 0.6 * uniform(13, index)) / (1 + voice), first,
                  out);
      }
  }

 private:
  static constexpr double kRingS = 1.5;
  static constexpr std::array<std::array<int, 3>, 4> kChords = {
      {{0, 4, 7}, {-3, 0, 4}, {-7, -3, 0}, {-5, -1, 2}}};

  const std::vector<double>& grain(int note) {
    auto [at, is_new] = grains_.try_emplace(note);
    if (!is_new) return at->second;
    at->second.assign(static_cast<std::size_t>(frames_of(kRingS, rate_)), 0.0);
    const double hz = 110 * exponential(static_cast<double>(note) * 0.057762265046662109);  // ln(2)/12
    for (int partial = 1; partial <= 12; ++partial)
      add_ring(at->second, rate_, hz * partial, 1.0 / (partial * std::sqrt(partial)), 2.5 + 0.9 * partial,
               0.002);
    finish_grain(at->second, static_cast<std::int64_t>(at->second.size()) / 4);
    return at->second;
  }

  std::int64_t beat_;
  std::map<int, std::vector<double>> grains_;
};

}  // namespace

std::unique_ptr<Renderer> make_programme(const Programme& p, double rate) {
  if (p.content == "chamber") return std::make_unique<Chamber>(p, rate);
  return std::make_unique<Voice>(p, rate);
}

}  // namespace wavicon::stimulus_detail
