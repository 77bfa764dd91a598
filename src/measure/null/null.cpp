// SPDX-License-Identifier: MIT
#include "wavicon/measure/null/null.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <complex>
#include <memory>

#include "measure/common/ahead_source.hpp"
#include "measure/common/frame_range.hpp"
#include "measure/common/lined_up.hpp"
#include "measure/common/match.hpp"
#include "measure/null/judge.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/filtered.hpp"
#include "wavicon/audio/resampled.hpp"
#include "wavicon/audio/workers.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kHopS = 0.02;
constexpr double kResampledTo = 0.45;  // of the lower rate: what resampling keeps
constexpr std::size_t kBlock = 32768;  // frames, or more at high rates
constexpr double kBlockS = 0.4;
constexpr double kWholeDriftPpm = 0.002;
constexpr int kMostTaps = 2048;           // of the filter: the longest that is solved at once
constexpr double kPassed = 0.44;          // of the rate: what lies above is lost between the samples
constexpr double kLossMatters = 0.02;     // power over that of the residual
constexpr double kSameGain = 1e-13;       // from 1: less is the arithmetic's
constexpr std::size_t kLeastPieces = 4;   // of which one is left out
constexpr double kDelayDeviations = 2.1;  // two, and a twentieth by which the fit misses the least variance
constexpr double kEndToEnd = 0.002;       // frames: the ends of a stretch are read through filters
constexpr double kMoreThanChance = 1.5;
constexpr double kInterpolation = 1e-8;  // what reading between samples leaves, over the programme

[[noreturn]] void refuse(const std::string& what) { throw Error(ErrorCode::bad_argument, what); }

// A, B brought to it and what is left of B, block by block, channels one after the other.
class ResidualReader {
 public:
  /// @param block    most frames of a read.
  /// @param cut_top  takes out of the residual what reading between samples lost near half the rate.
  ResidualReader(AudioSource& a, AlignedReader& aligned, const std::vector<ChannelPair>& pairs,
                 std::size_t block, bool cut_top)
      : a_(a), aligned_(aligned), pairs_(pairs), cut_top_(cut_top), margin_(cut_top ? cut_.reach() : 0) {
    const std::size_t wide = block + 2 * margin_;
    x_.resize(wide * static_cast<std::size_t>(a.channel_count()));
    y_.resize(wide * pairs.size());
    rest_.resize(block * pairs.size());
    if (cut_top) wide_rest_.resize(wide * pairs.size());
  }

  void read(std::int64_t at, std::size_t count) {
    count_ = count;
    const std::size_t wide = count + 2 * margin_;
    const auto before = at - static_cast<std::int64_t>(margin_);
    a_.read(before, std::span(x_).first(wide * static_cast<std::size_t>(a_.channel_count())));
    aligned_.read(before, std::span(y_).first(wide * pairs_.size()));
    for_each_part(pairs_.size(), [&](std::size_t p) {
      const double *from_a = x_.data() + static_cast<std::size_t>(pairs_[p].a) * wide,
                   *from_b = y_.data() + p * wide;
      const auto rest = cut_top_ ? std::span(wide_rest_).subspan(p * wide, wide)
                                 : std::span(rest_).subspan(p * count, count);
      for (std::size_t n = 0; n < wide; ++n) rest[n] = from_a[n] - from_b[n];
      if (cut_top_) cut_.apply(rest, std::span(rest_).subspan(p * count, count));
    });
  }

