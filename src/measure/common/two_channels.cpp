// SPDX-License-Identifier: MIT
#include "measure/common/two_channels.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "wavicon/audio/error.hpp"

namespace wavicon::measure_detail {
namespace {

int first_sounding(const JudgedCapture& capture) {
  for (int c = 0; c < capture.channel_count(); ++c)
    if (!is_silent(capture, c)) return c;
  return 0;
}

}  // namespace

bool is_silent(const JudgedCapture& capture, int channel) {
  const auto& channels = capture.health().channels;
  const auto c = static_cast<std::size_t>(channel);
  return c < channels.size() && channels[c].silent;
}

TwoChannels two_channels(const MeasureRequest& request, const JudgedCapture& b,
                         const std::vector<int>& named) {
  const bool one_file = !request.reference;
  if (!named.empty()) return {named[0] - 1, named[1] - 1};
  if (one_file) {
    if (request.channel)
      throw Error(ErrorCode::bad_argument, "of one file, two channels are compared: --channels 1,2");
    if (b.channel_count() != 2)
      throw Error(ErrorCode::bad_argument,
                  fmt::format("has {} channel{}; of one file, two channels are compared: --channels 1,2",
                              b.channel_count(), b.channel_count() == 1 ? "" : "s"));
    return {0, 1};
  }
  const JudgedCapture& a = *request.reference;
  if (request.channel) {
    const bool in_a = *request.channel < a.channel_count();
    return {in_a ? *request.channel : 0, *request.channel};
  }
  const int of_a = first_sounding(a);
  return {of_a, of_a < b.channel_count() && !is_silent(b, of_a) ? of_a : first_sounding(b)};
}

std::string channel_of_file(const JudgedCapture& capture, int channel) {
  return capture.channel_count() > 1 ? fmt::format("{}, channel {}", capture.info().file, channel + 1)
                                     : capture.info().file;
}

}  // namespace wavicon::measure_detail
