// SPDX-License-Identifier: MIT
#include "wavicon/measure/waveforms/waveforms.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>

#include "measure/common/tone_level.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/window.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kLongestReadS = 0.5;
constexpr double kLeastAmplitude = 1e-6;  // -120 dBFS: softer tones are not looked at
constexpr double kGoneDb = 60;            // under A: the tone does not come through
constexpr double kShownPeriods = 3;       // of the tone in the picture
constexpr double kLeastShown = 48;        // samples
constexpr double kBeta = 20;              // of the Kaiser window: side lobes at -155 dB
constexpr double kLobe = 7;               // bins beside a line
constexpr double kForeignOver = 10;       // 20 dB, as amplitude over the middle value of its neighbours
constexpr std::size_t kNeighbours = 200;  // bins on each side that a line has to stand out of
constexpr double kLeastForeign = 3e-6;    // -110 dBFS: a softer line is left alone

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

// The strongest line beside the tone and what belongs to it.
void find_foreign(const std::vector<double>& y, double hz, double rate, ToneWaveform& out) {
  const auto window = kaiser_window(y.size(), kBeta);
  RealTransform transform(y.size());
  double sum = 0;
  for (std::size_t n = 0; n < y.size(); ++n) {
    transform.input()[n] = window[n] * y[n];
    sum += window[n];
  }
  transform.execute();
  const auto bins = transform.bins();
  const double bin = rate / static_cast<double>(y.size());
  std::vector<double> level(bins.size(), 0.0);
  for (std::size_t k = 0; k < bins.size(); ++k) {
    const double at = static_cast<double>(k) * bin;
    // Distance to DC, and to the nearest order or its folded image, up to order 200.
    double nearest = at;
    for (int order = 1; order <= 200; ++order) {
      const double turned = std::fmod(order * hz, rate), image = turned > rate / 2 ? rate - turned : turned;
      nearest = std::min(nearest, std::abs(at - image));
      if (order > 20 && order * hz > 4 * rate) break;
    }
    if (nearest > kLobe * bin) level[k] = 2 * std::abs(bins[k]) / sum;
  }
  const auto top = static_cast<std::size_t>(std::max_element(level.begin(), level.end()) - level.begin());
  std::vector<double> around;
  for (std::size_t k = top > kNeighbours ? top - kNeighbours : 0;
       k < std::min(level.size(), top + kNeighbours); ++k)
    if (level[k] > 0 &&
        (k + static_cast<std::size_t>(kLobe) < top || k > top + static_cast<std::size_t>(kLobe)))
      around.push_back(level[k]);
  if (around.empty() || level[top] < kLeastForeign) return;
  std::nth_element(around.begin(), around.begin() + static_cast<std::ptrdiff_t>(around.size() / 2),
                   around.end());
  if (level[top] < kForeignOver * around[around.size() / 2]) return;
  // A line's lobe is close to a parabola in decibels.
  const auto db = [&](std::size_t k) { return db_from_ratio(2 * std::abs(bins[k]) / sum + 1e-30); };
  double shift = 0, crest = db(top);
  if (top > 0 && top + 1 < bins.size()) {
    const double p = db(top - 1), q = db(top), r = db(top + 1), bend = p - 2 * q + r;
    shift = bend < 0 ? std::clamp(0.5 * (p - r) / bend, -0.5, 0.5) : 0;
    crest = q - 0.25 * (p - r) * shift;
  }
  out.foreign_hz = (static_cast<double>(top) + shift) * bin;
  out.foreign_dbfs = crest;
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
  WaveformsResult result{rate, {}};
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
        if (const auto thd = out.thd_ratio(y.samples.size())) tone.thd_db = db_from_ratio(*thd);
      }
      if (power > 0)
        find_foreign(y.samples, place.frequency_hz * rate / (stimulus_rate * b_take.frames_per_frame), rate,
                     tone);
      add_shown(x, y, a_step, in.phase, rate, tone);
      tones.push_back(std::move(tone));
    }
    result.channels.push_back(std::move(tones));
  }
  return result;
}

