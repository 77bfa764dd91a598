// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <nlohmann/json.hpp>

#include "wavicon/audio/error.hpp"
#include "wavicon/file/sheet_file.hpp"

namespace wavicon {
namespace {

using Json = nlohmann::ordered_json;

constexpr int kVersion = 1;
constexpr std::int64_t kMostChannels = 100'000;

// One sheet of a text, and where it is there.
class SheetReader {
 public:
  SheetReader(const Json& json, std::string where) : json_(json), where_(std::move(where)) {}

  Sheet read() {
    if (!json_.is_object() || json_.value("format", Json()) != Json("wavicon-sheet"))
      fail("is no sheet: it has no \"format\": \"wavicon-sheet\"");
    const Json& version = member(json_, "version", "the sheet");
    if (!version.is_number_integer()) fail("its \"version\" is no whole number");
    if (version.get<std::int64_t>() > kVersion)
      fail(fmt::format("is a sheet of version {}; this program knows version {}: read it with a newer one",
                       version.get<std::int64_t>(), kVersion));
    sheet_.measurement = text(json_, "measurement", "the sheet");
    if (sheet_.measurement.empty()) fail("its \"measurement\" is empty");
    const Json& capture = member(json_, "capture", "the sheet");
    if (!capture.is_object()) fail("its \"capture\" is no object");
    sheet_.capture.file = text(capture, "file", "capture", true);
    sheet_.capture.format = text(capture, "format", "capture", true);
    sheet_.capture.sample_rate_hz = number(capture, "sample_rate_hz", "capture").value_or(0);
    sheet_.capture.channels = static_cast<int>(whole(capture, "channels", "capture", 0, kMostChannels));
    sheet_.capture.frames = whole(capture, "frames", "capture", 0, std::numeric_limits<std::int64_t>::max());
    each("readings", [&](const Json& item, const std::string& where) { add_reading(item, where); });
    each("curves", [&](const Json& item, const std::string& where) { add_curve(item, where); });
    each("findings", [&](const Json& item, const std::string& where) { add_finding(item, where); });
    if (json_.contains("maps"))
      each("maps", [&](const Json& item, const std::string& where) { add_map(item, where); });
    if (json_.contains("context")) add_context(json_.at("context"));
    return std::move(sheet_);
  }

 private:
  [[noreturn]] void fail(const std::string& what) const {
    throw Error(ErrorCode::bad_input, where_ + ": " + what);
  }

  const Json& member(const Json& object, const char* key, const std::string& of) const {
    const auto found = object.find(key);
    if (found == object.end()) fail(fmt::format("{} has no \"{}\"", of, key));
    return *found;
  }
  [[nodiscard]] std::string text(const Json& object, const char* key, const std::string& of,
                                 bool optional = false) const {
    if (optional && !object.contains(key)) return "";
    const Json& value = member(object, key, of);
    if (!value.is_string()) fail(fmt::format("\"{}\" of {} is no text", key, of));
    return value.get<std::string>();
  }
  [[nodiscard]] std::optional<double> number(const Json& object, const char* key,
                                             const std::string& of) const {
    const auto found = object.find(key);
    if (found == object.end() || found->is_null()) return std::nullopt;
    if (!found->is_number()) fail(fmt::format("\"{}\" of {} is no number", key, of));
    const auto value = found->get<double>();
    if (!std::isfinite(value)) fail(fmt::format("\"{}\" of {} is no finite number", key, of));
    return value;
  }
  [[nodiscard]] std::int64_t whole(const Json& object, const char* key, const std::string& of,
                                   std::int64_t least, std::int64_t most) const {
    const Json& value = member(object, key, of);
    if (!value.is_number_integer() || value.get<std::int64_t>() < least || value.get<std::int64_t>() > most)
      fail(fmt::format("\"{}\" of {} is no whole number from {} to {}", key, of, least, most));
    return value.get<std::int64_t>();
  }

  template <typename Add>
  void each(const char* key, Add&& add) {
    const Json& list = member(json_, key, "the sheet");
    if (!list.is_array()) fail(fmt::format("its \"{}\" are no array", key));
    std::size_t count = 0;
    for (const Json& item : list) {
      const std::string where = fmt::format("{} of \"{}\"", ++count, key);
      if (!item.is_object()) fail(fmt::format("number {} is no object", where));
      add(item, "number " + where);
    }
  }

