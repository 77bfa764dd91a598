// SPDX-License-Identifier: MIT
#pragma once
// The store of all sheets: what was measured stays.

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// Names and their values, each name once.
using Tags = std::vector<std::pair<std::string, std::string>>;

/// What a person says of sheets that are kept.
struct EntryNotes {
  std::string label;  ///< empty: none
  Tags tags;
  std::optional<std::int64_t> on_s;  ///< when it was measured: seconds since 1970; none: as the sheets say
  bool with_machine = false;         ///< whether this machine's name is kept
};

/// One sheet that was kept.
struct LogbookEntry {
  std::int64_t id = 0;
  std::int64_t made_s = 0;  ///< when it was measured: seconds since 1970, UTC
  std::int64_t kept_s = 0;  ///< when it came into the logbook
  std::string measurement;
  std::string capture;   ///< its file, as it was given
  std::string label;     ///< empty: none
  std::string chain;     ///< units, one a line; empty: not known
  std::string stimulus;  ///< digest of the recipe; empty: not known
  std::string version;   ///< of the program that measured; empty: not known
  int arithmetic = 0;    ///< 0: not known
  std::string machine;   ///< empty: not known
  Tags tags;             ///< by name
};

/// Gives each reading its entry of the catalogue, as a measurement would have.
WAVICON_EXPORT void link_entries(Sheet& sheet);

/// What an entry is called: its label, or its units, or its file without folder and ending.
[[nodiscard]] WAVICON_EXPORT std::string name_of(const LogbookEntry& entry);

/// Which entries are meant: those for which all of it holds.
struct EntryFilter {
  std::vector<std::string> words;  ///< each somewhere in label, file, units, measurement or tags, in any case
  Tags tags;
  std::optional<std::string> label;              ///< exactly
  std::optional<std::string> measurement;        ///< exactly
  std::optional<std::int64_t> since_s, until_s;  ///< measured from then on; before then
  std::vector<std::int64_t> ids;                 ///< not empty: these
  Tags without;                                  ///< none of these
};

/// A reading that was kept.
struct KeptReading {
  std::int64_t entry = 0;
  std::int64_t made_s = 0;
  Reading reading;  ///< conditions: those by which readings compare, numbers rounded to four digits
  int view = -1;    ///< channel, from 0; -1: of the whole
  std::int64_t circumstance = 0;  ///< the same number: the same conditions; 0: not known
};

/// A store in a file (SQLite) or on a server (PostgreSQL). For one thread at a time; several programs may
/// write to the same store.
class WAVICON_EXPORT Logbook {
 public:
  enum class Access {
    look,  ///< the store has to be there
    keep,  ///< it is made where it is not
  };

  /// @param url  a file's path, or postgresql://USER\@HOST/DATABASE. @throws Error bad_input when it cannot be
  /// opened, is something else, was made by a newer program, or is not there; with what to do. Passwords are
  /// in no message.
  explicit Logbook(const std::string& url, Access access = Access::look);
  ~Logbook();
  Logbook(Logbook&&) noexcept;
  Logbook& operator=(Logbook&&) noexcept;

  struct Kept {
    std::int64_t id = 0;
    bool is_new = true;  ///< false: the same sheet was kept already
    std::int64_t kept_s = 0;
  };
  /// Keeps sheets, all or none. A sheet that says the same of the same capture, with the same label and tags,
  /// is the same sheet, whenever it was made, unless a day was given for it.
  ///
  /// @throws Error bad_argument for notes that cannot be kept, write_failed when the store takes nothing,
  /// bad_input when it is broken or gone; then nothing was kept.
  ///
  /// @param exported  lines that export_lines() gave elsewhere, kept with these: each is the entry that it
  /// was
  ///                  there, with its own notes. @param name  of these lines, for messages.
  std::vector<Kept> keep(const std::vector<Sheet>& sheets, const EntryNotes& notes,
                         const std::vector<std::string>& exported = {}, const std::string& name = {});

  /// The latest last. @param most  the latest so many; 0: all.
  [[nodiscard]] std::vector<LogbookEntry> entries(const EntryFilter& filter, std::size_t most = 0) const;
  [[nodiscard]] std::int64_t count(const EntryFilter& filter) const;
  /// The whole sheet. @throws Error bad_argument for an entry that is not there.
  [[nodiscard]] Sheet sheet(std::int64_t id) const;
  /// Its figures alone, without conditions, curves and findings: fast.
  [[nodiscard]] Sheet figures(std::int64_t id) const;
  /// Entries by the value that they have of a tag.
  [[nodiscard]] std::map<std::string, std::vector<std::int64_t>> entries_by_tag(const std::string& tag) const;
  /// Readings of that name of the entries that are meant, the earliest first.
  [[nodiscard]] std::vector<KeptReading> readings(const std::string& name, const EntryFilter& filter) const;
  /// All readings of an entry that compare, with its place in the sheet.
  [[nodiscard]] std::vector<KeptReading> readings_of(std::int64_t id) const;
  /// Names of readings that any entry has.
  [[nodiscard]] std::vector<std::string> reading_names() const;
  /// Labels that any entry has.
  [[nodiscard]] std::vector<std::string> labels() const;

  /// Takes entries out, all or none. @throws Error bad_argument for one that is not there.
  void forget(const std::vector<std::int64_t>& ids);
  /// Gives each entry as a line of JSON: its notes and its sheet.
  void export_lines(const EntryFilter& filter, const std::function<void(const std::string&)>& take) const;
  /// What is wrong with the store, as sentences; empty: nothing.
  [[nodiscard]] std::vector<std::string> faults() const;
  /// When the latest entry came into it, by the clock of the machine that kept it; 0: none.
  [[nodiscard]] std::int64_t latest_kept_s() const;
  /// As it was given, without a password.
  [[nodiscard]] const std::string& name() const noexcept;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

/// "kept as entry 12 in …", with what was there already, and a word where the clock of this machine is
/// behind.
[[nodiscard]] WAVICON_EXPORT std::string kept_text(const std::vector<Logbook::Kept>& kept,
                                                   const Logbook& logbook);
/// Whether a text is what export_lines() gave.
[[nodiscard]] WAVICON_EXPORT bool is_export(const std::string& text);

/// @throws Error bad_argument for a label or tags that cannot be kept: empty, long, of several lines, given
/// twice, or a label that is a number, a day, or the words last, first and best.
WAVICON_EXPORT void require_notes(const EntryNotes& notes);

/// The store that is meant when none is named: WAVICON_LOGBOOK, or wavicon/logbook.sqlite where the user's
/// data lives (XDG Base Directory: XDG_DATA_HOME, or .local/share).
[[nodiscard]] WAVICON_EXPORT std::string usual_logbook();

/// "KEY=VALUE". @throws Error bad_argument for another text.
[[nodiscard]] WAVICON_EXPORT std::pair<std::string, std::string> parse_tag(const std::string& text);

}  // namespace wavicon
