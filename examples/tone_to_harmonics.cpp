// SPDX-License-Identifier: MIT
// What `wavicon make tone`, `feed` and `harmonics` do, by calls: a tone through Tern at a row of drives, and
// its harmonics.
//
//   tone_to_harmonics [UNIT]      UNIT as after --through, without the drive; default sim:tern

#include <cstdio>
#include <exception>
#include <string>

#include "wavicon/measure/harmonics/harmonics.hpp"
#include "wavicon/path/chain.hpp"
#include "wavicon/stimulus/tone.hpp"

namespace {

// Sends a tone through a unit and returns what came back, all in memory.
wavicon::Audio capture_through(const std::string& unit, const wavicon::ToneStimulus& tone) {
  const auto frames = wavicon::frame_count(tone);
  wavicon::Audio stimulus(tone.sample_rate_hz, 1, frames), capture(tone.sample_rate_hz, 1, frames);
  wavicon::render(tone, 0, stimulus.channel(0));

  std::vector<std::unique_ptr<wavicon::Unit>> units;
  units.push_back(wavicon::open_unit(wavicon::parse_unit(unit)));
  wavicon::Chain chain(std::move(units));
  chain.prepare(tone.sample_rate_hz, 1, 512);
  std::size_t read = 0, written = 0;
  chain.feed(
      [&](std::span<float> block) {
        for (float& sample : block) sample = static_cast<float>(stimulus.channel(0)[read++]);
        return static_cast<std::int64_t>(block.size());
      },
      frames,
      [&](std::span<const float> block) {
        for (const float sample : block) capture.channel(0)[written++] = sample;
      });
  return capture;
}

}  // namespace

int main(int argc, char** argv) try {
  const std::string unit = argc > 1 ? argv[1] : "sim:tern";
  const wavicon::ToneStimulus tone{
      .sample_rate_hz = 48000, .frequency_hz = 997, .level_dbfs = -20, .seconds = 1};
  for (const int drive : {0, 6, 12, 18, 24}) {
    const auto capture = capture_through(unit + "?drive=" + std::to_string(drive), tone);
    const auto judged = wavicon::judge(capture, wavicon::SampleFormat::float32);
    const auto sheet = wavicon::harmonics_sheet(wavicon::measure_harmonics(judged), judged.info());
    std::printf("drive %2d dB  %s\n", drive, sheet.findings.front().text.c_str());
  }
} catch (const std::exception& error) {
  std::fprintf(stderr, "tone_to_harmonics: %s\n", error.what());
  return 1;
}
