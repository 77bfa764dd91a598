// SPDX-License-Identifier: MIT
#pragma once
// Code of your own as something that a signal goes through: any callable over blocks, in memory, without
// files.

#include <concepts>
#include <cstdint>
#include <functional>
#include <memory>
#include <span>
#include <string>
#include <type_traits>
#include <utility>
#include <vector>

#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/export.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/path/unit.hpp"
#include "wavicon/stimulus/recipe.hpp"

namespace wavicon {

/// A callable in one of these shapes, where T is float or double:
///
///     void(T* const* channels, int channel_count, int frames)                            planar, in place
///     void(const T* const* in, T* const* out, int channel_count, int frames)             planar
///     void(std::span<T> interleaved, int channel_count)                                  interleaved, in
///     place T(T sample)                                                                        each sample
///     by itself
///
/// It is copied for each feed, so that what it holds itself begins anew; what it only points at is made ready
/// by prepared_by(). For one thread at a time.
class Processor {
 public:
  template <typename F>
  requires(!std::same_as<std::remove_cvref_t<F>, Processor>)
      Processor(F&& callable) {  // NOLINT: a callable is one
    using Callable = std::remove_cvref_t<F>;
    make_ = [callable = Callable(std::forward<F>(callable))] {
      return std::function<void(double* const*, int, int)>(Caller<Callable>{callable, {}, {}, {}});
    };
    float_ = !takes<Callable, double>();
    static_assert(takes<Callable, float>() || takes<Callable, double>(),
                  "a processor takes planar or interleaved blocks, or samples, of float or double");
  }

  /// For messages and names of files.
  Processor& named(std::string name) { return name_ = std::move(name), *this; }
  /// Delay that it states, as a plugin reports it.
  Processor& with_latency(std::int64_t frames) { return latency_ = frames, *this; }
  Processor& at_rate(double sample_rate_hz) { return rate_ = sample_rate_hz, *this; }
  Processor& in_blocks(int frames) { return block_ = frames, *this; }
  Processor& of_channels(int count) { return channels_ = count, *this; }
  /// Called before each feed, with rate and the longest block.
  Processor& prepared_by(std::function<void(double, int)> prepare) {
    return prepare_ = std::move(prepare), *this;
  }

  [[nodiscard]] const std::string& name() const noexcept { return name_; }
  [[nodiscard]] std::int64_t latency() const noexcept { return latency_; }
  [[nodiscard]] double sample_rate_hz() const noexcept { return rate_; }
  [[nodiscard]] int block_frames() const noexcept { return block_; }
  [[nodiscard]] int channel_count() const noexcept { return channels_; }
  /// Its samples are float.
  [[nodiscard]] bool is_float() const noexcept { return float_; }

  /// A fresh copy, made ready for planar blocks of at most `block` frames, in place.
  [[nodiscard]] std::function<void(double* const*, int, int)> start(int block) const {
    if (prepare_) prepare_(rate_, block);
    return make_();
  }

 private:
  template <typename F, typename T>
  static constexpr bool planar_in_place() {
    return std::is_invocable_v<F&, T* const*, int, int>;
  }
  template <typename F, typename T>
  static constexpr bool planar() {
    return std::is_invocable_v<F&, const T* const*, T* const*, int, int>;
  }
  template <typename F, typename T>
  static constexpr bool interleaved() {
    return std::is_invocable_v<F&, std::span<T>, int>;
  }
  template <typename F, typename T>
  static constexpr bool single() {
    if constexpr (std::is_invocable_v<F&, T>) return std::is_same_v<std::invoke_result_t<F&, T>, T>;
    return false;
  }
  template <typename F, typename T>
  static constexpr bool takes() {
    return planar_in_place<F, T>() || planar<F, T>() || interleaved<F, T>() || single<F, T>();
  }

  // From planar doubles to what it takes, and back.
  template <typename F>
  struct Caller {
    using T = std::conditional_t<takes<F, double>(), double, float>;
    F callable;
    std::vector<T> held, result;
    std::vector<T*> pointers;

