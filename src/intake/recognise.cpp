// SPDX-License-Identifier: MIT
#include "wavicon/intake/recognise.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <utility>

#include "island_parts.hpp"
#include "islands.hpp"
#include "kept_channel.hpp"
#include "samples.hpp"
#include "sweep_course.hpp"
#include "tone_groups.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/limits.hpp"
#include "wavicon/audio/workers.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {
namespace {

using namespace intake_detail;

constexpr double kMostS = 120;  // of a stretch that is looked at
constexpr double kQuickLookS = 5;
constexpr double kMostInAllS = 600;  // of sound
constexpr const char* kNotLookedAt = "not looked at: ten minutes of sound are";
constexpr double kNearS = 1, kShortS = 0.6;        // what is so near to programme and so short
constexpr double kBesideS = 0.2, kNotLongS = 1.5;  // or so near and so short, may be a note of it
constexpr double kLongestDropoutS = 0.2, kSameNoiseDb = 1, kRegular = 0.02;
constexpr double kOneProgrammeS = 0.6;  // pauses within programme

bool is_programme(const RecognisedPart& part) { return part.kind == "programme" || part.kind == "hit"; }

// Pauses within speech and music part nothing.
void join_programme(std::vector<RecognisedPart>& parts, double rate) {
  std::vector<RecognisedPart> joined;
  for (RecognisedPart& part : parts) {
    const bool fits = !joined.empty() && is_programme(part) && is_programme(joined.back()) &&
                      static_cast<double>(part.first_frame - joined.back().first_frame -
                                          joined.back().frames) < kOneProgrammeS * rate &&
                      !(part.kind == "hit" && joined.back().kind == "hit") && part.reason != kNotLookedAt;
    if (!fits) {
      joined.push_back(std::move(part));
      continue;
    }
    RecognisedPart& last = joined.back();
    const double mine = power_ratio_from_db(last.level_dbfs) * static_cast<double>(last.frames),
                 other = power_ratio_from_db(part.level_dbfs) * static_cast<double>(part.frames);
    last.frames = part.first_frame + part.frames - last.first_frame;
    last.level_dbfs = db_from_power_ratio((mine + other) / static_cast<double>(last.frames));
    last.kind = "programme";
    last.reason = "no model explains it";
  }
  parts = std::move(joined);
}

// What lies beside programme may be a note of it.
void doubt_neighbours(std::vector<RecognisedPart>& parts, double rate) {
  for (std::size_t i = 0; i < parts.size(); ++i) {
    RecognisedPart& part = parts[i];
    if (!part.certain || part.kind == "sweep" || part.kind == "noise" || part.kind == "impulse") continue;
    for (const RecognisedPart& other : parts) {
      if (!is_programme(other)) continue;
      const double apart =
                       static_cast<double>(std::max(other.first_frame - part.first_frame - part.frames,
                                                    part.first_frame - other.first_frame - other.frames)) /
                       rate,
                   seconds = static_cast<double>(part.frames) / rate;
      if ((apart < kNearS && seconds < kShortS) || (apart < kBesideS && seconds < kNotLongS)) {
        part.certain = false;
        part.reason = "short, and beside programme: it may be a note of it";
      }
    }
  }
}

// Noise that stops for a moment and goes on as it was: what a dropout leaves. Pauses that come at equal
// distances were made.
void doubt_pauses_in_noise(std::vector<RecognisedPart>& parts, double rate) {
  std::vector<RecognisedPart*> row;
  const auto end_of = [](const RecognisedPart& part) { return part.first_frame + part.frames; };
  const auto doubt = [&] {
    bool regular = row.size() > 2;
    for (std::size_t i = 2; i < row.size(); ++i) {
      const auto one = static_cast<double>(row[i]->first_frame - row[i - 1]->first_frame),
                 before = static_cast<double>(row[i - 1]->first_frame - row[i - 2]->first_frame);
      regular = regular && std::abs(one - before) < kRegular * before;
    }
    for (RecognisedPart* part : row) {
      if (row.size() < 2 || regular) continue;
      part->certain = false;
      part->reason = "its pauses may be dropouts: the same noise goes on behind them";
    }
    row.clear();
  };
  for (RecognisedPart& part : parts) {
    if (part.kind == "noise" && !row.empty() &&
        std::abs(part.level_dbfs - row.back()->level_dbfs) < kSameNoiseDb &&
        static_cast<double>(part.first_frame - end_of(*row.back())) < kLongestDropoutS * rate) {
      row.push_back(&part);
      continue;
    }
    doubt();
    if (part.kind == "noise") row = {&part};
  }
  doubt();
}

// How far the signal strays from what was written of a part, over the part.
double stray_db_of(KeptChannel& signal, double rate, const RecognisedPart& part) {
  Recipe recipe{.sample_rate_hz = rate, .bits = 32, .marks = false};
  recipe.parts.push_back({.kind = *part.written});
  Stimulus rendered(recipe);
  double left = 0, all = 0;
  std::vector<double> model(65536);
  for (std::int64_t at = 0; at < part.frames; at += static_cast<std::int64_t>(model.size())) {
    const auto count = std::min<std::int64_t>(static_cast<std::int64_t>(model.size()), part.frames - at);
    const auto x = read_channel(signal, 0, part.first_frame + at, count);
    rendered.render(at, 0, std::span(model).first(static_cast<std::size_t>(count)));
    for (std::size_t n = 0; n < x.size(); ++n) {
      all += x[n] * x[n];
      left += (x[n] - model[n]) * (x[n] - model[n]);
    }
  }
  return db_from_ratio(std::max(1e-10, std::sqrt(left / std::max(all, 1e-300))));
}

void add_strays(KeptChannel& signal, Recognition& found) {
  if (found.sample_rate_hz < kLowestSampleRateHz) return;  // nothing is rendered there
  for_each_part(found.parts.size(), [&](std::size_t i) {
    RecognisedPart& part = found.parts[i];
    if (part.written && !part.stray_db && part.kind != "noise")
      part.stray_db = stray_db_of(signal, found.sample_rate_hz, part);
  });
}

// Half of the pauses before and behind an island: its fades may reach there.
std::pair<std::int64_t, std::int64_t> room_of(const Islands& islands, std::size_t i, std::int64_t frames) {
  const auto& all = islands.islands;
  return {i == 0 ? all[i].first : (all[i].first - all[i - 1].end) / 2,
          i + 1 == all.size() ? frames - all[i].end : (all[i + 1].first - all[i].end) / 2};
}

// How much of each island there is time for: ten minutes in all.
std::vector<std::int64_t> frames_looked_at(const Islands& islands, double rate) {
  std::vector<std::int64_t> most;
  double looked_s = 0;
  for (const Island& island : islands.islands) {
    most.push_back(static_cast<std::int64_t>(std::min(kMostS, std::max(0.0, kMostInAllS - looked_s)) * rate));
    looked_s += static_cast<double>(std::min(island.frames(), most.back())) / rate;
  }
  return most;
}

// What an island is made of, by its first `most` frames.
std::vector<RecognisedPart> parts_of_island(KeptChannel& signal, const Recognition& found,
                                            const Islands& islands, std::size_t i, std::int64_t most) {
  const Island& island = islands.islands[i];
  const auto x = read_channel(signal, 0, island.first, std::min(island.frames(), most));
  const auto [before, after] = room_of(islands, i, found.frames);
  auto parts = island_parts(x, island.first, found.sample_rate_hz, islands.idle_rms, before, after);
  if (island.frames() <= most) return parts;
  for (RecognisedPart& part : parts) {
    part.certain = false;
    part.reason = fmt::format("it is longer than {:g} s, of which the first were looked at", kMostS);
  }
  if (parts.size() == 1) parts.front().frames = island.frames();
  return parts;
}

int first_sounding(AudioSource& signal, Islands& islands) {
  for (int channel = 0; channel < signal.channel_count(); ++channel) {
    islands = find_islands(signal, channel);
    if (!islands.islands.empty()) return channel;
  }
  throw Error(ErrorCode::bad_input, "it is silent: there is nothing to recognise");
}

// Channels that sound and do not hold the same signal, whatever its level and polarity.
std::vector<int> unlike(AudioSource& source, int channel) {
  constexpr double kAlike = 0.9;        // correlation: distortion on one side leaves more
  constexpr double kOfNothing = 1e-10;  // of the power
  const auto count = static_cast<std::size_t>(source.channel_count());
  if (count == 1) return {};
  std::vector<double> own(count, 0.0), both(count, 0.0), scratch(count * 16384);
  for_each_block(source, 0, source.frames(), scratch,
                 [&](std::int64_t, std::span<const double> planar, std::int64_t frames) {
                   const auto run = [&](std::size_t c) {
                     return planar.subspan(c * static_cast<std::size_t>(frames),
                                           static_cast<std::size_t>(frames));
                   };
                   const auto x = run(static_cast<std::size_t>(channel));
                   for (std::size_t c = 0; c < count; ++c) {
                     const auto y = run(c);
                     own[c] += energy(y);
                     both[c] += sum_of_products(x, y);
                   }
                 });
  const double reference = own[static_cast<std::size_t>(channel)];
  std::vector<int> others;
  for (std::size_t c = 0; c < count; ++c)
    if (own[c] > kOfNothing * reference && std::abs(both[c]) < kAlike * std::sqrt(own[c] * reference))
      others.push_back(static_cast<int>(c));
  return others;
}

}  // namespace

