// SPDX-License-Identifier: MIT
#include "wavicon/bench/examination.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <limits>
#include <numbers>
#include <optional>
#include <vector>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/path/call_watch.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

constexpr double kSignalS = 1, kBurstS = 0.5, kPeak = 0.25, kToneHz = 997;
constexpr double kLongestTailS = 30, kQuietS = 3, kTailPeak = 1e-6;  // -120 dBFS
constexpr double kRecoveryS = 3, kBrokenAtS = 0.25;
constexpr int kOtherBlocks[] = {1, 64, 333, 2048}, kLoadBlocks[] = {64, 512, 4096};
constexpr int kRounds = 3;
constexpr double kMuchLoadPercent = 10;  // of real time, for numbers that nobody hears
constexpr float kDenormal = 1e-39F;
constexpr double kSmallest = std::numeric_limits<float>::denorm_min();
constexpr const char* kBypass = "bypass=1";

using Planar = std::vector<std::vector<float>>;

std::size_t frames_of(double seconds, double rate_hz) {
  return static_cast<std::size_t>(std::llround(seconds * rate_hz));
}

// Noise and a tone, the same in every channel.
Planar sound(double seconds, double rate_hz, int channels) {
  std::vector<float> one(frames_of(seconds, rate_hz));
  for (std::size_t n = 0; n < one.size(); ++n) {
    const double tone = std::sin(2 * std::numbers::pi * kToneHz * static_cast<double>(n) / rate_hz);
    one[n] = static_cast<float>(kPeak * 0.5 * (tone + random_triangular(1, 0, n)));
  }
  return Planar(static_cast<std::size_t>(channels), one);
}

Planar silence(std::size_t frames, int channels) {
  return Planar(static_cast<std::size_t>(channels), std::vector<float>(frames, 0.0F));
}

double peak_of(const Planar& signal) {
  double peak = 0;
  for (const auto& channel : signal)
    for (const float x : channel) peak = std::max(peak, static_cast<double>(std::abs(x)));
  return peak;
}

bool finite_frame(const Planar& signal, std::size_t n) {
  return std::all_of(signal.begin(), signal.end(), [n](const auto& c) { return std::isfinite(c[n]); });
}

struct SignalDifference {
  std::int64_t samples = 0;
  double peak = 0;
};

SignalDifference difference(const std::vector<float>& a, const std::vector<float>& b) {
  SignalDifference differs;
  for (std::size_t n = 0; n < std::min(a.size(), b.size()); ++n)
    if (a[n] != b[n]) {
      ++differs.samples;
      differs.peak = std::max(differs.peak, std::abs(static_cast<double>(a[n]) - static_cast<double>(b[n])));
    }
  return differs;
}
SignalDifference difference(const Planar& a, const Planar& b) {
  SignalDifference all;
  for (std::size_t c = 0; c < std::min(a.size(), b.size()); ++c) {
    const SignalDifference one = difference(a[c], b[c]);
    all.samples += one.samples;
    all.peak = std::max(all.peak, one.peak);
  }
  return all;
}

// One instance that runs whole signals in blocks.
class Runner {
 public:
  Runner(const std::string& unit, const UnitSearch& search, double rate_hz, int channels, int block)
      : unit_(open_unit(parse_unit(unit), search)), block_(static_cast<std::size_t>(block)) {
    unit_->prepare(rate_hz, channels, block);
    set_buffers(channels);
  }
  [[nodiscard]] Unit& unit() { return *unit_; }

  /// The last block is filled up with silence.
  Planar run(const Planar& in) {
    const std::size_t frames = in.at(0).size();
    Planar out(out_.size(), std::vector<float>(frames));
    for (std::size_t at = 0; at < frames; at += block_) {
      const std::size_t now = std::min(block_, frames - at);
      for (std::size_t c = 0; c < in_.size(); ++c) {
        std::fill(std::copy_n(in[c].begin() + static_cast<std::ptrdiff_t>(at), now, in_[c].begin()),
                  in_[c].end(), 0.0F);
        from_[c] = in_[c].data();
      }
      begin_watch();
      const auto start = std::chrono::steady_clock::now();
      unit_->run(from_.data(), to_.data());
      seconds_ += std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
      const WatchedCalls calls = end_watch();
      calls_.allocations += calls.allocations;
      calls_.locks += calls.locks;
      for (std::size_t c = 0; c < out.size(); ++c)
        std::copy_n(out_[c].begin(), now, out[c].begin() + static_cast<std::ptrdiff_t>(at));
    }
    return out;
  }
  [[nodiscard]] const WatchedCalls& calls() const { return calls_; }
  /// That run() took since the last time.
  double take_seconds() { return std::exchange(seconds_, 0); }

