// SPDX-License-Identifier: MIT
#pragma once
// The gate: audio that has been looked at before it is measured. Every measurement takes a judged capture,
// and nothing else.

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/audio_view.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/export.hpp"
#include "wavicon/audio/sample_format.hpp"
#include "wavicon/audio/source.hpp"
#include "wavicon/intake/health.hpp"
#include "wavicon/intake/locate.hpp"
#include "wavicon/sheet/sheet.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {

struct Bounce;

/// Thrown for a capture that is unfit to be measured: exit status 3, and the code of the fault.
class WAVICON_EXPORT UnfitCapture : public Error {
 public:
  UnfitCapture(FindingCode fault, const std::string& message)
      : Error(ErrorCode::bad_input, message), fault_(fault) {}
  [[nodiscard]] FindingCode fault() const noexcept { return fault_; }

 private:
  FindingCode fault_;
};

/// What is known of what was played.
struct KnownStimulus {
  std::shared_ptr<Stimulus> stimulus;  ///< null when nothing is known
  std::optional<Take> place;           ///< where it lies, when that is known; none: found by its marks
};

/// What is let through.
struct GatePolicy {
  std::vector<FindingCode> tolerated;  ///< faults that this measurement lives with: they become warnings
  std::vector<FindingCode> told;  ///< warnings for which the measurement has words of its own: not passed on
  bool despite_faults = false;    ///< all faults but broken samples, which nothing can be read from
  bool hold_faults = false;       ///< do not refuse yet: one capture that several measurements will admit
  std::optional<std::size_t> take;  ///< which appearance of the stimulus to use, from 0; none: the best
};

/// A capture with what is wrong with it, what was played in it, and where that lies. Cheap to copy: copies
/// share the samples. For one thread at a time. Samples of a capture with held faults cannot be read before
/// it is admitted.
class WAVICON_EXPORT JudgedCapture {
 public:
  /// @throws UnfitCapture while there are held faults.
  [[nodiscard]] AudioSource& source() const;
  [[nodiscard]] const CaptureInfo& info() const noexcept { return info_; }
  [[nodiscard]] SampleFormat format() const noexcept { return format_; }
  [[nodiscard]] double sample_rate_hz() const noexcept { return source_->sample_rate_hz(); }
  [[nodiscard]] int channel_count() const noexcept { return source_->channel_count(); }
  [[nodiscard]] double seconds() const noexcept;

  /// Whether the stimulus is known and lies in it; then stimulus(), take() and seconds_of() may be called.
  [[nodiscard]] bool played() const noexcept { return stimulus_ != nullptr && take_.has_value(); }
  /// Null when nothing is known of what was played.
  [[nodiscard]] const std::shared_ptr<Stimulus>& known_stimulus() const noexcept { return stimulus_; }
  /// Whether it was taken out of the capture itself: what is steady in it need not have been played.
  [[nodiscard]] bool stimulus_recognised() const noexcept { return recognised_; }
  [[nodiscard]] Stimulus& stimulus() const;
  [[nodiscard]] const Take& take() const;
  /// Where a frame of the stimulus lies, in seconds of the capture.
  [[nodiscard]] double seconds_of(double stimulus_frame) const;

  /// Faults that were let through and warnings, for the sheets of every measurement of it.
  [[nodiscard]] const std::vector<Finding>& findings() const noexcept { return findings_; }
  /// For every reading: `despite_faults` where that was asked for.
  [[nodiscard]] const Conditions& conditions() const noexcept { return conditions_; }
  /// Faults that nobody has decided about yet.
  [[nodiscard]] const std::vector<Finding>& held_faults() const noexcept { return held_; }
  /// The same capture for a measurement that lives with these faults. @throws UnfitCapture for any other held
  /// one.
  [[nodiscard]] JudgedCapture admitted(const GatePolicy& policy) const;
  /// What the health check found.
  [[nodiscard]] const HealthResult& health() const noexcept { return *health_; }

 private:
  JudgedCapture() = default;
  friend JudgedCapture judge(std::shared_ptr<AudioSource>, const CaptureInfo&, SampleFormat,
                             const KnownStimulus&, const GatePolicy&);
  friend JudgedCapture judge_stimulus(std::shared_ptr<Stimulus>);
  friend JudgedCapture with_known(JudgedCapture, const KnownStimulus&, const std::optional<Finding>&);
  friend JudgedCapture recognised(const JudgedCapture&, const GatePolicy&);
  friend JudgedCapture placed_by(const JudgedCapture&, const JudgedCapture&, const GatePolicy&);
  friend JudgedCapture holding(const JudgedCapture&, const JudgedCapture&, const GatePolicy&);
  friend Bounce examine_bounce(const JudgedCapture&);
  friend JudgedCapture judge_row(const std::vector<JudgedCapture>&);
  friend JudgedCapture followed(const JudgedCapture&, std::function<void(double)>);

