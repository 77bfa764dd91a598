// SPDX-License-Identifier: MIT
#include "wavicon/bench/plan.hpp"

#include <fmt/format.h>
#include <toml++/toml.h>

#include <algorithm>
#include <cmath>
#include <fstream>
#include <set>
#include <sstream>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon {
namespace {

constexpr std::size_t kLongestPlanBytes = 1 << 20;
constexpr double kLowestRateHz = 8000, kHighestRateHz = 768000;
constexpr int kLongestBlock = 65536;
// Rows that every plan may have: what they change is no setting of a unit.
constexpr const char *kRate = "rate", *kBlock = "block";

std::vector<std::string> measurement_names() {
  std::vector<std::string> names;
  for (const MeasurementDescriptor& m : measurements()) names.push_back(m.name);
  return names;
}

const MeasurementDescriptor* find_measurement(const std::string& name) {
  return find_measurement(measurements(), name);
}

double parse_number(const std::string& text, const std::string& what) {
  char* end = nullptr;
  const double value = std::strtod(text.c_str(), &end);
  if (text.empty() || *end != '\0' || !std::isfinite(value))
    throw Error(ErrorCode::bad_argument, fmt::format("{}: '{}' is no number", what, text));
  return value;
}

std::vector<std::string> words_in(const std::string& text) {
  std::istringstream stream(text);
  std::vector<std::string> words;
  for (std::string word; stream >> word;) words.push_back(word);
  return words;
}

struct SetOption {
  const std::string& key;
  const std::string& text;
  void operator()(bool* value) const {
    if (text != "true" && text != "false")
      throw Error(ErrorCode::bad_argument, fmt::format("{}: '{}' is neither true nor false", key, text));
    *value = text == "true";
  }
  void operator()(double* value) const { *value = parse_number(text, key); }
  void operator()(int* value) const {
    const double number = parse_number(text, key);
    if (number != std::round(number) || std::abs(number) > 1e9)
      throw Error(ErrorCode::bad_argument, fmt::format("{}: '{}' is no whole number", key, text));
    *value = static_cast<int>(number);
  }
  void operator()(std::string* value) const { *value = text; }
  template <typename Value>
  void operator()(std::optional<Value>* value) const {
    Value own{};
    (*this)(&own);
    *value = own;
  }
  template <typename Value>
  void operator()(std::vector<Value>* values) const {
    values->clear();
    for (const std::string& word : words_in(text)) {
      Value own{};
      SetOption{key, word}(&own);
      values->push_back(own);
    }
  }
};

// The reader of one text: every error has its place.
class PlanReader {
 public:
  PlanReader(const std::string& text, std::string source, std::filesystem::path folder)
      : source_(std::move(source)), folder_(std::move(folder)) {
    if (text.size() > kLongestPlanBytes)
      throw Error(ErrorCode::bad_input, fmt::format("{}: has {} bytes; a plan of {} is the longest", source_,
                                                    text.size(), kLongestPlanBytes));
    try {
      table_ = toml::parse(text);
    } catch (const toml::parse_error& error) {
      fail(error.source(), std::string(error.description()));
    }
  }

  Plan read() {
    known(table_, {"name", "play", "through", "block", "rows", "side_by_side", "measure", "limit"});
    plan_.name = text(table_, "name").value_or(std::filesystem::path(source_).stem().string());
    read_play();
    read_chain();
    read_rows();
    read_measures();
    read_limits();
    require_cells();
    return std::move(plan_);
  }

 private:
  [[noreturn]] void fail(const toml::source_region& region, const std::string& what) const {
    throw Error(ErrorCode::bad_input,
                fmt::format("{}:{}:{}: {}", source_, region.begin.line, region.begin.column, what));
  }
  [[noreturn]] void fail(const toml::node& node, const std::string& what) const { fail(node.source(), what); }

