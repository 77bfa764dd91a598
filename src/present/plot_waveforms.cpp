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
  script += fmt::format("set multiplot layout {},{}{}\nset lmargin 9\nset rmargin 3\nset tmargin 3\n",
                        tones.size() > 1 ? 2 : 1, tones.size() > 2 ? 2 : 1,
                        overall_title({sheet}, "periods as they went in and came out", options));
  for (std::size_t i = 0; i < tones.size(); ++i) {
    const Curve *out = partner(sheet, *tones[i], "out"),
                *difference = partner(sheet, *tones[i], "difference");
    if (out == nullptr || difference == nullptr) continue;
    // Few samples: the curve that they stand for runs between them, with dots on the grid.
    const bool few = out->x.size() <= 120;
    const auto drawn = [&](const Curve& curve) { return few ? between_samples(curve) : curve; };
    double top = 1e-9;
    const std::pair<const char*, const Curve*> curves[] = {
        {"in", tones[i]}, {"out", out}, {"difference", difference}};
    for (const auto& [name, samples] : curves) {
      const Curve curve = drawn(*samples);
      for (const double y : curve.y) top = std::max(top, std::abs(y));
      script += data_block(fmt::format("{}curve{}", name, i), curve, 1000) +
                data_block(fmt::format("{}{}", name, i), *samples, 1000);
    }
    script += fmt::format("set label 1 {} at graph 0,1 left offset 0,1.1 font ',13' textcolor rgb '{}'\n",
                          literal(tones[i]->name.substr(3)), kInk);
    script += fmt::format("set xrange [0:{:.8g}]\nset yrange [{:.6g}:{:.6g}]\n", 1000 * tones[i]->x.back(),
                          -1.1 * top, 1.1 * top);
    script += fmt::format(
        "set xlabel 'time, ms' textcolor rgb '{}'\nset ylabel 'full scale = 1' textcolor rgb '{}'\n", kInk,
        kInk);
    script += i == 0 ? "set key at screen 0.98,0.955 right top horizontal samplen 2\n" : "unset key\n";
    script += fmt::format(
        "plot $incurve{} using 1:2 with lines lc rgb '{}' lw 1.2 dt (6,4) title 'in', "
        "$outcurve{} using 1:2 with lines lc rgb '{}' lw 1.8 title 'out', "
        "$differencecurve{} using 1:2 with lines lc rgb '{}' lw 1.2 title 'difference'",
        i, kMuted, i, kMain, i, kAccent);
    if (few)
      script += fmt::format(
          ", $in{} using 1:2 with points pt 6 ps 0.7 lc rgb '{}' notitle, $out{} using 1:2 with points pt 7 "
          "ps 0.7 "
          "lc rgb '{}' notitle",
          i, kMuted, i, kMain);
    script += "\n";
  }
  return run_gnuplot(script + "unset multiplot\n", options);
}

}  // namespace wavicon