 private:
  void set_buffers(int channels) {
    in_.assign(static_cast<std::size_t>(channels), std::vector<float>(block_));
    out_.assign(static_cast<std::size_t>(unit_->output_channel_count()), std::vector<float>(block_));
    from_.resize(in_.size());
    for (auto& channel : out_) to_.push_back(channel.data());
  }

  std::unique_ptr<Unit> unit_;
  std::size_t block_;
  Planar in_, out_;
  std::vector<const float*> from_;
  std::vector<float*> to_;
  WatchedCalls calls_;
  double seconds_ = 0;
};

class Examiner {
 public:
  Examiner(const std::string& unit, const UnitSearch& search, const ExaminationOptions& options)
      : unit_(unit), search_(search), options_(options), builder_(examination_readings(), CaptureInfo{}) {
    search_.isolate = false;
    search_.sample_rate_hz = options.sample_rate_hz;
    const UnitInfo info = open_unit(parse_unit(unit), search_)->info();
    bypassable_ = !info.enabled_setting.empty() && unit.find("bypass=") == std::string::npos;
    channels_ = options.channel_count > 0 ? options.channel_count : std::clamp(info.input_count, 1, 2);
    both_ = info.input_count == 2 || (info.input_count == 1 && info.output_count == 1);
    builder_.sheet().capture = {.file = unit,
                                .format = "float32",
                                .sample_rate_hz = options.sample_rate_hz,
                                .channels = channels_,
                                .frames = static_cast<std::int64_t>(frames_of(kSignalS, rate())),
                                .chain = {unit}};
    under_ = {{"sample_rate_hz", rate()},
              {"channels", std::int64_t{channels_}},
              {"block_frames", std::int64_t{options.block_frames}}};
  }

  Sheet run() {
    const Planar in = sound(kSignalS, rate(), channels_);
    Runner first = runner();
    const bool watched = watch_calls();
    const Planar usual = first.run(in);
    for (std::size_t n = 0; n < usual.at(0).size(); ++n)
      if (!finite_frame(usual, n))
        throw Error(ErrorCode::unit_failed, fmt::format("{} gives NaN or infinity at {:.3f} s", unit_,
                                                        static_cast<double>(n) / rate()));
    latency_ = first.unit().latency_frames();
    add("reported_samples", static_cast<double>(latency_));
    calls(first, watched);
    compare(in, usual);
    quiet();
    tail();
    recover("nan_recovery_s", std::numeric_limits<float>::quiet_NaN(), "a NaN");
    recover("infinity_recovery_s", std::numeric_limits<float>::infinity(), "an infinite sample");
    loads(in);
    say_result();
    return builder_.finish();
  }

 private:
  [[nodiscard]] double rate() const { return options_.sample_rate_hz; }
  [[nodiscard]] Runner runner(int block, int channels) const {
    return {unit_, search_, rate(), channels, block};
  }
  [[nodiscard]] Runner runner() const { return runner(options_.block_frames, channels_); }

  Reading& add(std::string_view name, std::optional<double> value) {
    return builder_.add(name, std::nullopt, value, under_);
  }
  void left_out(const std::string& text) { builder_.say(Severity::warning, FindingCode::left_out, text); }
  void differs(const char* count, const char* level, const SignalDifference& difference,
               const std::string& as_words) {
    add(count, static_cast<double>(difference.samples));
    if (difference.samples == 0) return;
    if (level != nullptr) add(level, db_from_ratio(std::max(difference.peak, kSmallest)));
    problems_.push_back(as_words);
  }

