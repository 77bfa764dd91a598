// SPDX-License-Identifier: MIT
#include "bench/database.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <initializer_list>
#include <span>
#include <string_view>
#include <vector>

namespace wavicon::bench_detail {
namespace {

namespace fs = std::filesystem;

constexpr int kPatienceS = 60;  // for another program that writes
constexpr int kTries = 8;

bool holds(const std::string& text, std::string_view part) { return text.find(part) != std::string::npos; }

// In front of the first line of what a server says.
std::string first_line(std::string text) {
  for (const char* lead : {"Cannot establish connection to the database.", "\n"})
    if (text.rfind(lead, 0) == 0) text.erase(0, std::string(lead).size());
  while (!text.empty() && (text.front() == '\n' || text.front() == ' ')) text.erase(0, 1);
  return text.substr(0, text.find('\n'));
}

// Text that is the same for both stores but for its types.
std::vector<std::string> steps(int version, bool server) {
  const std::string key = server ? "BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY" : "INTEGER PRIMARY KEY",
                    real = server ? "DOUBLE PRECISION" : "REAL", plain = server ? "" : " WITHOUT ROWID";
  if (version == 1)
    return {
        "CREATE TABLE entries (id " + key +
            ", fingerprint TEXT NOT NULL UNIQUE, made BIGINT NOT NULL, kept BIGINT NOT NULL, "
            "measurement TEXT NOT NULL, capture TEXT NOT NULL, label TEXT NOT NULL, chain TEXT NOT NULL, "
            "stimulus TEXT NOT NULL, version TEXT NOT NULL, arithmetic INTEGER NOT NULL, "
            "machine TEXT NOT NULL, words TEXT NOT NULL)",
        "CREATE INDEX entries_by_time ON entries (made, id)",
        "CREATE INDEX entries_by_label ON entries (label)",
        "CREATE TABLE sheets (entry BIGINT PRIMARY KEY REFERENCES entries (id) ON DELETE CASCADE, "
        "json TEXT NOT NULL)",
        "CREATE TABLE tags (entry BIGINT NOT NULL REFERENCES entries (id) ON DELETE CASCADE, "
        "tag TEXT NOT NULL, value TEXT NOT NULL, PRIMARY KEY (entry, tag))" +
            plain,
        "CREATE TABLE circumstances (id " + key + ", json TEXT NOT NULL UNIQUE)",
        "CREATE TABLE readings (entry BIGINT NOT NULL REFERENCES entries (id) ON DELETE CASCADE, "
        "place INTEGER NOT NULL, name TEXT NOT NULL, view INTEGER NOT NULL, value " +
            real + " NOT NULL, uncertainty " + real +
            " NOT NULL, bound INTEGER NOT NULL, unit TEXT NOT NULL, "
            "circumstance BIGINT NOT NULL REFERENCES circumstances (id), PRIMARY KEY (entry, place))" +
            plain,
    };
  // Ranks and trends read from the index alone.
  return {
      "CREATE INDEX readings_by_name ON readings (name, entry, view, value, uncertainty, bound, unit, "
      "circumstance)"};
}

}  // namespace

Database::Database(const StoreAddress& address, Logbook::Access access) : address_(address) {
  if (!address_.server) {
    const fs::path path(address_.path);
    std::error_code failure;
    const bool there = fs::exists(path, failure);
    if (!there && access == Logbook::Access::look)
      throw Error(ErrorCode::bad_input,
                  fmt::format("{}: there is no logbook yet: --keep, with any measurement, makes it", name()));
    if (fs::is_directory(path, failure))
      throw Error(ErrorCode::bad_input, fmt::format("{}: is a folder; a logbook is a file", name()));
    if (!there && !path.parent_path().empty()) {
      fs::create_directories(path.parent_path(), failure);
      if (failure)
        throw Error(ErrorCode::bad_input,
                    fmt::format("{}: its folder cannot be made ({})", name(), failure.message()));
    }
  }
  open();
  require_ours(access);
}

void Database::open() {
  try {
    session_ = std::make_unique<soci::session>();
    if (address_.server) {
      session_->open("postgresql", address_.parameters);
    } else {
      session_->open("sqlite3", fmt::format("db=\"{}\" timeout={}", address_.path, kPatienceS));
    }
  } catch (const soci::soci_error& error) {
    fail(error.get_error_message(), "opened");
  }
}

void Database::require_ours(Logbook::Access access) {
  int version = 0;
  bool made = false;
  guarded("opened", [&](soci::session& sql) {
    long long tables = 0, own = 0;
    if (server()) {
      sql << "SET client_min_messages = error";
      sql << "SELECT count(*) FROM pg_namespace WHERE nspname = 'wavicon'", soci::into(own);
      // Several programs may come at once, and "if not exists" does not hold between them.
      if (own == 0 && access == Logbook::Access::keep) {
        sql << "SELECT pg_advisory_lock(7839204)";
        sql << "CREATE SCHEMA IF NOT EXISTS wavicon";
        sql << "SELECT pg_advisory_unlock(7839204)";
      }
      sql << "SET search_path = wavicon";
      sql << "SELECT count(*) FROM pg_tables WHERE schemaname = 'wavicon'", soci::into(tables);
      sql << "SELECT count(*) FROM pg_tables WHERE schemaname = 'wavicon' AND tablename = 'logbook'",
          soci::into(own);
    } else {
      // Read first: what is no database is not written to.
      sql << "SELECT count(*) FROM sqlite_master", soci::into(tables);
      sql << "SELECT count(*) FROM sqlite_master WHERE type = 'table' AND name = 'logbook'", soci::into(own);
      sql << "PRAGMA foreign_keys = ON";
    }
    made = own > 0;
    if (!made && tables > 0)
      throw Error(ErrorCode::bad_input,
                  fmt::format("{}: is a database of something else, and was not touched: name another place "
                              "with --logbook",
                              name()));
    if (made) sql << "SELECT version FROM logbook", soci::into(version);
  });
  if (version > kSchema)
    throw Error(
        ErrorCode::bad_input,
        fmt::format("{}: was written by a newer wavicon (its version is {}, this program knows up to {}): "
                    "use that one here as well",
                    name(), version, kSchema));
  if (!made && access == Logbook::Access::look)
    throw Error(ErrorCode::bad_input,
                fmt::format("{}: there is no logbook yet: --keep, with any measurement, makes it", name()));
  if (version < kSchema) migrate(version);
}

// Several programs may come at once: the first one does it.
void Database::migrate(int from) {
  if (!server() && from == 0) try {
      std::string mode;
      *session_ << "PRAGMA journal_mode = WAL", soci::into(mode);
    } catch (const soci::soci_error& error) {
      // Another program is doing it.
      if (!holds(error.get_error_message(), "locked")) fail(error.get_error_message(), "made");
    }
  transaction("brought to this version", [&](soci::session& sql) {
    if (server()) sql << "SELECT pg_advisory_xact_lock(7839204)";
    long long own = 0;
    int version = 0;
    if (server())
      sql << "SELECT count(*) FROM pg_tables WHERE schemaname = 'wavicon' AND tablename = 'logbook'",
          soci::into(own);
    else
      sql << "SELECT count(*) FROM sqlite_master WHERE type = 'table' AND name = 'logbook'", soci::into(own);
    if (own == 0) {
      sql << "CREATE TABLE logbook (version INTEGER NOT NULL)";
      sql << "INSERT INTO logbook (version) VALUES (0)";
    } else {
      sql << "SELECT version FROM logbook", soci::into(version);
    }
    for (int next = version + 1; next <= kSchema; ++next)
      for (const std::string& step : steps(next, server())) sql << step;
    const int schema = kSchema;
    sql << "UPDATE logbook SET version = :version", soci::use(schema, "version");
  });
}

void Database::transaction(const std::string& doing, const std::function<void(soci::session&)>& work) {
  for (int tried = 1;; ++tried) {
    bool begun = false;
    const auto undo = [&] {
      if (!begun) return;
      try {
        *session_ << "ROLLBACK";
      } catch (const soci::soci_error&) {
        // The connection is gone, and the transaction with it.
      }
    };
    try {
      *session_ << (server() ? "BEGIN" : "BEGIN IMMEDIATE");
      begun = true;
      work(*session_);
      *session_ << "COMMIT";
      return;
    } catch (const soci::soci_error& error) {
      const std::string reason = error.get_error_message();
      undo();
      const bool crossed = holds(reason, "deadlock detected") || holds(reason, "could not serialize");
      if (!crossed || tried == kTries) fail(reason, doing);
    } catch (...) {
      undo();
      throw;
    }
  }
}

void Database::fail(const std::string& reason, const std::string& doing) const {
  struct Told {
    std::initializer_list<const char*> when;  // any of these is in what the store said
    ErrorCode code;
    std::string what;
  };
  const auto nothing = [&](const char* why) { return fmt::format("{}; nothing was {}", why, doing); };
  const std::string line = first_line(reason);
  const Told of_server[] = {
      {{"authentication failed", "no password supplied"},
       ErrorCode::bad_input,
       "the server does not accept this user and password: they stand in the address, in PGPASSWORD or in "
       "~/.pgpass"},
      {{"Cannot establish connection", "connection to server"},
       ErrorCode::bad_input,
       "no connection to the server: " + line},
      {{"server closed the connection", "terminating connection", "no connection to the server",
        "SSL connection has been closed"},
       ErrorCode::bad_input,
       fmt::format("the connection to the server was lost; nothing was {} by this: do it again", doing)},
      {{"permission denied"}, ErrorCode::bad_input, "the server does not allow it: " + line},
  };
  const Told of_file[] = {
      {{"file is not a database"}, ErrorCode::bad_input, "is no logbook and no database; it was not touched"},
      {{"malformed", "database corruption"},
       ErrorCode::bad_input,
       "is damaged: 'wavicon logbook check' says where, 'wavicon logbook export' saves what can be read"},
      {{"readonly database"},
       doing == "opened" ? ErrorCode::bad_input : ErrorCode::write_failed,
       doing == "opened"
           ? "its folder may not be written to, which is needed even to look at it: copy it elsewhere"
           : nothing("may not be written to")},
      {{"disk is full", "disk I/O error"}, ErrorCode::write_failed, nothing("the disk is full or broken")},
      {{"unable to open database file"},
       ErrorCode::bad_input,
       "cannot be opened: its folder is not there, or may not be read or written"},
      {{"is locked"},
       ErrorCode::bad_input,
       fmt::format("another program has been writing to it for {} s; nothing was {}", kPatienceS, doing)},
      {{"Failed to find shared library", "Failed to open:"},
       ErrorCode::bad_input,
       "what opens it is not installed: the package libsoci-sqlite3-4.0"},
  };
  const auto look = [&](std::span<const Told> table) {
    for (const Told& told : table)
      if (std::any_of(told.when.begin(), told.when.end(),
                      [&](const char* part) { return holds(reason, part); }))
        throw Error(told.code, fmt::format("logbook {}: {}", name(), told.what));
  };
  if (holds(reason, "Failed to find shared library") && address_.server)
    throw Error(
        ErrorCode::bad_input,
        fmt::format("logbook {}: what opens it is not installed: the package libsoci-postgresql4.0", name()));
  address_.server ? look(of_server) : look(of_file);
  throw Error(ErrorCode::bad_input, fmt::format("logbook {}: cannot be {}: {}", name(), doing, line));
}

}  // namespace wavicon::bench_detail
