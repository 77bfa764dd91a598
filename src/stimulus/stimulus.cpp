// SPDX-License-Identifier: MIT
#include "wavicon/stimulus/stimulus.hpp"

#include <algorithm>
#include <cmath>

#include "renderers.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/elementary.hpp"

namespace wavicon {
namespace {

using namespace stimulus_detail;

constexpr double kMarkS = 0.15;
constexpr double kMarkFromHz = 400;
constexpr double kMarkToHz = 5000;
constexpr double kMarkHighestOfRate = 0.4;  // so that a mark passes any anti-alias filter
constexpr double kMarkEdgeS = 0.01;
constexpr double kMarkDbfs = -20;   // loud enough to be found, and no louder than alignment level
constexpr double kMarkGapS = 0.25;  // lets a compressor or a reverb come to rest before the first part

struct Length {
  int channel_count;
  double operator()(const Sweep& p) const { return sweep_seconds(p) * (p.return_trip ? 2 : 1); }
  double operator()(const Burst& p) const { return p.on_s * (1 + p.gap) * static_cast<double>(p.count); }
  double operator()(const Staircase& p) const {
    const std::size_t count = p.frequencies_hz.size() * p.levels_dbfs.size();
    if (p.starts_s.empty() && p.lengths_s.empty()) return (p.step_s + p.gap_s) * static_cast<double>(count);
    double end = 0, next = 0;
    for (std::size_t i = 0; i < count; ++i) {
      const double length = p.lengths_s.empty() ? p.step_s : p.lengths_s[i];
      if (!p.starts_s.empty()) next = p.starts_s[i];
      end = std::max(end, next + length);
      next += length + p.gap_s;
    }
    return end + (p.starts_s.empty() ? p.gap_s : 0);
  }
  double operator()(const LevelBlock& p) const { return p.low_s + p.high_s + p.after_s; }
  double operator()(const ChannelNumbers& p) const {
    const double n = channel_count;
    return n * (n + 1) / 2 * (p.beep_s + p.gap_s) + 2 * n * p.gap_s;
  }
  double operator()(const auto& p) const { return p.seconds; }
};

// One part where it lies.
struct Slot {
  PlacedPart placed;
  std::unique_ptr<Renderer> renderer;
};

}  // namespace

double stimulus_seconds(const Recipe& recipe) {
  double cursor = 0, start = 0;
  for (const RecipePart& part : recipe.parts) {
    if (!part.with_previous) start = cursor;
    cursor = std::max(cursor, start + part.silence_before_s +
                                  std::visit(Length{recipe.channel_count}, part.kind) + part.silence_after_s);
  }
  return recipe.silence_before_s + recipe.silence_after_s + cursor +
         (recipe.marks ? 2 * (kMarkS + kMarkGapS) : 0);
}

std::vector<double> mark_samples(double sample_rate_hz) {
  return mark_samples(sample_rate_hz, sample_rate_hz);
}

std::vector<double> mark_samples(double sample_rate_hz, double stimulus_rate_hz) {
  const Sweep chirp{.from_hz = kMarkFromHz,
                    .to_hz = std::min(kMarkToHz, kMarkHighestOfRate * stimulus_rate_hz),
                    .seconds = kMarkS,
                    .level_dbfs = kMarkDbfs,
                    .fade_in_s = kMarkEdgeS,
                    .fade_out_s = kMarkEdgeS};
  const auto renderer = make_sweep(chirp, sample_rate_hz);
  std::vector<double> samples(static_cast<std::size_t>(renderer->frames()), 0.0);
  renderer->add(0, 0, 1.0, samples);
  return samples;
}

struct Stimulus::Impl {
  Recipe recipe;
  std::vector<Slot> slots;
  std::vector<PlacedPart> parts;
  std::optional<PlacedMarks> marks;
  std::vector<double> mark;
  std::int64_t frames = 0;
  double gain = 1;

