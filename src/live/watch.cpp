// SPDX-License-Identifier: MIT
#include "wavicon/live/watch.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <numeric>

#include "live/watch_figures.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon {
namespace {

using namespace live_detail;

constexpr double kTraceEachS = 0.04;    // 25 a second
constexpr double kFiguresShare = 0.08;  // of a core, when they are made beside the drawing
constexpr double kColumnEachS = 0.1;    // of the spectrogram
constexpr double kTellS = 4;            // how long a message stays
constexpr double kLeastWindowS = 0.1, kMostWindowS = 60;
constexpr double kSilent = 1e-7;    // -140 dBFS
constexpr double kSilentS = 1;      // before it is told
constexpr double kMeterS = 0.3;     // of the levels that are drawn
constexpr double kHoldFallDb = 20;  // of held peaks, a second
constexpr double kFull = 1 - 1e-7;  // full scale, of a 24-bit converter as well
constexpr std::size_t kMostColumns = 600, kBands = 192, kMostReferences = 4, kMostKept = 500;
constexpr double kSemitone = 1.0594630943592953, kThirdOctave = 1.2589254117941673;

// Notes by what they say of a signal that is watched, not of a file.
bool of_interest(const Finding& finding) {
  return finding.severity != Severity::note && finding.code != FindingCode::cut_start &&
         finding.code != FindingCode::cut_end;
}

Audio part_of(const std::vector<std::vector<double>>& channels, WatchedPart part, double rate) {
  const auto frames = static_cast<std::int64_t>(channels.front().size());
  const std::size_t right = std::min<std::size_t>(1, channels.size() - 1);
  const auto one = [&](const auto& value) {
    Audio audio(rate, 1, frames);
    for (std::size_t n = 0; n < channels.front().size(); ++n) audio.channel(0)[n] = value(n);
    return audio;
  };
  switch (part) {
    case WatchedPart::left:
      return one([&](std::size_t n) { return channels[0][n]; });
    case WatchedPart::right:
      return one([&](std::size_t n) { return channels[right][n]; });
    case WatchedPart::mid:
      return one([&](std::size_t n) { return (channels[0][n] + channels[right][n]) / 2; });
    case WatchedPart::side:
      return one([&](std::size_t n) { return (channels[0][n] - channels[right][n]) / 2; });
    case WatchedPart::all:
      break;
  }
  Audio audio(rate, static_cast<int>(channels.size()), frames);
  for (std::size_t c = 0; c < channels.size(); ++c)
    std::copy(channels[c].begin(), channels[c].end(), audio.channel(static_cast<int>(c)).begin());
  return audio;
}

}  // namespace

const std::vector<WatchViewInfo>& watch_views() {
  static const std::vector<WatchViewInfo> views = {
      {WatchView::spectrum, "spectrum", "which lines are in it?",
       "Level over frequency, as the peak of a sine there. Lines that stand out are named: the tone, its "
       "harmonics (folded: above half the rate, seen at their image), the mains. Noise reads by the "
       "bandwidth of "
       "a bin: the noise view has its level."},
      {WatchView::harmonics, "harmonics", "what does the knob add?",
       "Orders against the fundamental, and THD over the last minute. Under the noise a figure is a bound, "
       "'<'. "
       "An order above half the rate is not counted in THD."},
      {WatchView::levels, "levels", "how loud is it?",
       "RMS, peak and true peak of each channel, with the highest held; loudness is of the window. Drawn "
       "bars are "
       "of the last 0.3 s, figures of the window that is named."},
      {WatchView::spectrogram, "spectrogram", "what comes and goes?",
       "Time from left to right, ten columns a second; frequency upwards; the denser, the louder."},
      {WatchView::wave, "wave", "what does it do to the wave?",
       "Triggered on the first channel. With two sources: the first, the second over it, and what is left of "
       "both "
       "once level and delay are taken off, as 'null' reads it."},
      {WatchView::pair, "pair", "are the two alike?",
       "Level difference, correlation, delay and phase of two sources, or of two channels. A steady tone has "
       "no "
       "one delay: whole periods more or less fit as well."},
      {WatchView::noise, "noise", "how quiet is it with nothing playing?",
       "Noise from 20 Hz to 20 kHz, flat and A-weighted, under whatever tone sounds. Short windows spread: "
       "take "
       "5 s by 'w'."},
      {WatchView::round_trip, "round-trip", "how long does it take, and does it stay so?",
       "Marks are played every two seconds and looked for in what comes back: latency now, its spread, and "
       "xruns."},
  };
  return views;
}

