// SPDX-License-Identifier: MIT
#include "wavicon/measure/waveforms/waveforms.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>

#include "measure/common/tone_level.hpp"
#include "measure/waveforms/parts.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kLongestReadS = 0.5;
constexpr double kLeastAmplitude = 1e-6;  // -120 dBFS: softer tones are not looked at
constexpr double kGoneDb = 60;            // under A: the tone does not come through
constexpr double kOfRest = 2;             // noise of a half or a third of the band
constexpr double kShownPeriods = 3;       // of the tone in the picture
constexpr double kLeastShown = 48;        // samples

struct Place {  // a tone within the stimulus
  double frequency_hz = 0;
  double level_dbfs = -1e9;
  double first = 0, frames = 0;
  std::string part;
};

std::vector<Place> places_of(const Stimulus& stimulus, const std::string& name) {
  std::map<double, Place> loudest;
  std::vector<std::string> names;
  for (std::size_t i = 0; i < stimulus.parts().size(); ++i) {
    const PlacedPart& part = stimulus.parts()[i];
    const PartKind& kind = stimulus.recipe().parts[i].kind;
    const auto offer = [&](double hz, double level, double first, double frames) {
      Place& place = loudest[hz];
      if (level > place.level_dbfs)
        place = {hz, level, static_cast<double>(part.first_frame) + first, frames, part.name};
    };
    if (part.kind != "tone" && part.kind != "staircase") continue;
    names.push_back(part.name);
    if (!name.empty() && part.name != name) continue;
    if (const auto* tone = std::get_if<Tone>(&kind))
      offer(tone->frequency_hz, tone->level_dbfs, 0, static_cast<double>(part.frames));
    if (const auto* staircase = std::get_if<Staircase>(&kind))
      for (const StaircaseStep& s : staircase_steps(*staircase, stimulus.recipe().sample_rate_hz))
        offer(s.frequency_hz, s.level_dbfs, static_cast<double>(s.first_frame),
              static_cast<double>(s.frames));
  }
  if (loudest.empty())
    throw Error(ErrorCode::bad_argument, name.empty()
                                             ? "the stimulus holds no tone and no staircase to look at"
                                             : fmt::format("the stimulus has no tone or staircase '{}'{}",
                                                           name, name_hint(name, names)));
  std::vector<Place> places;
  for (const auto& [hz, place] : loudest) places.push_back(place);
  return places;
}

// A stretch of a capture and where the stimulus's frame lies in it.
struct Read {
  std::vector<double> samples;
  double zero = 0;  // frame of the stretch at which `first` of the stimulus lies
};

Read read(AudioSource& source, int channel, const Take& take, double first, double frames,
          const char* which) {
  const double begin = take.first_frame + first * take.frames_per_frame;
  const auto from = static_cast<std::int64_t>(std::ceil(begin)),
             count = static_cast<std::int64_t>(frames * take.frames_per_frame) - 2;
  if (from < 0 || from + count > source.frames() || count < 16)
    throw Error(ErrorCode::bad_input, fmt::format("{} does not hold all of the tones: it is cut off", which));
  Read out{read_channel(source, channel, from, count), begin - static_cast<double>(from)};
  for (std::size_t n = 0; n < out.samples.size(); ++n)
    if (!std::isfinite(out.samples[n]))
      throw Error(ErrorCode::bad_input, fmt::format("{} holds NaN or infinity in channel {}, frame {}", which,
                                                    channel + 1, from + static_cast<std::int64_t>(n)));
  return out;
}

// Samples of both from a rising zero crossing of A on; B's nearest frames.
void add_shown(const Read& x, const Read& y, double a_step, double a_phase, double rate, ToneWaveform& tone) {
  const double period = 2 * std::numbers::pi / a_step,
               start = std::ceil(std::fmod(period * 2 - (a_phase + std::numbers::pi / 2) / a_step, period));
  const auto shown = static_cast<std::size_t>(std::max(kShownPeriods * period, kLeastShown)) + 1;
  const auto ahead = std::llround(start - x.zero + y.zero);
  for (std::size_t n = 0; n < shown; ++n) {
    const std::size_t i = static_cast<std::size_t>(start) + n;
    const std::int64_t j = ahead + static_cast<std::int64_t>(n);
    if (i >= x.samples.size() || j < 0 || j >= static_cast<std::int64_t>(y.samples.size())) break;
    tone.time_s.push_back(static_cast<double>(n) / rate);
    tone.in.push_back(x.samples[i]);
    tone.out.push_back(y.samples[static_cast<std::size_t>(j)]);
  }
}

}  // namespace

