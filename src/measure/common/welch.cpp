// SPDX-License-Identifier: MIT
#include "measure/common/welch.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <optional>

#include "audio/wide.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/workers.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr std::size_t kMostHeld = 4'000'000;  // samples and bins of the windows that are worked on at once
constexpr std::size_t kEach = 2;  // transforms of a thread before all are joined: they stay in its cache

// How many windows are read together, and how many transforms run side by side.
struct WindowBatch {
  WindowBatch(const WelchPlan& plan, std::size_t channels, std::int64_t count) {
    const auto threads = static_cast<std::size_t>(allowed_threads());
    if (threads == 1) return;
    const std::size_t wanted = (kEach * threads + channels - 1) / channels,
                      held = std::max<std::size_t>(1, kMostHeld / (channels * plan.length));
    windows = std::min({wanted, held, static_cast<std::size_t>(std::max<std::int64_t>(1, count))});
    side_by_side = std::min(threads, windows * channels);
  }
  std::size_t windows = 1;
  std::size_t side_by_side = 1;
};

struct Densities {
  Densities(std::size_t slots, std::size_t bins)
      : densities(slots, std::vector<double>(bins)), means(slots) {}
  std::vector<std::vector<double>> densities;
  std::vector<double> means;
};

// Samples times a symmetric window, of which the first half is given, the middle one in it.
WAVICON_WIDE void weigh(const double* __restrict samples, const double* __restrict half_window,
                        double* __restrict result, std::size_t count) {
  const std::size_t half = count / 2, rest = count - half;
  for (std::size_t n = 0; n < rest; ++n) result[n] = samples[n] * half_window[n];
  for (std::size_t n = 0; n < half; ++n) result[rest + n] = samples[rest + n] * half_window[half - 1 - n];
}

// What a channel holds of the signal: the frames of the windows that are worked on, at a place that moves on
// with them, so that they are not moved for each.
class HeldFrames {
 public:
  HeldFrames(std::size_t channels, std::size_t run)
      : channels_(channels), run_(run), held_(channels * 2 * run) {}
  [[nodiscard]] const double* of(std::size_t channel) const {
    return held_.data() + channel * 2 * run_ + at_;
  }
  // The first ones. @param planar  `run` of each channel.
  void fill(std::span<const double> planar) {
    for (std::size_t c = 0; c < channels_; ++c)
      std::copy_n(planar.data() + c * run_, run_, held_.data() + c * 2 * run_);
  }
  // Drops `count` frames and puts fresh ones behind frame `kept` of what stays.
  void move_on(std::size_t count, std::size_t kept, std::span<const double> planar) {
    at_ += count;
    const bool full = at_ + kept + count > 2 * run_;
    for (std::size_t c = 0; c < channels_; ++c) {
      double* const all = held_.data() + c * 2 * run_;
      if (full) std::copy_n(all + at_, kept, all);
      std::copy_n(planar.data() + c * count, count, all + (full ? 0 : at_) + kept);
    }
    if (full) at_ = 0;
  }

 private:
  std::size_t channels_, run_, at_ = 0;
  std::vector<double> held_;
};

}  // namespace

WelchPlan plan_of(std::span<const double> window, std::size_t hop, std::size_t length, double beta,
                  double rate) {
  double sum = 0, squares = 0;
  for (const double w : window) {
    sum += w;
    squares += w * w;
  }
  WelchPlan plan;
  plan.frames = window.size();
  plan.hop = hop;
  plan.length = length;
  plan.beta = beta;
  plan.rate = rate;
  plan.noise_bins = squares / (sum * sum) * static_cast<double>(window.size());
  return plan;
}

WelchPlan plan_welch(double rate, std::int64_t stretch_frames, double window_s, double overlap, double beta) {
  // A length whose transform is fast, and no zeros behind the window: bins and lobes stay small.
  const auto frames = static_cast<std::size_t>(std::min<std::int64_t>(
      stretch_frames, static_cast<std::int64_t>(
                          fast_transform_length(static_cast<std::size_t>(std::max(64.0, window_s * rate))))));
  const auto hop =
      std::max<std::size_t>(1, static_cast<std::size_t>(static_cast<double>(frames) * (1 - overlap)));
  return plan_of(kaiser_window(frames, beta), hop, fast_transform_length(frames), beta, rate);
}

