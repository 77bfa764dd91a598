// SPDX-License-Identifier: MIT
// Figures of the newest window: the same calls as for files.

#include "live/watch_figures.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "wavicon/audio/error.hpp"
#include "wavicon/intake/recognise.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon {

std::string measurement_of(WatchView view, std::size_t sources) {
  switch (view) {
    case WatchView::spectrum:
    case WatchView::spectrogram:
      return "spectrum";
    case WatchView::harmonics:
      return "harmonics";
    case WatchView::levels:
      return "levels";
    case WatchView::wave:
      return sources > 1 ? "null" : "levels";
    case WatchView::pair:
      return "pair";
    case WatchView::noise:
      return "noise";
    case WatchView::round_trip:
      return "latency";
  }
  return "levels";
}

namespace live_detail {
namespace {

CaptureInfo info_of(const WindowAudio& window) {
  return {.file = window.name,
          .format = "32-bit float",
          .sample_rate_hz = window.audio.sample_rate_hz(),
          .channels = window.audio.channel_count(),
          .frames = window.audio.frames()};
}

// Silence, clipping and the like are told and measured all the same: somebody is turning a knob.
JudgedCapture judged(const WindowAudio& window, const KnownStimulus& known = {}) {
  return judge(std::make_shared<OwnedSource>(window.audio), info_of(window), SampleFormat::float32, known,
               {.despite_faults = true, .hold_faults = true});
}

// The answer, or why there is none.
std::string answer_of(const std::vector<Sheet>& sheets) {
  std::string why;
  for (const Sheet& sheet : sheets)
    for (const Finding& finding : sheet.findings) {
      if (finding.code == FindingCode::result) return finding.text;
      if (why.empty()) why = finding.text;
    }
  return why.empty() ? "nothing was read" : why;
}

void measure(const std::string& name, const WindowAudio& window, const std::optional<WindowAudio>& before,
             const std::shared_ptr<Stimulus>& marks, WatchFigures& figures) {
  const MeasurementDescriptor& descriptor = *find_measurement(measurements(), name);
  const GatePolicy policy = policy_of(descriptor, true);
  const auto measurement = descriptor.make();
  MeasureRequest request;
  JudgedCapture held =
      judged(window, marks != nullptr ? KnownStimulus{marks, std::nullopt} : KnownStimulus{});
  figures.health = held.findings();
  for (const Finding& fault : held.held_faults()) figures.health.push_back(fault);
  if (marks != nullptr) {
    request.reference = judge_stimulus(marks);
  } else if (before) {
    request.reference = judged(*before);
    request.reference =
        descriptor.recognises ? recognised(*request.reference, policy) : request.reference->admitted(policy);
  }
  const JudgedCapture capture = request.reference && descriptor.recognises && marks == nullptr
                                    ? placed_by(held, *request.reference, policy)
                                : descriptor.recognises && marks == nullptr ? recognised(held, policy)
                                                                            : held.admitted(policy);
  measurement->check(request);
  figures.sheets = measured(*measurement, request, capture);
  measurement->conclude(request, figures.sheets);
  figures.answer = answer_of(figures.sheets);
  // What the measurement itself says against its figures.
  for (const Sheet& sheet : figures.sheets)
    figures.health.insert(figures.health.end(), sheet.findings.begin(), sheet.findings.end());
  std::stable_sort(figures.health.begin(), figures.health.end(),
                   [](const Finding& a, const Finding& b) { return a.severity > b.severity; });
}

// How deep two sources null, beside what a pair is.
void add_null(const std::vector<WindowAudio>& windows, WatchFigures& figures) {
  WatchFigures null;
  try {
    measure("null", windows.back(), windows.front(), nullptr, null);
    for (Sheet& sheet : null.sheets) figures.sheets.push_back(std::move(sheet));
  } catch (const Error&) {
    // A pair that cannot be lined up is a pair all the same.
  }
}

}  // namespace

WatchFigures figures_of(WatchView view, const std::vector<WindowAudio>& windows, double at_s,
                        const std::shared_ptr<Stimulus>& marks) {
  WatchFigures figures{.view = view, .at_s = at_s, .window_s = 0};
  if (windows.empty()) {
    figures.answer = "listening: there is not enough yet";
    return figures;
  }
  const WindowAudio& newest = windows.back();
  figures.window_s = static_cast<double>(newest.audio.frames()) / newest.audio.sample_rate_hz();
  const bool two = windows.size() > 1;
  if (view == WatchView::pair && !two && newest.audio.channel_count() != 2) {
    figures.answer = "a pair is two sources, or a source of two channels";
    return figures;
  }
  if (view == WatchView::round_trip && marks == nullptr) {
    figures.answer = "marks are needed: --play marks, to ports that come back";
    return figures;
  }
  const bool against = two && (view == WatchView::wave || view == WatchView::pair);
  try {
    measure(measurement_of(view, windows.size()), newest,
            against ? std::optional<WindowAudio>(windows.front()) : std::nullopt,
            view == WatchView::round_trip ? marks : nullptr, figures);
    if (view == WatchView::pair && two) add_null(windows, figures);
  } catch (const Error& error) {
    figures.sheets.clear();
    figures.answer = error.what();
  }
  return figures;
}

}  // namespace live_detail
}  // namespace wavicon