  void known(const toml::table& table, const std::vector<std::string>& keys) const {
    for (const auto& [key, node] : table)
      if (const std::string name(key.str()); std::find(keys.begin(), keys.end(), name) == keys.end())
        fail(key.source(), fmt::format("there is no key '{}'{}", name, name_hint(name, keys)));
  }
  [[nodiscard]] std::optional<std::string> text(const toml::table& table, const char* key) const {
    const toml::node* node = table.get(key);
    if (node == nullptr) return std::nullopt;
    if (!node->is_string()) fail(*node, fmt::format("{}: is no text in quotes", key));
    return node->as_string()->get();
  }

  // A number, a word or true and false as it would be written.
  [[nodiscard]] std::string value_text(const toml::node& node, const std::string& key) const {
    if (const auto* word = node.as_string()) return word->get();
    if (const auto* whole = node.as_integer()) return std::to_string(whole->get());
    if (const auto* yes = node.as_boolean()) return yes->get() ? "true" : "false";
    if (const auto* real = node.as_floating_point())
      if (std::isfinite(real->get())) return fmt::format("{}", real->get());
    fail(node, fmt::format("{}: is no number, text, true or false", key));
  }
  [[nodiscard]] std::string values_text(const toml::node& node, const std::string& key) const {
    if (!node.is_array()) return value_text(node, key);
    std::string all;
    for (const toml::node& item : *node.as_array()) all += (all.empty() ? "" : " ") + value_text(item, key);
    return all;
  }

  void read_play() {
    const toml::node* node = table_.get("play");
    if (node == nullptr || !node->is_table())
      fail(node == nullptr ? table_.source() : node->source(),
           "play: a plan says what is played: [play] with recipe = \"FILE\", or with parts as in a recipe");
    const toml::table& play = *node->as_table();
    try {
      if (const auto file = text(play, "recipe")) {
        known(play, {"recipe"});
        plan_.recipe = recipe_text(read_recipe(folder_ / *file));
        return;
      }
      std::stringstream inside;
      inside << play;
      plan_.recipe = recipe_text(parse_recipe(inside.str(), "play"));
    } catch (const Error& error) {
      std::string what = error.what();
      if (what.rfind(source_ + ":", 0) == 0) throw;
      // Lines of what was written out again are not those of the plan.
      if (what.rfind("play:", 0) == 0) what = "play: " + what.substr(what.find(": ") + 2);
      fail(*node, what);
    }
  }

  void read_chain() {
    if (const toml::node* block = table_.get("block")) {
      const auto frames = block->value<std::int64_t>();
      if (!block->is_integer() || *frames < 1 || *frames > kLongestBlock)
        fail(*block, fmt::format("block: is no whole number from 1 to {}", kLongestBlock));
      plan_.block_frames = static_cast<int>(*frames);
    }
    const toml::node* node = table_.get("through");
    if (node == nullptr) return;
    if (!node->is_array()) fail(*node, "through: is a list of units: [\"sim:tern?drive={drive}\"]");
    for (const toml::node& unit : *node->as_array()) {
      if (!unit.is_string()) fail(unit, "through: a unit is a text in quotes");
      plan_.chain.push_back(unit.as_string()->get());
      chain_places_.push_back(unit.source());
    }
  }

  void read_rows() {
    if (const toml::node* together = table_.get("side_by_side")) {
      if (!together->is_boolean()) fail(*together, "side_by_side: is neither true nor false");
      plan_.side_by_side = together->as_boolean()->get();
    }
    std::vector<std::string> used = {kRate, kBlock};
    for (std::size_t u = 0; u < plan_.chain.size(); ++u)
      for (const std::string& hole : holes_in(plan_.chain[u], chain_places_[u])) used.push_back(hole);
    if (const toml::node* node = table_.get("rows")) {
      if (!node->is_table()) fail(*node, "rows: is a table: [rows], then drive = [0, 6, 12]");
      for (const auto& [key, values] : *node->as_table())
        read_row(std::string(key.str()), key.source(), values, used);
      sort_rows();
    }
    for (std::size_t u = 0; u < plan_.chain.size(); ++u)
      for (const std::string& hole : holes_in(plan_.chain[u], chain_places_[u]))
        if (find_row(hole) == nullptr)
          fail(chain_places_[u], fmt::format("{{{}}} has no row: [rows] says which values it takes", hole));
  }

