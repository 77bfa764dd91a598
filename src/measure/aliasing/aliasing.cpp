// SPDX-License-Identifier: MIT
#include "wavicon/measure/aliasing/aliasing.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <complex>
#include <mutex>
#include <numbers>

#include "measure/aliasing/products.hpp"
#include "measure/common/order_frames.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/workers.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kFrameS = 0.02;
constexpr int kHops = 4;           // of a frame
constexpr double kLowPeriods = 8;  // of the tone in a frame: its orders come apart
constexpr double kLeastLowHz = 15;
constexpr std::size_t kLowOrders = 10;  // where a frame is too short for those asked for
constexpr double kLowestHz = 350;       // half the lobe of a frame: below, orders cannot be told apart
constexpr double kMostInflation = 3;    // of the noise, by orders that lie close
constexpr double kFoundRatio =
    0.003;  // of full scale under which a channel does not carry the sweep: -50 dB of the loudest one
constexpr std::size_t kAlignFrames = 160;
constexpr int kAlignOrder = 8;     // highest one fitted beside the fundamental
constexpr double kAroundHz = 800;  // of an order: where what is left counts as its own error
constexpr double kStandsOut = 4;   // times its error
constexpr double kMostTurn = 1;    // radians in half a frame: of an order behind a filter
constexpr double kOfAPath = 1.5;   // variance of a value less the mean of two, over its own
constexpr double kUnknown = 1e300;

// Where the sweep is at each frame of the capture.
class SweepClock {
 public:
  SweepClock(const Sweep& sweep, const PlacedPart& placed, const Take& take, double stimulus_rate)
      : sweep_(sweep), take_(take), first_(static_cast<double>(placed.first_frame)), rate_(stimulus_rate) {}
  double delay_samples = 0;

  [[nodiscard]] double seconds(double capture_frame) const {
    return ((capture_frame - delay_samples - take_.first_frame) / take_.frames_per_frame - first_) / rate_;
  }
  [[nodiscard]] double capture_frame(double seconds_in) const {
    return take_.first_frame + delay_samples + (seconds_in * rate_ + first_) * take_.frames_per_frame;
  }
  [[nodiscard]] double cycles(double capture_frame) const {
    return sweep_cycles(sweep_, std::max(0.0, seconds(capture_frame)));
  }
  // The same of frames first … first + count - 1.
  [[nodiscard]] std::vector<double> cycles(std::int64_t first, std::size_t count) const {
    std::vector<double> times(count);
    for (std::size_t n = 0; n < count; ++n)
      times[n] = std::max(0.0, seconds(static_cast<double>(first + static_cast<std::int64_t>(n))));
    sweep_cycles(sweep_, std::span<double>(times));
    return times;
  }
  // Cycles per frame of the capture.
  [[nodiscard]] double speed(double capture_frame) const {
    return (cycles(capture_frame + 0.5) - cycles(capture_frame - 0.5));
  }
  [[nodiscard]] double length_s() const { return sweep_seconds(sweep_) * (sweep_.return_trip ? 2 : 1); }

 private:
  const Sweep& sweep_;
  const Take& take_;
  double first_;
  double rate_;
};

class Follower {
 public:
  Follower(const JudgedCapture& capture, std::size_t part, const AliasingOptions& options)
      : capture_(capture.source()),
        sweep_(std::get<Sweep>(capture.stimulus().recipe().parts[part].kind)),
        clock_(sweep_, capture.stimulus().parts()[part], capture.take(),
               capture.stimulus().recipe().sample_rate_hz),
        options_(options),
        format_(capture.format()),
        rate_(capture.sample_rate_hz()),
        frame_(static_cast<std::size_t>(kFrameS * rate_) / 4 * 4) {}

  AliasingResult run() {
    result_.options = options_;
    result_.sample_rate_hz = rate_;
    result_.band_to_hz = std::min(options_.band_to_hz, rate_ / 2);
    result_.frame_s = static_cast<double>(frame_) / rate_;
    const auto places = frame_places();
    if (places.size() < 12)
      throw Error(ErrorCode::bad_input,
                  fmt::format("the sweep passes {} Hz to half the rate too fast, or the capture holds too "
                              "little of it, to follow its orders",
                              kLowestHz));
    find_channels(places);
    line_up(places);
    follow(places);
    follow_low();
    return std::move(result_);
  }

