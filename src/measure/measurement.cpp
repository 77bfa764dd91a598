// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cmath>
#include <numeric>
#include <utility>

#include "wavicon/audio/nearest_names.hpp"

namespace wavicon {
namespace {

// The suffix that a key carries for its unit.
std::string suffix_of(const std::string& unit) {
  if (unit.empty()) return "";
  if (unit == "%") return "_percent";
  std::string suffix = "_" + unit;
  for (char& c : suffix) c = c == ' ' ? '_' : static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  return suffix;
}

void require_number(const OptionField& field, double value) {
  const auto& range = field.range;
  if (!range || (value >= range->low && value <= range->high)) return;
  throw Error(ErrorCode::bad_argument,
              fmt::format("{} {:g} is not within {:g} to {:g}{}", option_name(field), value, range->low,
                          range->high, field.unit.empty() ? "" : " " + field.unit));
}

void require_word(const OptionField& field, const std::string& word) {
  if (field.words.empty() || std::find(field.words.begin(), field.words.end(), word) != field.words.end())
    return;
  throw Error(ErrorCode::bad_argument,
              fmt::format("{} '{}'{}", option_name(field), word, name_hint(word, field.words)));
}

template <typename Value>
void require_value(const OptionField& field, const Value& value) {
  if constexpr (std::is_same_v<Value, std::string>) {
    require_word(field, value);
  } else if constexpr (std::is_same_v<Value, bool>) {
    return;
  } else if constexpr (requires { value.has_value(); }) {
    if (value) require_value(field, *value);
  } else if constexpr (requires { value.begin(); }) {
    if (field.count > 0 && !value.empty() &&
        (field.repeatable ? value.size() % field.count != 0 : value.size() != field.count))
      throw Error(ErrorCode::bad_argument,
                  fmt::format("{} takes {} values, not {}", option_name(field), field.count, value.size()));
    for (const auto& item : value) require_value(field, item);
  } else {
    require_number(field, static_cast<double>(value));
  }
}

void add_findings(Sheet& sheet, const std::string& whose, const JudgedCapture& beside) {
  for (Finding finding : beside.findings()) {
    finding.text = whose + finding.text;
    sheet.findings.push_back(std::move(finding));
  }
}

template <typename Value>
std::string option_text(const Value& value) {
  if constexpr (std::is_same_v<Value, std::string>)
    return value;
  else if constexpr (requires { value.begin(); }) {
    std::string text;
    for (const auto& item : value) text += (text.empty() ? "" : " ") + option_text(item);
    return text;
  } else if constexpr (requires { value.has_value(); })
    return value ? option_text(*value) : "";
  else
    return fmt::format("{}", value);
}

}  // namespace

std::string option_name(const OptionField& field) {
  std::string name = field.key;
  const std::string suffix = suffix_of(field.unit);
  if (!suffix.empty() && name.size() > suffix.size() &&
      name.compare(name.size() - suffix.size(), suffix.size(), suffix) == 0)
    name.resize(name.size() - suffix.size());
  std::replace(name.begin(), name.end(), '_', '-');
  return name;
}

void require_in_range(const std::vector<OptionField>& fields) {
  for (const OptionField& field : fields)
    std::visit([&](const auto* value) { require_value(field, *value); }, field.target);
}

std::vector<std::pair<std::string, std::string>> given_options(const std::vector<OptionField>& fields,
                                                               const std::vector<OptionField>& defaults) {
  std::vector<std::pair<std::string, std::string>> given;
  for (std::size_t i = 0; i < fields.size() && i < defaults.size(); ++i) {
    const auto text_of = [](const OptionField& field) {
      return std::visit([](const auto* value) { return option_text(*value); }, field.target);
    };
    if (const std::string text = text_of(fields[i]); text != text_of(defaults[i]))
      given.emplace_back(fields[i].key, text);
  }
  return given;
}

GatePolicy policy_of(const MeasurementDescriptor& descriptor, bool despite_faults) {
  return {.tolerated = descriptor.tolerated, .told = descriptor.told, .despite_faults = despite_faults};
}

std::vector<std::size_t> Measurement::order(const std::vector<std::string>& files) const {
  std::vector<std::size_t> places(files.size());
  std::iota(places.begin(), places.end(), std::size_t{0});
  return places;
}

std::vector<Sheet> measured(Measurement& measurement, const MeasureRequest& request,
                            const JudgedCapture& capture, std::size_t index) {
  require_channel(request, capture.channel_count());
  std::vector<Sheet> sheets = measurement.measure(request, followed(capture, request.progress), index);
  for (Sheet& sheet : sheets) {
    add_judgement(sheet, capture);
    if (request.reference) add_findings(sheet, "A: ", *request.reference);
    if (request.clean_signal) {
      add_findings(sheet, "reference: ", *request.clean_signal);
      for (Reading& reading : sheet.readings)
        reading.conditions.emplace_back("reference", request.clean_signal->info().file);
    }
    keep_channel(sheet, request.channel);
  }
  return sheets;
}

void keep_channel(Sheet& sheet, std::optional<int> channel) {
  if (!channel) return;
  auto other = [&](const auto& item) { return item.channel && *item.channel != *channel; };
  std::erase_if(sheet.readings, other);
  std::erase_if(sheet.curves, other);
  std::erase_if(sheet.findings, other);
}

void require_channel(const MeasureRequest& request, int channel_count) {
  if (request.channel && *request.channel >= channel_count)
    throw Error(ErrorCode::bad_argument,
                fmt::format("there is no channel {}, it has {}", *request.channel + 1, channel_count));
}

}  // namespace wavicon