WatchView watch_view(const std::string& word) {
  std::vector<std::string> words;
  for (const WatchViewInfo& info : watch_views()) {
    if (info.word == word) return info.view;
    words.push_back(info.word);
  }
  throw Error(ErrorCode::bad_argument, fmt::format("there is no view '{}'{}", word, name_hint(word, words)));
}

Watch::Watch(std::unique_ptr<LiveSource> source, WatchOptions options, WatchHooks hooks)
    : source_(std::move(source)), options_(std::move(options)), hooks_(std::move(hooks)) {
  if (!(options_.window_s >= kLeastWindowS && options_.window_s <= kMostWindowS))
    throw Error(ErrorCode::bad_argument, fmt::format("a window is {:g} … {:g} s, not {:g}", kLeastWindowS,
                                                     kMostWindowS, options_.window_s));
  if (options_.transform < 256 || options_.transform > (1U << 20) ||
      (options_.transform & (options_.transform - 1)) != 0)
    throw Error(ErrorCode::bad_argument, "a transform is a power of two from 256 to 1048576");
  meters_.resize(static_cast<std::size_t>(source_->ring().channel_count()));
  for (std::size_t i = 0; i < source_->channels().size(); ++i)
    traces_.emplace_back(options_.transform, source_->sample_rate_hz());
}

Watch::~Watch() {
  if (being_made_.valid()) being_made_.wait();
}

double Watch::now_s() const {
  return static_cast<double>(source_->ring().written()) / source_->sample_rate_hz();
}

std::vector<WatchView> Watch::shown() const {
  std::vector<WatchView> views = {options_.view};
  if (options_.beside) views.push_back(*options_.beside);
  return views;
}

std::vector<double> Watch::newest(int channel, std::size_t frames) const {
  std::vector<double> samples(frames);
  const std::int64_t first = source_->ring().written() - static_cast<std::int64_t>(frames);
  if (!source_->ring().read(channel, first, samples)) samples.clear();
  return samples;
}

std::optional<Audio> Watch::window(std::size_t source, double seconds) const {
  const auto& all = source_->channels();
  std::int64_t latest = 0;
  for (const WatchedChannels& one : all) latest = std::max(latest, one.late_frames);
  const WatchedChannels& watched = all.at(source);
  const auto frames = static_cast<std::int64_t>(std::llround(seconds * source_->sample_rate_hz()));
  const std::int64_t first = source_->ring().written() - frames - (latest - watched.late_frames);
  if (frames < 1 || first < 0) return std::nullopt;
  std::vector<std::vector<double>> channels;
  for (int c = 0; c < watched.count; ++c) {
    channels.emplace_back(static_cast<std::size_t>(frames));
    if (!source_->ring().read(watched.first + c, first, channels.back())) return std::nullopt;
  }
  return part_of(channels, options_.part, source_->sample_rate_hz());
}

