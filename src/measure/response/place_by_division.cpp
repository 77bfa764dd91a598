// SPDX-License-Identifier: MIT
#include "measure/response/place_by_division.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <complex>
#include <vector>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/transform.hpp"

namespace wavicon::measure_detail {
namespace {

constexpr double kLeastCrestDb = 38;  // an answer has 50, under noise as loud as it 49; other things up to 34
constexpr double kNothing = 1e-12;    // of the crest
constexpr double kLongestS = 300;     // of B: memory grows by 24 bytes a frame
constexpr double kLittle = 1e-3;      // ε over the mean power of the sweep's spectrum: what it lacks is left
constexpr double kAroundS = 0.02;     // of the crest
}  // namespace

bool divide_softly(std::span<const std::complex<double>> by, std::span<std::complex<double>> bins) {
  double power = 0;
  for (const auto& bin : by) power += std::norm(bin) / static_cast<double>(by.size());
  if (!(power > 0)) return false;
  for (std::size_t k = 0; k < by.size(); ++k) {
    // Without the checks for infinities that the operator makes.
    const double a = by[k].real(), b = by[k].imag(), c = bins[k].real(), d = bins[k].imag(),
                 weight = 1 / (a * a + b * b + kLittle * power);
    bins[k] = {(a * c + b * d) * weight, (a * d - b * c) * weight};
  }
  return true;
}

void require_answer(double over_rest_db) {
  if (over_rest_db >= kLeastCrestDb) return;
  throw Error(
      ErrorCode::bad_input,
      fmt::format("it holds no answer to the sweep of A: divided by it, the highest place is {:.1f} dB over "
                  "the rest, where {:g} are needed",
                  over_rest_db, kLeastCrestDb));
}

std::optional<Crest> crest_of(std::span<const double> response, double rate) {
  const auto size = static_cast<std::int64_t>(response.size()),
             around_it = static_cast<std::int64_t>(kAroundS * rate);
  if (2 * around_it >= size) return std::nullopt;
  Crest crest;
  double all = 0, top = 0;
  for (std::int64_t n = 0; n < size; ++n) {
    const double v = response[static_cast<std::size_t>(n)];
    all += v * v;
    if (v * v > top) {
      top = v * v;
      crest.at = n;
    }
  }
  if (!(top > 0)) return std::nullopt;
  double around = 0;
  for (std::int64_t n = crest.at - around_it; n < crest.at + around_it; ++n) {
    const double v = response[static_cast<std::size_t>((n + size) % size)];
    around += v * v;
  }
  // Of next to nothing the difference is a rounding error.
  const double rest = std::max(all - around, kNothing * top) / static_cast<double>(size - 2 * around_it);
  crest.over_rest_db = db_from_power_ratio(top / rest);
  return crest;
}

std::optional<DividedPlace> place_by_division(AudioSource& a, int channel_a, const FrameRange& range,
                                              AudioSource& b, int channel_b) {
  const double rate = a.sample_rate_hz();
  if (static_cast<double>(b.frames()) > kLongestS * rate) return std::nullopt;
  const auto x = read_channel(a, channel_a, range.first, range.frames()),
             y = read_channel(b, channel_b, 0, b.frames());
  RealTransform transform(fast_transform_length(x.size() + y.size()));
  const auto p = transform.bins_of(x);
  auto quotient = transform.bins_of(y);
  if (!divide_softly(p, quotient)) return std::nullopt;
  const auto response = transform.invert(quotient);
  const auto found = crest_of(response, rate);
  if (!found) return std::nullopt;
  // Places wrap: the sweep may begin before B does.
  std::int64_t crest = found->at;
  if (crest > static_cast<std::int64_t>(y.size())) crest -= static_cast<std::int64_t>(response.size());
  return DividedPlace{crest - range.first, found->over_rest_db};
}

}  // namespace wavicon::measure_detail