  [[nodiscard]] std::size_t channels_of_a() const { return static_cast<std::size_t>(a_.channel_count()); }
  [[nodiscard]] std::span<const double> channel_of_a(std::size_t c) const { return middle(x_, c); }
  [[nodiscard]] std::span<const double> of_a(std::size_t pair) const {
    return channel_of_a(static_cast<std::size_t>(pairs_[pair].a));
  }
  /// All pairs of B, one after the other.
  [[nodiscard]] std::span<const double> b() {
    b_.clear();
    for (std::size_t p = 0; p < pairs_.size(); ++p) {
      const auto here = middle(y_, p);
      b_.insert(b_.end(), here.begin(), here.end());
    }
    return b_;
  }
  [[nodiscard]] std::span<const double> residual() const {
    return std::span(rest_).first(count_ * pairs_.size());
  }
  [[nodiscard]] std::span<const double> residual(std::size_t pair) const {
    return std::span(rest_).subspan(pair * count_, count_);
  }

 private:
  // A channel without the margins at its ends.
  [[nodiscard]] std::span<const double> middle(const std::vector<double>& from, std::size_t channel) const {
    return std::span(from).subspan(channel * (count_ + 2 * margin_) + margin_, count_);
  }

  AudioSource& a_;
  AlignedReader& aligned_;
  const std::vector<ChannelPair>& pairs_;
  bool cut_top_;
  TopCut cut_;
  std::size_t margin_;
  std::size_t count_ = 0;
  std::vector<double> x_, y_, rest_, wide_rest_, b_;
};

class Nuller {
 public:
  /// @param apart  whether A and B are not one and the same source.
  Nuller(AudioSource& a, AudioSource& b, bool apart, SampleFormat format_b, const NullOptions& options,
         const NullSink& sink)
      : a_(a), b_(b), apart_(apart), format_b_(format_b), options_(options), sink_(sink) {}

  NullResult run() {
    check();
    result_.options = options_;
    result_.sample_rate_hz = a_.sample_rate_hz();
    result_.a_frames = a_.frames();
    result_.b_frames = b_.frames();
    result_.band_to_hz =
        std::min(options_.band_to_hz.value_or(a_.sample_rate_hz() / 2), a_.sample_rate_hz() / 2);
    pair_channels();
    range_ = frame_range(a_, options_.from_s, options_.to_s);
    if (!same_as_they_are()) {
      line_up();
      if (result_.found && !whole_) {
        const Settled settled = settle(a_, b_, loudest_, result_.alignment, common(),
                                       options_.delay_samples.has_value(), options_.drift_ppm.has_value());
        result_.alignment = settled.alignment;
        whole_ = settled.whole;
        set_range();
      }
    }
    AheadSource ahead(b_, apart_);
    AlignedReader aligned(ahead, pairs_, result_.alignment, whole_);
    if (!result_.equal) {
      find_gains(aligned);
      if (options_.response_taps > 0) match_response(aligned);
    }
    take_away(aligned);
    set_floors();
    set_uncertainties();
    judge(result_);
    return std::move(result_);
  }

 private:
  [[nodiscard]] FrameRange common() const { return {result_.first_frame, result_.end_frame}; }

  void check() const {
    if (a_.frames() == 0 || b_.frames() == 0)
      throw Error(ErrorCode::bad_input,
                  fmt::format("{} holds no audio: 0 frames", a_.frames() == 0 ? "A" : "B"));
    if (a_.sample_rate_hz() != b_.sample_rate_hz())
      refuse(fmt::format("A has {:g} Hz and B has {:g} Hz: bring both to one rate first", a_.sample_rate_hz(),
                         b_.sample_rate_hz()));
    if (options_.response_taps < 0 || options_.response_taps > kMostTaps)
      refuse(fmt::format("a filter of {} taps is not within 0 to {}", options_.response_taps, kMostTaps));
    if (options_.polarity && std::abs(*options_.polarity) != 1) refuse("a polarity is 1 or -1");
    if (options_.drift_ppm && !(std::abs(*options_.drift_ppm) <= 300))
      refuse(fmt::format("a drift of {} ppm is not within -300 to 300", *options_.drift_ppm));
    if (options_.gain_db && !(std::abs(*options_.gain_db) <= 200))
      refuse("a gain has to be within -200 to 200 dB");
    if (!(options_.band_from_hz >= 0 && options_.band_to_hz.value_or(1e9) > options_.band_from_hz &&
          options_.band_from_hz < a_.sample_rate_hz() / 2))
      refuse("the band is empty, or is above half the rate");
  }

