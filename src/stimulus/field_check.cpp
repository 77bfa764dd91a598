// SPDX-License-Identifier: MIT
#include "field_check.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <utility>
#include <vector>

#include "renderers.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/limits.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {
namespace stimulus_detail {
namespace {

// Visits fields and keeps the first problem.
class Checker {
 public:
  explicit Checker(double sample_rate_hz) : rate_(sample_rate_hz) {}
  std::string problem;

  void operator()(const char* key, double& value, const Range& range, const char*) {
    note(key, range_problem(value, range, rate_));
  }
  void operator()(const char* key, std::optional<double>& value, const Range& range, const char*) {
    if (value) note(key, range_problem(*value, range, rate_));
  }
  void operator()(const char* key, int& value, const Range& range, const char*) {
    note(key, range_problem(value, range, rate_));
  }
  void operator()(const char* key, std::int64_t& value, const Range& range, const char*) {
    note(key, range_problem(static_cast<double>(value), range, rate_));
  }
  void operator()(const char* key, std::vector<double>& values, const Range& range, const char*) {
    note(key, count_problem(values.size(), kMostListed));
    for (const double value : values) note(key, range_problem(value, range, rate_));
  }
  void operator()(const char* key, std::vector<int>& values, const Range& range, const char*) {
    note(key, count_problem(values.size(), kMostListed));
    for (const int value : values) note(key, range_problem(value, range, rate_));
  }
  void operator()(const char* key, std::string& word, const std::vector<std::string>& allowed, const char*) {
    note(key, word_problem(word, allowed));
  }
  void operator()(const char* key, std::vector<std::string>& values, const std::vector<std::string>& allowed,
                  const char*) {
    for (const std::string& word : values) note(key, word_problem(word, allowed));
  }
  void operator()(const char* key, std::string& name, const char*) {
    if (!name.empty()) note(key, name_problem(name));
  }
  void operator()(const char*, bool&, const char*) {}
  void operator()(const char* key, std::vector<Oscillator>& oscillators, const char*) {
    if (oscillators.empty()) note(key, "is empty: at least one is needed");
    note(key, count_problem(oscillators.size(), kMostOscillators));
    for (Oscillator& oscillator : oscillators) fields(oscillator, *this);
  }
  void operator()(const char*, std::variant<Tone, Sweep, Noise>& carrier, const char*) {
    std::visit([&](auto& kind) { fields(kind, *this); }, carrier);
  }