// What is to be measured is taken now, and measured when it is called.
std::function<WatchFigures()> Watch::measuring(WatchView view) const {
  auto windows = std::make_shared<std::vector<WindowAudio>>();
  const double at_s = now_s(), rate = source_->sample_rate_hz();
  const auto with = [&](const std::shared_ptr<Stimulus>& marks) {
    return [windows, view, at_s, marks] { return figures_of(view, *windows, at_s, marks); };
  };
  if (view == WatchView::round_trip) {
    // The last loop that came back whole.
    const Generator* generator = source_->generator();
    if (generator == nullptr || options_.marks == nullptr || generator->loop_frames() == 0) {
      windows->push_back({"", Audio(rate, 1, 1)});
      return with(nullptr);
    }
    const std::int64_t loop = generator->loop_frames(), start = source_->play_start();
    const std::int64_t whole = (source_->ring().written() - start) / loop - 1;
    const WatchedChannels& watched = source_->channels().back();
    std::vector<std::vector<double>> channels;
    for (int c = 0; c < watched.count && whole >= 0; ++c) {
      channels.emplace_back(static_cast<std::size_t>(loop));
      if (!source_->ring().read(watched.first + c, start + whole * loop, channels.back()))
        return with(options_.marks);
    }
    if (!channels.empty()) windows->push_back({watched.name, part_of(channels, options_.part, rate)});
    return with(options_.marks);
  }
  // At the beginning what there is.
  const double seconds =
      std::min(options_.window_s, std::max(kLeastWindowS, std::floor(now_s() * 10) / 10 - kLeastWindowS));
  for (std::size_t i = 0; i < source_->channels().size(); ++i) {
    auto audio = window(i, seconds);
    if (!audio) {
      windows->clear();
      break;
    }
    windows->push_back({source_->channels()[i].name, std::move(*audio)});
  }
  return with(nullptr);
}

WatchFigures Watch::measure(WatchView view) const { return measuring(view)(); }

const WatchFigures& Watch::figures() const {
  static const WatchFigures none{.answer = "listening"};
  const auto found = figures_.find(options_.view);
  return found == figures_.end() ? none : found->second;
}

void Watch::advance(double seconds) {
  source_->advance(seconds);
  clock_s_ += seconds;
  look_at_new();
  if (frozen_) return;
  traces_due_s_ += seconds;
  if (traces_due_s_ >= kTraceEachS) {
    take_traces(traces_due_s_);
    traces_due_s_ = 0;
  }
  take_figures();
}

// Every sample once: levels, what is silent, what clips.
void Watch::look_at_new() {
  const SampleRing& ring = source_->ring();
  const double rate = source_->sample_rate_hz();
  const std::int64_t end = ring.written();
  seen_ = std::max(seen_, end - static_cast<std::int64_t>(rate));
  const std::int64_t fresh = end - seen_;
  if (fresh <= 0) return;
  std::vector<double> samples(static_cast<std::size_t>(fresh));
  const double passed_s = static_cast<double>(fresh) / rate;
  for (std::size_t c = 0; c < meters_.size(); ++c) {
    if (!ring.read(static_cast<int>(c), seen_, samples)) continue;
    Meter& meter = meters_[c];
    double peak = 0, power = 0;
    for (const double v : samples) {
      peak = std::max(peak, std::abs(v));
      power += v * v;
      meter.clipped += std::abs(v) >= kFull ? 1 : 0;
    }
    const double share = 1 - std::exp(-passed_s / kMeterS);
    meter.rms = std::sqrt(meter.rms * meter.rms +
                          share * (power / static_cast<double>(fresh) - meter.rms * meter.rms));
    meter.peak = std::max(peak, meter.peak * ratio_from_db(-kHoldFallDb * passed_s));
    meter.held = std::max(meter.held, peak);
    meter.silent_s = peak < kSilent ? meter.silent_s + passed_s : 0;
  }
  seen_ = end;
}