WaveformsResult measure_waveforms(const JudgedCapture& judged_a, const JudgedCapture& judged_b,
                                  const std::string& part) {
  AudioSource &a = judged_a.source(), &b = judged_b.source();
  const Stimulus& stimulus = judged_a.stimulus();
  const Take &a_take = judged_a.take(), &b_take = judged_b.take();
  if (a.sample_rate_hz() != b.sample_rate_hz())
    throw Error(ErrorCode::bad_argument,
                fmt::format("A has {:g} Hz and B has {:g} Hz: bring both to one rate first",
                            a.sample_rate_hz(), b.sample_rate_hz()));
  const double rate = b.sample_rate_hz(), stimulus_rate = stimulus.recipe().sample_rate_hz;
  WaveformsResult result{.sample_rate_hz = rate};
  result.common_delay_samples = b_take.first_frame - a_take.first_frame;
  const int count =
      a.channel_count() == 1 ? b.channel_count() : std::min(a.channel_count(), b.channel_count());
  for (int c = 0; c < count; ++c) {
    std::vector<ToneWaveform> tones;
    for (const Place& place : places_of(stimulus, part)) {
      // The middle, clear of edges and of what settles.
      const double length = std::min(0.6 * place.frames, kLongestReadS * stimulus_rate),
                   first = place.first + 0.5 * (place.frames - length) + 0.1 * place.frames;
      const Read x = read(a, a.channel_count() == 1 ? 0 : c, a_take, first, length, "A"),
                 y = read(b, c, b_take, first, length, "B");
      const double a_step =
                       2 * std::numbers::pi * place.frequency_hz / (stimulus_rate * a_take.frames_per_frame),
                   b_step =
                       2 * std::numbers::pi * place.frequency_hz / (stimulus_rate * b_take.frames_per_frame);
      const ToneLevel in = tone_level(x.samples, a_step), out = tone_level(y.samples, b_step);
      if (in.amplitude < kLeastAmplitude) continue;
      ToneWaveform tone{place.frequency_hz, db_from_ratio(in.amplitude)};
      double power = 0;
      for (const double v : y.samples) power += v * v / static_cast<double>(y.samples.size());
      tone.rest_db = db_from_ratio(std::max(1e-12, out.residual) / (in.amplitude / std::numbers::sqrt2));
      if (out.amplitude > in.amplitude * ratio_from_db(-kGoneDb)) {
        tone.gain_db = db_from_ratio(out.amplitude / in.amplitude);
        // Phases where the same frame of the stimulus lies.
        const double turned =
            std::remainder(out.phase + b_step * y.zero - in.phase - a_step * x.zero, 2 * std::numbers::pi);
        tone.delay_samples = -turned / b_step;
        const double in_sure = in.uncertainty(x.samples.size()) / in.amplitude,
                     out_sure = out.uncertainty(y.samples.size()) / out.amplitude,
                     sure = std::hypot(in_sure, out_sure);
        tone.gain_uncertainty_db = db_from_ratio(1 + sure);
        tone.delay_uncertainty_samples = sure / b_step;
        if (const auto thd = out.thd_ratio(y.samples.size())) {
          tone.thd_db = db_from_ratio(*thd);
          tone.thd_uncertainty_db = db_from_ratio(1 + out_sure / *thd);
        }
        find_repeating(y.samples, out, b_step, tone);
      }
      tone.rest_uncertainty_db =
          kOfRest * 2 * kDbOfPowerShare * std::sqrt(2 / static_cast<double>(y.samples.size()));
      if (power > 0)
        find_foreign(y.samples, place.frequency_hz * rate / (stimulus_rate * b_take.frames_per_frame), rate,
                     tone);
      add_shown(x, y, a_step, in.phase, rate, tone);
      tones.push_back(std::move(tone));
    }
    result.droops.push_back(find_droop(tones));
    result.channels.push_back(std::move(tones));
  }
  return result;
}

}  // namespace wavicon