Recognition recognise(AudioSource& signal, std::optional<int> channel) {
  if (signal.frames() == 0) throw Error(ErrorCode::bad_input, "there is no audio in it: 0 frames");
  if (channel && (*channel < 0 || *channel >= signal.channel_count()))
    throw Error(ErrorCode::bad_argument,
                fmt::format("there is no channel {}, it has {}", *channel + 1, signal.channel_count()));
  Recognition found{.sample_rate_hz = signal.sample_rate_hz(), .frames = signal.frames()};
  Islands islands;
  if (channel) {
    islands = find_islands(signal, *channel);
    found.channel = *channel;
    if (islands.islands.empty())
      throw Error(ErrorCode::bad_input,
                  fmt::format("channel {} is silent: there is nothing to recognise", *channel + 1));
  } else {
    found.channel = first_sounding(signal, islands);
  }
  if (islands.idle_rms > 0) found.idle_dbfs = db_from_ratio(islands.idle_rms);
  KeptChannel kept(signal, found.channel);
  std::vector<std::vector<RecognisedPart>> parts(islands.islands.size());
  const std::vector<std::int64_t> most = frames_looked_at(islands, found.sample_rate_hz);
  for_each_part(parts.size(), [&](std::size_t i) {
    if (most[i] > 0) parts[i] = parts_of_island(kept, found, islands, i, most[i]);
  });
  for (std::size_t i = 0; i < parts.size(); ++i) {
    const Island& island = islands.islands[i];
    for (RecognisedPart& part : parts[i]) found.parts.push_back(std::move(part));
    if (most[i] > 0) continue;
    if (found.parts.empty() || found.parts.back().reason != kNotLookedAt)
      found.parts.push_back(
          {.kind = "programme", .first_frame = island.first, .level_dbfs = -200, .reason = kNotLookedAt});
    found.parts.back().frames = island.end - found.parts.back().first_frame;
  }
  join_programme(found.parts, found.sample_rate_hz);
  doubt_neighbours(found.parts, found.sample_rate_hz);
  doubt_pauses_in_noise(found.parts, found.sample_rate_hz);
  found.parts = group_tones(std::move(found.parts), found.sample_rate_hz);
  add_strays(kept, found);
  found.other_channels = unlike(signal, found.channel);
  return found;
}

bool intake_detail::begins_certainly(AudioSource& signal) {
  Islands islands;
  const int channel = first_sounding(signal, islands);
  const double rate = signal.sample_rate_hz();
  const Island& island = islands.islands.front();
  const auto x = read_channel(signal, channel, island.first,
                              std::min(island.frames(), static_cast<std::int64_t>(kQuickLookS * rate)));
  const auto [before, after] = room_of(islands, 0, signal.frames());
  const auto parts = island_parts(x, island.first, rate, islands.idle_rms, before, after);
  return std::any_of(parts.begin(), parts.end(), [](const RecognisedPart& part) { return part.certain; });
}

const RecognisedPart* only_sweep(const Recognition& recognition) {
  const RecognisedPart* found = nullptr;
  for (const RecognisedPart& part : recognition.parts) {
    const auto* sweep = part.certain && part.written ? std::get_if<Sweep>(&*part.written) : nullptr;
    if (sweep == nullptr || sweep->return_trip) continue;
    if (found != nullptr) return nullptr;
    found = &part;
  }
  return found;
}

}  // namespace wavicon
