// SPDX-License-Identifier: MIT
#include "wavicon/present/plot.hpp"

#include "present/example_sheet.hpp"

namespace wavicon::plot_test {
namespace {

using testing::example;

TEST(Plot, IsAPictureOfTheAskedSize) {
  const std::string png = draw_harmonics(example());
  ASSERT_GT(png.size(), 5000U);
  EXPECT_EQ(png.substr(1, 3), "PNG");
  auto big_endian = [&](std::size_t at) {
    return (static_cast<unsigned char>(png[at + 2]) << 8) + static_cast<unsigned char>(png[at + 3]);
  };
  EXPECT_EQ(big_endian(16), 1280);
  EXPECT_EQ(big_endian(20), 800);
  const std::string svg = draw_harmonics(example(), {.format = PlotFormat::svg});
  EXPECT_NE(svg.find("<svg"), std::string::npos);
  EXPECT_NE(svg.find("a tone"), std::string::npos) << "the finding is the title";
}

TEST(Plot, MarksNothingButTheLevelsOfOrders) {
  const std::string svg = draw_harmonics(example(), {.format = PlotFormat::svg});
  Sheet more = example();
  for (const char* name : {"h3_phase_deg", "h3_dbc_change", "h_dbc", "harmonics"}) {
    Reading reading = more.readings.front();
    reading.name = name;
    reading.value = -0.5;
    more.readings.push_back(reading);
  }
  EXPECT_EQ(draw_harmonics(more, {.format = PlotFormat::svg}), svg);
}

TEST(Plot, RefusesASheetWithoutSpectrum) {
  EXPECT_NE(
      testing::message_of(ErrorCode::bad_argument, [] { (void)draw_harmonics({}); }).find("no spectrum"),
      std::string::npos);
}

}  // namespace
}  // namespace wavicon::plot_test