void Watch::take_traces(double seconds) {
  for (std::size_t i = 0; i < traces_.size(); ++i) {
    const auto audio = window(i, static_cast<double>(options_.transform) / source_->sample_rate_hz());
    if (!audio) return;
    // Of several channels the first; mid, side and one of them by choice.
    traces_[i].take(audio->channel(0), seconds, options_.averaging_s);
  }
  const std::vector<double>& levels = traces_.back().level_dbfs();
  std::vector<double> sorted(levels.begin() + 1, levels.end());
  const auto tenth = sorted.begin() + static_cast<std::ptrdiff_t>(sorted.size() / 10);
  std::nth_element(sorted.begin(), tenth, sorted.end());
  if (*tenth < bottom_dbfs_ + 5 || *tenth > bottom_dbfs_ + 45)
    bottom_dbfs_ = std::clamp(20 * std::floor((*tenth - 10) / 20), -200.0, -80.0);
  columns_due_s_ -= seconds;
  if (columns_due_s_ <= 0) {
    columns_due_s_ += kColumnEachS;
    std::vector<float> column(kBands);
    const double low = 20, high = source_->sample_rate_hz() / 2, bin = traces_.back().bin_hz();
    for (std::size_t b = 0; b < kBands; ++b) {
      const double from = low * std::pow(high / low, static_cast<double>(b) / kBands),
                   to = low * std::pow(high / low, static_cast<double>(b + 1) / kBands);
      const auto first = static_cast<std::size_t>(std::lround(from / bin));
      const auto last = std::max(first + 1, static_cast<std::size_t>(std::lround(to / bin)));
      double level = -240;
      for (std::size_t k = first; k < std::min(last, levels.size()); ++k) level = std::max(level, levels[k]);
      column[b] = static_cast<float>(level);
    }
    columns_.push_back(std::move(column));
    if (columns_.size() > kMostColumns) columns_.pop_front();
  }
}

void Watch::take_figures() {
  if (being_made_.valid()) {
    if (being_made_.wait_for(std::chrono::seconds(0)) != std::future_status::ready) return;
    deliver(being_made_.get());
    // Figures that take long come less often: the machine has other work.
    figures_due_s_ = std::max(figures_due_s_, begun_s_ + (clock_s_ - begun_s_) / kFiguresShare);
  }
  if (clock_s_ < figures_due_s_ || options_.figures_each_s <= 0) return;
  figures_due_s_ = clock_s_ + options_.figures_each_s;
  const auto views = shown();
  // Views beside each other take turns.
  WatchView view = views.front();
  if (views.size() > 1 && figures_.count(views[0]) != 0 &&
      (figures_.count(views[1]) == 0 || figures_[views[1]].at_s < figures_[views[0]].at_s))
    view = views[1];
  if (!options_.beside_drawing) {
    deliver(measure(view));
    return;
  }
  begun_s_ = clock_s_;
  being_made_ = std::async(std::launch::async, measuring(view));
}

void Watch::deliver(WatchFigures figures) {
  const auto value = [&](const char* name) -> std::optional<double> {
    for (const Sheet& sheet : figures.sheets)
      for (const Reading& reading : sheet.readings)
        if (reading.name == name && reading.value) return reading.value;
    return std::nullopt;
  };
  if (figures.view == WatchView::harmonics && !figures.sheets.empty()) {
    course_.push_back({figures.at_s, value("thd_db"), value("fundamental_dbfs")});
    while (course_.front().at_s < figures.at_s - options_.course_s) course_.pop_front();
  }
  if (figures.view == WatchView::round_trip && !figures.sheets.empty()) {
    const Generator* generator = source_->generator();
    const std::int64_t loop =
        generator == nullptr ? 0
                             : (source_->ring().written() - source_->play_start()) / generator->loop_frames();
    if (loop != last_loop_) {
      last_loop_ = loop;
      trips_.push_back({figures.at_s, value("latency_samples"), std::nullopt});
      if (trips_.size() > 1000) trips_.pop_front();
    }
  }
  if (options_.until && !reached_)
    for (const Sheet& sheet : figures.sheets)
      for (LimitResult& result : check_limit(*options_.until, sheet))
        if (result.outcome == LimitResult::Outcome::kept && !reached_)
          reached_ = {figures.at_s, std::move(result),
                      source_->generator() != nullptr && source_->generator()->on()
                          ? std::optional<double>(source_->generator()->level_dbfs())
                          : std::nullopt};
  const WatchView view = figures.view;
  figures_[view] = std::move(figures);
}

