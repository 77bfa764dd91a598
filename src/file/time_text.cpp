// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <chrono>
#include <cstdio>

#include "wavicon/audio/error.hpp"
#include "wavicon/file/sheet_file.hpp"

namespace wavicon {

std::string time_text(std::int64_t seconds) {
  const std::chrono::sys_seconds time{std::chrono::seconds{seconds}};
  const auto day = std::chrono::floor<std::chrono::days>(time);
  const std::chrono::year_month_day date{day};
  const std::chrono::hh_mm_ss clock{time - day};
  return fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}Z", static_cast<int>(date.year()),
                     static_cast<unsigned>(date.month()), static_cast<unsigned>(date.day()),
                     clock.hours().count(), clock.minutes().count(), clock.seconds().count());
}

std::int64_t parse_time(const std::string& text) {
  int year = 0, hour = 0, minute = 0, second = 0, of_date = 0, of_time = 0;
  unsigned month = 0, day = 0;
  bool understood = std::sscanf(text.c_str(), "%4d-%2u-%2u%n", &year, &month, &day, &of_date) == 3;
  const std::string clock = understood ? text.substr(static_cast<std::size_t>(of_date)) : "";
  const auto whole = [&] { return static_cast<std::size_t>(of_time) == clock.size(); };
  if (!clock.empty())
    understood =
        (std::sscanf(clock.c_str(), "T%2d:%2d:%2dZ%n", &hour, &minute, &second, &of_time) == 3 && whole()) ||
        (std::sscanf(clock.c_str(), "T%2d:%2d%n", &hour, &minute, &of_time) == 2 && whole());
  const std::chrono::year_month_day date{std::chrono::year{year}, std::chrono::month{month},
                                         std::chrono::day{day}};
  const auto within = [](int value, int most) { return value >= 0 && value <= most; };
  if (!understood || !date.ok() || year < 1970 || !within(hour, 23) || !within(minute, 59) ||
      !within(second, 59))
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("'{}' is no date such as 2026-03-02, or with a time 2026-03-02T14:30 (UTC)", text));
  const std::chrono::sys_seconds time = std::chrono::sys_days{date} + std::chrono::hours{hour} +
                                        std::chrono::minutes{minute} + std::chrono::seconds{second};
  return time.time_since_epoch().count();
}

}  // namespace wavicon
