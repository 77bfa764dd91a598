// SPDX-License-Identifier: MIT
// What was recognised, as words, as a recipe, and as what a capture holds.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "island_parts.hpp"
#include "place_by_parts.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/limits.hpp"
#include "wavicon/intake/align.hpp"
#include "wavicon/intake/recognise.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {
namespace {

constexpr double kQuicklyTakenApartS = 120;  // longer ones when they begin with something certain
constexpr double kLongestTakenApartS = 600;  // of a capture that is taken apart without being asked for

std::string hz_text(double hz) { return fmt::format("{:.7g} Hz", hz); }
std::string levels_text(const std::vector<double>& levels) {
  const auto [low, high] = std::minmax_element(levels.begin(), levels.end());
  return *high - *low < 0.05 ? fmt::format("{:.2f} dBFS", *high)
                             : fmt::format("{:.2f} to {:.2f} dBFS", *low, *high);
}

// "0.4 s", or "0.31 to 0.43 s" where they differ by more than 5 ms and 2 %.
std::string seconds_text(const std::vector<double>& seconds) {
  const auto [low, high] = std::minmax_element(seconds.begin(), seconds.end());
  return *high - *low < std::max(0.005, 0.02 * *high) ? fmt::format("{:.3g} s", *high)
                                                      : fmt::format("{:.3g} to {:.3g} s", *low, *high);
}
// How long each step is, and the pauses between them.
std::string times_text(const Staircase& p) {
  if (p.starts_s.size() < 2 || p.lengths_s.size() != p.starts_s.size()) return "";
  constexpr double kNoPauseS = 0.0005;
  std::vector<double> pauses;
  for (std::size_t i = 1; i < p.starts_s.size(); ++i)
    pauses.push_back(std::max(0.0, p.starts_s[i] - p.starts_s[i - 1] - p.lengths_s[i - 1]));
  const double longest = *std::max_element(pauses.begin(), pauses.end());
  return fmt::format(", {} each, {}", seconds_text(p.lengths_s),
                     longest < kNoPauseS ? "no pauses" : seconds_text(pauses) + " apart");
}

struct Words {
  const RecognisedPart& part;
  std::string operator()(const Tone& p) const {
    return fmt::format("a tone of {}, {:.2f} dBFS", hz_text(p.frequency_hz), p.level_dbfs);
  }
  std::string operator()(const Multitone& p) const {
    if (p.oscillators.size() == 1 && p.oscillators[0].to_dbfs)
      return fmt::format("a tone of {} whose level runs from {:.2f} to {:.2f} dBFS",
                         hz_text(p.oscillators[0].frequency_hz), p.oscillators[0].level_dbfs,
                         *p.oscillators[0].to_dbfs);
    std::string text = fmt::format("{} tones at once: ", p.oscillators.size());
    for (std::size_t i = 0; i < std::min<std::size_t>(3, p.oscillators.size()); ++i)
      text += (i == 0 ? "" : ", ") + hz_text(p.oscillators[i].frequency_hz);
    if (p.oscillators.size() > 3) text += " …";
    return text;
  }
  std::string operator()(const Sweep& p) const {
    return fmt::format("{} sweep from {} to {}{}, {:.2f} dBFS",
                       p.law == "log" ? "an exponential" : "a linear", hz_text(p.from_hz), hz_text(p.to_hz),
                       p.return_trip ? " and back" : "", p.level_dbfs);
  }
  std::string operator()(const Noise& p) const {
    std::string band;
    if (p.from_hz > 0 || p.to_hz)
      band = fmt::format(" from {:.3g} Hz to {}", p.from_hz,
                         p.to_hz ? fmt::format("{:.3g} Hz", *p.to_hz) : "half the rate");
    return fmt::format("{} noise{}, {:.2f} dBFS{}", p.colour, band, p.level_dbfs,
                       p.period_s ? fmt::format(", which repeats every {:.6g} s", *p.period_s) : "");
  }
  std::string operator()(const Burst& p) const {
    const auto& tone = std::get<Tone>(p.carrier);
    return fmt::format("{} bursts of {}, {:.4g} ms each, one every {:.4g} ms, {:.2f} dBFS", p.count,
                       hz_text(tone.frequency_hz), 1000 * p.on_s, 1000 * p.on_s * (1 + p.gap),
                       tone.level_dbfs);
  }
  std::string operator()(const Staircase& p) const {
    if (p.frequencies_hz.size() == 1)
      return fmt::format("{} steps of {}, {}{}", p.levels_dbfs.size(), hz_text(p.frequencies_hz.front()),
                         levels_text(p.levels_dbfs), times_text(p));
    std::vector<double> levels;
    for (const double trim : p.trims_db) levels.push_back(p.levels_dbfs.front() + trim);
    return fmt::format("{} steps from {} to {}, {}{}", p.frequencies_hz.size(),
                       hz_text(p.frequencies_hz.front()), hz_text(p.frequencies_hz.back()),
                       levels_text(levels.empty() ? p.levels_dbfs : levels), times_text(p));
  }
  std::string operator()(const LevelBlock& p) const {
    return fmt::format("a block of {}: {:.2f}, {:.2f} and again {:.2f} dBFS", hz_text(p.frequency_hz),
                       p.low_dbfs, p.high_dbfs, p.low_dbfs);
  }
  std::string operator()(const Impulse& p) const {
    return fmt::format("one sample, {:.2f} dBFS{}", p.level_dbfs, p.negative ? ", downwards" : "");
  }
  std::string operator()(const auto&) const { return part.kind; }
};

// Parts that are certain, in order of time.
std::vector<const RecognisedPart*> certain_ones(const Recognition& recognition) {
  std::vector<const RecognisedPart*> certain;
  for (const RecognisedPart& part : recognition.parts)
    if (part.certain && part.written) certain.push_back(&part);
  return certain;
}

// The longest pause in which something is to be heard, as a part: what noise is measured in.
void add_pause(Recognition& found) {
  constexpr double kLeastS = 0.3, kRingS = 0.1, kBeforeS = 0.02;  // from end to beginning
  if (found.idle_dbfs < -300) return;                             // digital silence
  const std::int64_t least = std::llround(kLeastS * found.sample_rate_hz),
                     ring = std::llround(kRingS * found.sample_rate_hz),
                     before = std::llround(kBeforeS * found.sample_rate_hz);
  std::int64_t from = 0, first = 0, longest = 0;
  const auto look = [&](std::int64_t next) {
    if (next - from > longest) {
      first = from;
      longest = next - from;
    }
  };
  for (const RecognisedPart& part : found.parts) {
    look(part.first_frame - before);
    from = std::max(from, part.first_frame + part.frames + ring);
  }
  look(found.frames);
  if (longest < least) return;
  RecognisedPart pause{.kind = "silence", .first_frame = first, .frames = longest, .certain = true};
  pause.written = Silence{.seconds = static_cast<double>(longest) / found.sample_rate_hz};
  found.parts.insert(std::find_if(found.parts.begin(), found.parts.end(),
                                  [&](const RecognisedPart& part) { return part.first_frame > first; }),
                     std::move(pause));
}

std::string summary(const std::vector<const RecognisedPart*>& parts) {
  std::string text;
  for (std::size_t i = 0; i < std::min<std::size_t>(3, parts.size()); ++i)
    text += (i == 0 ? "" : "; ") + described(*parts[i]);
  if (parts.size() > 3) text += fmt::format("; and {} more", parts.size() - 3);
  return text;
}

}  // namespace

