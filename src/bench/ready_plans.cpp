// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <filesystem>
#include <map>
#include <sstream>

#include "bench/plan_names.hpp"
#include "bench/ready_plan_texts.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/bench/plan.hpp"
#include "wavicon/path/unit.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;

// Marks in the texts: what is given is put there.
constexpr const char *kPath = "@path@", *kRows = "@rows@", *kRow = "@row@", *kOf = "@of@";
constexpr const char *kQuestion = "# ", *kTakes = "# takes: ";
constexpr std::size_t kLongestOf = 60;

std::string line_after(const std::string& text, const std::string& start, std::size_t from) {
  const auto at = text.find(start, from);
  return text.substr(at + start.size(), text.find('\n', at) - at - start.size());
}

std::string in_quotes(const std::string& text) {
  std::string out = "\"";
  for (const char c : text) {
    if (c == '"' || c == '\\') out += '\\';
    if (static_cast<unsigned char>(c) < 0x20)
      out += fmt::format("\\u{:04X}", static_cast<unsigned>(static_cast<unsigned char>(c)));
    else
      out += c;
  }
  return out + "\"";
}

// A name without what a row's value may not hold.
std::string tame(std::string text) {
  for (char& c : text)
    if (std::isspace(static_cast<unsigned char>(c)) != 0 || c == '=' || c == '{' || c == '}') c = '-';
  return text;
}

bool is_unit(const std::string& text) {
  static const std::vector<std::string> kSchemes = {"sim:", "lv2:", "ladspa:", "jack:"};
  return text == kNothing || std::any_of(kSchemes.begin(), kSchemes.end(), [&](const std::string& scheme) {
           return text.rfind(scheme, 0) == 0;
         });
}

// A unit whose settings with several values are rows.
struct Laddered {
  std::string unit;  ///< with {row} where a row's value is put
  std::vector<std::pair<std::string, std::vector<std::string>>> rows;
};

// "tern" of sim:tern, "Overdrive" of a URI, "strip" of a bundle's folder; of two segments "tube-mono".
std::string short_name(const std::string& unit, bool two = false) {
  if (unit == kNothing) return unit;
  std::string name = parse_unit(unit).name;
  while (!name.empty() && name.back() == '/') name.pop_back();
  auto at = name.find_last_of("/#:");
  if (two && at != std::string::npos && at > 0) at = name.find_last_of("/#:", at - 1);
  std::string text = tame(name.substr(at == std::string::npos ? 0 : at + 1));
  std::replace_if(
      text.begin(), text.end(), [](char c) { return c == '/' || c == '#' || c == ':'; }, '-');
  return text;
}

// Whether units of different names end alike.
bool end_alike(const std::vector<std::string>& given) {
  std::map<std::string, std::string> names;
  for (const std::string& one : given)
    for (const std::string& unit : words_in(one)) {
      if (unit == kNothing) continue;
      const std::string whole = parse_unit(unit).name;
      if (const auto [found, fresh] = names.emplace(short_name(unit), whole); found->second != whole)
        return true;
    }
  return false;
}

Laddered laddered(const std::string& unit, std::size_t number, std::size_t count) {
  if (unit == kNothing) return {unit, {}};
  const UnitSpec spec = parse_unit(unit);
  Laddered ladder{spec.scheme + ":" + spec.name, {}};
  for (std::size_t i = 0; i < spec.settings.size(); ++i) {
    const auto& [symbol, value] = spec.settings[i];
    ladder.unit += (i == 0 ? "?" : "&") + symbol + "=";
    if (value.find(',') == std::string::npos || spec.scheme == "jack") {
      ladder.unit += value;
      continue;
    }
    const std::string row = count > 1 ? fmt::format("{}-{}", number + 1, symbol) : symbol;
    ladder.unit += "{" + row + "}";
    ladder.rows.emplace_back(row, setting_ladder(symbol, value));
  }
  return ladder;
}

struct Filling {
  std::string path, rows, row, of;
};

void add_row(Filling& filling, const std::string& name, const std::vector<std::string>& values) {
  if (filling.row.empty()) filling.row = name;
  filling.rows += in_quotes(name) + " = [";
  for (const std::string& value : values) {
    // As TOML writes numbers; hexadecimal and the like are words.
    const bool number = number_in(value).has_value() &&
                        value.find_first_not_of("0123456789.-eE") == std::string::npos && value[0] != '.' &&
                        value.back() != '.';
    filling.rows += (&value == values.data() ? "" : ", ") + (number ? value : in_quotes(value));
  }
  filling.rows += "]\n";
}

void add_named(Filling& filling, const std::string& row,
               const std::vector<std::pair<std::string, std::string>>& values) {
  filling.row = row;
  filling.rows += row + " = { ";
  for (const auto& [name, text] : values)
    filling.rows +=
        fmt::format("{}{} = {}", name == values.front().first ? "" : ", ", in_quotes(name), in_quotes(text));
  filling.rows += " }\n";
}

std::string unique(const std::string& name, const std::vector<std::pair<std::string, std::string>>& taken) {
  std::string own = name;
  for (int n = 2; std::any_of(taken.begin(), taken.end(), [&](const auto& one) { return one.first == own; });
       ++n)
    own = fmt::format("{}-{}", name, n);
  return own;
}

void join_name(Filling& filling, const std::string& name) {
  const std::string longer = filling.of + (filling.of.empty() ? "-" : "+") + name;
  if (longer.size() <= kLongestOf && filling.of.find(name) == std::string::npos) filling.of = longer;
}

