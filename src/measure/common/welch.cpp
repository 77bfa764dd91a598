// SPDX-License-Identifier: MIT
#include "measure/common/welch.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "wavicon/audio/error.hpp"

namespace wavicon::measure_detail {

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

void for_each_window(AudioSource& source, const FrameRange& range, const WelchPlan& plan,
                     const std::function<void(std::size_t, std::int64_t, const std::vector<double>&)>& each,
                     const std::function<void(std::size_t, double)>& mean) {
  const auto window = kaiser_window(plan.frames, plan.beta);
  double squares = 0, sum = 0;
  for (const double w : window) {
    squares += w * w;
    sum += w;
  }
  const double scale = 2 / (squares * plan.rate);
  RealTransform transform(plan.length);
  const auto channels = static_cast<std::size_t>(source.channel_count());
  const std::size_t frames = plan.frames;
  // The windows overlap: what the next one needs again is kept.
  std::vector<double> held(channels * frames), fresh(channels * plan.hop), density(plan.length / 2 + 1);
  source.read(range.first, held);
  const std::int64_t count =
      (range.frames() - static_cast<std::int64_t>(frames)) / static_cast<std::int64_t>(plan.hop) + 1;
  for (std::int64_t w = 0; w < count; ++w) {
    if (w > 0) {
      source.read(
          range.first + static_cast<std::int64_t>(frames) + (w - 1) * static_cast<std::int64_t>(plan.hop),
          fresh);
      for (std::size_t c = 0; c < channels; ++c) {
        const auto run = held.begin() + static_cast<std::ptrdiff_t>(c * frames);
        std::copy(run + static_cast<std::ptrdiff_t>(plan.hop), run + static_cast<std::ptrdiff_t>(frames),
                  run);
        std::copy_n(fresh.begin() + static_cast<std::ptrdiff_t>(c * plan.hop), plan.hop,
                    run + static_cast<std::ptrdiff_t>(frames - plan.hop));
      }
    }
    for (std::size_t c = 0; c < channels; ++c) {
      const double* x = held.data() + c * frames;
      const auto input = transform.input();
      for (std::size_t n = 0; n < frames; ++n) input[n] = x[n] * window[n];
      std::fill(input.begin() + static_cast<std::ptrdiff_t>(frames), input.end(), 0.0);
      transform.execute();
      const auto bins = transform.bins();
      // One-sided: of the bins at both ends only the half within 0 Hz to half the rate is ever counted.
      for (std::size_t b = 0; b < density.size(); ++b) density[b] = scale * std::norm(bins[b]);
      if (!std::isfinite(density[0]))
        throw Error(
            ErrorCode::bad_input,
            fmt::format(
                "channel {} holds NaN or infinity between {:.3f} s and {:.3f} s: what wrote it has "
                "failed there",
                c + 1, static_cast<double>(range.first + w * static_cast<std::int64_t>(plan.hop)) / plan.rate,
                static_cast<double>(range.first + w * static_cast<std::int64_t>(plan.hop) +
                                    static_cast<std::int64_t>(frames)) /
                    plan.rate));
      if (mean) mean(c, bins[0].real() / sum);
      each(c, w, density);
    }
  }
}

}  // namespace wavicon::measure_detail