 private:
  // First frames of all windows in which orders can be told apart, clear of the fades and the capture's ends.
  [[nodiscard]] std::vector<std::int64_t> frame_places() const {
    const double from = clock_.capture_frame(sweep_.fade_in_s),
                 to = clock_.capture_frame(clock_.length_s() - sweep_.fade_out_s);
    const auto length = static_cast<std::int64_t>(frame_), hop = length / kHops;
    std::vector<std::int64_t> places;
    // Counted from the end: the highest frequencies fold most.
    const auto end =
        static_cast<std::int64_t>(std::floor(std::min(static_cast<double>(capture_.frames()), to)));
    for (std::int64_t at = end - length; static_cast<double>(at) >= std::max(0.0, from); at -= hop) {
      const double hz =
          std::abs(clock_.speed(static_cast<double>(at) + static_cast<double>(length) / 2)) * rate_;
      if (hz > kLowestHz && hz < rate_ / 2 - kLowestHz / 2) places.push_back(at);
    }
    std::reverse(places.begin(), places.end());
    return places;
  }

  // Cosine and sine of the sweep's phase, and the clean sweep as the capture's format holds it.
  struct Phases {
    std::vector<double> cosine, sine, clean;
  };
  [[nodiscard]] Phases phases(std::int64_t first) const { return phases(first, frame_); }
  [[nodiscard]] Phases phases(std::int64_t first, std::size_t length) const {
    Phases p;
    add_phases(first, length, p);
    return p;
  }
  void add_phases(std::int64_t first, std::size_t length, Phases& p) const {
    const Quantiser quantiser(format_, is_integer(format_), 1);
    const auto cycles = clock_.cycles(first, length);
    std::vector<Phase> phases(length);
    phases_from_cycles(cycles, phases);
    const std::size_t before = p.sine.size();
    p.sine.resize(before + length);
    p.cosine.resize(before + length);
    sines(phases, std::span(p.sine).subspan(before));
    for (Phase& phase : phases) phase += kQuarterCycle;
    sines(phases, std::span(p.cosine).subspan(before));
    for (std::size_t n = 0; n < length; ++n)
      p.clean.push_back(
          quantiser.value(clean_level_ * p.sine[before + n], 0, first + static_cast<std::int64_t>(n)));
  }

  // Of frames that come one after the other and overlap: what the next one needs again is kept.
  class RunningPhases {
   public:
    explicit RunningPhases(const Follower& follower) : follower_(follower) {}
    const Phases& at(std::int64_t first) {
      const auto length = static_cast<std::int64_t>(follower_.frame_);
      const std::int64_t moved = first - first_;
      if (p_.sine.empty() || moved < 0 || moved >= length) {
        p_ = follower_.phases(first);
      } else {
        for (auto* values : {&p_.cosine, &p_.sine, &p_.clean})
          values->erase(values->begin(), values->begin() + static_cast<std::ptrdiff_t>(moved));
        follower_.add_phases(first_ + length, static_cast<std::size_t>(moved), p_);
      }
      first_ = first;
      return p_;
    }

   private:
    const Follower& follower_;
    std::int64_t first_ = 0;
    Phases p_;
  };

  void find_channels(const std::vector<std::int64_t>& places) {
    const auto count = static_cast<std::size_t>(capture_.channel_count());
    result_.channels.resize(count);
    std::vector<Stretch> stretches;
    for (std::size_t i = 0; i < places.size(); i += std::max<std::size_t>(1, places.size() / 24))
      stretches.push_back({places[i], frame_});
    for (const FrameFit& fit : fits_of(stretches, 2)) {
      for (std::size_t c = 0; c < fit.signals.size(); ++c) {
        if (!std::isfinite(fit.signals[c].residual_power))
          throw Error(ErrorCode::bad_input,
                      fmt::format("channel {} holds NaN or infinity: what wrote it has failed there", c + 1));
        result_.channels[c].fundamental =
            std::max(result_.channels[c].fundamental, std::abs(fit.signals[c].amplitude[1]));
      }
    }
    double highest = 0;
    for (const auto& channel : result_.channels) highest = std::max(highest, channel.fundamental);
    for (auto& channel : result_.channels)
      channel.measured = highest > 1e-7 && channel.fundamental >= kFoundRatio * highest;
    if (highest <= 1e-7)
      throw Error(ErrorCode::bad_input,
                  "the sweep is not in this capture: its fundamental reads less than -140 dBFS");
    clean_level_ = std::min(highest, 0.999);
  }

