// SPDX-License-Identifier: MIT
#include "program.hpp"
#include "wavicon/file/audio_file.hpp"

namespace wavicon::feeding_test {
namespace {

using namespace testing;

TEST_F(Program, UnitsAreListedAndShown) {
  const std::string all = good("units");
  EXPECT_HAS(all, "sim:tern");
  EXPECT_HAS(all, "lv2:urn:saltmarsh:tern");
  const std::string tern = good("units lv2:urn:saltmarsh:tern");
  EXPECT_HAS(tern, "0 to 36");
  EXPECT_HAS(tern, "1, 2, 4, 8, 16");
  EXPECT_HAS(bad(2, "units sim:turn"), "did you mean 'tern'");
}

TEST_F(Program, FeedTellsWhatHappened) {
  good("make tone --level 0 --seconds 1 --no-marks -o t.wav");
  const Ran clipped = wavicon("feed t.wav --through 'sim:tern?output=6' --bits 24 -o c.wav");
  EXPECT_EQ(clipped.status, 0);
  EXPECT_HAS(clipped.err, "were clipped by the capture's own format (24-bit), first at");
  EXPECT_HAS(good("feed t.wav --through sim:tern?oversampling=2 --through sim:tern?oversampling=4 -o c.wav"),
             "256 frames of latency reported, taken off");
  EXPECT_EQ(read_audio_file(file("c.wav")).audio.frames(), 48000);
  good("feed t.wav --through sim:tern?oversampling=2 --keep-latency --tail 0.5 --block 64 -o c.flac");
  EXPECT_EQ(read_audio_file(file("c.flac")).audio.frames(), 72128);
  EXPECT_EQ(read_audio_file(file("c.flac")).info.format, SampleFormat::pcm24);
}

TEST_F(Program, FeedRefusesBadInput) {
  good("make tone --seconds 0.1 -o t.wav");
  EXPECT_HAS(bad(3, "feed none.wav --through sim:tern -o c.wav"), "none.wav: there is no such file");
  EXPECT_HAS(bad(2, "feed t.wav --through sim:turn -o c.wav"), "did you mean 'tern'");
  EXPECT_HAS(bad(2, "feed t.wav --through 'sim:tern?drive=99' -o c.wav"), "0 to 36 dB");
  EXPECT_HAS(bad(2, "feed t.wav --through 'sim:tern?gain=3' -o c.wav"), "has no setting 'gain'");
  EXPECT_HAS(bad(2, "feed t.wav --through lv2:urn:nobody -o c.wav"), "there is no LV2 plugin 'urn:nobody'");
  EXPECT_HAS(bad(2, "feed t.wav --through sim:tern -o t.wav"), "it is also the input");
  EXPECT_HAS(bad(2, "feed t.wav --through sim:tern -o no/c.wav"), "does not exist");
  EXPECT_HAS(bad(2, "feed t.wav -o c.wav"), "--through is required");
  EXPECT_HAS(bad(2, "feed t.wav --through sim:tern --block 0 -o c.wav"), "1 to 65536");
  const std::string bundle = std::string("'lv2:") + WAVICON_TEST_BUNDLES;
  EXPECT_HAS(bad(4, "feed t.wav --through " + bundle + "/test.lv2:needs-the-moon' -o c.wav"),
             "requires urn:wavicon-test:moon");
  EXPECT_HAS(bad(4, "feed t.wav --through " + bundle + "/test.lv2:writes-nan' -o c.wav"),
             "not-a-number into channel 1 at frame 1000");
  EXPECT_HAS(bad(4, "feed t.wav --through " + bundle + "/test.lv2:refuses-to-start' -o c.wav"),
             "refused to start");
  EXPECT_HAS(bad(4, "feed t.wav --through " + bundle + "/no-binary.lv2' -o c.wav"), "cannot be loaded");
}

}  // namespace
}  // namespace wavicon::feeding_test
