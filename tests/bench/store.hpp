// SPDX-License-Identifier: MIT
#pragma once
// Stores of the two kinds for tests: a file, and a server that the tests start.

#include <gtest/gtest.h>
#include <soci/soci-config.h>
#undef SOCI_HAVE_BOOST
#undef SOCI_HAVE_BOOST_DATE_TIME
#include <soci/soci.h>

#include <memory>
#include <string>

#include "support.hpp"
#include "wavicon/bench/history.hpp"
#include "wavicon/bench/logbook.hpp"

namespace wavicon::testing {

/// One PostgreSQL server for all tests of a run, in a folder and on a port of its own; started when the first
/// test asks for it.
class Server {
 public:
  /// Null where PostgreSQL is not installed and cannot be: why() says so.
  static Server* shared();
  static std::string why();
  ~Server();

  [[nodiscard]] std::string url(const std::string& user = "studio",
                                const std::string& password = "heather") const {
    return "postgresql://" + user + ":" + password + "@127.0.0.1:" + std::to_string(port_) + "/postgres";
  }
  /// Takes away what tests before it left there.
  void clear() const;
  /// Runs a statement as the server's owner.
  void run(const std::string& sql) const;

 private:
  Server() = default;
  TemporaryFolder folder_;
  int port_ = 0;
  bool started_ = false;
};

/// A sheet of the noise of one capture: one channel for each level.
inline Sheet noise_sheet_of(const std::string& file, std::vector<double> levels_dbfs,
                            double uncertainty_db = 0.1, double rate_hz = 48000) {
  Sheet sheet{.measurement = "noise",
              .capture = {file, "24-bit", rate_hz, static_cast<int>(levels_dbfs.size()), 96000}};
  for (std::size_t c = 0; c < levels_dbfs.size(); ++c) {
    Reading reading{"noise_dbfs", static_cast<int>(c), levels_dbfs[c], "dBFS"};
    reading.uncertainty = uncertainty_db;
    reading.conditions = {{"bandwidth_hz", std::vector<double>{20, 20000}},
                          {"from_s", 0.1 * static_cast<double>(c)},
                          {"sample_rate_hz", rate_hz}};
    sheet.readings.push_back(reading);
  }
  return sheet;
}

/// Tests run on both kinds of store.
class Stores : public ::testing::TestWithParam<std::string> {
 protected:
  void SetUp() override {
    if (GetParam() == "server") {
      server_ = Server::shared();
      if (server_ == nullptr) GTEST_SKIP() << Server::why();
      server_->clear();
    }
  }
  [[nodiscard]] std::string url() const {
    return server_ != nullptr ? server_->url() : folder_.file("logbook.sqlite");
  }
  [[nodiscard]] Logbook open() const { return Logbook(url(), Logbook::Access::keep); }
  /// Past our own code.
  void raw(const std::string& sql) const {
    if (server_ != nullptr) {
      server_->run("SET search_path = wavicon; " + sql);
      return;
    }
    soci::session session("sqlite3", "db=\"" + url() + "\"");
    session << sql;
  }
  static std::int64_t keep(Logbook& logbook, const Sheet& sheet, const std::string& label,
                           const std::string& day = "", const Tags& tags = {}) {
    EntryNotes notes{.label = label, .tags = tags};
    if (!day.empty()) notes.on_s = parse(day);
    return logbook.keep({sheet}, notes).front().id;
  }
  static std::int64_t parse(const std::string& day);

  TemporaryFolder folder_;
  Server* server_ = nullptr;
};

}  // namespace wavicon::testing