  // The delay that the phase of the fundamental shows beyond the marks, from its slope over frequency.
  void line_up(const std::vector<std::int64_t>& places) {
    const auto channel =
        static_cast<std::size_t>(std::find_if(result_.channels.begin(), result_.channels.end(),
                                              [](const auto& c) { return c.measured; }) -
                                 result_.channels.begin());
    std::vector<Stretch> stretches;
    for (std::size_t i = 0; i < places.size(); i += std::max<std::size_t>(1, places.size() / kAlignFrames))
      stretches.push_back({places[i], frame_});
    for (int pass = 0; pass < 2; ++pass) {
      double wx = 0, wy = 0, wxx = 0, wxy = 0, w = 0, last = 0;
      bool first = true;
      const std::vector<FrameFit> fits = fits_of(stretches, kAlignOrder);
      for (std::size_t i = 0; i < fits.size(); ++i) {
        if (fits[i].signals.empty() || fits[i].inflation[1] > kMostInflation) continue;
        const std::complex<double> fundamental = fits[i].signals[channel].amplitude[1];
        double phase = std::arg(fundamental);
        if (!first) phase += 2 * std::numbers::pi * std::round((last - phase) / (2 * std::numbers::pi));
        first = false;
        last = phase;
        const double speed =
            2 * std::numbers::pi *
            std::abs(clock_.speed(static_cast<double>(stretches[i].first) + static_cast<double>(frame_) / 2));
        const double weight = std::norm(fundamental);
        w += weight;
        wx += weight * speed;
        wy += weight * phase;
        wxx += weight * speed * speed;
        wxy += weight * speed * phase;
      }
      const double determinant = w * wxx - wx * wx;
      if (determinant <= 0) return;
      clock_.delay_samples -= (w * wxy - wx * wy) / determinant;
    }
    for (auto& c : result_.channels) c.delay_samples = clock_.delay_samples;
  }

  // Where the sweep is slow and its orders lie close together.
  void follow_low() {
    const double begin = clock_.capture_frame(sweep_.fade_in_s),
                 end = clock_.capture_frame(clock_.length_s() - sweep_.fade_out_s);
    const auto last = static_cast<std::int64_t>(std::min(end, static_cast<double>(capture_.frames())));
    auto at = static_cast<std::int64_t>(std::ceil(std::max(0.0, begin)));
    std::vector<Stretch> stretches;
    while (at < last) {
      const double hz = std::abs(clock_.speed(static_cast<double>(at))) * rate_;
      const auto length = static_cast<std::size_t>(kLowPeriods / std::max(1.0, hz) * rate_) / 4 * 4;
      if (at + static_cast<std::int64_t>(length) > last) break;
      if (const double middle = hz_at(at, length); middle > kLeastLowHz && middle < kLowestHz)
        stretches.push_back({at, length});
      at += static_cast<std::int64_t>(length / kHops);
    }
    const std::vector<FrameFit> fits = fits_of(stretches, kLowOrders);
    for (std::size_t i = 0; i < fits.size(); ++i)
      add_low(fits[i], hz_at(stretches[i].first, stretches[i].length));
  }

  [[nodiscard]] double hz_at(std::int64_t first, std::size_t length) const {
    return std::abs(clock_.speed(static_cast<double>(first) + static_cast<double>(length) / 2)) * rate_;
  }

  struct Stretch {
    std::int64_t first = 0;
    std::size_t length = 0;
  };
  // Orders of all channels in each stretch.
  [[nodiscard]] std::vector<FrameFit> fits_of(const std::vector<Stretch>& stretches, int orders) {
    std::vector<FrameFit> fits(stretches.size());
    const std::size_t parts = std::min(static_cast<std::size_t>(allowed_threads()), stretches.size());
    for_each_part(parts, [&](std::size_t part) {
      std::optional<OrderFitter> fitter;
      for (std::size_t i = part * fits.size() / parts; i < (part + 1) * fits.size() / parts; ++i) {
        const auto [first, length] = stretches[i];
        if (!fitter || fitter->frame() != length) fitter.emplace(length, orders);
        const Phases p = phases(first, length);
        const Audio x = read(first, length);
        std::vector<std::span<const double>> signals;
        for (int c = 0; c < x.channel_count(); ++c) signals.push_back(x.channel(c));
        fits[i] = fitter->fit(p.cosine, p.sine, signals);
      }
    });
    return fits;
  }
  // One thread at a time has the source.
  [[nodiscard]] Audio read(std::int64_t first, std::size_t length) {
    const std::lock_guard lock(reading_);
    return read_stretch(capture_, first, static_cast<std::int64_t>(length));
  }

