// SPDX-License-Identifier: MIT
#include "wavicon/file/sheet_file.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <nlohmann/json.hpp>

#include "wavicon/audio/plain_text.hpp"

namespace wavicon {
namespace {

using Json = nlohmann::ordered_json;

// Twelve digits: beyond what any reading means, and short of where processors round differently.
Json number(double value) {
  if (!std::isfinite(value)) return nullptr;
  return std::strtod(fmt::format("{:.12g}", value).c_str(), nullptr);
}
Json number(const std::optional<double>& value) { return value ? number(*value) : Json(nullptr); }

Json numbers(const std::vector<double>& values) {
  Json list = Json::array();
  for (const double value : values) list.push_back(number(value));
  return list;
}

Json condition(const ConditionValue& value) {
  if (const auto* real = std::get_if<double>(&value)) return number(*real);
  if (const auto* list = std::get_if<std::vector<double>>(&value)) return numbers(*list);
  if (const auto* text = std::get_if<std::string>(&value)) return *text;
  if (const auto* whole = std::get_if<std::int64_t>(&value)) return *whole;
  return std::get<bool>(value);
}

Json conditions(const Conditions& from) {
  Json object = Json::object();
  for (const auto& [name, value] : from) object[name] = condition(value);
  return object;
}

// Mid and side are no channels: their conditions say which is which.
void add_channel(Json& object, const std::optional<int>& channel, const Sheet& sheet) {
  if (channel && sheet.channel_names.empty()) object["channel"] = *channel + 1;
  if (channel && !sheet.channel_names.empty()) object["view"] = channel_name(sheet, *channel);
}

Json reading(const Reading& r, const Sheet& sheet) {
  Json object;
  object["name"] = r.name;
  add_channel(object, r.channel, sheet);
  object["value"] = r.text.empty() ? number(r.value) : Json(r.text);
  object["unit"] = r.unit;
  object["floor"] = number(r.floor);
  if (r.uncertainty) object["uncertainty"] = number(*r.uncertainty);
  if (r.bound) object["bound"] = true;
  object["conditions"] = conditions(r.conditions);
  return object;
}

Json curve(const Curve& c, const Sheet& sheet) {
  Json object;
  object["name"] = c.name;
  add_channel(object, c.channel, sheet);
  object["x_unit"] = c.x_unit;
  object["y_unit"] = c.y_unit;
  // Curves are for drawing: a thousandth of a decibel, six digits of a frequency.
  Json x = Json::array(), y = Json::array();
  for (const double value : c.x) x.push_back(std::strtod(fmt::format("{:.6g}", value).c_str(), nullptr));
  for (const double value : c.y)
    y.push_back(c.y_unit.rfind("dB", 0) == 0 ? std::round(value * 1000) / 1000
                                             : std::strtod(fmt::format("{:.7g}", value).c_str(), nullptr));
  object["x"] = std::move(x);
  object["y"] = std::move(y);
  return object;
}

Json map(const LevelMap& m, const Sheet& sheet) {
  Json object;
  object["name"] = m.name;
  add_channel(object, m.channel, sheet);
  object["x_unit"] = m.x_unit;
  object["y_unit"] = m.y_unit;
  object["z_unit"] = m.z_unit;
  auto rounded = [](const std::vector<double>& values, const char* digits) {
    Json list = Json::array();
    for (const double value : values)
      list.push_back(std::strtod(fmt::format(fmt::runtime(digits), value).c_str(), nullptr));
    return list;
  };
  object["x"] = rounded(m.x, "{:.6g}");
  object["y"] = rounded(m.y, "{:.6g}");
  object["z"] = rounded(m.z, "{:.1f}");
  return object;
}

Json finding(const Finding& f, const Sheet& sheet) {
  Json object;
  object["severity"] = name_of(f.severity);
  object["code"] = word_of(f.code);
  add_channel(object, f.channel, sheet);
  object["text"] = f.text;
  return object;
}

// Names from outside need not be UTF-8, and what a terminal takes for a command is written as an escape.
std::string dumped(const Json& json) {
  const std::string text = json.dump(-1, ' ', false, Json::error_handler_t::replace);
  std::string safe;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const auto byte = static_cast<unsigned char>(text[i]),
               next = static_cast<unsigned char>(i + 1 < text.size() ? text[i + 1] : 0);
    if (byte == 0x7F)
      safe += "\\u007f";
    else if (byte == 0xC2 && next >= 0x80 && next <= 0x9F)
      safe += fmt::format("\\u{:04x}", text[++i] & 0xFF);
    else
      safe += text[i];
  }
  return safe;
}

// With a note on a name that JSON cannot hold as it is.
std::vector<Finding> findings_of(const Sheet& sheet) {
  std::vector<Finding> findings = sheet.findings;
  if (!is_utf8(sheet.capture.file))
    findings.push_back({Severity::note, FindingCode::unreadable_name,
                        "the file's name is not UTF-8: each byte that is none stands here as U+FFFD",
                        std::nullopt});
  return findings;
}

// One item a line: a person can read it, and two sheets can be compared line by line.
template <typename Items, typename Convert>
std::string list(const std::string& name, const Items& items, Convert convert, const Sheet& sheet) {
  std::string text = fmt::format("  \"{}\": [", name);
  const char* before = "\n    ";
  for (const auto& item : items) {
    text += before + dumped(convert(item, sheet));
    before = ",\n    ";
  }
  return text + (items.empty() ? "]" : "\n  ]");
}

Json context(const SheetContext& from) {
  Json object;
  object["version"] = from.version;
  object["arithmetic"] = from.arithmetic;
  if (from.made_s != 0) object["made_at"] = time_text(from.made_s);
  object["options"] = Json::object();
  for (const auto& [name, value] : from.options) object["options"][name] = value;
  if (!from.stimulus.empty()) object["stimulus"] = from.stimulus;
  if (!from.recipe.empty()) object["recipe"] = from.recipe;
  object["chain"] = from.chain;
  if (!from.machine.empty()) object["machine"] = from.machine;
  if (from.took_s > 0) object["took_s"] = from.took_s;
  return object;
}

std::string sheet_text(const Sheet& sheet) {
  Json capture;
  if (!sheet.capture.file.empty()) capture["file"] = sheet.capture.file;
  if (!sheet.capture.format.empty()) capture["format"] = sheet.capture.format;
  capture["sample_rate_hz"] = number(sheet.capture.sample_rate_hz);
  capture["channels"] = sheet.capture.channels;
  capture["frames"] = sheet.capture.frames;
  return fmt::format(
      "{{\n  \"format\": \"wavicon-sheet\",\n  \"version\": 1,\n  \"measurement\": {},\n  \"capture\": "
      "{},\n{},\n{},\n{}{}{}\n}}",
      dumped(Json(sheet.measurement)), dumped(capture), list("readings", sheet.readings, reading, sheet),
      list("curves", sheet.curves, curve, sheet), list("findings", findings_of(sheet), finding, sheet),
      sheet.maps.empty() ? "" : ",\n" + list("maps", sheet.maps, map, sheet),
      sheet.context ? fmt::format(",\n  \"context\": {}", dumped(context(*sheet.context))) : "");
}

std::string csv_text(const std::string& from) {
  const std::string text = printable(from);
  if (text.find_first_of(",\"\n;") == std::string::npos) return text;
  std::string result = "\"";
  for (const char c : text) result += c == '"' ? std::string("\"\"") : std::string(1, c);
  return result + "\"";
}

std::string csv_number(const std::optional<double>& value) {
  return value && std::isfinite(*value) ? fmt::format("{:.12g}", *value) : "";
}

// Whether a column of a page holds figures, which have uncertainties.
bool holds_figures(const PageTable& table, std::size_t column) {
  return std::any_of(table.rows.begin(), table.rows.end(),
                     [&](const auto& row) { return !std::holds_alternative<std::string>(row[column]); });
}

Json cell(const PageCell& from) {
  if (const auto* text = std::get_if<std::string>(&from)) return *text;
  Json object;
  if (const auto* figure = std::get_if<Reading>(&from)) {
    object["value"] = figure->text.empty() ? number(figure->value) : Json(figure->text);
    object["unit"] = figure->unit;
    if (figure->uncertainty) object["uncertainty"] = number(*figure->uncertainty);
    if (figure->bound) object["bound"] = true;
  } else {
    const auto& change = std::get<FigureChange>(from);
    object["change"] = number(change.value);
    object["unit"] = change.unit;
    object["uncertainty"] = number(change.uncertainty);
  }
  return object;
}

// A sentence with the figures as they are.
std::string plain_sentence(const std::vector<PageCell>& pieces) {
  std::string text;
  for (const PageCell& piece : pieces) {
    if (const auto* words = std::get_if<std::string>(&piece)) {
      text += *words;
    } else if (const auto* figure = std::get_if<Reading>(&piece)) {
      text += fmt::format("{}{:.6g}{}{}", figure->bound ? "< " : "", figure->value.value_or(0),
                          figure->unit.empty() ? "" : " ", figure->unit);
    } else {
      const auto& change = std::get<FigureChange>(piece);
      text += fmt::format("{:+.4g}{}{}", change.value, change.unit.empty() ? "" : " ", change.unit);
    }
  }
  return text;
}

}  // namespace

