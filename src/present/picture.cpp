// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>

#include "most_drawn.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

std::size_t curves_named(const std::vector<Sheet>& sheets, const auto& wanted) {
  std::size_t count = 0;
  for (const Sheet& sheet : sheets)
    count +=
        static_cast<std::size_t>(std::count_if(sheet.curves.begin(), sheet.curves.end(), [&](const Curve& c) {
          return !c.x.empty() && wanted(c.name);
        }));
  return count;
}

// Channels of all sheets that hold an order.
std::size_t channels_with_orders(const std::vector<Sheet>& sheets) {
  std::size_t count = 0;
  for (const Sheet& sheet : sheets)
    for (int channel = 0; channel < std::max(1, sheet.capture.channels); ++channel)
      count += static_cast<std::size_t>(
          std::any_of(sheet.readings.begin(), sheet.readings.end(), [&](const Reading& r) {
            return r.channel == channel && r.value && r.name.size() > 5 && r.name[0] == 'h' &&
                   r.name.compare(r.name.size() - 4, 4, "_dbc") == 0;
          }));
  return count;
}

}  // namespace

Drawable drawable(const std::vector<Sheet>& sheets, const Picture& picture) {
  const auto& names = picture.style.names;
  switch (picture.kind) {
    case PictureKind::curves:
      return {kMostCurves,
              curves_named(sheets,
                           [&](const std::string& name) {
                             return std::find(names.begin(), names.end(), name) != names.end();
                           }),
              "curves"};
    case PictureKind::harmonic_lines:
      return {kMostPanels, curves_named(sheets, [](const std::string& name) { return name == "spectrum"; }),
              "channels"};
    case PictureKind::harmonic_orders:
      return {kMostCaptures, channels_with_orders(sheets), "channels"};
    case PictureKind::period:
      return {kMostPeriods,
              curves_named(sheets, [](const std::string& name) { return name == "one period"; }), "periods"};
    case PictureKind::gain_and_wave:
      return {kMostBlocks,
              curves_named(sheets, [](const std::string& name) { return name.rfind("waveform", 0) == 0; }),
              "blocks"};
    case PictureKind::in_over_out: {
      const std::size_t there =
          curves_named(sheets, [](const std::string& name) { return name.rfind("in ", 0) == 0; });
      const auto channels = static_cast<std::size_t>(
          sheets.empty() ? 1 : std::max(1, static_cast<int>(sheets.front().capture.channels)));
      return {channels > 1 ? std::min(kMostTones, std::max<std::size_t>(1, there / channels)) : kMostTones,
              there, "tones"};
    }
    default:
      return {1, sheets.empty() ? 0 : std::size_t{1}, "sheets"};
  }
}

std::string draw_picture(const std::vector<Sheet>& sheets, const Picture& picture,
                         const PlotOptions& options) {
  const bool own_axes = picture.kind == PictureKind::curves || picture.kind == PictureKind::harmonic_lines;
  if (!own_axes && (options.x_range || options.y_range))
    throw Error(ErrorCode::bad_argument,
                "this picture chooses its axes by itself: no range of an axis is taken");
  const Sheet nothing;
  const Sheet& first = sheets.empty() ? nothing : sheets.front();
  switch (picture.kind) {
    case PictureKind::curves:
      return draw_curves(sheets, picture.style, options, picture.answer);
    case PictureKind::harmonic_lines:
      return draw_harmonics(first, options);
    case PictureKind::harmonic_orders:
      return draw_orders(sheets, options);
    case PictureKind::period:
      return draw_period(sheets, options);
    case PictureKind::level_map:
      return draw_spectrogram(first, options);
    case PictureKind::impulse_places:
      return draw_latency(first, options);
    case PictureKind::pair_overview:
      return draw_pair(first, options);
    case PictureKind::gain_and_wave:
      return draw_gain(sheets, options);
    case PictureKind::in_over_out:
      return draw_waveforms(first, options);
    case PictureKind::rows:
      return draw_rows(first, picture, options);
    case PictureKind::over_dates:
      return draw_over_dates(sheets, picture, options);
  }
  return {};
}

}  // namespace wavicon
