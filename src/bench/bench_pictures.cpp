// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <tuple>

#include "bench/history_parts.hpp"
#include "bench/plan_names.hpp"
#include "bench/result_parts.hpp"
#include "wavicon/bench/run.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;

bool is_of_numbers(const PlanRow& row) {
  return row.values.size() > 1 && std::all_of(row.values.begin(), row.values.end(), [](const PlanValue& v) {
           return number_in(v.name).has_value();
         });
}

// The row along which lines go: the one that is asked for, or that with most numbers.
const PlanRow* row_over(const Plan& plan) {
  const PlanRow* over = nullptr;
  for (const PlanRow& row : plan.rows) {
    if (!is_of_numbers(row)) continue;
    if (row.name == plan.over) return &row;
    if (over == nullptr || row.values.size() > over->values.size()) over = &row;
  }
  return over;
}

struct Point {
  const CellResult* result;
  const Reading* reading;
};

// "drive 9, tone 997".
std::string name_without(const CellResult& result, const std::string& row) {
  std::string name;
  for (const auto& [key, value] : result.run.cell.values)
    if (key != row) name += fmt::format("{}{} {}", name.empty() ? "" : ", ", key, value);
  return name;
}

Sheet sheet_named(const std::string& name, const PlanMeasure& measure) {
  Sheet sheet;
  sheet.measurement = measure.name;
  sheet.capture.file = name;
  return sheet;
}

void sort_points(Curve& curve) {
  std::vector<std::pair<double, double>> points;
  for (std::size_t i = 0; i < curve.x.size(); ++i) points.emplace_back(curve.x[i], curve.y[i]);
  std::sort(points.begin(), points.end());
  for (std::size_t i = 0; i < points.size(); ++i) std::tie(curve.x[i], curve.y[i]) = points[i];
}

BenchPicture over_a_row(const PlanRow& row, const PlanMeasure& measure, const std::vector<Point>& points,
                        const std::vector<PlanLimit>& limits) {
  BenchPicture picture{.measurement = measure.name};
  const Reading& first = *points.front().reading;
  for (const Point& point : points) {
    const std::string line = name_without(*point.result, row.name);
    auto found = std::find_if(picture.drawn.begin(), picture.drawn.end(),
                              [&](const Sheet& sheet) { return sheet.capture.file == line; });
    if (found == picture.drawn.end()) {
      picture.drawn.push_back(sheet_named(line, measure));
      picture.drawn.back().curves.push_back({"value", std::nullopt, "", first.unit, {}, {}});
      found = picture.drawn.end() - 1;
    }
    for (const auto& [name, value] : point.result->run.cell.values)
      if (name == row.name) {
        found->curves[0].x.push_back(*number_in(value));
        found->curves[0].y.push_back(*point.reading->value);
      }
  }
  for (Sheet& sheet : picture.drawn) sort_points(sheet.curves[0]);
  CurveStyle& style = picture.picture.style;
  style.names = {"value"};
  style.points = style.joined = true;
  for (const PlanLimit& limit : limits)
    if (limit.limit.name == first.name && limit.limit.past.empty() && limit.where.empty())
      style.lines.push_back({limit.limit.value, limit.limit.text});
  style.x_title = row.name;
  style.y_title = words_of(first) + (first.unit.empty() ? "" : " (" + first.unit + ")");
  style.title = fmt::format("{} over {}", words_of(first), row.name);
  return picture;
}

BenchPicture in_rows(const PlanMeasure& measure, const std::vector<Point>& points) {
  BenchPicture picture{.measurement = measure.name};
  const Reading& first = *points.front().reading;
  Sheet sheet = sheet_named(measure.name, measure);
  Curve value{"value", std::nullopt, "", first.unit, {}, {}}, uncertainty = value;
  uncertainty.name = "uncertainty";
  for (std::size_t i = 0; i < points.size(); ++i) {
    for (Curve* curve : {&value, &uncertainty}) curve->x.push_back(static_cast<double>(i + 1));
    value.y.push_back(*points[i].reading->value);
    uncertainty.y.push_back(points[i].reading->uncertainty.value_or(0));
    sheet.labels.push_back({name_of(*points[i].result), static_cast<double>(i + 1), 0});
  }
  sheet.curves = {std::move(value), std::move(uncertainty)};
  picture.drawn = {std::move(sheet)};
  picture.picture.kind = PictureKind::rows;
  picture.picture.style.title = words_of(first);
  picture.picture.style.x_title = words_of(first) + (first.unit.empty() ? "" : " (" + first.unit + ")");
  return picture;
}

}  // namespace

std::vector<BenchPicture> bench_pictures(const Plan& plan, const std::vector<CellResult>& results) {
  std::vector<BenchPicture> pictures;
  const PlanRow* over = row_over(plan);
  for (const PlanMeasure& measure : shown_measures(plan)) {
    if (measure.name == kExamination) continue;
    for (const std::string& name : first_shown(measure, results)) {
      std::vector<Point> points;
      for (const CellResult& result : results)
        if (is_of(result, measure))
          if (const Reading* reading = deciding(result, measure, name); reading != nullptr && reading->value)
            points.push_back({&result, reading});
      if (points.size() < 2) continue;
      const bool line = over != nullptr && measure.against != kAll;
      pictures.push_back(line ? over_a_row(*over, measure, points, plan.limits) : in_rows(measure, points));
      pictures.back().key = key_of(measure);
      break;  // the first that there is
    }
  }
  return pictures;
}

std::vector<Sheet> sheets_of_table(const Plan& plan, const std::vector<CellResult>& results,
                                   const std::string& key) {
  std::vector<Sheet> sheets;
  for (const PlanMeasure& measure : shown_measures(plan))
    for (const CellResult& result : results)
      for (const Sheet& sheet : result.sheets)
        if (key_of(measure) == key && is_of(result, measure) && is_of(sheet, measure))
          sheets.push_back(sheet);
  return sheets;
}

}  // namespace wavicon
