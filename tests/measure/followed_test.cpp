// SPDX-License-Identifier: MIT
// How far a capture has been read is told while it is measured, and measuring can be ended from there.

#include <stdexcept>

#include "measure/judged.hpp"
#include "measure/programme.hpp"
#include "wavicon/audio/workers.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon::followed_test {
namespace {

using namespace testing;

struct Ended : std::runtime_error {
  using std::runtime_error::runtime_error;
};

JudgedCapture music() {
  const Signal x = programme("chamber", 48000, 4);
  Audio audio(48000, 2, static_cast<std::int64_t>(x.size()));
  for (int c = 0; c < 2; ++c) std::copy(x.begin(), x.end(), audio.channel(c).begin());
  return judge(audio);
}

std::vector<std::optional<double>> figures(const std::vector<Sheet>& sheets) {
  std::vector<std::optional<double>> all;
  for (const Sheet& sheet : sheets)
    for (const Reading& r : sheet.readings) all.insert(all.end(), {r.value, r.floor, r.uncertainty});
  return all;
}

class Followed : public ::testing::TestWithParam<const char*> {};

TEST_P(Followed, TellsHowFarItIsAndChangesNoFigure) {
  const JudgedCapture capture = music();
  const bool two = std::string(GetParam()) == "null";
  const auto a = two ? std::optional(music()) : std::nullopt;
  const auto plain = figures(measure_by_name(GetParam(), capture, a));
  ASSERT_GT(plain.size(), 5U);
  for (const int threads : {1, 3}) {
    const ThreadAllowance allowance(threads);
    std::vector<double> told;
    const JudgedCapture watched = followed(capture, [&](double part) { told.push_back(part); });
    EXPECT_EQ(figures(measure_by_name(GetParam(), watched, a)), plain);
    ASSERT_GE(told.size(), 3U);
    EXPECT_LE(told.size(), 1001U);
    EXPECT_GT(told.front(), 0);
    EXPECT_LT(told.front(), 0.9);
    EXPECT_GT(told.back(), 0.9);
    EXPECT_LE(told.back(), 1);
    for (std::size_t i = 1; i < told.size(); ++i) EXPECT_GT(told[i], told[i - 1]);

    std::size_t calls = 0;
    const JudgedCapture ended = followed(capture, [&](double) {
      if (++calls == 2) throw Ended("enough");
    });
    EXPECT_THROW((void)measure_by_name(GetParam(), ended, a), Ended);
    EXPECT_LE(calls, 3U);  // nothing reads on
  }
}

INSTANTIATE_TEST_SUITE_P(Of, Followed, ::testing::Values("levels", "noise", "spectrum", "null"),
                         [](const auto& tested) { return std::string(tested.param); });

// A request's progress is the same, for measurements with options; none asked for is nothing done.
TEST(FollowedRequest, TellsOfTheCaptureThatIsMeasured) {
  const JudgedCapture capture = music();
  const auto measurement = find_measurement(measurements(), "levels")->make();
  MeasureRequest request;
  double last = 0;
  request.progress = [&](double part) { last = part; };
  (void)measured(*measurement, request, capture);
  EXPECT_EQ(last, 1);
  (void)measured(*measurement, {}, followed(capture, {}));
}

}  // namespace
}  // namespace wavicon::followed_test
