#include "wavicon/measure/part_measurements.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include "wavicon/audio/error.hpp"
#include "wavicon/measure/aliasing.hpp"
#include "wavicon/measure/clipping.hpp"
#include "wavicon/measure/dynamics.hpp"
#include "wavicon/measure/harmonics.hpp"
#include "wavicon/measure/levels.hpp"
#include "wavicon/measure/noise.hpp"
#include "wavicon/measure/response.hpp"
#include "wavicon/stimulus/stimulus_source.hpp"

namespace wavicon {
namespace {

class PartMeasurer {
 public:
  PartMeasurer(AudioSource& capture, Stimulus& stimulus, const Take& take, SampleFormat format,
               const CaptureInfo& info)
      : capture_(capture), stimulus_(stimulus), take_(take), format_(format), info_(info), clean_(stimulus) {}

  Sheet measure(std::size_t part, const std::string& what) {
    const PlacedPart& placed = stimulus_.parts()[part];
    const PartKind& kind = stimulus_.recipe().parts[part].kind;
    const double from_s = std::max(0.0, seconds(placed.first_frame)),
                 to_s = seconds(placed.first_frame + placed.frames);
    if (what == "harmonics") return harmonics(std::get<Tone>(kind), from_s, to_s);
    if (what == "noise") {
      NoiseOptions options{.from_s = from_s, .to_s = to_s, .format = format_};
      if (const auto* tone = std::get_if<Tone>(&kind)) options.tone_hz = tone->frequency_hz;
      return noise_sheet(measure_noise(capture_, options), info_);
    }
    if (what == "levels")
      return levels_sheet(measure_levels(capture_, {.from_s = from_s, .to_s = to_s, .format = format_}),
                          info_);
    if (what == "response") return response(part);
    if (what == "aliasing")
      return aliasing_sheet(
          std::holds_alternative<Sweep>(kind)
              ? measure_aliasing(capture_, stimulus_, part, take_, {.format = format_})
              : measure_aliasing_steps(capture_, stimulus_, part, take_, {.format = format_}),
          info_);
    if (what == "clipping") return clipping_sheet(measure_clipping(capture_, stimulus_, part, take_), info_);
    return dynamics_sheet(measure_dynamics(clean_, capture_, stimulus_, Take{}, take_),
                          {.file = stimulus_.recipe().name}, info_);
  }

 private:
  [[nodiscard]] double seconds(std::int64_t frame) const {
    return (take_.first_frame + static_cast<double>(frame) * take_.frames_per_frame) /
           capture_.sample_rate_hz();
  }

  Sheet harmonics(const Tone& tone, double from_s, double to_s) {
    const double rate = capture_.sample_rate_hz();
    const auto first = std::llround(from_s * rate);
    return harmonics_sheet(
        measure_harmonics(read_stretch(capture_, first, std::llround(to_s * rate) - first),
                          {.tone_hz = tone.frequency_hz * take_.rate_ratio, .format = format_}),
        info_);
  }

  Sheet response(std::size_t part) {
    const ResponseOptions options = response_options(stimulus_, part, Take{}, take_, clean_.sample_rate_hz());
    return response_sheet(measure_response(clean_, capture_, options), {.file = stimulus_.recipe().name},
                          info_);
  }

  AudioSource& capture_;
  Stimulus& stimulus_;
  const Take& take_;
  SampleFormat format_;
  const CaptureInfo& info_;
  StimulusSource clean_;
};

}  // namespace

std::vector<PartSheet> measure_parts(AudioSource& capture, Stimulus& stimulus, const Take& take,
                                     SampleFormat format, const CaptureInfo& info) {
  PartMeasurer measurer(capture, stimulus, take, format, info);
  std::vector<PartSheet> sheets;
  std::set<std::string> usual_of;  // kinds
  bool dynamics = false;
  for (std::size_t i = 0; i < stimulus.parts().size(); ++i) {
    const Part& part = stimulus.recipe().parts[i];
    std::vector<std::string> wanted = part.measure;
    if (wanted.empty() && usual_of.insert(stimulus.parts()[i].kind).second)
      wanted = measurements_of(part.kind).usual;
    for (const std::string& what : wanted) {
      if (what == "nothing" || (what == "dynamics" && dynamics)) continue;
      dynamics |= what == "dynamics";
      PartSheet of{i, what, {}, ""};
      try {
        of.sheet = measurer.measure(i, what);
        for (Reading& reading : of.sheet.readings)
          reading.conditions.emplace_back("part", stimulus.parts()[i].name);
      } catch (const Error& error) {
        of.problem = error.what();
      }
      sheets.push_back(std::move(of));
    }
  }
  return sheets;
}

const std::vector<std::string>& headline_readings(const std::string& measurement) {
  static const std::map<std::string, std::vector<std::string>> kNames = {
      {"harmonics", {"fundamental_dbfs", "thd_db", "thd_n_db"}},
      {"noise", {"noise_dbfs", "noise_a_dbfs"}},
      {"levels", {"loudness_integrated_lufs", "rms_dbfs", "true_peak_dbtp"}},
      {"response", {"gain_db", "ripple_db", "lower_edge_hz", "upper_edge_hz"}},
      {"aliasing", {"worst_alias_dbc"}},
      {"dynamics", {"threshold_dbfs", "ratio", "attack_90_ms", "release_90_ms"}},
      {"clipping", {"clipping_point_dbfs"}}};
  static const std::vector<std::string> kNone;
  const auto found = kNames.find(measurement);
  return found != kNames.end() ? found->second : kNone;
}

}  // namespace wavicon