std::string Watch::health_line() const {
  std::string line;
  const auto add = [&](const std::string& text) {
    if (line.find(text) == std::string::npos) line += (line.empty() ? "" : " · ") + text;
  };
  if (!source_->trouble().empty()) add(source_->trouble());
  if (source_->xruns() > 0) add(fmt::format("{} xrun{}", source_->xruns(), source_->xruns() == 1 ? "" : "s"));
  for (const WatchedChannels& watched : source_->channels()) {
    bool silent = true;
    std::int64_t clipped = 0;
    for (int c = 0; c < watched.count; ++c) {
      silent = silent && meters_[static_cast<std::size_t>(watched.first + c)].silent_s > kSilentS;
      clipped += meters_[static_cast<std::size_t>(watched.first + c)].clipped;
    }
    if (silent) add(watched.name + " is silent");
    if (clipped > 0)
      add(fmt::format("{}: {} sample{} at full scale", watched.name, clipped, clipped == 1 ? "" : "s"));
  }
  for (const WatchView view : shown())
    if (const auto found = figures_.find(view); found != figures_.end())
      for (const Finding& finding : found->second.health)
        if (of_interest(finding)) add(finding.text);
  return line;
}

std::string Watch::playing_line() const {
  std::string line;
  if (const Generator* generator = source_->generator(); generator != nullptr) {
    line = generator->is_tone()
               ? fmt::format("plays {:.7g} Hz at {:.1f} dBFS", generator->frequency_hz(),
                             generator->level_dbfs())
               : fmt::format("plays {} at {:.1f} dBFS", generator->name(), generator->level_dbfs());
    if (!generator->on()) line += ", off";
  }
  if (!source_->settings().empty()) {
    const LiveSetting& setting = source_->settings()[setting_];
    std::string value = fmt::format("{:.6g}", setting.value);
    for (const SettingChoice& choice : setting.info.choices)
      if (choice.value == setting.value) value = choice.label;
    line +=
        fmt::format("{}{} {} {}", line.empty() ? "" : " · ", setting.info.symbol, value, setting.info.unit);
    while (!line.empty() && line.back() == ' ') line.pop_back();
  }
  return line;
}

void Watch::tell(std::string text) {
  told_ = std::move(text);
  told_until_s_ = clock_s_ + kTellS;
}

void Watch::shown_changed() { figures_due_s_ = clock_s_; }

// A step up or down of the setting that is chosen.
void Watch::turn_setting(int steps) {
  if (source_->settings().empty()) {
    tell("nothing to turn: --through names the units");
    return;
  }
  const LiveSetting& setting = source_->settings()[setting_];
  const SettingInfo& info = setting.info;
  double value = setting.value;
  if (info.choices_only && !info.choices.empty()) {
    std::size_t nearest = 0;
    for (std::size_t i = 0; i < info.choices.size(); ++i)
      if (std::abs(info.choices[i].value - value) < std::abs(info.choices[nearest].value - value))
        nearest = i;
    const auto place = static_cast<std::ptrdiff_t>(nearest) + steps;
    value = info.choices[static_cast<std::size_t>(std::clamp<std::ptrdiff_t>(
                             place, 0, static_cast<std::ptrdiff_t>(info.choices.size()) - 1))]
                .value;
  } else if (info.integer || info.toggle) {
    value += steps;
  } else if (info.logarithmic && info.minimum > 0) {
    value *= std::pow(info.maximum / info.minimum, steps / 100.0);
  } else if (info.unit == "dB" && info.maximum - info.minimum <= 200) {
    value = std::round(value) + steps;
  } else {
    value += (info.maximum - info.minimum) * steps / 100;
  }
  try {
    source_->turn(setting_, value);
  } catch (const Error& error) {
    tell(error.what());
  }
}

