// SPDX-License-Identifier: MIT
#include "wavicon/file/excerpts.hpp"

#include <cmath>
#include <fstream>

#include "support.hpp"
#include "wavicon/file/audio_file.hpp"

namespace wavicon::excerpts_test {
namespace {

using namespace testing;

class Excerpts : public ::testing::Test {
 protected:
  TemporaryFolder folder_;
  // A steady tone with one second, from `loud_s` on, twice as loud.
  std::filesystem::path tone(const std::string& name, double peak, double seconds, double loud_s) {
    Audio audio(48000, 1, static_cast<std::int64_t>(48000 * seconds));
    for (std::size_t n = 0; n < audio.channel(0).size(); ++n) {
      const double at = static_cast<double>(n) / 48000;
      const double gain = at >= loud_s && at < loud_s + 1 ? 1 : 0.5;
      audio.channel(0)[n] = static_cast<float>(peak * gain * std::sin(0.1 * static_cast<double>(n)));
    }
    write_audio_file(folder_.file(name), audio, {.format = SampleFormat::float32});
    return folder_.file(name);
  }
  std::vector<float> decoded(const Excerpt& excerpt) {
    std::ofstream(folder_.file("x.flac"), std::ios::binary) << excerpt.flac;
    return read_planar(folder_.file("x.flac")).at(0);
  }
};

TEST_F(Excerpts, OfOneTimelineKeepTheirLevelsBesideEachOther) {
  const auto a = tone("a.wav", 0.01, 30, 3), b = tone("b.wav", 0.008, 30, 3),
             rest = tone("rest.wav", 1e-4, 28, 22);  // it ends earlier
  const auto made = excerpts({{"A", a}, {"B", b}, {"residual", rest, true}}, true);
  ASSERT_EQ(made.size(), 3u);
  // Where the residual is loudest.
  for (const Excerpt& one : made) {
    EXPECT_NEAR(one.seconds, 10, 1e-9);
    EXPECT_LE(one.from_s, 22.01);
    EXPECT_GE(one.from_s + one.seconds, 22.99);
    EXPECT_EQ(one.from_s, made[0].from_s);
  }
  // -46 and -48 dBFS there (half of it), together to -6; the residual of -80 by itself.
  EXPECT_EQ(made[0].louder_db, made[1].louder_db);
  EXPECT_EQ(made[0].louder_db, 40);
  EXPECT_EQ(made[2].louder_db, 74);
  const auto whole = read_planar(a).at(0), heard = decoded(made[0]);
  ASSERT_EQ(heard.size(), 480000u);
  const auto first = static_cast<std::size_t>(std::llround(made[0].from_s * 48000));
  for (std::size_t n = 0; n < heard.size(); n += 997)
    EXPECT_NEAR(heard[n], 100 * whole[first + n], 1e-4) << n;
}

TEST_F(Excerpts, OfTakesAreTheLoudestOfEach) {
  const auto made = excerpts({{"one", tone("1.wav", 0.01, 12, 5)}, {"two", tone("2.wav", 1.6, 5, 1)}}, false);
  ASSERT_EQ(made.size(), 2u);
  EXPECT_NEAR(made[1].seconds, 5, 1e-9);
  // Beyond full scale both come down; a sound of 16 bits would be cut off.
  EXPECT_EQ(made[0].louder_db, -11);
  EXPECT_EQ(made[1].louder_db, -11);
  for (const float x : decoded(made[1])) ASSERT_LT(std::abs(x), 0.51);
}

TEST_F(Excerpts, EdgesAreNoTrouble) {
  EXPECT_TRUE(excerpts({}, true).empty());
  const auto silent = tone("silent.wav", 0, 0.1, 0);
  EXPECT_EQ(excerpts({{"silent", silent}}, false).at(0).louder_db, 0);
  const std::vector<ExcerptSource> many(12, {"silent", silent});
  EXPECT_EQ(excerpts(many, true).size(), kMostExcerpts);
  EXPECT_THROW((void)excerpts({{"none", folder_.file("none.wav")}}, true), Error);
}

}  // namespace
}  // namespace wavicon::excerpts_test
