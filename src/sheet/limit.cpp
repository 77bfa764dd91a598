// SPDX-License-Identifier: MIT
#include "wavicon/sheet/limit.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <cstdlib>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"

namespace wavicon {
namespace {

std::string trimmed(const std::string& text) {
  const auto first = text.find_first_not_of(" \t");
  if (first == std::string::npos) return "";
  return text.substr(first, text.find_last_not_of(" \t") - first + 1);
}

bool holds(Limit::Relation relation, double value, double bound) {
  switch (relation) {
    case Limit::Relation::less:
      return value < bound;
    case Limit::Relation::less_equal:
      return value <= bound;
    case Limit::Relation::greater:
      return value > bound;
    default:
      return value >= bound;
  }
}

LimitResult::Outcome outcome_of(const Limit& limit, const Reading& reading) {
  if (!reading.value) return LimitResult::Outcome::undecided;
  const bool kept = holds(limit.relation, *reading.value, limit.value);
  const bool wants_less =
      limit.relation == Limit::Relation::less || limit.relation == Limit::Relation::less_equal;
  // The true value lies at or below an upper bound: only "below" can be proved by it, and only "not above"
  // can follow from it.
  if (reading.bound && wants_less != kept) return LimitResult::Outcome::undecided;
  return kept ? LimitResult::Outcome::kept : LimitResult::Outcome::broken;
}

}  // namespace

Limit parse_limit(const std::string& text) {
  const auto fail = [&] {
    return Error(ErrorCode::bad_argument, fmt::format("limit '{}' is not NAME<VALUE, NAME<=VALUE, NAME>VALUE "
                                                      "or NAME>=VALUE, for example 'thd_db<-80' or "
                                                      "'thd_db<=last+0.3'",
                                                      text));
  };
  const auto at = text.find_first_of("<>");
  if (at == std::string::npos) throw fail();
  const bool equal = at + 1 < text.size() && text[at + 1] == '=';
  Limit limit;
  limit.text = text;
  limit.name = trimmed(text.substr(0, at));
  limit.relation = text[at] == '<' ? (equal ? Limit::Relation::less_equal : Limit::Relation::less)
                                   : (equal ? Limit::Relation::greater_equal : Limit::Relation::greater);
  const std::string number = trimmed(text.substr(at + (equal ? 2 : 1)));
  char* end = nullptr;
  limit.value = std::strtod(number.c_str(), &end);
  if (limit.name.empty() || number.empty()) throw fail();
  if (*end == '\0') {
    if (!std::isfinite(limit.value)) throw fail();
    return limit;
  }
  // No number: the name of what was kept. A name begins with a letter.
  if (end != number.c_str() || std::isalpha(static_cast<unsigned char>(number[0])) == 0) throw fail();
  limit.past = number;
  limit.value = 0;
  return limit;
}

std::vector<LimitResult> check_limit(const Limit& limit, const Sheet& sheet, const PastValues& past) {
  if (!limit.past.empty() && !past)
    throw Error(ErrorCode::bad_argument,
                fmt::format("limit '{}': '{}' is no number", limit.text, limit.past));
  std::vector<LimitResult> results;
  std::vector<std::string> names;
  for (const Reading& reading : sheet.readings) {
    if (std::find(names.begin(), names.end(), reading.name) == names.end()) names.push_back(reading.name);
    if (reading.name != limit.name) continue;
    Limit own = limit;
    std::string source;
    if (!limit.past.empty()) {
      const PastValue kept = past(limit, sheet, reading);
      own.value = kept.value;
      source = kept.source;
    }
    results.push_back({limit.text, reading.channel, reading.value, reading.unit, reading.entry,
                       outcome_of(own, reading), own.value, sheet.capture.file, sheet.capture.channels,
                       source});
  }
  if (results.empty())
    throw Error(ErrorCode::bad_argument,
                fmt::format("limit '{}': {} gives no reading '{}'{}", limit.text, sheet.measurement,
                            limit.name, name_hint(limit.name, names)));
  return results;
}

}  // namespace wavicon
