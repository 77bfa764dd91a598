// SPDX-License-Identifier: MIT
// Files of strangers: sizes that wrap, rates that are none, chunks that are broken, and files cut everywhere.

#include <algorithm>
#include <chrono>

#include "support.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/file/limits.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/file/stimulus_file.hpp"
#include "wavicon/intake/health.hpp"

namespace wavicon::hostile_file_test {
namespace {

using namespace testing;
namespace fs = std::filesystem;

std::string little(std::uint64_t value, int bytes) {
  std::string text;
  for (int i = 0; i < bytes; ++i) text += static_cast<char>(value >> 8 * i & 0xFF);
  return text;
}

std::string chunk(const std::string& id, const std::string& content) {
  return id + little(content.size(), 4) + content + (content.size() % 2 == 1 ? std::string(1, '\0') : "");
}

std::string format_chunk(std::uint32_t rate, int channels = 1) {
  return chunk("fmt ", little(1, 2) + little(channels, 2) + little(rate, 4) +
                           little(std::uint64_t{rate} * 2 * channels, 4) + little(2 * channels, 2) +
                           little(16, 2));
}

std::string samples(int frames) {
  std::string bytes;
  for (int n = 0; n < frames; ++n)
    bytes += little(static_cast<std::uint16_t>(std::lround(8000 * exact_sine(331, 48000, n))), 2);
  return bytes;
}

std::string wave(const std::string& chunks, const char* form = "RIFF") {
  return form + little(4 + chunks.size(), 4) + "WAVE" + chunks;
}

class HostileFile : public ::testing::Test {
 protected:
  TemporaryFolder folder_;
  std::string write(const std::string& name, const std::string& bytes) const {
    write_text(folder_.file(name), bytes);
    return folder_.file(name);
  }
  std::string refused(const std::string& bytes, CutOff cut_off = CutOff::accepted) const {
    const std::string file = write("bad.wav", bytes);
    const std::string message = message_of(ErrorCode::bad_input, [&] { AudioReader reader(file, cut_off); });
    EXPECT_EQ(message.rfind(file, 0), 0U) << message;
    return message;
  }
};

TEST_F(HostileFile, SizesThatWrapEndAtTheFilesEnd) {
  // 64-bit sizes near 2^64: the next chunk would lie before this one, for ever.
  for (const std::uint64_t size :
       {~std::uint64_t{0}, ~std::uint64_t{0} - 7, ~std::uint64_t{0} - 100, std::uint64_t{1} << 63}) {
    const std::string ds64 =
        chunk("ds64", little(3000, 8) + little(size, 8) + little(1500, 8) + little(0, 4));
    const std::string file =
        wave(ds64 + format_chunk(48000) + "data" + little(0xFFFFFFFF, 4) + samples(1400), "RF64");
    const auto began = std::chrono::steady_clock::now();
    EXPECT_HAS(refused(file, CutOff::refused), "is cut off: its header announces");
    EXPECT_LT(std::chrono::steady_clock::now() - began, std::chrono::seconds(2));
  }
  const std::string long_chunk = wave(format_chunk(48000) + "junk" + little(0xFFFFFFF8, 4) + "x");
  EXPECT_HAS(refused(long_chunk), "is cut off");
}

TEST_F(HostileFile, RatesAndChannelsKeepTheirBounds) {
  for (const std::uint32_t rate : {0U, 1U, 999U, 768001U, 2147483647U}) {
    const std::string message = refused(wave(format_chunk(rate) + chunk("data", samples(100))));
    if (rate > 0) {
      EXPECT_HAS(message, "sample rates from 1000 Hz to 768 kHz");
    }
  }
  for (const std::uint32_t rate : {1000U, 768000U})
    EXPECT_EQ(AudioReader(write("good.wav", wave(format_chunk(rate) + chunk("data", samples(100)))))
                  .info()
                  .sample_rate_hz,
              rate);
  (void)refused(wave(format_chunk(48000, 2000) + chunk("data", samples(4000))));
  (void)message_of(ErrorCode::bad_argument,
                   [&] { AudioWriter(folder_.file("x.wav"), {.sample_rate_hz = 900}); });
}

TEST_F(HostileFile, AFlacThatAnnouncesMoreFramesThanItHasIsRefusedBeforeBuffersAreMade) {
  const std::string file = folder_.file("x.flac");
  Audio audio(48000, 1, 1000);
  write_audio_file(file, audio, {.format = SampleFormat::pcm16});
  std::string bytes = read_text(file);
  // The last 36 bits of 4 bytes from the 21st on: frames in all.
  bytes[21] = static_cast<char>(bytes[21] | 0x0F);
  for (std::size_t i = 22; i < 26; ++i) bytes[i] = '\xFF';
  const std::string message = refused(bytes);
  EXPECT_HAS(message, "announces 68719476735 frames");
  EXPECT_HAS(message, "copy or bounce it again");
}

TEST_F(HostileFile, ABrokenChunkIsAFindingAndTheSoundIsMeasured) {
  const std::string cue =
      chunk("cue ", little(1, 4) + little(7, 4) + little(0, 4) + "data" + little(0, 8) + little(42, 4));
  const struct {
    std::string chunks, said;
  } cases[] = {
      {chunk("LIST", "adtllabl" + little(1, 4) + little(1, 4)), "'LIST' chunk is broken: a label of 1 bytes"},
      {chunk("LIST", "adtllabl" + little(500, 4) + little(7, 4)),
       "a label announces 500 bytes and 4 are there"},
      {chunk("cue ", little(3, 4) + std::string(24, '\0')), "it announces 3 marks and holds 1"},
      {chunk("wvcn", std::string(kLongestRecipeBytes + 2, 'x')),
       "it has 1048578 bytes; 1048576 are the most"},
  };
  for (const auto& c : cases) {
    const std::string file =
        write("odd.wav", wave(format_chunk(48000) + chunk("data", samples(4800)) + cue + c.chunks));
    const JudgedCapture capture = judge_file(file);
    const Sheet sheet = health_sheet(capture.health(), capture.info());
    const auto found = std::find_if(sheet.findings.begin(), sheet.findings.end(),
                                    [](const Finding& f) { return f.code == FindingCode::broken_chunk; });
    ASSERT_NE(found, sheet.findings.end()) << c.said;
    EXPECT_EQ(static_cast<int>(found->severity), static_cast<int>(Severity::warning));
    EXPECT_HAS(found->text, c.said);
    EXPECT_EQ(capture.info().frames, 4800);
  }
}

TEST_F(HostileFile, LabelsFindTheirMarksByNumberWhereverTheyStand) {
  const std::string labels = chunk("LIST", "adtl" + chunk("labl", little(9, 4) + "second" + '\0') +
                                               chunk("labl", little(7, 4) + "first" + '\0'));
  const std::string cue =
      chunk("cue ", little(2, 4) + little(7, 4) + little(0, 4) + "data" + little(0, 8) + little(42, 4) +
                        little(9, 4) + little(0, 4) + "data" + little(0, 8) + little(77, 4));
  for (const std::string& both : {labels + cue, cue + labels}) {
    const auto cues =
        AudioReader(write("c.wav", wave(format_chunk(48000) + both + chunk("data", samples(100)))))
            .info()
            .cues;
    ASSERT_EQ(cues.size(), 2U);
    EXPECT_EQ(cues[0].frame, 42);
    EXPECT_EQ(cues[0].name, "first");
    EXPECT_EQ(cues[1].name, "second");
  }
  const std::string name(5000, 'n');
  const auto cues =
      AudioReader(write("c.wav", wave(format_chunk(48000) + cue +
                                      chunk("LIST", "adtl" + chunk("labl", little(7, 4) + name)) +
                                      chunk("data", samples(100)))))
          .info()
          .cues;
  EXPECT_EQ(cues[0].name.size(), kLongestLabelBytes);
}

TEST_F(HostileFile, MoreChunksThanAreLookedAtAreSaid) {
  std::string many;
  for (int i = 0; i < 5000; ++i) many += chunk("junk", "");
  const AudioReader reader(write("m.wav", wave(format_chunk(48000) + chunk("data", samples(100)) + many)));
  EXPECT_EQ(reader.info().frames, 100);
  EXPECT_HAS(reader.info().broken_chunk, "more than 4096 chunks");
}

// Every place of the head, and many beyond: refused with the file's name, or measured with a finding.
TEST_F(HostileFile, CutAnywhereItIsRefusedOrMeasuredWithAFinding) {
  Recipe recipe;
  recipe.marks = false;
  recipe.sample_rate_hz = 8000;
  recipe.parts.push_back({.kind = Tone{.frequency_hz = 331, .seconds = 0.6}});
  for (const char* ending : {".wav", ".aiff", ".flac"}) {
    const std::string whole = folder_.file(std::string("whole") + ending),
                      cut = folder_.file(std::string("cut") + ending);
    Stimulus stimulus(recipe);
    (void)write_stimulus_file(whole, stimulus);
    const std::string bytes = read_text(whole);
    std::vector<std::size_t> places;
    for (std::size_t at = 0; at < std::min<std::size_t>(4096, bytes.size()); ++at) places.push_back(at);
    for (std::size_t i = 0; i < 1000; ++i)
      if (const std::size_t at = 4096 + i * (bytes.size() - 4096) / 1000; bytes.size() > 4096)
        places.push_back(at);
    int measured = 0;
    // From its end to its start, so that it is written once.
    write_text(cut, bytes);
    for (auto place = places.rbegin(); place != places.rend(); ++place) {
      const std::size_t at = *place;
      fs::resize_file(cut, at);
      try {
        const JudgedCapture capture = judge_file(cut, {.despite_faults = true});
        const auto& findings = capture.findings();
        EXPECT_TRUE(std::any_of(findings.begin(), findings.end(),
                                [](const Finding& f) {
                                  return f.code == FindingCode::truncated ||
                                         f.code == FindingCode::broken_chunk;
                                }))
            << ending << " cut at " << at << " of " << bytes.size();
        ++measured;
      } catch (const Error& error) {
        EXPECT_EQ(static_cast<int>(error.code()), static_cast<int>(ErrorCode::bad_input));
        EXPECT_EQ(std::string(error.what()).rfind(cut, 0), 0U) << error.what();
      }
    }
    if (std::string(ending) == ".wav") {
      EXPECT_GT(measured, 1000) << ending;
    }
  }
}

TEST_F(HostileFile, NamesThatWereNotTypedStayInTheirFolder) {
  const fs::path inside = folder_.path() / "in";
  fs::create_directory(inside);
  EXPECT_EQ(file_below(inside, "x.wav"), inside / "x.wav");
  for (const char* name : {"../x.wav", "/elsewhere/x.wav", "a/b.wav", "", "..", ".x"})
    (void)message_of(ErrorCode::bad_argument, [&] { (void)file_below(inside, name); });
  fs::create_symlink(folder_.path() / "elsewhere.wav", inside / "link.wav");
  EXPECT_HAS(message_of(ErrorCode::bad_output, [&] { (void)file_below(inside, "link.wav"); }),
             "leads out of the folder");
  fs::create_directory_symlink("in", folder_.path() / "other");
  EXPECT_EQ(file_below(folder_.path() / "other", "x.wav").filename(), "x.wav");
}

TEST_F(HostileFile, OutputsAreApartAndReadOnlyOnesAreKept) {
  const fs::path a = folder_.file("a.json"), same = folder_.path() / "." / "a.json",
                 link = folder_.file("l.json");
  require_apart({a, folder_.file("b.json"), "", ""});
  EXPECT_HAS(message_of(ErrorCode::bad_output, [&] { require_apart({a, same}); }), "two outputs");
  write_text(a, "{}");
  fs::create_symlink(a, link);
  (void)message_of(ErrorCode::bad_output, [&] { require_apart({a, link}); });
  fs::permissions(a, fs::perms::owner_read);
  EXPECT_HAS(message_of(ErrorCode::bad_output, [&] { write_text_file(a, "other"); }), "read-only");
  EXPECT_EQ(read_text(a), "{}");
}

TEST(Limits, ThePageListsThem) {
  EXPECT_GT(input_limits().size(), 15U);
  for (const InputLimit& limit : input_limits()) {
    EXPECT_NE(limit.bound, "") << limit.of;
    EXPECT_HAS(limits_manual(), "| " + limit.of + " | " + limit.bound + " |");
  }
  EXPECT_HAS(limits_manual(), "1000 Hz to 768 kHz");
}

}  // namespace
}  // namespace wavicon::hostile_file_test
