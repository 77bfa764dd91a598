// SPDX-License-Identifier: MIT
#include "mark_search.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <utility>

#include "samples.hpp"
#include "wavicon/audio/error.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kSilence = 1e-9;     // local RMS under which nothing is looked for: -180 dBFS
constexpr int kRefinements = 12;      // Newton steps: it converges in three to five
constexpr double kChirpBand = 1e-6;   // power of a bin over the highest: 60 dB
constexpr double kCoarseMatch = 0.8;  // of the match that counts: what the grid of the search may lose

}  // namespace

FoundMark refine(std::span<const double> segment, std::span<const double> mark, double first_frame,
                 double match, RealTransforms& transforms) {
  RealTransform& transform = transforms.get(fast_transform_length(4 * mark.size()));
  const auto a = transform.bins_of(segment), b = transform.bins_of(mark);
  const double step = 2 * std::numbers::pi / static_cast<double>(transform.length());
  // Bins far outside of the chirp's band hold nothing of it.
  std::vector<std::pair<double, std::complex<double>>> cross;
  double highest = 0;
  for (const auto& bin : b) highest = std::max(highest, std::norm(bin));
  for (std::size_t k = 1; k < a.size(); ++k)
    if (std::norm(b[k]) > kChirpBand * highest)
      cross.emplace_back(step * static_cast<double>(k), a[k] * std::conj(b[k]));
  double delay = 0, sum = 0, sign = 0;
  for (int i = 0; i < kRefinements; ++i) {
    double slope = 0, curvature = 0;
    sum = 0;
    for (const auto& [w, product] : cross) {
      const std::complex<double> c = product * std::polar(1.0, w * delay);
      sum += c.real();
      slope -= w * c.imag();
      curvature -= w * w * c.real();
    }
    if (sign == 0) sign = sum < 0 ? -1 : 1;
    if (sign * curvature >= 0) break;
    const double move = std::clamp(-slope / curvature, -0.5, 0.5);
    delay += move;
    if (std::abs(move) < 1e-9) break;
  }
  const double own = energy(mark) * static_cast<double>(transform.length()) / 2;
  return {first_frame + delay, sum / own, match};
}

namespace {

// One direction of the mark in one channel: the best place so far, until the search is well beyond it.
struct Candidate {
  std::int64_t frame = 0;
  double match = 0;
};

// Matched filter over all channels, block by block. A mark ends far below half the rate, so the way back from
// its spectrum gives only every n-th value of the correlation.
class MarkSearch {
 public:
  MarkSearch(AudioSource& source, const std::vector<double>& mark, double highest_hz, double least_match,
             RealTransforms& transforms)
      : source_(source),
        channels_(static_cast<std::size_t>(source.channel_count())),
        marks_{mark, {mark.rbegin(), mark.rend()}},
        least_(least_match),
        transforms_(transforms),
        length_(fast_transform_length(8 * mark.size())),
        own_(energy(mark)) {
    while (source.sample_rate_hz() / static_cast<double>(4 * step_) > 1.05 * highest_hz &&
           length_ % (4 * step_) == 0)
      step_ *= 2;
    best_.resize(2 * channels_);
    found_.resize(2 * channels_);
    for (const auto& each : marks_) kernels_.push_back(spectrum(each));
  }

  FoundMarks search() {
    const auto hop = static_cast<std::int64_t>(length_ - marks_[0].size()) /
                     static_cast<std::int64_t>(step_) * static_cast<std::int64_t>(step_);
    planar_.resize(channels_ * length_);
    for (std::int64_t start = 0; start < source_.frames(); start += hop) {
      source_.read(start, planar_);
      for (std::size_t c = 0; c < channels_; ++c) search_block(c, start, hop);
    }
    FoundMarks all;
    for (std::size_t i = 0; i < best_.size(); ++i) {
      flush(i);
      auto& to = i % 2 == 0 ? all.forwards : all.backwards;
      for (const FoundMark& mark : found_[i]) to.push_back({mark, static_cast<int>(i / 2)});
    }
    return all;
  }

 private:
  std::vector<std::complex<double>> spectrum(std::span<const double> x) {
    return transforms_.get(length_).bins_of(x);
  }

