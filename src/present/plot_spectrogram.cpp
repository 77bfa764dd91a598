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

// From paper to ink, each step darker than the one before: it reads the same in grey.
constexpr const char* kScale =
    "set palette defined (0 '#fbfaf7', 0.22 '#eadfc4', 0.42 '#c9b06d', 0.6 '#7f9a7c', 0.78 '#2f6f86', 0.9 "
    "'#173f63', 1 '#140b22')\n";
constexpr double kShownDb = 120;

// Rows are drawn evenly; a frequency becomes the place of a row.
double row_of(const LevelMap& map, double hz) {
  const auto above = std::lower_bound(map.y.begin(), map.y.end(), hz);
  if (above == map.y.begin()) return 0;
  if (above == map.y.end()) return static_cast<double>(map.y.size()) - 1;
  const auto i = static_cast<double>(above - map.y.begin());
  return i - (*above - hz) / (*above - *(above - 1));
}

std::string tick(const LevelMap& map, double hz, bool first) {
  const std::string label = hz >= 1000 ? fmt::format("{:g}k", hz / 1000) : fmt::format("{:g}", hz);
  return fmt::format("{}'{}' {:.6g}", first ? "" : ", ", label, row_of(map, hz));
}

std::string ticks(const LevelMap& map) {
  std::string text;
  const double range = map.y.back() - map.y.front();
  if (std::abs((map.y[1] - map.y[0]) - range / static_cast<double>(map.y.size() - 1)) < 1e-6 * range) {
    double decade = 1;
    while (decade * 40 < range) decade *= 10;
    double step = decade;
    for (const double wider : {2.0, 5.0, 10.0})
      if (range / step > 13) step = decade * wider;
    for (double hz = std::ceil(map.y.front() / step) * step; hz <= map.y.back(); hz += step)
      text += tick(map, hz, text.empty());
    return text;
  }
  for (double decade = 1; decade <= map.y.back(); decade *= 10)
    for (const double step : {1.0, 2.0, 5.0}) {
      const double hz = decade * step;
      if (hz < map.y.front() || hz > map.y.back()) continue;
      text += tick(map, hz, text.empty());
    }
  return text;
}

std::string map_block(const LevelMap& map) {
  std::string text = "$map << END\n";
  const std::size_t rows = map.y.size();
  text += fmt::format("{}", map.x.size());
  for (const double x : map.x) fmt::format_to(std::back_inserter(text), " {:.8g}", x);
  text += '\n';
  for (std::size_t r = 0; r < rows; ++r) {
    fmt::format_to(std::back_inserter(text), "{} ", r);
    for (std::size_t c = 0; c < map.x.size(); ++c)
      fmt::format_to(std::back_inserter(text), "{:.1f} ", map.z[c * rows + r]);
    text += '\n';
  }
  return text + "END\n";
}

// Names of the parts above the picture, those that have room.
std::string label_script(const Sheet& sheet, const LevelMap& map) {
  const double width = map.x.back() - map.x.front();
  std::string text;
  double free_from[3] = {map.x.front() - width, map.x.front() - width, map.x.front() - width};
  for (const AxisLabel& label : sheet.labels) {
    const double middle = (std::max(label.from, map.x.front()) + std::min(label.to, map.x.back())) / 2;
    if (middle < map.x.front() || middle > map.x.back()) continue;
    const double room = width * static_cast<double>(label.text.size()) * 0.0075;
    int level = 0;
    while (level < 2 && middle - room / 2 < free_from[level]) ++level;
    free_from[level] = middle + room / 2;
    text +=
        fmt::format("set label {} at first {:.6g},graph 1 center offset 0,{} font ',10' textcolor rgb '{}'\n",
                    literal(label.text), middle, 0.8 + 1.1 * level, kMuted);
    for (const double edge : {label.from, label.to})
      if (edge > map.x.front() && edge < map.x.back())
        text += fmt::format(
            "set arrow from first {:.6g},graph 1 to first {:.6g},graph 1.012 nohead lc rgb '{}'\n", edge,
            edge, kMuted);
  }
  return text;
}

std::string path_blocks(const Sheet& sheet, const LevelMap& map, std::string& plots) {
  std::string text;
  int count = 0;
  for (const Curve& curve : sheet.curves) {
    if (curve.name.rfind("order ", 0) != 0) continue;
    std::vector<std::pair<double, double>> points;
    for (std::size_t i = 0; i < curve.x.size(); ++i)
      points.emplace_back(curve.x[i], curve.y[i] < map.y.front() ? NAN : row_of(map, curve.y[i]));
    // Its number where it comes close to the top for the first time.
    for (const auto& [x, y] : points)
      if (y > 0.93 * static_cast<double>(map.y.size())) {
        text += fmt::format(
            "set label {} at {:.6g},{:.6g} right offset -0.3,0 front font ',10' textcolor rgb '{}'\n",
            literal(curve.name.substr(6)), x, y, kAccent);
        break;
      }
    text += data_block(fmt::format("path{}", count), points);
    plots += fmt::format(", $path{} using 1:2 with lines lc rgb '{}' lw 1 dt (6,6) {}", count, kAccent,
                         count == 0 ? "title 'paths of the orders'" : "notitle");
    ++count;
  }
  return text;
}

}  // namespace

std::string draw_spectrogram(const Sheet& sheet, const PlotOptions& options) {
  if (sheet.maps.empty()) throw Error(ErrorCode::bad_argument, "the sheet holds no map to draw");
  const LevelMap& map = sheet.maps.front();
  const double highest = std::ceil(*std::max_element(map.z.begin(), map.z.end()) / 10) * 10;
  const double step =
      map.x.size() > 1 ? (map.x.back() - map.x.front()) / static_cast<double>(map.x.size() - 1) : 1;
  std::string plots, script = preamble(options) + map_block(map) + path_blocks(sheet, map, plots);
  std::string subject = sheet.capture.file.empty() ? "capture" : sheet.capture.file;
  if (sheet.capture.channels > 1) subject += fmt::format(", channel {}", map.channel.value_or(0) + 1);
  script += kScale;
  script += fmt::format("set label {} at screen 0.012,0.975 left font ',12' textcolor rgb '{}'\n",
                        literal(subject), kInk);
  script += label_script(sheet, map);
  script += "unset grid\nset border 15\nset tmargin 5\nset rmargin 12\n";
  script += fmt::format("set xrange [{:.8g}:{:.8g}]\nset yrange [-0.5:{}]\nset cbrange [{}:{}]\n",
                        map.x.front() - step / 2, map.x.back() + step / 2,
                        static_cast<double>(map.y.size()) - 0.5, highest - kShownDb, highest);
  script += fmt::format(
      "set ytics ({})\nset ylabel 'frequency, Hz'\nset cblabel 'level of a sine, dBFS'\nset cbtics 20\n",
      ticks(map));
  const ConditionValue* window =
      sheet.readings.empty() ? nullptr : find_condition(sheet.readings[0], "window_s");
  script += fmt::format(
      "set xlabel {}\n",
      literal(fmt::format("time, s      ({:g} Hz sample rate, windows of {:.3g} s)",
                          sheet.capture.sample_rate_hz, window != nullptr ? std::get<double>(*window) : 0)));
  script += fmt::format(
      "set key at screen 0.93,0.985 top right samplen 2\nplot $map nonuniform matrix using 1:2:3 with "
      "image notitle{}\n",
      plots);
  return run_gnuplot(script, options);
}

}  // namespace wavicon
