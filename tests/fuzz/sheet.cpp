// SPDX-License-Identifier: MIT
// Sheets as JSON, as a logbook takes them from anywhere.

#include "target.hpp"
#include "wavicon/file/sheet_file.hpp"

using namespace wavicon;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string text(reinterpret_cast<const char*>(data), size);
  fuzz::accepted([&] {
    const auto sheets = sheets_from_json(text, "sheet");
    fuzz::require(!sheets.empty(), "what is accepted is a sheet");
    const std::string once = sheets_to_json(sheets);
    fuzz::require(sheets_to_json(sheets_from_json(once, "again")) == once,
                  "what is written is read as it was");
    for (const Sheet& sheet : sheets)
      for (const Reading& reading : sheet.readings)
        fuzz::require(!reading.value || *reading.value == *reading.value, "no value is NaN");
  });
  return 0;
}
