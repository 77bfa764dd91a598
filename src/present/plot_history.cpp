// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "gnuplot.hpp"
#include "most_drawn.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

constexpr std::size_t kLongestName = 34;
constexpr double kRoom = 0.06;  // of an axis, beyond the outermost figure
constexpr double kLeastSpan = 1e-9;
constexpr std::size_t kMostPoints = 400;  // that are drawn as such

const Curve* curve_of(const Sheet& sheet, const char* name) {
  const auto found = std::find_if(sheet.curves.begin(), sheet.curves.end(),
                                  [&](const Curve& curve) { return curve.name == name; });
  return found == sheet.curves.end() ? nullptr : &*found;
}

struct Figures {
  std::vector<double> x, y, uncertainty;
};

Figures figures_of(const Sheet& sheet) {
  const Curve *value = curve_of(sheet, "value"), *uncertainty = curve_of(sheet, "uncertainty");
  if (value == nullptr || value->x.empty())
    throw Error(ErrorCode::bad_argument, "there are no figures to draw");
  Figures figures{value->x, value->y, std::vector<double>(value->y.size(), 0.0)};
  if (uncertainty != nullptr && uncertainty->y.size() == figures.y.size())
    figures.uncertainty = uncertainty->y;
  return figures;
}

std::string block(const std::string& name, const Figures& f, std::size_t first, std::size_t end) {
  std::string text = "$" + name + " << EOD\n";
  for (std::size_t i = first; i < end; ++i)
    text += fmt::format("{:.15g} {:.10g} {:.10g}\n", f.x[i], f.y[i], f.uncertainty[i]);
  return text + "EOD\n";
}

// From the lowest figure less its uncertainty to the highest and its own, with room.
std::pair<double, double> span_of(const Figures& f) {
  double low = 1e300, high = -1e300;
  for (std::size_t i = 0; i < f.y.size(); ++i) {
    low = std::min(low, f.y[i] - f.uncertainty[i]);
    high = std::max(high, f.y[i] + f.uncertainty[i]);
  }
  const double room = std::max({kRoom * (high - low), kLeastSpan * std::abs(high), kLeastSpan});
  return {low - room, high + room};
}

std::string pixels_between(const PlotOptions& options) { return options.height_px < 500 ? "1" : "1.6"; }

}  // namespace

std::string draw_rows(const Sheet& sheet, const Picture& picture, const PlotOptions& options) {
  const Figures f = figures_of(sheet);
  const std::size_t count = f.y.size();
  std::string script = preamble(options) + titles({sheet}, picture.answer, picture.style.title, options);
  std::string names;
  for (std::size_t i = 0; i < count && i < sheet.labels.size(); ++i)
    names += fmt::format("{}{} {}", i == 0 ? "" : ", ",
                         literal(shortened(sheet.labels[i].text, kLongestName)), i + 1);
  const auto [low, high] = span_of(f);
  script += fmt::format(
      "set ytics ({}) nomirror scale 0\nset yrange [{}.5:0.5]\nset xrange [{:.10g}:{:.10g}]\n"
      "set xlabel {} textcolor rgb '{}'\nunset ylabel\nunset key\nset grid x\n",
      names, count, low, high, literal(picture.style.x_title), kInk);
  std::size_t strong = count;
  if (!picture.style.marks.empty())
    strong = static_cast<std::size_t>(std::max(1.0, picture.style.marks.front().x)) - 1;
  script += block("all", f, 0, count);
  std::string plot =
      fmt::format("plot $all using 2:1:3 with xerrorbars pt 7 ps 1.3 lw 2 lc rgb '{}' notitle", kMain);
  if (strong < count) {
    script += block("strong", f, strong, strong + 1);
    plot += fmt::format(", $strong using 2:1:3 with xerrorbars pt 7 ps {} lw 2.5 lc rgb '{}' notitle",
                        pixels_between(options), kAccent);
  }
  for (const PlotLine& line : picture.style.lines)
    script += fmt::format("set arrow from {:g}, graph 0 to {:g}, graph 1 nohead dt 2 lc rgb '{}'\n", line.y,
                          line.y, kMuted);
  return run_gnuplot(script + plot + "\n", options);
}

std::string draw_over_dates(const std::vector<Sheet>& sheets, const Picture& picture,
                            const PlotOptions& options) {
  if (sheets.empty()) throw Error(ErrorCode::bad_argument, "there are no figures to draw");
  const std::size_t count = std::min(sheets.size(), kMostPanels);
  std::string script = preamble(options);
  if (count == 1)
    script += titles({sheets.front()}, picture.answer, picture.style.title, options);
  else
    script += fmt::format("set multiplot layout {},1 title {} font ',10' textcolor rgb '{}'\n", count,
                          literal(picture.style.title), kMuted);
  script +=
      "set xdata time\nset timefmt '%s'\nset format x '%Y-%m-%d'\nset xtics rotate by 0 autofreq\nunset "
      "key\n";
  double first = 1e300, last = -1e300;
  for (std::size_t i = 0; i < count; ++i) {
    const Figures f = figures_of(sheets[i]);
    first = std::min(first, *std::min_element(f.x.begin(), f.x.end()));
    last = std::max(last, *std::max_element(f.x.begin(), f.x.end()));
  }
  constexpr double kDayS = 86400;
  const double room = std::max(kRoom * (last - first), kDayS);
  for (std::size_t i = 0; i < count; ++i) {
    const Figures f = figures_of(sheets[i]);
    const auto [low, high] = span_of(f);
    const Curve& value = *curve_of(sheets[i], "value");
    const std::string words = sheets[i].labels.empty() ? value.name : sheets[i].labels.front().text;
    script += block(fmt::format("of{}", i), f, 0, f.y.size());
    if (count > 1) script += fmt::format("set title {} textcolor rgb '{}'\n", literal(words), kInk);
    script += fmt::format(
        "set xrange ['{:.0f}':'{:.0f}']\nset yrange [{:.10g}:{:.10g}]\nset ylabel {} textcolor rgb '{}'\n",
        first - room, last + room, low, high,
        literal(count > 1 || value.y_unit.empty() ? value.y_unit : words + ", " + value.y_unit), kInk);
    script += fmt::format("plot $of{} using 1:2 with lines lw 1 lc rgb '{}' notitle", i, kQuiet);
    if (f.y.size() <= kMostPoints)
      script +=
          fmt::format(", $of{} using 1:2:3 with yerrorbars pt 7 ps 1.3 lw 2 lc rgb '{}' notitle", i, kMain);
    script += "\n";
  }
  if (count > 1) script += "unset multiplot\n";
  return run_gnuplot(script, options);
}

}  // namespace wavicon
