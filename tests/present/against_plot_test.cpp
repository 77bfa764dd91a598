// SPDX-License-Identifier: MIT
// The pictures of harmonics side by side, of a period, a latency and a pair.

#include "support.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::against_plot_test {
namespace {

using namespace testing;

Sheet harmonics(const std::string& file, double level) {
  Sheet sheet{"harmonics", {file, "24-bit", 48000, 1, 100}, {}, {}, {}, {}, {}};
  for (int k = 2; k <= 5; ++k)
    sheet.readings.push_back(
        {"h" + std::to_string(k) + "_dbc", 0, level - 10 * k, "dBc", std::nullopt, k == 5, {}, {}});
  sheet.curves.push_back({"one period", 0, "deg", "", {0, 90, 180, 270}, {0, 0.4, 0, -0.5}});
  sheet.curves.push_back({"added", 0, "deg", "", {0, 90, 180, 270}, {0, -0.1, 0, 0}});
  return sheet;
}

void expect_texts(const std::string& svg, const std::vector<const char*>& texts) {
  for (const char* text : texts) EXPECT_NE(svg.find(text), std::string::npos) << text;
}

TEST(DrawOrders, PutsTheCapturesBesideEachOther) {
  expect_texts(
      draw_orders({harmonics("one.wav", -20), harmonics("two.wav", -40)}, {.format = PlotFormat::svg}),
      {"one.wav", "two.wav", "at most this", "order"});
  EXPECT_EQ(draw_orders({harmonics("one.wav", -20)}).substr(1, 3), "PNG");
  EXPECT_NE(message_of(ErrorCode::bad_argument, [] { (void)draw_orders({}); }).find("no harmonics"),
            std::string::npos);
}

TEST(DrawPeriod, ShowsThePeriodAndWhatWasAdded) {
  expect_texts(draw_period({harmonics("one.wav", -20)}, {.format = PlotFormat::svg}),
               {"one.wav", "clean tone of the same level", "What was added to the tone"});
  expect_texts(
      draw_period({harmonics("one.wav", -20), harmonics("two.wav", -40)}, {.format = PlotFormat::svg}),
      {"as loud as the first"});
  EXPECT_NE(message_of(ErrorCode::bad_argument, [] { (void)draw_period({Sheet{}}); }).find("no period"),
            std::string::npos);
}

TEST(DrawLatency, ShowsBothOnTheGridAsTheyCameAndMoved) {
  Sheet sheet{"latency", {"b.wav", "24-bit", 48000, 1, 100}, {}, {}, {}, {}, {}};
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { (void)draw_latency(sheet); }).find("no waveforms"),
            std::string::npos);
  sheet.readings.push_back({"latency_samples", std::nullopt, -2.5, "samples", std::nullopt, false, {}, {}});
  for (const char* name : {"A", "B as it came", "B moved"})
    sheet.curves.push_back({name, std::nullopt, "samples", "", {-1, 0, 1, 2}, {0.1, -0.2, 0.3, 0}});
  expect_texts(draw_latency(sheet, {.format = PlotFormat::svg}),
               {"2.50 samples before A", "B as it came", "both on one grid"});
}

TEST(DrawPair, ShowsWhatThereIs) {
  Sheet sheet{"pair", {"b.wav", "24-bit", 48000, 1, 100}, {}, {}, {}, {}, {}};
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { (void)draw_pair(sheet); }).find("no pair"),
            std::string::npos);
  for (const char* name : {"A", "B", "phase", "correlation per band", "coherence"})
    sheet.curves.push_back({name, std::nullopt, "Hz", "", {100, 1000, 10000}, {-0.5, 0.2, 0.9}});
  for (const char* name : {"A over time", "B over time", "correlation over time"})
    sheet.curves.push_back({name, std::nullopt, "s", "", {0, 1, 2}, {-30, -20, -25}});
  expect_texts(
      draw_pair(sheet, {.format = PlotFormat::svg}),
      {"Level in third octaves", "Phase of B against A", "Correlation without alignment", "Level over time"});
}

}  // namespace
}  // namespace wavicon::against_plot_test
