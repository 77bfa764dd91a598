// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include "bench/history_parts.hpp"
#include "wavicon/bench/history.hpp"
#include "wavicon/file/sheet_file.hpp"

namespace wavicon {

Page entries_page(const Logbook& logbook, const EntryFilter& filter, std::size_t most) {
  const auto entries = logbook.entries(filter, most);
  const auto count = static_cast<std::size_t>(logbook.count(filter));
  Page page;
  if (entries.empty()) {
    page.answer.push_back({fmt::format("No entry in {}", logbook.name())});
    return page;
  }
  page.answer.push_back(
      {fmt::format("{} entr{} in {}, from {}{}", count, count == 1 ? "y" : "ies", logbook.name(),
                   bench_detail::day_text(entries.front().made_s),
                   entries.size() < count ? fmt::format(": the latest {}", entries.size()) : " on")});
  PageTable table{.key = "entries",
                  .columns = {{"entry", "entry", true},
                              {"when", "when"},
                              {"measurement", "measurement"},
                              {"name", "name"},
                              {"capture", "capture"},
                              {"tags", "tags"}}};
  for (const LogbookEntry& entry : entries) {
    std::string tags;
    for (const auto& [tag, value] : entry.tags)
      if (value.rfind("sha256:", 0) != 0)  // of a cell: for programs
        tags += fmt::format("{}{}={}", tags.empty() ? "" : " ", tag, value);
    table.rows.push_back({std::to_string(entry.id), bench_detail::day_text(entry.made_s), entry.measurement,
                          name_of(entry), entry.capture, tags});
  }
  page.tables.push_back(std::move(table));
  return page;
}

Page entry_page(const Logbook& logbook, std::int64_t id) {
  const Sheet sheet = logbook.sheet(id);
  const LogbookEntry entry = logbook.entries({.ids = {id}}).front();
  Page page;
  page.answer.push_back({fmt::format("Entry {}: {} of {}, measured {}", id, entry.measurement, name_of(entry),
                                     time_text(entry.made_s))});
  PageTable table{.key = "depends_on", .columns = {{"what", "what"}, {"value", "value"}}};
  const auto add = [&](const char* what, const std::string& value) {
    if (!value.empty()) table.rows.push_back({std::string(what), value});
  };
  add("capture", entry.capture);
  add("label", entry.label);
  for (const auto& [tag, value] : entry.tags) add("tag", tag + "=" + value);
  if (sheet.context) {
    for (const std::string& unit : sheet.context->chain) add("through", unit);
    add("stimulus", sheet.context->stimulus);
    for (const auto& [option, value] : sheet.context->options) add("option", option + " = " + value);
    add("measured by", entry.version.empty()
                           ? ""
                           : fmt::format("wavicon {}, arithmetic {}", entry.version, entry.arithmetic));
  }
  add("on", entry.machine);
  add("kept", time_text(entry.kept_s));
  page.tables.push_back(std::move(table));
  return page;
}

}  // namespace wavicon
