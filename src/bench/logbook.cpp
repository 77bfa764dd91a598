// SPDX-License-Identifier: MIT
#include "wavicon/bench/logbook.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cstdlib>
#include <limits>
#include <map>
#include <nlohmann/json.hpp>
#include <set>

#include "bench/conditions.hpp"
#include "bench/database.hpp"
#include "bench/ready.hpp"
#include "bench/where.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/file/sheet_context.hpp"
#include "wavicon/file/sheet_file.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;
using Json = nlohmann::ordered_json;

[[noreturn]] void no_entry(const std::string& logbook, std::int64_t id) {
  throw Error(
      ErrorCode::bad_argument,
      fmt::format("logbook {}: there is no entry {}; 'wavicon logbook list' shows them", logbook, id));
}

}  // namespace

struct Logbook::Impl {
  Impl(const std::string& url, Access access) : database(parse_address(url), access) {}

  std::vector<Kept> keep(std::vector<Ready>& all) {
    // Always in the same order: two programs that keep the same do not wait for each other.
    std::map<std::string, long long> circumstances;
    for (const Ready& one : all)
      for (const Ready::Figure& figure : one.figures) circumstances[figure.circumstances] = 0;
    std::vector<Kept> kept;
    database.transaction("kept", [&](soci::session& sql) {
      kept.clear();
      for (auto& [json, id] : circumstances) id = circumstance(sql, json);
      for (const Ready& one : all) kept.push_back(keep_one(sql, one, circumstances));
    });
    return kept;
  }

  static long long circumstance(soci::session& sql, const std::string& json) {
    long long id = 0;
    sql << "SELECT id FROM circumstances WHERE json = :json", soci::use(json, "json"), soci::into(id);
    if (sql.got_data()) return id;
    sql << "INSERT INTO circumstances (json) VALUES (:json) ON CONFLICT (json) DO NOTHING",
        soci::use(json, "json");
    sql << "SELECT id FROM circumstances WHERE json = :json", soci::use(json, "json"), soci::into(id);
    return id;
  }

  static Kept keep_one(soci::session& sql, const Ready& one,
                       const std::map<std::string, long long>& circumstances) {
    const LogbookEntry& e = one.entry;
    long long id = 0, made = e.made_s, kept = e.kept_s;
    sql << "INSERT INTO entries (fingerprint, made, kept, measurement, capture, label, chain, stimulus, "
           "version, "
           "arithmetic, machine, words) VALUES (:fingerprint, :made, :kept, :measurement, :capture, :label, "
           ":chain, :stimulus, :version, :arithmetic, :machine, :words) ON CONFLICT (fingerprint) DO NOTHING "
           "RETURNING id",
        soci::use(one.fingerprint, "fingerprint"), soci::use(made, "made"), soci::use(kept, "kept"),
        soci::use(e.measurement, "measurement"), soci::use(e.capture, "capture"), soci::use(e.label, "label"),
        soci::use(e.chain, "chain"), soci::use(e.stimulus, "stimulus"), soci::use(e.version, "version"),
        soci::use(e.arithmetic, "arithmetic"), soci::use(e.machine, "machine"), soci::use(one.words, "words"),
        soci::into(id);
    if (!sql.got_data()) {
      sql << "SELECT id, kept FROM entries WHERE fingerprint = :fingerprint",
          soci::use(one.fingerprint, "fingerprint"), soci::into(id), soci::into(kept);
      return {id, false, kept};
    }
    sql << "INSERT INTO sheets (entry, json) VALUES (:entry, :json)", soci::use(id, "entry"),
        soci::use(one.json, "json");
    for (const auto& [tag, value] : e.tags)
      sql << "INSERT INTO tags (entry, tag, value) VALUES (:entry, :tag, :value)", soci::use(id, "entry"),
          soci::use(tag, "tag"), soci::use(value, "value");
    Ready::Figure figure;
    long long circumstance = 0;
    soci::statement insert =
        (sql.prepare << "INSERT INTO readings (entry, place, name, view, value, uncertainty, bound, unit, "
                        "circumstance) VALUES (:entry, :place, :name, :view, :value, :uncertainty, :bound, "
                        ":unit, :circumstance)",
         soci::use(id, "entry"), soci::use(figure.place, "place"), soci::use(figure.name, "name"),
         soci::use(figure.view, "view"), soci::use(figure.value, "value"),
         soci::use(figure.uncertainty, "uncertainty"), soci::use(figure.bound, "bound"),
         soci::use(figure.unit, "unit"), soci::use(circumstance, "circumstance"));
    for (const Ready::Figure& next : one.figures) {
      figure = next;
      circumstance = circumstances.at(next.circumstances);
      insert.execute(true);
    }
    return {id, true, kept};
  }

