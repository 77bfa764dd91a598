// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <toml++/toml.h>

#include <algorithm>
#include <sstream>

#include "field_check.hpp"
#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/limits.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/stimulus/recipe.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {
namespace {

using namespace stimulus_detail;

// Where errors are said to be.
class Place {
 public:
  explicit Place(std::string source) : source_(std::move(source)) {}
  [[noreturn]] void fail(const toml::source_region& region, const std::string& what) const {
    throw Error(ErrorCode::bad_input,
                fmt::format("{}:{}:{}: {}", source_, region.begin.line, region.begin.column, what));
  }

 private:
  std::string source_;
};

// Visits fields and takes their values from a table; what is left over in the table is unknown.
class Reader {
 public:
  Reader(const toml::table& table, const Place& place, double sample_rate_hz,
         std::vector<std::string> others = {})
      : table_(table), place_(place), rate_(sample_rate_hz), known_(std::move(others)) {}

  void operator()(const char* key, double& value, const Range& range, const char*) {
    if (const auto* node = find(key)) value = number(*node, key, range);
  }
  void operator()(const char* key, std::optional<double>& value, const Range& range, const char*) {
    if (const auto* node = find(key)) value = number(*node, key, range);
  }
  void operator()(const char* key, int& value, const Range& range, const char*) {
    if (const auto* node = find(key)) value = static_cast<int>(whole(*node, key, range));
  }
  void operator()(const char* key, std::int64_t& value, const Range& range, const char*) {
    if (const auto* node = find(key)) value = whole(*node, key, range);
  }
  void operator()(const char* key, bool& value, const char*) {
    if (const auto* node = find(key)) {
      if (!node->is_boolean()) wrong_type(*node, key, "true or false");
      value = node->as_boolean()->get();
    }
  }
  void operator()(const char* key, std::string& name, const char*) {
    const auto* node = find(key);
    if (node == nullptr) return;
    name = words(*node, key);
    if (!name.empty()) require(*node, key, name_problem(name));
  }
  void operator()(const char* key, std::string& word, const std::vector<std::string>& allowed, const char*) {
    const auto* node = find(key);
    if (node == nullptr) return;
    word = words(*node, key);
    require(*node, key, word_problem(word, allowed));
  }
  void operator()(const char* key, std::vector<double>& values, const Range& range, const char*) {
    if (const auto* node = find(key)) {
      values.clear();
      each(*node, key, "a list of numbers",
           [&](const toml::node& item) { values.push_back(number(item, key, range)); });
    }
  }
  void operator()(const char* key, std::vector<int>& values, const Range& range, const char*) {
    if (const auto* node = find(key)) {
      values.clear();
      each(*node, key, "a list of whole numbers",
           [&](const toml::node& item) { values.push_back(static_cast<int>(whole(item, key, range))); });
    }
  }
  void operator()(const char* key, std::vector<std::string>& values, const std::vector<std::string>& allowed,
                  const char*) {
    if (const auto* node = find(key)) {
      values.clear();
      each(*node, key, "a list of words", [&](const toml::node& item) {
        values.push_back(words(item, key));
        require(item, key, word_problem(values.back(), allowed));
      });
    }
  }
  void operator()(const char* key, std::vector<Oscillator>& oscillators, const char*) {
    const auto* node = find(key);
    if (node == nullptr)
      place_.fail(table_.source(), fmt::format("{} is missing: a list of tables, one for each sine", key));
    each(*node, key, "a list of tables", [&](const toml::node& item) {
      if (!item.is_table()) wrong_type(item, key, "a list of tables");
      Reader reader(*item.as_table(), place_, rate_);
      fields(oscillators.emplace_back(), reader);
      reader.finish();
    });
  }
  void operator()(const char* key, std::variant<Tone, Sweep, Noise>& carrier, const char*) {
    const auto* node = find(key);
    if (node == nullptr) return;
    if (!node->is_table()) wrong_type(*node, key, "a table");
    const toml::table& table = *node->as_table();
    const std::string kind = table["kind"].value_or(std::string());
    if (kind == "tone")
      carrier = Tone{};
    else if (kind == "sweep")
      carrier = Sweep{};
    else if (kind == "noise")
      carrier = Noise{};
    else
      place_.fail(table.source(), "carrier: its kind has to be tone, sweep or noise");
    Reader reader(table, place_, rate_, {"kind"});
    std::visit([&](auto& value) { fields(value, reader); }, carrier);
    reader.finish();
  }

