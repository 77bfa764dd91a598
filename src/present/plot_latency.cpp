// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "gnuplot.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

const Curve* find(const Sheet& sheet, const std::string& name) {
  for (const Curve& curve : sheet.curves)
    if (curve.name == name && !curve.x.empty()) return &curve;
  return nullptr;
}

std::string block(const char* name, const Curve& curve) {
  std::vector<std::pair<double, double>> points;
  for (std::size_t i = 0; i < curve.x.size(); ++i) points.emplace_back(curve.x[i], curve.y[i]);
  return data_block(name, points);
}

}  // namespace

std::string draw_latency(const Sheet& sheet, const PlotOptions& options) {
  const Curve *a = find(sheet, "A"), *came = find(sheet, "B as it came"), *moved = find(sheet, "B moved");
  if (a == nullptr || came == nullptr || moved == nullptr)
    throw Error(ErrorCode::bad_argument, "the sheet holds no waveforms to draw");
  double top = 1e-9;
  for (const Curve* curve : {a, came, moved})
    for (const double y : curve->y) top = std::max(top, std::abs(y));
  const Reading* late = find_reading(sheet, "latency_samples", std::nullopt);
  // Dots on the grid where it can be seen; a line through them where there are too many.
  const bool dots = a->x.size() < 160;
  const auto style = [&](const char* colour, const char* dashes) {
    return fmt::format("with {} lc rgb '{}' lw 1.6 pt 7 ps 0.7 {}", dots ? "linespoints" : "lines", colour,
                       dashes);
  };
  std::string script = preamble(options) + block("a", *a) + block("came", *came) + block("moved", *moved);
  script += "set multiplot layout 2,1\nset lmargin 11\nset key tmargin right horizontal samplen 2\n";
  script += fmt::format(
      "set yrange [{:.6g}:{:.6g}]\nset ylabel 'full scale = 1, B at A''s level' textcolor rgb '{}'\n",
      -1.1 * top, 1.1 * top, kInk);
  script += fmt::format("set xrange [{:g}:{:g}]\nset title {} font ',13' textcolor rgb '{}' offset 0,0.4\n",
                        a->x.front(), a->x.back(),
                        literal(fmt::format("As it came: B lies {:.2f} samples {} A", std::abs(*late->value),
                                            *late->value < 0 ? "before" : "after")),
                        kInk);
  script += fmt::format("plot $a using 1:2 {} title 'A', $came using 1:2 {} title 'B as it came'\n",
                        style(kMain, ""), style(kAccent, "dt (6,3)"));
  script += fmt::format(
      "set xrange [-20:28]\nset xlabel 'samples from a steep place of A' textcolor rgb '{}'\n", kInk);
  script += fmt::format(
      "set title 'Moved by that: both on one grid' font ',13' textcolor rgb '{}' offset 0,0.4\n", kInk);
  script += fmt::format(
      "plot $a using 1:2 with linespoints lc rgb '{}' lw 1.6 pt 7 ps 0.9 title 'A', $moved using 1:2 with "
      "linespoints lc rgb '{}' lw 1.6 pt 6 ps 1.3 dt (6,3) title 'B moved'\n",
      kMain, kAccent);
  return run_gnuplot(script + "unset multiplot\n", options);
}

}  // namespace wavicon
