// SPDX-License-Identifier: MIT
#include "wavicon/measure/harmonics/sweep.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

constexpr double kHighest = 0.48;                // of the rate
constexpr double kStandsOut = 3.16;              // 10 dB over what noise reads
constexpr double kReadAt[] = {100, 1000, 5000};  // Hz: low, middle and where folding begins to matter
constexpr double kNear = 1.02;                   // of a frequency that is read

struct Orders {
  double hz = 0;
  double sigma = 0;           // of each ratio, by what no order explains
  double thd = 0;             // ratio; 0 when no order stands out, or one of them crosses another
  std::vector<double> ratio;  // by order; 0 where it is not known
  bool whole = true;
};

// What of a frame belongs to the harmonics.
Orders orders_of(const AliasingFrame& frame, const ChannelAliasing& channel, const AliasingResult& r,
                 int highest) {
  Orders orders{.hz = frame.tone_hz,
                .ratio = std::vector<double>(static_cast<std::size_t>(highest) + 1, 0.0)};
  // Variance of an amplitude under the window of the fit, 3 bins wide, and of the least of three.
  const double noise = channel.residual_ratio * std::sqrt(6 / (r.frame_s * r.sample_rate_hz));
  orders.sigma = noise;
  double power = 0;
  for (int k = 2; k <= highest; ++k) {
    const auto at = static_cast<std::size_t>(k);
    if (k * frame.tone_hz > kHighest * r.sample_rate_hz || !(frame.fundamental > 0)) continue;
    orders.whole &= frame.valid[at];
    if (!frame.valid[at] || (!frame.bound.empty() && frame.bound[at])) continue;
    const double ratio = frame.amplitude[at] / frame.fundamental;
    if (ratio < kStandsOut * noise) continue;
    orders.ratio[at] = ratio;
    power += ratio * ratio;
  }
  orders.thd = orders.whole ? std::sqrt(power) : 0;
  return orders;
}

// Of every frame that has a harmonic below half the rate, rising; without one there is no THD.
std::vector<Orders> orders_over_frequency(const std::vector<AliasingFrame>& frames, const ChannelAliasing& c,
                                          const AliasingResult& r, int highest) {
  std::vector<Orders> all;
  for (const AliasingFrame& frame : frames)
    if (2 * frame.tone_hz <= kHighest * r.sample_rate_hz) all.push_back(orders_of(frame, c, r, highest));
  return all;
}

std::vector<AliasingFrame> rising_frames(const ChannelAliasing& c) {
  std::vector<AliasingFrame> frames = c.low;
  frames.insert(frames.end(), c.frames.begin(), c.frames.end());
  std::sort(frames.begin(), frames.end(), [](const auto& p, const auto& q) { return p.tone_hz < q.tone_hz; });
  return frames;
}

void draw_orders(SheetBuilder& sheet, const std::vector<Orders>& all, int channel, int highest) {
  for (int k = 1; k <= highest; ++k) {
    Curve curve{k == 1 ? "THD" : fmt::format("H{}", k), channel, "Hz", "dBc", {}, {}};
    for (const Orders& orders : all) {
      const double ratio = k == 1 ? orders.thd : orders.ratio[static_cast<std::size_t>(k)];
      if (!(ratio > 0)) continue;
      curve.x.push_back(orders.hz);
      curve.y.push_back(db_from_ratio(ratio));
    }
    if (!curve.x.empty()) sheet.draw(std::move(curve));
  }
}

// The one that has THD and lies nearest, within a third of an octave.
const Orders* orders_at(const std::vector<Orders>& all, double hz) {
  const Orders* nearest = nullptr;
  for (const Orders& o : all)
    if (o.thd > 0 && (nearest == nullptr || std::abs(o.hz - hz) < std::abs(nearest->hz - hz))) nearest = &o;
  const bool near = nearest != nullptr && nearest->hz <= hz * kNear && nearest->hz >= hz / kNear;
  return near ? nearest : nullptr;
}

// Its readings, and what they say in words.
std::string add_thd(SheetBuilder& sheet, const std::vector<Orders>& all, int channel,
                    const Conditions& common) {
  const auto add = [&](const char* name, const Orders& orders, double hz) {
    Conditions conditions = {{"at_hz", hz}};
    conditions.insert(conditions.end(), common.begin(), common.end());
    sheet.add(name, channel, db_from_ratio(orders.thd), std::move(conditions)).uncertainty =
        db_from_ratio(1 + 2 * orders.sigma / orders.thd);
  };
  std::string text;
  for (const double hz : kReadAt) {
    const Orders* nearest = orders_at(all, hz);
    if (nearest == nullptr) continue;
    add("thd_db", *nearest, hz);
    text +=
        fmt::format("{}{:.1f} dB at {:g} Hz", text.empty() ? "THD " : ", ", db_from_ratio(nearest->thd), hz);
  }
  const auto worst = std::max_element(all.begin(), all.end(),
                                      [](const Orders& a, const Orders& b) { return a.thd < b.thd; });
  if (worst == all.end() || worst->thd <= 0) return "no harmonic stands out of the noise";
  add("thd_max_db", *worst, worst->hz);
  return text + fmt::format("{}highest {:.1f} dB at {:.0f} Hz", text.empty() ? "THD " : "; ",
                            db_from_ratio(worst->thd), worst->hz);
}

}  // namespace

Sheet harmonics_over_frequency(const AliasingResult& r, int highest, const CaptureInfo& capture) {
  if (highest < 2 || highest > std::min(10, r.options.highest_order))
    throw Error(ErrorCode::bad_argument, fmt::format("orders up to {} cannot be drawn: 2 to 10", highest));
  SheetBuilder sheet(harmonics_sweep_readings(), capture);
  for (std::size_t i = 0; i < r.channels.size(); ++i) {
    const ChannelAliasing& c = r.channels[i];
    const int channel = static_cast<int>(i);
    if (!c.measured) {
      sheet.say(Severity::warning, FindingCode::not_measured, "the sweep is not found in it: not measured",
                channel);
      continue;
    }
    const auto frames = rising_frames(c);
    if (frames.empty()) {
      sheet.say(Severity::warning, FindingCode::not_measured,
                "the sweep is too fast for its orders to be told apart", channel);
      continue;
    }
    const auto all = orders_over_frequency(frames, c, r, highest);
    const std::string text =
        add_thd(sheet, all, channel,
                {{"orders", static_cast<std::int64_t>(highest)},
                 {"level_dbfs", db_from_ratio(c.fundamental)},
                 {"sweep_hz", std::vector<double>{frames.front().tone_hz, frames.back().tone_hz}},
                 {"window_ms", 1000 * r.frame_s},
                 {"sample_rate_hz", r.sample_rate_hz}});
    sheet.say(Severity::note, FindingCode::result, text, channel);
    draw_orders(sheet, all, channel, highest);
  }
  return sheet.finish();
}

}  // namespace wavicon
