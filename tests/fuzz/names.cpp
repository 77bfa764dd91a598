// SPDX-License-Identifier: MIT
// Text from outside on its way to a terminal, a file name, a picture, JSON and CSV.

#include <nlohmann/json.hpp>

#include "present/gnuplot.hpp"
#include "target.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/file/sheet_file.hpp"
#include "wavicon/present/table.hpp"

using namespace wavicon;

namespace {

bool is_control(unsigned char c) { return (c < 0x20 && c != '\n') || c == 0x7F; }

void require_fit(const std::string& text) {
  fuzz::require(is_utf8(text), "what is shown is UTF-8");
  fuzz::require(std::none_of(text.begin(), text.end(),
                             [](char c) { return is_control(static_cast<unsigned char>(c)); }),
                "what is shown steers nothing");
}

Sheet sheet_of(const std::string& name) {
  Sheet sheet{.measurement = "levels"};
  sheet.capture.file = name;
  Reading reading;
  reading.name = "rms_dbfs";
  reading.unit = "dBFS";
  reading.value = -20;
  reading.channel = 0;
  reading.conditions = {{"part", name}};
  sheet.readings.push_back(reading);
  sheet.findings.push_back({Severity::note, FindingCode::detail, "it is " + name, std::nullopt});
  return sheet;
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string text(reinterpret_cast<const char*>(data), size);
  require_fit(printable(text));
  require_fit(printable(text, true));
  fuzz::require(printable(text).find('\n') == std::string::npos, "one line stays one");
  fuzz::require(printable(printable(text, true), true) == printable(text, true),
                "what is fit stays as it is");
  fuzz::require(is_utf8(as_utf8(text)) && (!is_utf8(text) || as_utf8(text) == text), "UTF-8 stays as it is");
  if (file_name_problem(text).empty())
    fuzz::require(text.find('/') == std::string::npos && text[0] != '.' && is_utf8(text) &&
                      text.size() <= kLongestNameBytes,
                  "a name that is allowed is a plain one");
  const std::string literal = present_detail::literal(text);
  fuzz::require(std::count(literal.begin(), literal.end(), '"') == 2 &&
                    literal.find('`') == std::string::npos && literal.find('@') == std::string::npos &&
                    literal.find('\n') == std::string::npos,
                "a string of a picture ends where it ends");
  const std::vector<Sheet> sheets{sheet_of(text)};
  const auto json = nlohmann::json::parse(sheets_to_json(sheets));
  fuzz::require(text.empty() || json["capture"]["file"].is_string(), "a sheet is JSON");
  if (is_utf8(text) && !text.empty())
    fuzz::require(json["capture"]["file"].get<std::string>() == text, "JSON keeps names that it can hold");
  require_fit(sheets_to_json(sheets));
  require_fit(sheets_to_csv(sheets));
  require_fit(printable(sheet_table(sheets[0]), true));
  return 0;
}
