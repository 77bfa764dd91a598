// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/waveforms/waveforms.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
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

// @param highest_db  gain of the tone that lost least.
void add_tone(SheetBuilder& sheet, const ToneWaveform& t, int channel, const Conditions& common, double rate,
              double highest_db) {
  // Less than this is as good as nothing, and not worth a word.
  constexpr double kSameDb = 0.05, kSameSamples = 0.02, kQuietDb = -90, kMostlyRepeats = 0.5,
                   kStepShare = 0.02;
  const auto add = [&](const char* name, double value, double uncertainty, Conditions more = {}) {
    Conditions all = common;
    all.insert(all.end(), more.begin(), more.end());
    sheet.add(name, channel, value, std::move(all)).uncertainty = uncertainty;
  };
  std::vector<std::string> words;
  if (t.gain_db) {
    add("gain_db", *t.gain_db, t.gain_uncertainty_db);
    add("delay_samples", t.delay_samples, t.delay_uncertainty_samples,
        {{"means", std::string("beside the common delay, within half a period")}});
    if (std::abs(*t.gain_db) > kSameDb)
      words.push_back(
          fmt::format("{:.2f} dB {}", std::abs(*t.gain_db), *t.gain_db > 0 ? "louder" : "softer"));
    if (std::abs(t.delay_samples) > kSameSamples)
      words.push_back(fmt::format("{:.2f} samples {}", std::abs(t.delay_samples),
                                  t.delay_samples > 0 ? "later" : "earlier"));
    if (t.thd_db) {
      add("thd_db", *t.thd_db, t.thd_uncertainty_db);
      if (*t.thd_db > kQuietDb) words.push_back(fmt::format("harmonics at {:.1f} dB", *t.thd_db));
    }
    if (*t.gain_db < highest_db - 3) words.push_back("beyond the end of its band");
  } else {
    words.push_back("it does not come through");
  }
  add("rest_db", t.rest_db, t.rest_uncertainty_db,
      {{"means", std::string("neither tone nor harmonic, over the tone that went in")}});
  if (t.step) {
    add("step_db", db_from_ratio(*t.step / 2), kDbOfAmplitudeShare * kStepShare,
        {{"bits", std::round(10 * -std::log2(*t.step / 2)) / 10},
         {"steps", std::round(2 * ratio_from_db(t.in_dbfs + t.gain_db.value_or(0)) / *t.step)}});
    words.push_back(fmt::format("{:.0f} steps of quantisation, as of {:.1f} bits, at {:.1f} dB",
                                2 * ratio_from_db(t.in_dbfs + t.gain_db.value_or(0)) / *t.step,
                                -std::log2(*t.step / 2), t.rest_db));
  } else if (t.rest_db > kQuietDb) {
    words.push_back(t.repeating_share && *t.repeating_share > kMostlyRepeats
                        ? fmt::format("something that repeats with the tone at {:.1f} dB", t.rest_db)
                        : fmt::format("noise and the like at {:.1f} dB", t.rest_db));
  }
  if (t.foreign_hz) {
    Conditions image;
    if (t.image_of_hz) image.emplace_back("image_of_hz", *t.image_of_hz);
    add("foreign_hz", *t.foreign_hz, t.foreign_uncertainty_hz, image);
    add("foreign_dbfs", t.foreign_dbfs, t.foreign_uncertainty_db);
    words.push_back(
        t.image_of_hz
            ? fmt::format("at {:.0f} Hz, {:.1f} dBFS, the image of a converter at {:g} Hz ({}{:g} {} {:g})",
                          *t.foreign_hz, t.foreign_dbfs, *t.image_of_hz,
                          std::abs(t.image_order) > 1 ? fmt::format("{} × ", std::abs(t.image_order)) : "",
                          *t.image_of_hz, t.image_order < 0 ? "-" : "+", t.frequency_hz)
            : fmt::format("a line of its own at {:.0f} Hz, {:.1f} dBFS", *t.foreign_hz, t.foreign_dbfs));
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
    if (i < r.droops.size() && r.droops[i])
      sheet.say(
          Severity::note, FindingCode::result,
          fmt::format("the levels fall as sin(x)/x, as a converter at {:g} Hz lets them, by {:.2f} dB at "
                      "the highest tone: within {:.2g} dB",
                      r.droops[i]->rate_hz, -r.droops[i]->most_db, r.droops[i]->error_db),
          channel);
    double highest_db = -1e9;
    for (const ToneWaveform& t : r.channels[i]) highest_db = std::max(highest_db, t.gain_db.value_or(-1e9));
    for (const ToneWaveform& t : r.channels[i]) {
      add_tone(sheet, t, channel,
               {{"frequency_hz", t.frequency_hz},
                {"reference", a.file},
                {"level_dbfs", t.in_dbfs},
                {"common_delay_samples", std::round(1e4 * r.common_delay_samples) / 1e4},
                {"sample_rate_hz", r.sample_rate_hz}},
               r.sample_rate_hz, highest_db);
      draw_tone(sheet, t, channel);
    }
  }
  return sheet.finish();
}

}  // namespace wavicon