  void pair_channels() {
    const int a = a_.channel_count(), b = b_.channel_count();
    if (a != b && a != 1 && b != 1)
      refuse(fmt::format("A has {} channels and B has {}: only a mono file is compared with several", a, b));
    for (int c = 0; c < std::max(a, b); ++c) {
      pairs_.push_back({a == 1 ? 0 : c, b == 1 ? 0 : c});
      result_.channels.push_back({.a_channel = pairs_.back().a, .b_channel = pairs_.back().b});
    }
  }

  // Two files that are the same need no search, and a search could not tell where a tone lies.
  bool same_as_they_are() {
    if (a_.frames() != b_.frames() || options_.delay_samples.value_or(0) != 0 ||
        options_.drift_ppm.value_or(0) != 0 || options_.gain_db.value_or(0) != 0 ||
        options_.polarity.value_or(1) != 1)
      return false;
    const auto a = static_cast<std::size_t>(a_.channel_count()),
               b = static_cast<std::size_t>(b_.channel_count());
    std::vector<double> x(kBlock * a), y(kBlock * b);
    for (std::int64_t at = range_.first; at < range_.end; at += static_cast<std::int64_t>(kBlock)) {
      const auto count = static_cast<std::size_t>(std::min<std::int64_t>(kBlock, range_.end - at));
      const auto from_a = std::span(x).first(count * a), from_b = std::span(y).first(count * b);
      a_.read(at, from_a);
      b_.read(at, from_b);
      for (const ChannelPair& pair : pairs_) {
        const auto p = from_a.subspan(static_cast<std::size_t>(pair.a) * count, count),
                   q = from_b.subspan(static_cast<std::size_t>(pair.b) * count, count);
        if (!std::equal(p.begin(), p.end(), q.begin())) return false;
      }
    }
    result_.equal = whole_ = true;
    result_.alignment.end_frame = a_.frames();
    set_range();
    return true;
  }

  void line_up() {
    Alignment& alignment = result_.alignment;
    if (options_.delay_samples && options_.drift_ppm) {
      alignment = {};
    } else {
      loudest_ = loudest_pair();
      alignment = lined_up(
          a_, b_,
          {.reference_channel = loudest_.a, .capture_channel = loudest_.b, .drift = !options_.drift_ppm});
      result_.found = true;
    }
    if (options_.drift_ppm) {
      // The drift turns the line about the middle of what both hold.
      const double middle = 0.5 * static_cast<double>(alignment.first_frame + alignment.end_frame);
      const double slope = 1 + *options_.drift_ppm * 1e-6;
      alignment.delay_frames += (alignment.frames_per_frame - slope) * middle;
      alignment.frames_per_frame = slope;
      alignment.drift_ppm = *options_.drift_ppm;
    }
    if (options_.delay_samples) alignment.delay_frames = *options_.delay_samples;
    const double whole = std::round(alignment.delay_frames);
    // A drift that moves nothing by a thousandth of a sample over the whole length is none.
    const double moved = std::abs(alignment.frames_per_frame - 1) * static_cast<double>(range_.end);
    if (std::abs(alignment.delay_frames - whole) < kWholeFrame &&
        (std::abs(alignment.drift_ppm) < kWholeDriftPpm || moved < kWholeFrame)) {
      alignment.delay_frames = whole;
      alignment.frames_per_frame = 1;
      alignment.drift_ppm = 0;
      whole_ = true;
    }
    set_range();
  }