std::string page_to_json(const Page& page) {
  Json object, answer = Json::array();
  for (const auto& sentence : page.answer) answer.push_back(plain_sentence(sentence));
  object["answer"] = std::move(answer);
  if (!page.under.empty()) object["conditions"] = conditions(page.under);
  for (const PageTable& table : page.tables) {
    Json rows = Json::array();
    for (const auto& row : table.rows) {
      Json one = Json::object();
      for (std::size_t c = 0; c < row.size(); ++c) one[table.columns[c].key] = cell(row[c]);
      rows.push_back(std::move(one));
    }
    object[table.key] = std::move(rows);
  }
  object["remarks"] = page.remarks;
  return dumped(object) + "\n";
}

std::string page_to_csv(const Page& page) {
  const auto found = std::find_if(page.tables.begin(), page.tables.end(),
                                  [](const PageTable& table) { return !table.rows.empty(); });
  if (found == page.tables.end()) return "";
  std::string text;
  std::vector<bool> figures;
  for (std::size_t c = 0; c < found->columns.size(); ++c) {
    figures.push_back(holds_figures(*found, c));
    text += (c == 0 ? "" : ",") + found->columns[c].key;
    if (figures.back())
      text += fmt::format(",{}_unit,{}_uncertainty", found->columns[c].key, found->columns[c].key);
  }
  text += "\n";
  for (const auto& row : found->rows) {
    for (std::size_t c = 0; c < row.size(); ++c) {
      if (c > 0) text += ",";
      if (const auto* words = std::get_if<std::string>(&row[c])) {
        text += csv_text(*words) + (figures[c] ? ",," : "");
      } else if (const auto* figure = std::get_if<Reading>(&row[c])) {
        text += fmt::format("{}{},{},{}", figure->bound ? "<" : "",
                            figure->text.empty() ? csv_number(figure->value) : csv_text(figure->text),
                            figure->unit, csv_number(figure->uncertainty));
      } else {
        const auto& change = std::get<FigureChange>(row[c]);
        text +=
            fmt::format("{},{},{}", csv_number(change.value), change.unit, csv_number(change.uncertainty));
      }
    }
    text += "\n";
  }
  return text;
}