void Watch::keep() {
  WatchKept kept;
  std::vector<WindowAudio> windows;
  const double seconds = std::min(options_.keep_s, now_s() - kLeastWindowS);
  for (std::size_t i = 0; seconds > 0 && i < source_->channels().size(); ++i)
    if (auto audio = window(i, seconds)) {
      windows.push_back({source_->channels()[i].name, *audio});
      kept.captures.emplace_back(source_->channels()[i].name, std::move(*audio));
    }
  if (kept.captures.size() != source_->channels().size() || !hooks_.keep) {
    tell(hooks_.keep ? "there is not enough yet to keep" : "nothing is kept here");
    return;
  }
  if (options_.view != WatchView::round_trip)
    kept.figures = figures_of(options_.view, windows, now_s(), nullptr);
  try {
    const std::string text = hooks_.keep(kept);
    tell("kept: " + text);
    kept_.push_back(fmt::format("{:.1f} s: {}", now_s(), text));
  } catch (const Error& error) {
    tell(error.what());
  }
}

void Watch::finish_typing() {
  const char asked = std::exchange(asking_, 0);
  const std::string text = std::exchange(typed_, {});
  if (asked == 'm') {
    std::string line = fmt::format("{:.1f} s: {}", now_s(), text.empty() ? "marked" : text);
    if (const std::string playing = playing_line(); !playing.empty()) line += " (" + playing + ")";
    if (!figures().answer.empty()) line += ": " + figures().answer;
    if (kept_.size() < kMostKept) kept_.push_back(line);
    tell("marked");
    return;
  }
  Generator* generator = source_->generator();
  char* end = nullptr;
  const double number = std::strtod(text.c_str(), &end);
  if (generator == nullptr || text.empty() || *end != '\0' || !std::isfinite(number)) {
    tell(text.empty() ? "" : fmt::format("'{}' is no number", text));
    return;
  }
  if (asked == 'f')
    tell(fmt::format("{:g} Hz", generator->set_frequency(number)));
  else
    tell(fmt::format("{:g} dBFS", generator->set_level(number)));
}

bool Watch::typed(int key) {
  if (asking_ == 0) return false;
  if (key == key_escape) {
    asking_ = 0;
    typed_.clear();
  } else if (key == key_enter) {
    finish_typing();
  } else if (key == key_erase) {
    if (!typed_.empty()) typed_.pop_back();
  } else if (key >= ' ' && key < 0x7F && typed_.size() < 60) {
    typed_ += static_cast<char>(key);
  }
  return true;
}

