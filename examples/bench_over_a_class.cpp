// SPDX-License-Identifier: MIT
// A plan over a class of your own: at how many dB of drive does its distortion pass a limit? Exit status 1
// when it does.

#include <cmath>
#include <cstdio>

#include "wavicon/bench/run.hpp"
#include "wavicon/present/page_text.hpp"
#include "wavicon/testing/processor.hpp"

namespace {

struct Saturator {
  float gain;
  float operator()(float x) const { return std::tanh(gain * x) / gain; }
};

constexpr const char* kPlan = R"(
name = "saturator"
through = ["own:saturator?drive={drive}"]
[[play.part]]
kind = "tone"
frequency_hz = 997
level_dbfs = -20
seconds = 1
[rows]
drive = [0, 6, 12]
[[measure]]
with = "harmonics"
show = ["thd_db", "h3_dbc"]
[[limit]]
keep = "thd_db<-40"
)";

}  // namespace

int main() try {
  wavicon::BenchOptions options;
  options.jobs = 2;
  options.units.own = {wavicon::own_unit(
      "saturator", {{.symbol = "drive", .name = "Drive", .unit = "dB", .minimum = 0, .maximum = 24}},
      [](const std::vector<double>& values) {
        return Saturator{std::pow(10.0F, static_cast<float>(values[0]) / 20)};
      })};
  const wavicon::Plan plan = wavicon::parse_plan(kPlan, "the plan", "");
  const auto results = wavicon::run_cells(plan, wavicon::cells_of(plan), options);
  const auto limits = wavicon::check_limits(plan, results);
  std::fputs(wavicon::page_text(wavicon::bench_page(plan, results, limits)).c_str(), stdout);
  for (const wavicon::CellLimit& limit : limits)
    if (limit.result.outcome != wavicon::LimitResult::Outcome::kept) return 1;
} catch (const std::exception& error) {
  std::fprintf(stderr, "bench_over_a_class: %s\n", error.what());
  return 2;
}