  // Runs a query whose answers are taken one after the other.
  //
  // @param bound  what is filled and what is given: soci::into(), soci::use(), a Where.
  template <typename Take, typename... Bound>
  void rows(const std::string& query, Take&& take, Bound&&... bound) {
    database.guarded("read", [&](soci::session& sql) {
      soci::statement statement(sql);
      (bind(statement, bound), ...);
      statement.alloc();
      statement.prepare(query);
      statement.define_and_bind();
      if (!statement.execute(true)) return;
      do take();
      while (statement.fetch());
    });
  }

  static void bind(soci::statement& statement, Where& where) { where.bind(statement); }
  static void bind(soci::statement& statement, const auto& exchange) { statement.exchange(exchange); }

  mutable Database database;
};

Logbook::Logbook(const std::string& url, Access access) : impl_(std::make_unique<Impl>(url, access)) {}
Logbook::~Logbook() = default;
Logbook::Logbook(Logbook&&) noexcept = default;
Logbook& Logbook::operator=(Logbook&&) noexcept = default;

std::vector<Logbook::Kept> Logbook::keep(const std::vector<Sheet>& sheets, const EntryNotes& notes,
                                         const std::vector<std::string>& exported, const std::string& name) {
  require_notes(notes);
  const std::int64_t now_s = current_time_s();
  std::vector<Ready> all;
  all.reserve(sheets.size() + exported.size());
  for (const Sheet& sheet : sheets) all.push_back(ready(sheet, notes, now_s));
  std::size_t number = 0;
  for (const std::string& line : exported)
    all.push_back(ready_again(line, fmt::format("{}, line {}", name, ++number), now_s));
  return impl_->keep(all);
}

namespace {

// A row of the table of readings.
struct Figure {
  int view = 0, bound = 0;
  double value = 0, uncertainty = 0;
  std::string unit;
  [[nodiscard]] Reading reading(const std::string& name, const ReadingEntry* entry) const {
    Reading reading{.name = name, .value = value, .unit = unit, .bound = bound != 0, .entry = entry};
    if (view >= 0) reading.channel = view;
    if (uncertainty > 0) reading.uncertainty = uncertainty;
    return reading;
  }
};

}  // namespace

std::vector<LogbookEntry> Logbook::entries(const EntryFilter& filter, std::size_t most) const {
  std::vector<LogbookEntry> found;
  Where where(filter);
  LogbookEntry e;
  long long id = 0, made = 0, kept = 0,
            limit = most > 0 ? static_cast<long long>(most) : std::numeric_limits<long long>::max();
  impl_->rows(
      "SELECT e.id, e.made, e.kept, e.measurement, e.capture, e.label, e.chain, e.stimulus, e.version, "
      "e.arithmetic, e.machine FROM entries e" +
          where.text() + " ORDER BY e.made DESC, e.id DESC LIMIT :most",
      [&] {
        e.id = id;
        e.made_s = made;
        e.kept_s = kept;
        found.push_back(e);
      },
      soci::into(id), soci::into(made), soci::into(kept), soci::into(e.measurement), soci::into(e.capture),
      soci::into(e.label), soci::into(e.chain), soci::into(e.stimulus), soci::into(e.version),
      soci::into(e.arithmetic), soci::into(e.machine), where, soci::use(limit, "most"));
  std::reverse(found.begin(), found.end());
  for (LogbookEntry& entry : found) {
    std::string tag, value;
    id = entry.id;
    impl_->rows(
        "SELECT tag, value FROM tags WHERE entry = :entry ORDER BY tag",
        [&] { entry.tags.emplace_back(tag, value); }, soci::into(tag), soci::into(value),
        soci::use(id, "entry"));
  }
  return found;
}

