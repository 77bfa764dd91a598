// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <set>

#include "gnuplot.hpp"
#include "most_drawn.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon {
namespace {

using namespace present_detail;

constexpr double kLowestHz = 15;

std::vector<std::pair<double, double>> points_of(const Curve& curve) {
  std::vector<std::pair<double, double>> points;
  for (std::size_t i = 0; i < curve.x.size(); ++i) points.emplace_back(curve.x[i], curve.y[i]);
  return points;
}

const Curve* find_curve(const Sheet& sheet, const std::string& name, std::optional<int> channel) {
  for (const Curve& curve : sheet.curves)
    if (curve.name == name && curve.channel == channel) return &curve;
  return nullptr;
}

double real_condition(const Reading& reading, const std::string& name) {
  const ConditionValue* value = find_condition(reading, name);
  return value != nullptr && std::holds_alternative<double>(*value) ? std::get<double>(*value) : NAN;
}

std::string minus(std::string text) {
  for (std::size_t at = 0; (at = text.find('-', at)) != std::string::npos; at += 3)
    text.replace(at, 1, "\u2212");
  return text;
}

// 3 of "h3_dbc"; 0 of any other reading.
int order_of(const std::string& name) {
  const int order = name.size() > 1 && name[0] == 'h' ? std::atoi(name.c_str() + 1) : 0;
  return order > 0 && name == fmt::format("h{}_dbc", order) ? order : 0;
}

// One number above each order that was read; orders that are only bounded get a quiet mark at the bound.
std::string order_marks(const Sheet& sheet, std::optional<int> channel, double fundamental_hz,
                        double level_dbfs, int panel) {
  std::vector<std::pair<double, double>> read = {{fundamental_hz, level_dbfs}}, bounded;
  std::string text;
  auto label = [&](double hz, double dbfs, int order, const char* colour) {
    text +=
        fmt::format("set label {} at {:.8g},{:.6g} center offset 0,0.9 front textcolor rgb '{}' font ',11'\n",
                    literal(std::to_string(order)), hz, dbfs, colour);
  };
  label(fundamental_hz, level_dbfs, 1, kAccent);
  for (const Reading& r : sheet.readings) {
    const int order = order_of(r.name);
    if (r.channel != channel || !r.value || order == 0) continue;
    const std::pair<double, double> at{real_condition(r, "at_hz"), level_dbfs + *r.value};
    (r.bound ? bounded : read).push_back(at);
    label(at.first, at.second, order, r.bound ? kMuted : kAccent);
  }
  text += data_block(fmt::format("read{}", panel), read);
  if (bounded.empty()) bounded.emplace_back(NAN, NAN);
  return text + data_block(fmt::format("bounded{}", panel), bounded);
}

std::string plots(int panel, const char* style, bool with_floor) {
  std::string text = "plot ";
  if (with_floor)
    text +=
        fmt::format("$floor{} using 1:2 with {} lc rgb '{}' lw 1 title 'own floor', ", panel, style, kQuiet);
  text +=
      fmt::format("$spectrum{} using 1:2 with {} lc rgb '{}' lw 1.3 title 'capture', ", panel, style, kMain);
  text +=
      fmt::format("$bounded{} using 1:2 with points pt 6 ps 1.2 lw 1.5 lc rgb '{}' title 'at most this', ",
                  panel, kMuted);
  text +=
      fmt::format("$read{} using 1:2 with points pt 7 ps 0.9 lc rgb '{}' title 'order'\n", panel, kAccent);
  return text;
}

std::string panel_script(const Sheet& sheet, const Curve& spectrum, int panel, bool last,
                         const PlotOptions& options) {
  const auto channel = spectrum.channel;
  const Reading* hz = find_reading(sheet, "fundamental_hz", channel);
  const Reading* dbfs = find_reading(sheet, "fundamental_dbfs", channel);
  const Curve* floor = find_curve(sheet, "own floor", channel);
  const double high_hz = sheet.capture.sample_rate_hz / 2;
  double lowest = -120;
  for (const Curve* curve : {&spectrum, floor})
    if (curve != nullptr && !curve->y.empty()) {
      auto sorted = curve->y;
      std::nth_element(sorted.begin(), sorted.begin() + static_cast<std::ptrdiff_t>(sorted.size() / 5),
                       sorted.end());
      lowest = std::min(lowest, sorted[sorted.size() / 5]);
    }
  lowest = std::max(-380.0, 20 * std::floor((lowest - 6) / 20));
  const double highest = std::max(0.0, 20 * std::ceil(*dbfs->value / 20)) + 10;

  std::string subject = sheet.capture.file.empty() ? "capture" : sheet.capture.file;
  if (sheet.capture.channels > 1 && channel) subject += fmt::format(", channel {}", *channel + 1);
  std::string title;
  for (const Finding& finding : sheet.findings)
    if (finding.channel == channel && title.empty()) title = finding.text;
  std::string text = "unset label\n" + order_marks(sheet, channel, *hz->value, *dbfs->value, panel);
  text += data_block(fmt::format("spectrum{}", panel), points_of(spectrum));
  if (floor != nullptr) text += data_block(fmt::format("floor{}", panel), points_of(*floor));
  text +=
      fmt::format("set title {} font ',13' textcolor rgb '{}' offset 0,0.4\n", literal(minus(title)), kInk);
  text += fmt::format("set label {} at graph 0,1 left offset 0,3.3 font ',11' textcolor rgb '{}'\n",
                      literal(subject), kMuted);
  const auto x = options.x_range.value_or(std::array{kLowestHz, high_hz}),
             y = options.y_range.value_or(std::array{lowest, highest});
  text += frequency_axis(std::max(1e-3, x[0]), x[1]);
  text += fmt::format("set yrange [{}:{}]\nset ytics 20\nset ylabel 'level of a sine, dBFS'\n", y[0], y[1]);
  const auto window_s = real_condition(*hz, "window_s"), duration_s = real_condition(*hz, "duration_s");
  const ConditionValue* window = find_condition(*hz, "window");
  const bool lines = window != nullptr && std::get<std::string>(*window).rfind("Kaiser", 0) == 0;
  if (last)
    text += fmt::format(
        "set xlabel {} textcolor rgb '{}'\n",
        literal(fmt::format(
            "frequency, Hz      ({:g} Hz sample rate, {:.4g} s, {} {}; own floor: a clean tone as {})",
            sheet.capture.sample_rate_hz, duration_s,
            std::isnan(window_s) ? "window" : fmt::format("{:.3g} s windows", window_s),
            std::get<std::string>(*window), sheet.capture.format)),
        kInk);
  else
    text += "unset xlabel\n";
  text += "set key tmargin right horizontal samplen 2\n";
  return text + plots(panel, lines ? "lines" : "impulses", floor != nullptr);
}

}  // namespace

std::string draw_harmonics(const Sheet& sheet, const PlotOptions& options) {
  std::vector<const Curve*> spectra;
  for (const Curve& curve : sheet.curves)
    if (curve.name == "spectrum" && spectra.size() < kMostPanels) spectra.push_back(&curve);
  if (spectra.empty()) throw Error(ErrorCode::bad_argument, "the sheet holds no spectrum to draw");
  std::string script = preamble(options);
  if (spectra.size() > 1) script += fmt::format("set multiplot layout {},1\n", spectra.size());
  for (std::size_t i = 0; i < spectra.size(); ++i)
    script += panel_script(sheet, *spectra[i], static_cast<int>(i), i + 1 == spectra.size(), options);
  if (spectra.size() > 1) script += "unset multiplot\n";
  return run_gnuplot(script, options);
}

}  // namespace wavicon
