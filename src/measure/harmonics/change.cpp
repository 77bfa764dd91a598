// SPDX-License-Identifier: MIT
#include "wavicon/measure/harmonics/change.hpp"

#include "wavicon/measure/harmonics/harmonics.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

constexpr double kSameTone = 0.001;  // of the frequency: more is another tone
constexpr double kNoMatter = 0.1;    // amplitude of a bound over what is read from which it counts
constexpr int kHighestOrder = 100;   // that is looked for in a sheet

struct Order {
  std::complex<double> amplitude;
  bool bound = false;
  double uncertainty = 0;  // of the amplitude as a vector
};

std::optional<Order> order_of(const Sheet& sheet, int order, std::optional<int> channel) {
  const Reading* level = find_reading(sheet, fmt::format("h{}_dbc", order), channel);
  if (level == nullptr || !level->value) return std::nullopt;
  const Reading* phase = find_reading(sheet, fmt::format("h{}_phase_deg", order), channel);
  const double size = ratio_from_db(*level->value);
  if (level->bound || phase == nullptr || !phase->value) return Order{size, true};
  const double size_share = level->uncertainty.value_or(0) / kDbOfAmplitudeShare,
               turn = phase->uncertainty.value_or(0) * std::numbers::pi / 180;
  return Order{std::polar(size, *phase->value * std::numbers::pi / 180), false,
               size * std::hypot(size_share, turn)};
}

}  // namespace

void add_harmonics_change(Sheet& sheet, const Sheet& before) {
  SheetBuilder after(harmonics_readings(), std::move(sheet));
  const std::vector<Reading> readings = after.sheet().readings;
  for (const Reading& tone : readings) {
    if (tone.name != "fundamental_hz" || !tone.value) continue;
    const auto channel = tone.channel;
    const auto other = before.capture.channels == 1 ? std::optional(0) : channel;
    const Reading* played = find_reading(before, "fundamental_hz", other);
    if (played == nullptr || !played->value)
      throw Error(ErrorCode::bad_argument,
                  fmt::format("the reference has no tone for channel {}", *channel + 1));
    if (std::abs(*played->value / *tone.value - 1) > kSameTone)
      throw Error(
          ErrorCode::bad_argument,
          fmt::format("the reference holds {:.3f} Hz and the capture {:.3f} Hz: they are not the same tone",
                      *played->value, *tone.value));
    const Conditions conditions = tone.conditions;
    auto add = [&](std::string name, double value, bool bound, double uncertainty) {
      Reading& r = after.add(name, channel, value, conditions);
      r.bound = bound;
      if (!bound) r.uncertainty = uncertainty;
      r.conditions.emplace_back("reference", before.capture.file);
    };
    for (int k = 2; k <= kHighestOrder; ++k) {
      const auto out = order_of(after.sheet(), k, channel), in = order_of(before, k, other);
      if (!out || !in) continue;
      const double out_size = std::abs(out->amplitude), in_size = std::abs(in->amplitude);
      double size = 0;
      bool bound = true;
      if (out->bound || (in->bound && in_size > kNoMatter * out_size)) {
        size = out_size + in_size;
      } else {
        bound = false;
        size = in->bound ? out_size : std::abs(out->amplitude - in->amplitude);
      }
      const double sure = std::hypot(out->uncertainty, in->uncertainty);
      // What it is uncertain by may be more than was added: then that is a bound.
      if (!bound && size < sure) {
        size += sure;
        bound = true;
      }
      if (size > 0)
        add(fmt::format("h{}_added_dbc", k), db_from_ratio(size), bound, db_from_ratio(1 + sure / size));
    }
    const Reading *out = find_reading(after.sheet(), "thd_db", channel),
                  *in = find_reading(before, "thd_db", other);
    if (out != nullptr && in != nullptr && out->value && in->value && !out->bound && !in->bound)
      add("thd_change_db", *out->value - *in->value, false,
          std::hypot(out->uncertainty.value_or(0), in->uncertainty.value_or(0)));
  }
  sheet = after.finish();
}

}  // namespace wavicon
