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
  const Reading* late_ms = find_reading(sheet, "latency_ms", std::nullopt);
  if (late == nullptr || !late->value)
    throw Error(ErrorCode::bad_argument, "the sheet holds no latency to draw");
  const double samples = *late->value;
  const std::string how_late =
      fmt::format("{:.2f} samples", std::abs(samples)) +
      (late_ms != nullptr && late_ms->value ? fmt::format(" = {:.3f} ms", std::abs(*late_ms->value)) : "");
  // Between the samples the curve that they stand for; dots on the grid where it can be seen.
  const bool dots = a->x.size() < 160;
  std::string script = preamble(options) + block("a", *a) + block("came", *came) + block("moved", *moved) +
                       block("acurve", between_samples(*a)) + block("camecurve", between_samples(*came)) +
                       block("movedcurve", between_samples(*moved));
  const auto curve = [&](const char* name, const char* colour, const char* dashes, const char* title) {
    return fmt::format("${} using 1:2 with lines lc rgb '{}' lw 1.6 {} title '{}'", name, colour, dashes,
                       title);
  };
  const auto grid = [&](const char* name, const char* colour, int point) {
    return fmt::format(", ${} using 1:2 with points pt {} ps {} lc rgb '{}' notitle", name, point,
                       point == 7 ? 0.9 : 1.3, colour);
  };
  script += "set multiplot layout 2,1\nset lmargin 11\nset key tmargin right horizontal samplen 2\n";
  script += fmt::format(
      "set yrange [{:.6g}:{:.6g}]\nset ylabel 'full scale = 1, B at A''s level' textcolor rgb '{}'\n",
      -1.1 * top, 1.55 * top, kInk);
  script += fmt::format(
      "set xrange [{:g}:{:g}]\nset title {} font ',13' textcolor rgb '{}' offset 0,0.4\n", a->x.front(),
      a->x.back(), literal(fmt::format("B comes {} {} A", how_late, samples < 0 ? "before" : "after")), kInk);
  // From the steep place of A to the same place in B.
  if (samples > a->x.front() && samples < a->x.back() && std::abs(samples) > 0.5) {
    script += fmt::format(
        "set arrow 1 from 0,{:.6g} to {:.8g},{:.6g} heads size screen 0.008,20 lw 1.4 lc rgb '{}' front\n",
        1.18 * top, samples, 1.18 * top, kInk);
    script += fmt::format(
        "set label 1 {} at {:.8g},{:.6g} center offset 0,0.7 front font ',10' textcolor rgb '{}'\n",
        literal(how_late), samples / 2, 1.18 * top, kInk);
  }
  script += "plot " + curve("acurve", kMain, "", "A") + (dots ? grid("a", kMain, 7) : "") + ", " +
            curve("camecurve", kAccent, "dt (6,3)", "B as it came") + (dots ? grid("came", kAccent, 6) : "") +
            "\n";
  script += fmt::format("set yrange [{:.6g}:{:.6g}]\n", -1.1 * top, 1.1 * top);
  script += "unset arrow 1\nunset label 1\n";
  script += fmt::format(
      "set xrange [-20:28]\nset xlabel 'samples from a steep place of A' textcolor rgb '{}'\n", kInk);
  script +=
      fmt::format("set arrow 2 from 0,graph 0 to 0,graph 1 nohead lw 1.2 dt (4,4) lc rgb '{}'\n", kMuted);
  script += fmt::format(
      "set title 'Moved by that: both on one grid' font ',13' textcolor rgb '{}' offset 0,0.4\n", kInk);
  script += "plot " + curve("acurve", kMain, "", "A") + grid("a", kMain, 7) + ", " +
            curve("movedcurve", kAccent, "dt (6,3)", "B moved") + grid("moved", kAccent, 6) + "\n";
  return run_gnuplot(script + "unset multiplot\n", options);
}

}  // namespace wavicon