// One: its units one after the other, ladders as rows.
Filling one_chain(const std::string& given) {
  Filling filling;
  const auto units = words_in(given);
  filling.path = "through = [";
  for (std::size_t u = 0; u < units.size(); ++u) {
    const Laddered ladder = laddered(units[u], u, units.size());
    filling.path += (u == 0 ? "" : ", ") + in_quotes(ladder.unit);
    for (const auto& [row, values] : ladder.rows) add_row(filling, row, values);
    join_name(filling, short_name(units[u]));
  }
  filling.path += "]";
  return filling;
}

// Several beside each other: every combination of their ladders is a value of one row.
Filling several_chains(const std::vector<std::string>& given) {
  Filling filling;
  filling.path = "through = [\"{unit}\"]";
  const bool two = end_alike(given);
  std::vector<std::pair<std::string, std::string>> values;
  for (const std::string& one : given) {
    std::vector<std::pair<std::string, std::string>> made = {{"", ""}};  // names and chains so far
    for (const std::string& unit : words_in(one)) {
      const Laddered ladder = laddered(unit, 0, 1);
      join_name(filling, short_name(unit, two));
      std::vector<std::pair<std::string, std::string>> units = {{short_name(unit, two), ladder.unit}};
      for (const auto& [row, list] : ladder.rows) {
        std::vector<std::pair<std::string, std::string>> longer;
        for (const auto& [name, text] : units)
          for (const std::string& value : list)
            longer.emplace_back(fmt::format("{}-{}-{}", name, row, tame(value)),
                                filled_holes(text, {{row, value}}, false));
        units = std::move(longer);
      }
      std::vector<std::pair<std::string, std::string>> longer;
      for (const auto& [name, chain] : made)
        for (const auto& [unit_name, text] : units)
          longer.emplace_back(name.empty() ? unit_name : name + "+" + unit_name,
                              chain.empty() ? text : chain + " " + text);
      made = std::move(longer);
    }
    for (const auto& [name, chain] : made) values.emplace_back(unique(name, values), chain);
  }
  add_named(filling, "unit", values);
  return filling;
}

Filling captures_of(const std::vector<std::string>& given,
                    const std::function<std::string(const std::string&)>& file_of) {
  Filling filling;
  filling.path = "captures = \"{capture}\"";
  std::vector<std::pair<std::string, std::string>> values;
  for (const std::string& file : given) {
    const std::string name = tame(std::filesystem::path(file).stem().string());
    join_name(filling, name);
    values.emplace_back(unique(name, values), file_of ? file_of(file) : file);
  }
  add_named(filling, "capture", values);
  return filling;
}

void put_in(std::string& text, const std::string& mark, const std::string& what) {
  for (std::size_t at = text.find(mark); at != std::string::npos; at = text.find(mark, at + what.size()))
    text.replace(at, mark.size(), what);
}

// Captures have a rate and a block of their own.
void leave_out_row(std::string& text, const std::string& name) {
  const auto at = text.find("\n" + name + " = [");
  if (at != std::string::npos) text.erase(at, text.find('\n', at + 1) - at);
}

}  // namespace

const std::vector<ReadyPlan>& ready_plans() {
  static const std::vector<ReadyPlan> kPlans = [] {
    std::vector<ReadyPlan> plans;
    for (const auto& [name, text] : ready_plan_texts()) {
      const std::string whole = text;
      const auto first = whole.find(kQuestion);
      plans.push_back({name, line_after(whole, kQuestion, first), line_after(whole, kTakes, 0), whole});
    }
    return plans;
  }();
  return kPlans;
}

std::string ready_plan_text(const std::string& name, const std::vector<std::string>& given,
                            const std::function<std::string(const std::string&)>& file_of) {
  std::vector<std::string> names;
  for (const ReadyPlan& plan : ready_plans()) names.push_back(plan.name);
  const auto plan = std::find_if(ready_plans().begin(), ready_plans().end(),
                                 [&](const ReadyPlan& one) { return one.name == name; });
  if (plan == ready_plans().end())
    throw Error(ErrorCode::bad_argument, fmt::format("there is no ready plan '{}'{}; --plans lists them",
                                                     name, name_hint(name, names)));
  const auto fail = [&](const std::string& why) {
    return Error(ErrorCode::bad_argument, fmt::format("plan {}: {}; it takes {}", name, why, plan->takes));
  };
  const auto units = static_cast<std::size_t>(std::count_if(given.begin(), given.end(), is_unit));
  if (given.empty()) throw fail("nothing is given to it");
  if (units > 0 && units < given.size()) throw fail("units and files are given together");
  if (units > 0 && plan->takes.find("unit") == std::string::npos) throw fail("units are given to it");
  if (units == 0 && plan->takes.find("captures") == std::string::npos)
    throw fail(fmt::format("'{}' is no unit (SCHEME:NAME?setting=value)", given.front()));
  if (given.size() < 2 && plan->takes.find("at least two captures") != std::string::npos)
    throw fail("one capture is given to it");
  const Filling filling = units == 0          ? captures_of(given, file_of)
                          : given.size() == 1 ? one_chain(given.front())
                                              : several_chains(given);
  std::string text = plan->text;
  if (units == 0)
    for (const char* row : {kRate, kBlock}) leave_out_row(text, row);
  if (text.find(kRow) != std::string::npos && filling.row.empty()) throw fail("it has one value alone");
  put_in(text, kRow, filling.row);
  put_in(text, kRows, filling.rows.empty() ? "" : filling.rows.substr(0, filling.rows.size() - 1));
  put_in(text, kPath, filling.path);
  put_in(text, kOf, filling.of);
  return text;
}

}  // namespace wavicon