  void read_row(const std::string& name, const toml::source_region& place, const toml::node& node,
                const std::vector<std::string>& used) {
    if (std::find(used.begin(), used.end(), name) == used.end())
      fail(place, fmt::format("row '{}': nothing uses it: write {{{}}} in 'through'{}", name, name,
                              name_hint(name, used)));
    if (name == "plan" || name == "cell" || name == "again")
      fail(place, fmt::format("row '{}': this is a tag of every cell: name the row otherwise", name));
    if (!node.is_array() || node.as_array()->empty())
      fail(node, fmt::format("row '{}': is no list of values", name));
    PlanRow row{.name = name};
    for (const toml::node& value : *node.as_array()) {
      row.values.push_back(value_text(value, name));
      const std::string& text = row.values.back();
      if (text.empty() || text.find_first_of(" =\t\n") != std::string::npos)
        fail(value, fmt::format("row '{}': '{}' is empty, or holds a space or '='", name, text));
      if (std::count(row.values.begin(), row.values.end(), text) > 1 && !plan_.side_by_side)
        fail(value, fmt::format("row '{}': {} stands there twice: two cells would be alike", name, text));
      if (name == kRate) require_between(value, text, kLowestRateHz, kHighestRateHz);
      if (name == kBlock) require_between(value, text, 1, kLongestBlock);
    }
    places_.emplace_back(place.begin.line, place.begin.column);
    plan_.rows.push_back(std::move(row));
  }
  void require_between(const toml::node& node, const std::string& text, double low, double high) const {
    char* end = nullptr;
    const double value = std::strtod(text.c_str(), &end);
    if (*end != '\0' || value != std::round(value) || value < low || value > high)
      fail(node, fmt::format("{} is no whole number from {:g} to {:g}", text, low, high));
  }
  // A table of TOML has no order of its own: rows stand as they are written.
  void sort_rows() {
    std::vector<std::size_t> order(plan_.rows.size());
    for (std::size_t i = 0; i < order.size(); ++i) order[i] = i;
    std::sort(order.begin(), order.end(),
              [&](std::size_t a, std::size_t b) { return places_[a] < places_[b]; });
    std::vector<PlanRow> rows;
    for (const std::size_t i : order) rows.push_back(plan_.rows[i]);
    plan_.rows = std::move(rows);
  }

  [[nodiscard]] std::vector<std::string> holes_in(const std::string& unit,
                                                  const toml::source_region& place) const {
    std::vector<std::string> holes;
    for (std::size_t at = unit.find('{'); at != std::string::npos; at = unit.find('{', at)) {
      const auto end = unit.find('}', at);
      if (end == std::string::npos || end == at + 1)
        fail(place, fmt::format("'{}': a {{ without its name and }}", unit));
      holes.push_back(unit.substr(at + 1, end - at - 1));
      at = end;
    }
    return holes;
  }
  [[nodiscard]] const PlanRow* find_row(const std::string& name) const {
    const auto found = std::find_if(plan_.rows.begin(), plan_.rows.end(),
                                    [&](const PlanRow& row) { return row.name == name; });
    return found == plan_.rows.end() ? nullptr : &*found;
  }

  void read_measures() {
    const toml::node* list = table_.get("measure");
    if (list == nullptr || !list->is_array() || list->as_array()->empty())
      fail(list == nullptr ? table_.source() : list->source(),
           "measure: a plan measures something: [[measure]] with = \"harmonics\"");
    for (const toml::node& node : *list->as_array()) {
      if (!node.is_table()) fail(node, "measure: is written [[measure]], once for each");
      const toml::table& table = *node.as_table();
      PlanMeasure measure;
      const toml::node* with = table.get("with");
      const auto name = text(table, "with");
      if (!name) fail(node, "measure: says with which measurement: with = \"harmonics\"");
      const MeasurementDescriptor* descriptor = find_measurement(*name);
      if (descriptor == nullptr)
        fail(*with,
             fmt::format("there is no measurement '{}'{}", *name, name_hint(*name, measurement_names())));
      if (descriptor->input == MeasuredInput::pair || descriptor->input == MeasuredInput::recording)
        fail(*with, fmt::format("{} is not measured of a cell: it takes several captures", *name));
      measure.name = *name;
      measure.part = text(table, "part").value_or("");
      for (const auto& [key, value] : table)
        if (const std::string option(key.str()); option != "with" && option != "part")
          measure.options.emplace_back(option, values_text(value, option));
      std::sort(measure.options.begin(), measure.options.end());
      try {
        (void)measurement_of(measure);
      } catch (const Error& error) {
        fail(node, error.what());
      }
      plan_.measures.push_back(std::move(measure));
    }
  }