  // Mid and side stand in the order in which they come.
  [[nodiscard]] std::optional<int> channel(const Json& item, const std::string& of) {
    if (item.contains("view")) {
      const std::string view = text(item, "view", of);
      auto& names = sheet_.channel_names;
      const auto found = std::find(names.begin(), names.end(), view);
      if (found != names.end()) return static_cast<int>(found - names.begin());
      names.push_back(view);
      return static_cast<int>(names.size()) - 1;
    }
    if (!item.contains("channel")) return std::nullopt;
    return static_cast<int>(whole(item, "channel", of, 1, kMostChannels)) - 1;
  }

  void add_reading(const Json& item, const std::string& of) {
    Reading reading;
    reading.name = text(item, "name", of);
    reading.channel = channel(item, of);
    const Json& value = member(item, "value", of);
    if (value.is_string())
      reading.text = value.get<std::string>();
    else
      reading.value = number(item, "value", of);
    reading.unit = text(item, "unit", of, true);
    reading.floor = number(item, "floor", of);
    reading.uncertainty = number(item, "uncertainty", of);
    if (reading.uncertainty && *reading.uncertainty < 0)
      fail(fmt::format("\"uncertainty\" of {} is below 0", of));
    if (item.contains("bound")) {
      if (!item.at("bound").is_boolean()) fail(fmt::format("\"bound\" of {} is neither true nor false", of));
      reading.bound = item.at("bound").get<bool>();
    }
    if (item.contains("conditions")) {
      const Json& conditions = item.at("conditions");
      if (!conditions.is_object()) fail(fmt::format("\"conditions\" of {} are no object", of));
      for (const auto& [name, condition] : conditions.items())
        reading.conditions.emplace_back(name, condition_value(condition, of));
    }
    sheet_.readings.push_back(std::move(reading));
  }

  [[nodiscard]] ConditionValue condition_value(const Json& json, const std::string& of) const {
    if (json.is_boolean()) return json.get<bool>();
    if (json.is_string()) return json.get<std::string>();
    if (json.is_number_integer()) return json.get<std::int64_t>();
    if (json.is_number()) return json.get<double>();
    if (json.is_array()) return values(json, of);
    if (json.is_null()) return std::numeric_limits<double>::quiet_NaN();
    fail(fmt::format("a condition of {} is neither number nor text", of));
  }

  // What is null there is no number here: it is null again where it is written.
  [[nodiscard]] std::vector<double> values(const Json& json, const std::string& of) const {
    if (!json.is_array()) fail(fmt::format("values of {} are no array", of));
    std::vector<double> all;
    all.reserve(json.size());
    for (const Json& value : json) {
      if (!value.is_number() && !value.is_null()) fail(fmt::format("a value of {} is no number", of));
      all.push_back(value.is_null() ? std::numeric_limits<double>::quiet_NaN() : value.get<double>());
    }
    return all;
  }

  void add_curve(const Json& item, const std::string& of) {
    Curve curve;
    curve.name = text(item, "name", of);
    curve.channel = channel(item, of);
    curve.x_unit = text(item, "x_unit", of);
    curve.y_unit = text(item, "y_unit", of);
    curve.x = values(member(item, "x", of), of);
    curve.y = values(member(item, "y", of), of);
    if (curve.x.size() != curve.y.size())
      fail(fmt::format("{} has {} values of x and {} of y", of, curve.x.size(), curve.y.size()));
    sheet_.curves.push_back(std::move(curve));
  }

  void add_map(const Json& item, const std::string& of) {
    LevelMap map;
    map.name = text(item, "name", of);
    map.channel = channel(item, of);
    map.x_unit = text(item, "x_unit", of);
    map.y_unit = text(item, "y_unit", of);
    map.z_unit = text(item, "z_unit", of);
    map.x = values(member(item, "x", of), of);
    map.y = values(member(item, "y", of), of);
    map.z = values(member(item, "z", of), of);
    if (map.z.size() != map.x.size() * map.y.size())
      fail(fmt::format("{} has {} levels and not {} × {}", of, map.z.size(), map.x.size(), map.y.size()));
    sheet_.maps.push_back(std::move(map));
  }

