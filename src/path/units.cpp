// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <utility>

#include "isolated.hpp"
#include "schemes.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"

namespace wavicon {

namespace path_detail {
namespace {

constexpr double kNoBound = 1e9;      // stands for the bound of a setting that states none that is a number
constexpr double kRoundedOff = 1e-5;  // of the value: what single precision makes of a decimal fraction

}  // namespace

void put_range_right(SettingInfo& s, std::vector<std::string>& remarks) {
  const double low = s.minimum, high = s.maximum;
  if (!std::isfinite(s.minimum)) s.minimum = -kNoBound;
  if (!std::isfinite(s.maximum)) s.maximum = kNoBound;
  if (s.minimum > s.maximum) std::swap(s.minimum, s.maximum);
  // Not equal is true of what is no number, too.
  if (low != s.minimum || high != s.maximum)
    remarks.push_back(
        fmt::format("it describes {} as reaching from {:.6g} to {:.6g}; {:.6g} to {:.6g} is taken", s.symbol,
                    low, high, s.minimum, s.maximum));
}

void put_default_right(SettingInfo& s, std::vector<std::string>& remarks) {
  const double asked = s.default_value;
  s.default_value = std::clamp(std::isfinite(asked) ? asked : 0.0, s.minimum, s.maximum);
  if (!std::isfinite(asked) || std::abs(asked - s.default_value) > kRoundedOff * std::abs(asked))
    remarks.push_back(fmt::format(
        "its default of {}, {:.6g}, is outside of its own range, {:.6g} to {:.6g}; {:.6g} is taken", s.symbol,
        asked, s.minimum, s.maximum, s.default_value));
}

Instances fit_channels(const UnitInfo& info, int channel_count) {
  if (info.input_count == channel_count) return {1, false, info.output_count};
  if (info.input_count == 1 && info.output_count == 1) return {channel_count, false, channel_count};
  if (info.input_count == 2 && channel_count == 1) return {1, true, info.output_count};
  throw Error(
      ErrorCode::bad_argument,
      fmt::format("{} takes {} channel{} and gives {}; the signal has {}: make a stimulus with --channels {}",
                  info.name, info.input_count, info.input_count == 1 ? "" : "s", info.output_count,
                  channel_count, info.input_count));
}

#if !WAVICON_LV2
std::unique_ptr<Unit> open_lv2(const UnitSpec&, const UnitSearch&) {
  throw Error(ErrorCode::unit_failed, "this build hosts no LV2 plugins (configured with WAVICON_LV2=OFF)");
}
std::vector<UnitListing> list_lv2(const UnitSearch&) { return {}; }
#endif

#if !WAVICON_LADSPA
std::unique_ptr<Unit> open_ladspa(const UnitSpec&, const UnitSearch&) {
  throw Error(ErrorCode::unit_failed,
              "this build hosts no LADSPA plugins (configured with WAVICON_LADSPA=OFF)");
}
std::vector<UnitListing> list_ladspa(const UnitSearch&) { return {}; }
#endif

}  // namespace path_detail

void Unit::run_row(const Row& row, int& done) {
  std::vector<const float*> in(row.inputs, row.inputs + row.input_count);
  std::vector<float*> out(row.outputs, row.outputs + output_channel_count());
  for (done = 0; done < row.count; ++done) {
    run(in.data(), out.data());
    for (auto& channel : in) channel += row.block_frames;
    for (auto& channel : out) channel += row.block_frames;
  }
}

namespace {

std::unique_ptr<Unit> open_own(const UnitSpec& spec, const std::vector<OwnUnit>& own) {
  std::vector<std::string> names;
  for (const OwnUnit& unit : own) {
    if (unit.name == spec.name) return unit.make(setting_values("own:" + unit.name, unit.settings, spec));
    names.push_back(unit.name);
  }
  throw Error(ErrorCode::bad_argument,
              fmt::format("this program has no unit 'own:{}'{}", spec.name, name_hint(spec.name, names)));
}

}  // namespace

std::unique_ptr<Unit> open_unit(const UnitSpec& spec, const UnitSearch& search) {
  if (spec.scheme == "own" && !search.own.empty()) return open_own(spec, search.own);
  if (spec.scheme == "sim") return path_detail::open_stand_in(spec);
  std::unique_ptr<Unit> unit;
  if (spec.scheme == "lv2") unit = path_detail::open_lv2(spec, search);
  if (spec.scheme == "ladspa") unit = path_detail::open_ladspa(spec, search);
  if (unit && search.isolate)
    return path_detail::isolated(std::move(unit), {.patience_s = search.patience_s});
  if (unit) return unit;
  throw Error(ErrorCode::bad_argument,
              fmt::format("unit '{}:{}': unknown scheme '{}'{}", spec.scheme, spec.name, spec.scheme,
                          name_hint(spec.scheme, {"sim", "lv2", "ladspa", "jack"})));
}

std::vector<UnitListing> list_units(const UnitSearch& search) {
  auto units = path_detail::list_stand_ins();
  for (const OwnUnit& own : search.own) units.push_back({"own:" + own.name, own.name, 0, 0, ""});
  const auto add = [&](const std::string& scheme, auto&& list) {
    try {
      const auto plugins = list(search);
      units.insert(units.end(), plugins.begin(), plugins.end());
    } catch (const Error& error) {
      // What hosts them is not there: everything else is.
      if (error.code() != ErrorCode::unit_failed) throw;
      units.push_back({scheme, "none of them", 0, 0, error.what()});
    }
  };
  add("lv2:", path_detail::list_lv2);
  add("ladspa:", path_detail::list_ladspa);
  return units;
}

}  // namespace wavicon
