// SPDX-License-Identifier: MIT
#pragma once
// Where samples go that a measurement makes on the way: a file, a buffer, nowhere.

#include <functional>
#include <memory>
#include <span>
#include <string>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// Takes audio block by block. For one thread at a time.
class WAVICON_EXPORT AudioSink {
 public:
  AudioSink() = default;
  AudioSink(const AudioSink&) = delete;
  AudioSink& operator=(const AudioSink&) = delete;
  virtual ~AudioSink() = default;

  /// Appends frames. @param planar  one run for each channel, all of the same length; read during the call.
  virtual void write(std::span<const double> planar) = 0;
  /// Nothing may be written after it. Without it nothing is kept.
  virtual void finish() = 0;
};

struct SinkShape {
  double sample_rate_hz = 48000;
  int channel_count = 1;
  std::string description;
};

/// Opens a sink for one item of a named output, "residual" or "takes"; null when that output is not wanted.
using OpenSink = std::function<std::unique_ptr<AudioSink>(const std::string& output, const std::string& item,
                                                          const SinkShape&)>;

}  // namespace wavicon
