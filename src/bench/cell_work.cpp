// SPDX-License-Identifier: MIT
#include "bench/cell_work.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <iterator>

#include "wavicon/audio/error.hpp"
#include "wavicon/bench/examination.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/file/sheet_context.hpp"
#include "wavicon/intake/recognise.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/path/chain.hpp"
#include "wavicon/path/live.hpp"

namespace wavicon::bench_detail {
namespace {

constexpr double kLeastTailS = 0.5;  // fed after what is played: what rings on is in the capture
constexpr const char* kLiveScheme = "jack";
constexpr int kMostTakes = 4;  // of what goes through an interface

using Planar = std::vector<std::vector<float>>;

Planar rendered(Stimulus& stimulus) {
  Planar all;
  std::vector<double> one(static_cast<std::size_t>(stimulus.frames()));
  for (int c = 0; c < stimulus.recipe().channel_count; ++c) {
    stimulus.render(0, c, one);
    all.emplace_back(one.begin(), one.end());
  }
  return all;
}

Audio audio_of(const Planar& planar, double rate_hz) {
  Audio audio(rate_hz, static_cast<int>(planar.size()), static_cast<std::int64_t>(planar.at(0).size()));
  for (std::size_t c = 0; c < planar.size(); ++c)
    std::copy(planar[c].begin(), planar[c].end(), audio.channel(static_cast<int>(c)).begin());
  return audio;
}

Sheet not_measured(const PlanMeasure& wanted, const CaptureInfo& info, const std::string& why) {
  return {.measurement = wanted.name,
          .capture = info,
          .findings = {{Severity::warning, FindingCode::not_measured, why, std::nullopt}}};
}

}  // namespace

bool is_live(const Cell& cell) {
  return std::any_of(cell.chain.begin(), cell.chain.end(), [](const std::string& unit) {
    return unit.rfind(std::string(kLiveScheme) + ":", 0) == 0;
  });
}

std::vector<std::string> ChainIdentities::of(const Cell& cell) {
  std::vector<std::string> chain;
  for (const std::string& unit : cell.chain) {
    auto found = known_.find(unit);
    if (found == known_.end()) {
      UnitSearch search = units_;
      if (cell.rate_hz > 0) search.sample_rate_hz = cell.rate_hz;
      const UnitSpec spec = parse_unit(unit);
      if (spec.scheme == kLiveScheme) {
        if (cell.chain.size() > 1)
          throw Error(ErrorCode::bad_argument, "jack: is a chain of its own: nothing else is in 'through'");
        (void)live_options(spec);
        chain.push_back(unit);
        continue;
      }
      // A unit of the program itself is another one when the program is.
      const auto opened = open_unit(spec, search);
      const std::filesystem::path binary =
          spec.scheme == "own" ? std::filesystem::path("/proc/self/exe") : opened->info().binary;
      found = known_.emplace(unit, Known{unit_identity(unit, binary), binary}).first;
    }
    chain.push_back(found->second.identity);
  }
  return chain;
}

std::vector<std::string> ChainIdentities::changed() const {
  std::vector<std::string> units;
  for (const auto& [unit, known] : known_)
    if (!known.binary.empty() && unit_identity(unit, known.binary) != known.identity) units.push_back(unit);
  return units;
}

// A file that somebody else made was played.
std::filesystem::path CellWork::play_file(const Cell& cell, FedCell& fed) const {
  const std::filesystem::path path = plan_.folder / filled(plan_, cell, plan_.play.file);
  fed.clean = judge_file(path, {.despite_faults = true});
  if (fed.clean->known_stimulus() != nullptr) fed.stimulus = fed.clean->known_stimulus();
  return path;
}

FedCell CellWork::opened(const Cell& cell) const {
  const std::filesystem::path path = plan_.folder / cell.capture;
  const auto source = std::make_shared<FileSource>(path, CutOff::accepted);
  FedCell fed{.audio = source, .info = capture_info(source->info()), .format = source->info().format};
  if (plan_.play.known() && plan_.play.file.empty())
    fed.stimulus = std::make_shared<Stimulus>(recipe_of(plan_, cell));
  else
    fed.stimulus = stimulus_inside(source->info());
  if (!plan_.play.file.empty()) play_file(cell, fed);
  return fed;
}

Audio CellWork::sent(const Cell& cell, FedCell& fed, const Planar& audio, double rate_hz) {
  if (cell.chain.empty()) return audio_of(audio, rate_hz);
  const auto frames = static_cast<std::int64_t>(audio.at(0).size());
  if (is_live(cell)) {
    const LiveOptions options = live_options(parse_unit(cell.chain.front()));
    LiveResult live = play_and_record(audio, rate_hz, options);
    // A take with xruns is repeated.
    for (int round = 1; round < kMostTakes && live.cut.empty() && !live.xruns.empty(); ++round)
      live = play_and_record(audio, rate_hz, options);
    if (!live.cut.empty()) throw Error(ErrorCode::unit_failed, live.cut);
    if (!live.xruns.empty())
      throw Error(ErrorCode::unit_failed,
                  fmt::format("{} xrun{} in the last of {} takes: use longer blocks, or a machine with less "
                              "to do",
                              live.xruns.size(), live.xruns.size() == 1 ? "" : "s", kMostTakes));
    fed.info.reported_samples = live.reported_samples;
    return audio_of(live.recorded, rate_hz);
  }
  UnitSearch search = options_.units;
  search.sample_rate_hz = rate_hz;
  std::vector<std::unique_ptr<Unit>> units;
  for (const std::string& unit : cell.chain) units.push_back(open_unit(parse_unit(unit), search));
  Chain chain(std::move(units));
  const auto channels = audio.size();
  const int out = chain.prepare(rate_hz, static_cast<int>(channels), cell.block_frames);
  const auto tail = static_cast<std::int64_t>(kLeastTailS * rate_hz);
  Audio taken(chain.claimed_rate_hz(), out, frames + tail);
  std::size_t filled = 0, read = 0;
  const auto width = static_cast<std::size_t>(out);
  const FeedResult result = chain.feed(
      [&](std::span<float> block) {
        const std::size_t now = std::min(block.size() / channels, static_cast<std::size_t>(frames) - read);
        for (std::size_t c = 0; c < channels; ++c)
          for (std::size_t n = 0; n < now; ++n) block[n * channels + c] = audio[c][read + n];
        read += now;
        return static_cast<std::int64_t>(now);
      },
      frames,
      [&](std::span<const float> block) {
        const std::size_t now = block.size() / width;
        for (std::size_t c = 0; c < width; ++c) {
          const auto to = taken.channel(static_cast<int>(c));
          for (std::size_t n = 0; n < now && filled + n < to.size(); ++n)
            to[filled + n] = block[n * width + c];
        }
        filled += now;
      },
      {.block_frames = cell.block_frames, .tail_frames = tail});
  const auto warn = [&](const std::string& text) {
    fed.findings.push_back({Severity::warning, FindingCode::doubtful, text, std::nullopt});
  };
  if (result.latency_changed)
    warn("a unit reported another latency at the end than at the start: the capture is aligned by the first");
  for (const std::string& text : chain.remarks())
    fed.findings.push_back({Severity::note, FindingCode::detail, text, std::nullopt});
  return taken;
}

FedCell CellWork::fed(const Cell& cell) {
  if (!cell.capture.empty()) return opened(cell);
  FedCell fed;
  Planar played;
  double rate_hz = cell.rate_hz;
  std::string recipe;
  if (!plan_.play.file.empty()) {
    played = read_planar(play_file(cell, fed));
    rate_hz = fed.clean->sample_rate_hz();
  } else {
    fed.stimulus = std::make_shared<Stimulus>(recipe_of(plan_, cell));
    rate_hz = fed.stimulus->recipe().sample_rate_hz;
    played = rendered(*fed.stimulus);
  }
  if (fed.stimulus != nullptr) recipe = recipe_text(fed.stimulus->recipe());
  const std::vector<std::string> chain = identities_.of(cell);
  fed.samples = std::make_shared<Audio>(sent(cell, fed, played, rate_hz));
  const Audio& audio = *fed.samples;
  fed.info.file = name_of(cell);
  fed.info.format = name_of(SampleFormat::float32);
  fed.info.sample_rate_hz = audio.sample_rate_hz();
  fed.info.channels = audio.channel_count();
  fed.info.frames = audio.frames();
  fed.info.recipe = recipe;
  fed.info.chain = chain;
  if (!options_.captures.empty()) {
    write_audio_file(file_below(options_.captures, tame_name(name_of(cell)) + ".wav"), audio,
                     {.format = SampleFormat::float32,
                      .recipe = recipe,
                      .reported_samples = fed.info.reported_samples,
                      .chain = chain});
  }
  fed.audio = std::make_shared<MemorySource>(audio);
  fed.in_place = !is_live(cell);
  return fed;
}

std::vector<Sheet> CellWork::measured_by(const PlanMeasure& wanted, std::vector<FedCell>& all) {
  const MeasurementDescriptor& descriptor = *find_measurement(measurements(), wanted.name);
  const GatePolicy policy = policy_of(descriptor, wanted.despite_faults);
  // Once for all measurements of it: faults are held until one admits them.
  const auto judged = [](FedCell& fed) -> const JudgedCapture& {
    if (!fed.judged) {
      fed.judged =
          judge(fed.audio, fed.info, fed.format, {fed.stimulus, std::nullopt}, {.hold_faults = true});
      // A unit that smears the marks away was fed all the same.
      if (fed.in_place && fed.stimulus != nullptr && !fed.judged->played())
        fed.judged = with_known(
            *fed.judged, {fed.stimulus, Take{}},
            Finding{Severity::warning, FindingCode::assumed_stimulus,
                    "the marks are not found in the output: figures assume that it begins where the stimulus "
                    "was fed, less the reported latency",
                    std::nullopt});
    }
    return *fed.judged;
  };
  const auto measurement = measurement_of(wanted);
  MeasureRequest request;
  request.selection.part = wanted.part;
  request.capture_count = all.size();
  if (wanted.channel > 0) request.channel = wanted.channel - 1;
  FedCell& own = all.front();
  std::optional<JudgedCapture> capture;
  if (descriptor.input == MeasuredInput::recording) {
    std::vector<JudgedCapture> row;
    for (FedCell& fed : all) row.push_back(judged(fed).admitted(policy));
    capture = judge_row(row);
  } else if (descriptor.input == MeasuredInput::capture) {
    if (descriptor.by_reference && own.clean && own.stimulus == nullptr) {
      request.clean_signal = recognised(*own.clean, policy);
      capture = holding(judged(own), *request.clean_signal, policy);
    } else {
      capture = descriptor.recognises ? recognised(judged(own), policy) : judged(own).admitted(policy);
    }
  } else {  // against what was played, or another cell
    if (!wanted.against.empty()) {
      const JudgedCapture& other = judged(all.at(1));
      request.reference = descriptor.recognises ? recognised(other, policy) : other.admitted(policy);
    } else if (own.clean) {
      request.reference = descriptor.recognises ? recognised(*own.clean, policy) : *own.clean;
    } else {
      request.reference = judge_stimulus(own.stimulus);
    }
    capture = descriptor.recognises ? placed_by(judged(own), *request.reference, policy)
                                    : judged(own).admitted(policy);
  }
  measurement->check(request);
  auto sheets = measured(*measurement, request, *capture);
  measurement->conclude(request, sheets);
  for (Sheet& sheet : sheets)
    sheet.findings.insert(sheet.findings.end(), own.findings.begin(), own.findings.end());
  return sheets;
}

std::vector<Sheet> CellWork::examined() const {
  std::vector<Sheet> sheets;
  const std::vector<std::string> identities = identities_.of(run_.cell);
  for (std::size_t i = 0; i < run_.cell.chain.size(); ++i) {
    const double rate_hz = run_.cell.rate_hz > 0 ? run_.cell.rate_hz : options_.units.sample_rate_hz;
    Sheet sheet = examine(run_.cell.chain[i], options_.units,
                          {.sample_rate_hz = rate_hz, .block_frames = run_.cell.block_frames});
    sheet.capture.file = name_of(run_.cell);
    sheet.capture.chain = {identities[i]};
    sheets.push_back(std::move(sheet));
  }
  return sheets;
}

std::vector<Sheet> CellWork::sheets() {
  std::vector<FedCell> all;
  const bool examination_alone =
      std::all_of(run_.measures.begin(), run_.measures.end(),
                  [](const PlanMeasure& wanted) { return wanted.name == kExamination; });
  if (run_.together) {
    for (const Cell& cell : run_.others) all.push_back(fed(cell));
  } else if (!examination_alone) {
    all.push_back(fed(run_.cell));
    for (const Cell& cell : run_.others) all.push_back(fed(cell));
  }
  std::vector<Sheet> made;
  std::optional<Error> failure;
  bool any = false;
  const std::int64_t now_s = current_time_s();
  for (const PlanMeasure& wanted : run_.measures) {
    try {
      std::vector<Sheet> sheets = wanted.name == kExamination ? examined() : measured_by(wanted, all);
      auto options = wanted.options;
      if (!wanted.part.empty()) options.emplace_back("part", wanted.part);
      if (wanted.channel > 0) options.emplace_back("channel", std::to_string(wanted.channel));
      if (wanted.despite_faults) options.emplace_back("despite_faults", "true");
      if (!run_.others.empty() && !run_.together) options.emplace_back("against", name_of(run_.others[0]));
      add_context(sheets, options, now_s);
      any = any || !sheets.empty();
      std::move(sheets.begin(), sheets.end(), std::back_inserter(made));
    } catch (const Error& error) {
      if (!failure) failure = Error(error.code(), fmt::format("{}: {}", wanted.name, error.what()));
      std::vector<Sheet> missing = {not_measured(
          wanted, all.empty() ? CaptureInfo{.file = name_of(run_.cell)} : all[0].info, error.what())};
      add_context(missing, wanted.options, now_s);
      made.push_back(std::move(missing.front()));
    }
  }
  if (!any && failure) throw Error(*failure);
  for (Sheet& sheet : made)
    if (!run_.together) sheet.capture.file = name_of(run_);
  return made;
}

}  // namespace wavicon::bench_detail
