// SPDX-License-Identifier: MIT
#include "wavicon/intake/judged_capture.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>
#include <utility>

#include "judging.hpp"
#include "wavicon/audio/concatenated.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/stimulus/stimulus_source.hpp"

namespace wavicon {
namespace {

// Renders what it reads, and keeps the stimulus.
class OwnedStimulus : public StimulusSource {
 public:
  explicit OwnedStimulus(std::shared_ptr<Stimulus> stimulus)
      : StimulusSource(*stimulus), stimulus_(std::move(stimulus)) {}

 private:
  std::shared_ptr<Stimulus> stimulus_;
};

// Tells how far another one has been read.
class FollowedSource : public AudioSource {
 public:
  FollowedSource(std::shared_ptr<AudioSource> source, std::function<void(double)> progress)
      : source_(std::move(source)), progress_(std::move(progress)) {}
  [[nodiscard]] double sample_rate_hz() const noexcept override { return source_->sample_rate_hz(); }
  [[nodiscard]] int channel_count() const noexcept override { return source_->channel_count(); }
  [[nodiscard]] std::int64_t frames() const noexcept override { return source_->frames(); }
  void read(std::int64_t first_frame, std::span<double> planar) override {
    source_->read(first_frame, planar);
    const auto count = static_cast<std::int64_t>(planar.size()) / channel_count();
    const double part =
        std::min(1.0, static_cast<double>(first_frame + count) / static_cast<double>(frames()));
    if (part < told_ + kLeastStep && (part < 1 || told_ == 1)) return;
    told_ = part;
    progress_(part);
  }

