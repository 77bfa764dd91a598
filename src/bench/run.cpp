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

#include "bench/cell_tags.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/file/sheet_context.hpp"
#include "wavicon/file/sheet_file.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/path/chain.hpp"

namespace wavicon {
namespace {

using namespace bench_detail;

constexpr const char* kAgainTag = "again";  // of a cell that was run once more: when
constexpr char kDone = 'd', kFailed = 'f';  // first byte of what a cell's process says
constexpr std::size_t kWholeSheets = 1000;  // more known cells than that are read without their curves
constexpr int kLookMs = 200;
constexpr int kPlainBlock = 4096;
constexpr double kLeastTailS = 0.5;  // fed after what is played: what rings on is in the capture

double clock_s() {
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

// What comes back, in memory and, where that is wanted, in a file.
class Taken {
 public:
  Taken(double rate_hz, int channels, std::int64_t frames, std::optional<AudioWriter> writer)
      : audio_(rate_hz, channels, frames), writer_(std::move(writer)) {}
  void add(std::span<const float> interleaved) {
    const auto width = static_cast<std::size_t>(audio_.channel_count()), frames = interleaved.size() / width;
    for (std::size_t c = 0; c < width; ++c) {
      const auto to = audio_.channel(static_cast<int>(c));
      for (std::size_t n = 0; n < frames && filled_ + n < to.size(); ++n)
        to[filled_ + n] = interleaved[n * width + c];
    }
    filled_ += frames;
    if (writer_) writer_->write(interleaved);
  }
  Audio finish() {
    if (writer_) writer_->finish();
    return std::move(audio_);
  }

 private:
  Audio audio_;
  std::optional<AudioWriter> writer_;
  std::size_t filled_ = 0;
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
    std::vector<double> one;
    const auto source = [&](std::span<float> block) {
      const auto width = static_cast<std::size_t>(channels);
      const auto frames =
          std::min<std::int64_t>(static_cast<std::int64_t>(block.size() / width), stimulus.frames() - read);
      one.resize(static_cast<std::size_t>(frames));
      for (std::size_t c = 0; c < width; ++c) {
        stimulus.render(read, static_cast<int>(c), one);
        for (std::size_t n = 0; n < one.size(); ++n) block[n * width + c] = static_cast<float>(one[n]);
      }
      read += frames;
      return frames;
    };
    if (cell_.chain.empty()) {
      Taken taken(cell_.rate_hz, channels, stimulus.frames(), writer(cell_.rate_hz, channels, stimulus));
      std::vector<float> block(static_cast<std::size_t>(kPlainBlock * channels));
      while (read < stimulus.frames()) {
        const std::int64_t frames = source(block);
        taken.add(std::span<const float>(block).first(static_cast<std::size_t>(frames * channels)));
      }
      return taken.finish();
    }
    UnitSearch search = options_.units;
    search.sample_rate_hz = cell_.rate_hz;
    std::vector<std::unique_ptr<Unit>> units;
    for (const std::string& unit : cell_.chain) units.push_back(open_unit(parse_unit(unit), search));
    Chain chain(std::move(units));
    const int out = chain.prepare(cell_.rate_hz, channels, cell_.block_frames);
    const auto tail = static_cast<std::int64_t>(kLeastTailS * cell_.rate_hz);
    Taken taken(chain.claimed_rate_hz(), out, stimulus.frames() + tail,
                writer(chain.claimed_rate_hz(), out, stimulus));
    chain.feed(source, stimulus.frames(), [&](std::span<const float> block) { taken.add(block); },
               {.block_frames = cell_.block_frames, .tail_frames = tail});
    return taken.finish();
  }

  // The file of the capture, where it is wanted.
  [[nodiscard]] std::optional<AudioWriter> writer(double rate_hz, int channels,
                                                  const Stimulus& stimulus) const {
    if (options_.captures.empty()) return std::nullopt;
    std::string name = name_of(cell_);
    std::replace_if(
        name.begin(), name.end(), [](char c) { return c == ' ' || c == '=' || c == '/'; }, '-');
    return AudioWriter(file_below(options_.captures, name + ".wav"),
                       {.sample_rate_hz = rate_hz,
                        .channel_count = channels,
                        .format = SampleFormat::float32,
                        .frames = stimulus.frames(),
                        .recipe = recipe_text(stimulus.recipe()),
                        .chain = identities_});
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
    workers_.push_back({child, ends[0], index, clock_s(), {}});
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

namespace {

EntryNotes notes_of(const Plan& plan, const CellResult& result, const BenchOptions& options,
                    std::int64_t now_s) {
  EntryNotes notes{.tags = tags_of(plan, result.cell)};
  notes.tags.insert(notes.tags.end(), options.tags.begin(), options.tags.end());
  notes.tags.emplace_back(kCellTag, result.known_by);
  if (options.again) notes.tags.emplace_back(kAgainTag, time_text(now_s));
  return notes;
}

// What the logbook holds of cells, each by its last run.
class KnownCells {
 public:
  explicit KnownCells(const Logbook& logbook)
      : logbook_(logbook), entries_(logbook.entries_by_tag(kCellTag)) {
    for (const auto& [when, ids] : logbook.entries_by_tag(kAgainTag))
      for (const std::int64_t id : ids) run_[id] = when;
  }
  /// @param whole  with curves and findings, too. Empty: it is not known.
  [[nodiscard]] std::vector<Sheet> sheets_of(const std::string& cell, bool whole) const {
    std::vector<Sheet> sheets;
    const auto found = entries_.find(cell);
    if (found == entries_.end()) return sheets;
    std::string last;
    for (const std::int64_t id : found->second) last = std::max(last, run_of(id));
    for (const std::int64_t id : found->second)
      if (run_of(id) == last) sheets.push_back(whole ? logbook_.sheet(id) : logbook_.figures(id));
    return sheets;
  }

 private:
  [[nodiscard]] std::string run_of(std::int64_t id) const {
    const auto found = run_.find(id);
    return found == run_.end() ? "" : found->second;
  }

  const Logbook& logbook_;
  std::map<std::string, std::vector<std::int64_t>> entries_;
  std::map<std::int64_t, std::string> run_;
};

}  // namespace

std::vector<CellResult> run_cells(const Plan& plan, const std::vector<Cell>& cells,
                                  const BenchOptions& options) {
  // What is mistyped, and what cannot be kept, is found before the first cell is fed.
  Identities identities(plan, options.units);
  const std::int64_t now_s = current_time_s();
  std::vector<CellResult> results(cells.size());
  for (std::size_t i = 0; i < cells.size(); ++i) {
    results[i].cell = cells[i];
    results[i].known_by = identities.of(cells[i]);
    if (options.logbook != nullptr) require_notes(notes_of(plan, results[i], options, now_s));
  }
  if (!options.captures.empty()) make_folder(options.captures);
  std::vector<std::size_t> left;
  std::size_t done = 0, failed = 0;
  std::optional<KnownCells> known;
  if (options.logbook != nullptr && !options.again) known.emplace(*options.logbook);
  for (std::size_t i = 0; i < cells.size(); ++i) {
    if (known) results[i].sheets = known->sheets_of(results[i].known_by, cells.size() <= kWholeSheets);
    if (results[i].sheets.empty()) {
      left.push_back(i);
      continue;
    }
    for (Sheet& sheet : results[i].sheets) sheet.capture.file = name_of(cells[i]);
    results[i].state = CellResult::State::known;
    ++done;
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
    result.seconds = clock_s() - ended->started_s;
    if (!reason.empty()) {
      result.reason = reason;
      ++failed;
      continue;
    }
    result.sheets = sheets_from_json(ended->said.substr(1), name_of(result.cell));
    for (Sheet& sheet : result.sheets) link_entries(sheet);
    result.state = CellResult::State::measured;
    ++done;
    if (options.logbook != nullptr)
      (void)options.logbook->keep(result.sheets, notes_of(plan, result, options, now_s));
  }
  if (options.progress) options.progress(done, failed);
  return results;
}

}  // namespace wavicon
