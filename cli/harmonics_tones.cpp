#include <algorithm>
#include <cmath>

#include "harmonics.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/measure/tone_groups.hpp"

namespace wavicon::cli {
namespace {

constexpr double kSettleS = 0.1;       // left out at the start, for what rings or breathes
constexpr double kMostSettled = 0.25;  // of the part

struct Played {
  std::vector<double> tones_hz;
  std::vector<double> levels_dbfs;
  double fade_in_s = 0;
  double fade_out_s = 0;
};

Played played(const PartKind& kind) {
  if (const auto* two = std::get_if<TwoTone>(&kind)) {
    const TwoTone pair = resolved(*two);
    const double upper = ratio_from_db(pair.level_dbfs) / (1 + pair.ratio);
    return {{pair.lower_hz, pair.upper_hz},
            {db_from_ratio(upper * pair.ratio), db_from_ratio(upper)},
            pair.fade_in_s,
            pair.fade_out_s};
  }
  const auto& group = std::get<Multitone>(kind);
  auto oscillators = group.oscillators;
  std::sort(oscillators.begin(), oscillators.end(),
            [](const auto& a, const auto& b) { return a.frequency_hz < b.frequency_hz; });
  Played result{{}, {}, group.fade_in_s, group.fade_out_s};
  for (const Oscillator& o : oscillators) {
    if (o.to_hz || o.to_dbfs || o.delay_s > 0)
      throw Error(
          ErrorCode::bad_argument,
          "this multitone changes while it plays; only steady tones are measured: look at it with 'wavicon "
          "spectrogram'");
    result.tones_hz.push_back(o.frequency_hz);
    result.levels_dbfs.push_back(o.level_dbfs);
  }
  return result;
}

}  // namespace

Sheet measure_tones(const Harmonics& command, Capture& capture, const PlacedPart& part) {
  const auto index = static_cast<std::size_t>(&part - capture.stimulus->parts().data());
  const Played tones = played(capture.stimulus->recipe().parts[index].kind);
  const HarmonicsOptions common = options_for(command, capture);
  ToneGroupOptions options{.tones_hz = tones.tones_hz,
                           .played_dbfs = tones.levels_dbfs,
                           .band_from_hz = common.band_from_hz,
                           .band_to_hz = common.band_to_hz,
                           .format = common.format};
  for (double& hz : options.tones_hz) hz *= capture.take->rate_ratio;
  StretchS stretch = stretch_of(capture, command.sheet, part.name);
  const double rate = capture.source->sample_rate_hz();
  double to_s = stretch.to_s.value_or(static_cast<double>(capture.source->frames()) / rate);
  if (command.sheet.from_s == 0 && !command.sheet.to_s) {
    stretch.from_s += tones.fade_in_s + std::min(kSettleS, kMostSettled * (to_s - stretch.from_s));
    to_s -= tones.fade_out_s;
  }
  const auto first = std::llround(stretch.from_s * rate), end = std::llround(to_s * rate);
  options.audio_starts_s = static_cast<double>(first) / rate;
  Sheet sheet = tone_group_sheet(measure_tone_group(selected(command, capture, first, end - first), options),
                                 capture_info(capture.source->info()));
  renumber(command, sheet);
  finish(sheet, capture);
  return sheet;
}

}  // namespace wavicon::cli