 private:
  static constexpr double kLeastStep = 1e-3;
  std::shared_ptr<AudioSource> source_;
  std::function<void(double)> progress_;
  double told_ = 0;
};

bool holds(const std::vector<FindingCode>& codes, FindingCode code) {
  return std::find(codes.begin(), codes.end(), code) != codes.end();
}

[[noreturn]] void refuse(const Finding& fault) {
  throw UnfitCapture(fault.code, "unfit to be measured: " + fault.text);
}

}  // namespace

void intake_detail::refuse_broken_samples(const HealthResult& health) {
  for (std::size_t c = 0; c < health.channels.size(); ++c)
    if (const auto& frame = health.channels[c].broken_frame)
      throw UnfitCapture(
          FindingCode::broken_sample,
          fmt::format("NaN or infinity (channel {}, frame {}, {:.6f} s): whatever wrote it failed there",
                      c + 1, *frame, static_cast<double>(*frame) / health.sample_rate_hz));
}

std::vector<Finding> intake_detail::let_through(std::vector<Finding> findings, const GatePolicy& policy,
                                                std::vector<Finding>& held) {
  std::vector<Finding> kept;
  for (Finding& finding : findings) {
    if (finding.severity == Severity::fault) {
      if (holds(policy.tolerated, finding.code)) {
        finding.severity = Severity::warning;
      } else if (policy.hold_faults) {
        held.push_back(std::move(finding));
        continue;
      } else if (!policy.despite_faults) {
        refuse(finding);
      }
    }
    // Every measurement has words of its own for an offset.
    if (finding.severity != Severity::note && finding.code != FindingCode::dc_offset &&
        !(finding.severity == Severity::warning && holds(policy.told, finding.code)))
      kept.push_back(std::move(finding));
  }
  return kept;
}

AudioSource& JudgedCapture::source() const {
  if (!held_.empty()) refuse(held_.front());
  return *source_;
}

JudgedCapture JudgedCapture::admitted(const GatePolicy& policy) const {
  JudgedCapture judged = *this;
  judged.held_.clear();
  GatePolicy now = policy;
  now.hold_faults = false;
  std::vector<Finding> decided = intake_detail::let_through(held_, now, judged.held_);
  // What was let through in spite of its faults stays so.
  now.despite_faults = true;
  judged.findings_ = intake_detail::let_through(findings_, now, judged.held_);
  std::move(decided.begin(), decided.end(), std::back_inserter(judged.findings_));
  const bool said = std::any_of(conditions_.begin(), conditions_.end(),
                                [](const auto& condition) { return condition.first == "despite_faults"; });
  if (policy.despite_faults && !said) judged.conditions_.emplace_back("despite_faults", true);
  return judged;
}

double JudgedCapture::seconds() const noexcept {
  return static_cast<double>(source_->frames()) / source_->sample_rate_hz();
}

Stimulus& JudgedCapture::stimulus() const {
  if (!stimulus_) throw Error(ErrorCode::bad_argument, "nothing is known of what was played in this capture");
  return *stimulus_;
}

const Take& JudgedCapture::take() const {
  if (!take_) throw Error(ErrorCode::bad_argument, "the stimulus has no known place in this capture");
  return *take_;
}

double JudgedCapture::seconds_of(double stimulus_frame) const {
  return (take().first_frame + stimulus_frame * take().frames_per_frame) / source_->sample_rate_hz();
}

JudgedCapture judge(std::shared_ptr<AudioSource> source, const CaptureInfo& info, SampleFormat format,
                    const KnownStimulus& known, const GatePolicy& policy) {
  JudgedCapture judged;
  judged.source_ = std::move(source);
  judged.info_ = info;
  judged.format_ = format;
  judged.stimulus_ = known.stimulus;
  judged.take_ = known.place;
  const bool compare = known.stimulus && (known.place || known.stimulus->marks());
  judged.health_ = std::make_shared<const HealthResult>(
      check_health(*judged.source_, compare ? known.stimulus.get() : nullptr,
                   {.format = format, .take = policy.take, .spectra = false, .place = known.place}));
  const HealthResult& health = *judged.health_;
  intake_detail::refuse_broken_samples(health);
  judged.findings_ = intake_detail::let_through(health_sheet(health, info).findings, policy, judged.held_);
  if (health.best) judged.take_ = health.takes[*health.best];
  if (policy.despite_faults) judged.conditions_.emplace_back("despite_faults", true);
  return judged;
}

JudgedCapture judge(const Audio& audio, SampleFormat format, const KnownStimulus& known,
                    const GatePolicy& policy) {
  const CaptureInfo info{.format = name_of(format),
                         .sample_rate_hz = audio.sample_rate_hz(),
                         .channels = audio.channel_count(),
                         .frames = audio.frames()};
  return judge(std::make_shared<OwnedSource>(audio), info, format, known, policy);
}

JudgedCapture judge(const AudioView& view, const KnownStimulus& known, const GatePolicy& policy) {
  const SampleFormat format = view.is_float() ? SampleFormat::float32 : SampleFormat::float64;
  const CaptureInfo info{.format = name_of(format),
                         .sample_rate_hz = view.sample_rate_hz(),
                         .channels = view.channel_count(),
                         .frames = view.frames()};
  return judge(std::make_shared<ViewSource>(view), info, format, known, policy);
}

JudgedCapture judge_stimulus(std::shared_ptr<Stimulus> stimulus) {
  JudgedCapture judged;
  judged.source_ = std::make_shared<OwnedStimulus>(stimulus);
  judged.take_ = Take{};
  judged.info_ = {.file = stimulus->recipe().name,
                  .format = name_of(SampleFormat::float64),
                  .sample_rate_hz = stimulus->recipe().sample_rate_hz,
                  .channels = stimulus->recipe().channel_count,
                  .frames = stimulus->frames()};
  judged.stimulus_ = std::move(stimulus);
  return judged;
}

JudgedCapture with_known(JudgedCapture capture, const KnownStimulus& known,
                         const std::optional<Finding>& told) {
  capture.stimulus_ = known.stimulus;
  capture.take_ = known.place;
  if (told) capture.findings_.push_back(*told);
  return capture;
}

JudgedCapture judge_row(const std::vector<JudgedCapture>& captures) {
  if (captures.empty()) throw Error(ErrorCode::bad_argument, "no capture to put in a row");
  JudgedCapture judged = captures.front();
  judged.stimulus_.reset();
  judged.take_.reset();
  if (captures.size() == 1) return judged;
  std::vector<std::shared_ptr<AudioSource>> sources;
  for (const JudgedCapture& capture : captures) {
    if (capture.sample_rate_hz() != judged.sample_rate_hz() ||
        capture.channel_count() != captures.front().channel_count())
      throw Error(
          ErrorCode::bad_argument,
          fmt::format("{}: {:g} Hz and {} channels, but {} has {:g} Hz and {}: captures in a row need one "
                      "rate and one channel count",
                      capture.info().file, capture.sample_rate_hz(), capture.channel_count(),
                      judged.info_.file, judged.sample_rate_hz(), captures.front().channel_count()));
    sources.push_back(capture.source_);
    if (sources.size() == 1) continue;
    judged.findings_.insert(judged.findings_.end(), capture.findings_.begin(), capture.findings_.end());
    judged.held_.insert(judged.held_.end(), capture.held_.begin(), capture.held_.end());
  }
  judged.source_ = std::make_shared<ConcatenatedSource>(std::move(sources));
  judged.info_.frames = judged.source_->frames();
  return judged;
}

JudgedCapture followed(const JudgedCapture& capture, std::function<void(double)> progress) {
  JudgedCapture told = capture;
  if (progress) told.source_ = std::make_shared<FollowedSource>(capture.source_, std::move(progress));
  return told;
}

std::optional<std::size_t> choose_part(const Stimulus& stimulus, const std::string& name,
                                       const PartRank& rank) {
  std::optional<std::size_t> best;
  int best_rank = 0;
  std::vector<std::string> suitable;
  for (std::size_t i = 0; i < stimulus.parts().size(); ++i) {
    const int here = rank(stimulus.recipe().parts[i].kind);
    if (here < 0) continue;
    suitable.push_back(stimulus.parts()[i].name);
    const bool wanted =
        name.empty() ? here > 0 && (!best || here < best_rank) : suitable.back() == name && !best;
    if (!wanted) continue;
    best = i;
    best_rank = here;
  }
  if (!name.empty() && !best)
    throw Error(ErrorCode::bad_argument,
                fmt::format("the stimulus has no part '{}' that this can be measured of{}", name,
                            name_hint(name, suitable)));
  return best;
}

ChosenStretch choose_stretch(const JudgedCapture& capture, const Selection& selection, const PartRank& rank) {
  if (selection.in_seconds()) {
    if (!selection.part.empty())
      throw Error(ErrorCode::bad_argument,
                  fmt::format("the part '{}' and seconds from and to are given at once: one of them",
                              selection.part));
    return {selection.from_s, selection.to_s, std::nullopt, ""};
  }
  if (!capture.played()) {
    if (!selection.part.empty())
      throw Error(
          ErrorCode::bad_argument,
          fmt::format("the part '{}' is not known: nothing tells which stimulus {} holds, and where",
                      selection.part, capture.info().file.empty() ? "the capture" : capture.info().file));
    return {};
  }
  const auto& parts = capture.stimulus().parts();
  const auto part = choose_part(capture.stimulus(), selection.part, rank);
  auto first = static_cast<double>(parts[part.value_or(0)].first_frame), end = 0.0;
  if (part)
    end = first + static_cast<double>(parts[*part].frames);
  else
    for (const PlacedPart& placed : parts)
      end = std::max(end, static_cast<double>(placed.first_frame + placed.frames));
  const std::string what = part ? parts[*part].name : parts.size() == 1 ? parts[0].name : "all parts";
  return {std::max(0.0, capture.seconds_of(first)), capture.seconds_of(end), part, what};
}

void add_judgement(Sheet& sheet, const JudgedCapture& capture, const std::string& part) {
  for (Reading& reading : sheet.readings) {
    if (!part.empty()) reading.conditions.emplace_back("part", part);
    reading.conditions.insert(reading.conditions.end(), capture.conditions().begin(),
                              capture.conditions().end());
  }
  sheet.findings.insert(sheet.findings.end(), capture.findings().begin(), capture.findings().end());
}

}  // namespace wavicon
