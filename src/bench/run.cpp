// SPDX-License-Identifier: MIT
#include "wavicon/bench/run.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <cstring>
#include <map>
#include <set>

#include "wavicon/audio/error.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/file/sheet_context.hpp"
#include "wavicon/file/sheet_file.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/path/chain.hpp"

namespace wavicon {
namespace {

constexpr const char *kPlanTag = "plan", *kCellTag = "cell";
constexpr char kDone = 'd', kFailed = 'f';  // first byte of what a cell's process says
constexpr std::size_t kWholeSheets = 1000;  // more known cells than that are read without their curves
constexpr int kLookMs = 200;
constexpr double kLeastTailS = 0.5;  // fed after what is played: what rings on is in the capture

double now_s() {
  return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count();
}

// What a cell is known by: all that its figures depend on.
class Identities {
 public:
  Identities(const Plan& plan, const UnitSearch& units) : plan_(plan), units_(units) {
    for (const PlanMeasure& measure : plan.measures) {
      measures_ += fmt::format("\n{} {}", measure.name, measure.part);
      for (const auto& [key, value] : measure.options) measures_ += fmt::format(" {}={}", key, value);
    }
  }
  [[nodiscard]] std::string of(const Cell& cell) {
    std::string text = fmt::format("{}\n{:.17g} {} {}{}", plan_.recipe, cell.rate_hz, cell.block_frames,
                                   kArithmetic, measures_);
    for (const std::string& unit : chain_of(cell)) text += "\n" + unit;
    return digest_of(text);
  }
  /// As captures keep it. @throws Error for a unit that is not there.
  [[nodiscard]] std::vector<std::string> chain_of(const Cell& cell) {
    std::vector<std::string> chain;
    for (const std::string& unit : cell.chain) {
      auto found = known_.find(unit);
      if (found == known_.end()) {
        UnitSearch search = units_;
        search.sample_rate_hz = cell.rate_hz;
        const UnitSpec spec = parse_unit(unit);
        if (spec.scheme == "jack")
          throw Error(ErrorCode::bad_argument,
                      "jack: is not a unit of a plan: feed it alone, and measure the captures");
        found = known_.emplace(unit, unit_identity(unit, open_unit(spec, search)->info().binary)).first;
      }
      chain.push_back(found->second);
    }
    return chain;
  }

 private:
  const Plan& plan_;
  UnitSearch units_;
  std::string measures_;
  std::map<std::string, std::string> known_;
};

// Feeds and measures one cell.
class CellWork {
 public:
  CellWork(const Plan& plan, const Cell& cell, const BenchOptions& options,
           std::vector<std::string> identities)
      : plan_(plan), cell_(cell), options_(options), identities_(std::move(identities)) {}

  std::vector<Sheet> run() {
    Recipe recipe = parse_recipe(plan_.recipe, "play");
    recipe.sample_rate_hz = cell_.rate_hz;
    auto stimulus = std::make_shared<Stimulus>(recipe);
    const Audio audio = fed(*stimulus);
    CaptureInfo info{.file = name_of(cell_),
                     .format = name_of(SampleFormat::float32),
                     .sample_rate_hz = audio.sample_rate_hz(),
                     .channels = audio.channel_count(),
                     .frames = audio.frames(),
                     .recipe = recipe_text(recipe),
                     .chain = identities_};
    if (!options_.captures.empty()) write(audio, info);
    const auto source = std::make_shared<MemorySource>(audio);
    const JudgedCapture capture =
        judge(source, info, SampleFormat::float32, {stimulus, std::nullopt}, {.hold_faults = true});
    std::vector<Sheet> all;
    for (const PlanMeasure& wanted : plan_.measures) {
      std::vector<Sheet> sheets = measured_by(wanted, capture, stimulus);
      add_context(sheets, wanted.options, current_time_s());
      for (Sheet& sheet : sheets) all.push_back(std::move(sheet));
    }
    return all;
  }