  void set_range() {
    const Alignment& alignment = result_.alignment;
    const double last =
        (static_cast<double>(b_.frames()) - alignment.delay_frames) / alignment.frames_per_frame;
    result_.first_frame = std::max(
        range_.first, static_cast<std::int64_t>(std::ceil(
                          std::max(0.0, -alignment.delay_frames / alignment.frames_per_frame) - 1e-6)));
    result_.end_frame = std::min(range_.end, static_cast<std::int64_t>(std::floor(last + 1e-6)));
    keep_to_piece();
    // Frames whose place in B has nothing on one side cannot be read between samples.
    if (!whole_) {
      const auto margin =
          static_cast<std::int64_t>(FractionalReader::kReach) + static_cast<std::int64_t>(TopCut().reach());
      if (result_.end_frame - result_.first_frame > 16 * margin) {
        result_.first_frame += margin;
        result_.end_frame -= margin;
      }
    }
    if (result_.end_frame <= result_.first_frame)
      throw Error(ErrorCode::bad_input, "A and B do not overlap once they are lined up");
  }

  // Where frames were lost or inserted, what was found holds on one side of the place.
  void keep_to_piece() {
    const Alignment& alignment = result_.alignment;
    if (alignment.slips.empty() || options_.delay_samples) return;
    result_.first_frame = std::max(result_.first_frame, alignment.piece_first_frame);
    result_.end_frame = std::min(result_.end_frame, alignment.piece_end_frame);
    if (result_.end_frame <= result_.first_frame)
      throw Error(
          ErrorCode::bad_input,
          fmt::format("{}: B is lined up by what lies from {:.3f} to {:.3f} s, and the stretch that is "
                      "asked for lies beside it; give its delay by --delay",
                      slips_text(alignment.slips, a_.sample_rate_hz()),
                      static_cast<double>(alignment.piece_first_frame) / a_.sample_rate_hz(),
                      static_cast<double>(alignment.piece_end_frame) / a_.sample_rate_hz()));
  }

  // The channels that hold most, seen at a few places.
  ChannelPair loudest_pair() {
    ChannelPair best = pairs_.front();
    double most = -1;
    for (const ChannelPair& pair : pairs_) {
      double x = 0, y = 0;
      for (int i = 0; i < 8; ++i) {
        const auto level = [&](AudioSource& source, int channel) {
          double sum = 0;
          for (const double v :
               read_channel(source, channel, source.frames() * (2 * i + 1) / 16 - 2048, 4096))
            sum += v * v;
          return sum;
        };
        x += level(a_, pair.a);
        y += level(b_, pair.b);
      }
      if (x * y > most) {
        most = x * y;
        best = pair;
      }
    }
    return best;
  }

