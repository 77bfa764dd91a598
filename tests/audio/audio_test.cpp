// SPDX-License-Identifier: MIT
#include "wavicon/audio/audio.hpp"

#include <limits>

#include "support.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/audio/sample_format.hpp"

namespace wavicon::audio_test {
namespace {

using testing::message_of;

TEST(Audio, HasTheShapeThatWasAskedFor) {
  Audio audio(768000, 64, 3);
  EXPECT_EQ(audio.channel_count(), 64);
  audio.channel(63)[2] = 0.5;
  EXPECT_EQ(audio.channel(63)[2], 0.5);
  EXPECT_EQ(audio.channel(62)[2], 0.0);
  EXPECT_DOUBLE_EQ(audio.seconds(), 3.0 / 768000);
  EXPECT_EQ(Audio(48000, 1, 0).channel(0).size(), 0U);
}

TEST(Audio, RefusesOtherShapes) {
  EXPECT_NE(message_of(ErrorCode::bad_argument, [] { Audio(0, 1, 1); }).find("sample rate 0"),
            std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_argument, [] { Audio(NAN, 1, 1); }).find("sample rate"),
            std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_argument, [] { Audio(48000, 0, 1); }).find("0 channels"),
            std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_argument, [] { Audio(48000, 1, -1); }).find("-1 frames"),
            std::string::npos);
}

TEST(RequireMeasurable, NamesChannelAndFrameOfWhatIsNoNumber) {
  Audio audio(48000, 2, 96000);
  EXPECT_NO_THROW(require_measurable(audio));
  audio.channel(1)[48000] = std::numeric_limits<double>::quiet_NaN();
  const auto text = message_of(ErrorCode::bad_input, [&] { require_measurable(audio); });
  EXPECT_NE(text.find("channel 2 holds not-a-number at frame 48000 (1.000000 s)"), std::string::npos) << text;
  audio.channel(0)[1] = -INFINITY;
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { require_measurable(audio); })
                .find("channel 1 holds an infinite"),
            std::string::npos);
  EXPECT_NE(message_of(ErrorCode::bad_input, [] { require_measurable(Audio(48000, 1, 0)); }).find("0 frames"),
            std::string::npos);
}

TEST(Peak, IsTheHighestMagnitude) {
  EXPECT_EQ(peak(std::vector<double>{}), 0.0);
  EXPECT_EQ(peak(std::vector<double>{0.25, -0.75, 0.5}), 0.75);
  // Wherever it is among others that are looked at side by side; what is no number is passed over.
  for (std::size_t size = 1; size <= 40; ++size)
    for (std::size_t at = 0; at < size; ++at) {
      std::vector<double> x(size, 0.5);
      x[at] = at % 2 == 0 ? 0.875 : -0.875;
      x[(at + 1) % size] = size == 1 ? x[at] : NAN;
      EXPECT_EQ(peak(x), 0.875) << at << " of " << size;
    }
}

TEST(Decibels, GoThereAndBack) {
  for (const double db : {-200.0, -13.5, 0.0, 6.0, 60.0}) {
    EXPECT_NEAR(db_from_ratio(ratio_from_db(db)), db, 1e-12);
    EXPECT_NEAR(db_from_power_ratio(power_ratio_from_db(db)), db, 1e-12);
  }
  EXPECT_EQ(db_from_ratio(0), -INFINITY);
}

