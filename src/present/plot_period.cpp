// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "gnuplot.hpp"
#include "most_drawn.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

constexpr const char* kPeriodColours[kMostPeriods] = {kMain, kAccent, "#a08a3c", "#5b9aa8"};

struct DrawnPeriod {
  const Curve* period;
  const Curve* added;
  std::string name;
};

std::vector<DrawnPeriod> chosen_periods(const std::vector<Sheet>& sheets) {
  std::vector<DrawnPeriod> drawn;
  for (const Sheet& sheet : sheets)
    for (const Curve& curve : sheet.curves) {
      if (curve.name != "one period" || curve.x.empty() || drawn.size() == kMostPeriods) continue;
      for (const Curve& added : sheet.curves) {
        if (added.name != "added" || added.channel != curve.channel) continue;
        std::string name = std::filesystem::path(sheet.capture.file).filename().string();
        if (sheet.capture.channels > 1 && curve.channel)
          name += fmt::format(", channel {}", *curve.channel + 1);
        drawn.push_back({&curve, &added, name.empty() ? "capture" : name});
      }
    }
  return drawn;
}

double highest(const std::vector<DrawnPeriod>& drawn, const Curve* DrawnPeriod::*which) {
  double most = 0;
  for (const DrawnPeriod& d : drawn)
    for (const double y : (d.*which)->y) most = std::max(most, std::abs(y));
  return most > 0 ? most : 1;
}

}  // namespace

std::string draw_period(const std::vector<Sheet>& sheets, const PlotOptions& options) {
  const auto drawn = chosen_periods(sheets);
  if (drawn.empty()) throw Error(ErrorCode::bad_argument, "the sheets hold no period of a tone to draw");
  const double top = 1.08 * highest(drawn, &DrawnPeriod::period),
               added = 1.15 * highest(drawn, &DrawnPeriod::added);
  std::string script = preamble(options), above = "plot ", below = "plot ";
  // The clean tone: what came back less what was added.
  Curve clean = *drawn[0].period;
  for (std::size_t i = 0; i < clean.y.size(); ++i) clean.y[i] -= drawn[0].added->y[i];
  script += data_block("clean", clean);
  for (std::size_t i = 0; i < drawn.size(); ++i) {
    script += data_block(fmt::format("period{}", i), *drawn[i].period) +
              data_block(fmt::format("added{}", i), *drawn[i].added);
    above += fmt::format("$period{} using 1:2 with lines lw 2 lc rgb '{}' title {}, ", i, kPeriodColours[i],
                         literal(drawn[i].name));
    below += fmt::format("{}$added{} using 1:2 with lines lw 1.5 lc rgb '{}' title {}", i == 0 ? "" : ", ", i,
                         kPeriodColours[i], literal(drawn.size() == 1 ? "added" : drawn[i].name));
  }
  above += fmt::format(
      "$clean using 1:2 with lines lw 1.5 dt (6,4) lc rgb '{}' title {}\n", kMuted,
      literal(drawn.size() == 1 ? "clean tone of the same level" : "clean tone, as loud as the first"));
  script += "set multiplot layout 2,1" +
            overall_title(sheets, "one period of the tone, and what was added", options) +
            "\nset lmargin 11\nset xrange [0:360]\nset xtics 45\n";
  script += "set key tmargin right horizontal samplen 2\n";
  script +=
      fmt::format("set title 'One period of the tone' font ',13' textcolor rgb '{}' offset 0,0.4\n", kInk);
  script += fmt::format("set ylabel 'full scale = 1' textcolor rgb '{}'\nset yrange [{:.6g}:{:.6g}]\n", kInk,
                        -top, top);
  script += above;
  script += fmt::format("set title 'What was added to the tone' font ',13' textcolor rgb '{}' offset 0,0.4\n",
                        kInk);
  script +=
      fmt::format("set xlabel 'phase of the tone, degrees' textcolor rgb '{}'\nset yrange [{:.6g}:{:.6g}]\n",
                  kInk, -added, added);
  script += below + "\nunset multiplot\n";
  return run_gnuplot(script, options);
}

}  // namespace wavicon
