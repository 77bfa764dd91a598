// SPDX-License-Identifier: MIT
#pragma once
// Which entries are meant, in SQL. Internal to `bench`.

#include <fmt/format.h>

#include <string>
#include <utility>
#include <vector>

#include "bench/ready.hpp"
#include "bench/soci.hpp"

namespace wavicon::bench_detail {

/// What entries have to be, in SQL that holds no text of anybody's: values are bound.
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
    for (const auto& tag : filter.tags) add_tag("", tag);
    for (const auto& tag : filter.without) add_tag("NOT ", tag);
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
  void add_tag(const std::string& whether, const std::pair<std::string, std::string>& tag) {
    const std::string name = keep(tag.first);
    add(whether + "EXISTS (SELECT 1 FROM tags t WHERE t.entry = e.id AND t.tag = :" + name +
            " AND t.value = :{})",
        tag.second);
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

}  // namespace wavicon::bench_detail
