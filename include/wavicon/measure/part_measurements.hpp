#pragma once
// What the parts of a stimulus are there for: the measurements that its recipe names, made of one capture of
// it.

#include <string>
#include <vector>

#include "wavicon/audio/sample_format.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/locate.hpp"
#include "wavicon/sheet/sheet.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {

/// One measurement of one part.
struct PartSheet {
  std::size_t part = 0;     ///< of Stimulus::parts()
  std::string measurement;  ///< "harmonics", "noise", …: as Part::measure has it
  Sheet sheet;              ///< every reading with the part's name among its conditions; empty with a problem
  std::string problem;      ///< why it could not be made; empty when it was
};

/// Every measurement that a part names; of parts that name none, the usual ones, of the first part of each
/// kind. Staircases and blocks are measured together, once.
///
/// @param stimulus  of the capture, at its rate. @param take  where it lies.
/// @param format    of the capture's samples.
[[nodiscard]] std::vector<PartSheet> measure_parts(AudioSource& capture, Stimulus& stimulus, const Take& take,
                                                   SampleFormat format, const CaptureInfo& info);

/// Names of the readings that tell one capture from another at a glance, of one measurement.
[[nodiscard]] const std::vector<std::string>& headline_readings(const std::string& measurement);

}  // namespace wavicon
