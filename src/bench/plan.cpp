// SPDX-License-Identifier: MIT
#include "wavicon/bench/plan.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <cstdlib>
#include <map>
#include <sstream>

#include "bench/plan_names.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/bench/examination.hpp"
#include "wavicon/file/capture_file.hpp"

namespace wavicon {

namespace bench_detail {

std::optional<double> number_in(const std::string& text) {
  char* end = nullptr;
  const double value = std::strtod(text.c_str(), &end);
  if (text.empty() || *end != '\0' || !std::isfinite(value)) return std::nullopt;
  return value;
}

const PlanRow* find_row(const Plan& plan, const std::string& name) {
  const auto found =
      std::find_if(plan.rows.begin(), plan.rows.end(), [&](const PlanRow& row) { return row.name == name; });
  return found == plan.rows.end() ? nullptr : &*found;
}

std::vector<std::string> row_names(const Plan& plan) {
  std::vector<std::string> names;
  for (const PlanRow& row : plan.rows) names.push_back(row.name);
  return names;
}

std::vector<std::string> measurement_names() {
  std::vector<std::string> names = {kExamination};
  for (const MeasurementDescriptor& m : measurements()) names.push_back(m.name);
  return names;
}

std::vector<std::string> words_in(const std::string& text) {
  std::istringstream stream(text);
  std::vector<std::string> words;
  for (std::string word; stream >> word;) words.push_back(word);
  return words;
}

namespace {

bool is_name(const std::string& text) {
  return !text.empty() && std::all_of(text.begin(), text.end(), [](unsigned char c) {
    return std::isalnum(c) != 0 || c == '_' || c == '-';
  });
}

struct Hole {
  std::size_t first = 0, end = 0;  // of its braces
  std::string name;
};
std::vector<Hole> all_holes(const std::string& text) {
  std::vector<Hole> holes;
  for (std::size_t at = text.find('{'); at != std::string::npos; at = text.find('{', at + 1)) {
    const auto end = text.find('}', at);
    if (end == std::string::npos) break;
    const std::string name = text.substr(at + 1, end - at - 1);
    if (is_name(name)) holes.push_back({at, end + 1, name});
  }
  return holes;
}

}  // namespace

std::vector<std::string> holes_in(const std::string& text) {
  std::vector<std::string> names;
  for (const Hole& hole : all_holes(text)) names.push_back(hole.name);
  return names;
}

std::string filled_holes(const std::string& text,
                         const std::vector<std::pair<std::string, std::string>>& texts, bool bare_numbers) {
  std::string whole;
  std::size_t taken = 0;
  for (const Hole& hole : all_holes(text)) {
    const auto value =
        std::find_if(texts.begin(), texts.end(), [&](const auto& one) { return one.first == hole.name; });
    if (value == texts.end()) continue;
    std::size_t first = hole.first, end = hole.end;
    const bool quoted = first > taken && end < text.size() && text[first - 1] == text[end] &&
                        (text[end] == '"' || text[end] == '\'');
    if (bare_numbers && quoted && number_in(value->second)) --first, ++end;
    whole += text.substr(taken, first - taken) + value->second;
    taken = end;
  }
  return whole + text.substr(taken);
}

bool names_other_cell(const std::string& past) {
  const std::string word = kOther;
  if (past.rfind(word, 0) != 0) return false;
  return past.size() == word.size() || past[word.size()] == '+' || past[word.size()] == '-' ||
         past[word.size()] == ' ';
}

std::vector<std::string> readings_of(const PlanMeasure& measure) {
  if (measure.name != kExamination) return reading_names(*find_measurement(measurements(), measure.name));
  std::vector<std::string> names;
  for (const ReadingEntry& entry : examination_readings().entries) names.push_back(entry.name);
  return names;
}

bool gives(const PlanMeasure& measure, const std::string& reading) {
  ReadingTable names;
  for (const std::string& name : readings_of(measure)) names.entries.push_back({.name = name});
  return find_entry(names, reading) != nullptr;
}

}  // namespace bench_detail

namespace {

using namespace bench_detail;

double parse_number(const std::string& text, const std::string& what) {
  if (const auto number = number_in(text)) return *number;
  throw Error(ErrorCode::bad_argument, fmt::format("{}: '{}' is no number", what, text));
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

using Texts = std::vector<std::pair<std::string, std::string>>;

// What stands in place of each row's name.
Texts texts_of(const Plan& plan, const Cell& cell) {
  Texts texts;
  for (const auto& [name, value] : cell.values) {
    const PlanRow* row = find_row(plan, name);
    if (row == nullptr) continue;
    const auto found =
        std::find_if(row->values.begin(), row->values.end(),
                     [&, &wanted = value](const PlanValue& one) { return one.name == wanted; });
    texts.emplace_back(name, found == row->values.end() ? value : found->text);
  }
  return texts;
}

Cell cell_of(const Plan& plan, const std::vector<std::size_t>& at) {
  Cell cell{.rate_hz = plan.rate_hz, .block_frames = plan.block_frames};
  Texts texts;
  for (std::size_t r = 0; r < plan.rows.size(); ++r) {
    const PlanRow& row = plan.rows[r];
    const PlanValue& value = row.values[at[r]];
    cell.values.emplace_back(row.name, value.name);
    texts.emplace_back(row.name, value.text);
    if (row.name == kRate) cell.rate_hz = std::strtod(value.text.c_str(), nullptr);
    if (row.name == kBlock) cell.block_frames = std::atoi(value.text.c_str());
  }
  for (const std::string& unit : plan.chain) {
    const std::string text = filled_holes(unit, texts, false);
    // A value that stands for all of it may be several units, or none.
    const bool whole = unit.size() > 2 && unit.front() == '{' && unit.find('}') == unit.size() - 1;
    for (const std::string& one : whole ? words_in(text) : std::vector<std::string>{text})
      if (one != kNothing) cell.chain.push_back(one);
  }
  cell.capture = filled_holes(plan.captures, texts, false);
  return cell;
}

// The cell that differs from another one in these values alone.
Cell changed(const Plan& plan, const Cell& cell, const Texts& values) {
  std::vector<std::size_t> at;
  for (std::size_t r = 0; r < plan.rows.size(); ++r) {
    std::string wanted = cell.values[r].second;
    for (const auto& [name, value] : values)
      if (name == plan.rows[r].name) wanted = value;
    const auto& all = plan.rows[r].values;
    at.push_back(static_cast<std::size_t>(
        std::find_if(all.begin(), all.end(), [&](const PlanValue& one) { return one.name == wanted; }) -
        all.begin()));
  }
  return cell_of(plan, at);
}

bool is_whole(const PlanMeasure& measure) {
  const MeasurementDescriptor* descriptor = find_measurement(measurements(), measure.name);
  return descriptor != nullptr && descriptor->input == MeasuredInput::recording;
}

}  // namespace

std::string name_of(const Cell& cell) {
  std::string name;
  for (const auto& [row, value] : cell.values)
    name += fmt::format("{}{}={}", name.empty() ? "" : " ", row, value);
  return name.empty() ? "all" : name;
}

std::string name_of(const CellRun& run) {
  if (run.together) return "all";
  std::string name = name_of(run.cell);
  if (run.others.empty()) return name;
  Cell differing;
  for (std::size_t i = 0; i < run.cell.values.size(); ++i)
    if (run.cell.values[i] != run.others.front().values[i])
      differing.values.push_back(run.others.front().values[i]);
  return name + " against " + name_of(differing);
}

std::string filled(const Plan& plan, const Cell& cell, const std::string& text) {
  return filled_holes(text, texts_of(plan, cell), false);
}

Recipe recipe_of(const Plan& plan, const Cell& cell) {
  Recipe recipe;
  if (!plan.play.recipe_file.empty()) {
    recipe = read_recipe(plan.folder / filled(plan, cell, plan.play.recipe_file));
  } else if (!plan.play.recipe.empty()) {
    recipe = parse_recipe(filled_holes(plan.play.recipe, texts_of(plan, cell), true), "play");
  } else {
    throw Error(ErrorCode::bad_argument, "the plan plays no recipe");
  }
  if (cell.rate_hz > 0) recipe.sample_rate_hz = cell.rate_hz;
  require_valid(recipe);
  return recipe;
}

std::vector<Cell> cells_of(const Plan& plan) {
  std::vector<Cell> cells;
  std::vector<std::size_t> at(plan.rows.size(), 0);
  for (bool more = true; more;) {
    cells.push_back(cell_of(plan, at));
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
  const auto wanted = row_values(plan, only);
  std::vector<Cell> cells = cells_of(plan);
  std::erase_if(cells, [&](const Cell& cell) {
    return !std::all_of(wanted.begin(), wanted.end(), [&](const auto& value) {
      return std::find(cell.values.begin(), cell.values.end(), value) != cell.values.end();
    });
  });
  return cells;
}

std::vector<std::pair<std::string, std::string>> row_values(const Plan& plan, const std::string& text) {
  std::vector<std::pair<std::string, std::string>> named;
  for (const std::string& word : words_in(text)) {
    const auto at = word.find('=');
    const std::string name = word.substr(0, at), value = at == std::string::npos ? "" : word.substr(at + 1);
    const PlanRow* row = find_row(plan, name);
    if (at == std::string::npos || row == nullptr)
      throw Error(ErrorCode::bad_argument,
                  fmt::format("'{}' is no ROW=VALUE of this plan{}", word, name_hint(name, row_names(plan))));
    std::vector<std::string> values;
    for (const PlanValue& one : row->values) values.push_back(one.name);
    if (std::find(values.begin(), values.end(), value) == values.end())
      throw Error(ErrorCode::bad_argument,
                  fmt::format("row '{}' does not take '{}'{}", name, value, name_hint(value, values)));
    named.emplace_back(name, value);
  }
  return named;
}

std::unique_ptr<Measurement> measurement_of(const PlanMeasure& measure) {
  const MeasurementDescriptor* descriptor = find_measurement(measurements(), measure.name);
  if (descriptor == nullptr)
    throw Error(ErrorCode::bad_argument, fmt::format("there is no measurement '{}'{}", measure.name,
                                                     name_hint(measure.name, measurement_names())));
  auto made = descriptor->make();
  auto fields = made->fields();
  std::vector<std::string> keys = {"part", "against"};
  for (const OptionField& field : fields) keys.push_back(field.key);
  for (const auto& [key, text] : measure.options) {
    const auto field = std::find_if(fields.begin(), fields.end(),
                                    [&, &key = key](const OptionField& one) { return one.key == key; });
    if (field == fields.end())
      throw Error(ErrorCode::bad_argument,
                  fmt::format("{} has no option '{}'{}", measure.name, key, name_hint(key, keys)));
    std::visit(SetOption{key, text}, field->target);
  }
  require_in_range(fields);
  return made;
}

std::vector<CellRun> runs_of(const Plan& plan, const std::vector<Cell>& cells) {
  std::vector<PlanMeasure> own, whole;
  std::vector<std::string> against;  // what cells are compared with, as it is written
  for (const PlanMeasure& measure : plan.measures) {
    if (is_whole(measure))
      whole.push_back(measure);
    else if (measure.against.empty())
      own.push_back(measure);
    else if (std::find(against.begin(), against.end(), measure.against) == against.end())
      against.push_back(measure.against);
  }
  std::vector<CellRun> runs;
  if (!own.empty())
    for (const Cell& cell : cells) runs.push_back({.cell = cell, .measures = own});
  for (const std::string& with : against) {
    std::vector<PlanMeasure> measures;
    for (const PlanMeasure& measure : plan.measures)
      if (measure.against == with && !is_whole(measure)) measures.push_back(measure);
    if (with == kAll && cells.size() * (cells.size() - 1) / 2 > kMostCells)
      throw Error(ErrorCode::bad_argument,
                  fmt::format("{} cells against each other are {} comparisons; {} are the most", cells.size(),
                              cells.size() * (cells.size() - 1) / 2, kMostCells));
    const auto values = with == kAll || with == kFirst ? Texts{} : row_values(plan, with);
    for (std::size_t b = 0; b < cells.size(); ++b) {
      if (with == kAll) {
        for (std::size_t a = 0; a < b; ++a)
          runs.push_back({.cell = cells[b], .others = {cells[a]}, .measures = measures});
        continue;
      }
      Cell other = with == kFirst ? cells.front() : changed(plan, cells[b], values);
      if (other.values != cells[b].values)
        runs.push_back({.cell = cells[b], .others = {std::move(other)}, .measures = measures});
    }
  }
  if (!whole.empty()) {
    CellRun all{.cell = cells.front(), .others = cells, .together = true, .measures = whole};
    runs.push_back(std::move(all));
  }
  return runs;
}

}  // namespace wavicon
