// SPDX-License-Identifier: MIT
#include "slip_pieces.hpp"

#include <algorithm>
#include <cmath>

namespace wavicon::intake_detail {
namespace {

constexpr double kSlackS = 6e-5;  // by which neighbouring segments may differ

}  // namespace

std::vector<Slip> slips_between(const std::vector<Segment>& segments, double sample_rate_hz,
                                const AlignOptions& options) {
  std::vector<Slip> slips;
  // At high rates a place is no surer in time than at low ones.
  const double slack = std::max(1.0, kSlackS * sample_rate_hz);
  const auto explained = [&](const Segment& from, const Segment& to) {
    return 1 +
           (options.drift ? options.most_drift_ppm * 1e-6 * static_cast<double>(to.first - from.first) : 0);
  };
  // Neighbours that agree form a piece; a segment alone is an accident, or holds the place itself.
  const Segment *piece_end = nullptr, *previous = nullptr;
  std::size_t agreed = 0;
  for (const Segment& s : segments) {
    const bool agrees = previous != nullptr && std::abs(s.delay - previous->delay) < explained(*previous, s);
    agreed = agrees ? agreed + 1 : 0;
    previous = &s;
    if (agreed == 0) continue;
    if (piece_end != nullptr && agreed == 1 &&
        std::abs(s.delay - piece_end->delay) > explained(*piece_end, s) + slack)
      slips.push_back({piece_end->first, s.first, 0});
    piece_end = &s;
  }
  return slips;
}

std::vector<Slip> small_slips_between(const std::vector<Segment>& segments, std::int64_t length) {
  std::vector<Slip> slips;
  for (const std::size_t at : steps_of(segments, length))
    slips.push_back({segments[at - 1].first, segments[at].first, 0});
  return slips;
}

std::vector<Segment> longest_piece(const std::vector<Segment>& segments, const std::vector<Slip>& slips) {
  if (slips.empty()) return segments;
  std::vector<std::vector<Segment>> pieces(slips.size() + 1);
  for (const Segment& s : segments) {
    const auto after = std::find_if(slips.begin(), slips.end(),
                                    [&](const Slip& slip) { return s.first <= slip.after_frame; });
    const auto piece = static_cast<std::size_t>(after - slips.begin());
    // What lies between two pieces belongs to neither.
    const bool between = piece > 0 && s.first < slips[piece - 1].before_frame;
    if (!between) pieces[piece].push_back(s);
  }
  const auto longest = std::max_element(pieces.begin(), pieces.end(),
                                        [](const auto& p, const auto& q) { return p.size() < q.size(); });
  return longest->empty() ? segments : *longest;
}

void keep_to_piece(Alignment& found, const std::vector<Segment>& segments, std::int64_t length) {
  const std::int64_t middle = (segments.front().first + segments.back().first + length) / 2;
  for (const Slip& slip : found.slips)
    if ((slip.after_frame + slip.before_frame) / 2 < middle)
      found.piece_first_frame = std::max(found.piece_first_frame, slip.before_frame);
    else
      found.piece_end_frame = std::min(found.piece_end_frame, slip.after_frame);
}

}  // namespace wavicon::intake_detail
