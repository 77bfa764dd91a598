// SPDX-License-Identifier: MIT
// What a person says of entries, and what is said of them.

#include <fmt/format.h>

#include <cstdlib>
#include <filesystem>
#include <set>
#include <sstream>

#include "bench/conditions.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/bench/logbook.hpp"
#include "wavicon/file/sheet_context.hpp"
#include "wavicon/file/sheet_file.hpp"

namespace wavicon {
namespace {

constexpr std::size_t kLongestNote = 200;  // bytes of a label, a tag's name or its value

bool is_time(const std::string& text) {
  try {
    (void)parse_time(text);
    return true;
  } catch (const Error&) {
    return false;
  }
}

void require_note(const std::string& what, const std::string& text) {
  if (text.size() > kLongestNote || text != printable(text) || text.empty())
    throw Error(ErrorCode::bad_argument, fmt::format("{} '{}' is not a text of 1 to {} bytes in one line",
                                                     what, printable(text).substr(0, 60), kLongestNote));
}

}  // namespace

void link_entries(Sheet& sheet) {
  for (Reading& reading : sheet.readings)
    reading.entry = bench_detail::entry_of(sheet.measurement, reading.name);
}

std::string name_of(const LogbookEntry& entry) {
  if (!entry.label.empty()) return entry.label;
  if (!entry.chain.empty()) {
    std::istringstream units(entry.chain);
    std::string text;
    for (std::string unit; std::getline(units, unit);)
      text += (text.empty() ? "" : " → ") + unit.substr(0, unit.rfind(" ("));
    return text;
  }
  return std::filesystem::path(entry.capture).stem().string();
}

std::string kept_text(const std::vector<Logbook::Kept>& kept, const Logbook& logbook) {
  constexpr std::int64_t kBehindS = 60;
  std::vector<std::int64_t> fresh, known;
  for (const Logbook::Kept& one : kept) (one.is_new ? fresh : known).push_back(one.id);
  const auto list = [](const std::vector<std::int64_t>& ids) {
    std::string text = ids.size() == 1 ? "entry " : "entries ";
    if (ids.size() > 3 && ids.back() - ids.front() == static_cast<std::int64_t>(ids.size()) - 1)
      return fmt::format("{}{} to {}", text, ids.front(), ids.back());
    for (std::size_t i = 0; i < ids.size(); ++i) text += fmt::format("{}{}", i == 0 ? "" : ", ", ids[i]);
    return text;
  };
  std::string text;
  if (!fresh.empty()) text = fmt::format("kept as {} in {}", list(fresh), logbook.name());
  if (!known.empty())
    text += fmt::format("{}{} {} the same already", text.empty() ? "" : "; ", list(known),
                        known.size() == 1 ? "says" : "say");
  if (const std::int64_t latest_s = logbook.latest_kept_s();
      !fresh.empty() && latest_s > current_time_s() + kBehindS)
    text += fmt::format("; this machine's clock is behind: an entry was kept on {}", time_text(latest_s));
  return text;
}

void require_notes(const EntryNotes& notes) {
  if (!notes.label.empty()) {
    require_note("label", notes.label);
    const bool number = notes.label.find_first_not_of("0123456789") == std::string::npos;
    if (number || is_time(notes.label) || notes.label == "last" || notes.label == "first" ||
        notes.label == "best")
      throw Error(ErrorCode::bad_argument,
                  fmt::format("label '{}': numbers, dates and the words last, first and best mean something "
                              "else where labels are named",
                              notes.label));
  }
  std::set<std::string> names;
  for (const auto& [tag, value] : notes.tags) {
    require_note("tag", tag);
    require_note("tag " + tag, value);
    if (!names.insert(tag).second)
      throw Error(ErrorCode::bad_argument, fmt::format("tag '{}' is given twice", tag));
  }
}

std::string usual_logbook() {
  const auto of = [](const char* variable) {
    const char* value = std::getenv(variable);
    return std::string(value == nullptr ? "" : value);
  };
  if (const std::string named = of("WAVICON_LOGBOOK"); !named.empty()) return named;
  const std::string data = of("XDG_DATA_HOME"), home = of("HOME");
  const std::filesystem::path folder =
      !data.empty() && data[0] == '/' ? std::filesystem::path(data)
                                      : std::filesystem::path(home.empty() ? "." : home) / ".local/share";
  return (folder / "wavicon" / "logbook.sqlite").string();
}

std::pair<std::string, std::string> parse_tag(const std::string& text) {
  const auto at = text.find('=');
  if (at == std::string::npos || at == 0 || at + 1 == text.size())
    throw Error(ErrorCode::bad_argument,
                fmt::format("tag '{}' is not KEY=VALUE, for example place=booth-2", printable(text)));
  return {text.substr(0, at), text.substr(at + 1)};
}

}  // namespace wavicon
