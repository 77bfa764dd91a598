// SPDX-License-Identifier: MIT
#include "support.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::curves_plot_test {
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
  for (const char* text : {"it's one, channel 1", "two, channel 2", "Both"})
    EXPECT_NE(svg.find(text), std::string::npos) << text;
  EXPECT_EQ(draw_curves({with_curve("a")}, {.names = {"spectrum"}, .steps = true}).substr(1, 3), "PNG");
  EXPECT_NE(message_of(ErrorCode::bad_argument,
                       [] { (void)draw_curves({with_curve("a")}, {.names = {"no such"}}); })
                .find("no curve to draw"),
            std::string::npos);
}

// The answer is the title, what is drawn stands below; marks and levels are written where they are.
TEST(DrawCurves, AnswersInItsTitleAndMarksPlaces) {
  Sheet sheet = with_curve("one.wav");
  sheet.findings = {{Severity::note, FindingCode::result, "it hums at 50 Hz", std::nullopt}};
  CurveStyle style{.names = {"spectrum"}, .title = "Spectrum", .log_frequency = true};
  style.marks = {
      {0, 200, std::nullopt, "a place"}, {0, 2000, 20.0, "another"}, {0, 1e6, std::nullopt, "outside"}};
  style.lines = {{25, "wanted"}};
  const std::string svg = draw_curves({sheet}, style, {.format = PlotFormat::svg});
  for (const char* text : {"it hums at 50 Hz", "Spectrum", "one.wav", "a place", "another", "wanted"})
    EXPECT_NE(svg.find(text), std::string::npos) << text;
  EXPECT_EQ(svg.find("outside"), std::string::npos);
  EXPECT_NE(draw_curves({sheet}, style, {.format = PlotFormat::svg}, "another answer").find("another answer"),
            std::string::npos);
  // Labels that would lie on each other move, and are left out where there is no room at all.
  style.marks.assign(40, {0, 200, std::nullopt, "the same place again and again"});
  const std::string crowded = draw_curves({sheet}, style, {.format = PlotFormat::svg});
  std::size_t count = 0;
  for (std::size_t at = 0; (at = crowded.find("the same place", at)) != std::string::npos; ++at) ++count;
  EXPECT_GE(count, 4U);
  EXPECT_LE(count, 12U);
}

TEST(DrawCurves, DrawsAllOfALadderInShadesOfOneScale) {
  std::vector<Sheet> sheets;
  for (int i = 0; i < 20; ++i) sheets.push_back(with_curve("tern-" + std::to_string(i) + ".wav"));
  const std::string svg =
      draw_curves(sheets, {.names = {"spectrum"}, .log_frequency = true}, {.format = PlotFormat::svg});
  for (const char* text : {">tern-0, channel 1<", ">tern-19, channel 2<", "tern-*.wav: 20 captures"})
    EXPECT_NE(svg.find(text), std::string::npos) << text;
  EXPECT_EQ(drawable(sheets, {.style = {.names = {"spectrum"}}}).there, 40U);
  EXPECT_GE(drawable(sheets, {.style = {.names = {"spectrum"}}}).most, 40U);
}

TEST(DrawCurves, PanelsShareTheirAxes) {
  Sheet sheet{"harmonics", {"a.wav", "24-bit", 48000, 1, 100}, {}, {}, {}, {}, {}};
  for (const char* name : {"THD at 100 Hz", "H2 at 100 Hz", "THD at 1000 Hz"})
    sheet.curves.push_back({name, 0, "dBFS", "dB", {-40, -20}, {name[0] == 'T' ? -50.0 : -90.0, -30}});
  CurveStyle style{.names = {"THD at 100 Hz", "H2 at 100 Hz", "THD at 1000 Hz"}, .title = "both"};
  style.panels = {" at 100 Hz", " at 1000 Hz"};
  const std::string svg = draw_curves({sheet}, style, {.format = PlotFormat::svg});
  for (const char* text : {">at 100 Hz<", ">at 1000 Hz<", ">H2<", "a.wav: both"})
    EXPECT_NE(svg.find(text), std::string::npos) << text;
  // The lowest tick of the first panel is one of the second, too, which has nothing down there.
  std::size_t count = 0;
  for (std::size_t at = 0; (at = svg.find(">-90<", at)) != std::string::npos; ++at) ++count;
  std::size_t other = 0;
  for (std::size_t at = 0; (at = svg.find(">-80<", at)) != std::string::npos; ++at) ++other;
  EXPECT_EQ(std::max(count, other), 2U) << svg.size();
}

TEST(DrawCurves, TakesSizeRangesAndDarkPaper) {
  const CurveStyle style{.names = {"spectrum"}, .log_frequency = true};
  PlotOptions options{.format = PlotFormat::svg, .width_px = 640, .height_px = 480};
  const std::string light = draw_curves({with_curve("#fbfaf7 a.wav")}, style, options);
  EXPECT_NE(light.find("viewBox=\"0 0 640 480\""), std::string::npos);
  EXPECT_NE(light.find("#fbfaf7"), std::string::npos);
  options.dark = true;
  const std::string dark = draw_curves({with_curve("#fbfaf7 a.wav")}, style, options);
  EXPECT_NE(dark.find("#fbfaf7 a.wav"), std::string::npos) << "a name stays as it is";
  EXPECT_EQ(dark.find("fill=\"#fbfaf7\""), std::string::npos);
  options.x_range = {100, 1000};
  options.y_range = {0, 30};
  const std::string part = draw_curves({with_curve("a.wav")}, style, options);
  EXPECT_EQ(part.find("10k"), std::string::npos);
  EXPECT_NE(light.find("10k"), std::string::npos);
  EXPECT_HAS(
      message_of(ErrorCode::bad_argument,
                 [&] { (void)draw_picture({with_curve("a")}, {.kind = PictureKind::period}, options); }),
      "chooses its axes by itself");
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
}  // namespace wavicon::curves_plot_test
