// SPDX-License-Identifier: MIT
#include "measure/by_name.hpp"

#include <fmt/format.h>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/intake/recognise.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon {

std::vector<Sheet> measure_detail::measured_as_a_file(const MeasurementDescriptor& descriptor,
                                                      Measurement& measurement, const JudgedCapture& capture,
                                                      const std::optional<JudgedCapture>& a,
                                                      const GatePolicy& policy) {
  const auto known = [&](const JudgedCapture& held) {
    return descriptor.recognises && held.known_stimulus() == nullptr ? recognised(held, policy)
                                                                     : held.admitted(policy);
  };
  MeasureRequest request;
  if (a)
    request.reference = known(*a);
  else if (descriptor.input == MeasuredInput::against)
    request.reference = judge_stimulus(capture.known_stimulus());
  const bool by_a = a && descriptor.recognises && capture.known_stimulus() == nullptr;
  const JudgedCapture b = by_a ? placed_by(capture, *request.reference, policy) : known(capture);
  measurement.check(request);
  auto sheets = measured(measurement, request, b);
  measurement.conclude(request, sheets);
  return sheets;
}

std::vector<Sheet> measure_by_name(std::string_view name, const JudgedCapture& capture,
                                   const std::optional<JudgedCapture>& reference) {
  const MeasurementDescriptor* of = find_measurement(measurements(), name);
  if (of == nullptr) {
    std::vector<std::string> names;
    for (const MeasurementDescriptor& known : measurements()) names.push_back(known.name);
    throw Error(ErrorCode::bad_argument,
                fmt::format("there is no measurement '{}'{}", name, name_hint(name, names)));
  }
  if (of->input == MeasuredInput::against && !reference && capture.known_stimulus() == nullptr)
    throw Error(ErrorCode::bad_argument, fmt::format("{} measures B against A: give A, or a stimulus", name));
  return measure_detail::measured_as_a_file(*of, *of->make(), capture, reference, policy_of(*of));
}

}  // namespace wavicon
