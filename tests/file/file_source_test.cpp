// SPDX-License-Identifier: MIT
#include "support.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/file/audio_file.hpp"

namespace wavicon {
namespace {

using namespace testing;

TEST(FileSource, ReadsAnyStretchLikeTheWholeFile) {
  TemporaryFolder folder;
  for (const int channels : {1, 2, 6})
    for (const char* name : {"a.wav", "a.aiff", "a.flac"}) {
      Audio audio(48000, channels, 20000);
      for (int c = 0; c < channels; ++c)
        for (std::int64_t n = 0; n < audio.frames(); ++n)
          audio.channel(c)[static_cast<std::size_t>(n)] =
              random_uniform(1, static_cast<std::uint64_t>(c), static_cast<std::uint64_t>(n)) - 0.5;
      write_audio_file(folder.file(name), audio, {});
      const AudioFile whole = read_audio_file(folder.file(name));
      FileSource source(folder.file(name));
      MemorySource memory(whole.audio);
      EXPECT_EQ(source.channel_count(), channels);
      // On, back, across both ends, and beyond.
      for (const auto& [first, frames] : {std::pair<std::int64_t, std::size_t>{0, 3000},
                                          {3000, 5000},
                                          {100, 1},
                                          {-50, 200},
                                          {19990, 100},
                                          {30000, 10},
                                          {0, 20000}}) {
        std::vector<double> a(frames * static_cast<std::size_t>(channels), 9.0), b(a.size(), 8.0);
        source.read(first, a);
        memory.read(first, b);
        EXPECT_EQ(a, b) << name << " " << channels << " from " << first;
      }
    }
}

TEST(FileSource, SaysWhatIsWrongWithTheFile) {
  TemporaryFolder folder;
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { FileSource source(folder.file("no.wav")); })
                .find("no such file"),
            std::string::npos);
  write_audio_file(folder.file("empty.wav"), Audio(48000, 1, 0), {});
  EXPECT_NE(
      message_of(ErrorCode::bad_input, [&] { FileSource source(folder.file("empty.wav")); }).find("0 frames"),
      std::string::npos);
}

}  // namespace
}  // namespace wavicon