WindowDensity::WindowDensity(const WelchPlan& plan)
    : half_window_(kaiser_window(plan.frames, plan.beta)), frames_(plan.frames), transform_(plan.length) {
  double squares = 0;
  for (const double w : half_window_) {
    squares += w * w;
    sum_ += w;
  }
  half_window_.resize((frames_ + 1) / 2);
  half_window_.shrink_to_fit();
  scale_ = 2 / (squares * plan.rate);
}

double WindowDensity::operator()(const double* samples, std::vector<double>& density) {
  const auto input = transform_.input();
  weigh(samples, half_window_.data(), input.data(), frames_);
  std::fill(input.begin() + static_cast<std::ptrdiff_t>(frames_), input.end(), 0.0);
  // One-sided: of the bins at both ends only the half within 0 Hz to half the rate is ever counted.
  return transform_.execute_squares(scale_, density) / sum_;
}

void for_each_window(
    AudioSource& source, const FrameRange& range, const WelchPlan& plan,
    const std::function<void(std::size_t, std::int64_t, const std::vector<double>&)>& each,
    const std::function<void(std::size_t, double)>& mean,
    const std::function<void(std::size_t, std::int64_t, const std::vector<double>&)>& beside) {
  const auto channels = static_cast<std::size_t>(source.channel_count());
  const std::size_t frames = plan.frames, bins = plan.length / 2 + 1;
  const auto hop = static_cast<std::int64_t>(plan.hop);
  const std::int64_t count = window_count(plan, range.frames());
  const WindowBatch batch(plan, channels, count);
  std::vector<WindowDensity> density_of;
  for (std::size_t i = 0; i < batch.side_by_side; ++i) density_of.emplace_back(plan);
  const std::size_t run = frames + (batch.windows - 1) * plan.hop;
  const std::size_t slots = batch.windows * channels, added = batch.windows * plan.hop;
  HeldFrames held(channels, run);
  std::vector<double> fresh(channels * added);
  // Of the windows that are handed over, and of the next ones, which are transformed meanwhile.
  Densities here(slots, bins), next(slots, bins);
  const auto of_batch = [&](std::int64_t first) {
    return static_cast<std::size_t>(
               std::clamp<std::int64_t>(count - first, 0, static_cast<std::int64_t>(batch.windows))) *
           channels;
  };
  const auto transformed = [&](std::int64_t first) {
    const std::size_t filled = of_batch(first), parts = std::min(batch.side_by_side, filled);
    return WorkBeside(parts, [&, first, filled, parts](std::size_t part) {
      for (std::size_t slot = part; slot < filled; slot += parts) {
        const std::size_t c = slot % channels, w = slot / channels;
        next.means[slot] = density_of[part](held.of(c) + w * plan.hop, next.densities[slot]);
        if (beside && std::isfinite(next.densities[slot][0]))
          beside(c, first + static_cast<std::int64_t>(w), next.densities[slot]);
      }
    });
  };
  const auto read = [&](std::int64_t first) {
    return WorkBeside([&, first] {
      if (of_batch(first) > 0)
        source.read(range.first + static_cast<std::int64_t>(frames - plan.hop) + first * hop, fresh);
    });
  };
  const auto step = static_cast<std::int64_t>(batch.windows);
  {
    std::vector<double> first(channels * run);
    source.read(range.first, first);
    held.fill(first);
  }
  auto reading = std::make_optional(read(step));
  transformed(0).wait();
  for (std::int64_t w = 0; w < count; w += step) {
    std::swap(here, next);
    reading->wait();
    // The windows overlap: what the next ones need again is kept.
    held.move_on(added, frames - plan.hop, fresh);
    reading.emplace(read(w + 2 * step));
    WorkBeside transforming = transformed(w + step);
    for (std::size_t slot = 0; slot < of_batch(w); ++slot) {
      const std::size_t c = slot % channels;
      const std::int64_t number = w + static_cast<std::int64_t>(slot / channels);
      if (!std::isfinite(here.densities[slot][0]))
        throw Error(
            ErrorCode::bad_input,
            fmt::format("channel {} holds NaN or infinity between {:.3f} s and {:.3f} s: what wrote it has "
                        "failed there",
                        c + 1, static_cast<double>(range.first + number * hop) / plan.rate,
                        static_cast<double>(range.first + number * hop + static_cast<std::int64_t>(frames)) /
                            plan.rate));
      if (mean) mean(c, here.means[slot]);
      each(c, number, here.densities[slot]);
    }
    transforming.wait();
  }
}

}  // namespace wavicon::measure_detail