  void add_low(const FrameFit& fit, double hz) {
    for (std::size_t c = 0; c < fit.signals.size(); ++c) {
      AliasingFrame frame{.tone_hz = hz};
      for (std::size_t k = 0; k <= kLowOrders; ++k) {
        frame.amplitude.push_back(std::abs(fit.signals[c].amplitude[k]));
        frame.valid.push_back(fit.inflation[k] < kMostInflation);
      }
      frame.fundamental = frame.amplitude[1];
      if (result_.channels[c].measured) result_.channels[c].low.push_back(std::move(frame));
    }
  }

  void follow(const std::vector<std::int64_t>& places) {
    const auto count = static_cast<std::size_t>(capture_.channel_count());
    std::vector<std::vector<AliasingFrame>> raw(count + 1, std::vector<AliasingFrame>(places.size()));
    std::vector<std::vector<FrameOrders>> seen(count + 1, std::vector<FrameOrders>(places.size()));
    std::vector<std::vector<std::optional<double>>> left(count,
                                                         std::vector<std::optional<double>>(places.size()));
    const auto threads = static_cast<std::size_t>(allowed_threads()),
               parts = std::min(threads, places.size());
    for_each_part(parts, [&](std::size_t part) {
      OrderFitter fitter(frame_, options_.highest_order);
      RunningPhases running(*this);
      for (std::size_t at = part * places.size() / parts; at < (part + 1) * places.size() / parts; ++at) {
        const std::int64_t place = places[at];
        const Phases& p = running.at(place);
        const Audio x = read(place, frame_);
        std::vector<std::span<const double>> signals;
        for (std::size_t c = 0; c < count; ++c) signals.push_back(x.channel(static_cast<int>(c)));
        signals.push_back(p.clean);
        FrameFit fit = fitter.fit(p.cosine, p.sine, signals);
        const double hz =
            std::abs(clock_.speed(static_cast<double>(place) + static_cast<double>(frame_) / 2)) * rate_;
        for (std::size_t c = 0; c <= count; ++c) {
          fitter.find_sigmas(p.cosine, p.sine, signals[c], c, {hz / rate_, kAroundHz / rate_}, fit);
          if (!fit.signals.empty()) seen[c][at] = fit.signals[c];
        }
        for (std::size_t i = 0; i <= count; ++i) {
          AliasingFrame frame{.tone_hz = hz};
          for (int k = 0; k <= options_.highest_order; ++k) {
            const auto order = static_cast<std::size_t>(k);
            const bool solved = !fit.signals.empty();
            frame.amplitude.push_back(solved ? std::abs(fit.signals[i].amplitude[order]) : 0);
            frame.valid.push_back(solved && fit.inflation[order] < kMostInflation);
          }
          frame.fundamental = frame.amplitude[1];
          if (i < count && !fit.signals.empty() && frame.valid[1] && frame.fundamental > 0)
            left[i][at] = std::sqrt(2 * fit.signals[i].residual_power) / frame.fundamental;
          raw[i][at] = std::move(frame);
        }
      }
    });
    std::vector<std::vector<double>> residuals(count);
    for (std::size_t c = 0; c < count; ++c)
      for (const auto& ratio : left[c])
        if (ratio) residuals[c].push_back(*ratio);
    result_.from_hz = rate_;
    for (const auto& frame : raw[0]) {
      result_.from_hz = std::min(result_.from_hz, frame.tone_hz);
      result_.to_hz = std::max(result_.to_hz, frame.tone_hz);
    }
    ChannelAliasing clean;
    clean.frames = std::move(raw[count]);
    name_orders(seen[count], clean);
    find_products(result_, 0, clean);
    result_.floor_ratio = clean.folded.empty() ? 0 : clean.folded.front().ratio;
    result_.floor_sum_ratio = clean.total.ratio;
    for (std::size_t c = 0; c < count; ++c) {
      ChannelAliasing& channel = result_.channels[c];
      if (!channel.measured) continue;
      channel.frames = std::move(raw[c]);
      name_orders(seen[c], channel);
      find_products(result_, result_.floor_ratio, channel);
      if (residuals[c].empty()) continue;
      const auto middle = residuals[c].begin() + static_cast<std::ptrdiff_t>(residuals[c].size() / 2);
      std::nth_element(residuals[c].begin(), middle, residuals[c].end());
      channel.residual_ratio = *middle;
    }
  }

