// SPDX-License-Identifier: MIT
#include "wavicon/file/audio_file.hpp"

#include <algorithm>
#include <cmath>

#include "support.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/file/output_file.hpp"

namespace wavicon::audio_file_test {
namespace {

using testing::message_of;
using testing::read_text;
using testing::TemporaryFolder;
using testing::write_text;

Audio ramp(int channels, std::int64_t frames, double rate = 48000) {
  Audio audio(rate, channels, frames);
  for (int c = 0; c < channels; ++c)
    for (std::int64_t n = 0; n < frames; ++n)
      audio.channel(c)[static_cast<std::size_t>(n)] =
          2 * random_uniform(5, static_cast<std::uint64_t>(c), static_cast<std::uint64_t>(n)) - 1;
  return audio;
}

struct Case {
  const char* name;
  SampleFormat format;
  double rate;
  int channels;
};

class RoundTrip : public ::testing::TestWithParam<Case> {};

TEST_P(RoundTrip, KeepsWhatTheFormatCanHold) {
  const TemporaryFolder folder;
  const Case c = GetParam();
  const Audio audio = ramp(c.channels, 10000, c.rate);
  const std::string path = folder.file(c.name);
  const auto clipped = write_audio_file(path, audio, {.format = c.format});
  EXPECT_EQ(clipped.count, 0);
  const AudioFile back = read_audio_file(path);
  EXPECT_EQ(back.info.format, c.format);
  EXPECT_EQ(back.info.sample_rate_hz, c.rate);
  EXPECT_EQ(back.audio.channel_count(), c.channels);
  ASSERT_EQ(back.audio.frames(), 10000);
  const Quantiser quantiser(c.format, false, 1);
  for (int channel = 0; channel < c.channels; ++channel)
    for (std::size_t n = 0; n < 10000; ++n)
      ASSERT_EQ(back.audio.channel(channel)[n],
                quantiser.value(audio.channel(channel)[n], channel, static_cast<std::int64_t>(n)));
}

INSTANTIATE_TEST_SUITE_P(Formats, RoundTrip,
                         ::testing::Values(Case{"a.wav", SampleFormat::pcm16, 8000, 1},
                                           Case{"b.wav", SampleFormat::pcm24, 768000, 2},
                                           Case{"c.WAV", SampleFormat::float32, 48000, 64},
                                           Case{"d.aiff", SampleFormat::pcm24, 44100, 2},
                                           Case{"e.aif", SampleFormat::float32, 192000, 1},
                                           Case{"f.flac", SampleFormat::pcm16, 96000, 2},
                                           Case{"g.flac", SampleFormat::pcm24, 192000, 8}));

TEST(AudioWriter, TheSameSamplesGiveTheSameBytes) {
  const TemporaryFolder folder;
  for (const char* ending : {".wav", ".aiff", ".flac"})
    for (const auto format : {SampleFormat::pcm24, SampleFormat::float32}) {
      if (std::string(ending) == ".flac" && format == SampleFormat::float32) continue;
      const std::string a = folder.file(std::string("a") + ending),
                        b = folder.file(std::string("b") + ending);
      (void)write_audio_file(a, ramp(2, 5000), {.format = format, .dither = true, .seed = 3});
      sleep(1);  // a time of writing inside the file would differ
      (void)write_audio_file(b, ramp(2, 5000), {.format = format, .dither = true, .seed = 3});
      EXPECT_EQ(read_text(a), read_text(b)) << ending << " " << name_of(format);
    }
}

// Ties, both ends, what lies beyond them, dither: in rows as sample by sample, whatever is written at once.
TEST(AudioWriter, WritesTheStepsOfTheQuantiser) {
  const TemporaryFolder folder;
  for (const SampleFormat format : {SampleFormat::pcm16, SampleFormat::pcm24})
    for (const bool dither : {false, true})
      for (const int channels : {1, 3}) {
        const double step = std::ldexp(1.0, 1 - bits(format));
        std::vector<double> x = {0,        -0.0, 1,  -1,   1 - step, 1 - step / 2, -1 - step / 2,
                                 1 + step, 5,    -5, 1e300};
        for (int k = -20; k <= 20; ++k) x.push_back((k + 0.5) * step);
        for (std::uint64_t i = 0; x.size() < 9000; ++i) x.push_back(2.2 * random_uniform(6, 0, i) - 1.1);
        const Quantiser quantiser(format, dither, 9);
        const std::string path = folder.file("steps.wav");
        AudioWriter writer(path, {.sample_rate_hz = 48000,
                                  .channel_count = channels,
                                  .format = format,
                                  .dither = dither,
                                  .seed = 9,
                                  .frames = 9000 / channels});
        writer.write(std::span<const double>(x).first(2001));
        writer.write(std::span<const double>(x).subspan(2001));
        writer.finish();
        std::int64_t clipped = 0;
        const AudioFile back = read_audio_file(path);
        for (std::size_t i = 0; i < x.size(); ++i) {
          const auto frame = static_cast<std::int64_t>(i) / channels;
          const int channel = static_cast<int>(i) % channels;
          if (quantiser.clips(x[i])) ++clipped;
          ASSERT_EQ(back.audio.channel(channel)[static_cast<std::size_t>(frame)],
                    quantiser.value(x[i], channel, frame))
              << x[i];
        }
        EXPECT_EQ(writer.clipped().count, clipped);
        EXPECT_EQ(writer.clipped().first_frame, 7 / channels);  // 1 + a step
      }
}

TEST(AudioWriter, CountsWhatItsFormatClips) {
  const TemporaryFolder folder;
  Audio audio(48000, 2, 100);
  audio.channel(1)[40] = 1.5;
  audio.channel(0)[41] = -2;
  const auto clipped = write_audio_file(folder.file("a.wav"), audio, {.format = SampleFormat::pcm24});
  EXPECT_EQ(clipped.count, 2);
  EXPECT_EQ(clipped.first_frame, 40);
  EXPECT_EQ(write_audio_file(folder.file("b.wav"), audio, {.format = SampleFormat::float32}).count, 0);
}

TEST(AudioWriter, LeavesNothingBehindWhenItIsNotFinished) {
  const TemporaryFolder folder;
  write_text(folder.file("a.wav"), "what was there");
  {
    AudioWriter writer(folder.file("a.wav"), {});
    writer.write(std::vector<double>(1000));
    EXPECT_EQ(folder.names().size(), 2U);
  }
  EXPECT_EQ(folder.names(), std::vector<std::string>{"a.wav"});
  EXPECT_EQ(read_text(folder.file("a.wav")), "what was there");
}

TEST(AudioWriter, FollowsALinkInsteadOfReplacingIt) {
  const TemporaryFolder folder;
  write_text(folder.file("real.wav"), "old");
  std::filesystem::create_symlink(folder.file("real.wav"), folder.file("link.wav"));
  (void)write_audio_file(folder.file("link.wav"), ramp(1, 10), {});
  EXPECT_TRUE(std::filesystem::is_symlink(folder.file("link.wav")));
  EXPECT_EQ(read_audio_file(folder.file("real.wav")).audio.frames(), 10);
}

TEST(AudioWriter, RefusesWhatTheContainerDoesNotHold) {
  const TemporaryFolder folder;
  auto refused = [&](const std::string& name, const AudioWriteOptions& options) {
    return message_of(ErrorCode::bad_argument, [&] { AudioWriter(folder.file(name), options); });
  };
  EXPECT_NE(refused("a.mp4", {}).find(".wav, .aif, .aiff or .flac"), std::string::npos);
  EXPECT_NE(refused("a", {}).find("not ''"), std::string::npos);
  EXPECT_NE(refused("a.flac", {.format = SampleFormat::float32}).find("FLAC holds no 32-bit float"),
            std::string::npos);
  EXPECT_NE(refused("a.flac", {.channel_count = 9}).find("at most 8 channels"), std::string::npos);
  EXPECT_NE(refused("a.flac", {.sample_rate_hz = 768000}).find("at most 655350 Hz"), std::string::npos);
  EXPECT_NE(refused("a.wav", {.sample_rate_hz = 44100.5}).find("whole number"), std::string::npos);
  EXPECT_TRUE(folder.names().empty());
}

TEST(Output, RefusesPlacesWhereNothingCanBeWritten) {
  const TemporaryFolder folder;
  auto refused = [](const std::string& path) {
    return message_of(ErrorCode::bad_output, [&] { require_writable(path); });
  };
  EXPECT_NE(refused(folder.file("no/such/a.wav")).find("does not exist"), std::string::npos);
  EXPECT_NE(refused(folder.path().string()).find("a folder of that name"), std::string::npos);
  EXPECT_NE(refused("/dev/null").find("no regular file"), std::string::npos);
  EXPECT_NE(refused(folder.file("")).find("no file name"), std::string::npos);
  write_text(folder.file("a.wav"), "x");
  EXPECT_NE(refused(folder.file("a.wav/b.wav")).find("is no folder"), std::string::npos);
  const auto same = message_of(ErrorCode::bad_output,
                               [&] { require_writable(folder.file("./a.wav"), {folder.file("a.wav")}); });
  EXPECT_NE(same.find("also the input"), std::string::npos);
  EXPECT_NO_THROW(require_writable(folder.file("a.wav"), {folder.file("b.wav")}));
}

TEST(AudioReader, SaysWhatIsWrongWithAFile) {
  const TemporaryFolder folder;
  auto refused = [&](const std::string& name) {
    return message_of(ErrorCode::bad_input, [&] { (void)read_audio_file(folder.file(name)); });
  };
  EXPECT_NE(refused("none.wav").find("none.wav: there is no such file"), std::string::npos);
  EXPECT_NE(refused("").find("is a folder"), std::string::npos);
  write_text(folder.file("empty.wav"), "");
  EXPECT_NE(refused("empty.wav").find("is empty (0 bytes)"), std::string::npos);
  write_text(folder.file("text.wav"), "Dear diary, today I measured nothing.\n");
  EXPECT_NE(refused("text.wav").find("cannot be read as audio"), std::string::npos);
  (void)write_audio_file(folder.file("zero.wav"), Audio(48000, 1, 0), {});
  EXPECT_NE(refused("zero.wav").find("0 frames"), std::string::npos);
}

TEST(AudioReader, FindsACutAtEveryByte) {
  const TemporaryFolder folder;
  for (const auto& [name, format] :
       {std::pair{"a.wav", SampleFormat::pcm24}, std::pair{"a.aiff", SampleFormat::pcm16},
        std::pair{"f.wav", SampleFormat::float32}}) {
    (void)write_audio_file(folder.file(name), ramp(2, 30), {.format = format});
    const std::string bytes = read_text(folder.file(name));
    const std::string cut = folder.file(std::string("cut") + name);
    for (std::size_t length = 1; length < bytes.size(); ++length) {
      write_text(cut, bytes.substr(0, length));
      EXPECT_THROW((void)read_audio_file(cut), Error)
          << name << " cut to " << length << " of " << bytes.size();
    }
    EXPECT_NO_THROW((void)read_audio_file(folder.file(name)));
  }
  (void)write_audio_file(folder.file("a.flac"), ramp(2, 30000), {.format = SampleFormat::pcm24});
  const std::string bytes = read_text(folder.file("a.flac"));
  for (std::size_t length = 1; length < bytes.size(); length += 997) {
    write_text(folder.file("cut.flac"), bytes.substr(0, length));
    EXPECT_THROW((void)read_audio_file(folder.file("cut.flac")), Error) << length << " of " << bytes.size();
  }
}

TEST(AudioReader, ReadsOneFrame) {
  const TemporaryFolder folder;
  (void)write_audio_file(folder.file("one.wav"), ramp(1, 1), {});
  EXPECT_EQ(read_audio_file(folder.file("one.wav")).audio.frames(), 1);
}

TEST(AudioFile, CarriesRecipeAndCues) {
  const TemporaryFolder folder;
  const std::string recipe =
      std::string(200001, 'r') + "\nend\n";  // odd, and longer than any header would take
  const std::vector<CueMark> cues = {{0, "start mark"}, {1234, "alignment, odd"}, {9999, ""}};
  for (const char* name : {"a.wav", "b.aiff", "c.flac"}) {
    AudioWriteOptions options{.format = SampleFormat::pcm24};
    options.recipe = recipe;
    options.cues = cues;
    options.description = "booth-2";
    const Audio audio = ramp(1, 10001);
    (void)write_audio_file(folder.file(name), audio, options);
    const AudioFile back = read_audio_file(folder.file(name));
    EXPECT_EQ(back.info.recipe, recipe) << name;
    EXPECT_EQ(back.audio.frames(), 10001) << name;
    if (std::string(name) == "c.flac") continue;
    ASSERT_EQ(back.info.cues.size(), 3U) << name;
    for (std::size_t i = 0; i < 3; ++i) {
      EXPECT_EQ(back.info.cues[i].frame, cues[i].frame) << name;
      EXPECT_EQ(back.info.cues[i].name, cues[i].name) << name;
    }
  }
  EXPECT_NE(read_text(folder.file("a.wav")).find("bext"), std::string::npos);
}

TEST(AudioFile, CarriesTheLatencyThatWasReported) {
  const TemporaryFolder folder;
  const Audio audio(48000, 1, 100);
  for (const char* name : {"a.wav", "a.aiff", "a.flac"})
    for (const char* recipe : {"", "name = \"x\"\n"})
      for (const std::optional<std::int64_t> reported : {std::optional<std::int64_t>(), {517}, {-3}}) {
        write_audio_file(folder.file(name), audio, {.recipe = recipe, .reported_samples = reported});
        const AudioFileInfo info = AudioReader(folder.file(name)).info();
        EXPECT_EQ(info.reported_samples, reported) << name;
        EXPECT_EQ(info.recipe, recipe) << name;
      }
  AudioWriter writer(folder.file("late.wav"), {});
  writer.set_reported_samples(99);
  writer.finish();
  EXPECT_EQ(AudioReader(folder.file("late.wav")).info().reported_samples, 99);
}

}  // namespace
}  // namespace wavicon::audio_file_test
