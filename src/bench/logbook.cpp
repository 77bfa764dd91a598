// SPDX-License-Identifier: MIT
#include "wavicon/bench/logbook.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cstdlib>
#include <filesystem>
#include <map>
#include <nlohmann/json.hpp>
#include <set>

#include "bench/conditions.hpp"
#include "bench/database.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/file/sheet_context.hpp"
#include "wavicon/file/sheet_file.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;
using Json = nlohmann::ordered_json;

constexpr std::size_t kLongestNote = 200;  // bytes of a label, a tag's name or its value

std::string lower(std::string text) {
  for (char& c : text) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  return text;
}

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

// A sheet as it is kept, by its notes.
struct Ready {
  LogbookEntry entry;
  std::string fingerprint, words, json;
  struct Figure {
    long long place = 0;
    std::string name, unit, circumstances;
    int view = -1, bound = 0;
    double value = 0, uncertainty = 0;
  };
  std::vector<Figure> figures;
};

std::string joined(const std::vector<std::string>& lines) {
  std::string text;
  for (const std::string& line : lines) text += (text.empty() ? "" : "\n") + line;
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
  std::string identity = sheets_to_json({sheet}) + "\n" + notes.label;
  Tags tags = notes.tags;
  std::sort(tags.begin(), tags.end());
  for (const auto& [tag, value] : tags) identity += fmt::format("\n{}={}", tag, value);
  if (notes.on_s) identity += "\n" + time_text(*notes.on_s);
  result.fingerprint = digest_of(identity);
  context.made_s = made_s;
  context.machine = machine;
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
  result.words = lower(joined(words));
  long long place = 0;
  for (const Reading& reading : sheet.readings) {
    ++place;
    if (!reading.value) continue;
    result.figures.push_back({place, printable(reading.name), printable(reading.unit),
                              conditions_text(comparable(reading.conditions)), reading.channel.value_or(-1),
                              reading.bound ? 1 : 0, *reading.value, reading.uncertainty.value_or(0)});
  }
  return result;
}

// What entries have to be, in SQL that holds no text of anybody's: values are bound.
class Where {
 public:
  explicit Where(const EntryFilter& filter) {
    for (const std::string& word : filter.words) {
      std::string pattern = "%";
      for (const char c : lower(word)) {
        if (c == '%' || c == '_' || c == '\\') pattern += '\\';
        pattern += c;
      }
      add("e.words LIKE :{} ESCAPE '\\'", pattern + "%");
    }
    for (const auto& [tag, value] : filter.tags) {
      const std::string name = keep(tag);
      add("EXISTS (SELECT 1 FROM tags t WHERE t.entry = e.id AND t.tag = :" + name + " AND t.value = :{})",
          value);
    }
    if (filter.label) add("e.label = :{}", *filter.label);
    if (filter.measurement) add("e.measurement = :{}", *filter.measurement);
    if (filter.since_s) add("e.made >= :{}", *filter.since_s);
    if (filter.until_s) add("e.made < :{}", *filter.until_s);
    if (!filter.ids.empty()) {
      std::string list;
      for (const std::int64_t id : filter.ids) list += (list.empty() ? ":" : ", :") + keep(id);
      condition("e.id IN (" + list + ")");
    }
  }

  /// " WHERE …", or nothing.
  [[nodiscard]] const std::string& text() const { return text_; }
  void bind(soci::statement& statement) {
    for (auto& [name, value] : texts_) statement.exchange(soci::use(value, name));
    for (auto& [name, value] : numbers_) statement.exchange(soci::use(value, name));
  }

 private:
  void condition(const std::string& sql) { text_ += (text_.empty() ? " WHERE " : " AND ") + sql; }
  template <typename Value>
  void add(const std::string& sql, const Value& value) {
    const auto hole = sql.find("{}");
    condition(sql.substr(0, hole) + keep(value) + sql.substr(hole + 2));
  }
  std::string keep(const std::string& text) { return texts_.emplace_back(next(), text).first; }
  std::string keep(std::int64_t number) {
    return numbers_.emplace_back(next(), static_cast<long long>(number)).first;
  }
  std::string next() { return fmt::format("p{}", texts_.size() + numbers_.size()); }

