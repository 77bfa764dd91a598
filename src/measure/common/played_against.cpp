// SPDX-License-Identifier: MIT
#include "measure/common/played_against.hpp"

#include <fmt/format.h>

namespace wavicon::measure_detail {

const JudgedCapture& played_reference(const MeasureRequest& request, const JudgedCapture& b) {
  const JudgedCapture& a = request.reference.value();
  if (!a.played())
    throw Error(
        ErrorCode::bad_input,
        fmt::format("{}: it carries no recipe, and no steps of tone, block or sweep was recognised in it "
                    "('wavicon show' tells what was): make a stimulus with 'wavicon make staircase --marks', "
                    "or name its recipe by --stimulus",
                    a.info().file));
  require_placed(a, b);
  return a;
}

void require_placed(const JudgedCapture& a, const JudgedCapture& b) {
  if (!b.played())
    throw Error(ErrorCode::bad_input,
                a.stimulus().marks()
                    ? fmt::format("the marks of {} are not found in it: what is measured has to know where "
                                  "each part is",
                                  a.info().file)
                    : fmt::format("it cannot be lined up with {}: too little in common, or frames were lost; "
                                  "what is measured has to know where each part is",
                                  a.info().file));
}

}  // namespace wavicon::measure_detail