  void read_limits() {
    const toml::node* list = table_.get("limit");
    if (list == nullptr) return;
    if (!list->is_array()) fail(*list, "limit: is written [[limit]], once for each");
    std::vector<std::string> readings;
    for (const PlanMeasure& measure : plan_.measures)
      for (std::string& name : reading_names(*find_measurement(measure.name)))
        readings.push_back(std::move(name));
    ReadingTable names;
    for (const std::string& name : readings) names.entries.push_back({.name = name});
    for (const toml::node& node : *list->as_array()) {
      if (!node.is_table()) fail(node, "limit: is written [[limit]], once for each");
      const toml::table& table = *node.as_table();
      known(table, {"keep", "where"});
      const auto keep = text(table, "keep");
      if (!keep) fail(node, "limit: says what is kept: keep = \"thd_db<-80\"");
      PlanLimit limit;
      try {
        limit.limit = parse_limit(*keep);
        if (const auto where = text(table, "where")) limit.where = values_named(*where);
      } catch (const Error& error) {
        fail(node, error.what());
      }
      if (find_entry(names, limit.limit.name) == nullptr)
        fail(*table.get("keep"), fmt::format("no measurement of this plan gives a reading '{}'{}",
                                             limit.limit.name, name_hint(limit.limit.name, readings)));
      plan_.limits.push_back(std::move(limit));
    }
  }

 public:
  [[nodiscard]] static std::vector<std::pair<std::string, std::string>> values_named(
      const std::string& text, const std::vector<PlanRow>& rows) {
    std::vector<std::pair<std::string, std::string>> named;
    std::vector<std::string> names;
    for (const PlanRow& row : rows) names.push_back(row.name);
    for (const std::string& word : words_in(text)) {
      const auto at = word.find('=');
      const std::string name = word.substr(0, at), value = at == std::string::npos ? "" : word.substr(at + 1);
      const auto row =
          std::find_if(rows.begin(), rows.end(), [&](const PlanRow& one) { return one.name == name; });
      if (at == std::string::npos || row == rows.end())
        throw Error(ErrorCode::bad_argument,
                    fmt::format("'{}' is no ROW=VALUE of this plan{}", word, name_hint(name, names)));
      if (std::find(row->values.begin(), row->values.end(), value) == row->values.end())
        throw Error(ErrorCode::bad_argument,
                    fmt::format("row '{}' does not take '{}'{}", name, value, name_hint(value, row->values)));
      named.emplace_back(name, value);
    }
    return named;
  }

 private:
  [[nodiscard]] std::vector<std::pair<std::string, std::string>> values_named(const std::string& text) const {
    return values_named(text, plan_.rows);
  }

  void require_cells() const {
    double count = 1;
    for (const PlanRow& row : plan_.rows) {
      if (plan_.side_by_side && row.values.size() != plan_.rows.front().values.size())
        fail(*table_.get("rows"),
             fmt::format("side by side all rows have as many values: '{}' has {} and '{}' {}",
                         plan_.rows.front().name, plan_.rows.front().values.size(), row.name,
                         row.values.size()));
      count = plan_.side_by_side ? static_cast<double>(row.values.size())
                                 : count * static_cast<double>(row.values.size());
    }
    if (count > static_cast<double>(kMostCells))
      fail(*table_.get("rows"),
           fmt::format("these rows make {:.0f} cells; {} are the most", count, kMostCells));
    if (!plan_.side_by_side) return;
    std::set<std::vector<std::string>> seen;
    for (std::size_t i = 0; i < static_cast<std::size_t>(count); ++i) {
      std::vector<std::string> values;
      for (const PlanRow& row : plan_.rows) values.push_back(row.values[i]);
      if (!plan_.rows.empty() && !seen.insert(values).second)
        fail(*table_.get("rows"),
             fmt::format("two cells are alike: the values number {} stand there before", i + 1));
    }
  }

