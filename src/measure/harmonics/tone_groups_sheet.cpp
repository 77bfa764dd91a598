// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measure/common/level.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/harmonics/tone_groups.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

using measure_detail::level_dbfs;

constexpr double kUnevenDb = 0.5;  // spread of the tones' gains that is worth a sentence

class ToneGroupSheet {
 public:
  ToneGroupSheet(const ToneGroupResult& result, std::size_t index, SheetBuilder& sheet)
      : result_(result),
        channel_(result.channels[index]),
        floor_(result.floors[index]),
        index_(static_cast<int>(index)),
        sheet_(sheet) {}

  void add() {
    if (channel_.state == ChannelTones::State::silent)
      return say(Severity::warning, FindingCode::not_measured, "silent: there is nothing to measure");
    if (channel_.state == ChannelTones::State::no_tones)
      return say(Severity::warning, FindingCode::not_measured,
                 "the tones that were played do not stand out of the noise");
    for (const double hz : channel_.missing_hz)
      say(Severity::warning, FindingCode::left_out,
          fmt::format("the tone at {:g} Hz does not stand out of the noise", hz));
    if (!channel_.products.empty()) add_ratios();
    add_tones();
    add_products();
    reading("rest_db", level_dbfs(channel_.rest_ratio), level_dbfs(floor_.rest_ratio), false,
            {{"means", std::string("all but DC and the tones, over the tones")}})
        .uncertainty = channel_.rest_uncertainty_db;
    reading("residual_noise_dbfs", level_dbfs(channel_.noise_rms), level_dbfs(floor_.noise_rms), false,
            {{"rms_reference", std::string("square")}})
        .uncertainty = channel_.noise_uncertainty_db;
    curve("spectrum", channel_);
    curve("own floor", floor_);
  }

 private:
  void add_ratios() {
    const Conditions method = {
        {"method", std::string(channel_.modulation ? "modulation" : "difference frequency")}};
    auto ratio = [&](const char* name, double value, double floor, bool bound, double uncertainty_db) {
      Reading& added = reading(name, level_dbfs(value), level_dbfs(floor), bound, method);
      if (!bound && value > 0) added.uncertainty = uncertainty_db;
    };
    const double all = std::hypot(channel_.second, channel_.third),
                 floor = std::hypot(floor_.second, floor_.third);
    const bool bound = (channel_.second_bound || channel_.second < channel_.third) &&
                       (channel_.third_bound || channel_.third < channel_.second);
    const double all_db =
        all > 0
            ? std::hypot(
                  channel_.second_bound ? 0
                                        : std::pow(channel_.second / all, 2) * channel_.second_uncertainty_db,
                  channel_.third_bound ? 0
                                       : std::pow(channel_.third / all, 2) * channel_.third_uncertainty_db)
            : 0;
    ratio("imd_db", all, floor, bound, all_db);
    Reading& percent = reading("imd_percent", 100 * all, 100 * floor, bound, method);
    if (!bound) percent.uncertainty = 100 * all * (ratio_from_db(all_db) - 1);
    ratio("imd_second_db", channel_.second, floor_.second, channel_.second_bound,
          channel_.second_uncertainty_db);
    ratio("imd_third_db", channel_.third, floor_.third, channel_.third_bound, channel_.third_uncertainty_db);
    say(Severity::note, FindingCode::result,
        fmt::format("{:.3f} and {:.3f} Hz at {:.2f} and {:.2f} dBFS: intermodulation {}{:.2f} dB ({:.2g} %) "
                    "by the {} "
                    "method, second order {}{:.2f}, third order {}{:.2f} dB",
                    channel_.tones[0].hz, channel_.tones[1].hz, db_from_ratio(channel_.tones[0].amplitude),
                    db_from_ratio(channel_.tones[1].amplitude), bound ? "below " : "", db_from_ratio(all),
                    100 * all, channel_.modulation ? "modulation" : "difference-frequency",
                    channel_.second_bound ? "< " : "", db_from_ratio(channel_.second),
                    channel_.third_bound ? "< " : "", db_from_ratio(channel_.third)));
  }

