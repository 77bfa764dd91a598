#include "wavicon/measure/response.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>
#include <tuple>

#include "cross_spectra.hpp"
#include "lined_up.hpp"
#include "response_features.hpp"
#include "stretch.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/fractional.hpp"
#include "wavicon/audio/weighting.hpp"

namespace wavicon {

struct ResponseCache::Impl {
  std::optional<RealTransform> transform;
  // By channel, first frame and length: A's spectrum.
  std::map<std::tuple<int, std::int64_t, std::int64_t>, std::vector<std::complex<double>>> spectra;
};
ResponseCache::ResponseCache() : impl_(std::make_unique<Impl>()) {}
ResponseCache::~ResponseCache() = default;

namespace {

using namespace measure_detail;

constexpr double kLowestHz = 10;
constexpr double kHighest = 0.46;      // of the rate
constexpr double kTailS = 0.5;         // of the response over time
constexpr std::size_t kBefore = 4096;  // frames of it before the delay
constexpr double kLeadS = 0.05;        // of silence before a sweep
constexpr double kLittle = 1e-6;       // ε over the middle of the band
constexpr double kWindowS = 0.34;
constexpr double kSpoiledMargin = 1.06;  // of a frequency, beside what is spoiled
constexpr double kCutS = 0.005;
constexpr double kCutMargin = 1.6;  // the edge rings into what lies before it
constexpr double kAtTop = 0.999;
constexpr double kLeastTop = 1e-3;
constexpr std::size_t kClippedRun = 4;  // frames that stand still
constexpr double kJoinS = 0.2;
constexpr double kLeastCoherence = 0.5;
constexpr double kLeastPower = 1e-10;  // of the strongest bin
constexpr double kSweepEdge = 0.03;    // of the sweep's ends that are left out, in frequency
constexpr double kSilent = 1e-8;       // of the power of the loudest channel of A
constexpr double kWholeFrame = 0.02;
constexpr double kMainTap = 0.7;  // of the power of what lies within 8 frames

// B where A's frames lie; the fraction of the delay is left when there is no drift.
std::vector<double> read_b(AudioSource& b, int channel, const Alignment& alignment, std::int64_t first,
                           std::int64_t frames, double& rest) {
  if (std::abs(alignment.frames_per_frame - 1) * static_cast<double>(frames) > 1e-3) {
    std::vector<double> y(static_cast<std::size_t>(frames));
    read_aligned(b, channel, alignment, first, FractionalReader(), y);
    rest = 0;
    return y;
  }
  const double place = alignment.delay_frames + static_cast<double>(first) * (alignment.frames_per_frame - 1);
  const auto whole = std::llround(place);
  rest = place - static_cast<double>(whole);
  if (std::abs(rest) < kWholeFrame) rest = 0;
  return read_channel(b, channel, first + whole, frames);
}

std::vector<double> axis(double from_hz, double to_hz) {
  std::vector<double> hz;
  for (int i = static_cast<int>(std::ceil(kPerOctave * std::log2(from_hz / 1000)));
       1000 * std::exp2(i / kPerOctave) <= to_hz; ++i)
    hz.push_back(1000 * std::exp2(i / kPerOctave));
  return hz;
}

class Responder {
 public:
  Responder(AudioSource& a, AudioSource& b, const ResponseOptions& options)
      : a_(a), b_(b), options_(options), rate_(a.sample_rate_hz()) {}

  ResponseResult run() {
    result_.options = options_;
    result_.options.cache = nullptr;
    result_.sample_rate_hz = rate_;
    range_ = frame_range(a_, options_.from_s, options_.to_s);
    result_.seconds = static_cast<double>(range_.frames()) / rate_;
    line_up();
    const int count =
        a_.channel_count() == 1 ? b_.channel_count() : std::min(a_.channel_count(), b_.channel_count());
    bool any = false;
    const std::vector<double> energies = energies_of_a();
    const auto loudest =
        static_cast<int>(std::max_element(energies.begin(), energies.end()) - energies.begin());
    for (int c = 0; c < count; ++c) {
      ChannelResponse channel;
      int of_a = a_.channel_count() == 1 ? 0 : c;
      if (of_a != loudest &&
          energies[static_cast<std::size_t>(of_a)] < kSilent * energies[static_cast<std::size_t>(loudest)]) {
        channel.crosstalk_from = loudest;
        of_a = loudest;
      }
      if (options_.sweep)
        divide(of_a, c, channel);
      else
        average(of_a, c, channel);
      channel.measured = !channel.points.empty();
      any |= channel.measured;
      if (channel.measured) {
        smooth(channel);
        describe(channel);
      }
      result_.channels.push_back(std::move(channel));
    }
    if (!any)
      throw Error(ErrorCode::bad_input,
                  "A or B is silent, or they share nothing: there is no response to be read");
    return std::move(result_);
  }

