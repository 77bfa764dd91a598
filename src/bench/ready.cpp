// SPDX-License-Identifier: MIT
#include "bench/ready.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <nlohmann/json.hpp>

#include "bench/conditions.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/file/sheet_context.hpp"
#include "wavicon/file/sheet_file.hpp"

namespace wavicon {

using Json = nlohmann::ordered_json;

namespace bench_detail {

std::string lower(std::string text) {
  for (char& c : text) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  return text;
}

Ready ready(Sheet sheet, const EntryNotes& notes, std::int64_t now_s) {
  Ready result;
  if (!sheet.context) sheet.context.emplace();
  SheetContext& context = *sheet.context;
  const std::int64_t made_s = notes.on_s.value_or(context.made_s != 0 ? context.made_s : now_s);
  if (notes.with_machine && context.machine.empty()) context.machine = machine_name();
  // What it says, without when and where that was found out.
  context.made_s = 0;
  const std::string machine = std::exchange(context.machine, "");
  const double took_s = std::exchange(context.took_s, 0);
  std::string identity = sheets_to_json({sheet}) + "\n" + notes.label;
  Tags tags = notes.tags;
  std::sort(tags.begin(), tags.end());
  for (const auto& [tag, value] : tags) identity += fmt::format("\n{}={}", tag, value);
  if (notes.on_s) identity += "\n" + time_text(*notes.on_s);
  result.fingerprint = digest_of(identity);
  context.made_s = made_s;
  context.machine = machine;
  context.took_s = took_s;
  result.json = sheets_to_json({sheet});
  LogbookEntry& entry = result.entry;
  entry.made_s = made_s;
  entry.kept_s = now_s;
  entry.measurement = printable(sheet.measurement);
  entry.capture = printable(sheet.capture.file);
  entry.label = notes.label;
  for (const std::string& unit : context.chain)
    entry.chain += (entry.chain.empty() ? "" : "\n") + printable(unit);
  entry.stimulus = printable(context.stimulus);
  entry.version = printable(context.version);
  entry.arithmetic = context.arithmetic;
  entry.machine = printable(machine);
  entry.tags = tags;
  std::vector<std::string> words = {entry.label, entry.capture, entry.chain, entry.measurement,
                                    entry.machine};
  for (const auto& [tag, value] : tags) words.push_back(tag + "=" + value);
  result.words = lower(fmt::format("{}", fmt::join(words, "\n")));
  long long place = 0;
  for (const Reading& reading : sheet.readings) {
    ++place;
    if (!reading.value || !std::isfinite(*reading.value)) continue;
    result.figures.push_back({place, printable(reading.name), printable(reading.unit),
                              conditions_text(comparable(sheet.measurement, reading)),
                              reading.channel.value_or(-1), reading.bound ? 1 : 0, *reading.value,
                              reading.uncertainty.value_or(0)});
  }
  return result;
}

Ready ready_again(const std::string& line, const std::string& where, std::int64_t now_s) {
  const Json json = Json::parse(line, nullptr, false);
  if (!json.is_object() || !json.contains("sheet") || !json.contains("notes"))
    throw Error(ErrorCode::bad_input, where + ": is no line that 'wavicon logbook export' wrote");
  EntryNotes notes;
  try {
    const Json& said = json.at("notes");
    notes.label = said.value("label", "");
    for (const auto& [tag, value] : said.at("tags").items())
      notes.tags.emplace_back(tag, value.get<std::string>());
    if (said.contains("on")) notes.on_s = parse_time(said.at("on").get<std::string>());
  } catch (const Json::exception&) {
    throw Error(ErrorCode::bad_input, where + ": its notes are no label and tags");
  }
  require_notes(notes);
  Ready one = ready(sheets_from_json(json.at("sheet").dump(), where).front(), notes, now_s);
  if (json.contains("fingerprint") && json.at("fingerprint").is_string())
    one.fingerprint = printable(json.at("fingerprint").get<std::string>());
  return one;
}

}  // namespace bench_detail

bool is_export(const std::string& text) {
  const std::string line = text.substr(0, text.find('\n'));
  const Json json = Json::parse(line, nullptr, false);
  return json.is_object() && json.contains("notes") && json.contains("sheet");
}

}  // namespace wavicon