std::string described(const RecognisedPart& part) {
  if (part.written) return std::visit(Words{part}, *part.written);
  if (part.kind == "offset") return fmt::format("a direct voltage, {:.2f} dBFS", part.level_dbfs);
  return fmt::format("{}, {:.2f} dBFS RMS", part.kind == "hit" ? "a hit" : part.kind, part.level_dbfs);
}

std::optional<RecognisedRecipe> recipe_of(const Recognition& recognition, int channel_count) {
  const auto certain = certain_ones(recognition);
  const double rate = recognition.sample_rate_hz;
  if (certain.empty() || rate < kLowestSampleRateHz) return std::nullopt;
  RecognisedRecipe made;
  made.recipe = {.name = "recognised",
                 .sample_rate_hz = rate,
                 .channel_count = channel_count,
                 .bits = 32,
                 .marks = false};
  std::int64_t start = 0, cursor = 0;  // as the recipe's reader lays parts out
  for (const RecognisedPart* part : certain) {
    RecipePart out{.kind = *part->written};
    out.with_previous = part->first_frame < cursor;
    if (!out.with_previous) start = cursor;
    if (out.with_previous && part->first_frame < start) {
      made.left_out.push_back(fmt::format("{:.3f} s: {}: it overlaps another part",
                                          static_cast<double>(part->first_frame) / rate, described(*part)));
      continue;
    }
    out.silence_before_s = static_cast<double>(part->first_frame - start) / rate;
    Recipe one{.sample_rate_hz = rate, .channel_count = channel_count, .bits = 32, .marks = false};
    one.parts.push_back({.kind = *part->written});
    // The reader's own length, which may differ by a frame.
    cursor = std::max(cursor, part->first_frame + Stimulus(one).frames());
    made.recipe.parts.push_back(std::move(out));
  }
  made.recipe.silence_after_s = std::max(0.0, static_cast<double>(recognition.frames - cursor) / rate);
  for (const int channel : recognition.other_channels)
    made.left_out.push_back(fmt::format("channel {}: it holds something else", channel + 1));
  made.complete = certain.size() == recognition.parts.size() && made.left_out.empty();
  for (const RecognisedPart& part : recognition.parts) {
    if (part.certain && part.written && part.reason.empty()) continue;
    made.left_out.push_back(fmt::format("{:.3f} s: {}: {}", static_cast<double>(part.first_frame) / rate,
                                        described(part), part.reason));
  }
  return made;
}

