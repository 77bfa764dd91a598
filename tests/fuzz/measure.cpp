// SPDX-License-Identifier: MIT
// Every measurement of the list over any samples: it refuses them, or gives readings that are numbers.

#include <cmath>

#include "signal.hpp"
#include "wavicon/file/sheet_file.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/stimulus/stimulus.hpp"

using namespace wavicon;

namespace {

constexpr std::uint32_t kMostSamples = 12000;  // sanitizers make the slowest fit forty times slower

void require_sound(const Sheet& sheet) {
  for (const Reading& reading : sheet.readings) {
    fuzz::require(!reading.value || std::isfinite(*reading.value), "a reading is a number or none");
    fuzz::require(!reading.floor || std::isfinite(*reading.floor), "a floor is a number or none");
    fuzz::require(!reading.uncertainty || (std::isfinite(*reading.uncertainty) && *reading.uncertainty >= 0),
                  "an uncertainty is a number or none");
  }
  for (const Curve& curve : sheet.curves)
    fuzz::require(curve.x.size() == curve.y.size(), "a curve has as many levels as places");
}

// A stimulus whose parts bytes choose, and what came back of it: delayed, turned, distorted.
Audio played(fuzz::Bytes& bytes, const std::shared_ptr<Stimulus>& stimulus) {
  const auto length = std::min<std::int64_t>(stimulus->frames(), 3 * kMostSamples);
  Audio audio(stimulus->recipe().sample_rate_hz, 1, length);
  const double gain = (bytes.number<std::int8_t>() | 1) / 64.0, drive = bytes.choice(8);
  stimulus->render(-static_cast<std::int64_t>(bytes.up_to(2000)), 0, audio.channel(0));
  for (double& x : audio.channel(0)) x = drive > 0 ? gain * std::tanh(drive * x) / drive : gain * x;
  return audio;
}

std::shared_ptr<Stimulus> stimulus_of(fuzz::Bytes& bytes) {
  Recipe recipe;
  recipe.sample_rate_hz = 8000;
  const auto& kinds = kind_names();
  for (int i = 1 + bytes.choice(3); i > 0; --i) {
    RecipePart part{.kind = *kind_from_name(kinds[bytes.choice(static_cast<std::uint8_t>(kinds.size()))])};
    const double seconds = 0.05 + 0.001 * bytes.choice(250), hz = 50 + 15 * bytes.choice(200);
    if (auto* tone = std::get_if<Tone>(&part.kind)) *tone = {.frequency_hz = hz, .seconds = seconds};
    if (auto* sweep = std::get_if<Sweep>(&part.kind))
      *sweep = {.from_hz = 20, .to_hz = 3900, .seconds = 4 * seconds};
    if (auto* noise = std::get_if<Noise>(&part.kind)) *noise = {.seconds = 4 * seconds};
    if (auto* multitone = std::get_if<Multitone>(&part.kind))
      *multitone = {.oscillators = {{.frequency_hz = hz}, {.frequency_hz = hz / 2}}, .seconds = seconds};
    if (auto* pair = std::get_if<TwoTone>(&part.kind)) pair->upper_hz = 3000;
    if (auto* programme = std::get_if<Programme>(&part.kind)) programme->seconds = 4 * seconds;
    if (auto* silence = std::get_if<Silence>(&part.kind)) silence->seconds = seconds;
    recipe.parts.push_back(part);
  }
  return std::make_shared<Stimulus>(recipe);
}

void set_options(fuzz::Bytes& bytes, Measurement& measurement) {
  const auto fields = measurement.fields();
  if (fields.empty() || bytes.choice(2) == 0) return;
  const OptionField& field = fields[bytes.choice(static_cast<std::uint8_t>(fields.size()))];
  const double share = bytes.number<std::uint8_t>() / 255.0;
  const double low = field.range ? field.range->low : 0,
               high = field.range && field.range->limit == Range::Limit::fixed
                          ? std::min(field.range->high, low + 1e4)
                          : 4000;
  const double value = low + share * (high - low);
  std::visit(
      [&](auto* target) {
        using Value = std::remove_pointer_t<decltype(target)>;
        if constexpr (std::is_same_v<Value, bool>) *target = share > 0.5;
        if constexpr (std::is_same_v<Value, int> || std::is_same_v<Value, std::optional<int>>)
          *target = static_cast<int>(value);
        if constexpr (std::is_same_v<Value, double> || std::is_same_v<Value, std::optional<double>>)
          *target = value;
        if constexpr (std::is_same_v<Value, std::string>)
          if (!field.words.empty())
            *target = field.words[static_cast<std::size_t>(share * 0.999 * field.words.size())];
      },
      field.target);
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  fuzz::Bytes bytes(data, size);
  const auto& list = measurements();
  const MeasurementDescriptor& descriptor = list[bytes.choice(static_cast<std::uint8_t>(list.size()))];
  fuzz::accepted([&] {
    const auto measurement = descriptor.make();
    set_options(bytes, *measurement);
    require_in_range(measurement->fields());
    const GatePolicy policy = policy_of(descriptor, bytes.choice(4) > 0);
    const bool known = bytes.choice(2) == 1;
    MeasureRequest request;
    if (bytes.choice(4) == 0) request.channel = bytes.choice(3);
    if (bytes.choice(4) == 0) request.selection.from_s = bytes.number<std::int16_t>() / 1000.0;
    if (bytes.choice(4) == 0) request.selection.to_s = bytes.number<std::int16_t>() / 1000.0;
    KnownStimulus stimulus;
    if (known) stimulus.stimulus = stimulus_of(bytes);
    const Audio b = known ? played(bytes, stimulus.stimulus) : fuzz::signal_of(bytes, kMostSamples);
    const JudgedCapture capture = judge(b, SampleFormat::pcm24, stimulus, policy);
    if (descriptor.input == MeasuredInput::against || descriptor.input == MeasuredInput::pair) {
      if (known)
        request.reference = judge_stimulus(stimulus.stimulus);
      else
        request.reference = judge(bytes.choice(4) == 0 ? b : fuzz::signal_of(bytes, kMostSamples),
                                  SampleFormat::pcm24, stimulus, policy);
    }
    measurement->check(request);
    std::vector<Sheet> sheets = measured(*measurement, request, capture);
    measurement->conclude(request, sheets);
    for (const Sheet& sheet : sheets) require_sound(sheet);
    (void)sheets_to_json(sheets);
  });
  return 0;
}
