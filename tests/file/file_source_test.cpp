// SPDX-License-Identifier: MIT
#include <fstream>

#include "support.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/file/audio_file.hpp"

namespace wavicon::file_source_test {
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
      // Here and there, some reads on from where the last one ended.
      std::int64_t at = 0;
      for (std::uint64_t i = 0; i < 100; ++i) {
        const auto random = [&](std::uint64_t what) { return random_uniform(2, what, i); };
        if (random(0) > 0.6) at = static_cast<std::int64_t>(random(1) * 20000);
        const auto frames = 1 + static_cast<std::int64_t>(random(2) * 2500);
        std::vector<double> a(static_cast<std::size_t>(frames * channels), 9.0), b(a.size(), 8.0);
        source.read(at, a);
        memory.read(at, b);
        ASSERT_EQ(a, b) << name << " " << channels << " from " << at << ", " << frames << " frames";
        at = (at + frames) % 20000;
      }
    }
}

// A WAV of whole numbers, byte by byte.
void write_integers(const std::string& path, int bits, int channels,
                    const std::vector<std::int64_t>& values) {
  std::string bytes;
  const auto put = [&](std::uint64_t value, int count) {
    for (int i = 0; i < count; ++i) bytes += static_cast<char>(value >> (8 * i) & 0xFF);
  };
  const int size = bits / 8;
  const auto data = static_cast<std::uint64_t>(values.size()) * static_cast<std::uint64_t>(size);
  bytes += "RIFF";
  put(36 + data + data % 2, 4);
  bytes += "WAVEfmt ";
  put(16, 4);
  put(1, 2);
  put(static_cast<std::uint64_t>(channels), 2);
  put(48000, 4);
  put(static_cast<std::uint64_t>(48000 * channels * size), 4);
  put(static_cast<std::uint64_t>(channels * size), 2);
  put(static_cast<std::uint64_t>(bits), 2);
  bytes += "data";
  put(data, 4);
  for (const std::int64_t value : values)
    put(static_cast<std::uint64_t>(bits == 8 ? value + 128 : value), size);
  if (data % 2 == 1) put(0, 1);
  std::ofstream(path, std::ios::binary) << bytes;
}

TEST(FileSource, EveryWordLengthReadsAsWhatItHolds) {
  TemporaryFolder folder;
  for (const int bits : {8, 16, 24, 32})
    for (const int channels : {1, 2, 3}) {
      const std::int64_t full = std::int64_t{1} << (bits - 1);
      std::vector<std::int64_t> values;
      for (std::int64_t n = 0; n < 3000 * channels; ++n)
        values.push_back(n % 5 == 0   ? -full
                         : n % 5 == 1 ? full - 1
                         : n % 5 == 2 ? -1
                                      : n * 7919 % full * (n % 2 == 0 ? 1 : -1));
      const std::string path = folder.file("integers.wav");
      write_integers(path, bits, channels, values);
      const AudioFile file = read_audio_file(path);
      ASSERT_EQ(file.audio.frames(), 3000) << bits;
      std::vector<std::int32_t> integers(values.size());
      std::vector<double> doubles(values.size());
      EXPECT_EQ(AudioReader(path).read(std::span(integers)), 3000);
      EXPECT_EQ(AudioReader(path).read(std::span(doubles)), 3000);
      for (std::size_t i = 0; i < values.size(); ++i) {
        const double expected = static_cast<double>(values[i]) / static_cast<double>(full);
        const auto channels_of = static_cast<std::size_t>(channels);
        ASSERT_EQ(file.audio.channel(static_cast<int>(i % channels_of))[i / channels_of], expected) << bits;
        ASSERT_EQ(doubles[i], expected) << bits;
        ASSERT_EQ(integers[i], values[i] << (32 - bits)) << bits;
      }
    }
  write_audio_file(folder.file("float.wav"), Audio(48000, 1, 4), {.format = SampleFormat::float32});
  std::vector<std::int32_t> none(4);
  EXPECT_NE(message_of(ErrorCode::bad_argument,
                       [&] { AudioReader(folder.file("float.wav")).read(std::span(none)); })
                .find("holds no integers"),
            std::string::npos);
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
}  // namespace wavicon::file_source_test