  // Errors of all amplitudes, and which of them stand out.
  void name_orders(const std::vector<FrameOrders>& seen, ChannelAliasing& channel) const {
    auto& frames = channel.frames;
    const auto orders = static_cast<std::size_t>(options_.highest_order) + 1;
    for (AliasingFrame& frame : frames) {
      frame.sigma.assign(orders, 0.0);
      frame.uncertainty.assign(orders, 0.0);
      frame.bound.assign(orders, false);
    }
    for (std::size_t k = 0; k < orders; ++k) {
      std::vector<bool> stands_out(frames.size(), false);
      const std::vector<double> strays = strays_of(seen, frames, k);
      for (std::size_t i = 0; i < frames.size(); ++i) {
        AliasingFrame& frame = frames[i];
        if (!frame.valid[k]) continue;
        // Without neighbours nothing tells an order from what only passes its place.
        frame.valid[k] = k == 1 || strays[i] < kUnknown;
        if (!frame.valid[k]) continue;
        const double by_rest = seen[i].sigma[k], by_path = k == 1 && strays[i] == kUnknown ? 0 : strays[i];
        frame.sigma[k] = std::max(by_rest, by_path);
        frame.uncertainty[k] =
            2 * std::sqrt(by_rest * by_rest / 2 + std::max(0.0, by_path * by_path / 2 - by_rest * by_rest));
        stands_out[i] = frame.amplitude[k] > kStandsOut * frame.sigma[k];
      }
      for (std::size_t i = 0; i < frames.size(); ++i) {
        if (!frames[i].valid[k]) continue;
        bool accompanied = false;
        for (std::size_t j = i < kHops / 2 ? 0 : i - kHops / 2;
             j <= std::min(frames.size() - 1, i + kHops / 2); ++j)
          accompanied |= j != i && stands_out[j];
        frames[i].bound[k] = k != 1 && !(stands_out[i] && accompanied);
        if (frames[i].bound[k]) frames[i].amplitude[k] += 2 * frames[i].sigma[k];
      }
    }
  }

  // By how much an order strays from the path of its neighbours half a frame before and behind it, on which
  // it may turn steadily: RMS over five places around each frame. Where too few can be told apart, it is
  // unknown.
  [[nodiscard]] static std::vector<double> strays_of(const std::vector<FrameOrders>& seen,
                                                     const std::vector<AliasingFrame>& frames,
                                                     std::size_t k) {
    constexpr std::ptrdiff_t kApart = kHops / 2;
    const auto count = static_cast<std::ptrdiff_t>(frames.size());
    const auto known = [&](std::ptrdiff_t i) {
      return i >= 0 && i < count && frames[static_cast<std::size_t>(i)].valid[k];
    };
    const auto at = [&](std::ptrdiff_t i) { return seen[static_cast<std::size_t>(i)].amplitude[k]; };
    std::vector<double> strays(frames.size(), kUnknown);
    for (std::ptrdiff_t i = 0; i < count; ++i) {
      std::complex<double> turned = 0;
      for (std::ptrdiff_t j = i - 2 * kApart; j <= i + 2 * kApart; j += kApart)
        if (known(j) && known(j + kApart)) turned += at(j + kApart) * std::conj(at(j));
      const auto turn = std::polar(1.0, std::clamp(std::arg(turned), -kMostTurn, kMostTurn));
      double squares = 0;
      int places = 0;
      for (std::ptrdiff_t j = i - 2 * kApart; j <= i + 2 * kApart; j += kApart) {
        if (!known(j) || !known(j - kApart) || !known(j + kApart)) continue;
        squares += std::norm(at(j) - (at(j - kApart) * turn + at(j + kApart) * std::conj(turn)) / 2.0);
        ++places;
      }
      if (places > 0) strays[static_cast<std::size_t>(i)] = std::sqrt(squares / places / kOfAPath);
    }
    return strays;
  }

  AudioSource& capture_;
  std::mutex reading_;
  const Sweep& sweep_;
  SweepClock clock_;
  AliasingOptions options_;
  SampleFormat format_;
  double rate_;
  std::size_t frame_;
  double clean_level_ = 1;
  AliasingResult result_;
};

}  // namespace

AliasingResult measure_aliasing(const JudgedCapture& capture, std::size_t part,
                                const AliasingOptions& options) {
  Stimulus& stimulus = capture.stimulus();
  if (part >= stimulus.recipe().parts.size() ||
      !std::holds_alternative<Sweep>(stimulus.recipe().parts[part].kind))
    throw Error(ErrorCode::bad_argument, "aliasing is measured on a part that is a sweep");
  require_valid(options);
  return Follower(capture, part, options).run();
}

}  // namespace wavicon