namespace {

std::string joined_words(const ToneWaveform& t, const std::vector<std::string>& words, double rate) {
  constexpr double kNearHalf = 0.4;  // of the sample rate
  std::string text = fmt::format("{:g} Hz: ", t.frequency_hz);
  if (words.empty()) text += "unchanged";
  for (const std::string& word : words) text += (&word == words.data() ? "" : ", ") + word;
  if (t.frequency_hz > kNearHalf * rate)
    text += fmt::format(
        "; that its samples swell and shrink {:.0f} times a second is how samples near half the rate "
        "look, in both",
        2 * (rate / 2 - t.frequency_hz));
  return text;
}

void add_tone(SheetBuilder& sheet, const ToneWaveform& t, int channel, const Conditions& common,
              double rate) {
  // Less than this is as good as nothing, and not worth a word.
  constexpr double kSameDb = 0.05, kSameSamples = 0.02, kQuietDb = -90;
  const auto add = [&](const char* name, double value, Conditions more = {}) {
    Conditions all = common;
    all.insert(all.end(), more.begin(), more.end());
    sheet.add(name, channel, value, std::move(all));
  };
  std::vector<std::string> words;
  if (t.gain_db) {
    add("gain_db", *t.gain_db);
    add("delay_samples", t.delay_samples,
        {{"means", std::string("beside the common delay, within half a period")}});
    if (std::abs(*t.gain_db) > kSameDb)
      words.push_back(
          fmt::format("{:.2f} dB {}", std::abs(*t.gain_db), *t.gain_db > 0 ? "louder" : "softer"));
    if (std::abs(t.delay_samples) > kSameSamples)
      words.push_back(fmt::format("{:.2f} samples {}", std::abs(t.delay_samples),
                                  t.delay_samples > 0 ? "later" : "earlier"));
    if (t.thd_db) {
      add("thd_db", *t.thd_db);
      if (*t.thd_db > kQuietDb) words.push_back(fmt::format("harmonics at {:.1f} dB", *t.thd_db));
    }
    if (*t.gain_db < -3) words.push_back("beyond the end of its band");
  } else {
    words.push_back("it does not come through");
  }
  add("rest_db", t.rest_db,
      {{"means", std::string("neither tone nor harmonic, over the tone that went in")}});
  if (t.rest_db > kQuietDb) words.push_back(fmt::format("noise and the like at {:.1f} dB", t.rest_db));
  if (t.foreign_hz) {
    add("foreign_hz", *t.foreign_hz);
    add("foreign_dbfs", t.foreign_dbfs);
    words.push_back(
        fmt::format("a line of its own at {:.0f} Hz, {:.1f} dBFS", *t.foreign_hz, t.foreign_dbfs));
  }
  sheet.say(Severity::note, FindingCode::result, joined_words(t, words, rate), channel);
}

void draw_tone(SheetBuilder& sheet, const ToneWaveform& t, int channel) {
  const std::string of = fmt::format(" {:g} Hz", t.frequency_hz);
  std::vector<double> difference;
  for (std::size_t n = 0; n < t.in.size(); ++n) difference.push_back(t.out[n] - t.in[n]);
  sheet.draw({"in" + of, channel, "s", "", t.time_s, t.in});
  sheet.draw({"out" + of, channel, "s", "", t.time_s, t.out});
  sheet.draw({"difference" + of, channel, "s", "", t.time_s, std::move(difference)});
}

}  // namespace

Sheet waveforms_sheet(const WaveformsResult& r, const CaptureInfo& a, const CaptureInfo& b) {
  SheetBuilder sheet(waveforms_readings(), b);
  for (std::size_t i = 0; i < r.channels.size(); ++i) {
    const int channel = static_cast<int>(i);
    if (r.channels[i].empty())
      sheet.say(Severity::warning, FindingCode::not_measured, "silent: not measured", channel);
    for (const ToneWaveform& t : r.channels[i]) {
      add_tone(sheet, t, channel,
               {{"frequency_hz", t.frequency_hz},
                {"reference", a.file},
                {"level_dbfs", t.in_dbfs},
                {"sample_rate_hz", r.sample_rate_hz}},
               r.sample_rate_hz);
      draw_tone(sheet, t, channel);
    }
  }
  return sheet.finish();
}

}  // namespace wavicon
