// SPDX-License-Identifier: MIT
#include "tone_groups.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "samples.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kSameHz = 2e-4;  // of the frequency
constexpr double kSameDb = 0.03;
constexpr double kSamePhase = 0.03;  // cycles
constexpr double kCreepsDb = 0.6;    // from one tone to the next
constexpr double kCreepsHz = 0.03;   // of the frequency
constexpr int kMostCreeping = 4;
constexpr std::int64_t kMeet = 2;      // frames between tones that follow at once
constexpr std::int64_t kRegular = 3;   // frames by which bursts may lie off
constexpr double kLongestPauseS = 6;   // within a row of steps
constexpr double kMeasurableS = 0.05;  // a step of a block
constexpr std::size_t kLeastBursts = 3;
constexpr int kMostTurns = 1;  // of the frequency, in a row of steps
constexpr std::size_t kMostSteps = 1000;

const Tone& tone_of(const RecognisedPart& part) { return std::get<Tone>(*part.written); }
bool same_hz(const RecognisedPart& p, const RecognisedPart& q) {
  return std::abs(tone_of(p).frequency_hz / tone_of(q).frequency_hz - 1) < kSameHz;
}
bool same_level(const RecognisedPart& p, const RecognisedPart& q) {
  return std::abs(p.level_dbfs - q.level_dbfs) < kSameDb;
}
std::int64_t end_of(const RecognisedPart& part) { return part.first_frame + part.frames; }

using Row = std::vector<const RecognisedPart*>;

// A part over all of a row, as certain as the least certain of it.
RecognisedPart over(const Row& row, const char* kind) {
  RecognisedPart part{.kind = kind,
                      .first_frame = row.front()->first_frame,
                      .frames = end_of(*row.back()) - row.front()->first_frame,
                      .level_dbfs = row.front()->level_dbfs,
                      .certain = true};
  for (const RecognisedPart* one : row) {
    part.level_dbfs = std::max(part.level_dbfs, one->level_dbfs);
    if (one->certain || !part.certain) continue;
    part.certain = false;
    part.reason = one->reason;
  }
  return part;
}

// The least that all steps have: an edge may not be longer than half a step.
double edge_of(const Row& row) {
  std::vector<double> edges;
  double most = 1e300;
  for (const RecognisedPart* one : row) {
    edges.push_back(tone_of(*one).fade_in_s);
    edges.push_back(tone_of(*one).fade_out_s);
    most = std::min(most, 0.5 * tone_of(*one).seconds);
  }
  return std::min(median_of(edges), most);
}

double hz_of(const Row& row) {
  double sum = 0, weight = 0;
  for (const RecognisedPart* one : row) {
    sum += tone_of(*one).frequency_hz * static_cast<double>(one->frames);
    weight += static_cast<double>(one->frames);
  }
  return sum / weight;
}

// One wave that goes on, of which only the level steps.
bool goes_on(const RecognisedPart& p, const RecognisedPart& q, double rate) {
  const double cycles = tone_of(p).phase_deg / 360 +
                        tone_of(p).frequency_hz * static_cast<double>(q.first_frame - p.first_frame) / rate;
  return std::abs(std::remainder(cycles - tone_of(q).phase_deg / 360, 1.0)) < kSamePhase;
}

RecognisedPart block(const Row& row, double rate) {
  RecognisedPart part = over(row, "block");
  part.written = LevelBlock{.frequency_hz = hz_of(row),
                            .low_dbfs = row[0]->level_dbfs,
                            .high_dbfs = row[1]->level_dbfs,
                            .low_s = static_cast<double>(row[0]->frames) / rate,
                            .high_s = static_cast<double>(row[2]->first_frame - row[1]->first_frame) / rate,
                            .after_s = static_cast<double>(row[2]->frames) / rate,
                            .phase_deg = tone_of(*row[0]).phase_deg,
                            .exact = true};
  return part;
}

bool are_bursts(const Row& row) {
  if (row.size() < kLeastBursts) return false;
  const std::int64_t period = row[1]->first_frame - row[0]->first_frame;
  for (std::size_t i = 1; i < row.size(); ++i)
    if (!same_level(*row[i], *row[0]) || std::abs(row[i]->frames - row[0]->frames) > kRegular ||
        std::abs(row[i]->first_frame - row[i - 1]->first_frame - period) > kRegular ||
        row[i]->first_frame - end_of(*row[i - 1]) <= kMeet)
      return false;
  return true;
}

RecognisedPart bursts(const Row& row, double rate) {
  RecognisedPart part = over(row, "burst");
  Tone carrier = tone_of(*row.front());
  carrier.frequency_hz = hz_of(row);
  carrier.fade_in_s = carrier.fade_out_s = 0;
  const double on_s = static_cast<double>(row.front()->frames) / rate,
               period_s = static_cast<double>(row.back()->first_frame - row.front()->first_frame) /
                          static_cast<double>(row.size() - 1) / rate;
  part.written = Burst{.carrier = carrier,
                       .on_s = on_s,
                       .gap = period_s / on_s - 1,
                       .count = static_cast<std::int64_t>(row.size()),
                       .edge_s = edge_of(row)};
  return part;
}

