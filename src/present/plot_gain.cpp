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

struct DrawnGain {
  const Curve* wave;
  const Curve* gain;
  std::string name;
};

std::vector<DrawnGain> chosen_gains(const std::vector<Sheet>& sheets) {
  std::vector<DrawnGain> drawn;
  for (const Sheet& sheet : sheets)
    for (const Curve& wave : sheet.curves) {
      if (wave.name.rfind("waveform", 0) != 0 || wave.x.empty() || drawn.size() == kMostBlocks) continue;
      const std::string of = wave.name.substr(8);
      for (const Curve& gain : sheet.curves) {
        if (gain.name != "gain over time" + of || gain.channel != wave.channel) continue;
        std::string name = std::filesystem::path(sheet.capture.file).filename().string();
        if (sheet.capture.channels > 1 && wave.channel)
          name += fmt::format(", channel {}", *wave.channel + 1);
        drawn.push_back({&wave, &gain, name + of});
      }
    }
  return drawn;
}

}  // namespace

std::string draw_gain(const std::vector<Sheet>& sheets, const PlotOptions& options) {
  const auto drawn = chosen_gains(sheets);
  if (drawn.empty())
    throw Error(ErrorCode::bad_argument, "the sheets hold no gain over time to draw: it takes a block");
  double highest = 0, least = 1e300, most = -1e300;
  std::string script = preamble(options);
  for (std::size_t i = 0; i < drawn.size(); ++i) {
    script += data_block(fmt::format("wave{}", i), *drawn[i].wave) +
              data_block(fmt::format("gain{}", i), *drawn[i].gain);
    for (const double y : drawn[i].wave->y) highest = std::max(highest, std::abs(y));
    for (const double y : drawn[i].gain->y) {
      least = std::min(least, y);
      most = std::max(most, y);
    }
  }
  const double room = std::max(0.5, 0.08 * (most - least));
  script += fmt::format("set multiplot layout 2,{} columnsfirst{}\nset lmargin 9\nset rmargin 2\nunset key\n",
                        drawn.size(), overall_title(sheets, "the gain under the waveform", options));
  for (std::size_t i = 0; i < drawn.size(); ++i) {
    const double end = drawn[i].wave->x.back();
    script += fmt::format("set xrange [0:{:.8g}]\nset xlabel ''\n", end);
    script += fmt::format("set title {} font ',12' textcolor rgb '{}' offset 0,-0.2\n",
                          literal(drawn[i].name), kInk);
    script += fmt::format("set ylabel {} textcolor rgb '{}'\nset yrange [{:.6g}:{:.6g}]\n",
                          literal(i == 0 ? "what came back, full scale = 1" : ""), kInk, -1.1 * highest,
                          1.1 * highest);
    script += fmt::format("plot $wave{} using 1:2 with lines lw 1 lc rgb '{}'\n", i, kMuted);
    script += fmt::format(
        "unset title\nset xlabel 'time, s' textcolor rgb '{}'\nset ylabel {} textcolor rgb '{}'\n", kInk,
        literal(i == 0 ? "gain, dB" : ""), kInk);
    script += fmt::format("set yrange [{:.6g}:{:.6g}]\n", least - room, most + room);
    script += fmt::format("plot $gain{} using 1:2 with lines lw 2 lc rgb '{}'\n", i, kAccent);
  }
  return run_gnuplot(script + "unset multiplot\n", options);
}

}  // namespace wavicon