 private:
  void note(const char* key, const std::string& what) {
    if (problem.empty() && !what.empty()) problem = fmt::format("{}: {}", key, what);
  }
  double rate_;
};

std::string fades_problem(double in_s, double out_s, double seconds) {
  if (in_s + out_s <= seconds) return "";
  return fmt::format("fade_in_s and fade_out_s: {} s and {} s do not fit into {} s", in_s, out_s, seconds);
}

std::string edge_problem(double edge_s, double on_s, const char* on) {
  return 2 * edge_s <= on_s
             ? ""
             : fmt::format("edge_s: two edges of {} s do not fit into {} of {} s", edge_s, on, on_s);
}

struct AgreementProblem {
  double rate;
  std::string operator()(const Tone& p) const { return fades_problem(p.fade_in_s, p.fade_out_s, p.seconds); }
  std::string operator()(const Multitone& p) const {
    return fades_problem(p.fade_in_s, p.fade_out_s, p.seconds);
  }
  std::string operator()(const TwoTone& asked) const {
    const TwoTone p = resolved(asked);
    if (p.upper_hz >= rate / 2)
      return fmt::format("pair: its {} Hz is not below half the sample rate ({} Hz)", p.upper_hz, rate / 2);
    if (!(p.lower_hz < p.upper_hz))
      return fmt::format("lower_hz: {} is not below upper_hz ({})", p.lower_hz, p.upper_hz);
    return fades_problem(p.fade_in_s, p.fade_out_s, p.seconds);
  }
  std::string operator()(const Sweep& p) const {
    if (p.from_hz == p.to_hz) return "from_hz and to_hz are the same; use a tone";
    if (p.synchronised && p.law != "log") return "synchronised: only for law = \"log\"";
    return fades_problem(p.fade_in_s, p.fade_out_s, p.seconds * (p.return_trip ? 2 : 1));
  }
  std::string operator()(const Noise& p) const {
    if (p.octave_hz && p.third_octave_hz) return "octave_hz and third_octave_hz: only one of them";
    if ((p.octave_hz || p.third_octave_hz) && (p.from_hz > 0 || p.to_hz))
      return "a band by its centre and from_hz or to_hz: only one of them";
    const double upper = p.to_hz.value_or(rate / 2);
    if (!(p.from_hz < upper))
      return fmt::format("from_hz: {} is not below the band's upper end ({})", p.from_hz, upper);
    const double centre = p.octave_hz.value_or(p.third_octave_hz.value_or(0));
    if (p.to_hz.value_or(0) > rate / 2 || p.from_hz >= rate / 2 || centre >= rate / 2)
      return fmt::format("the band is not below half the sample rate ({} Hz)", rate / 2);
    const bool by_centre = p.octave_hz || p.third_octave_hz;
    const double lowest = p.colour == "pink" && p.from_hz == 0 ? kPinkFromHz : p.from_hz;
    if (!by_centre && upper <= lowest)
      return fmt::format("to_hz: pink noise starts at {:g} Hz unless from_hz is given; {:g} is below", lowest,
                         upper);
    if (const std::int64_t period = noise_period_frames(p, rate); period > 0) {
      const double bin = rate / static_cast<double>(period);
      if ((by_centre ? centre : upper) < 2 * bin || (!by_centre && upper - lowest < 2 * bin))
        return fmt::format("period_s: a period of {} frames has lines {:.3g} Hz apart, too few for that band",
                           period, bin);
    }
    return fades_problem(p.fade_in_s, p.fade_out_s, p.seconds);
  }
  static std::string steps_problem(const Staircase& p) {
    const std::size_t count = p.frequencies_hz.size() * p.levels_dbfs.size();
    for (const auto& [key, list] :
         {std::pair{"starts_s", &p.starts_s}, {"lengths_s", &p.lengths_s}, {"phases_deg", &p.phases_deg}})
      if (!list->empty() && list->size() != count)
        return fmt::format("{}: {} values for {} steps", key, list->size(), count);
    std::vector<std::pair<double, double>> places;
    for (std::size_t i = 0; i < p.starts_s.size(); ++i)
      places.emplace_back(p.starts_s[i], p.lengths_s.empty() ? p.step_s : p.lengths_s[i]);
    std::sort(places.begin(), places.end());
    for (std::size_t i = 1; i < places.size(); ++i)
      // A frame at most: seconds are rounded to frames.
      if (places[i - 1].first + places[i - 1].second > places[i].first + 0.001)
        return fmt::format("starts_s: the step at {:g} s begins before the one at {:g} s has ended",
                           places[i].first, places[i - 1].first);
    for (const double length : p.lengths_s)
      if (const auto problem = edge_problem(p.edge_s, length, "lengths_s"); !problem.empty()) return problem;
    return edge_problem(p.edge_s, p.step_s, "step_s");
  }
  std::string operator()(const Burst& p) const { return edge_problem(p.edge_s, p.on_s, "on_s"); }
  std::string operator()(const Staircase& p) const {
    if (p.frequencies_hz.empty() || p.levels_dbfs.empty())
      return "frequencies_hz and levels_dbfs need at least one value each";
    if (p.frequencies_hz.size() * p.levels_dbfs.size() > kMostListed)
      return fmt::format("frequencies_hz and levels_dbfs make {} steps; {} are the most",
                         p.frequencies_hz.size() * p.levels_dbfs.size(), kMostListed);
    if (!p.trims_db.empty() && p.trims_db.size() != p.frequencies_hz.size())
      return fmt::format("trims_db: {} values for {} frequencies", p.trims_db.size(),
                         p.frequencies_hz.size());
    return steps_problem(p);
  }
  std::string operator()(const LevelBlock&) const { return ""; }
  std::string operator()(const Impulse&) const { return ""; }
  std::string operator()(const Silence&) const { return ""; }
  std::string operator()(const ChannelNumbers&) const { return ""; }
  std::string operator()(const Programme& p) const {
    return fades_problem(p.fade_in_s, p.fade_out_s, p.seconds);
  }
};

}  // namespace

std::string range_problem(double value, const Range& range, double sample_rate_hz) {
  if (range.limit == Range::Limit::below_half_rate)
    return value > range.low && value < sample_rate_hz / 2
               ? ""
               : fmt::format("{} Hz is not above {} and below half the sample rate ({} Hz)", value, range.low,
                             sample_rate_hz / 2);
  return value >= range.low && value <= range.high
             ? ""
             : fmt::format("{} is not within {} to {}", value, range.low, range.high);
}

std::string word_problem(const std::string& word, const std::vector<std::string>& allowed) {
  if (allowed.empty() || std::find(allowed.begin(), allowed.end(), word) != allowed.end()) return "";
  return fmt::format("'{}' is not known{}", word, name_hint(word, allowed));
}

std::string count_problem(std::size_t count, std::size_t most) {
  return count <= most ? "" : fmt::format("has {} values; {} are the most", count, most);
}

std::string name_problem(const std::string& name) {
  const std::string problem = file_name_problem(name);
  return problem.empty() ? "" : fmt::format("'{}' {}", printable(name), problem);
}

std::string part_problem(const RecipePart& part, const Recipe& recipe) {
  Checker checker(recipe.sample_rate_hz);
  RecipePart copy = part;  // fields() gives writable access, which a check does not use
  part_fields(copy, checker);
  std::visit([&](auto& kind) { fields(kind, checker); }, copy.kind);
  if (!checker.problem.empty()) return checker.problem;
  for (const int channel : part.channels)
    if (channel > recipe.channel_count)
      return fmt::format("channels: there is no channel {}, the recipe has {}", channel,
                         recipe.channel_count);
  return std::visit(AgreementProblem{recipe.sample_rate_hz}, part.kind);
}

std::string recipe_problem(const Recipe& recipe) {
  Checker checker(recipe.sample_rate_hz);
  Recipe head = recipe;
  head.parts.clear();
  fields(head, checker);
  if (!checker.problem.empty()) return checker.problem;
  if (recipe.bits != 16 && recipe.bits != 24 && recipe.bits != 32)
    return fmt::format("bits: {} is not 16, 24 or 32 (float)", recipe.bits);
  if (recipe.sample_rate_hz != std::floor(recipe.sample_rate_hz)) return "sample_rate_hz: is no whole number";
  if (recipe.name.empty()) return "name: is empty; files are called by it";
  if (const auto problem = count_problem(recipe.parts.size(), kMostParts); !problem.empty())
    return "part: " + problem;
  if (recipe.parts.empty()) return "there is no part; a recipe needs at least one [[part]]";
  return "";
}

}  // namespace stimulus_detail

void require_valid(const Recipe& recipe) {
  auto fail = [](const std::string& what) { throw Error(ErrorCode::bad_argument, what); };
  if (const auto problem = stimulus_detail::recipe_problem(recipe); !problem.empty()) fail(problem);
  for (std::size_t i = 0; i < recipe.parts.size(); ++i) {
    const auto problem = stimulus_detail::part_problem(recipe.parts[i], recipe);
    const std::string which =
        recipe.parts.size() == 1 ? "" : fmt::format("part {} ({}): ", i + 1, kind_name(recipe.parts[i].kind));
    if (!problem.empty()) fail(which + problem);
  }
  const double seconds = stimulus_seconds(recipe);
  if (seconds > kLongestS)
    fail(fmt::format("the parts take {:.0f} s together; 24 h (86400 s) is the most", seconds));
}

}  // namespace wavicon
