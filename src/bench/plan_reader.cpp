// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <toml++/toml.h>

#include <algorithm>
#include <cmath>
#include <set>
#include <sstream>

#include "bench/plan_names.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/bench/plan.hpp"
#include "wavicon/file/capture_file.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;

constexpr std::size_t kLongestPlanBytes = 1 << 20;
constexpr double kLowestRateHz = 8000, kHighestRateHz = 768000;
constexpr int kLongestBlock = 65536;
constexpr std::size_t kMostTried = 1000;  // recipes that are read before anything is run

// The reader of one text: every error has its place.
class PlanReader {
 public:
  PlanReader(const std::string& text, std::string source, std::filesystem::path folder)
      : source_(std::move(source)) {
    plan_.folder = std::move(folder);
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
    known(table_, {"name", "play", "through", "captures", "block", "rows", "side_by_side", "measure", "limit",
                   "enough", "over"});
    plan_.name = text(table_, "name").value_or(std::filesystem::path(source_).stem().string());
    read_chain();
    read_play();
    read_rows();
    require_rows();
    require_cells();
    require_recipes();
    read_measures();
    read_limits();
    plan_.enough = row_named("enough");
    plan_.over = row_named("over");
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

  void used_by(const std::string& text, const toml::source_region& place) {
    for (const std::string& hole : holes_in(text)) used_.emplace_back(hole, place);
  }

  void read_play() {
    const toml::node* node = table_.get("play");
    if (node == nullptr && !plan_.captures.empty()) return;
    if (node == nullptr || !node->is_table())
      fail(node == nullptr ? table_.source() : node->source(),
           "play: a plan says what is played: [play] with recipe = \"FILE\", with file = \"AUDIO\", or with "
           "parts as in a recipe");
    const toml::table& play = *node->as_table();
    if (const auto file = text(play, "recipe")) {
      known(play, {"recipe"});
      plan_.play.recipe_file = *file;
    } else if (const auto audio = text(play, "file")) {
      known(play, {"file"});
      plan_.play.file = *audio;
    } else {
      std::stringstream inside;
      inside << play;
      plan_.play.recipe = inside.str();
    }
    for (const std::string& holed : {plan_.play.recipe, plan_.play.recipe_file, plan_.play.file})
      used_by(holed, node->source());
  }

  void read_chain() {
    if (const toml::node* block = table_.get("block")) {
      const auto frames = block->value<std::int64_t>();
      if (!block->is_integer() || *frames < 1 || *frames > kLongestBlock)
        fail(*block, fmt::format("block: is no whole number from 1 to {}", kLongestBlock));
      plan_.block_frames = static_cast<int>(*frames);
    }
    if (const auto captures = text(table_, "captures")) {
      plan_.captures = *captures;
      used_by(plan_.captures, table_.get("captures")->source());
    }
    const toml::node* node = table_.get("through");
    if (node == nullptr) return;
    if (!plan_.captures.empty())
      fail(*node, "through: captures came back already: a plan has one of the two");
    if (!node->is_array()) fail(*node, "through: is a list of units: [\"sim:tern?drive={drive}\"]");
    for (const toml::node& unit : *node->as_array()) {
      if (!unit.is_string()) fail(unit, "through: a unit is a text in quotes");
      plan_.chain.push_back(unit.as_string()->get());
      const std::string& written = plan_.chain.back();
      if (static_cast<std::size_t>(std::count(written.begin(), written.end(), '{')) !=
          holes_in(written).size())
        fail(unit, fmt::format("'{}': a {{ without its name and }}", written));
      used_by(written, unit.source());
    }
  }

  void read_rows() {
    if (const toml::node* together = table_.get("side_by_side")) {
      if (!together->is_boolean()) fail(*together, "side_by_side: is neither true nor false");
      plan_.side_by_side = together->as_boolean()->get();
    }
    const toml::node* node = table_.get("rows");
    if (node == nullptr) return;
    if (!node->is_table()) fail(*node, "rows: is a table: [rows], then drive = [0, 6, 12]");
    for (const auto& [key, values] : *node->as_table())
      read_row(std::string(key.str()), key.source(), values);
    sort_rows();
  }

  void read_row(const std::string& name, const toml::source_region& place, const toml::node& node) {
    std::vector<std::string> used = {kRate, kBlock, kRepeat};
    for (const auto& [hole, where] : used_) used.push_back(hole);
    if (std::find(used.begin(), used.end(), name) == used.end())
      fail(place, fmt::format("row '{}': nothing uses it: write {{{}}} in 'through', 'play' or 'captures'{}",
                              name, name, name_hint(name, used)));
    static const std::set<std::string> kTaken = {"plan", "cell", "again", "against"};
    if (kTaken.count(name) > 0)
      fail(place, fmt::format("row '{}': this is a tag of every cell: name the row otherwise", name));
    if (name == kRate && (!plan_.captures.empty() || !plan_.play.file.empty()))
      fail(place, "row 'rate': files have a rate of their own");
    PlanRow row{.name = name};
    if (const toml::table* named = node.as_table()) {
      // A table of TOML has no order of its own: values stand as they are written.
      std::vector<std::pair<std::pair<std::size_t, std::size_t>, PlanValue>> placed;
      for (const auto& [key, value] : *named)
        placed.push_back({{key.source().begin.line, key.source().begin.column},
                          {std::string(key.str()), value_text(value, name)}});
      std::sort(placed.begin(), placed.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
      for (auto& [at, value] : placed) {
        require_value(node, row, value.name, value.name);
        row.values.push_back(std::move(value));
      }
    } else if (const toml::array* list = node.as_array()) {
      for (const toml::node& value : *list) {
        const std::string own = value_text(value, name);
        require_value(value, row, own, own);
        row.values.push_back({own, own});
      }
    }
    if (row.values.empty()) fail(node, fmt::format("row '{}': is no list of values", name));
    if (name == kRate || name == kBlock)
      for (const PlanValue& value : row.values)
        require_between(node, value.text, name == kRate ? kLowestRateHz : 1,
                        name == kRate ? kHighestRateHz : kLongestBlock);
    places_.emplace_back(place.begin.line, place.begin.column);
    plan_.rows.push_back(std::move(row));
  }
  void require_value(const toml::node& node, const PlanRow& row, const std::string& name,
                     const std::string& shown) const {
    if (name.empty() || name.find_first_of(" \t\n") != std::string::npos)
      fail(node, fmt::format("row '{}': '{}' is empty, or holds a space; a table gives it a name: {} = {{ "
                             "name = \"value\" }}",
                             row.name, shown, row.name));
    if (!plan_.side_by_side && std::any_of(row.values.begin(), row.values.end(),
                                           [&](const PlanValue& one) { return one.name == name; }))
      fail(node, fmt::format("row '{}': {} stands there twice: two cells would be alike", row.name, name));
  }
  void require_between(const toml::node& node, const std::string& text, double low, double high) const {
    const auto value = number_in(text);
    if (!value || *value != std::round(*value) || *value < low || *value > high)
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
  void require_rows() const {
    for (const auto& [hole, place] : used_)
      if (find_row(plan_, hole) == nullptr)
        fail(place, fmt::format("{{{}}} has no row: [rows] says which values it takes", hole));
  }
  [[nodiscard]] std::string row_named(const char* key) const {
    const auto name = text(table_, key);
    if (!name) return {};
    if (find_row(plan_, *name) == nullptr)
      fail(*table_.get(key),
           fmt::format("{}: there is no row '{}'{}", key, *name, name_hint(*name, row_names(plan_))));
    return *name;
  }

  // What is played is a recipe with whatever values stand in it.
  void require_recipes() {
    if (!plan_.play.file.empty() || !plan_.play.known()) return;
    const toml::node& node = *table_.get("play");
    if (const auto* rate = node.as_table()->get("sample_rate_hz"); rate != nullptr && rate->is_string())
      fail(*rate, "sample_rate_hz: a row 'rate' is played at each of its rates; no hole is needed");
    std::vector<std::string> holes = holes_in(plan_.play.recipe_file + plan_.play.recipe);
    holes.emplace_back(kRate);
    std::set<std::vector<std::string>> seen;
    for (const Cell& cell : cells_of(plan_)) {
      std::vector<std::string> values;
      for (const auto& [name, value] : cell.values)
        if (std::find(holes.begin(), holes.end(), name) != holes.end()) values.push_back(value);
      if (!seen.insert(values).second) continue;
      if (seen.size() > kMostTried) break;
      try {
        const Recipe recipe = recipe_of(plan_, cell);
        if (plan_.rate_hz == 0) plan_.rate_hz = recipe.sample_rate_hz;
      } catch (const Error& error) {
        std::string what = error.what();
        // Lines of what was written out again are not those of the plan.
        if (what.rfind("play:", 0) == 0) what = "play: " + what.substr(what.find(": ") + 2);
        fail(node, what + (holes.size() > 1 ? fmt::format(" (with {})", name_of(cell)) : ""));
      }
    }
    // Without holes it is kept as it is understood.
    if (holes.size() == 1) {
      Cell own;
      plan_.play = {.recipe = recipe_text(recipe_of(plan_, own))};
    }
  }

  void read_measures() {
    const toml::node* list = table_.get("measure");
    if (list == nullptr || !list->is_array() || list->as_array()->empty())
      fail(list == nullptr ? table_.source() : list->source(),
           "measure: a plan measures something: [[measure]] with = \"harmonics\"");
    for (const toml::node& node : *list->as_array()) {
      if (!node.is_table()) fail(node, "measure: is written [[measure]], once for each");
      plan_.measures.push_back(measure_of(*node.as_table()));
    }
  }

  PlanMeasure measure_of(const toml::table& table) const {
    PlanMeasure measure;
    const toml::node* with = table.get("with");
    const auto name = text(table, "with");
    if (!name) fail(table, "measure: says with which measurement: with = \"harmonics\"");
    measure.name = *name;
    measure.part = text(table, "part").value_or("");
    measure.against = text(table, "against").value_or("");
    if (measure.name == kExamination) {
      if (plan_.chain.empty())
        fail(*with, "examination: is of what is between, and this plan has nothing in 'through'");
      if (table.size() > 1) fail(table, "examination: has no options");
      return measure;
    }
    const MeasurementDescriptor* descriptor = find_measurement(measurements(), measure.name);
    if (descriptor == nullptr)
      fail(*with,
           fmt::format("there is no measurement '{}'{}", *name, name_hint(*name, measurement_names())));
    for (const auto& [key, value] : table) read_option(std::string(key.str()), value, measure);
    std::sort(measure.options.begin(), measure.options.end());
    require_against(table, *descriptor, measure);
    try {
      (void)measurement_of(measure);
    } catch (const Error& error) {
      fail(table, error.what());
    }
    return measure;
  }

  void read_option(const std::string& option, const toml::node& value, PlanMeasure& measure) const {
    if (option == "with" || option == "part" || option == "against") return;
    if (option == "show") {
      for (const std::string& name : words_in(values_text(value, option))) {
        if (!gives(measure, name))
          fail(value, fmt::format("show: {} gives no reading '{}'{}", measure.name, name,
                                  name_hint(name, readings_of(measure))));
        measure.show.push_back(name);
      }
    } else if (option == "channel") {
      const auto channel = value.value<std::int64_t>();
      if (!value.is_integer() || *channel < 1 || *channel > kMostChannels)
        fail(value, fmt::format("channel: is no whole number from 1 to {}", kMostChannels));
      measure.channel = static_cast<int>(*channel);
    } else if (option == "despite_faults") {
      if (!value.is_boolean()) fail(value, "despite_faults: is neither true nor false");
      measure.despite_faults = value.as_boolean()->get();
    } else {
      measure.options.emplace_back(option, values_text(value, option));
    }
  }

  void require_against(const toml::table& table, const MeasurementDescriptor& descriptor,
                       PlanMeasure& measure) const {
    if (measure.against == "played") measure.against.clear();
    const bool compares =
        descriptor.input == MeasuredInput::against || descriptor.input == MeasuredInput::pair;
    if (!measure.against.empty() && !compares)
      fail(*table.get("against"), fmt::format("{} compares nothing: it takes no 'against'", measure.name));
    if (descriptor.input == MeasuredInput::pair && measure.against.empty())
      fail(table, fmt::format("{}: says with which cell: against = \"first\", \"all\" or \"ROW=VALUE\"",
                              measure.name));
    if (compares && measure.against.empty() && !plan_.play.known())
      fail(table, fmt::format("{}: nothing is known of what was played: [play] says it, or against = "
                              "\"first\", \"all\" or \"ROW=VALUE\" compares cells",
                              measure.name));
    if (measure.against.empty() || measure.against == kFirst || measure.against == kAll) return;
    if (plan_.side_by_side)
      fail(*table.get("against"), "against: side by side, a cell is the first one, or compared with all");
    try {
      (void)row_values(plan_, measure.against);
    } catch (const Error& error) {
      fail(*table.get("against"), fmt::format("against: {}", error.what()));
    }
  }

  void read_limits() {
    const toml::node* list = table_.get("limit");
    if (list == nullptr) return;
    if (!list->is_array()) fail(*list, "limit: is written [[limit]], once for each");
    std::vector<std::string> readings;
    for (const PlanMeasure& measure : plan_.measures)
      for (std::string& name : readings_of(measure)) readings.push_back(std::move(name));
    for (const toml::node& node : *list->as_array()) {
      if (!node.is_table()) fail(node, "limit: is written [[limit]], once for each");
      const toml::table& table = *node.as_table();
      known(table, {"keep", "where", "other", "where_given"});
      const auto keep = text(table, "keep");
      if (!keep) fail(node, "limit: says what is kept: keep = \"thd_db<-80\"");
      PlanLimit limit;
      try {
        limit.limit = parse_limit(*keep);
        if (const auto where = text(table, "where")) limit.where = row_values(plan_, *where);
        if (const auto other = text(table, "other")) limit.other = row_values(plan_, *other);
      } catch (const Error& error) {
        fail(node, error.what());
      }
      if (const toml::node* given = table.get("where_given")) {
        if (!given->is_boolean()) fail(*given, "where_given: is neither true nor false");
        limit.where_given = given->as_boolean()->get();
      }
      if (names_other_cell(limit.limit.past) == limit.other.empty())
        fail(node, limit.other.empty()
                       ? "limit: 'other' stands for which cell? other = \"ROW=VALUE\" says it"
                       : "limit: other = … is used by a limit like keep = \"thd_db<=other+0.1\"");
      if (std::none_of(plan_.measures.begin(), plan_.measures.end(),
                       [&](const PlanMeasure& measure) { return gives(measure, limit.limit.name); }))
        fail(*table.get("keep"), fmt::format("no measurement of this plan gives a reading '{}'{}",
                                             limit.limit.name, name_hint(limit.limit.name, readings)));
      plan_.limits.push_back(std::move(limit));
    }
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
      for (const PlanRow& row : plan_.rows) values.push_back(row.values[i].name);
      if (!plan_.rows.empty() && !seen.insert(values).second)
        fail(*table_.get("rows"),
             fmt::format("two cells are alike: the values number {} stand there before", i + 1));
    }
  }

  std::string source_;
  toml::table table_;
  Plan plan_;
  std::vector<std::pair<std::string, toml::source_region>> used_;  // names of rows, and where
  std::vector<std::pair<std::size_t, std::size_t>> places_;        // of the rows
};

}  // namespace

Plan parse_plan(const std::string& text, const std::string& source, const std::filesystem::path& folder) {
  return PlanReader(text, source, folder).read();
}

}  // namespace wavicon
