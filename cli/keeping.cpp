// SPDX-License-Identifier: MIT
#include "keeping.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <memory>

#include "wavicon/audio/error.hpp"
#include "wavicon/bench/history.hpp"
#include "wavicon/bench/logbook.hpp"
#include "wavicon/file/sheet_file.hpp"

namespace wavicon::cli {
namespace {

std::string store_of(const KeepOptions& options) {
  return options.logbook.empty() ? usual_logbook() : options.logbook;
}

EntryNotes notes_of(const KeepOptions& options) {
  EntryNotes notes{.label = options.label, .with_machine = options.machine};
  for (const std::string& tag : options.tags) notes.tags.push_back(parse_tag(tag));
  if (!options.on.empty()) notes.on_s = parse_time(options.on);
  return notes;
}

}  // namespace

void KeepOptions::add_to(CLI::App& app) {
  app.add_flag("--keep", keep, "keep the sheets in the logbook (docs/logbook.md)");
  app.add_option("--as", label, "keep them under this label");
  app.add_option("--tag", tags, "KEY=VALUE to keep them with; limits look at entries with the same tags")
      ->allow_extra_args(false);
  app.add_option("--on", on, "when the capture was made, if not now: 2026-03-02, or 2026-03-02T14:30 (UTC)");
  app.add_flag("--with-machine", machine, "keep this machine's name, too");
  app.add_option("--logbook", logbook,
                 "the logbook: a file, or postgresql://USER@HOST/DATABASE (default: WAVICON_LOGBOOK, or the "
                 "user's own)");
}

void KeepOptions::check(const std::vector<Limit>& limits) const {
  if (!keep && (!label.empty() || !on.empty() || machine))
    throw Error(ErrorCode::bad_argument,
                "--as, --on and --with-machine are of what is kept: --keep keeps it");
  require_notes(notes_of(*this));
  const bool looks =
      std::any_of(limits.begin(), limits.end(), [](const Limit& limit) { return !limit.past.empty(); });
  if (looks) (void)Logbook(store_of(*this), Logbook::Access::look);
  if (keep) (void)Logbook(store_of(*this), Logbook::Access::keep);
}

PastValues past_values(const KeepOptions& options) {
  const auto logbook = std::make_shared<std::unique_ptr<Logbook>>();
  EntryFilter filter{.tags = notes_of(options).tags};
  return [logbook, filter, store = store_of(options)](const Limit& limit, const Sheet& sheet,
                                                      const Reading& reading) {
    if (!*logbook) *logbook = std::make_unique<Logbook>(store);
    return past_value(**logbook, filter, limit, sheet, reading);
  };
}

std::string kept(const KeepOptions& options, const std::vector<Sheet>& sheets) {
  Logbook logbook(store_of(options), Logbook::Access::keep);
  return kept_text(logbook.keep(sheets, notes_of(options)), logbook);
}

}  // namespace wavicon::cli