  void search_block(std::size_t channel, std::int64_t start, std::int64_t hop) {
    const std::span<const double> x(planar_.data() + channel * length_, length_);
    measure_local(x);
    if (*std::max_element(local_.begin(), local_.end()) < least_energy()) return;
    const auto bins = spectrum(x);
    RealTransform& back = transforms_.get(length_ / step_);
    product_.assign(back.length() / 2 + 1, 0.0);
    const auto end = std::min(hop, source_.frames() - start);
    for (std::size_t way = 0; way < 2; ++way) {
      for (std::size_t k = 0; k + 1 < product_.size(); ++k)
        product_[k] = bins[k] * std::conj(kernels_[way][k]);
      const auto correlation = back.invert(product_);
      for (std::size_t i = 0; static_cast<std::int64_t>(i * step_) < end; ++i)
        weigh(2 * channel + way, start + static_cast<std::int64_t>(i * step_),
              correlation[i] / static_cast<double>(step_), local_[i]);
    }
  }

  // Energy under a mark that starts at each place of the grid.
  void measure_local(std::span<const double> x) {
    sums_.assign(x.size() + 1, 0.0);
    for (std::size_t n = 0; n < x.size(); ++n) sums_[n + 1] = sums_[n] + x[n] * x[n];
    if (!std::isfinite(sums_.back()))
      throw Error(ErrorCode::bad_input, "holds NaN or infinity: what wrote it has failed there");
    local_.resize(x.size() / step_);
    for (std::size_t i = 0; i < local_.size(); ++i)
      local_[i] = sums_[std::min(x.size(), i * step_ + marks_[0].size())] - sums_[i * step_];
  }

  void weigh(std::size_t i, std::int64_t frame, double correlation, double local) {
    Candidate& best = best_[i];
    if (best.match > 0 && frame > best.frame + static_cast<std::int64_t>(marks_[0].size() / 2)) flush(i);
    if (local < least_energy()) return;
    const double match = std::abs(correlation) / std::sqrt(own_ * local);
    if (match > kCoarseMatch * least_ && match > best.match) best = {frame, match};
  }

  // Looks at every frame around the place on the grid, and then between frames.
  void flush(std::size_t i) {
    const Candidate best = std::exchange(best_[i], {});
    if (best.match == 0) return;
    const auto& mark = marks_[i % 2];
    const std::size_t window = mark.size() + 2 * step_;
    const std::int64_t first = best.frame - static_cast<std::int64_t>(step_);
    around_.resize(channels_ * window);
    source_.read(first, around_);
    const std::span<const double> x(around_.data() + (i / 2) * window, window);
    Candidate sharp;
    for (std::size_t offset = 0; offset <= 2 * step_; ++offset) {
      const auto segment = x.subspan(offset, mark.size());
      const double local = energy(segment);
      if (local < least_energy()) continue;
      const double both = sum_of_products(segment, mark);
      const double match = std::abs(both) / std::sqrt(own_ * local);
      if (match > sharp.match) sharp = {static_cast<std::int64_t>(offset), match};
    }
    if (sharp.match <= least_) return;
    found_[i].push_back(refine(x.subspan(static_cast<std::size_t>(sharp.frame), mark.size()), mark,
                               static_cast<double>(first + sharp.frame), sharp.match, transforms_));
  }

  [[nodiscard]] double least_energy() const {
    return kSilence * kSilence * static_cast<double>(marks_[0].size());
  }

  AudioSource& source_;
  std::size_t channels_;
  std::vector<std::vector<double>> marks_;  // forwards, backwards
  double least_;
  RealTransforms& transforms_;
  std::size_t length_;
  double own_;
  std::size_t step_ = 1;
  std::vector<std::vector<std::complex<double>>> kernels_;
  std::vector<std::complex<double>> product_;
  std::vector<double> planar_, sums_, local_, around_;
  std::vector<Candidate> best_;
  std::vector<std::vector<FoundMark>> found_;
};

}  // namespace

FoundMarks search_marks(AudioSource& source, const std::vector<double>& mark, double highest_hz,
                        double least_match, RealTransforms& transforms) {
  return MarkSearch(source, mark, highest_hz, least_match, transforms).search();
}

}  // namespace wavicon::intake_detail