  std::string text_;
  std::vector<std::pair<std::string, std::string>> texts_;
  std::vector<std::pair<std::string, long long>> numbers_;
};

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
  template <typename Bind, typename Take>
  void rows(const std::string& query, Bind&& bind, Take&& take) {
    database.guarded("read", [&](soci::session& sql) {
      soci::statement statement(sql);
      bind(statement);
      statement.alloc();
      statement.prepare(query);
      statement.define_and_bind();
      if (!statement.execute(true)) return;
      do take();
      while (statement.fetch());
    });
  }

  mutable Database database;
};

void link_entries(std::vector<Sheet>& sheets) {
  for (Sheet& sheet : sheets)
    for (Reading& reading : sheet.readings) reading.entry = entry_of(sheet.measurement, reading.name);
}

std::string name_of(const LogbookEntry& entry) {
  if (!entry.label.empty()) return entry.label;
  if (!entry.chain.empty()) {
    std::string text;
    for (std::size_t at = 0; at != std::string::npos && at < entry.chain.size();) {
      const auto end = entry.chain.find('\n', at);
      std::string unit = entry.chain.substr(at, end == std::string::npos ? end : end - at);
      text += (text.empty() ? "" : " → ") + unit.substr(0, unit.rfind(" ("));
      at = end == std::string::npos ? end : end + 1;
    }
    return text;
  }
  return std::filesystem::path(entry.capture).stem().string();
}

Logbook::Logbook(const std::string& url, Access access) : impl_(std::make_unique<Impl>(url, access)) {}
Logbook::~Logbook() = default;
Logbook::Logbook(Logbook&&) noexcept = default;
Logbook& Logbook::operator=(Logbook&&) noexcept = default;

namespace {

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

}  // namespace

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