 private:
  [[nodiscard]] std::vector<double> energies_of_a() const {
    std::vector<double> energies(static_cast<std::size_t>(a_.channel_count()), 0.0);
    std::vector<double> scratch(static_cast<std::size_t>(16384 * a_.channel_count()));
    for_each_block(a_, range_.first, range_.end, scratch,
                   [&](std::int64_t, std::span<const double> planar, std::int64_t frames) {
                     for (std::size_t c = 0; c < energies.size(); ++c)
                       for (const double v : planar.subspan(c * static_cast<std::size_t>(frames),
                                                            static_cast<std::size_t>(frames)))
                         energies[c] += v * v;
                   });
    return energies;
  }

  void line_up() { result_.alignment = options_.alignment ? *options_.alignment : lined_up(a_, b_, {}); }

  void set_broadband(std::span<const double> x, std::span<const double> y, ChannelResponse& channel) const {
    double p = 0, q = 0;
    for (const double v : x) p += v * v;
    for (const double v : y) q += v * v;
    if (!std::isfinite(p) || !std::isfinite(q))
      throw Error(ErrorCode::bad_input,
                  "A or B holds a value that is no number; 'wavicon health' names the place");
    channel.broadband_db = p > 0 && q > 0 ? db_from_power_ratio(q / p) : 0;
  }