  // Σxy/Σxx within the band that is compared.
  void find_gains(AlignedReader& aligned) {
    struct Sums {
      double own = 0, both = 0, other = 0;
    };
    std::vector<Sums> sums(pairs_.size());
    std::vector<std::vector<Sums>> pieces(pairs_.size());
    gain_spread_.clear();
    SegmentSpectra spectra;
    const double passed = (whole_ ? 1 : kPassed) * a_.sample_rate_hz();
    double above = 0, rest = 0;
    for_segments(
        a_, aligned, common(), kGainSegment, 0, kGainSegments,
        [&](auto x, auto y, std::size_t length, std::int64_t) {
          const double bin = a_.sample_rate_hz() / static_cast<double>(fast_transform_length(length));
          for (std::size_t p = 0; p < pairs_.size(); ++p) {
            const auto a = spectra(x.subspan(static_cast<std::size_t>(pairs_[p].a) * length, length)),
                       b = spectra(y.subspan(p * length, length));
            Sums& piece = pieces[p].emplace_back();
            for (std::size_t k = 0; k < a.size(); ++k) {
              const double hz = static_cast<double>(k) * bin;
              if (hz > passed) above += std::norm(a[k]);
              if (hz < options_.band_from_hz || hz > std::min(result_.band_to_hz, passed)) continue;
              piece.both += (std::conj(a[k]) * b[k]).real();
              piece.own += std::norm(a[k]);
              piece.other += std::norm(b[k]);
            }
            sums[p].both += piece.both;
            sums[p].own += piece.own;
            sums[p].other += piece.other;
          }
        });
    for (std::size_t p = 0; p < pairs_.size(); ++p) {
      if (!std::isfinite(sums[p].both) || !std::isfinite(sums[p].own) || !std::isfinite(sums[p].other))
        throw Error(ErrorCode::bad_input, "A or B holds NaN or infinity; 'wavicon health' names the place");
      ChannelNull& channel = result_.channels[p];
      double gain = sums[p].own > 0 && sums[p].both != 0 ? sums[p].both / sums[p].own : 1;
      // Transforms round: samples that are the same have a gain of 1.
      if (std::abs(std::abs(gain) - 1) < kSameGain) gain = gain < 0 ? -1 : 1;
      // B is silent where A is not: nothing is to be matched.
      if (sums[p].own > 0 && sums[p].other < 1e-30 * sums[p].own) gain = 1;
      // Σ(x - y/g)² from the sums.
      if (gain != 0)
        rest += std::max(0.0, sums[p].own - 2 * sums[p].both / gain + sums[p].other / (gain * gain));
      channel.polarity = options_.polarity.value_or(gain < 0 ? -1 : 1);
      channel.gain = options_.gain_db ? ratio_from_db(*options_.gain_db) : std::abs(gain);
      gain_spread_.push_back(spread_over(pieces[p], sums[p]));
      aligned.set_gain(p, channel.gain * channel.polarity);
    }
    // Reading between samples loses what lies just under half the rate. Where that matters it is left out.
    cut_top_ = !whole_ && result_.band_to_hz > kPassed * a_.sample_rate_hz() && above > kLossMatters * rest;
    if (cut_top_) result_.band_to_hz = kCutAt * a_.sample_rate_hz();
  }

  // Of the gain, as a share of it, by leaving out one piece after the other (the jackknife): a dropout or a
  // fade in one of them moves the gain by more than its noise says. Nothing of fewer than four.
  template <class Pieces, class Sums>
  static double spread_over(const Pieces& pieces, const Sums& sums) {
    if (pieces.size() < kLeastPieces || sums.both == 0) return 0;
    const double gain = sums.both / sums.own;
    double squares = 0;
    for (const auto& piece : pieces) {
      const double own = sums.own - piece.own;
      if (!(own > 0)) return 0;
      const double moved = (sums.both - piece.both) / own / gain - 1;
      squares += moved * moved;
    }
    const auto count = static_cast<double>(pieces.size());
    return std::sqrt((count - 1) / count * squares);
  }

  void match_response(AlignedReader& aligned) {
    const auto taps = static_cast<std::size_t>(options_.response_taps);
    std::vector<ResponseMatch> matches;
    for (std::size_t p = 0; p < pairs_.size(); ++p) matches.emplace_back(taps);
    for_segments(a_, aligned, common(), 2 * kGainSegment, options_.response_taps, kGainSegments,
                 [&](auto x, auto y, std::size_t length, std::int64_t) {
                   for (std::size_t p = 0; p < pairs_.size(); ++p)
                     matches[p].add(x.subspan(static_cast<std::size_t>(pairs_[p].a) * length, length),
                                    y.subspan(p * (length + 2 * taps), length + 2 * taps));
                 });
    for (std::size_t p = 0; p < pairs_.size(); ++p) aligned.set_filter(p, matches[p].solve());
  }

