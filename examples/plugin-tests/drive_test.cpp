// SPDX-License-Identifier: MIT
// "Worst fold-back below -70 dBc" as a test of the build.

#include <cmath>

#include "wavicon/testing/gtest.hpp"

using namespace wavicon::matchers;

// The processor: as a plugin's class would be, with a delay that it states.
class Drive {
 public:
  explicit Drive(float amount) : amount_(amount) {}
  void process(float* const* channels, int channel_count, int frames) {
    for (int c = 0; c < channel_count; ++c)
      for (int n = 0; n < frames; ++n) {
        const float in = channels[c][n];
        channels[c][n] = late_;
        late_ = std::tanh(amount_ * in) / amount_;
      }
  }

 private:
  float amount_, late_ = 0;
};

wavicon::Processor drive(float amount) {
  auto process = [drive = Drive(amount)](float* const* channels, int count, int frames) mutable {
    drive.process(channels, count, frames);
  };
  return wavicon::Processor(process).named("drive").with_latency(1);
}

TEST(Drive, StatesItsDelay) { EXPECT_THAT(drive(0.001F), HasLatency(1)); }

TEST(Drive, IsTheSameInEveryHost) {
  EXPECT_THAT(drive(2), SameWhateverTheBlockSize());
  EXPECT_THAT(drive(2), SameEveryTime());
  EXPECT_THAT(drive(2), KeepsSilence());
}

TEST(Drive, AddsWhatItShould) {
  EXPECT_THAT(drive(2), HasReading("thd_db", AtMost(-30)));
  EXPECT_THAT(drive(2), HasReading("h3_dbc", AtLeast(-40)));
}

TEST(Drive, FoldsBackOnceItIsDrivenHard) {
  EXPECT_THAT(drive(0.05F), FoldsBackBelow(-70_dBc));
  EXPECT_THAT(drive(8), ::testing::Not(FoldsBackBelow(-70_dBc)));
}