  // The whole of a sweep at once.
  void divide(int of_a, int of_b, ChannelResponse& channel) {
    const auto lead = static_cast<std::int64_t>(kLeadS * rate_),
               tail = static_cast<std::int64_t>(kTailS * rate_);
    const std::int64_t first = range_.first - lead, frames = range_.frames() + lead + tail;
    auto x = read_channel(a_, of_a, first, frames);
    // What follows or comes before the sweep in A is not what B answers to.
    std::fill(x.begin(), x.begin() + lead, 0.0);
    std::fill(x.end() - tail, x.end(), 0.0);
    double rest = 0;
    const auto y = read_b(b_, of_b, result_.alignment, first, frames, rest);
    const double first_rest = rest;
    set_broadband(x, y, channel);
    const std::size_t length_needed = fast_transform_length(static_cast<std::size_t>(frames + tail));
    ResponseCache::Impl& cache = (options_.cache != nullptr ? *options_.cache : own_).impl();
    if (!cache.transform || cache.transform->length() != length_needed) {
      cache.spectra.clear();
      cache.transform.emplace(length_needed);
    }
    RealTransform& transform = *cache.transform;
    const auto bins_of = [&](std::span<const double> samples) {
      const auto rest_from = std::copy(samples.begin(), samples.end(), transform.input().begin());
      std::fill(rest_from, transform.input().end(), 0.0);
      transform.execute();
      return std::vector<std::complex<double>>(transform.bins().begin(), transform.bins().end());
    };
    auto& p = cache.spectra[{of_a, first, frames}];
    if (p.empty()) p = bins_of(x);
    auto h = bins_of(y);
    const double bin = rate_ / static_cast<double>(transform.length());
    const double low =
        options_.sweep_from_hz > 0 ? std::min(options_.sweep_from_hz, options_.sweep_to_hz) : kLowestHz;
    const double high = std::min(
        options_.sweep_to_hz > 0 ? std::max(options_.sweep_from_hz, options_.sweep_to_hz) : rate_ / 2,
        kHighest * rate_);
    const auto middle = static_cast<std::size_t>(std::sqrt(low * high) / bin);
    double power = 0;
    const std::size_t width = std::max<std::size_t>(1, middle / 8);
    for (std::size_t k = middle - width / 2; k < middle - width / 2 + width; ++k)
      power += std::norm(p[k]) / static_cast<double>(width);
    if (!(power > 0)) return;
    for (std::size_t k = 0; k < h.size(); ++k) {
      // Without the checks for infinities that the operator makes.
      const double a = p[k].real(), b = p[k].imag(), c = h[k].real(), d = h[k].imag(),
                   weight = 1 / (a * a + b * b + kLittle * power);
      h[k] = {(a * c + b * d) * weight, (a * d - b * c) * weight};
    }
    const auto over_time = transform.invert(h);
    channel.impulse_zero = kBefore;
    const std::size_t length = kBefore + static_cast<std::size_t>(tail);
    for (std::size_t i = 0; i < length; ++i) {
      const double v = over_time[(i + over_time.size() - kBefore) % over_time.size()];
      // Both ends fade, so that the cuts make no ripple.
      const double left = std::min(static_cast<double>(length - i) / (0.1 * static_cast<double>(length)),
                                   static_cast<double>(i) / (0.5 * static_cast<double>(kBefore)));
      channel.impulse.push_back(left < 1 ? v * (0.5 - 0.5 * std::cos(std::numbers::pi * left)) : v);
    }
    if (*std::max_element(channel.impulse.begin(), channel.impulse.end()) == 0) {
      channel.impulse.clear();
      return;
    }
    // A main tap that holds nearly all around it is where the delay lies, to the whole frame: what marks read
    // besides is the
    // doing of an equaliser.
    const auto top = std::max_element(channel.impulse.begin(), channel.impulse.end(),
                                      [](double v, double w) { return std::abs(v) < std::abs(w); }) -
                     channel.impulse.begin();
    double around = 0;
    for (std::ptrdiff_t i = std::max<std::ptrdiff_t>(0, top - 8);
         i <= top + 8 && i < static_cast<std::ptrdiff_t>(length); ++i)
      around += channel.impulse[static_cast<std::size_t>(i)] * channel.impulse[static_cast<std::size_t>(i)];
    const double main = channel.impulse[static_cast<std::size_t>(top)];
    if (main * main > kMainTap * around && std::abs(top - static_cast<std::ptrdiff_t>(kBefore)) <= 2) {
      channel.impulse_zero = static_cast<std::size_t>(top);
      rest = 0;
    }
    const double zero = static_cast<double>(channel.impulse_zero) + rest;
    channel.delay_samples = result_.alignment.delay_frames + zero - static_cast<double>(kBefore) - first_rest;
    find_spoiled(y, channel);
    const bool rising = options_.sweep_from_hz <= options_.sweep_to_hz;
    const auto spoiled = [&](double hz) {
      if (channel.cut_hz && (rising ? hz > *channel.cut_hz : hz < *channel.cut_hz)) return true;
      return std::any_of(channel.clipped_hz.begin(), channel.clipped_hz.end(),
                         [&](const auto& stretch) { return hz > stretch.first && hz < stretch.second; });
    };
    for (const double hz : axis(low * (1 + kSweepEdge), high * (1 - kSweepEdge))) {
      if (spoiled(hz)) continue;
      const ToneSums sums = tone_sums(channel.impulse, phase_step(hz, rate_));
      const double turn = 2 * std::numbers::pi * hz / rate_;
      ResponsePoint point{hz, sums.zeroth * std::polar(1.0, turn * zero), 1, 0};
      if (std::abs(sums.zeroth) > 0) point.group_delay_s = ((sums.first / sums.zeroth).real() - zero) / rate_;
      channel.points.push_back(point);
    }
  }

  // Frequency of the sweep a while after its start, with a margin.
  [[nodiscard]] double sweep_hz(double seconds, double margin) const {
    const double from = options_.sweep_from_hz, to = options_.sweep_to_hz;
    return from * std::pow(to / from, std::clamp(seconds / result_.seconds, 0.0, 1.0)) * margin;
  }