bool is_export(const std::string& text) {
  const std::string line = text.substr(0, text.find('\n'));
  const Json json = Json::parse(line, nullptr, false);
  return json.is_object() && json.contains("notes") && json.contains("sheet");
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

std::vector<LogbookEntry> Logbook::entries(const EntryFilter& filter, std::size_t most) const {
  std::vector<LogbookEntry> found;
  Where where(filter);
  LogbookEntry e;
  long long id = 0, made = 0, kept = 0, limit = static_cast<long long>(most);
  impl_->rows(
      "SELECT e.id, e.made, e.kept, e.measurement, e.capture, e.label, e.chain, e.stimulus, e.version, "
      "e.arithmetic, e.machine FROM entries e" +
          where.text() + " ORDER BY e.made DESC, e.id DESC" + (most > 0 ? " LIMIT :most" : ""),
      [&](soci::statement& s) {
        s.exchange(soci::into(id));
        s.exchange(soci::into(made));
        s.exchange(soci::into(kept));
        s.exchange(soci::into(e.measurement));
        s.exchange(soci::into(e.capture));
        s.exchange(soci::into(e.label));
        s.exchange(soci::into(e.chain));
        s.exchange(soci::into(e.stimulus));
        s.exchange(soci::into(e.version));
        s.exchange(soci::into(e.arithmetic));
        s.exchange(soci::into(e.machine));
        where.bind(s);
        if (most > 0) s.exchange(soci::use(limit, "most"));
      },
      [&] {
        e.id = id;
        e.made_s = made;
        e.kept_s = kept;
        found.push_back(e);
      });
  std::reverse(found.begin(), found.end());
  for (LogbookEntry& entry : found) {
    std::string tag, value;
    id = entry.id;
    impl_->rows(
        "SELECT tag, value FROM tags WHERE entry = :entry ORDER BY tag",
        [&](soci::statement& s) {
          s.exchange(soci::into(tag));
          s.exchange(soci::into(value));
          s.exchange(soci::use(id, "entry"));
        },
        [&] { entry.tags.emplace_back(tag, value); });
  }
  return found;
}

std::int64_t Logbook::count(const EntryFilter& filter) const {
  Where where(filter);
  long long count = 0;
  impl_->rows(
      "SELECT count(*) FROM entries e" + where.text(),
      [&](soci::statement& s) {
        s.exchange(soci::into(count));
        where.bind(s);
      },
      [] {});
  return count;
}

Sheet Logbook::sheet(std::int64_t id) const {
  std::string json, measurement;
  long long key = id;
  bool found = false;
  impl_->rows(
      "SELECT json FROM sheets WHERE entry = :entry",
      [&](soci::statement& s) {
        s.exchange(soci::into(json));
        s.exchange(soci::use(key, "entry"));
      },
      [&] { found = true; });
  if (!found) no_entry(name(), id);
  Sheet sheet = sheets_from_json(json, fmt::format("logbook {}, entry {}", name(), id)).front();
  for (Reading& reading : sheet.readings) reading.entry = entry_of(sheet.measurement, reading.name);
  return sheet;
}

Sheet Logbook::figures(std::int64_t id) const {
  Sheet sheet;
  long long key = id;
  impl_->rows(
      "SELECT measurement, capture FROM entries WHERE id = :id",
      [&](soci::statement& s) {
        s.exchange(soci::into(sheet.measurement));
        s.exchange(soci::into(sheet.capture.file));
        s.exchange(soci::use(key, "id"));
      },
      [] {});
  if (sheet.measurement.empty()) no_entry(name(), id);
  std::string name, unit;
  int view = 0, bound = 0;
  double value = 0, uncertainty = 0;
  impl_->rows(
      "SELECT name, view, value, uncertainty, bound, unit FROM readings WHERE entry = :id ORDER BY place",
      [&](soci::statement& s) {
        s.exchange(soci::into(name));
        s.exchange(soci::into(view));
        s.exchange(soci::into(value));
        s.exchange(soci::into(uncertainty));
        s.exchange(soci::into(bound));
        s.exchange(soci::into(unit));
        s.exchange(soci::use(key, "id"));
      },
      [&] {
        Reading reading{.name = name, .value = value, .unit = unit, .bound = bound != 0};
        if (view >= 0) reading.channel = view;
        if (uncertainty > 0) reading.uncertainty = uncertainty;
        reading.entry = entry_of(sheet.measurement, name);
        sheet.capture.channels = std::max(sheet.capture.channels, view + 1);
        sheet.readings.push_back(std::move(reading));
      });
  return sheet;
}

std::map<std::string, std::vector<std::int64_t>> Logbook::entries_by_tag(const std::string& tag) const {
  std::map<std::string, std::vector<std::int64_t>> found;
  std::string wanted = tag, value;
  long long entry = 0;
  impl_->rows(
      "SELECT value, entry FROM tags WHERE tag = :tag ORDER BY entry",
      [&](soci::statement& s) {
        s.exchange(soci::into(value));
        s.exchange(soci::into(entry));
        s.exchange(soci::use(wanted, "tag"));
      },
      [&] { found[value].push_back(entry); });
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
  std::string unit, measurement, json;
  int view = 0, bound = 0;
  double value = 0, uncertainty = 0;
  std::vector<KeptReading> found;
  Kinds kinds;
  std::string wanted = name;
  impl_->rows(
      "SELECT r.entry, e.made, e.measurement, r.view, r.value, r.uncertainty, r.bound, r.unit, "
      "r.circumstance "
      "FROM readings r JOIN entries e ON e.id = r.entry" +
          (where.text().empty() ? std::string(" WHERE ") : where.text() + " AND ") +
          "r.name = :name ORDER BY e.made, r.entry",
      [&](soci::statement& s) {
        s.exchange(soci::into(entry));
        s.exchange(soci::into(made));
        s.exchange(soci::into(measurement));
        s.exchange(soci::into(view));
        s.exchange(soci::into(value));
        s.exchange(soci::into(uncertainty));
        s.exchange(soci::into(bound));
        s.exchange(soci::into(unit));
        s.exchange(soci::into(circumstance));
        where.bind(s);
        s.exchange(soci::use(wanted, "name"));
      },
      [&] {
        KeptReading one{.entry = entry, .made_s = made};
        one.view = view;
        one.reading.name = name;
        if (view >= 0) one.reading.channel = view;
        one.reading.value = value;
        if (uncertainty > 0) one.reading.uncertainty = uncertainty;
        one.reading.bound = bound != 0;
        one.reading.unit = unit;
        one.reading.entry = kinds.of(measurement, name);
        one.circumstance = circumstance;
        found.push_back(std::move(one));
        circumstances.try_emplace(circumstance);
      });
  for (auto& [id, conditions] : circumstances) {
    long long key = id;
    impl_->rows(
        "SELECT json FROM circumstances WHERE id = :id",
        [&](soci::statement& s) {
          s.exchange(soci::into(json));
          s.exchange(soci::use(key, "id"));
        },
        [&] { conditions = parse_conditions(json); });
  }
  for (KeptReading& one : found) one.reading.conditions = circumstances.at(one.circumstance);
  return found;
}

std::vector<KeptReading> Logbook::readings_of(std::int64_t id) const {
  const Sheet whole = sheet(id);
  const auto entry = entries({.ids = {id}});
  std::vector<KeptReading> found;
  for (const Reading& reading : whole.readings) {
    KeptReading one{.entry = id, .made_s = entry.front().made_s, .reading = reading};
    one.view = reading.channel.value_or(-1);
    one.reading.conditions = comparable(reading.conditions);
    found.push_back(std::move(one));
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
        "SELECT name FROM readings WHERE name > :last ORDER BY name LIMIT 1",
        [&](soci::statement& s) {
          s.exchange(soci::into(name));
          s.exchange(soci::use(last, "last"));
        },
        [&] { more = true; });
    if (more) names.push_back(last = name);
  }
  return names;
}