std::int64_t Logbook::count(const EntryFilter& filter) const {
  Where where(filter);
  long long count = 0;
  impl_->rows(
      "SELECT count(*) FROM entries e" + where.text(), [] {}, soci::into(count), where);
  return count;
}

Sheet Logbook::sheet(std::int64_t id) const {
  std::string json, measurement;
  long long key = id;
  bool found = false;
  impl_->rows(
      "SELECT json FROM sheets WHERE entry = :entry", [&] { found = true; }, soci::into(json),
      soci::use(key, "entry"));
  if (!found) no_entry(name(), id);
  Sheet sheet = sheets_from_json(json, fmt::format("logbook {}, entry {}", name(), id)).front();
  link_entries(sheet);
  return sheet;
}

Sheet Logbook::figures(std::int64_t id) const {
  Sheet sheet;
  long long key = id;
  impl_->rows(
      "SELECT measurement, capture FROM entries WHERE id = :id", [] {}, soci::into(sheet.measurement),
      soci::into(sheet.capture.file), soci::use(key, "id"));
  if (sheet.measurement.empty()) no_entry(name(), id);
  std::string name;
  Figure figure;
  auto& [view, bound, value, uncertainty, unit] = figure;
  impl_->rows(
      "SELECT name, view, value, uncertainty, bound, unit FROM readings WHERE entry = :id ORDER BY place",
      [&, &view = view] {
        sheet.capture.channels = std::max(sheet.capture.channels, view + 1);
        sheet.readings.push_back(figure.reading(name, entry_of(sheet.measurement, name)));
      },
      soci::into(name), soci::into(view), soci::into(value), soci::into(uncertainty), soci::into(bound),
      soci::into(unit), soci::use(key, "id"));
  return sheet;
}

std::map<std::string, std::vector<std::int64_t>> Logbook::entries_by_tag(const std::string& tag) const {
  std::map<std::string, std::vector<std::int64_t>> found;
  std::string wanted = tag, value;
  long long entry = 0;
  impl_->rows(
      "SELECT value, entry FROM tags WHERE tag = :tag ORDER BY entry", [&] { found[value].push_back(entry); },
      soci::into(value), soci::into(entry), soci::use(wanted, "tag"));
  return found;
}

namespace {

// Entries of the catalogue by measurement, each looked up once.
class Kinds {
 public:
  const ReadingEntry* of(const std::string& measurement, const std::string& name) {
    const auto [found, fresh] = known_.try_emplace(measurement, nullptr);
    if (fresh) found->second = entry_of(measurement, name);
    return found->second;
  }

 private:
  std::map<std::string, const ReadingEntry*> known_;
};

}  // namespace

std::vector<KeptReading> Logbook::readings(const std::string& name, const EntryFilter& filter) const {
  Where where(filter);
  // Circumstances are few: they are read apart, not again with each reading.
  std::map<long long, Conditions> circumstances;
  long long entry = 0, made = 0, circumstance = 0;
  std::string measurement, json;
  Figure figure;
  auto& [view, bound, value, uncertainty, unit] = figure;
  std::vector<KeptReading> found;
  Kinds kinds;
  std::string wanted = name;
  impl_->rows(
      "SELECT r.entry, e.made, e.measurement, r.view, r.value, r.uncertainty, r.bound, r.unit, "
      "r.circumstance "
      "FROM readings r JOIN entries e ON e.id = r.entry" +
          (where.text().empty() ? std::string(" WHERE ") : where.text() + " AND ") +
          "r.name = :name ORDER BY e.made, r.entry",
      [&, &view = view] {
        found.push_back({.entry = entry,
                         .made_s = made,
                         .reading = figure.reading(name, kinds.of(measurement, name)),
                         .view = view,
                         .circumstance = circumstance});
        circumstances.try_emplace(circumstance);
      },
      soci::into(entry), soci::into(made), soci::into(measurement), soci::into(view), soci::into(value),
      soci::into(uncertainty), soci::into(bound), soci::into(unit), soci::into(circumstance), where,
      soci::use(wanted, "name"));
  for (auto& [id, conditions] : circumstances) {
    long long key = id;
    impl_->rows(
        "SELECT json FROM circumstances WHERE id = :id",
        [&, &conditions = conditions] { conditions = parse_conditions(json); }, soci::into(json),
        soci::use(key, "id"));
  }
  for (KeptReading& one : found) one.reading.conditions = circumstances.at(one.circumstance);
  return found;
}

