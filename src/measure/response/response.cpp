// SPDX-License-Identifier: MIT
#include "wavicon/measure/response/response.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <utility>

#include "measure/common/lined_up.hpp"
#include "measure/common/match.hpp"
#include "measure/response/features.hpp"
#include "measure/response/methods.hpp"
#include "measure/response/place_by_division.hpp"
#include "wavicon/audio/error.hpp"

namespace wavicon {

ResponseCache::ResponseCache() : impl_(std::make_unique<Impl>()) {}
ResponseCache::~ResponseCache() = default;

namespace {

using namespace measure_detail;

constexpr double kMostSlip = 0.01;           // frames in a period
constexpr std::int64_t kLeastCommon = 4096;  // frames that A and B share, or nothing is said
constexpr double kTailS = 0.5;               // of a response over time: its resolution
constexpr double kMostFilterS = 0.1;         // by which a filter delays
constexpr double kSilent = 1e-8;             // of the power of the loudest channel of A

class Responder {
 public:
  Responder(AudioSource& a, AudioSource& b, const ResponseOptions& options)
      : a_(a), b_(b), options_(options), rate_(a.sample_rate_hz()) {}

  ResponseResult run() {
    result_.options = options_;
    result_.options.cache = nullptr;
    result_.sample_rate_hz = rate_;
    FrameRange range = frame_range(a_, options_.from_s, options_.to_s);
    result_.seconds = static_cast<double>(range.frames()) / rate_;
    if (options_.period_frames > 0 && range.frames() < 2 * options_.period_frames)
      throw Error(
          ErrorCode::bad_argument,
          fmt::format("{:.2f} s hold {:.1f} periods of the noise: two are needed, of which the first is "
                      "not measured; play it longer",
                      result_.seconds,
                      static_cast<double>(range.frames()) / static_cast<double>(options_.period_frames)));
    ResponseCache own;
    ResponseCache::Impl& cache = (options_.cache != nullptr ? *options_.cache : own).impl();
    const int count =
        a_.channel_count() == 1 ? b_.channel_count() : std::min(a_.channel_count(), b_.channel_count());
    bool any = false;
    const std::vector<double>& energies = energies_of_a(range, cache);
    const auto loudest =
        static_cast<int>(std::max_element(energies.begin(), energies.end()) - energies.begin());
    result_.alignment = options_.alignment ? *options_.alignment : line_up(loudest, range);
    if (!result_.alignment.slips.empty()) range = keep_to_piece(range);
    if (!options_.sweep) range = keep_to_both(range);
    const ResponseTask task{a_, b_, options_, rate_, range, result_.alignment};
    for (int c = 0; c < count; ++c) {
      ChannelResponse channel;
      int of_a = a_.channel_count() == 1 ? 0 : c;
      if (of_a != loudest &&
          energies[static_cast<std::size_t>(of_a)] < kSilent * energies[static_cast<std::size_t>(loudest)]) {
        channel.crosstalk_from = loudest;
        of_a = loudest;
      }
      if (options_.sweep)
        divide_sweep(task, cache, of_a, c, channel);
      else
        average_spectra(task, of_a, c, channel);
      channel.measured = !channel.points.empty();
      any |= channel.measured;
      if (channel.measured) {
        smooth(channel);
        describe(channel, options_, rate_);
        add_uncertainties(channel, options_, rate_, options_.sweep ? 1 / kTailS : channel.bin_hz);
      }
      result_.channels.push_back(std::move(channel));
    }
    if (!any)
      throw Error(ErrorCode::bad_input,
                  "A or B is silent, or they share nothing: there is no response to be read");
    return std::move(result_);
  }

 private:
  // Where frames were lost or inserted, what was found holds on one side of the place.
  FrameRange keep_to_piece(const FrameRange& range) {
    const Alignment& alignment = result_.alignment;
    const FrameRange piece{std::max(range.first, alignment.piece_first_frame),
                           std::min(range.end, alignment.piece_end_frame)};
    if (piece.frames() < (options_.sweep ? range.frames() : kLeastCommon))
      throw Error(ErrorCode::bad_input,
                  fmt::format("{} of A, within what is to be measured: capture it again with a larger buffer",
                              slips_text(alignment.slips, rate_)));
    result_.seconds = static_cast<double>(piece.frames()) / rate_;
    return piece;
  }

  // Where B has ended, or not begun, it has no answer: averages over that read a lower gain.
  FrameRange keep_to_both(FrameRange range) {
    const Alignment& alignment = result_.alignment;
    const double pace = alignment.frames_per_frame, first = -alignment.delay_frames / pace,
                 end = (static_cast<double>(b_.frames()) - alignment.delay_frames) / pace;
    range.first = std::max(range.first, static_cast<std::int64_t>(std::ceil(first)));
    range.end = std::min(range.end, static_cast<std::int64_t>(std::floor(end)));
    if (range.frames() < kLeastCommon)
      throw Error(ErrorCode::bad_input,
                  "B ends before what is to be measured: record on, or choose another stretch");
    result_.seconds = static_cast<double>(range.frames()) / rate_;
    return range;
  }