void Watch::press(int key) {
  if (typed(key)) return;
  Generator* generator = source_->generator();
  const auto needs_generator = [&] {
    if (generator == nullptr) tell("nothing is played: --play tone, sweep, noise, marks or a recipe");
    return generator != nullptr;
  };
  if (key >= '1' && key < '1' + static_cast<int>(watch_views().size())) {
    options_.view = watch_views()[static_cast<std::size_t>(key - '1')].view;
    if (options_.beside == options_.view) options_.beside.reset();
    shown_changed();
    return;
  }
  switch (key) {
    case 'q':
      quits_ = true;
      return;
    case '?':
      help_ = !help_;
      return;
    case key_escape:
      help_ = false;
      return;
    case 'v': {  // the next view beside, or none
      const auto count = static_cast<int>(watch_views().size());
      int next = options_.beside ? static_cast<int>(*options_.beside) + 1 : 0;
      if (next == static_cast<int>(options_.view)) ++next;
      options_.beside = next < count ? std::optional(static_cast<WatchView>(next)) : std::nullopt;
      shown_changed();
      return;
    }
    case '\t':
      if (options_.beside) std::swap(options_.view, *options_.beside);
      return;
    case 'f':
      frozen_ = !frozen_;
      return;
    case 'r':
      if (traces_.back().level_dbfs().empty()) return;
      if (references_.size() == kMostReferences) references_.erase(references_.begin());
      references_.push_back({fmt::format("{:.0f} s", now_s()), traces_.back().level_dbfs()});
      tell("reference taken at " + references_.back().name);
      return;
    case 'x':
      references_.clear();
      for (SpectrumTrace& trace : traces_) trace.clear();
      for (Meter& meter : meters_) meter.held = 0, meter.clipped = 0;
      tell("references and what was held are gone");
      return;
    case 'd':
      if (traces_.size() < 2 && references_.empty()) {
        tell("a difference is of two sources, or from a reference ('r')");
        return;
      }
      difference_ = !difference_;
      return;
    case 'k':
      keep();
      return;
    case 'm':
      asking_ = 'm';
      return;
    case 'w': {  // the next window
      const double windows[] = {0.2, 0.5, 1, 2, 5, 10};
      const auto* next = std::upper_bound(std::begin(windows), std::end(windows), options_.window_s + 1e-9);
      options_.window_s = next == std::end(windows) ? windows[0] : *next;
      shown_changed();
      return;
    }
    case 'c':
      options_.part = static_cast<WatchedPart>((static_cast<int>(options_.part) + 1) % 5);
      for (SpectrumTrace& trace : traces_) trace.clear();
      shown_changed();
      return;
    case 'p': {
      std::vector<Sheet> sheets = figures().sheets;
      if (!sheets.empty())
        std::erase_if(sheets, [first = sheets.front().measurement](const Sheet& sheet) {
          return sheet.measurement != first;
        });
      const MeasurementDescriptor* of =
          sheets.empty() ? nullptr : find_measurement(measurements(), sheets.front().measurement);
      if (of == nullptr || of->pictures.empty() || !hooks_.draw) {
        tell("there is no picture of this yet");
        return;
      }
      try {
        const std::string text = hooks_.draw(sheets, of->make()->picture(sheets, of->pictures.front().word));
        tell("drawn: " + text);
        kept_.push_back(fmt::format("{:.1f} s: {}", now_s(), text));
      } catch (const Error& error) {
        tell(error.what());
      }
      return;
    }
    case ' ':
      if (needs_generator()) generator->switch_on(!generator->on());
      return;
    case key_up:
    case key_down:
      if (needs_generator()) generator->set_level(generator->level_dbfs() + (key == key_up ? 1 : -1));
      return;
    case key_left:
    case key_right: {
      if (!needs_generator() || !generator->is_tone()) return;
      const double step = third_octaves_ ? kThirdOctave : kSemitone;
      generator->set_frequency(generator->frequency_hz() * (key == key_right ? step : 1 / step));
      return;
    }
    case 't':
      third_octaves_ = !third_octaves_;
      tell(third_octaves_ ? "third octaves" : "semitones");
      return;
    case 'g':
    case 'l':
      if (needs_generator() && (key == 'l' || generator->is_tone())) asking_ = key == 'g' ? 'f' : 'l';
      return;
    case ',':
    case '.': {
      const std::size_t count = source_->settings().size();
      if (count > 0) setting_ = (setting_ + (key == '.' ? 1 : count - 1)) % count;
      return;
    }
    case '-':
      turn_setting(-1);
      return;
    case '+':
    case '=':
      turn_setting(1);
      return;
    case '[':
    case ']': {
      const std::size_t count = source_->presets().size();
      if (count == 0) {
        tell("there are no presets");
        return;
      }
      preset_ = (preset_ + (key == ']' ? 1 : count - 1)) % count;
      try {
        source_->choose_preset(preset_);
        tell(source_->presets()[preset_]);
      } catch (const Error& error) {
        tell(error.what());
      }
      return;
    }
    default:
      return;
  }
}

}  // namespace wavicon
