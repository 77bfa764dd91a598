// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <limits>
#include <set>

#include "gnuplot.hpp"
#include "most_drawn.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

// Lines that stay apart in grey as well: by darkness and by dashes.
struct Pen {
  const char* colour;
  const char* dashes;
};
constexpr Pen kPens[kMostCurves] = {{"#14506b", "solid"},  {"#b4431c", "solid"},     {"#a08a3c", "solid"},
                                    {"#2b2b28", "(12,4)"}, {"#5b9aa8", "(8,4)"},     {"#d98e6a", "(4,3)"},
                                    {"#6f675a", "(2,3)"},  {"#9c7bb0", "(14,4,3,4)"}};

struct Drawn {
  const Curve* curve;
  std::string name;
  bool strong;
};

std::vector<Drawn> chosen(const std::vector<Sheet>& sheets, const CurveStyle& style) {
  std::vector<Drawn> drawn;
  for (const std::string& name : style.names)
    for (const Sheet& sheet : sheets)
      for (const Curve& curve : sheet.curves) {
        if (curve.name != name || curve.x.empty()) continue;
        std::string label;
        auto add = [&](const std::string& text) { label += (label.empty() ? "" : ", ") + text; };
        if (sheets.size() > 1) add(std::filesystem::path(sheet.capture.file).filename().string());
        if (curve.channel && sheet.capture.channels > 1) add(channel_name(sheet, *curve.channel));
        if (style.names.size() > 1 || label.empty()) add(name);
        if (drawn.size() < kMostCurves) drawn.push_back({&curve, label, name == style.names.front()});
      }
  return drawn;
}

struct Extent {
  double highest = -1e300, lowest = 1e300, first = 1e300, last = -1e300;
};

// The curve's points, with a gap where an angle turns round, and what they reach.
std::vector<std::pair<double, double>> points_of(const Curve& curve, const CurveStyle& style,
                                                 Extent& extent) {
  std::vector<std::pair<double, double>> points;
  for (std::size_t k = 0; k < curve.x.size(); ++k) {
    if (k > 0 && style.half_turn > 0 && std::abs(curve.y[k] - curve.y[k - 1]) > style.half_turn)
      points.emplace_back(curve.x[k], std::numeric_limits<double>::quiet_NaN());
    points.emplace_back(curve.x[k], curve.y[k]);
    if (style.log_frequency && curve.x[k] < style.lowest_x) continue;
    extent.highest = std::max(extent.highest, curve.y[k]);
    extent.lowest = std::min(extent.lowest, curve.y[k]);
    extent.first = std::min(extent.first, curve.x[k]);
    extent.last = std::max(extent.last, curve.x[k]);
  }
  return points;
}

std::string axes(const CurveStyle& style, Extent extent) {
  auto [highest, lowest, first, last] = extent;
  if (style.points) {
    const double beside = first < last ? 0.02 * (last - first) : 1,
                 over = lowest < highest ? 0.08 * (highest - lowest) : 1;
    return fmt::format("set xrange [{:.8g}:{:.8g}]\nset yrange [{:.10g}:{:.10g}]\nset ytics auto\n",
                       first - beside, last + beside, lowest - over, highest + over);
  }
  const double step = style.half_turn > 0     ? style.half_turn / 4
                      : highest - lowest > 60 ? 20
                      : highest - lowest > 24 ? 10
                      : highest - lowest > 8  ? 5
                      : highest - lowest > 2  ? 1
                                              : 0.5;
  const double top = style.half_turn > 0 ? style.half_turn : std::ceil((highest + 0.05 * step) / step) * step;
  const double bottom =
      style.half_turn > 0 ? -style.half_turn
      : style.steps       ? 0
                    : std::max(top - style.shown_range, std::floor((lowest - 0.05 * step) / step) * step);
  if (first >= last) {  // a single place
    first -= style.log_frequency ? 0.1 * first : 1;
    last += style.log_frequency ? 0.1 * last : 1;
  }
  std::string script;
  if (style.log_frequency)
    script += frequency_axis(std::max(style.lowest_x, first), last);
  else
    script += fmt::format("set xrange [{:.8g}:{:.8g}]\n", style.steps ? first - 1 : first,
                          style.steps ? last + 1 : last);
  script += fmt::format("set yrange [{:.6g}:{:.6g}]\n{}", bottom, top,
                        style.steps ? "set boxwidth 0.9\n" : fmt::format("set ytics {:g}\n", step));
  return script;
}

}  // namespace

std::string draw_curves(const std::vector<Sheet>& sheets, const CurveStyle& style,
                        const PlotOptions& options) {
  const auto drawn = chosen(sheets, style);
  if (drawn.empty()) throw Error(ErrorCode::bad_argument, "the sheets hold no curve to draw");
  Extent extent;
  std::string script = preamble(options), plot = "plot ";
  for (std::size_t i = 0; i < drawn.size(); ++i) {
    script += data_block(fmt::format("curve{}", i), points_of(*drawn[i].curve, style, extent));
    const std::string dashes =
        std::string(kPens[i].dashes) == "solid" ? "dt solid" : fmt::format("dt {}", kPens[i].dashes);
    plot += fmt::format("{}$curve{} using 1:2 with {} lc rgb '{}' lw {} {} title {}", i == 0 ? "" : ", ", i,
                        style.points  ? "points pt 7 ps 1"
                        : style.steps ? (drawn.size() == 1 ? "boxes fs solid 0.6 noborder" : "histeps")
                                      : "lines",
                        kPens[i].colour, drawn[i].strong ? 1.8 : 1.1, dashes, literal(drawn[i].name));
  }
  script += axes(style, extent);
  std::string subject;
  std::set<std::string> files;
  for (const Sheet& sheet : sheets)
    if (files.insert(sheet.capture.file).second && files.size() <= 3)
      subject += (subject.empty() ? "" : "  ·  ") + sheet.capture.file;
  script +=
      fmt::format("set title {} font ',13' textcolor rgb '{}' offset 0,0.4\n", literal(style.title), kInk);
  if (sheets.size() == 1)
    script += fmt::format("set label {} at graph 0,1 left offset 0,3.3 font ',11' textcolor rgb '{}'\n",
                          literal(subject), kMuted);
  script += fmt::format("set xlabel {} textcolor rgb '{}'\nset ylabel {} textcolor rgb '{}'\n",
                        literal(style.x_title), kInk, literal(style.y_title), kInk);
  script += "set key tmargin right horizontal samplen 2 maxrows 2\n";
  return run_gnuplot(script + plot + "\n");
}

}  // namespace wavicon
