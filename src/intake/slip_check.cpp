// SPDX-License-Identifier: MIT
#include "slip_check.hpp"

#include <algorithm>
#include <cmath>
#include <optional>
#include <utility>

#include "samples.hpp"

namespace wavicon::intake_detail {
namespace {

constexpr double kBest = 0.2;          // of the line's segments: by these gain and what is left are known
constexpr double kTimesUsual = 5;      // of what the best leave, and …
constexpr double kMuchOff = 0.1;       // … of a segment's power beside that: it is not there
constexpr double kSilentThere = 0.05;  // about the whole power that is missing: a dropout
constexpr double kPiece = 0.03;        // of the reference's power: a piece that is judged
constexpr double kMostOfPiece = 0.3;   // of its power, beside slips
constexpr double kBetter = 0.5;        // of what is off on the line: it fits better elsewhere
constexpr std::size_t kEnd = 2;        // segments at an end of a piece

// A segment of the reference on the line of its piece.
struct Placed {
  Segment segment;
  Line line;
  std::size_t piece = 0;
  double off = 0, power = 0;
};

class Check {
 public:
  Check(const AlignedPair& pair, const Alignment& found) : pair_(pair), found_(found) {}

  bool run(const std::vector<Segment>& line_segments, const Line& line) {
    if (!learn_from_the_best(line_segments, line)) return true;
    place_all();
    return each_piece_is_there() && nothing_fits_better_to_an_end();
  }

 private:
  // The line itself may hold segments that are elsewhere. @return whether they leave so little that more says
  // something.
  bool learn_from_the_best(const std::vector<Segment>& line_segments, const Line& line) {
    std::vector<std::pair<double, Segment>> best;
    const std::vector<double> alike = pair_.timer.alike(line_segments, line);
    for (std::size_t i = 0; i < alike.size(); ++i) best.emplace_back(-alike[i], line_segments[i]);
    if (best.empty()) return false;
    std::sort(best.begin(), best.end(), [](const auto& p, const auto& q) { return p.first < q.first; });
    best.resize(static_cast<std::size_t>(std::ceil(kBest * static_cast<double>(best.size()))));
    std::vector<Segment> sure;
    for (const auto& [turned, s] : best) sure.push_back(s);
    gain_ = pair_.timer.gain(sure, found_);
    double usual = 0;
    for (const Segment& s : sure) usual += pair_.timer.off(s, line, gain_).value_or(0);
    most_ = kTimesUsual * usual / static_cast<double>(sure.size()) + kMuchOff;
    return most_ < 1;
  }

  // Every segment that the capture should hold, but for those across a slip.
  void place_all() {
    const std::vector<double> delays = delays_of_pieces(found_);
    const auto frames = static_cast<double>(pair_.capture.frames()), own = static_cast<double>(pair_.length);
    for (const std::int64_t first : pair_.places) {
      Placed one{.segment = {.first = first}};
      bool across = false;
      for (const Slip& slip : found_.slips) {
        one.piece += slip.before_frame <= first;
        across = across || (first < slip.before_frame && first + pair_.length > slip.after_frame);
      }
      one.line = {delays[one.piece], found_.frames_per_frame - 1};
      const double begin = static_cast<double>(first) + one.line.at(static_cast<double>(first));
      if (across || begin < 0 || begin + own > frames) continue;
      const auto off = pair_.timer.off(one.segment, one.line, gain_);
      if (!off) continue;
      one.off = *off;
      one.power =
          energy(read_channel(pair_.reference, pair_.channels.reference_channel, first, pair_.length));
      placed_.push_back(one);
    }
  }

  [[nodiscard]] bool each_piece_is_there() const {
    if (found_.slips.empty()) return true;
    double all = 0;
    for (const Placed& one : placed_) all += one.power;
    for (std::size_t piece = 0; piece <= found_.slips.size(); ++piece) {
      double off = 0, power = 0;
      for (const Placed& one : placed_) {
        if (one.piece != piece) continue;
        off += one.power * one.off;
        power += one.power;
      }
      // A bar off, a loop leaves more than noise does, and no two bars alike.
      if (power > kPiece * all && off > std::min(most_, kMostOfPiece) * power) return false;
    }
    return true;
  }

  bool nothing_fits_better_to_an_end() {
    for (const Placed& one : placed_) {
      if (one.off <= most_ || std::abs(one.off - 1) < kSilentThere) continue;
      const auto other = elsewhere(one);
      if (other && (fits_better(one.piece, *other, true) || fits_better(one.piece, *other, false)))
        return false;
    }
    return true;
  }

  // The line on which a segment that is not where it should be is, at the same level.
  [[nodiscard]] std::optional<Line> elsewhere(const Placed& one) {
    const auto first = static_cast<double>(one.segment.first);
    const auto found = pair_.search.search(one.segment.first, one.line.at(first), kFarthestSlip);
    if (!found || std::abs(found->delay - one.line.at(first)) < 1) return std::nullopt;
    std::vector<Segment> there(1, *found);
    pair_.timer.refine(there, one.line.slope);
    const Line line{there[0].delay - one.line.slope * first, one.line.slope};
    const auto off = pair_.timer.off(one.segment, line, gain_);
    return off && *off < most_ ? std::optional(line) : std::nullopt;
  }

  // Whether the first or the last segments of a piece fit better on another line.
  [[nodiscard]] bool fits_better(std::size_t piece, const Line& line, bool at_end) {
    std::size_t looked = 0;
    for (std::size_t i = 0; i < placed_.size() && looked < kEnd; ++i) {
      const Placed& one = placed_[at_end ? placed_.size() - 1 - i : i];
      if (one.piece != piece) continue;
      ++looked;
      const auto off = pair_.timer.off(one.segment, line, gain_);
      if (!off || *off > kBetter * one.off) return false;
    }
    return looked > 0;
  }

  const AlignedPair& pair_;
  const Alignment& found_;
  double gain_ = 1;
  double most_ = 1;
  std::vector<Placed> placed_;
};

}  // namespace

void merge_unseen_pieces(std::vector<Slip>& slips, const std::vector<std::int64_t>& places,
                         std::int64_t length) {
  for (std::size_t i = 0; i + 1 < slips.size();) {
    const bool seen = std::any_of(places.begin(), places.end(), [&](std::int64_t first) {
      return first >= slips[i].before_frame && first + length <= slips[i + 1].after_frame;
    });
    if (seen) {
      ++i;
      continue;
    }
    slips[i].before_frame = slips[i + 1].before_frame;
    slips[i].frames += slips[i + 1].frames;
    slips.erase(slips.begin() + static_cast<std::ptrdiff_t>(i) + 1);
    if (slips[i].frames == 0) slips.erase(slips.begin() + static_cast<std::ptrdiff_t>(i));
  }
}

bool slips_are_told(const AlignedPair& pair, const std::vector<Segment>& line_segments, const Line& line,
                    const Alignment& found) {
  return Check(pair, found).run(line_segments, line);
}

}  // namespace wavicon::intake_detail
