// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

#include "gnuplot.hpp"
#include "most_drawn.hpp"
#include "table_parts.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

// Lines that stay apart in grey as well: by darkness and by dashes.
struct Pen {
  std::string colour, dashes;
};
const Pen kPens[kMostPens] = {{"#14506b", "solid"},  {"#b4431c", "solid"}, {"#a08a3c", "solid"},
                              {"#2b2b28", "(12,4)"}, {"#5b9aa8", "(8,4)"}, {"#d98e6a", "(4,3)"}};
constexpr std::size_t kLongestLabel = 26;
constexpr const char *kLightest = "#d8c48e", *kDarkest = "#0f3346";  // of one scale

struct Drawn {
  const Curve* curve;
  std::string name;
  bool strong;
  std::size_t sheet;
};

std::vector<Drawn> chosen(const std::vector<Sheet>& sheets, const CurveStyle& style) {
  std::vector<Drawn> drawn;
  const ShortNames names = capture_names(sheets);
  const bool files_differ = std::any_of(sheets.begin(), sheets.end(), [&](const Sheet& sheet) {
    return sheet.capture.file != sheets.front().capture.file;
  });
  for (const std::string& name : style.names)
    for (std::size_t i = 0; i < sheets.size(); ++i)
      for (const Curve& curve : sheets[i].curves) {
        if (curve.name != name || curve.x.empty()) continue;
        std::string label;
        auto add = [&](const std::string& text) { label += (label.empty() ? "" : ", ") + text; };
        if (files_differ) add(names.spoken[i]);
        const bool channels =
            std::any_of(sheets[i].curves.begin(), sheets[i].curves.end(),
                        [&](const Curve& c) { return c.name == name && c.channel != curve.channel; });
        if (curve.channel && channels) add(channel_name(sheets[i], *curve.channel));
        if (style.names.size() > 1 || label.empty()) add(name);
        if (drawn.size() < kMostCurves) drawn.push_back({&curve, label, name == style.names.front(), i});
      }
  for (const std::string& name : style.once)
    for (const Curve& curve : sheets.front().curves)
      if (curve.name == name && !curve.x.empty() && drawn.size() < kMostCurves)
        drawn.push_back({&curve, name, false, sheets.size()});
  return drawn;
}