std::vector<KeptReading> Logbook::readings_of(std::int64_t id) const {
  const Sheet whole = sheet(id);
  const auto entry = entries({.ids = {id}});
  std::vector<KeptReading> found;
  for (const Reading& reading : whole.readings) {
    found.push_back({.entry = id,
                     .made_s = entry.front().made_s,
                     .reading = reading,
                     .view = reading.channel.value_or(-1)});
    found.back().reading.conditions = comparable(whole.measurement, reading);
  }
  return found;
}

std::vector<std::string> Logbook::reading_names() const {
  std::vector<std::string> names;
  std::string name;
  // From one name to the next by the index: not through a million readings.
  std::string last;
  for (bool more = true; more;) {
    more = false;
    impl_->rows(
        "SELECT name FROM readings WHERE name > :last ORDER BY name LIMIT 1", [&] { more = true; },
        soci::into(name), soci::use(last, "last"));
    if (more) names.push_back(last = name);
  }
  return names;
}

std::vector<std::string> Logbook::labels() const {
  std::vector<std::string> labels;
  std::string label;
  impl_->rows(
      "SELECT DISTINCT label FROM entries WHERE label <> '' ORDER BY label", [&] { labels.push_back(label); },
      soci::into(label));
  return labels;
}

void Logbook::forget(const std::vector<std::int64_t>& ids) {
  impl_->database.transaction("forgotten", [&](soci::session& sql) {
    for (const std::int64_t id : ids) {
      long long key = id, there = 0;
      sql << "SELECT count(*) FROM entries WHERE id = :id", soci::use(key, "id"), soci::into(there);
      if (there == 0) no_entry(name(), id);
      sql << "DELETE FROM entries WHERE id = :id", soci::use(key, "id");
    }
  });
}

void Logbook::export_lines(const EntryFilter& filter,
                           const std::function<void(const std::string&)>& take) const {
  for (const LogbookEntry& entry : entries(filter)) {
    std::string json, fingerprint;
    long long key = entry.id;
    impl_->rows(
        "SELECT s.json, e.fingerprint FROM sheets s JOIN entries e ON e.id = s.entry WHERE s.entry = :entry",
        [] {}, soci::into(json), soci::into(fingerprint), soci::use(key, "entry"));
    Json notes;
    notes["label"] = entry.label;
    notes["tags"] = Json::object();
    for (const auto& [tag, value] : entry.tags) notes["tags"][tag] = value;
    notes["on"] = time_text(entry.made_s);
    Json line;
    line["notes"] = std::move(notes);
    line["fingerprint"] = fingerprint;
    line["sheet"] = Json::parse(json, nullptr, false);
    take(line.dump(-1, ' ', false, Json::error_handler_t::replace));
  }
}

std::vector<std::string> Logbook::faults() const {
  std::vector<std::string> faults;
  if (!impl_->database.server()) {
    std::string told;
    impl_->rows(
        "PRAGMA integrity_check(20)",
        [&] {
          if (told != "ok") faults.push_back("the file is damaged: " + told);
        },
        soci::into(told));
    if (!faults.empty()) return faults;
  }
  for (const LogbookEntry& entry : entries({})) try {
      const Sheet kept = sheet(entry.id);
      const auto figures = static_cast<long long>(std::count_if(
          kept.readings.begin(), kept.readings.end(), [](const Reading& r) { return r.value.has_value(); }));
      long long there = 0, key = entry.id;
      impl_->rows(
          "SELECT count(*) FROM readings WHERE entry = :entry", [] {}, soci::into(there),
          soci::use(key, "entry"));
      if (there != figures)
        faults.push_back(fmt::format("entry {}: of its {} figures {} are there", entry.id, figures, there));
    } catch (const Error& error) {
      faults.push_back(fmt::format("entry {}: its sheet cannot be read: {}", entry.id, error.what()));
    }
  return faults;
}

std::int64_t Logbook::latest_kept_s() const {
  long long latest = 0;
  impl_->rows(
      "SELECT COALESCE(MAX(kept), 0) FROM entries", [] {}, soci::into(latest));
  return latest;
}

const std::string& Logbook::name() const noexcept { return impl_->database.name(); }

}  // namespace wavicon
