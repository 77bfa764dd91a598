// SPDX-License-Identifier: MIT
#pragma once
// Feeds and measures one thing of a plan. Internal to `bench`.

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "wavicon/bench/run.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/intake/judged_capture.hpp"

namespace wavicon::bench_detail {

/// Units of chains as captures keep them: with the digest of their binaries.
class ChainIdentities {
 public:
  explicit ChainIdentities(UnitSearch units) : units_(std::move(units)) {}
  /// @throws Error for a unit that is not there, or a setting that it does not take.
  [[nodiscard]] std::vector<std::string> of(const Cell& cell);
  /// Those that are another binary by now.
  [[nodiscard]] std::vector<std::string> changed() const;

 private:
  struct Known {
    std::string identity;
    std::filesystem::path binary;
  };
  UnitSearch units_;
  std::map<std::string, Known> known_;
};

/// Whether it goes through an interface: one after the other, and never known from before.
[[nodiscard]] bool is_live(const Cell& cell);

/// What a cell brought back, and what was played.
struct FedCell {
  std::shared_ptr<Stimulus> stimulus;  ///< null: not known
  std::optional<JudgedCapture> clean;  ///< a file that was played
  std::shared_ptr<Audio> samples;      ///< that `audio` reads; null: it reads a file
  std::shared_ptr<AudioSource> audio;
  CaptureInfo info;
  SampleFormat format = SampleFormat::float32;
  std::vector<Finding> findings;        ///< of how it was fed, for its sheets
  bool in_place = false;                ///< it begins where what was played does, but for unreported delay
  std::optional<JudgedCapture> judged;  ///< once it was looked at
};

class CellWork {
 public:
  CellWork(const Plan& plan, const CellRun& run, const BenchOptions& options, ChainIdentities& identities)
      : plan_(plan), run_(run), options_(options), identities_(identities) {}

  /// @throws Error when nothing of it could be measured.
  [[nodiscard]] std::vector<Sheet> sheets();

 private:
  [[nodiscard]] FedCell fed(const Cell& cell);
  std::filesystem::path play_file(const Cell& cell, FedCell& fed) const;
  [[nodiscard]] FedCell opened(const Cell& cell) const;
  [[nodiscard]] Audio sent(const Cell& cell, FedCell& fed, const std::vector<std::vector<float>>& audio,
                           double rate_hz);
  [[nodiscard]] std::vector<Sheet> measured_by(const PlanMeasure& wanted, std::vector<FedCell>& fed);
  [[nodiscard]] std::vector<Sheet> examined() const;

  const Plan& plan_;
  const CellRun& run_;
  const BenchOptions& options_;
  ChainIdentities& identities_;
};

}  // namespace wavicon::bench_detail