  void add_tones() {
    double lowest = 1e9, highest = -1e9;
    for (std::size_t i = 0; i < channel_.tones.size(); ++i) {
      const GroupTone& tone = channel_.tones[i];
      Conditions more = {{"tone_hz", tone.hz}};
      const auto level = level_dbfs(tone.amplitude);
      if (!result_.options.played_dbfs.empty()) {
        more.emplace_back("played_dbfs", result_.options.played_dbfs[i]);
        if (level) {
          more.emplace_back("gain_db", *level - result_.options.played_dbfs[i]);
          lowest = std::min(lowest, *level - result_.options.played_dbfs[i]);
          highest = std::max(highest, *level - result_.options.played_dbfs[i]);
        }
      }
      Reading& added = reading("tone_dbfs", level, std::nullopt, false, more);
      if (level) added.uncertainty = tone.uncertainty_db;
    }
    if (highest - lowest > kUnevenDb)
      say(Severity::note, FindingCode::detail,
          fmt::format("the tones came back at {:+.2f} to {:+.2f} dB of their levels: the response is not "
                      "flat",
                      lowest, highest));
  }

  void add_products() {
    double strongest = 0;
    for (const GroupTone& tone : channel_.tones) strongest = std::max(strongest, tone.amplitude);
    std::vector<std::string> hidden;
    for (std::size_t i = 0; i < channel_.products.size(); ++i) {
      const ToneProduct& p = channel_.products[i];
      if (p.hidden) {
        hidden.push_back(product_name(p));
        continue;
      }
      Conditions more = {{"product", product_name(p)},
                         {"at_hz", p.hz},
                         {"order", static_cast<std::int64_t>(std::abs(p.lower) + std::abs(p.upper))},
                         {"relative_to", std::string("the stronger tone")}};
      if (p.folded) more.emplace_back("folded", true);
      Reading& level = reading("product_dbc", level_dbfs(p.amplitude / strongest),
                               level_dbfs(floor_.products[i].amplitude / strongest), p.bound, more);
      if (!p.bound) level.uncertainty = p.uncertainty_db;
    }
    if (hidden.empty()) return;
    std::string text = hidden.front();
    for (std::size_t i = 1; i < std::min<std::size_t>(4, hidden.size()); ++i) text += ", " + hidden[i];
    say(Severity::note, FindingCode::left_out,
        fmt::format("{}{} cannot be told apart at these frequencies: another product lies there", text,
                    hidden.size() > 4 ? fmt::format(" and {} more", hidden.size() - 4) : ""));
  }

  Reading& reading(const char* name, std::optional<double> value, std::optional<double> floor, bool bound,
                   Conditions more) {
    more.emplace_back("bandwidth_hz", std::vector<double>{result_.options.band_from_hz, result_.band_to_hz});
    double power = 0;
    for (const GroupTone& tone : channel_.tones) power += tone.amplitude * tone.amplitude / 2;
    if (power > 0) more.emplace_back("tones_dbfs_rms", db_from_power_ratio(power));
    more.emplace_back("sample_rate_hz", result_.sample_rate_hz);
    more.emplace_back("from_s", result_.audio_starts_s);
    more.emplace_back("duration_s", result_.seconds);
    more.emplace_back("window", std::string("Kaiser 38"));
    more.emplace_back("floor_format", name_of(result_.format));
    Reading& r = sheet_.add(name, index_, value, std::move(more));
    r.floor = floor;
    r.bound = bound;
    return r;
  }

  void curve(const char* name, const ChannelTones& from) {
    Curve c{name, index_, "Hz", "dBFS", from.spectrum_hz, {}};
    for (const double a : from.spectrum_amplitude) c.y.push_back(db_from_ratio(std::max(a, 1e-30)));
    sheet_.draw(std::move(c));
  }
  void say(Severity severity, FindingCode code, std::string text) {
    sheet_.say(severity, code, std::move(text), index_);
  }

  const ToneGroupResult& result_;
  const ChannelTones& channel_;
  const ChannelTones& floor_;
  int index_;
  SheetBuilder& sheet_;
};

}  // namespace

Sheet tone_group_sheet(const ToneGroupResult& result, const CaptureInfo& capture) {
  const bool pair = result.options.tones_hz.size() == 2;
  SheetBuilder sheet(pair ? intermodulation_readings() : multitone_readings(), capture);
  for (std::size_t c = 0; c < result.channels.size(); ++c) ToneGroupSheet(result, c, sheet).add();
  return sheet.finish();
}

}  // namespace wavicon
