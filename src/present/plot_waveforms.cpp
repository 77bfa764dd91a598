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

const Curve* partner(const Sheet& sheet, const Curve& in, const std::string& kind) {
  for (const Curve& curve : sheet.curves)
    if (curve.channel == in.channel && curve.name == kind + in.name.substr(2)) return &curve;
  return nullptr;
}

}  // namespace

std::string draw_waveforms(const Sheet& sheet, const PlotOptions& options) {
  std::vector<const Curve*> tones;
  for (const Curve& curve : sheet.curves)
    if (curve.name.rfind("in ", 0) == 0 && !curve.x.empty() && tones.size() < kMostTones &&
        (tones.empty() || curve.channel == tones[0]->channel))
      tones.push_back(&curve);
  if (tones.empty()) throw Error(ErrorCode::bad_argument, "the sheet holds no waveforms to draw");
  std::string script = preamble(options);
  script += fmt::format("set multiplot layout {},{}\nset lmargin 9\nset rmargin 3\nset tmargin 3\n",
                        tones.size() > 1 ? 2 : 1, tones.size() > 2 ? 2 : 1);
  for (std::size_t i = 0; i < tones.size(); ++i) {
    const Curve *out = partner(sheet, *tones[i], "out"),
                *difference = partner(sheet, *tones[i], "difference");
    if (out == nullptr || difference == nullptr) continue;
    double top = 1e-9;
    for (const Curve* curve : {tones[i], out, difference})
      for (const double y : curve->y) top = std::max(top, std::abs(y));
    script += data_block(fmt::format("in{}", i), *tones[i], 1000) +
              data_block(fmt::format("out{}", i), *out, 1000) +
              data_block(fmt::format("difference{}", i), *difference, 1000);
    script += fmt::format("set label 1 {} at graph 0,1 left offset 0,1.1 font ',13' textcolor rgb '{}'\n",
                          literal(tones[i]->name.substr(3)), kInk);
    script += fmt::format("set xrange [0:{:.8g}]\nset yrange [{:.6g}:{:.6g}]\n", 1000 * tones[i]->x.back(),
                          -1.1 * top, 1.1 * top);
    script += fmt::format(
        "set xlabel 'time, ms' textcolor rgb '{}'\nset ylabel 'full scale = 1' textcolor rgb '{}'\n", kInk,
        kInk);
    script += i == 0 ? "set key at screen 0.98,0.985 right top horizontal samplen 2\n" : "unset key\n";
    // Few samples: the grid itself is shown; many: only what changes from one to the next.
    const bool few = out->x.size() <= 120;
    script += fmt::format(
        "plot $in{} using 1:2 with {} lc rgb '{}' lw 1.2 dt (6,4) pt 6 ps 0.7 title 'in', "
        "$out{} using 1:2 with {} lc rgb '{}' lw 1.8 pt 7 ps 0.6 title 'out', "
        "$difference{} using 1:2 with {} lc rgb '{}' lw 1.2 title 'difference'\n",
        i, few ? "linespoints" : "lines", kMuted, i, few ? "linespoints" : "lines", kMain, i,
        few ? "steps" : "lines", kAccent);
  }
  return run_gnuplot(script + "unset multiplot\n", options);
}

}  // namespace wavicon
