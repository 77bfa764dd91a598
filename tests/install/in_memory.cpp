// SPDX-License-Identifier: MIT
// A consumer that measures audio in memory and writes a sheet.

#include <iostream>

#include "wavicon/file/sheet_file.hpp"
#include "wavicon/measure/harmonics/harmonics.hpp"
#include "wavicon/stimulus/tone.hpp"
#include "wavicon/version.hpp"

int main() {
  const wavicon::ToneStimulus tone{.frequency_hz = 997, .seconds = 0.5};
  wavicon::Audio audio(tone.sample_rate_hz, 1, wavicon::frame_count(tone));
  wavicon::render(tone, 0, audio.channel(0));
  const auto capture = wavicon::judge(audio);
  const auto sheet = wavicon::harmonics_sheet(wavicon::measure_harmonics(capture), capture.info());
  std::cout << "version " << WAVICON_VERSION << '\n'
            << sheet.findings.front().text << '\n'
            << wavicon::sheets_to_csv({sheet}).size() << '\n';
}
