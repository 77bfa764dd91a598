// SPDX-License-Identifier: MIT
#include "measure/common/played_against.hpp"

#include <fmt/format.h>

namespace wavicon::measure_detail {

const JudgedCapture& played_reference(const MeasureRequest& request, const JudgedCapture& b) {
  const JudgedCapture& a = request.reference.value();
  if (!a.played())
    throw Error(
        ErrorCode::bad_input,
        fmt::format("{}: it is no stimulus with marks, nor a capture of one: make it with 'wavicon make "
                    "staircase --marks' or from a recipe, or name its recipe by --stimulus",
                    a.info().file));
  if (!b.played())
    throw Error(
        ErrorCode::bad_input,
        fmt::format("the marks of {} are not found in it: what is measured has to know where each part lies",
                    a.info().file));
  return a;
}

}  // namespace wavicon::measure_detail