  void take_away(AlignedReader& aligned) {
    const double rate = a_.sample_rate_hz();
    const auto hop = static_cast<std::size_t>(std::max(1.0, std::round(kHopS * rate)));
    const std::size_t block = std::max<std::size_t>(
                                  1, std::max(kBlock, static_cast<std::size_t>(kBlockS * rate)) / hop) *
                              hop,
                      channels = pairs_.size();
    result_.hop_s = static_cast<double>(hop) / rate;
    std::vector<ResidualMeter> meters;
    for (std::size_t p = 0; p < channels; ++p)
      meters.emplace_back(rate, hop, result_.end_frame - result_.first_frame);
    AheadSource ahead(a_, apart_);
    ResidualReader reader(ahead, aligned, pairs_, block, cut_top_);
    UsedBits bits_a, bits_b;
    bool same = whole_;
    for (std::int64_t at = result_.first_frame; at < result_.end_frame;
         at += static_cast<std::int64_t>(block)) {
      reader.read(at, static_cast<std::size_t>(
                          std::min<std::int64_t>(static_cast<std::int64_t>(block), result_.end_frame - at)));
      for (std::size_t c = 0; c < reader.channels_of_a(); ++c) bits_a.add(reader.channel_of_a(c));
      bits_b.add(aligned.raw());
      std::vector<char> none(channels);
      for_each_part(channels, [&](std::size_t p) {
        double sum = 0;
        for (const double v : reader.residual(p)) sum += std::abs(v);
        if (!std::isfinite(sum))
          throw Error(
              ErrorCode::bad_input,
              fmt::format("A or B holds NaN or infinity near {:.3f} s; 'wavicon health' names the place",
                          static_cast<double>(at) / rate));
        none[p] = sum == 0;
        meters[p].add(at, reader.of_a(p), reader.residual(p));
      });
      for (const char nothing : none) same = same && nothing;
      if (sink_) sink_(at, reader.residual(), reader.b());
    }

    for_each_part(channels, [&](std::size_t p) {
      meters[p].finish(options_.band_from_hz,
                       options_.band_from_hz > 0 || !cut_top_ ? result_.band_to_hz : rate / 2,
                       result_.channels[p]);
    });
    const bool plain = std::all_of(result_.channels.begin(), result_.channels.end(),
                                   [](const ChannelNull& c) { return c.gain == 1; });
    result_.equal = same && plain && options_.response_taps == 0;
    result_.used_bits_a = bits_a.bits();
    result_.used_bits_b = bits_b.bits();
    if (std::all_of(result_.channels.begin(), result_.channels.end(),
                    [](const ChannelNull& c) { return c.silent; }) &&
        !result_.equal)
      throw Error(ErrorCode::bad_input, "A is silent: there is nothing to compare with");
  }

  // Of delay, drift and gain, by what is left beside what A holds (least squares on the phase, closed form):
  // the channel that says most counts.
  void set_uncertainties() {
    const double rate = a_.sample_rate_hz();
    const auto frames = static_cast<double>(common().frames()),
               used = std::min(frames, static_cast<double>(kGainSegments * kGainSegment));
    double most = 0;
    for (std::size_t p = 0; p < pairs_.size(); ++p) {
      ChannelNull& c = result_.channels[p];
      if (c.silent || result_.equal || c.hz.size() < 2) continue;
      double own = 0, own_rest = 0, moment = 0, moment_rest = 0;
      for (std::size_t k = 0; k < c.hz.size(); ++k) {
        const double x = c.reference_density[k], n = c.residual_density[k],
                     turn = 2 * std::numbers::pi * c.hz[k] / rate;
        own += x;
        own_rest += x * n;
        moment += turn * turn * x;
        moment_rest += turn * turn * x * n;
      }
      const double scale = used / rate * c.hz[1] * 2;
      if (own > 0 && !options_.gain_db) {
        const double by_noise = std::sqrt(own_rest / scale) / own,
                     by_pieces = gain_spread_[p] > kMoreThanChance * by_noise ? gain_spread_[p] : 0;
        c.gain_uncertainty_db = 2 * kDbOfAmplitudeShare * std::max(by_noise, by_pieces);
      }
      if (!(moment > most) || !result_.found) continue;
      most = moment;
      const double middle = 0.5 * static_cast<double>(result_.first_frame + result_.end_frame),
                   delay = kDelayDeviations * std::sqrt(moment_rest / scale) / moment,
                   slope = std::sqrt(12.0) * delay / std::max(1.0, frames);
      const bool leans = result_.alignment.drift_ppm != 0;
      if (!options_.drift_ppm)
        result_.drift_uncertainty_ppm = leans ? 1e6 * std::hypot(slope, kEndToEnd / std::max(1.0, frames))
                                              : std::max(1e6 * slope, result_.alignment.drift_bound_ppm);
      if (!options_.delay_samples)
        result_.delay_uncertainty_samples = std::hypot(delay, leans ? slope * middle : 0);
    }
  }