JudgedCapture recognised(const JudgedCapture& capture, const GatePolicy& policy) {
  AudioSource& source = *capture.source_;
  const auto& channels = capture.health().channels;
  const bool silent = std::all_of(channels.begin(), channels.end(), [](const auto& c) { return c.silent; });
  if (capture.known_stimulus() || silent || source.sample_rate_hz() < kLowestSampleRateHz ||
      capture.seconds() > kLongestTakenApartS ||
      (capture.seconds() > kQuicklyTakenApartS && !intake_detail::begins_certainly(source)))
    return capture.admitted(policy);
  Recognition found = recognise(source);
  if (!found.other_channels.empty()) return capture.admitted(policy);
  const auto all = recipe_of(found, capture.channel_count());
  const bool complete = all && all->complete;
  // Of a pair of tones that came back, the lines between them are not what was played.
  std::erase_if(found.parts, [](const RecognisedPart& part) {
    const auto* tones = part.written ? std::get_if<Multitone>(&*part.written) : nullptr;
    return tones != nullptr && tones->oscillators.size() > 1;
  });
  const auto certain = certain_ones(found);
  const std::string told_of = summary(certain);
  const std::size_t recognised_parts = certain.size();
  if (certain.empty()) return capture.admitted(policy);
  const std::size_t others = found.parts.size() - recognised_parts;
  add_pause(found);
  const auto made = recipe_of(found, capture.channel_count());
  Take take;
  take.channel = found.channel;
  const KnownStimulus known{std::make_shared<Stimulus>(made->recipe), take};
  const Finding told{Severity::note, FindingCode::assumed_stimulus,
                     fmt::format("it carries no recipe: {} {} recognised{}; 'wavicon show' tells more",
                                 told_of, recognised_parts == 1 ? "was" : "were",
                                 others == 0 ? ""
                                             : fmt::format(", {} more part{} left out as not certain", others,
                                                           others == 1 ? " is" : "s are")),
                     std::nullopt};
  const bool explained = complete && recognised_parts == all->recipe.parts.size();
  JudgedCapture result = with_known(
      judge(capture.source_, capture.info_, capture.format_, explained ? known : KnownStimulus{}, policy),
      known, told);
  result.explained_ = explained;
  result.recognised_ = true;
  return result;
}

