// SPDX-License-Identifier: MIT
#include "wavicon/measure/rolling.hpp"

#include <fmt/format.h>

#include <atomic>
#include <cmath>
#include <optional>

#include "measure/by_name.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/audio/sample_ring.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon {
namespace {

constexpr double kShortest_s = 0.05, kLongest_s = 600;

bool is_against(const MeasurementDescriptor* descriptor) {
  return descriptor != nullptr && descriptor->input == MeasuredInput::against;
}

}  // namespace

struct Rolling::Impl {
  const MeasurementDescriptor* descriptor = nullptr;  // null: health
  std::unique_ptr<Measurement> measurement;
  RollingOptions options;
  double rate_hz = 0;
  int channels = 0;  // of a stream
  bool two = false;
  std::int64_t frames = 0;  // of a window
  std::unique_ptr<SampleRing> ring;
  std::vector<const float*> floats;  // of two streams, one behind the other
  std::vector<const double*> doubles;
  std::atomic<bool> wide{false};  // a double was pushed: decides floors, as the format of a file does

  [[nodiscard]] int ring_channels() const noexcept { return two ? 2 * channels : channels; }

  template <typename T>
  void push_two(std::vector<const T*>& both, const T* const* a, const T* const* b,
                std::int64_t count) noexcept {
    for (int c = 0; c < channels; ++c) {
      both[static_cast<std::size_t>(c)] = a[c];
      both[static_cast<std::size_t>(channels + c)] = b[c];
    }
    ring->write(both.data(), count);
  }

  // Both streams of the same time, or none.
  [[nodiscard]] std::vector<Audio> newest() const {
    // Overtaken while it is read: the next one.
    for (int attempt = 0; attempt < 8; ++attempt) {
      const std::int64_t first = ring->written() - frames;
      if (first < 0) return {};
      std::vector<Audio> windows;
      bool whole = true;
      for (int stream = 0; stream < (two ? 2 : 1); ++stream) {
        windows.emplace_back(rate_hz, channels, frames);
        for (int c = 0; c < channels; ++c)
          whole = whole && ring->read(stream * channels + c, first, windows.back().channel(c));
      }
      if (whole) return windows;
    }
    return {};
  }

  [[nodiscard]] JudgedCapture judged(Audio window) const {
    const SampleFormat format = wide ? SampleFormat::float64 : SampleFormat::float32;
    const CaptureInfo info{.file = "",
                           .format = name_of(format),
                           .sample_rate_hz = rate_hz,
                           .channels = channels,
                           .frames = window.frames()};
    // What is wrong is told and measured all the same: a stream cannot be sent back.
    return judge(std::make_shared<OwnedSource>(std::move(window)), info, format,
                 KnownStimulus{options.stimulus, std::nullopt},
                 {.despite_faults = true, .hold_faults = true});
  }
};

Rolling::Rolling(std::string_view measurement, const RollingOptions& options)
    : impl_(std::make_unique<Impl>()) {
  impl_->descriptor = find_measurement(measurements(), measurement);
  const bool fits = impl_->descriptor != nullptr && impl_->descriptor->input != MeasuredInput::recording;
  if (!fits && measurement != "health") {
    std::vector<std::string> names = {"health"};
    for (const MeasurementDescriptor& known : measurements())
      if (known.input != MeasuredInput::recording) names.push_back(known.name);
    throw Error(ErrorCode::bad_argument, fmt::format("there is no measurement '{}' of a stream{}",
                                                     measurement, name_hint(measurement, names)));
  }
  if (!(options.window_s >= kShortest_s && options.window_s <= kLongest_s))
    throw Error(ErrorCode::bad_argument, fmt::format("a window of {:g} s: {:g} to {:g} s are allowed",
                                                     options.window_s, kShortest_s, kLongest_s));
  if (impl_->descriptor != nullptr) impl_->measurement = impl_->descriptor->make();
  impl_->options = options;
  impl_->two = is_against(impl_->descriptor) ||
               (impl_->descriptor != nullptr && impl_->descriptor->input == MeasuredInput::pair);
}
Rolling::~Rolling() = default;
Rolling::Rolling(Rolling&&) noexcept = default;
Rolling& Rolling::operator=(Rolling&&) noexcept = default;

std::vector<OptionField> Rolling::fields() {
  return impl_->measurement == nullptr ? std::vector<OptionField>() : impl_->measurement->fields();
}

void Rolling::prepare(double sample_rate_hz, int channel_count) {
  if (!(sample_rate_hz > 0) || channel_count < 1)
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("a stream has a rate above 0 and at least one channel, not {:g} Hz and {} channels",
                    sample_rate_hz, channel_count));
  impl_->wide = false;
  impl_->rate_hz = sample_rate_hz;
  impl_->channels = channel_count;
  impl_->frames = std::max<std::int64_t>(1, std::llround(impl_->options.window_s * sample_rate_hz));
  impl_->ring = std::make_unique<SampleRing>(impl_->ring_channels(), impl_->frames);
  impl_->floats.assign(static_cast<std::size_t>(impl_->ring_channels()), nullptr);
  impl_->doubles.assign(static_cast<std::size_t>(impl_->ring_channels()), nullptr);
}

void Rolling::push(const float* const* planar, std::int64_t frames) noexcept {
  if (impl_->ring != nullptr && !impl_->two) impl_->ring->write(planar, frames);
}
void Rolling::push(const double* const* planar, std::int64_t frames) noexcept {
  impl_->wide.store(true, std::memory_order_relaxed);
  if (impl_->ring != nullptr && !impl_->two) impl_->ring->write(planar, frames);
}
void Rolling::push_interleaved(const float* samples, std::int64_t frames) noexcept {
  if (impl_->ring != nullptr && !impl_->two) impl_->ring->write_interleaved(samples, frames);
}
void Rolling::push_interleaved(const double* samples, std::int64_t frames) noexcept {
  impl_->wide.store(true, std::memory_order_relaxed);
  if (impl_->ring != nullptr && !impl_->two) impl_->ring->write_interleaved(samples, frames);
}
void Rolling::push(const float* const* a, const float* const* b, std::int64_t frames) noexcept {
  if (impl_->ring != nullptr && impl_->two) impl_->push_two(impl_->floats, a, b, frames);
}
void Rolling::push(const double* const* a, const double* const* b, std::int64_t frames) noexcept {
  impl_->wide.store(true, std::memory_order_relaxed);
  if (impl_->ring != nullptr && impl_->two) impl_->push_two(impl_->doubles, a, b, frames);
}

double Rolling::pushed_s() const noexcept {
  return impl_->ring == nullptr ? 0 : static_cast<double>(impl_->ring->written()) / impl_->rate_hz;
}

std::vector<Sheet> Rolling::sheets() {
  if (impl_->ring == nullptr) return {};
  auto windows = impl_->newest();
  if (windows.empty()) return {};
  if (impl_->descriptor == nullptr) {
    const JudgedCapture held = impl_->judged(std::move(windows.front()));
    return {health_sheet(held.health(), held.info())};
  }
  std::optional<JudgedCapture> a;
  if (impl_->two) a = impl_->judged(std::move(windows.front()));
  return measure_detail::measured_as_a_file(*impl_->descriptor, *impl_->measurement,
                                            impl_->judged(std::move(windows.back())), a,
                                            policy_of(*impl_->descriptor, true));
}

}  // namespace wavicon