  // Codes came with findings later than the texts.
  void add_finding(const Json& item, const std::string& of) {
    Finding finding;
    const std::string severity = text(item, "severity", of);
    if (severity == name_of(Severity::fault))
      finding.severity = Severity::fault;
    else if (severity == name_of(Severity::warning))
      finding.severity = Severity::warning;
    else if (severity != name_of(Severity::note))
      fail(fmt::format("\"severity\" of {} is neither note, warning nor fault", of));
    finding.code = finding_code(text(item, "code", of, true)).value_or(FindingCode::detail);
    finding.channel = channel(item, of);
    finding.text = text(item, "text", of);
    sheet_.findings.push_back(std::move(finding));
  }

  void add_context(const Json& item) {
    const std::string of = "context";
    if (!item.is_object()) fail("its \"context\" is no object");
    SheetContext context;
    context.version = text(item, "version", of, true);
    if (item.contains("arithmetic"))
      context.arithmetic = static_cast<int>(whole(item, "arithmetic", of, 0, 1'000'000));
    if (item.contains("made_at")) {
      try {
        context.made_s = parse_time(text(item, "made_at", of));
      } catch (const Error&) {
        fail("\"made_at\" of context is no time");
      }
    }
    if (item.contains("options")) {
      if (!item.at("options").is_object()) fail("\"options\" of context are no object");
      for (const auto& [name, value] : item.at("options").items()) {
        if (!value.is_string()) fail("an option of context is no text");
        context.options.emplace_back(name, value.get<std::string>());
      }
    }
    context.stimulus = text(item, "stimulus", of, true);
    context.recipe = text(item, "recipe", of, true);
    context.machine = text(item, "machine", of, true);
    context.took_s = std::max(0.0, number(item, "took_s", of).value_or(0));
    if (item.contains("chain")) {
      if (!item.at("chain").is_array()) fail("\"chain\" of context is no array");
      for (const Json& unit : item.at("chain")) {
        if (!unit.is_string()) fail("a unit of context's chain is no text");
        context.chain.push_back(unit.get<std::string>());
      }
    }
    sheet_.capture.recipe = context.recipe;
    sheet_.capture.chain = context.chain;
    sheet_.context = std::move(context);
  }

  const Json& json_;
  std::string where_;
  Sheet sheet_;
};

void add_sheets(const Json& json, const std::string& where, std::vector<Sheet>& sheets) {
  if (json.is_array()) {
    std::size_t count = 0;
    for (const Json& one : json)
      sheets.push_back(SheetReader(one, fmt::format("{}, sheet {}", where, ++count)).read());
    return;
  }
  sheets.push_back(SheetReader(json, where).read());
}

std::size_t line_of(const std::string& text, std::size_t byte) {
  return 1 +
         static_cast<std::size_t>(std::count(
             text.begin(), text.begin() + static_cast<std::ptrdiff_t>(std::min(byte, text.size())), '\n'));
}

}  // namespace

std::vector<Sheet> sheets_from_json(const std::string& text, const std::string& name) {
  if (text.find_first_not_of(" \t\r\n") == std::string::npos)
    throw Error(ErrorCode::bad_input, name + ": is empty; a sheet is what --sheet or --json write");
  std::vector<Sheet> sheets;
  try {
    add_sheets(Json::parse(text), name, sheets);
  } catch (const Json::parse_error& error) {
    throw Error(ErrorCode::bad_input,
                fmt::format("{}: is no JSON (line {}): a sheet is what --sheet or --json write", name,
                            line_of(text, error.byte)));
  } catch (const Json::out_of_range&) {
    throw Error(ErrorCode::bad_input, name + ": holds a number that is too large for any program");
  }
  if (sheets.empty()) throw Error(ErrorCode::bad_input, name + ": holds no sheet");
  return sheets;
}

Sheet sheet_from_json(const std::string& text, const std::string& name) {
  auto sheets = sheets_from_json(text, name);
  if (sheets.size() > 1)
    throw Error(ErrorCode::bad_input, fmt::format("{}: holds {} sheets, not one", name, sheets.size()));
  return std::move(sheets.front());
}

}  // namespace wavicon