  /// Complains of the first key that no field asked for.
  void finish() const {
    for (const auto& [key, node] : table_)
      if (std::find(known_.begin(), known_.end(), key.str()) == known_.end())
        place_.fail(key.source(), fmt::format("unknown key '{}'{}", key.str(), name_hint(key.str(), known_)));
  }

 private:
  const toml::node* find(const char* key) {
    known_.emplace_back(key);
    return table_.get(key);
  }
  void require(const toml::node& node, const char* key, const std::string& problem) const {
    if (!problem.empty()) place_.fail(node.source(), fmt::format("{}: {}", key, problem));
  }
  [[noreturn]] void wrong_type(const toml::node& node, const char* key, const char* wanted) const {
    std::ostringstream kind;
    kind << node.type();
    place_.fail(node.source(),
                fmt::format("{}: {} is wanted, not a value of type {}", key, wanted, kind.str()));
  }
  double number(const toml::node& node, const char* key, const Range& range) const {
    if (!node.is_number()) wrong_type(node, key, "a number");
    const double value = *node.value<double>();
    require(node, key, range_problem(value, range, rate_));
    return value;
  }
  std::int64_t whole(const toml::node& node, const char* key, const Range& range) const {
    if (!node.is_integer()) wrong_type(node, key, "a whole number");
    const std::int64_t value = node.as_integer()->get();
    require(node, key, range_problem(static_cast<double>(value), range, rate_));
    return value;
  }
  std::string words(const toml::node& node, const char* key) const {
    if (!node.is_string()) wrong_type(node, key, "text in quotes");
    return node.as_string()->get();
  }
  template <typename Take>
  void each(const toml::node& node, const char* key, const char* wanted, Take take) const {
    if (!node.is_array()) wrong_type(node, key, wanted);
    require(node, key, count_problem(node.as_array()->size(), kMostListed));
    for (const toml::node& item : *node.as_array()) take(item);
  }

  const toml::table& table_;
  const Place& place_;
  double rate_;
  std::vector<std::string> known_;
};

RecipePart read_part(const toml::node& node, const Place& place, const Recipe& recipe,
                     const PartRule& other_rule) {
  if (!node.is_table()) place.fail(node.source(), "part: a table is wanted, written [[part]]");
  const toml::table& table = *node.as_table();
  const auto word = table["kind"].value<std::string>();
  if (!word) place.fail(table.source(), fmt::format("the part has no kind{}", name_hint("?", kind_names())));
  const auto kind = kind_from_name(*word);
  if (!kind)
    place.fail(table["kind"].node()->source(), fmt::format("kind: {}", word_problem(*word, kind_names())));
  RecipePart part;
  part.kind = *kind;
  Reader reader(table, place, recipe.sample_rate_hz, {"kind"});
  part_fields(part, reader);
  std::visit([&](auto& value) { fields(value, reader); }, part.kind);
  reader.finish();
  if (const auto problem = part_problem(part, recipe); !problem.empty()) place.fail(table.source(), problem);
  if (const auto problem = other_rule ? other_rule(part) : ""; !problem.empty())
    place.fail(table.contains("measure") ? table["measure"].node()->source() : table.source(), problem);
  return part;
}

}  // namespace

Recipe parse_recipe(const std::string& text, const std::string& source, const PartRule& other_rule) {
  const Place place(source);
  if (text.size() > kLongestRecipeBytes)
    throw Error(ErrorCode::bad_input, fmt::format("{}: has {} bytes; a recipe of {} is the longest", source,
                                                  text.size(), kLongestRecipeBytes));
  toml::table table;
  try {
    table = toml::parse(text);
  } catch (const toml::parse_error& error) {
    place.fail(error.source(), std::string(error.description()));
  }
  Recipe recipe;
  Reader reader(table, place, kHighestSampleRateHz, {"part"});
  fields(recipe, reader);
  reader.finish();
  if (const toml::node* parts = table.get("part")) {
    if (!parts->is_array()) place.fail(parts->source(), "part: is written [[part]], once for each");
    if (const auto problem = count_problem(parts->as_array()->size(), kMostParts); !problem.empty())
      place.fail(parts->source(), "part: " + problem);
    for (const toml::node& node : *parts->as_array())
      recipe.parts.push_back(read_part(node, place, recipe, other_rule));
  }
  if (const auto problem = recipe_problem(recipe); !problem.empty()) place.fail(table.source(), problem);
  try {
    require_valid(recipe);
  } catch (const Error& error) {
    place.fail(table.source(), error.what());
  }
  return recipe;
}