  // Where B answers to the sweep of A; none where that is not looked for.
  // @throws Error bad_input when it does not: marks alone say nothing of what lies between them.
  [[nodiscard]] std::optional<DividedPlace> place_of_answer(int loudest, const FrameRange& range) const {
    if (!options_.sweep) return std::nullopt;
    const auto place = place_by_division(a_, loudest, range, b_, std::min(loudest, b_.channel_count() - 1));
    if (place) require_answer(place->crest_db);
    return place;
  }

  // An equaliser pulls at the delay and drift that are found first, and a drift of a millionth is a whole
  // frame over half a minute: what lies between A and B decides.
  [[nodiscard]] Alignment line_up(int loudest, const FrameRange& range) const {
    const int of_b = std::min(loudest, b_.channel_count() - 1);
    const AlignOptions channels{.reference_channel = loudest, .capture_channel = of_b};
    const auto place = place_of_answer(loudest, range);
    auto whole = place ? align(a_, b_, channels) : std::optional<Alignment>();
    // A steep filter leaves little of a sweep, and turns that: no one delay holds for it.
    const auto lies_elsewhere = [&](const Alignment& other) {
      return other.slips.empty() &&
             std::abs(other.delay_frames - static_cast<double>(place->delay_frames)) > kMostFilterS * rate_;
    };
    if (place && (!whole || lies_elsewhere(*whole))) {
      Alignment by_sweep{.delay_frames = static_cast<double>(place->delay_frames)};
      by_sweep.end_frame = by_sweep.piece_end_frame = a_.frames();
      by_sweep.by_residual = true;
      return by_sweep;
    }
    const Alignment found = whole ? *whole : lined_up(a_, b_, channels);
    if (!found.slips.empty()) return found;
    FrameRange common = range;
    common.first = std::max(common.first, static_cast<std::int64_t>(std::ceil(-found.delay_frames)));
    common.end = std::min(common.end, b_.frames() - static_cast<std::int64_t>(std::ceil(found.delay_frames)));
    if (common.frames() < kLeastCommon) return found;
    const Settled settled = settle(a_, b_, {loudest, of_b}, found, common, false, false);
    Alignment alignment = settled.alignment;
    if (settled.whole) alignment.delay_frames = std::round(alignment.delay_frames);
    return alignment;
  }

  [[nodiscard]] const std::vector<double>& energies_of_a(const FrameRange& range,
                                                         ResponseCache::Impl& cache) const {
    if (cache.energies_of == std::pair{range.first, range.end}) return cache.energies;
    cache.energies.assign(static_cast<std::size_t>(a_.channel_count()), 0.0);
    cache.energies_of = {range.first, range.end};
    std::vector<double> scratch(static_cast<std::size_t>(16384 * a_.channel_count()));
    for_each_block(a_, range.first, range.end, scratch,
                   [&](std::int64_t, std::span<const double> planar, std::int64_t frames) {
                     for (std::size_t c = 0; c < cache.energies.size(); ++c)
                       for (const double v : planar.subspan(c * static_cast<std::size_t>(frames),
                                                            static_cast<std::size_t>(frames)))
                         cache.energies[c] += v * v;
                   });
    return cache.energies;
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

  AudioSource& a_;
  AudioSource& b_;
  ResponseOptions options_;
  double rate_;
  ResponseResult result_;
};

}  // namespace

ResponseOptions response_options(const Stimulus& stimulus, std::size_t part, const Take& in_a,
                                 const Take& in_b, double a_rate_hz, const ResponseOptions& otherwise) {
  ResponseOptions options = otherwise;
  options.alignment = alignment_of(in_a, in_b);
  const PlacedPart& placed = stimulus.parts()[part];
  options.from_s =
      (in_a.first_frame + static_cast<double>(placed.first_frame) * in_a.frames_per_frame) / a_rate_hz;
  options.to_s = options.from_s + static_cast<double>(placed.frames) * in_a.frames_per_frame / a_rate_hz;
  if (const auto* sweep = std::get_if<Sweep>(&stimulus.recipe().parts[part].kind);
      sweep != nullptr && !sweep->return_trip) {
    options.sweep = true;
    options.sweep_from_hz = sweep->from_hz;
    options.sweep_to_hz = sweep->to_hz;
  }
  // A's own lines have to lie at whole numbers of cycles: not in a capture at another clock.
  const auto repeats = repeating_stretch(stimulus, part, in_a, a_rate_hz);
  if (!repeats || std::abs(repeats->slip_frames) > kMostSlip) return options;
  options.period_frames = repeats->period_frames;
  options.from_s = repeats->from_s;
  options.to_s = repeats->to_s;
  return options;
}

ResponseResult measure_response(const JudgedCapture& judged_a, const JudgedCapture& judged_b,
                                const ResponseOptions& options) {
  AudioSource &a = judged_a.source(), &b = judged_b.source();
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