  void calls(const Runner& first, bool watched) {
    if (!watched || unit_.rfind("sim:", 0) == 0) return;
    add("allocations", static_cast<double>(first.calls().allocations));
    add("locks", static_cast<double>(first.calls().locks));
    if (first.calls().allocations > 0) problems_.emplace_back("allocates in run");
    if (first.calls().locks > 0) problems_.emplace_back("takes locks in run");
  }

  void compare(const Planar& in, const Planar& usual) {
    const SignalDifference runs = difference(runner().run(in), usual);
    differs("runs_differ_samples", "runs_difference_dbfs", runs, "two runs differ");
    if (bypassable_) bypass(in);
    if (runs.samples > 0) {
      left_out("two runs differ: block sizes, states and channels are not compared");
      return;
    }
    SignalDifference worst;
    int worst_block = 0;
    for (const int block : kOtherBlocks) {
      if (block == options_.block_frames) continue;
      const SignalDifference one = other_block(block, in, usual);
      if (one.samples > worst.samples) worst = one, worst_block = block;
    }
    differs("blocks_differ_samples", "blocks_difference_dbfs", worst,
            fmt::format("blocks of {} differ", worst_block));
    state(in, usual);
    if (channels_ == 2 || both_) sides(in);
  }
  SignalDifference other_block(int block, const Planar& in, const Planar& usual) {
    try {
      return difference(runner(block, channels_).run(in), usual);
    } catch (const Error& error) {
      left_out(fmt::format("blocks of {} frames: {}", block, error.what()));
      return {};
    }
  }
  void state(const Planar& in, const Planar& usual) {
    Runner restarted = runner();
    (void)restarted.run(in);
    try {
      if (!restarted.unit().restart_from_own_state()) return;
    } catch (const Error& error) {
      left_out(fmt::format("state: {}", error.what()));
      problems_.emplace_back("its saved state cannot be restored");
      return;
    }
    differs("state_differs_samples", "state_difference_dbfs", difference(restarted.run(in), usual),
            "a restored state differs");
  }
  void bypass(const Planar& in) {
    const std::string bypassed = unit_ + (unit_.find('?') == std::string::npos ? "?" : "&") + kBypass;
    Runner off(bypassed, search_, rate(), channels_, options_.block_frames);
    const Planar out = off.run(in);
    if (out.size() != in.size()) return;
    const auto late = static_cast<std::size_t>(std::max<std::int64_t>(0, off.unit().latency_frames()));
    Planar moved;
    for (const auto& channel : out)
      moved.emplace_back(channel.begin() + static_cast<std::ptrdiff_t>(std::min(late, channel.size())),
                         channel.end());
    differs("bypass_differs_samples", "bypass_difference_dbfs", difference(moved, in),
            "what is bypassed differs from what went in");
  }
  void sides(const Planar& in) {
    const Planar stereo_in(2, in.at(0));
    const Planar stereo = runner(options_.block_frames, 2).run(stereo_in);
    if (stereo.size() == 2)
      differs("sides_differ_samples", nullptr, difference(stereo[0], stereo[1]),
              "left and right differ for the same input");
    const Planar mono = runner(options_.block_frames, 1).run({in.at(0)});
    differs("mono_differs_samples", nullptr, difference(mono.at(0), stereo.at(0)), "mono and stereo differ");
  }

  void quiet() {
    const double peak = peak_of(runner().run(silence(frames_of(kSignalS, rate()), channels_)));
    Reading& reading = add("silence_out_dbfs", db_from_ratio(std::max(peak, kSmallest)));
    reading.bound = peak == 0;
    if (peak > kTailPeak) problems_.push_back(fmt::format("silence in gives {:.1f} dBFS", *reading.value));
  }