  // Where B stands at its highest value for three frames and more, and where it is cut off.
  void find_spoiled(std::span<const double> y, ChannelResponse& channel) const {
    if (!(options_.sweep_from_hz > 0 && options_.sweep_to_hz > 0)) return;
    const double ends = static_cast<double>(b_.frames()) - result_.alignment.delay_frames;
    if (ends < static_cast<double>(range_.end) - kCutS * rate_)
      channel.cut_hz = sweep_hz((ends - static_cast<double>(range_.first)) / rate_, 1 / kCutMargin);
    double top = 0;
    for (const double v : y) top = std::max(top, std::abs(v));
    const auto lead = static_cast<std::size_t>(kLeadS * rate_);
    std::optional<std::pair<std::size_t, std::size_t>> open;
    const auto close = [&] {
      if (!open) return;
      const double a = sweep_hz((static_cast<double>(open->first) - static_cast<double>(lead)) / rate_, 1),
                   b = sweep_hz((static_cast<double>(open->second) - static_cast<double>(lead)) / rate_, 1);
      channel.clipped_hz.emplace_back(std::min(a, b) / kSpoiledMargin, std::max(a, b) * kSpoiledMargin);
      open.reset();
    };
    std::size_t run = 0, found = 0;
    for (std::size_t n = 0; n < y.size(); ++n) {
      run = top > kLeastTop && std::abs(y[n]) > kAtTop * top && (run == 0 || y[n] == y[n - 1]) ? run + 1 : 0;
      if (run < kClippedRun) continue;
      ++found;
      if (open && static_cast<double>(n - open->second) > kJoinS * rate_) close();
      open = open ? std::pair{open->first, n} : std::pair{n, n};
    }
    if (found >= kClippedRun) close();
  }

  // Averaged windows of anything.
  void average(int of_a, int of_b, ChannelResponse& channel) {
    CrossSpectra spectra(rate_, range_.frames(), kWindowS);
    double rest = 0, p = 0, q = 0;
    const auto block = static_cast<std::int64_t>(8 * spectra.length());
    for (std::int64_t at = range_.first; at < range_.end; at += block) {
      const std::int64_t count = std::min(block, range_.end - at);
      const auto x = read_channel(a_, of_a, at, count),
                 y = read_b(b_, of_b, result_.alignment, at, count, rest);
      for (std::size_t n = 0; n < x.size(); ++n) {
        p += x[n] * x[n];
        q += y[n] * y[n];
      }
      spectra.add(x, y);
    }
    if (!std::isfinite(p) || !std::isfinite(q))
      throw Error(ErrorCode::bad_input,
                  "A or B holds a value that is no number; 'wavicon health' names the place");
    if (p == 0 || q == 0 || spectra.windows() == 0) return;
    channel.broadband_db = db_from_power_ratio(q / p);
    channel.delay_samples = result_.alignment.delay_frames;
    channel.windows = spectra.windows();
    channel.bin_hz = spectra.bin_hz();
    const double bin = spectra.bin_hz(), chance = 1.0 / static_cast<double>(spectra.windows());
    const double strongest = *std::max_element(spectra.xx().begin(), spectra.xx().end());
    double louder = 0, loud = 0;
    for (std::size_t k = 0; k < spectra.xx().size(); ++k) {
      const double weight = k_weight(static_cast<double>(k) * bin);
      loud += weight * spectra.xx()[k];
      louder += weight * spectra.yy()[k];
    }
    if (loud > 0 && louder > 0) channel.loudness_lu = db_from_power_ratio(louder / loud);
    std::size_t all = 0;
    for (const double hz : axis(std::max(kLowestHz, 3 * bin), std::min(20000.0, kHighest * rate_))) {
      ++all;
      const double half = std::exp2(0.5 / kPerOctave);
      auto from = static_cast<std::size_t>(std::ceil(hz / half / bin)),
           to = static_cast<std::size_t>(hz * half / bin);
      if (to < from) from = to = static_cast<std::size_t>(std::lround(hz / bin));
      double xx = 0, yy = 0;
      std::complex<double> xy = 0;
      for (std::size_t k = from; k <= to && k < spectra.xx().size(); ++k) {
        xx += spectra.xx()[k];
        yy += spectra.yy()[k];
        xy += spectra.xy()[k] *
              std::polar(1.0, 2 * std::numbers::pi * static_cast<double>(k) * bin / rate_ * rest);
      }
      if (xx < kLeastPower * strongest || yy <= 0) continue;
      const double coherence =
          std::clamp((std::norm(xy) / (xx * yy) - chance) / (1 - chance + 1e-12), 0.0, 1.0);
      if (coherence < kLeastCoherence) continue;
      channel.points.push_back({hz, xy / xx, coherence, 0});
    }
    channel.left_out_share =
        all > 0 ? 1 - static_cast<double>(channel.points.size()) / static_cast<double>(all) : 0;
    // Slope of the phase between neighbours.
    for (std::size_t i = 1; i + 1 < channel.points.size(); ++i) {
      const ResponsePoint &before = channel.points[i - 1], &after = channel.points[i + 1];
      channel.points[i].group_delay_s =
          -std::arg(after.ratio * std::conj(before.ratio)) / (2 * std::numbers::pi * (after.hz - before.hz));
    }
  }