    void operator()(double* const* channels, int count, int frames) {
      const auto n = static_cast<std::size_t>(frames), all = n * static_cast<std::size_t>(count);
      held.resize(all);
      if constexpr (planar_in_place<F, T>() || planar<F, T>()) {
        fill(channels, count, n);
        pointers.clear();
        for (int c = 0; c < count; ++c) pointers.push_back(held.data() + static_cast<std::size_t>(c) * n);
        if constexpr (planar_in_place<F, T>()) {
          callable(static_cast<T* const*>(pointers.data()), count, frames);
          give(held, channels, count, n);
        } else {
          result.resize(all);
          std::vector<const T*> in(pointers.begin(), pointers.end());
          for (int c = 0; c < count; ++c)
            pointers[static_cast<std::size_t>(c)] = result.data() + static_cast<std::size_t>(c) * n;
          callable(static_cast<const T* const*>(in.data()), static_cast<T* const*>(pointers.data()), count,
                   frames);
          give(result, channels, count, n);
        }
      } else if constexpr (interleaved<F, T>()) {
        for (std::size_t i = 0; i < n; ++i)
          for (int c = 0; c < count; ++c)
            held[i * static_cast<std::size_t>(count) + static_cast<std::size_t>(c)] =
                static_cast<T>(channels[c][i]);
        callable(std::span<T>(held), count);
        for (std::size_t i = 0; i < n; ++i)
          for (int c = 0; c < count; ++c)
            channels[c][i] =
                static_cast<double>(held[i * static_cast<std::size_t>(count) + static_cast<std::size_t>(c)]);
      } else {
        for (int c = 0; c < count; ++c)
          for (std::size_t i = 0; i < n; ++i)
            channels[c][i] = static_cast<double>(callable(static_cast<T>(channels[c][i])));
      }
    }

   private:
    void fill(double* const* channels, int count, std::size_t n) {
      for (int c = 0; c < count; ++c)
        for (std::size_t i = 0; i < n; ++i)
          held[static_cast<std::size_t>(c) * n + i] = static_cast<T>(channels[c][i]);
    }
    static void give(const std::vector<T>& from, double* const* channels, int count, std::size_t n) {
      for (int c = 0; c < count; ++c)
        for (std::size_t i = 0; i < n; ++i)
          channels[c][i] = static_cast<double>(from[static_cast<std::size_t>(c) * n + i]);
    }
  };

  std::function<std::function<void(double* const*, int, int)>()> make_;
  std::function<void(double, int)> prepare_;
  std::string name_ = "processor";
  std::int64_t latency_ = 0;
  double rate_ = 48000;
  int block_ = 512, channels_ = 1;
  bool float_ = true;
};

/// A signal sent through, in blocks of that length, the last one shorter. @param block_frames  0: the
/// processor's own. @throws Error bad_argument for a signal with other channels.
[[nodiscard]] WAVICON_EXPORT Audio processed(const Processor& processor, const Audio& signal,
                                             int block_frames = 0);

/// A stimulus rendered at the processor's rate, sent through with half a second behind it, the stated latency
/// taken off, and looked at as any capture is. @throws Error as judge().
[[nodiscard]] WAVICON_EXPORT JudgedCapture feed(const Recipe& recipe, const Processor& processor,
                                                const GatePolicy& policy = {});

/// The same as a unit, for chains.
[[nodiscard]] WAVICON_EXPORT std::unique_ptr<Unit> unit_of(Processor processor);

/// A class of your own as own:NAME?setting=value in plans (UnitSearch::own).
///
/// @param make  called with the settings' values, in their order.
[[nodiscard]] WAVICON_EXPORT OwnUnit own_unit(std::string name, std::vector<SettingInfo> settings,
                                              std::function<Processor(const std::vector<double>&)> make);

}  // namespace wavicon
