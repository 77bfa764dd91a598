// SPDX-License-Identifier: MIT
#include "wavicon/measure/harmonics/ladder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <optional>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/student.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

constexpr int kHighestStepOrder = 10;   // that is drawn over the level
constexpr std::size_t kLeastSteps = 3;  // for a slope

// Values of a reading over the levels, bounds left out.
Curve curve_of(const std::vector<LadderStep>& steps, double frequency_hz, int channel,
               const std::string& reading, const std::string& name) {
  Curve curve{name, channel, "dBFS", "dBc", {}, {}};
  for (const LadderStep& step : steps) {
    if (step.frequency_hz != frequency_hz) continue;
    const Reading* r = find_reading(step.sheet, reading, channel);
    if (r == nullptr || !r->value || r->bound) continue;
    curve.x.push_back(step.level_dbfs);
    curve.y.push_back(*r->value);
  }
  return curve;
}

struct Slope {
  double db_per_db = 0;
  double uncertainty = 0;  // k = 2, from what the line leaves
};

std::optional<Slope> slope_of(const Curve& curve) {
  if (curve.x.size() < kLeastSteps) return std::nullopt;
  double n = 0, x = 0, y = 0, xx = 0, xy = 0;
  for (std::size_t i = 0; i < curve.x.size(); ++i) {
    n += 1;
    x += curve.x[i];
    y += curve.y[i];
    xx += curve.x[i] * curve.x[i];
    xy += curve.x[i] * curve.y[i];
  }
  const double determinant = n * xx - x * x;
  if (!(determinant > 0)) return std::nullopt;
  const double slope = (n * xy - x * y) / determinant, start = (y - slope * x) / n;
  double left = 0;
  for (std::size_t i = 0; i < curve.x.size(); ++i)
    left += std::pow(curve.y[i] - start - slope * curve.x[i], 2);
  return Slope{slope, student_k2(curve.x.size() - 2) * std::sqrt(left / (n - 2) * n / determinant)};
}

}  // namespace

Sheet harmonics_ladder(const std::vector<LadderStep>& steps, const CaptureInfo& capture) {
  if (steps.empty()) throw Error(ErrorCode::bad_argument, "a ladder needs at least one step");
  SheetBuilder sheet(harmonics_ladder_readings(), capture);
  std::vector<double> frequencies;
  for (const LadderStep& step : steps)
    if (std::find(frequencies.begin(), frequencies.end(), step.frequency_hz) == frequencies.end())
      frequencies.push_back(step.frequency_hz);
  for (const double hz : frequencies)
    for (int channel = 0; channel < std::max(1, capture.channels); ++channel) {
      const std::string at = frequencies.size() > 1 ? fmt::format(" at {:g} Hz", hz) : "";
      std::string text;
      for (int order = 1; order <= kHighestStepOrder; ++order) {
        const std::string reading = order == 1 ? "thd_db" : fmt::format("h{}_dbc", order);
        Curve curve =
            curve_of(steps, hz, channel, reading, (order == 1 ? "THD" : fmt::format("H{}", order)) + at);
        if (curve.x.empty()) continue;
        // Relative to the fundamental an order grows by one dB less than by itself.
        // A growth that is less sure than it is large says nothing.
        if (const auto slope = slope_of(curve);
            slope && order > 1 && slope->uncertainty < std::abs(slope->db_per_db + 1)) {
          sheet
              .add(fmt::format("h{}_growth_db_per_db", order), channel, slope->db_per_db + 1,
                   {{"frequency_hz", hz},
                    {"level_from_dbfs", *std::min_element(curve.x.begin(), curve.x.end())},
                    {"level_to_dbfs", *std::max_element(curve.x.begin(), curve.x.end())},
                    {"steps", static_cast<std::int64_t>(curve.x.size())},
                    {"sample_rate_hz", capture.sample_rate_hz}})
              .uncertainty = slope->uncertainty;
          if (text.size() < 100)
            text += fmt::format("{}H{} grows by {:.2f} dB", text.empty() ? "" : ", ", order,
                                slope->db_per_db + 1);
        }
        sheet.draw(std::move(curve));
      }
      if (!text.empty())
        sheet.say(Severity::note, FindingCode::result,
                  fmt::format("for each dB of the stimulus{}: {}", at, text), channel);
    }
  return sheet.finish();
}

Sheet harmonics_over_setting(const std::vector<CaptureLadder>& ladders, const std::string& word) {
  if (ladders.empty()) throw Error(ErrorCode::bad_argument, "a row of captures needs at least one");
  CaptureInfo all = ladders.front().capture;
  all.file.clear();
  SheetBuilder sheet(harmonics_ladder_readings(), all);
  const std::vector<LadderStep>& first = ladders.front().steps;
  const bool one_hz = std::all_of(first.begin(), first.end(), [&](const LadderStep& step) {
    return step.frequency_hz == first.front().frequency_hz;
  });
  for (int channel = 0; channel < std::max(1, all.channels); ++channel) {
    const Curve* loudest = nullptr;
    double loudest_dbfs = -1e9;
    std::vector<Curve> curves(first.size());
    for (std::size_t i = 0; i < first.size(); ++i) {
      Curve& curve = curves[i];
      curve = {
          fmt::format("THD at {}{:g} dBFS", one_hz ? "" : fmt::format("{:g} Hz, ", first[i].frequency_hz),
                      first[i].level_dbfs),
          channel,
          "",
          "dB",
          {},
          {}};
      for (const CaptureLadder& ladder : ladders)
        for (const LadderStep& step : ladder.steps) {
          if (step.frequency_hz != first[i].frequency_hz || step.level_dbfs != first[i].level_dbfs) continue;
          const Reading* r = find_reading(step.sheet, "thd_db", channel);
          if (r == nullptr || !r->value || r->bound) continue;
          curve.x.push_back(ladder.setting);
          curve.y.push_back(*r->value);
        }
      if (curve.x.size() == ladders.size() && first[i].level_dbfs > loudest_dbfs) {
        loudest = &curve;
        loudest_dbfs = first[i].level_dbfs;
      }
    }
    if (loudest != nullptr && ladders.size() > 1)
      sheet.say(
          Severity::note, FindingCode::result,
          fmt::format("{}: from {:.1f} dB at {} {:g} to {:.1f} dB at {:g}", loudest->name, loudest->y.front(),
                      word, loudest->x.front(), loudest->y.back(), loudest->x.back()),
          channel);
    for (Curve& curve : curves)
      if (curve.x.size() > 1) sheet.draw(std::move(curve));
  }
  return sheet.finish();
}

}  // namespace wavicon
