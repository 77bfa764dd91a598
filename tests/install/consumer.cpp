// SPDX-License-Identifier: MIT
#include <iostream>

#include "wavicon/file/sheet_file.hpp"
#include "wavicon/measure/harmonics/harmonics.hpp"
#include "wavicon/stimulus/tone.hpp"

int main() {
  const wavicon::ToneStimulus tone{.frequency_hz = 997, .seconds = 0.5};
  wavicon::Audio audio(tone.sample_rate_hz, 1, wavicon::frame_count(tone));
  wavicon::render(tone, 0, audio.channel(0));
  const auto sheet = wavicon::harmonics_sheet(wavicon::measure_harmonics(wavicon::judge(audio)), {});
  std::cout << sheet.findings.front().text << '\n' << wavicon::sheets_to_csv({sheet}).size() << '\n';
}