Pen pen_of(std::size_t i, std::size_t count) {
  if (count <= kMostPens) return kPens[i];
  return {shade(kLightest, kDarkest, static_cast<double>(i) / static_cast<double>(count - 1)), "solid"};
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

double step_of(const CurveStyle& style, double span) {
  return style.half_turn > 0 ? style.half_turn / 4
         : span > 60         ? 20
         : span > 24         ? 10
         : span > 8          ? 5
         : span > 2          ? 1
                             : 0.5;
}

struct Axes {
  double left = 0, right = 1, bottom = 0, top = 1;
  std::string script;
};

Axes axes(const CurveStyle& style, Extent extent, const PlotOptions& options) {
  auto [highest, lowest, first, last] = extent;
  Axes axes;
  if (style.points) {
    const double beside = first < last ? 0.02 * (last - first) : 1,
                 over = lowest < highest ? 0.08 * (highest - lowest) : 1;
    axes = {first - beside, last + beside, lowest - over, highest + over, ""};
  } else {
    const double step = step_of(style, highest - lowest);
    axes.top = style.half_turn > 0 ? style.half_turn : std::ceil((highest + 0.05 * step) / step) * step;
    axes.bottom = style.half_turn > 0 ? -style.half_turn
                  : style.steps       ? 0
                                      : std::max(axes.top - style.shown_range,
                                                 std::floor((lowest - 0.05 * step) / step) * step);
    if (first >= last) {  // a single place
      first -= style.log_frequency ? 0.1 * first : 1;
      last += style.log_frequency ? 0.1 * last : 1;
    }
    axes.left = style.steps ? first - 1 : style.log_frequency ? std::max(style.lowest_x, first) : first;
    axes.right = style.steps ? last + 1 : last;
  }
  if (style.x_span) axes.left = (*style.x_span)[0], axes.right = (*style.x_span)[1];
  if (style.y_span) axes.bottom = (*style.y_span)[0], axes.top = (*style.y_span)[1];
  if (options.x_range) axes.left = (*options.x_range)[0], axes.right = (*options.x_range)[1];
  if (options.y_range) axes.bottom = (*options.y_range)[0], axes.top = (*options.y_range)[1];
  if (style.log_frequency && axes.left <= 0)
    axes.left = std::max(1e-3, std::min(style.lowest_x, axes.right / 10));
  axes.script = style.log_frequency ? frequency_axis(axes.left, axes.right)
                                    : fmt::format("set xrange [{:.8g}:{:.8g}]\n", axes.left, axes.right);
  axes.script += fmt::format("set yrange [{:.10g}:{:.10g}]\n", axes.bottom, axes.top);
  axes.script += style.steps    ? "set boxwidth 0.9\n"
                 : style.points ? "set ytics auto\n"
                                : fmt::format("set ytics {:g}\n", step_of(style, axes.top - axes.bottom));
  return axes;
}

// The value of a curve between its points; none outside.
std::optional<double> value_at(const Curve& curve, double x) {
  const auto after = std::lower_bound(curve.x.begin(), curve.x.end(), x);
  if (after == curve.x.end()) return std::nullopt;
  const auto i = static_cast<std::size_t>(after - curve.x.begin());
  if (*after == x || i == 0) return *after == x ? std::optional(curve.y[i]) : std::nullopt;
  const double share = (x - curve.x[i - 1]) / (curve.x[i] - curve.x[i - 1]);
  return curve.y[i - 1] + share * (curve.y[i] - curve.y[i - 1]);
}

// Of a line the place on its top: the highest point of the curve close by.
PlotMark on_the_top(const PlotMark& mark, const Curve& curve, const CurveStyle& style) {
  constexpr double kClose = 0.03;  // of the frequency
  PlotMark moved = mark;
  moved.y = value_at(curve, mark.x);
  if (!style.log_frequency || !style.lines_on_top || !moved.y) return moved;
  for (std::size_t i = 0; i < curve.x.size(); ++i)
    if (std::abs(curve.x[i] - mark.x) < kClose * mark.x && curve.y[i] > *moved.y) {
      moved.x = curve.x[i];
      moved.y = curve.y[i];
    }
  return moved;
}

// The last value that is seen, from which a label is led.
double end_of(const Curve& curve, const Axes& axes) {
  double y = curve.y.back();
  for (std::size_t i = 0; i < curve.x.size() && curve.x[i] <= axes.right; ++i)
    if (std::isfinite(curve.y[i])) y = curve.y[i];
  return std::clamp(y, axes.bottom, axes.top);
}

// Names at the right ends of their lines, pushed apart until all can be read.
std::string end_labels(const std::vector<Drawn>& drawn, const std::vector<Pen>& pens, const Axes& axes,
                       const PlotOptions& options) {
  constexpr double kLinePx = 19, kFramePx = 150;  // of a label; what titles and axes take
  std::vector<std::size_t> order(drawn.size());
  std::iota(order.begin(), order.end(), 0);
  std::vector<double> at;
  for (const Drawn& d : drawn)
    at.push_back((end_of(*d.curve, axes) - axes.bottom) / (axes.top - axes.bottom));
  std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return at[a] < at[b]; });
  const double gap = std::min(kLinePx / std::max(100.0, options.height_px - kFramePx),
                              1.0 / std::max<double>(1, static_cast<double>(drawn.size()) - 1));
  double low = -1;
  for (const std::size_t i : order) low = at[i] = std::max(at[i], low + gap);
  double high = 2;
  for (auto i = order.rbegin(); i != order.rend(); ++i) high = at[*i] = std::min({at[*i], high - gap, 1.0});
  std::string text;
  for (std::size_t i = 0; i < drawn.size(); ++i)
    text += fmt::format("set label {} at graph 1.008,{:.5f} left font ',10' textcolor rgb '{}'\n",
                        literal(shortened(drawn[i].name, kLongestLabel)), at[i], pens[i].colour);
  return text;
}

// Where labels are, in pixels from the lower left corner of the axes: they do not lie on each other.
class Labels {
 public:
  Labels(const PlotOptions& options, std::size_t margin_letters)
      : wide_(std::max(100.0, options.width_px - 110 - kLetterPx * static_cast<double>(margin_letters))),
        high_(std::max(100.0, options.height_px - 160.0)) {}
  // The way to put a label beside a place, as shares of the axes; none where there is no room.
  struct Way {
    bool left = false;
    double across_px = 0, up_px = 0;
  };
  std::optional<Way> place(double across, double up, std::size_t letters) {
    const double wide = kLetterPx * static_cast<double>(letters), x = across * wide_, y = up * high_;
    for (const double rise : {10.0, -12.0, 26.0, -28.0, 42.0, -44.0})
      for (const bool left : {false, true}) {
        const double from = left ? x - 10 - wide : x + 10;
        const Box box{from, from + wide, y + rise - kHalfPx, y + rise + kHalfPx};
        const bool out = box.left < 0 || box.right > wide_ || box.low < 0 || box.high > high_;
        if (out || std::any_of(taken_.begin(), taken_.end(), [&](const Box& b) { return b.meets(box); }))
          continue;
        taken_.push_back(box);
        return Way{left, left ? -10.0 : 10.0, rise};
      }
    return std::nullopt;
  }
  [[nodiscard]] double wide() const { return wide_; }
  [[nodiscard]] double high() const { return high_; }