std::string sheets_to_json(const std::vector<Sheet>& sheets) {
  if (sheets.size() == 1) return sheet_text(sheets.front()) + "\n";
  std::string text = "[";
  for (std::size_t i = 0; i < sheets.size(); ++i) text += (i == 0 ? "\n" : ",\n") + sheet_text(sheets[i]);
  return text + "\n]\n";
}

std::string sheets_to_json_line(std::vector<Sheet> sheets,
                                const std::vector<std::pair<std::string, std::string>>& texts,
                                const std::vector<std::pair<std::string, double>>& numbers) {
  Json line = Json::object();
  for (const auto& [name, number] : numbers) line[name] = number;
  for (const auto& [name, text] : texts) line[name] = text;
  line["sheets"] = Json::array();
  for (Sheet& sheet : sheets) {
    sheet.curves.clear();
    sheet.maps.clear();
    line["sheets"].push_back(Json::parse(sheet_text(sheet)));
  }
  return line.dump(-1, ' ', false, Json::error_handler_t::replace);
}

std::string sheets_to_csv(const std::vector<Sheet>& sheets) {
  std::string text = "file,measurement,name,channel,value,unit,floor,uncertainty,bound,conditions\n";
  for (const Sheet& sheet : sheets) {
    for (const Reading& r : sheet.readings) {
      std::string circumstances;
      for (const auto& [name, value] : r.conditions) {
        if (!circumstances.empty()) circumstances += "; ";
        const Json json = condition(value);
        circumstances += name + "=" + (json.is_string() ? json.get<std::string>() : dumped(json));
      }
      text += fmt::format(
          "{},{},{},{},{},{},{},{},{},{}\n", csv_text(sheet.capture.file), sheet.measurement, r.name,
          !r.channel                    ? ""
          : sheet.channel_names.empty() ? std::to_string(*r.channel + 1)
                                        : channel_name(sheet, *r.channel),
          r.text.empty() ? csv_number(r.value) : csv_text(r.text), r.unit, csv_number(r.floor),
          csv_number(r.uncertainty), r.bound ? "true" : "false", csv_text(circumstances));
    }
  }
  return text;
}

}  // namespace wavicon