namespace {

std::string number_text(double value) {
  std::string text = fmt::format("{}", value);
  return text.find_first_of(".en") == std::string::npos ? text + ".0" : text;
}

std::string quoted_text(const std::string& text) {
  std::string result = "\"";
  for (const char c : text) {
    if (c == '"' || c == '\\') result += '\\';
    if (static_cast<unsigned char>(c) < 0x20)
      result += fmt::format("\\u{:04x}", static_cast<int>(c));
    else
      result += c;
  }
  return result + "\"";
}

// Visits fields and keeps their values as text, in order.
class Writer {
 public:
  std::vector<std::pair<std::string, std::string>> entries;

  void operator()(const char* key, double& value, const Range&, const char*) { add(key, number_text(value)); }
  void operator()(const char* key, std::optional<double>& value, const Range&, const char*) {
    add(key, value ? number_text(*value) : "");
  }
  void operator()(const char* key, int& value, const Range&, const char*) { add(key, std::to_string(value)); }
  void operator()(const char* key, std::int64_t& value, const Range&, const char*) {
    add(key, std::to_string(value));
  }
  void operator()(const char* key, bool& value, const char*) { add(key, value ? "true" : "false"); }
  void operator()(const char* key, std::string& value, const char*) { add(key, quoted_text(value)); }
  void operator()(const char* key, std::string& value, const std::vector<std::string>&, const char*) {
    add(key, quoted_text(value));
  }
  void operator()(const char* key, std::vector<double>& values, const Range&, const char*) {
    add(key, list(values, number_text));
  }
  void operator()(const char* key, std::vector<int>& values, const Range&, const char*) {
    add(key, list(values, [](int value) { return std::to_string(value); }));
  }
  void operator()(const char* key, std::vector<std::string>& values, const std::vector<std::string>&,
                  const char*) {
    add(key, list(values, quoted_text));
  }
  void operator()(const char* key, std::vector<Oscillator>& values, const char*) {
    add(key, list(
                 values, [](Oscillator& value) { return inline_table(value, ""); }, "\n  "));
  }
  void operator()(const char* key, std::variant<Tone, Sweep, Noise>& carrier, const char*) {
    add(key, std::visit([&](auto& value) { return inline_table(value, kind_name(value)); }, carrier));
  }

  /// `key = value` for each field that is not at its default.
  template <typename Kind>
  static std::vector<std::string> changed_fields(Kind& kind) {
    Kind plain{};
    Writer value, initial;
    fields(kind, value);
    fields(plain, initial);
    return changed(value, initial);
  }

  static std::vector<std::string> changed(const Writer& value, const Writer& initial) {
    std::vector<std::string> lines;
    for (std::size_t i = 0; i < value.entries.size(); ++i)
      if (value.entries[i] != initial.entries[i])
        lines.push_back(value.entries[i].first + " = " + value.entries[i].second);
    return lines;
  }

 private:
  void add(const char* key, const std::string& text) { entries.emplace_back(key, text); }

  template <typename Values, typename Text>
  static std::string list(Values& values, Text text, const std::string& before = "") {
    std::string result = "[";
    for (auto& value : values)
      result += (&value == values.data() ? before : "," + (before.empty() ? " " : before)) + text(value);
    return result + (before.empty() || values.empty() ? "]" : ",\n]");
  }
  template <typename Kind>
  static std::string inline_table(Kind& kind, const std::string& word) {
    std::string text = word.empty() ? "" : "kind = " + quoted_text(word);
    for (const std::string& line : changed_fields(kind)) text += (text.empty() ? "" : ", ") + line;
    return "{ " + text + " }";
  }
};

}  // namespace

std::string recipe_text(const Recipe& recipe) {
  Recipe copy = recipe;
  std::string text;
  for (const std::string& line : Writer::changed_fields(copy)) text += line + "\n";
  for (RecipePart& part : copy.parts) {
    text += fmt::format("\n[[part]]\nkind = \"{}\"\n", kind_name(part.kind));
    Writer value, initial;
    RecipePart plain;
    part_fields(part, value);
    part_fields(plain, initial);
    for (const std::string& line : Writer::changed(value, initial)) text += line + "\n";
    std::visit(
        [&](auto& kind) {
          for (const std::string& line : Writer::changed_fields(kind)) text += line + "\n";
        },
        part.kind);
  }
  return text;
}

}  // namespace wavicon