 private:
  Audio fed(Stimulus& stimulus) const {
    const int channels = stimulus.recipe().channel_count;
    std::int64_t read = 0;
    const auto source = [&](std::span<float> block) {
      const auto frames = std::min<std::int64_t>(static_cast<std::int64_t>(block.size()) / channels,
                                                 stimulus.frames() - read);
      std::vector<double> one(static_cast<std::size_t>(frames));
      for (int c = 0; c < channels; ++c) {
        stimulus.render(read, c, one);
        for (std::size_t n = 0; n < one.size(); ++n)
          block[n * static_cast<std::size_t>(channels) + static_cast<std::size_t>(c)] =
              static_cast<float>(one[n]);
      }
      read += frames;
      return frames;
    };
    if (cell_.chain.empty()) {
      Audio audio(cell_.rate_hz, channels, stimulus.frames());
      std::vector<float> block(static_cast<std::size_t>(4096 * channels));
      for (std::int64_t first = 0; first < stimulus.frames(); first = read) {
        const std::int64_t frames = source(block);
        place(audio, first, std::span<const float>(block).first(static_cast<std::size_t>(frames * channels)),
              channels);
      }
      return audio;
    }
    UnitSearch search = options_.units;
    search.sample_rate_hz = cell_.rate_hz;
    std::vector<std::unique_ptr<Unit>> units;
    for (const std::string& unit : cell_.chain) units.push_back(open_unit(parse_unit(unit), search));
    Chain chain(std::move(units));
    const int out = chain.prepare(cell_.rate_hz, channels, cell_.block_frames);
    const auto tail = static_cast<std::int64_t>(kLeastTailS * cell_.rate_hz);
    Audio audio(chain.claimed_rate_hz(), out, stimulus.frames() + tail);
    std::int64_t first = 0;
    chain.feed(source, stimulus.frames(),
               [&](std::span<const float> block) {
                 place(audio, first, block, out);
                 first += static_cast<std::int64_t>(block.size()) / out;
               },
               {.block_frames = cell_.block_frames, .tail_frames = tail});
    return audio;
  }

  static void place(Audio& audio, std::int64_t first, std::span<const float> block, int channels) {
    const auto width = static_cast<std::size_t>(channels), frames = block.size() / width;
    for (std::size_t c = 0; c < width; ++c) {
      const auto to = audio.channel(static_cast<int>(c));
      for (std::size_t n = 0; n < frames && static_cast<std::size_t>(first) + n < to.size(); ++n)
        to[static_cast<std::size_t>(first) + n] = block[n * width + c];
    }
  }

  void write(const Audio& audio, const CaptureInfo& info) const {
    std::string name = name_of(cell_);
    std::replace_if(
        name.begin(), name.end(), [](char c) { return c == ' ' || c == '=' || c == '/'; }, '-');
    AudioWriter writer(file_below(options_.captures, name + ".wav"),
                       {.sample_rate_hz = audio.sample_rate_hz(),
                        .channel_count = audio.channel_count(),
                        .format = SampleFormat::float32,
                        .frames = audio.frames(),
                        .recipe = info.recipe,
                        .chain = info.chain});
    const auto channels = static_cast<std::size_t>(audio.channel_count()),
               frames = static_cast<std::size_t>(audio.frames());
    std::vector<double> interleaved(frames * channels);
    for (std::size_t c = 0; c < channels; ++c)
      for (std::size_t n = 0; n < frames; ++n)
        interleaved[n * channels + c] = audio.channel(static_cast<int>(c))[n];
    writer.write(std::span<const double>(interleaved));
    writer.finish();
  }

  static std::vector<Sheet> measured_by(const PlanMeasure& wanted, const JudgedCapture& capture,
                                        const std::shared_ptr<Stimulus>& stimulus) {
    const MeasurementDescriptor& descriptor = *find_measurement(measurements(), wanted.name);
    try {
      const auto measurement = measurement_of(wanted);
      MeasureRequest request;
      request.selection.part = wanted.part;
      if (descriptor.input == MeasuredInput::against) request.reference = judge_stimulus(stimulus);
      measurement->check(request);
      auto sheets = measured(*measurement, request, capture.admitted(policy_of(descriptor)));
      measurement->conclude(request, sheets);
      return sheets;
    } catch (const Error& error) {
      throw Error(error.code(), fmt::format("{}: {}", wanted.name, error.what()));
    }
  }

  const Plan& plan_;
  const Cell& cell_;
  const BenchOptions& options_;
  std::vector<std::string> identities_;
};

// A cell's process, and what it has said so far.
struct Worker {
  pid_t pid = -1;
  int from = -1;
  std::size_t cell = 0;
  double started_s = 0;
  std::string said;
};

void write_all(int to, const std::string& text) {
  for (std::size_t at = 0; at < text.size();) {
    const ssize_t put = ::write(to, text.data() + at, text.size() - at);
    if (put < 0 && errno == EINTR) continue;
    if (put <= 0) ::_exit(1);
    at += static_cast<std::size_t>(put);
  }
}

class Pool {
 public:
  Pool(const Plan& plan, const BenchOptions& options) : plan_(plan), options_(options) {}
  Pool(const Pool&) = delete;
  Pool& operator=(const Pool&) = delete;
  ~Pool() {
    for (const Worker& worker : workers_) {
      ::kill(worker.pid, SIGKILL);
      ::close(worker.from);
      ::waitpid(worker.pid, nullptr, 0);
    }
  }

  [[nodiscard]] std::size_t size() const { return workers_.size(); }