 private:
  static constexpr double kLetterPx = 7, kHalfPx = 8;
  struct Box {
    double left, right, low, high;
    [[nodiscard]] bool meets(const Box& b) const {
      return left < b.right && b.left < right && low < b.high && b.low < high;
    }
  };
  double wide_, high_;
  std::vector<Box> taken_;
};

std::string marks_of(const CurveStyle& style, const std::vector<Drawn>& drawn, const std::vector<Pen>& pens,
                     const Axes& axes, Labels labels, std::string& plot) {
  std::string text;
  std::vector<std::pair<double, double>> points;
  for (const PlotMark& mark : style.marks) {
    const auto on = std::find_if(drawn.begin(), drawn.end(),
                                 [&](const Drawn& d) { return d.strong && d.sheet == mark.sheet; });
    if (on == drawn.end() || mark.x < axes.left || mark.x > axes.right) continue;
    const PlotMark placed = mark.y ? mark : on_the_top(mark, *on->curve, style);
    const auto y = placed.y;
    if (!y || *y < axes.bottom || *y > axes.top) continue;
    points.emplace_back(placed.x, *y);
    const double across = style.log_frequency
                              ? std::log(placed.x / axes.left) / std::log(axes.right / axes.left)
                              : (placed.x - axes.left) / (axes.right - axes.left),
                 up = (*y - axes.bottom) / (axes.top - axes.bottom);
    const auto way = labels.place(across, up, width(mark.text));
    if (!way) continue;
    text += fmt::format("set label {} at graph {:.5f},{:.5f} {} front font ',10' textcolor rgb '{}'\n",
                        literal(mark.text), across + way->across_px / labels.wide(),
                        up + way->up_px / labels.high(), way->left ? "right" : "left",
                        pens[static_cast<std::size_t>(on - drawn.begin())].colour);
  }
  if (points.empty()) return text;
  plot += fmt::format(", $marks using 1:2 with points pt 6 ps 1.3 lw 1.6 lc rgb '{}' notitle", kInk);
  return text + data_block("marks", points);
}

std::string lines_of(const CurveStyle& style, const Axes& axes) {
  std::string text;
  for (const PlotLine& line : style.lines) {
    if (line.y < axes.bottom || line.y > axes.top) continue;
    text += fmt::format(
        "set arrow from graph 0,first {:.8g} to graph 1,first {:.8g} nohead lw 1.4 dt (4,4) lc rgb '{}'\n",
        line.y, line.y, kMuted);
    text += fmt::format(
        "set label {} at graph 0.006,first {:.8g} left offset 0,0.55 font ',10' textcolor rgb '{}'\n",
        literal(line.text), line.y, kMuted);
  }
  return text;
}

// The same height as the picture, whatever it is in: what was played while the curves move.
std::string behind(const std::vector<Sheet>& sheets, const CurveStyle& style, const Axes& axes,
                   std::string& plot) {
  if (style.behind.empty() || sheets.empty()) return "";
  const Curve* longest = nullptr;
  for (const Sheet& sheet : sheets)
    for (const Curve& curve : sheet.curves)
      if (curve.name == style.behind && !curve.x.empty() &&
          (longest == nullptr || curve.x.back() > longest->x.back()))
        longest = &curve;
  if (longest == nullptr) return "";
  double most = 1e-30;
  for (const double y : longest->y) most = std::max(most, std::abs(y));
  const double middle = (axes.top + axes.bottom) / 2, half = 0.46 * (axes.top - axes.bottom);
  std::vector<std::pair<double, double>> points;
  for (std::size_t i = 0; i < longest->x.size(); ++i)
    points.emplace_back(longest->x[i], middle + half * longest->y[i] / most);
  plot = fmt::format("$behind using 1:2 with lines lw 0.8 lc rgb '{}' notitle, ", kGrid) + plot;
  return data_block("behind", points);
}

