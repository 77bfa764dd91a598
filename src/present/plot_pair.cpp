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

class Panels {
 public:
  Panels(const Sheet& sheet, const PlotOptions& options) : sheet_(sheet), script_(preamble(options)) {}

  // Names a curve as a data block; false when there is none.
  bool has(const std::string& name, const char* block) {
    for (const Curve& curve : sheet_.curves) {
      if (curve.name != name || curve.x.empty()) continue;
      std::vector<std::pair<double, double>> points;
      for (std::size_t i = 0; i < curve.x.size(); ++i) {
        points.emplace_back(curve.x[i], curve.y[i]);
        high_ = std::max(high_, curve.y[i]);
        last_x_ = curve.x[i];
      }
      script_ += data_block(block, points);
      return true;
    }
    return false;
  }
  void reset() { high_ = -1e9; }
  [[nodiscard]] double high() const { return high_; }
  [[nodiscard]] double last_x() const { return last_x_; }
  void line(const std::string& text) { script_ += text + "\n"; }
  [[nodiscard]] const std::string& script() const { return script_; }

 private:
  const Sheet& sheet_;
  std::string script_;
  double high_ = -1e9, last_x_ = 1;
};

}  // namespace

std::string draw_pair(const Sheet& sheet, const PlotOptions& options) {
  Panels p(sheet, options);
  if (!p.has("A", "a") || !p.has("B", "b"))
    throw Error(ErrorCode::bad_argument, "the sheet holds no pair to draw");
  const double top = 10 * std::ceil((p.high() + 1) / 10), end_hz = p.last_x();
  const bool phase = p.has("phase", "phase");
  p.has("correlation per band", "bands");
  p.has("coherence", "coherence");
  p.has("A over time", "atime");
  p.has("B over time", "btime");
  const double end_s = p.last_x();
  p.has("correlation over time", "ctime");
  const auto title = [](const char* text) {
    return fmt::format("set title {} font ',12' textcolor rgb '{}' offset 0,-0.4", literal(text), kInk);
  };
  p.line("set multiplot layout 2,2 margins 0.065,0.955,0.09,0.88 spacing 0.085,0.17" +
         overall_title({sheet}, "a pair at a glance", options));
  p.line("set tics font ',10'\nset key font ',10'");
  p.line("set key inside bottom left samplen 2");
  p.line(frequency_axis(20, end_hz));
  p.line(title("Level in third octaves, dBFS"));
  p.line(fmt::format("set yrange [{:g}:{:g}]\nset ytics 20", top - 80, top));
  p.line(
      fmt::format("plot $a using 1:2 with lines lw 2 lc rgb '{}' title 'A', $b using 1:2 with lines lw 2 dt "
                  "(8,3) lc rgb '{}' title 'B'",
                  kMain, kAccent));
  p.line(title("Phase of B against A, degrees (where coherent)"));
  p.line("set yrange [-180:180]\nset ytics 90");
  if (phase)
    p.line(fmt::format("plot $phase using 1:2 with points pt 7 ps 0.9 lc rgb '{}' notitle", kMain));
  else
    p.line("plot NaN notitle");
  p.line(title("Correlation without alignment (bars) and coherence (line)"));
  p.line("set yrange [-1.05:1.05]\nset ytics 0.5");
  p.line("set xlabel 'frequency, Hz' font ',11'");
  p.line(fmt::format(
      "plot $bands using 1:($2/2):($1*0.09):(abs($2)/2) with boxxyerror fs solid 0.75 noborder lc rgb '{}' "
      "notitle, "
      "$coherence using 1:2 with lines lw 1.8 lc rgb '{}' notitle, 0 with lines lw 1 lc rgb '{}' notitle",
      kQuiet, kMain, kMuted));
  p.line(title("Level over time, dBFS; dots: correlation, right scale"));
  p.line("unset logscale x\nset xtics autofreq\nset format x '%g'");
  p.line(
      fmt::format("set xrange [0:{:g}]\nset xlabel 'time, s' font ',11'\nset yrange [{:g}:{:g}]\nset ytics "
                  "20 nomirror\nset y2range [-1.05:1.05]\nset y2tics 0.5",
                  std::max(0.1, end_s), top - 80, top + 10));
  p.line(
      fmt::format("plot $ctime using 1:2 axes x1y2 with points pt 7 ps 0.35 lc rgb '{}' notitle, $atime "
                  "using 1:2 with lines lw 1.6 lc rgb '{}' title 'A', "
                  "$btime using 1:2 with lines lw 1.6 dt (8,3) lc rgb '{}' title 'B'",
                  kQuiet, kMain, kAccent));
  return run_gnuplot(p.script() + "unset multiplot\n", options);
}

}  // namespace wavicon
