// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/limits.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/path/unit.hpp"

namespace wavicon {
namespace {

Error argument_error(const std::string& message) { return Error(ErrorCode::bad_argument, message); }

std::vector<std::string> split(const std::string& text, char separator) {
  std::vector<std::string> parts;
  std::size_t start = 0;
  for (std::size_t at; (at = text.find(separator, start)) != std::string::npos; start = at + 1)
    parts.push_back(text.substr(start, at - start));
  parts.push_back(text.substr(start));
  return parts;
}

std::string number_text(double value) { return fmt::format("{:.6g}", value); }

std::string allowed(const SettingInfo& setting) {
  std::string text;
  for (const SettingChoice& choice : setting.choices) {
    const std::string number = number_text(choice.value);
    text += (text.empty() ? "" : ", ") + number + (choice.label == number ? "" : " (" + choice.label + ")");
  }
  if (setting.choices_only) return "one of " + text;
  const std::string range =
      fmt::format("{}{} to {}{}", setting.integer ? "a whole number from " : "", number_text(setting.minimum),
                  number_text(setting.maximum), setting.unit.empty() ? "" : " " + setting.unit);
  return setting.toggle ? "0 or 1" : range;
}

}  // namespace

UnitSpec parse_unit(const std::string& text) {
  if (text.size() > kLongestUnitBytes)
    throw argument_error(fmt::format("a unit of {} bytes is longer than {}", text.size(), kLongestUnitBytes));
  const auto fail = [&](const std::string& why) {
    return argument_error(
        fmt::format("unit '{}': {}; a unit is written SCHEME:NAME?setting=value&setting=value, for example "
                    "sim:tern?drive=12&oversampling=4",
                    text, why));
  };
  const auto colon = text.find(':');
  if (colon == std::string::npos || colon == 0) throw fail("there is no scheme");
  UnitSpec spec{text.substr(0, colon), text.substr(colon + 1), {}};
  const auto question = spec.name.find('?');
  if (question != std::string::npos) {
    const std::string settings = spec.name.substr(question + 1);
    spec.name.resize(question);
    for (const std::string& part : split(settings, '&')) {
      const auto equals = part.find('=');
      if (equals == std::string::npos || equals == 0 || equals + 1 == part.size())
        throw fail(fmt::format("'{}' is not setting=value", part));
      spec.settings.emplace_back(part.substr(0, equals), part.substr(equals + 1));
    }
  }
  if (spec.name.empty()) throw fail("there is no name");
  return spec;
}

std::vector<std::string> setting_ladder(const std::string& symbol, const std::string& text) {
  std::vector<std::string> values = split(text, ',');
  if (std::any_of(values.begin(), values.end(), [](const std::string& value) { return value.empty(); }))
    throw argument_error(fmt::format("{}={}: a value of the ladder is empty", symbol, text));
  return values;
}

double parse_setting(const std::string& unit, const SettingInfo& setting, const std::string& text) {
  const auto labelled = std::find_if(setting.choices.begin(), setting.choices.end(),
                                     [&](const SettingChoice& choice) { return choice.label == text; });
  if (labelled != setting.choices.end()) return labelled->value;
  char* end = nullptr;
  double value = std::strtod(text.c_str(), &end);
  bool good = end != text.c_str() && *end == '\0' && std::isfinite(value) && value >= setting.minimum &&
              value <= setting.maximum;
  if (setting.toggle) good = good && (value == 0 || value == 1);
  if (setting.integer) good = good && value == std::floor(value);
  if (setting.choices_only)
    good = good &&
           std::any_of(setting.choices.begin(), setting.choices.end(),
                       [&](const SettingChoice& choice) { return std::abs(choice.value - value) < 1e-6; });
  if (!good)
    throw argument_error(fmt::format("{}: setting {}={} is not allowed; it takes {}", unit, setting.symbol,
                                     text, allowed(setting)));
  return value;
}

std::vector<double> setting_values(const std::string& unit, const std::vector<SettingInfo>& infos,
                                   const UnitSpec& spec) {
  std::vector<double> values;
  std::vector<std::string> symbols;
  for (const SettingInfo& info : infos) {
    values.push_back(info.default_value);
    symbols.push_back(info.symbol);
  }
  std::vector<bool> given(infos.size(), false);
  for (const auto& [symbol, text] : spec.settings) {
    const auto found = std::find(symbols.begin(), symbols.end(), symbol);
    if (found == symbols.end())
      throw argument_error(fmt::format("{} has no setting '{}'{}", unit, symbol, name_hint(symbol, symbols)));
    const auto index = static_cast<std::size_t>(found - symbols.begin());
    if (given[index]) throw argument_error(fmt::format("{}: setting {} is given twice", unit, symbol));
    given[index] = true;
    values[index] = parse_setting(unit, infos[index], text);
  }
  return values;
}

}  // namespace wavicon
