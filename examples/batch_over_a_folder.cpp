// SPDX-License-Identifier: MIT
// Every audio file of a folder through one measurement: a sheet beside each, a line for each, with progress;
// Ctrl-C in a progress callback would end it by an exception.
//
//   batch_over_a_folder FOLDER [MEASUREMENT]      levels by default

#include <cstdio>
#include <filesystem>

#include "wavicon/audio/error.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/file/sheet_file.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace fs = std::filesystem;

int main(int argc, char** argv) {
  if (argc < 2) return std::fputs("batch_over_a_folder FOLDER [MEASUREMENT]\n", stderr), 2;
  const std::string name = argc > 2 ? argv[2] : "levels";
  int failed = 0;
  for (const auto& entry : fs::directory_iterator(argv[1])) {
    if (entry.path().extension() != ".wav" && entry.path().extension() != ".flac") continue;
    try {
      const auto capture = wavicon::judge_file(entry.path(), {}, nullptr, [&](double part) {
        std::fprintf(stderr, "\r%s %3.0f %%", entry.path().filename().c_str(), 100 * part);
      });
      const auto sheets = wavicon::measure_by_name(name, capture);
      wavicon::write_text_file(entry.path().string() + ".json", wavicon::sheets_to_json(sheets));
      std::printf("\r%s: %s\n", entry.path().filename().c_str(),
                  sheets.front().findings.front().text.c_str());
    } catch (const wavicon::Error& error) {
      std::printf("\r%s\n", error.what());
      ++failed;
    }
  }
  return failed == 0 ? 0 : 3;
}