  std::shared_ptr<AudioSource> source_;
  std::shared_ptr<Stimulus> stimulus_;
  std::optional<Take> take_;
  bool recognised_ = false;
  bool explained_ = false;  // the stimulus was recognised, and nothing sounds beside it
  CaptureInfo info_;
  SampleFormat format_ = SampleFormat::float64;
  std::vector<Finding> findings_;
  std::vector<Finding> held_;
  Conditions conditions_;
  std::shared_ptr<const HealthResult> health_ = std::make_shared<HealthResult>();
};

/// Looks at a capture, finds what was played in it, and lets it through or not.
///
/// @param source  read in blocks: memory does not grow with its length. Shared with what is returned.
/// @param info    file, format, rate, channels, frames as they are printed; info.cut_off is a fault.
/// @param format  how its samples were stored: decides what clipping is, and floors.
/// @throws UnfitCapture bad_input for broken samples (naming channel and frame), and for any other fault that
/// the policy does not let through, with the finding's words.
/// @throws Error bad_input for 0 frames; bad_argument for a take that is not there.
[[nodiscard]] WAVICON_EXPORT JudgedCapture judge(std::shared_ptr<AudioSource> source, const CaptureInfo& info,
                                                 SampleFormat format, const KnownStimulus& known = {},
                                                 const GatePolicy& policy = {});
/// The same of audio in memory, which is copied.
[[nodiscard]] WAVICON_EXPORT JudgedCapture judge(const Audio& audio,
                                                 SampleFormat format = SampleFormat::float64,
                                                 const KnownStimulus& known = {},
                                                 const GatePolicy& policy = {});
/// The same of samples that stay where they are: they outlive what is returned, and its copies.
[[nodiscard]] WAVICON_EXPORT JudgedCapture judge(const AudioView& view, const KnownStimulus& known = {},
                                                 const GatePolicy& policy = {});

/// What was played itself, rendered when it is read: fit by construction, and where it is.
[[nodiscard]] WAVICON_EXPORT JudgedCapture judge_stimulus(std::shared_ptr<Stimulus> stimulus);

/// The same capture, of which it has become known what was played and where it lies.
///
/// @param told  how that became known, for the sheets of every measurement of it.
[[nodiscard]] WAVICON_EXPORT JudgedCapture with_known(JudgedCapture capture, const KnownStimulus& known,
                                                      const std::optional<Finding>& told = {});

/// Several captures one after the other, as one recording; its info is the first one's with the frames of
/// all.
///
/// @throws Error bad_argument for none, other rates or channel counts, naming the file.
[[nodiscard]] WAVICON_EXPORT JudgedCapture judge_row(const std::vector<JudgedCapture>& captures);

/// The same capture, telling how far it has been read: progress for whatever measures it, and a way to end that.
///
/// @param progress  the part of it that was read so far, 0 … 1, in steps of a thousandth at least, never less
/// than before: a measurement that reads it several times ends at 1 long before it is done. Called by one
/// thread at a time, not always the one that measures. What it throws ends the measurement and is thrown
/// there.
[[nodiscard]] WAVICON_EXPORT JudgedCapture followed(const JudgedCapture& capture,
                                                    std::function<void(double)> progress);

/// What of a capture to measure.
struct Selection {
  double from_s = 0;
  std::optional<double> to_s;  ///< none: to the end
  std::string part;            ///< of the stimulus; empty: the one that suits best
  /// Whether a stretch was given in seconds.
  [[nodiscard]] bool in_seconds() const noexcept { return from_s != 0 || to_s.has_value(); }
};

/// How well a part suits a measurement: below 0 not at all, 0 when it is named, from 1 on also by itself, the
/// lowest first.
using PartRank = std::function<int(const PartKind&)>;

/// The part of that name, or without a name the one that suits best; none when none does.
///
/// @throws Error bad_argument when there is no part of that name that suits, with the nearest names that do.
[[nodiscard]] WAVICON_EXPORT std::optional<std::size_t> choose_part(const Stimulus& stimulus,
                                                                    const std::string& name,
                                                                    const PartRank& rank);

/// The stretch that a measurement looks at.
struct ChosenStretch {
  double from_s = 0;
  std::optional<double> to_s;       ///< none: to the end
  std::optional<std::size_t> part;  ///< of the stimulus, when it is one
  std::string what;                 ///< the part's name, "all parts", or empty; the condition `part`
};

/// Seconds as they are given; else the part that choose_part() names, where the stimulus lies; else from the
/// first part to the last; without a stimulus everything.
///
/// @throws Error bad_argument as choose_part(); for a part of a capture whose stimulus is not known; for a
/// part and seconds at once.
[[nodiscard]] WAVICON_EXPORT ChosenStretch choose_stretch(const JudgedCapture& capture,
                                                          const Selection& selection, const PartRank& rank);

/// Adds what the gate said of a capture to a sheet that was made of it, and `part` to its readings when there
/// is one.
WAVICON_EXPORT void add_judgement(Sheet& sheet, const JudgedCapture& capture, const std::string& part = "");

}  // namespace wavicon