  void tail() {
    Runner ringing = runner();
    // Whole blocks: no silence stands between one run and the next.
    const auto block = static_cast<std::size_t>(options_.block_frames);
    const std::size_t step = (frames_of(kBurstS, rate()) + block - 1) / block * block;
    (void)ringing.run(sound(static_cast<double>(step) / rate(), rate(), channels_));
    std::int64_t last = -1, at = 0;
    const Planar nothing = silence(step, channels_);
    while (static_cast<double>(at) < kLongestTailS * rate() &&
           static_cast<double>(at - std::max<std::int64_t>(last, 0)) < kQuietS * rate()) {
      const Planar out = ringing.run(nothing);
      for (const auto& channel : out)
        for (std::size_t n = 0; n < channel.size(); ++n)
          if (std::abs(channel[n]) > kTailPeak) last = std::max(last, at + static_cast<std::int64_t>(n));
      at += static_cast<std::int64_t>(step);
    }
    if (static_cast<double>(at - last) < kQuietS * rate()) {
      left_out(fmt::format("tail: it sounds for more than {:g} s after the sound has ended", kLongestTailS));
      return;
    }
    add("tail_s", static_cast<double>(std::max<std::int64_t>(0, last + 1 - latency_)) / rate());
  }

  void recover(const char* name, float broken, const std::string& what) {
    Planar in = sound(kBrokenAtS + kRecoveryS, rate(), channels_);
    const std::size_t at = frames_of(kBrokenAtS, rate());
    for (auto& channel : in) channel[at] = broken;
    const Planar out = runner().run(in);
    std::optional<std::size_t> last;
    for (std::size_t n = 0; n < out.at(0).size(); ++n)
      if (!finite_frame(out, n)) last = n;
    const auto still = frames_of(0.1, rate());  // what is broken to the end stays broken
    if (last && *last + still >= out.at(0).size()) {
      left_out(fmt::format("{} breaks all that follows, for more than {:g} s", what, kRecoveryS));
      problems_.push_back(what + " breaks it for good");
      return;
    }
    // The broken sample itself is no recovery, nor is the delay that is reported.
    const auto late = last ? static_cast<std::int64_t>(*last - at) - latency_ : 0;
    add(name, static_cast<double>(std::max<std::int64_t>(0, late)) / rate());
  }

  void loads(const Planar& in) {
    const double lasts = static_cast<double>(in.at(0).size()) / rate();
    const Conditions under = {{"sample_rate_hz", rate()}, {"channels", std::int64_t{channels_}}};
    for (const int block : kLoadBlocks) {
      Runner timed = runner(block, channels_);
      double best = std::numeric_limits<double>::infinity();
      for (int round = 0; round < kRounds; ++round) {
        (void)timed.run(in);
        best = std::min(best, timed.take_seconds());
      }
      builder_.add(fmt::format("load_{}_percent", block), std::nullopt, 100 * best / lasts, under);
    }
    Runner timed = runner();
    Planar faint = in;
    for (auto& channel : faint)
      for (std::size_t n = 0; n < channel.size(); ++n) channel[n] = n % 2 == 0 ? kDenormal : -kDenormal;
    double usual = std::numeric_limits<double>::infinity(), denormal = usual;
    for (int round = 0; round < kRounds; ++round) {
      (void)timed.run(in);
      usual = std::min(usual, timed.take_seconds());
      (void)timed.run(faint);
      denormal = std::min(denormal, timed.take_seconds());
    }
    const double share = 100 * denormal / lasts;
    add("denormal_load_percent", share);
    add("denormal_load_ratio", denormal / usual);
    if (share > kMuchLoadPercent)
      problems_.push_back(fmt::format("denormal numbers take {:.0f} % of real time", share));
  }

  void say_result() {
    std::string text;
    for (std::size_t i = 0; i < problems_.size(); ++i) text += (i == 0 ? "" : "; ") + problems_[i];
    if (problems_.empty()) text = "nothing stands out";
    builder_.say(Severity::note, FindingCode::result, text);
  }

  std::string unit_;
  UnitSearch search_;
  ExaminationOptions options_;
  SheetBuilder builder_;
  Conditions under_;
  std::vector<std::string> problems_;
  bool bypassable_ = false, both_ = false;
  int channels_ = 1;
  std::int64_t latency_ = 0;
};

}  // namespace

Sheet examine(const std::string& unit, const UnitSearch& search, const ExaminationOptions& options) {
  return Examiner(unit, search, options).run();
}

}  // namespace wavicon