  std::string source_;
  std::filesystem::path folder_;
  toml::table table_;
  Plan plan_;
  std::vector<toml::source_region> chain_places_;
  std::vector<std::pair<std::size_t, std::size_t>> places_;  // of the rows
};

Cell cell_of(const Plan& plan, const std::vector<std::size_t>& at, double rate_hz) {
  Cell cell{.chain = plan.chain, .rate_hz = rate_hz, .block_frames = plan.block_frames};
  for (std::size_t r = 0; r < plan.rows.size(); ++r) {
    const PlanRow& row = plan.rows[r];
    const std::string& value = row.values[at[r]];
    cell.values.emplace_back(row.name, value);
    if (row.name == kRate) cell.rate_hz = std::strtod(value.c_str(), nullptr);
    if (row.name == kBlock) cell.block_frames = std::atoi(value.c_str());
    const std::string hole = "{" + row.name + "}";
    for (std::string& unit : cell.chain)
      for (std::size_t found = unit.find(hole); found != std::string::npos;
           found = unit.find(hole, found + value.size()))
        unit.replace(found, hole.size(), value);
  }
  return cell;
}

}  // namespace

std::string name_of(const Cell& cell) {
  std::string name;
  for (const auto& [row, value] : cell.values)
    name += fmt::format("{}{}={}", name.empty() ? "" : " ", row, value);
  return name.empty() ? "all" : name;
}

Plan parse_plan(const std::string& text, const std::string& source, const std::filesystem::path& folder) {
  return PlanReader(text, source, folder).read();
}

std::vector<Cell> cells_of(const Plan& plan) {
  const double rate_hz = parse_recipe(plan.recipe, "play").sample_rate_hz;
  std::vector<Cell> cells;
  std::vector<std::size_t> at(plan.rows.size(), 0);
  for (bool more = true; more;) {
    cells.push_back(cell_of(plan, at, rate_hz));
    more = false;
    if (plan.rows.empty()) break;
    if (plan.side_by_side) {
      for (std::size_t& place : at) ++place;
      more = at.front() < plan.rows.front().values.size();
      continue;
    }
    for (std::size_t r = plan.rows.size(); r-- > 0;) {
      if (++at[r] < plan.rows[r].values.size()) {
        more = true;
        break;
      }
      at[r] = 0;
    }
  }
  return cells;
}

std::vector<Cell> cells_of(const Plan& plan, const std::string& only) {
  const auto wanted = PlanReader::values_named(only, plan.rows);
  std::vector<Cell> cells = cells_of(plan);
  std::erase_if(cells, [&](const Cell& cell) {
    return !std::all_of(wanted.begin(), wanted.end(), [&](const auto& value) {
      return std::find(cell.values.begin(), cell.values.end(), value) != cell.values.end();
    });
  });
  return cells;
}

std::unique_ptr<Measurement> measurement_of(const PlanMeasure& measure) {
  const MeasurementDescriptor* descriptor = find_measurement(measure.name);
  if (descriptor == nullptr)
    throw Error(ErrorCode::bad_argument, fmt::format("there is no measurement '{}'{}", measure.name,
                                                     name_hint(measure.name, measurement_names())));
  auto made = descriptor->make();
  auto fields = made->fields();
  std::vector<std::string> keys = {"part"};
  for (const OptionField& field : fields) keys.push_back(field.key);
  for (const auto& [key, text] : measure.options) {
    const auto field =
        std::find_if(fields.begin(), fields.end(), [&](const OptionField& one) { return one.key == key; });
    if (field == fields.end())
      throw Error(ErrorCode::bad_argument,
                  fmt::format("{} has no option '{}'{}", measure.name, key, name_hint(key, keys)));
    std::visit(SetOption{key, text}, field->target);
  }
  require_in_range(fields);
  return made;
}

}  // namespace wavicon