// The curves of a picture or a panel, without its titles.
std::string drawn_script(const std::vector<Drawn>& drawn, const std::vector<Sheet>& sheets,
                         const CurveStyle& style, const PlotOptions& options, std::string& plot) {
  Extent extent;
  std::string script;
  std::vector<Pen> pens;
  std::size_t longest = 0;
  for (std::size_t i = 0; i < drawn.size(); ++i) {
    pens.push_back(pen_of(i, drawn.size()));
    longest = std::max(longest, width(shortened(drawn[i].name, kLongestLabel)));
    script += data_block(fmt::format("curve{}", i), points_of(*drawn[i].curve, style, extent));
    const std::string dashes = pens[i].dashes == "solid" ? "dt solid" : "dt " + pens[i].dashes;
    plot += fmt::format("{}$curve{} using 1:2 with {} lc rgb '{}' lw {} {} notitle", i == 0 ? "" : ", ", i,
                        style.joined   ? "linespoints pt 7 ps 1.2"
                        : style.points ? "points pt 7 ps 1"
                        : style.steps  ? (drawn.size() == 1 ? "boxes fs solid 0.6 noborder" : "histeps")
                                       : "lines",
                        pens[i].colour, drawn[i].strong ? 1.8 : 1.1, dashes);
  }
  for (const PlotLine& line : style.lines) extent.lowest = std::min(extent.lowest, line.y);
  const Axes seen = axes(style, extent, options);
  script += seen.script + lines_of(style, seen);
  const bool named = (drawn.size() > 1 || style.names.size() > 1) && !style.named_by_marks;
  if (named) script += end_labels(drawn, pens, seen, options);
  script += fmt::format("unset key\nset lmargin 10\nset rmargin {}\n",
                        named ? 3 + 0.85 * static_cast<double>(longest) : 4);
  script += marks_of(style, drawn, pens, seen, Labels(options, named ? longest : 4), plot) +
            behind(sheets, style, seen, plot);
  return script;
}

std::string axis_titles(const CurveStyle& style) {
  return fmt::format("set xlabel {} textcolor rgb '{}'\nset ylabel {} textcolor rgb '{}'\n",
                     literal(style.x_title), kInk, literal(style.y_title), kInk);
}

// Panels beside and beneath each other, all on the axes that hold everything.
std::string draw_panels(const std::vector<Drawn>& drawn, const std::vector<Sheet>& sheets,
                        const CurveStyle& style, const PlotOptions& options, const std::string& answer) {
  const std::size_t count = style.panels.size(),
                    across = count <= 2   ? count
                             : count <= 4 ? 2
                                          : 3,
                    down = (count + across - 1) / across;
  Extent extent;
  for (const Drawn& d : drawn) (void)points_of(*d.curve, style, extent);
  const Axes all = axes(style, extent, options);
  CurveStyle own = style;
  own.x_span = {all.left, all.right};
  own.y_span = {all.bottom, all.top};
  PlotOptions small = options;
  small.width_px = options.width_px / static_cast<int>(across);
  small.height_px = options.height_px / static_cast<int>(down);
  std::string script =
      preamble(options) + fmt::format("set multiplot layout {},{}{}\n", down, across,
                                      overall_title(sheets, answer.empty() ? style.title : answer, options));
  script += "set tics font ',9'\nset xlabel font ',10'\nset ylabel font ',10'\n" + axis_titles(style);
  for (const std::string& panel : style.panels) {
    std::vector<Drawn> here;
    for (const Drawn& d : drawn) {
      const std::size_t at = d.name.size() >= panel.size() ? d.name.size() - panel.size() : std::string::npos;
      if (at == std::string::npos || d.name.compare(at, panel.size(), panel) != 0) continue;
      here.push_back(d);
      here.back().name.resize(at);
    }
    if (here.empty()) continue;
    std::string plot;
    script += "unset label\nunset arrow\n" + drawn_script(here, sheets, own, small, plot);
    script += fmt::format("set title {} font ',11' textcolor rgb '{}' offset 0,-0.5\n",
                          literal(panel.substr(panel.find_first_not_of(' '))), kInk);
    script += "plot " + plot + "\n";
  }
  return run_gnuplot(script + "unset multiplot\n", options);
}

}  // namespace

std::string draw_curves(const std::vector<Sheet>& sheets, const CurveStyle& style, const PlotOptions& options,
                        const std::string& answer) {
  const auto drawn = chosen(sheets, style);
  if (drawn.empty()) throw Error(ErrorCode::bad_argument, "the sheets hold no curve to draw");
  if (style.panels.size() > 1) return draw_panels(drawn, sheets, style, options, answer);
  std::string plot, script = preamble(options) + drawn_script(drawn, sheets, style, options, plot);
  script += titles(sheets, answer, style.title, options) + axis_titles(style);
  return run_gnuplot(script + "plot " + plot + "\n", options);
}

}  // namespace wavicon