  // Power means over 1/n octave; the phase stays.
  void smooth(ChannelResponse& channel) const {
    if (options_.smoothing <= 0) return;
    const double half = std::exp2(0.5 / options_.smoothing);
    std::vector<double> sizes;
    std::size_t from = 0, to = 0;
    double sum = 0;
    const auto& points = channel.points;
    for (const ResponsePoint& point : points) {
      while (to < points.size() && points[to].hz <= point.hz * half * 1.000001)
        sum += std::norm(points[to++].ratio);
      while (points[from].hz < point.hz / half * 0.999999) sum -= std::norm(points[from++].ratio);
      sizes.push_back(std::sqrt(std::max(0.0, sum) / static_cast<double>(to - from)));
    }
    for (std::size_t i = 0; i < sizes.size(); ++i)
      if (const double size = std::abs(points[i].ratio); size > 0) channel.points[i].ratio *= sizes[i] / size;
  }

  [[nodiscard]] static std::optional<double> level_at(const ChannelResponse& channel, double hz) {
    for (std::size_t i = 1; i < channel.points.size(); ++i) {
      const ResponsePoint &p = channel.points[i - 1], &q = channel.points[i];
      if (p.hz > hz || q.hz < hz) continue;
      const double t = std::log(hz / p.hz) / std::log(q.hz / p.hz);
      return db_of(p) + t * (db_of(q) - db_of(p));
    }
    return std::nullopt;
  }

  void describe(ChannelResponse& channel) const {
    std::vector<double> within;
    for (const ResponsePoint& p : channel.points)
      if (p.hz >= options_.band_from_hz && p.hz <= options_.band_to_hz) within.push_back(db_of(p));
    channel.gain_db =
        level_at(channel, options_.reference_hz)
            .value_or(within.empty() ? db_of(channel.points.front()) : within[within.size() / 2]);
    if (within.empty()) return;
    channel.ripple_db =
        *std::max_element(within.begin(), within.end()) - *std::min_element(within.begin(), within.end());
    const double level = plateau_db(channel.points);
    channel.band_db = level;
    channel.bell = find_bell(channel.points, options_.band_from_hz, options_.band_to_hz);
    channel.lower = find_edge(channel.points, level, -1, rate_);
    channel.upper = find_edge(channel.points, level, 1, rate_);
    // A cut with a slope of its own is no shelf.
    const bool cut =
        (channel.lower && channel.lower->order > 0) || (channel.upper && channel.upper->order > 0);
    if (!channel.bell && !cut) channel.shelf = find_shelf(channel.points, options_.reference_hz, rate_);
  }

  AudioSource& a_;
  AudioSource& b_;
  ResponseOptions options_;
  double rate_;
  FrameRange range_;
  ResponseCache own_;
  ResponseResult result_;
};

}  // namespace

ResponseResult measure_response(AudioSource& a, AudioSource& b, const ResponseOptions& options) {
  if (a.frames() == 0 || b.frames() == 0)
    throw Error(ErrorCode::bad_input,
                fmt::format("{} holds no audio: 0 frames", a.frames() == 0 ? "A" : "B"));
  if (a.sample_rate_hz() != b.sample_rate_hz())
    throw Error(ErrorCode::bad_argument,
                fmt::format("A has {:g} Hz and B has {:g} Hz: bring both to one rate first",
                            a.sample_rate_hz(), b.sample_rate_hz()));
  if (options.smoothing != 0 && !(options.smoothing >= 1 && options.smoothing <= kPerOctave))
    throw Error(ErrorCode::bad_argument,
                fmt::format("smoothing over 1/{:g} octave is not within 1/1 to 1/48", options.smoothing));
  if (!(options.band_from_hz > 0 && options.band_to_hz > options.band_from_hz && options.reference_hz > 0))
    throw Error(ErrorCode::bad_argument, "the band or the reference frequency is empty");
  return Responder(a, b, options).run();
}

}  // namespace wavicon