  void start(std::size_t index, const Cell& cell, const std::vector<std::string>& identities) {
    int ends[2];
    if (::pipe2(ends, O_CLOEXEC) != 0)
      throw Error(ErrorCode::unit_failed, fmt::format("no pipe for a cell: {}", std::strerror(errno)));
    const pid_t parent = ::getpid(), child = ::fork();
    if (child < 0)
      throw Error(ErrorCode::unit_failed, fmt::format("no process for a cell: {}", std::strerror(errno)));
    if (child == 0) {
      ::prctl(PR_SET_PDEATHSIG, SIGKILL);
      if (::getppid() != parent) ::_exit(0);
      ::close(ends[0]);
      std::string said;
      try {
        said = kDone + sheets_to_json(CellWork(plan_, cell, options_, identities).run());
      } catch (const std::exception& error) {
        said = std::string(1, kFailed) + error.what();
      }
      write_all(ends[1], said);
      ::_exit(0);
    }
    ::close(ends[1]);
    workers_.push_back({child, ends[0], index, now_s(), {}});
  }

  /// Takes what cells have said; one that has ended, where there is one.
  std::optional<Worker> take(std::string& reason) {
    std::vector<pollfd> ends;
    for (const Worker& worker : workers_) ends.push_back({worker.from, POLLIN, 0});
    if (::poll(ends.data(), ends.size(), kLookMs) <= 0) return std::nullopt;
    for (std::size_t i = 0; i < ends.size(); ++i) {
      if (ends[i].revents == 0) continue;
      char piece[65536];
      const ssize_t got = ::read(workers_[i].from, piece, sizeof piece);
      if (got < 0 && (errno == EINTR || errno == EAGAIN)) continue;
      if (got > 0) {
        workers_[i].said.append(piece, static_cast<std::size_t>(got));
        continue;
      }
      Worker ended = std::move(workers_[i]);
      workers_.erase(workers_.begin() + static_cast<std::ptrdiff_t>(i));
      ::close(ended.from);
      int status = 0;
      while (::waitpid(ended.pid, &status, 0) < 0 && errno == EINTR) {
      }
      if (WIFSIGNALED(status))
        reason = fmt::format("its process was ended by a signal ({})", strsignal(WTERMSIG(status)));
      else if (ended.said.empty())
        reason = "its process ended without a word";
      else if (ended.said[0] != kDone)
        reason = ended.said.substr(1);
      return ended;
    }
    return std::nullopt;
  }

 private:
  const Plan& plan_;
  const BenchOptions& options_;
  std::vector<Worker> workers_;
};

}  // namespace

std::vector<CellResult> run_cells(const Plan& plan, const std::vector<Cell>& cells,
                                  const BenchOptions& options) {
  // What is mistyped is found before the first cell is fed.
  Identities identities(plan, options.units);
  std::vector<std::string> known_by;
  std::vector<CellResult> results(cells.size());
  for (std::size_t i = 0; i < cells.size(); ++i) {
    results[i].cell = cells[i];
    known_by.push_back(identities.of(cells[i]));
  }
  if (!options.captures.empty()) make_folder(options.captures);
  std::vector<std::size_t> left;
  std::size_t done = 0, failed = 0;
  if (options.logbook != nullptr && !options.again) {
    const auto kept = options.logbook->entries_by_tag(kCellTag);
    for (std::size_t i = 0; i < cells.size(); ++i) {
      const auto found = kept.find(known_by[i]);
      if (found == kept.end()) {
        left.push_back(i);
        continue;
      }
      for (const std::int64_t id : found->second)
        results[i].sheets.push_back(cells.size() > kWholeSheets ? options.logbook->figures(id)
                                                                : options.logbook->sheet(id));
      for (Sheet& sheet : results[i].sheets) sheet.capture.file = name_of(cells[i]);
      results[i].state = CellResult::State::known;
      ++done;
    }
  } else {
    for (std::size_t i = 0; i < cells.size(); ++i) left.push_back(i);
  }
  Pool pool(plan, options);
  for (std::size_t next = 0; next < left.size() || pool.size() > 0;) {
    if (options.progress) options.progress(done, failed);
    if (next < left.size() && pool.size() < static_cast<std::size_t>(std::max(1, options.jobs))) {
      const std::size_t i = left[next++];
      pool.start(i, cells[i], identities.chain_of(cells[i]));
      continue;
    }
    std::string reason;
    const auto ended = pool.take(reason);
    if (!ended) continue;
    CellResult& result = results[ended->cell];
    result.seconds = now_s() - ended->started_s;
    if (reason.empty()) {
      result.sheets = sheets_from_json(ended->said.substr(1), name_of(result.cell));
      result.state = CellResult::State::measured;
      ++done;
      if (options.logbook != nullptr) {
        EntryNotes notes{.tags = options.tags};
        notes.tags.emplace_back(kPlanTag, plan.name);
        notes.tags.emplace_back(kCellTag, known_by[ended->cell]);
        for (const auto& value : result.cell.values) notes.tags.push_back(value);
        (void)options.logbook->keep(result.sheets, notes);
      }
      link_entries(result.sheets);
    } else {
      result.reason = reason;
      ++failed;
    }
  }
  if (options.progress) options.progress(done, failed);
  return results;
}

}  // namespace wavicon
