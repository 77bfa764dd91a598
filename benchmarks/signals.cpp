// SPDX-License-Identifier: MIT
// Writes the files that scripts/benchmark times whole commands on: wavicon-benchmark-signals FOLDER
// [MINUTES].
//   music.wav       chamber music, 96 kHz stereo, 24 bits, without a recipe: what somebody else brings
//   a.wav, b.wav    three minutes of it; b is late by a fraction, 20 ppm fast, and noisy
//   short.wav       three seconds, 48 kHz mono
//   whole.wav       the same, late by whole samples
// --long FOLDER writes long.wav: two hours at 192 kHz, stereo, 8 GB.
//   decode          is the same program with --decode FILE: reads a file in blocks and does nothing with it

#include <fmt/format.h>
#include <sndfile.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <string>
#include <vector>

#include "late.hpp"
#include "wavicon/audio/random.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace {

using wavicon::Audio;

Audio chamber(double rate, int channels, double seconds) {
  wavicon::Recipe recipe{.sample_rate_hz = rate, .channel_count = channels, .marks = false};
  recipe.parts.push_back({.kind = wavicon::Programme{.content = "chamber", .seconds = seconds}});
  wavicon::Stimulus stimulus(recipe);
  Audio audio(rate, channels, stimulus.frames());
  for (int c = 0; c < channels; ++c) stimulus.render(0, c, audio.channel(c));
  // The right one is not the left one.
  if (channels == 2)
    for (std::size_t n = 0; n < audio.channel(1).size(); ++n)
      audio.channel(1)[n] = 0.8 * audio.channel(1)[n] + 1e-4 * (wavicon::random_uniform(2, 1, n) - 0.5);
  return audio;
}

// The same minute again and again, so that writing an hour needs the memory of one.
void write_repeated(const std::filesystem::path& file, const Audio& audio, double seconds) {
  const auto frames = static_cast<std::int64_t>(seconds * audio.sample_rate_hz());
  wavicon::AudioWriter writer(
      file,
      {.sample_rate_hz = audio.sample_rate_hz(), .channel_count = audio.channel_count(), .frames = frames});
  const auto channels = static_cast<std::size_t>(audio.channel_count());
  std::vector<double> block;
  constexpr std::int64_t kBlock = 65536;
  for (std::int64_t at = 0; at < frames; at += kBlock) {
    const auto count = static_cast<std::size_t>(std::min(kBlock, frames - at));
    block.resize(count * channels);
    for (std::size_t n = 0; n < count; ++n)
      for (std::size_t c = 0; c < channels; ++c)
        block[n * channels + c] = audio.channel(static_cast<int>(
            c))[(static_cast<std::size_t>(at) + n) % static_cast<std::size_t>(audio.frames())];
    writer.write(std::span<const double>(block));
  }
  writer.finish();
}

void write_all(const std::filesystem::path& folder, double minutes) {
  std::filesystem::create_directories(folder);
  {
    const Audio a = chamber(96000, 2, 180);
    const wavicon::AudioWriteOptions options{.sample_rate_hz = 96000, .channel_count = 2};
    wavicon::write_audio_file(folder / "a.wav", a, options);
    wavicon::write_audio_file(folder / "b.wav", late(a, 37.43, 1 / (1 + 20e-6)), options);
    wavicon::write_audio_file(folder / "whole.wav", late(a, 37, 1), options);
    write_repeated(folder / "music.wav", a, 60 * minutes);
  }
  wavicon::write_audio_file(folder / "short.wav", chamber(48000, 1, 3), {});
}

void write_long(const std::filesystem::path& folder) {
  std::filesystem::create_directories(folder);
  write_repeated(folder / "long.wav", chamber(192000, 2, 60), 7200);
}

// As the library of the formats does it by itself, with none of our code.
void decode(const std::string& file) {
  SF_INFO info{};
  SNDFILE* sound = sf_open(file.c_str(), SFM_READ, &info);
  if (sound == nullptr) std::abort();
  std::vector<double> block(static_cast<std::size_t>(info.channels) * 16384);
  double most = 0;
  while (sf_readf_double(sound, block.data(), 16384) > 0) most = std::max(most, block.front());
  sf_close(sound);
  if (most > 1e9) std::abort();
}

// A file written again as it is: what rendering the same length cannot do without.
void encode(const std::string& from, const std::string& to) {
  const wavicon::AudioFile file = wavicon::read_audio_file(from);
  wavicon::write_audio_file(
      to, file.audio, {.sample_rate_hz = file.info.sample_rate_hz, .channel_count = file.info.channel_count});
}

// As many transforms of real samples of one length as a method makes.
void transform(std::size_t length, std::int64_t count) {
  wavicon::RealTransform work(length);
  for (std::int64_t i = 0; i < count; ++i) {
    std::fill(work.input().begin(), work.input().end(), 0.1);
    work.execute();
  }
}

}  // namespace

int main(int argc, char** argv) {
  const std::vector<std::string> words(argv + 1, argv + argc);
  if (words.size() == 2 && words[0] == "--long") {
    write_long(words[1]);
  } else if (words.size() == 2 && words[0] == "--decode") {
    decode(words[1]);
  } else if (words.size() == 3 && words[0] == "--encode") {
    encode(words[1], words[2]);
  } else if (words.size() == 3 && words[0] == "--transforms") {
    transform(std::stoul(words[1]), std::stol(words[2]));
  } else if (words.size() == 1 || words.size() == 2) {
    write_all(words[0], words.size() == 2 ? std::stod(words[1]) : 10);
  } else {
    fmt::print(stderr,
               "wavicon-benchmark-signals FOLDER [MINUTES] | --decode FILE | --transforms LENGTH COUNT\n");
    return 2;
  }
}