TEST(Random, HasTheMomentsOfItsDistributions) {
  constexpr std::uint64_t kCount = 200000;
  double uniform = 0, uniform2 = 0, triangular = 0, triangular2 = 0, cross = 0;
  for (std::uint64_t i = 0; i < kCount; ++i) {
    const double u = random_uniform(9, 1, i), t = random_triangular(9, 2, i);
    uniform += u;
    uniform2 += u * u;
    triangular += t;
    triangular2 += t * t;
    cross += (random_uniform(9, 1, i + 1) - 0.5) * (u - 0.5);
    ASSERT_TRUE(u >= 0 && u < 1 && std::abs(t) < 1);
  }
  EXPECT_NEAR(uniform / kCount, 0.5, 4 * 0.289 / std::sqrt(kCount));
  EXPECT_NEAR(uniform2 / kCount, 1.0 / 3, 4 * 0.3 / std::sqrt(kCount));
  EXPECT_NEAR(triangular / kCount, 0, 4 * 0.41 / std::sqrt(kCount));
  EXPECT_NEAR(triangular2 / kCount, 1.0 / 6, 4 * 0.2 / std::sqrt(kCount));
  EXPECT_NEAR(cross / kCount, 0, 4 * 0.0834 / std::sqrt(kCount));
  EXPECT_NE(random_bits(1, 0, 0), random_bits(2, 0, 0));
  EXPECT_NE(random_bits(1, 0, 0), random_bits(1, 1, 0));
}

TEST(Quantiser, RoundsToTheNearestStepWithoutDither) {
  const Quantiser q(SampleFormat::pcm16, false, 1);
  EXPECT_EQ(q.code(0.0, 0, 0), 0);
  EXPECT_EQ(q.code(1.0, 0, 0), 32767);
  EXPECT_EQ(q.code(-1.0, 0, 0), -32768);
  EXPECT_EQ(q.code(5.0, 0, 0), 32767);
  EXPECT_EQ(q.code(1.4 / 32768, 0, 0), 1);
  EXPECT_EQ(q.value(0.5, 0, 0), 0.5);
  EXPECT_EQ(Quantiser(SampleFormat::float32, true, 1).value(0.1, 0, 0), static_cast<double>(0.1F));
  EXPECT_EQ(Quantiser(SampleFormat::float64, true, 1).value(0.1, 0, 0), 0.1);
}

TEST(Quantiser, DitherMakesTheErrorIndependentOfTheSignal) {
  // With TPDF dither the error of a constant has mean 0 and variance 1/4 step², wherever it lies between two
  // steps.
  const Quantiser q(SampleFormat::pcm16, true, 3);
  constexpr int kCount = 100000;
  for (const double between : {0.0, 0.25, 0.5, 0.9}) {
    const double x = (100 + between) / 32768;
    double sum = 0, squares = 0;
    for (int n = 0; n < kCount; ++n) {
      const double error = (q.value(x, 0, n) - x) * 32768;
      sum += error;
      squares += error * error;
    }
    EXPECT_NEAR(sum / kCount, 0.0, 4 * 0.5 / std::sqrt(kCount)) << between;
    EXPECT_NEAR(squares / kCount, 0.25, 0.005) << between;
  }
  int different = 0;
  for (int n = 0; n < 1000; ++n)
    different += q.value(0.3, 0, n) != Quantiser(SampleFormat::pcm16, true, 4).value(0.3, 0, n);
  EXPECT_GT(different, 300) << "another seed is another noise";
}

TEST(Quantiser, SaysWhatClips) {
  const Quantiser q(SampleFormat::pcm24, false, 1);
  EXPECT_FALSE(q.clips(1.0));
  EXPECT_FALSE(q.clips(-1.0));
  EXPECT_TRUE(q.clips(1.0001));
  EXPECT_FALSE(Quantiser(SampleFormat::float32, false, 1).clips(4.0));
}

TEST(NearestNames, SuggestWhatWasMeant) {
  EXPECT_EQ(nearest_names("drvie", {"drive", "output", "asymmetry"}), std::vector<std::string>{"drive"});
  EXPECT_TRUE(nearest_names("zzzz", {"drive", "output"}).empty());
  EXPECT_EQ(name_hint("drvie", {"drive", "output"}), "; did you mean 'drive'?");
  EXPECT_EQ(name_hint("zzzz", {"drive", "output"}), "; there are: drive, output");
  EXPECT_EQ(name_hint("overdrive", {"http://example.org/a/Overdrive", "http://example.org/a/Delay"}),
            "; did you mean 'http://example.org/a/Overdrive'?");
}

}  // namespace
}  // namespace wavicon::audio_test