  // What errors of alignment and gain, reading between samples and B's own format would leave of equal
  // programme.
  void set_floors() {
    const double frames = static_cast<double>(result_.end_frame - result_.first_frame);
    const double segments = std::clamp(2 * frames / 16384 - 1, 1.0, 64.0);
    for (ChannelNull& c : result_.channels) {
      if (c.silent) continue;
      double power = 0, moment = 0;
      for (std::size_t k = 0; k < c.hz.size(); ++k) {
        power += c.reference_density[k];
        moment += c.reference_density[k] * c.hz[k] * c.hz[k];
      }
      const double rms_hz = power > 0 ? std::sqrt(moment / power) : 0;
      const double late = whole_ ? 0 : result_.alignment.spread_frames / std::sqrt(segments);
      const double by_delay = 2 * std::numbers::pi * rms_hz / a_.sample_rate_hz() * late;
      const double by_gain = options_.gain_db || result_.equal ? 0 : c.depth / std::sqrt(frames);
      const double by_reading = whole_ ? 0 : kInterpolation;
      const double step = is_integer(format_b_) ? std::ldexp(1.0, 1 - bits(format_b_)) : 0;
      const double by_format = result_.equal ? 0 : step / std::sqrt(12.0) / c.gain / c.reference_rms;
      c.floor = std::hypot(std::hypot(by_delay, by_gain), std::hypot(by_reading, by_format));
    }
  }

  AudioSource& a_;
  AudioSource& b_;
  bool apart_;
  SampleFormat format_b_;
  NullOptions options_;
  const NullSink& sink_;
  std::vector<ChannelPair> pairs_;
  ChannelPair loudest_;
  FrameRange range_;
  bool whole_ = false;
  bool cut_top_ = false;
  std::vector<double> gain_spread_;  // of each pair, as a share of its gain
  NullResult result_;
};

}  // namespace

std::string name_of(NullVerdict verdict) {
  static const char* const kNames[] = {"identical", "rounding", "noise", "hum", "linear", "programme"};
  return kNames[static_cast<int>(verdict)];
}

NullResult measure_null(const JudgedCapture& a, const JudgedCapture& b, const NullOptions& given,
                        const NullSink& sink) {
  NullOptions options = given;
  std::unique_ptr<FilteredSource> filtered;
  std::unique_ptr<ResampledSource> faster;
  AudioSource *from = &a.source(), *against = &b.source();
  if (!options.filter.empty())
    from = (filtered = std::make_unique<FilteredSource>(*from, options.filter)).get();
  const double low = std::min(a.sample_rate_hz(), b.sample_rate_hz()),
               high = std::max(a.sample_rate_hz(), b.sample_rate_hz());
  const bool resampled = low < high && options.resample, resampled_a = a.sample_rate_hz() < high;
  if (resampled) {
    AudioSource*& slower = resampled_a ? from : against;
    slower = (faster = std::make_unique<ResampledSource>(*slower, high)).get();
    if (!options.band_to_hz) options.band_to_hz = kResampledTo * low;
  }
  NullResult result = Nuller(*from, *against, &a.source() != &b.source(), b.format(), options, sink).run();
  if (resampled) result.resampled_from_hz = low;
  result.resampled_a = resampled && resampled_a;
  return result;
}

}  // namespace wavicon