  explicit Impl(const Recipe& r) : recipe(r), gain(ratio_from_db(r.pad_db)) {
    const double rate = recipe.sample_rate_hz;
    std::int64_t cursor = frames_of(recipe.silence_before_s, rate);
    if (recipe.marks) {
      mark = mark_samples(rate);
      marks = PlacedMarks{cursor, 0, static_cast<std::int64_t>(mark.size())};
      cursor += marks->frames + frames_of(kMarkGapS, rate);
    }
    std::int64_t start = cursor;
    for (const RecipePart& part : recipe.parts) {
      if (!part.with_previous) start = cursor;
      cursor = std::max(cursor, place(part, start));
    }
    if (marks) {
      marks->end_frame = cursor + frames_of(kMarkGapS, rate);
      cursor = marks->end_frame + marks->frames;
    }
    frames = cursor + frames_of(recipe.silence_after_s, rate);
    for (const Slot& slot : slots) parts.push_back(slot.placed);
  }

  // Adds a part at a frame; returns where what follows it may start.
  std::int64_t place(const RecipePart& part, std::int64_t start) {
    Slot slot;
    slot.renderer = make_renderer(part.kind, recipe.sample_rate_hz, recipe.channel_count);
    slot.placed.kind = kind_name(part.kind);
    slot.placed.name = part.name.empty() ? slot.placed.kind : part.name;
    slot.placed.first_frame = start + frames_of(part.silence_before_s, recipe.sample_rate_hz);
    slot.placed.frames = slot.renderer->frames();
    for (int c = 0; c < recipe.channel_count; ++c)
      if (part.channels.empty() ||
          std::find(part.channels.begin(), part.channels.end(), c + 1) != part.channels.end())
        slot.placed.channels.push_back(c);
    const std::int64_t end =
        slot.placed.first_frame + slot.placed.frames + frames_of(part.silence_after_s, recipe.sample_rate_hz);
    slots.push_back(std::move(slot));
    return end;
  }

  void add_mark(std::int64_t at, bool backwards, std::int64_t first, std::span<double> out) const {
    const std::int64_t from = std::max(first, at),
                       to = std::min(first + static_cast<std::int64_t>(out.size()), at + marks->frames);
    for (std::int64_t n = from; n < to; ++n) {
      const auto index = static_cast<std::size_t>(backwards ? marks->frames - 1 - (n - at) : n - at);
      out[static_cast<std::size_t>(n - first)] += mark[index];
    }
  }
};

Stimulus::Stimulus(const Recipe& recipe) {
  require_valid(recipe);
  impl_ = std::make_unique<Impl>(recipe);
}
Stimulus::~Stimulus() = default;
Stimulus::Stimulus(Stimulus&&) noexcept = default;
Stimulus& Stimulus::operator=(Stimulus&&) noexcept = default;

const Recipe& Stimulus::recipe() const noexcept { return impl_->recipe; }
std::int64_t Stimulus::frames() const noexcept { return impl_->frames; }
const std::vector<PlacedPart>& Stimulus::parts() const noexcept { return impl_->parts; }
const std::optional<PlacedMarks>& Stimulus::marks() const noexcept { return impl_->marks; }

void Stimulus::render(std::int64_t first_frame, int channel, std::span<double> out) {
  std::fill(out.begin(), out.end(), 0.0);
  const std::int64_t end = first_frame + static_cast<std::int64_t>(out.size());
  for (Slot& slot : impl_->slots) {
    const auto& channels = slot.placed.channels;
    if (std::find(channels.begin(), channels.end(), channel) == channels.end()) continue;
    const std::int64_t from = std::max(first_frame, slot.placed.first_frame);
    const std::int64_t to = std::min(end, slot.placed.first_frame + slot.placed.frames);
    if (to <= from) continue;
    slot.renderer->add(
        from - slot.placed.first_frame, channel, impl_->gain,
        out.subspan(static_cast<std::size_t>(from - first_frame), static_cast<std::size_t>(to - from)));
  }
  if (impl_->marks) {
    impl_->add_mark(impl_->marks->start_frame, false, first_frame, out);
    impl_->add_mark(impl_->marks->end_frame, true, first_frame, out);
  }
}

}  // namespace wavicon
