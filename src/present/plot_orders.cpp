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

constexpr int kMostOrders = 20;  // bars that can be told apart
constexpr const char* kColours[kMostCaptures] = {kMain, kAccent, "#a08a3c", "#2b2b28", "#5b9aa8", "#d98e6a"};

struct Orders {
  std::string name;
  std::vector<std::pair<int, double>> read, bounded;
};

std::vector<Orders> orders_of(const std::vector<Sheet>& sheets) {
  std::vector<Orders> all;
  for (const Sheet& sheet : sheets)
    for (int channel = 0; channel < std::max(1, sheet.capture.channels); ++channel) {
      Orders orders;
      for (int k = 2; k <= kMostOrders; ++k) {
        const Reading* r = find_reading(sheet, fmt::format("h{}_dbc", k), channel);
        if (r == nullptr || !r->value) continue;
        (r->bound ? orders.bounded : orders.read).emplace_back(k, *r->value);
      }
      if (orders.read.empty() && orders.bounded.empty()) continue;
      orders.name = std::filesystem::path(sheet.capture.file).filename().string();
      if (sheet.capture.channels > 1) orders.name += fmt::format(", channel {}", channel + 1);
      if (all.size() < kMostCaptures) all.push_back(std::move(orders));
    }
  return all;
}

}  // namespace

std::string draw_orders(const std::vector<Sheet>& sheets, const PlotOptions& options) {
  const auto all = orders_of(sheets);
  if (all.empty()) throw Error(ErrorCode::bad_argument, "the sheets hold no harmonics to draw");
  double highest = -200, lowest = 0;
  int last = 2;
  for (const Orders& o : all) {
    for (const auto* list : {&o.read, &o.bounded})
      for (const auto& [order, dbc] : *list) {
        highest = std::max(highest, dbc);
        lowest = std::min(lowest, dbc);
        last = std::max(last, order);
      }
  }
  const double top = 20 * std::ceil((highest + 2) / 20),
               bottom = std::max(top - 180, 20 * std::floor((lowest - 4) / 20));
  const double width = 0.8 / static_cast<double>(all.size());
  std::string script = preamble(options), plot = "plot ";
  bool any_bound = false;
  for (std::size_t i = 0; i < all.size(); ++i) {
    const double shift = (static_cast<double>(i) - 0.5 * static_cast<double>(all.size() - 1)) * width;
    std::vector<std::pair<double, double>> read, bounded;
    for (const auto& [order, dbc] : all[i].read) read.emplace_back(order + shift, std::max(bottom, dbc));
    for (const auto& [order, dbc] : all[i].bounded)
      bounded.emplace_back(order + shift, std::max(bottom, dbc));
    if (read.empty()) read.emplace_back(NAN, NAN);
    script += data_block(fmt::format("read{}", i), read);
    plot += fmt::format(
        "{}$read{} using 1:($2-0.5*($2-({:g}))):({:.4g}):(0.5*($2-({:g}))) with boxxyerror fs solid 0.85 "
        "noborder lc rgb '{}' title {}",
        i == 0 ? "" : ", ", i, bottom, 0.42 * width, bottom, kColours[i], literal(all[i].name));
    if (bounded.empty()) continue;
    any_bound = true;
    script += data_block(fmt::format("bounded{}", i), bounded);
    plot += fmt::format(", $bounded{} using 1:2 with points pt 6 ps 1.1 lw 1.5 lc rgb '{}' notitle", i,
                        kColours[i]);
  }
  if (any_bound)
    plot += fmt::format(", NaN with points pt 6 ps 1.1 lw 1.5 lc rgb '{}' title 'at most this'", kMuted);
  script +=
      fmt::format("set title 'Harmonics side by side' font ',13' textcolor rgb '{}' offset 0,0.4\n", kInk);
  script += fmt::format(
      "set xlabel 'order' textcolor rgb '{}'\nset ylabel 'relative to the fundamental, dBc' textcolor rgb "
      "'{}'\n",
      kInk, kInk);
  script += fmt::format(
      "set xrange [1.4:{:g}]\nset xtics 1\nunset grid\nset grid y\nset yrange [{:g}:{:g}]\nset ytics 20\n",
      last + 0.6, bottom, top);
  script += "set key tmargin right horizontal samplen 1.5 maxrows 2\n";
  return run_gnuplot(script + plot + "\n", options);
}

}  // namespace wavicon
