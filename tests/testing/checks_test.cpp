// SPDX-License-Identifier: MIT
// A maker's tests of own processors: what is sound is kept, and each fault is found by its check.

#include "wavicon/testing/gtest.hpp"

#include <cmath>
#include <numbers>

#include "support.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/path/chain.hpp"

namespace wavicon::checks_test {
namespace {

using namespace matchers;
using ::testing::Not;

// y = x + a x³: the third harmonic of a sine of amplitude A lies a A²/4 over 1 + 3 a A²/4 under it.
struct Cubic {
  double a = 0.1;
  double operator()(double x) const { return x + a * x * x * x; }
};

// One pole, y += g (x - y), with a state of its own.
struct LowPass {
  float g = 0.2F, state = 0;
  void operator()(float* const* channels, int count, int frames) {
    for (int c = 0; c < count; ++c)
      for (int n = 0; n < frames; ++n) channels[c][n] = state += g * (channels[c][n] - state);
  }
};

// A delay line, planar doubles, not in place.
struct Late {
  std::vector<double> line;
  std::size_t at = 0;
  explicit Late(std::size_t samples) : line(samples) {}
  void operator()(const double* const* in, double* const* out, int, int frames) {
    for (int n = 0; n < frames; ++n) {
      out[0][n] = line[at];
      line[at] = in[0][n];
      at = (at + 1) % line.size();
    }
  }
};

// A fault: it looks at the block as a whole.
struct ByTheBlock {
  void operator()(std::span<float> interleaved, int) const {
    float peak = 0;
    for (const float v : interleaved) peak = std::max(peak, std::abs(v));
    for (float& v : interleaved) v *= peak;
  }
};

double closed_thd_db(double a, double level_dbfs) {
  const double A = std::pow(10, level_dbfs / 20), third = a * A * A / 4, first = 1 + 3 * a * A * A / 4;
  return 20 * std::log10(third / first);
}

TEST(Checks, ReadingsOfOwnCode) {
  const double thd_db = closed_thd_db(0.1, -12);
  EXPECT_THAT(Cubic{}, HasReading("thd_db", AtMost(thd_db + 0.01)));
  EXPECT_THAT(Cubic{}, HasReading("thd_db", AtLeast(thd_db - 0.01)));
  EXPECT_THAT(Cubic{}, Not(HasReading("thd_db", AtMost(thd_db - 0.01))));
  EXPECT_THAT(Cubic{}, HasReading("rms_dbfs", AtMost(-14)));
  // In three lines from a class to a reading.
  const JudgedCapture capture =
      feed(Recipe{.marks = false, .parts = {{.kind = Tone{.level_dbfs = -12}}}}, Cubic{});
  const auto sheets = measure_by_name("harmonics", capture);
  EXPECT_NEAR(*find_reading(sheets.at(0), "h3_dbc", 0)->value, thd_db, 0.01);
  EXPECT_THROW((void)keeps_limit(Cubic{}, "threshold_dbfs<0"), Error);
  EXPECT_THROW((void)measure_by_name("nothing", capture), Error);
}

TEST(Checks, FoldBack) {
  // The third order of a tone above a sixth of the rate is seen folded, as strong as it is.
  EXPECT_THAT(Cubic{}, FoldsBackBelow(-40_dBc));
  EXPECT_THAT(Cubic{}, Not(FoldsBackBelow(-70_dBc)));
  EXPECT_THAT(LowPass{}, FoldsBackBelow(-80_dBc));
}

TEST(Checks, Latency) {
  EXPECT_THAT(Late(64), HasLatency(64));
  EXPECT_THAT(Late(64), Not(HasLatency(63)));
  EXPECT_THAT(Processor(Late(64)).with_latency(64), HasLatency(64));
  // What it states is taken off when it is fed.
  const auto sheets =
      measure_by_name("latency", feed(Recipe{.marks = false, .parts = {{.kind = Noise{.seconds = 1}}}},
                                      Processor(Late(64)).with_latency(60)));
  EXPECT_NEAR(*find_reading(sheets.at(0), "latency_samples", std::nullopt)->value, 4, 0.01);
}

TEST(Checks, BlocksRunsAndSilence) {
  EXPECT_THAT(LowPass{}, SameWhateverTheBlockSize());
  EXPECT_THAT(Late(100), SameWhateverTheBlockSize());
  EXPECT_THAT(ByTheBlock{}, Not(SameWhateverTheBlockSize()));
  EXPECT_THAT(LowPass{}, SameEveryTime());
  // What is only pointed at stays, unless it is made ready.
  LowPass shared;
  const auto by_pointer = [&](float* const* channels, int count, int frames) {
    shared(channels, count, frames);
  };
  EXPECT_THAT(by_pointer, Not(SameEveryTime()));
  EXPECT_THAT(Processor(by_pointer).prepared_by([&](double, int) { shared = LowPass{}; }), SameEveryTime());
  EXPECT_THAT(LowPass{}, KeepsSilence());
  EXPECT_THAT([](float x) { return x + 1e-4F; }, Not(KeepsSilence()));
  EXPECT_THAT([](float) { return std::nanf(""); }, Not(KeepsSilence()));
}

TEST(Checks, ResponsesAndNulls) {
  // |H|² of the pole in closed form.
  std::vector<std::pair<double, double>> curve;
  for (const double hz : {50.0, 500.0, 2000.0, 10000.0}) {
    const double w = 2 * std::numbers::pi * hz / 48000, g = 0.2F;
    curve.emplace_back(hz, 10 * std::log10(g * g / (1 - 2 * (1 - g) * std::cos(w) + (1 - g) * (1 - g))));
  }
  EXPECT_THAT(LowPass{}, HasResponse(curve, Within(0.05)));
  curve[2].second += 0.2;
  EXPECT_THAT(LowPass{}, Not(HasResponse(curve, Within(0.05))));
  EXPECT_THAT(LowPass{}, NullsWith(LowPass{}, BelowDb(-300)));
  EXPECT_THAT(LowPass{}, Not(NullsWith([](float x) { return x; }, BelowDb(0))));
  EXPECT_THAT(LowPass{}, Not(NullsWith(LowPass{0.21F}, BelowDb(-60))));
  // 1 % of gain is -40 dB.
  const CheckOutcome one = nulls_with([](double x) { return x; }, [](double x) { return 1.01 * x; }, -39.9);
  EXPECT_TRUE(one) << one.text;
  EXPECT_FALSE(nulls_with([](double x) { return x; }, [](double x) { return 1.01 * x; }, -40.1));
}

TEST(Checks, SayWhatWasRead) {
  const testing::TemporaryFolder folder;
  const CheckOutcome outcome =
      keeps_limit(Processor(Cubic{}).named("my drive"), "thd_db<-120", {.pictures = folder.file("pictures")});
  EXPECT_FALSE(outcome.kept);
  EXPECT_HAS(outcome.text, "997.000 Hz at -1");
  EXPECT_HAS(outcome.text, "thd_db -");
  EXPECT_HAS(outcome.text, "floor -");
  EXPECT_HAS(outcome.text, "asked: thd_db<-120");
  EXPECT_HAS(outcome.text, "picture: " + folder.file("pictures/my-drive-harmonics.svg"));
  EXPECT_GT(std::filesystem::file_size(folder.file("pictures/my-drive-harmonics.svg")), 1000u);
  ::testing::StringMatchResultListener said;
  EXPECT_FALSE(::testing::ExplainMatchResult(HasLatency(63), Late(64), &said));
  EXPECT_HAS(said.str(), "64");
}

TEST(Checks, OwnCodeIsAUnitOfAChain) {
  std::vector<std::unique_ptr<Unit>> units;
  units.push_back(unit_of(Processor(Late(64)).with_latency(64)));
  units.push_back(unit_of([](float x) { return 0.5F * x; }));
  Chain chain(std::move(units));
  EXPECT_EQ(chain.prepare(48000, 1, 128), 1);
  std::vector<float> in(1000), out;
  for (std::size_t n = 0; n < in.size(); ++n) in[n] = static_cast<float>(n);
  std::size_t read = 0;
  const FeedResult result = chain.feed(
      [&](std::span<float> block) {
        const std::size_t now = std::min(block.size(), in.size() - read);
        std::copy_n(in.begin() + static_cast<std::ptrdiff_t>(read), now, block.begin());
        read += now;
        return static_cast<std::int64_t>(now);
      },
      1000, [&](std::span<const float> block) { out.insert(out.end(), block.begin(), block.end()); });
  EXPECT_EQ(result.latency_frames, 64);
  ASSERT_EQ(out.size(), 1000u);
  for (std::size_t n = 0; n < out.size(); ++n) ASSERT_EQ(out[n], 0.5F * in[n]);
}

}  // namespace
}  // namespace wavicon::checks_test
