// SPDX-License-Identifier: MIT
#include "support.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon {
namespace {

using namespace testing;

Sheet with_curve(const std::string& file) {
  Sheet sheet{"spectrum", {file, "24-bit", 48000, 2, 100}, {}, {}, {}, {}, {}};
  for (int channel = 0; channel < 2; ++channel)
    sheet.curves.push_back({"spectrum", channel, "Hz", "dBFS", {20, 200, 2000, 20000}, {40, 30, 20, 10}});
  return sheet;
}

TEST(DrawCurves, NamesEveryCurveItLaysOverTheOthers) {
  const std::string svg = draw_curves(
      {with_curve("it's one.wav"), with_curve("two.wav")},
      {.names = {"spectrum"}, .title = "Both", .x_title = "x", .y_title = "y", .log_frequency = true},
      {.format = PlotFormat::svg});
  for (const char* text : {"it's one.wav, channel 1", "two.wav, channel 2", "Both"})
    EXPECT_NE(svg.find(text), std::string::npos) << text;
  EXPECT_EQ(draw_curves({with_curve("a")}, {.names = {"spectrum"}, .steps = true}).substr(1, 3), "PNG");
  EXPECT_NE(message_of(ErrorCode::bad_argument,
                       [] { (void)draw_curves({with_curve("a")}, {.names = {"no such"}}); })
                .find("no curve to draw"),
            std::string::npos);
}

TEST(DrawSpectrogram, DrawsAMapWithPathsAndNames) {
  Sheet sheet{"spectrogram", {"a.wav", "24-bit", 48000, 1, 100}, {}, {}, {}, {}, {}};
  EXPECT_NE(message_of(ErrorCode::bad_argument, [&] { (void)draw_spectrogram(sheet); }).find("no map"),
            std::string::npos);
  LevelMap map{"level", 0, "s", "Hz", "dBFS", {0, 1, 2}, {100, 1000, 10000, 20000}, {}};
  for (int i = 0; i < 12; ++i) map.z.push_back(-10.0 * i);
  sheet.maps.push_back(map);
  sheet.labels.push_back({"a sweep", 0, 2});
  sheet.curves.push_back({"order 2", std::nullopt, "s", "Hz", {0, 2}, {200, 19500}});
  const std::string svg = draw_spectrogram(sheet, {.format = PlotFormat::svg});
  for (const char* text : {"a sweep", "paths of the orders", "a.wav"})
    EXPECT_NE(svg.find(text), std::string::npos) << text;
}

}  // namespace
}  // namespace wavicon