namespace {

// Where B holds what A holds, in one channel of B; none where frames were lost: what follows lies elsewhere
// than one line says.
std::optional<Take> take_in(AudioSource& b, int channel, const JudgedCapture& a, std::vector<Slip>& slips) {
  Take take = a.take();
  take.channel = channel;
  if (const auto found =
          align(a.source(), b, {.reference_channel = a.take().channel, .capture_channel = channel})) {
    slips = found->slips;
    if (!slips.empty()) return std::nullopt;
    take.first_frame = found->delay_frames + a.take().first_frame * found->frames_per_frame;
    take.frames_per_frame = a.take().frames_per_frame * found->frames_per_frame;
    take.drift_ppm = found->drift_ppm;
    take.gain_db = db_from_ratio(std::max(1e-15, std::abs(found->gain)));
    take.polarity = found->gain < 0 ? -1 : 1;
    return take;
  }
  if (const auto place = intake_detail::place_by_parts(*a.known_stimulus(), b, channel)) {
    take.first_frame = place->first_frame + a.take().first_frame * place->frames_per_frame;
    take.frames_per_frame = a.take().frames_per_frame * place->frames_per_frame;
    take.drift_ppm = 1e6 * (place->frames_per_frame - 1);
    return take;
  }
  return std::nullopt;
}

}  // namespace

JudgedCapture placed_by(const JudgedCapture& b, const JudgedCapture& a, const GatePolicy& policy) {
  if (b.played() || !a.played() || a.stimulus().marks() || a.sample_rate_hz() != b.sample_rate_hz())
    return b.admitted(policy);
  std::vector<Slip> slips;
  const auto take = take_in(*b.source_, std::min(a.take().channel, b.channel_count() - 1), a, slips);
  if (!take) return b.admitted(policy);
  const KnownStimulus known{a.known_stimulus(), take};
  return with_known(judge(b.source_, b.info_, b.format_, a.explained_ ? known : KnownStimulus{}, policy),
                    known);
}

JudgedCapture holding(const JudgedCapture& capture, const JudgedCapture& clean_signal,
                      const GatePolicy& policy) {
  JudgedCapture reference = clean_signal;
  if (const auto& known = reference.known_stimulus(); known && !reference.played()) {
    // It carries a recipe without marks.
    std::vector<Slip> slips;
    if (const auto take = take_in(*reference.source_, 0, judge_stimulus(known), slips))
      reference = with_known(reference, {known, take});
  }
  const std::string& file = reference.info().file;
  if (capture.sample_rate_hz() != reference.sample_rate_hz())
    throw Error(ErrorCode::bad_argument,
                fmt::format("it is at {:g} Hz, and the reference {} at {:g} Hz: a reference needs the "
                            "capture's sample rate",
                            capture.sample_rate_hz(), file, reference.sample_rate_hz()));
  if (!reference.played())
    throw Error(ErrorCode::bad_input,
                fmt::format("the reference {} holds no tones, sweep or noise that are recognised with "
                            "certainty; 'wavicon show' says what it holds",
                            file));
  if (capture.played()) return capture.admitted(policy);
  AudioSource& source = *capture.source_;
  const int first = std::min(reference.take().channel, capture.channel_count() - 1);
  std::vector<int> channels{first};
  for (int c = 0; c < capture.channel_count(); ++c)
    if (c != first && !capture.health().channels.at(static_cast<std::size_t>(c)).silent)
      channels.push_back(c);
  for (const int channel : channels) {
    std::vector<Slip> slips;
    const auto take = take_in(source, channel, reference, slips);
    if (!slips.empty())
      throw Error(ErrorCode::bad_input,
                  fmt::format("{} of the reference {}: capture it again with a larger buffer",
                              slips_text(slips, reference.sample_rate_hz()), file));
    if (!take) continue;
    const KnownStimulus known{reference.known_stimulus(), take};
    return with_known(judge(capture.source_, capture.info_, capture.format_,
                            reference.explained_ ? known : KnownStimulus{}, policy),
                      known);
  }
  throw Error(
      ErrorCode::bad_input,
      fmt::format("it does not hold the reference {}: too little in common, or frames are missing; 'wavicon "
                  "latency {} {}' says more",
                  file, file, capture.info().file));
}

}  // namespace wavicon
