// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/takes/takes.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

constexpr double kTakesShownDbfs = -140;

std::string kilohertz(double hz) { return fmt::format("{:.3g} kHz", hz / 1000); }

// @param add, say  as in takes_sheet.
template <typename Add, typename Say>
void add_loss(const TakeLoss& loss, const Conditions& which, Add& add, std::size_t take, Say& say) {
  Conditions above = which;
  above.emplace_back("above_hz", loss.above_hz);
  Reading& lost = add("loss_db", loss.loss_db, above, loss.loss_uncertainty_db);
  lost.bound = loss.bound;
  if (loss.bound) lost.uncertainty.reset();
  std::string text = fmt::format("take {}: {}{:.1f} dB against take 1 above {}", take,
                                 loss.bound ? "at least " : "", loss.loss_db, kilohertz(loss.above_hz));
  if (loss.corner_hz) {
    add("corner_hz", *loss.corner_hz, which, loss.corner_uncertainty_hz);
    Conditions slope = which;
    if (loss.poles > 0) slope.emplace_back("poles", static_cast<std::int64_t>(loss.poles));
    add("slope_db_per_octave", loss.slope_db_per_octave, slope, loss.slope_uncertainty_db);
    text += fmt::format("; 3 dB down at {}, falling by {:.0f} dB/octave{}", kilohertz(*loss.corner_hz),
                        loss.slope_db_per_octave,
                        loss.poles > 0 ? fmt::format(": {} pole{}", loss.poles, loss.poles == 1 ? "" : "s")
                                       : std::string("; how many poles cannot be told"));
  }
  say(Severity::note, FindingCode::comparison, text);
}

}  // namespace

Sheet takes_sheet(const TakesResult& r, const CaptureInfo& capture) {
  SheetBuilder sheet(takes_readings(), capture);
  auto say = [&](Severity severity, FindingCode code, std::string text) {
    sheet.say(severity, code, std::move(text), std::nullopt);
  };
  const Conditions common = {{"threshold_dbfs", r.threshold_dbfs},
                             {"least_gap_s", r.least_gap_s},
                             {"matched_by", std::string(r.options.by_rms ? "RMS" : "loudness")},
                             {"sample_rate_hz", r.sample_rate_hz}};
  auto add = [&](const char* name, std::optional<double> value, Conditions more,
                 std::optional<double> uncertainty = std::nullopt) -> Reading& {
    more.insert(more.end(), common.begin(), common.end());
    Reading& added = sheet.add(name, std::nullopt, value, std::move(more));
    if (value) added.uncertainty = uncertainty;
    return added;
  };
  say(Severity::note, FindingCode::result,
      fmt::format("{} take{}: above {:.1f} dBFS{}, silences from {:.2f} s on part them{}", r.takes.size(),
                  r.takes.size() == 1 ? "" : "s", r.threshold_dbfs, r.threshold_found ? " (found)" : "",
                  r.least_gap_s, r.gap_found ? " (found)" : ""));
  add("take_count", static_cast<double>(r.takes.size()), {});
  Curve noises{"noise after each take", std::nullopt, "s", "dBFS", {}, {}};
  double least = 1e9, most = -1e9;
  std::size_t quietest = 0, noisiest = 0;
  for (std::size_t i = 0; i < r.takes.size(); ++i) {
    const RecordedTake& take = r.takes[i];
    const Conditions which = {{"take", static_cast<std::int64_t>(i + 1)}};
    add("start_s", take.start_s, which, r.look_s);
    add("end_s", take.end_s, which, r.look_s);
    add("rms_dbfs", db_from_ratio(take.rms), which, take.rms_uncertainty_db);
    add("loudness_integrated_lufs", take.lufs, which, take.loudness_uncertainty_lu);
    add("gain_db", take.gain_db, which);
    if (take.gap_rms && *take.gap_rms > 0) {
      const double matched = db_from_ratio(*take.gap_rms) + take.gain_db;
      Conditions more = which;
      more.emplace_back("matched_dbfs", matched);
      add("gap_noise_dbfs", db_from_ratio(*take.gap_rms), more, take.gap_uncertainty_db);
      noises.x.push_back(take.end_s);
      noises.y.push_back(matched);
      if (matched < least) {
        least = matched;
        quietest = i;
      }
      if (matched > most) {
        most = matched;
        noisiest = i;
      }
    }
    if (take.loss) add_loss(*take.loss, which, add, i + 1, say);
    if (take.noise_from_hz)
      say(Severity::note, FindingCode::left_out,
          fmt::format("take {}: above {} it holds nothing but the noise of its gap; that is left out", i + 1,
                      kilohertz(*take.noise_from_hz)));
    Curve curve{fmt::format("take {}", i + 1), std::nullopt, "Hz", "dBFS", take.band_hz, {}};
    for (const double rms : take.band_rms) curve.y.push_back(rms > 0 ? db_from_ratio(rms) : kTakesShownDbfs);
    sheet.draw(std::move(curve));
  }
  if (noises.x.size() > 1) sheet.draw(std::move(noises));
  if (most > least)
    say(Severity::note, FindingCode::comparison,
        fmt::format("brought to the same loudness, the noise after take {} is lowest ({:.1f} "
                    "dBFS), after take {} highest ({:.1f} dBFS)",
                    quietest + 1, least, noisiest + 1, most));
  return sheet.finish();
}

}  // namespace wavicon