std::vector<std::string> Logbook::labels() const {
  std::vector<std::string> labels;
  std::string label;
  impl_->rows(
      "SELECT DISTINCT label FROM entries WHERE label <> '' ORDER BY label",
      [&](soci::statement& s) { s.exchange(soci::into(label)); }, [&] { labels.push_back(label); });
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
        [&](soci::statement& s) {
          s.exchange(soci::into(json));
          s.exchange(soci::into(fingerprint));
          s.exchange(soci::use(key, "entry"));
        },
        [] {});
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
        "PRAGMA integrity_check(20)", [&](soci::statement& s) { s.exchange(soci::into(told)); },
        [&] {
          if (told != "ok") faults.push_back("the file is damaged: " + told);
        });
    if (!faults.empty()) return faults;
  }
  for (const LogbookEntry& entry : entries({})) try {
      const Sheet kept = sheet(entry.id);
      const auto figures = static_cast<long long>(std::count_if(
          kept.readings.begin(), kept.readings.end(), [](const Reading& r) { return r.value.has_value(); }));
      long long there = 0, key = entry.id;
      impl_->rows(
          "SELECT count(*) FROM readings WHERE entry = :entry",
          [&](soci::statement& s) {
            s.exchange(soci::into(there));
            s.exchange(soci::use(key, "entry"));
          },
          [] {});
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
      "SELECT COALESCE(MAX(kept), 0) FROM entries",
      [&](soci::statement& s) { s.exchange(soci::into(latest)); }, [] {});
  return latest;
}

const std::string& Logbook::name() const noexcept { return impl_->database.name(); }

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