RecognisedPart steps(const Row& row, double rate) {
  RecognisedPart part = over(row, "staircase");
  Staircase staircase{.frequencies_hz = {}, .levels_dbfs = {}, .edge_s = edge_of(row)};
  bool one_hz = true;
  for (const RecognisedPart* one : row) one_hz = one_hz && same_hz(*one, *row.front());
  double shortest = 1e300;
  for (const RecognisedPart* one : row) {
    if (one_hz) {
      staircase.levels_dbfs.push_back(one->level_dbfs);
    } else {
      staircase.frequencies_hz.push_back(tone_of(*one).frequency_hz);
      staircase.trims_db.push_back(one->level_dbfs - part.level_dbfs);
    }
    staircase.starts_s.push_back(static_cast<double>(one->first_frame - part.first_frame) / rate);
    staircase.lengths_s.push_back(static_cast<double>(one->frames) / rate);
    staircase.phases_deg.push_back(tone_of(*one).phase_deg);
    shortest = std::min(shortest, staircase.lengths_s.back());
  }
  if (one_hz)
    staircase.frequencies_hz = {hz_of(row)};
  else
    staircase.levels_dbfs = {part.level_dbfs};
  staircase.step_s = shortest;
  part.written = staircase;
  return part;
}

// More than one turn of a row's frequency.
bool may_be_a_tune(const Row& row) {
  int turns = 0, way = 0, distinct = 1;
  for (std::size_t i = 1; i < row.size(); ++i) {
    if (same_hz(*row[i], *row[i - 1])) continue;
    ++distinct;
    const int now = tone_of(*row[i]).frequency_hz > tone_of(*row[i - 1]).frequency_hz ? 1 : -1;
    if (way != 0 && now != way) ++turns;
    way = now;
  }
  return distinct > 3 && turns > kMostTurns;
}

// Tones that meet and hardly differ: one level or frequency that moves, in pieces.
bool creeps(const Row& row) {
  int creeping = 0;
  for (std::size_t i = 1; i < row.size(); ++i)
    creeping += row[i]->first_frame - end_of(*row[i - 1]) <= kMeet &&
                std::abs(row[i]->level_dbfs - row[i - 1]->level_dbfs) < kCreepsDb &&
                std::abs(tone_of(*row[i]).frequency_hz / tone_of(*row[i - 1]).frequency_hz - 1) < kCreepsHz;
  return creeping > kMostCreeping;
}

// A wave that is cut off hard and goes on after a pause as if it had been played on: what a dropout leaves.
bool may_have_dropouts(const Row& row, double rate) {
  if (are_bursts(row)) return false;
  for (std::size_t i = 1; i < row.size(); ++i) {
    const RecognisedPart &p = *row[i - 1], &q = *row[i];
    if (q.first_frame - end_of(p) > kMeet && same_hz(p, q) && same_level(p, q) &&
        tone_of(p).fade_out_s == 0 && tone_of(q).fade_in_s == 0 && goes_on(p, q, rate))
      return true;
  }
  return false;
}

void add_row(const Row& row, double rate, std::vector<RecognisedPart>& out) {
  if (row.empty()) return;
  const bool moves = creeps(row), tune = may_be_a_tune(row), drops = may_have_dropouts(row, rate);
  const std::size_t before = out.size();
  bool each_once = true;
  for (std::size_t i = 0; i < row.size(); ++i)
    for (std::size_t k = i + 1; k < row.size(); ++k) each_once = each_once && !same_hz(*row[i], *row[k]);
  if (row.size() == 1) {
    out.push_back(*row.front());
  } else if (each_once) {
    out.push_back(steps(row, rate));
  } else {
    // One frequency after the other, wherever its steps lie.
    std::vector<Row> by_hz;
    for (const RecognisedPart* one : row) {
      const auto known = std::find_if(by_hz.begin(), by_hz.end(),
                                      [&](const Row& other) { return same_hz(*other.front(), *one); });
      if (known != by_hz.end())
        known->push_back(one);
      else
        by_hz.push_back({one});
    }
    for (const Row& one : by_hz)
      out.push_back(one.size() == 1 ? *one.front() : are_bursts(one) ? bursts(one, rate) : steps(one, rate));
  }
  if (!tune && !moves && !drops) return;
  for (std::size_t i = before; i < out.size(); ++i) {
    out[i].certain = false;
    out[i].reason = drops   ? "its pauses may be dropouts: the wave goes on behind them"
                    : moves ? "its level or frequency creeps"
                            : "its frequency goes up and down: it may be a tune";
  }
}

}  // namespace

std::vector<RecognisedPart> group_tones(std::vector<RecognisedPart> parts, double rate) {
  std::vector<RecognisedPart> out;
  Row row;
  const auto close = [&] {
    add_row(row, rate, out);
    row.clear();
  };
  for (std::size_t i = 0; i < parts.size(); ++i) {
    const RecognisedPart& part = parts[i];
    if (part.kind != "tone") {
      close();
      out.push_back(part);
      continue;
    }
    const auto follows = [&](std::size_t k) {
      return k < parts.size() && parts[k].kind == "tone" && same_hz(parts[k], parts[k - 1]) &&
             parts[k].first_frame - end_of(parts[k - 1]) <= kMeet && goes_on(parts[k - 1], parts[k], rate);
    };
    const auto long_enough = [&](std::size_t k) {
      return static_cast<double>(parts[k].frames) > kMeasurableS * rate;
    };
    if (follows(i + 1) && follows(i + 2) && !follows(i + 3) && same_level(parts[i], parts[i + 2]) &&
        parts[i + 1].level_dbfs > part.level_dbfs + kSameDb && long_enough(i) && long_enough(i + 1) &&
        long_enough(i + 2)) {
      close();
      out.push_back(block({&parts[i], &parts[i + 1], &parts[i + 2]}, rate));
      i += 2;
      continue;
    }
    if (!row.empty() &&
        (static_cast<double>(part.first_frame - end_of(*row.back())) > kLongestPauseS * rate ||
         row.size() >= kMostSteps || part.certain != row.back()->certain))
      close();
    row.push_back(&part);
  }
  close();
  std::stable_sort(out.begin(), out.end(), [](const RecognisedPart& p, const RecognisedPart& q) {
    return p.first_frame < q.first_frame;
  });
  return out;
}

}  // namespace wavicon::intake_detail
