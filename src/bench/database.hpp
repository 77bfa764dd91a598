// SPDX-License-Identifier: MIT
#pragma once
// The way to a store: opened, brought to the schema of this program, its errors told as ours. Internal to
// `bench`.

#include <functional>
#include <string>

#include "bench/address.hpp"
#include "bench/soci.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/bench/logbook.hpp"

namespace wavicon::bench_detail {

class Database {
 public:
  /// @throws Error as Logbook.
  Database(const StoreAddress& address, Logbook::Access access);

  /// Runs it with what the store says told as ours. @param doing  "kept", "read".
  template <typename Work>
  auto guarded(const std::string& doing, Work&& work) {
    try {
      return work(*session_);
    } catch (const soci::soci_error& error) {
      fail(error.get_error_message(), doing);
    }
  }
  /// All of it or nothing; again where another program was in the way.
  void transaction(const std::string& doing, const std::function<void(soci::session&)>& work);

  [[nodiscard]] bool server() const { return address_.server; }
  [[nodiscard]] const std::string& name() const { return address_.name; }

 private:
  void open();
  void require_ours(Logbook::Access access);
  void migrate(int from);
  [[noreturn]] void fail(const std::string& reason, const std::string& doing) const;

  StoreAddress address_;
  std::unique_ptr<soci::session> session_;
};

/// Of the schema that this program writes.
inline constexpr int kSchema = 2;

}  // namespace wavicon::bench_detail
