#include <algorithm>

#include "wavicon/stimulus/recipe.hpp"

namespace wavicon {
namespace {

struct OfKind {
  PartMeasurements operator()(const Tone&) const { return {{"harmonics"}, {"harmonics", "noise", "levels"}}; }
  PartMeasurements operator()(const Multitone& p) const {
    const bool ramp = p.oscillators.size() == 1 && p.oscillators[0].to_dbfs;
    if (ramp) return {{"clipping"}, {"clipping", "levels"}};
    return {{}, {"levels"}};
  }
  PartMeasurements operator()(const Sweep&) const {
    return {{"response", "aliasing"}, {"response", "aliasing", "levels"}};
  }
  PartMeasurements operator()(const Noise&) const { return {{"response"}, {"response", "levels"}}; }
  PartMeasurements operator()(const Staircase&) const {
    return {{"dynamics"}, {"dynamics", "clipping", "aliasing", "levels"}};
  }
  PartMeasurements operator()(const Block&) const { return {{"dynamics"}, {"dynamics", "levels"}}; }
  PartMeasurements operator()(const Silence&) const { return {{"noise"}, {"noise", "levels"}}; }
  PartMeasurements operator()(const Programme&) const { return {{"levels"}, {"levels", "response"}}; }
  PartMeasurements operator()(const auto&) const { return {{}, {"levels"}}; }
};

}  // namespace

PartMeasurements measurements_of(const PartKind& kind) { return std::visit(OfKind{}, kind); }

const std::vector<std::string>& measurement_words() {
  static const std::vector<std::string> kWords = {"harmonics", "noise",    "levels",   "response",
                                                  "aliasing",  "dynamics", "clipping", "nothing"};
  return kWords;
}

}  // namespace wavicon
