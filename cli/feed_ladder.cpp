// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <csignal>
#include <cstring>
#include <fstream>
#include <map>
#include <set>
#include <thread>

#include "feed.hpp"
#include "program.hpp"
#include "stimulus_file.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/file/limits.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/path/worker.hpp"

namespace wavicon::cli {
namespace {

namespace fs = std::filesystem;

// One axis of a ladder: its name in file names, and its values.
struct Axis {
  std::string name;
  std::vector<std::string> values;
  std::size_t unit = 0, setting = 0;  // where it stands in the chain
  enum class Kind { setting, block, rate } kind = Kind::setting;
};

std::string unit_text(const UnitSpec& spec) {
  std::string text = spec.scheme + ":" + spec.name;
  for (std::size_t i = 0; i < spec.settings.size(); ++i)
    text += (i == 0 ? "?" : "&") + spec.settings[i].first + "=" + spec.settings[i].second;
  return text;
}

std::vector<Axis> axes_of(const Feed& feed, const std::vector<UnitSpec>& specs) {
  std::vector<Axis> axes;
  std::map<std::string, int> seen;
  for (const UnitSpec& spec : specs)
    for (const auto& [symbol, value] : spec.settings)
      seen[symbol] += value.find(',') != std::string::npos ? 1 : 0;
  for (std::size_t u = 0; u < specs.size(); ++u)
    for (std::size_t s = 0; s < specs[u].settings.size(); ++s) {
      const auto& [symbol, value] = specs[u].settings[s];
      if (value.find(',') == std::string::npos) continue;
      axes.push_back({seen[symbol] > 1 ? fmt::format("{}-{}", u + 1, symbol) : symbol,
                      setting_ladder(symbol, value), u, s});
    }
  if (feed.blocks.size() > 1) {
    axes.push_back({"block", {}, 0, 0, Axis::Kind::block});
    for (const int block : feed.blocks) axes.back().values.push_back(std::to_string(block));
  }
  if (!feed.rates_hz.empty()) {
    axes.push_back({"rate", {}, 0, 0, Axis::Kind::rate});
    for (const double rate : feed.rates_hz) axes.back().values.push_back(fmt::format("{:g}", rate));
  }
  return axes;
}

struct Step {
  Feed feed;
  std::string name;    // of its values, for files
  std::string values;  // as they were given
};

// The stimulus at another rate, beside the captures.
std::string stimulus_file_at(const Feed& feed, const std::string& rate) {
  const fs::path folder = fs::path(feed.capture).parent_path();
  const fs::path file = folder / fmt::format("{}-{}.wav", fs::path(feed.stimulus).stem().string(), rate);
  require_below(folder, file);
  return file.string();
}

// Makes the stimulus at each rate, once every one is known to be right.
void make_stimuli(const Feed& feed) {
  if (feed.rates_hz.empty()) return;
  const auto stimulus = stimulus_inside(AudioReader(feed.stimulus).info());
  if (!stimulus)
    throw Error(ErrorCode::bad_input,
                feed.stimulus + ": carries no recipe, and cannot be made at other rates");
  std::vector<Recipe> recipes;
  for (const double rate : feed.rates_hz) {
    recipes.push_back(stimulus->recipe());
    recipes.back().sample_rate_hz = rate;
    require_valid(recipes.back());
  }
  for (const Recipe& recipe : recipes)
    write_stimulus(recipe, stimulus_file_at(feed, fmt::format("{:g}", recipe.sample_rate_hz)), feed.quiet);
}

// No capture may take the place of another one, of the stimulus, or lie elsewhere.
void require_places(const Feed& feed, const std::vector<Step>& steps) {
  std::map<std::string, std::string> values;  // by file
  const fs::path folder = fs::path(feed.capture).parent_path();
  for (const Step& step : steps) {
    const fs::path file = step.feed.capture;
    const auto [place, is_new] = values.emplace(file.string(), step.values);
    if (!is_new)
      throw Error(ErrorCode::bad_argument,
                  fmt::format("the ladder's {} and {} would both be written to {}; give values whose names "
                              "differ",
                              place->second, step.values, file.string()));
    if (file.filename().string().size() > kLongestNameBytes)
      throw Error(ErrorCode::bad_argument,
                  fmt::format("{}: the name is longer than {} bytes; give the ladder shorter values",
                              file.string(), kLongestNameBytes));
    require_below(folder, file);
    require_writable(file, {feed.stimulus, step.feed.stimulus});
  }
}

std::vector<Step> steps_of(const Feed& feed, std::vector<UnitSpec> specs, const std::vector<Axis>& axes) {
  std::size_t count = 1;
  for (const Axis& axis : axes) {
    count *= axis.values.size();
    if (count > kMostLadderSteps)
      throw Error(ErrorCode::bad_argument,
                  fmt::format("the ladder has more than {} steps", kMostLadderSteps));
  }
  const fs::path capture = feed.capture;
  std::vector<Step> steps;
  for (std::size_t i = 0; i < count; ++i) {
    Step step{feed, ""};
    std::size_t rest = i, block = count;
    for (const Axis& axis : axes) {
      block /= axis.values.size();
      const std::string& value = axis.values[rest / block];
      rest %= block;
      step.name += fmt::format("{}{}-{}", step.name.empty() ? "" : "-", axis.name, tame_name(value));
      step.values += fmt::format("{}{}={}", step.values.empty() ? "" : " ", axis.name, value);
      if (axis.kind == Axis::Kind::setting) specs[axis.unit].settings[axis.setting].second = value;
      if (axis.kind == Axis::Kind::block) step.feed.block_frames = std::stoi(value);
      if (axis.kind == Axis::Kind::rate) step.feed.stimulus = stimulus_file_at(feed, value);
    }
    step.feed.units.clear();
    for (const UnitSpec& spec : specs) step.feed.units.push_back(unit_text(spec));
    step.feed.capture = (capture.parent_path() / fmt::format("{}-{}{}", capture.stem().string(), step.name,
                                                             capture.extension().string()))
                            .string();
    steps.push_back(std::move(step));
  }
  return steps;
}

// What an interrupted ladder has finished: a small file beside the captures, gone when the ladder is whole.
class Record {
 public:
  explicit Record(const Feed& feed) {
    const fs::path capture = feed.capture;
    file_ = capture.parent_path() / fmt::format(".{}.ladder", capture.stem().string());

    head_ = fmt::format("{} {} {} {} {} {} {}", feed.units, feed.tail_s, feed.keep_latency,
                        feed.format.bits.value_or(0), feed.format.dither, feed.format.no_dither,
                        feed.format.seed);
    struct stat times {};
    ::stat(feed.stimulus.c_str(), &times);
    head_ += fmt::format(" {} {} {}.{:09}", feed.stimulus, times.st_size, times.st_mtim.tv_sec,
                         times.st_mtim.tv_nsec);
    std::ifstream in(file_);
    std::string line;
    if (std::getline(in, line) && line == head_)
      while (std::getline(in, line)) finished_.insert(line);
    else
      write_text_file(file_, head_ + "\n");
    clear_leftovers(capture);
  }
  [[nodiscard]] bool finished(const std::string& capture) const {
    std::error_code ignored;
    return finished_.count(capture) > 0 && fs::exists(capture, ignored);
  }
  void add(const std::string& capture) {
    std::ofstream out(file_, std::ios::app);
    out << capture + "\n";
    out.close();
    if (!out)
      throw Error(ErrorCode::write_failed,
                  fmt::format("{}: cannot be written: is the disk full?", file_.string()));
  }
  void remove() {
    std::error_code ignored;
    fs::remove(file_, ignored);
  }

 private:
  // Whether a process of that number runs; one that has ended and was not asked about has no command line.
  static bool lives(int pid) {
    std::ifstream in(fmt::format("/proc/{}/cmdline", pid));
    return in.good() && in.peek() != std::ifstream::traits_type::eof();
  }

  // Files that a killed run was writing: captures, and its own record.
  void clear_leftovers(const fs::path& capture) const {
    std::error_code ignored;
    const std::string start = "." + capture.stem().string() + "-", record = "." + file_.stem().string() + ".";
    const fs::path folder = capture.has_parent_path() ? capture.parent_path() : fs::path(".");
    std::vector<fs::path> old;
    for (fs::directory_iterator at(folder, ignored), end; !ignored && at != end; at.increment(ignored)) {
      const fs::path& path = at->path();
      const std::string name = path.filename().string();
      const auto mark = name.find(".partial");
      if ((name.rfind(start, 0) != 0 && name.rfind(record, 0) != 0) || mark == std::string::npos) continue;
      const auto dash = name.rfind('-', mark), dot = name.rfind('.', dash);
      const int pid = dot == std::string::npos ? 0 : std::atoi(name.c_str() + dot + 1);
      if (pid > 0 && !lives(pid)) old.push_back(path);
    }
    for (const fs::path& file : old) fs::remove(file, ignored);
  }

  fs::path file_;
  std::string head_;
  std::set<std::string> finished_;
};

// A step in a process of its own; what it prints comes in one piece.
struct Worker {
  pid_t pid = 0;
  int out = -1;
  int err = -1;
  std::size_t step = 0;
};

// Those that run; they end where this does, before their captures are whole.
struct Workers : std::vector<Worker> {
  explicit Workers(std::size_t at_once) { reserve(at_once); }
  Workers(const Workers&) = delete;
  Workers& operator=(const Workers&) = delete;
  ~Workers() {
    for (const Worker& worker : *this) end_worker(worker.pid);
  }
};

Worker start(const Step& step, std::size_t index) {
  int out[2], err[2];
  if (::pipe(out) != 0 || ::pipe(err) != 0)
    throw Error(ErrorCode::unit_failed, fmt::format("no pipe for {}: {}", step.name, std::strerror(errno)));
  std::fflush(nullptr);
  const pid_t parent = ::getpid(), child = ::fork();
  if (child < 0)
    throw Error(ErrorCode::unit_failed,
                fmt::format("no process for {}: {}", step.name, std::strerror(errno)));
  if (child == 0) {
    begin_worker(parent, abandon_partial_files);
    ::dup2(out[1], STDOUT_FILENO);
    ::dup2(err[1], STDERR_FILENO);
    for (const int end : {out[0], out[1], err[0], err[1]}) ::close(end);
    int status = exit_status::measured;
    try {
      status = feed_once(step.feed);
    } catch (const Interrupted&) {
      status = exit_status::interrupted;
    } catch (...) {
      const Failure failure = current_failure();
      tell(fmt::format("wavicon: {}: {}", step.name, failure.line));
      status = failure.status;
    }
    std::fflush(nullptr);
    ::_exit(status);
  }
  ::close(out[1]);
  ::close(err[1]);
  return {child, out[0], err[0], index};
}

void pass_on(int from, std::FILE* to) {
  char piece[4096];
  for (ssize_t got = 0; (got = ::read(from, piece, sizeof piece)) > 0;)
    std::fwrite(piece, 1, static_cast<std::size_t>(got), to);
  std::fflush(to);
  ::close(from);
}

// Waits for one of them to end, prints what it said, and takes it out.
int finish_one(Workers& workers, std::size_t& step) {
  int state = 0;
  pid_t ended = 0;
  do {
    ended = ::waitpid(-1, &state, 0);
  } while (ended < 0 && errno == EINTR);
  const auto worker =
      std::find_if(workers.begin(), workers.end(), [&](const Worker& w) { return w.pid == ended; });
  if (worker == workers.end()) return exit_status::measured;
  const int status = WIFEXITED(state) ? WEXITSTATUS(state) : exit_status::unit_failed;
  pass_on(worker->out, stdout);
  pass_on(worker->err, stderr);
  step = worker->step;
  workers.erase(worker);
  return status;
}

int climb(const Feed& feed, const std::vector<UnitSpec>& specs, const std::vector<Step>& steps) {
  Record record(feed);
  const std::size_t at_once =
      std::any_of(specs.begin(), specs.end(), [](const UnitSpec& s) { return s.scheme == "jack"; }) ? 1
      : feed.jobs > 0 ? static_cast<std::size_t>(feed.jobs)
                      : std::max(1U, std::thread::hardware_concurrency());
  Workers workers(std::min(at_once, steps.size()));
  std::size_t next = 0, kept = 0, failed = 0;
  int worst = exit_status::measured;
  while (next < steps.size() || !workers.empty()) {
    throw_if_interrupted();
    if (next < steps.size() && workers.size() < at_once) {
      if (record.finished(steps[next].feed.capture))
        ++kept;
      else
        workers.push_back(start(steps[next], next));
      ++next;
      continue;
    }
    std::size_t step = 0;
    const int status = finish_one(workers, step);
    if (status == exit_status::interrupted) throw Interrupted{};
    if (status == exit_status::measured) record.add(steps[step].feed.capture);
    if (status != exit_status::measured) {
      ++failed;
      worst = worst == exit_status::measured ? status : worst;
    }
  }
  if (failed == 0) record.remove();
  say(feed.quiet, fmt::format("ladder of {} captures: {} fed{}{}", steps.size(), steps.size() - kept - failed,
                              kept > 0 ? fmt::format(", {} kept from an interrupted run", kept) : "",
                              failed > 0 ? fmt::format(", {} failed", failed) : ""));
  return worst;
}

}  // namespace

int run_feed(const Feed& asked) {
  Feed feed = asked;
  if (!feed.blocks.empty()) feed.block_frames = feed.blocks.front();
  std::vector<UnitSpec> specs;
  for (const std::string& unit : feed.units) specs.push_back(parse_unit(unit));
  const auto axes = axes_of(feed, specs);
  if (axes.empty()) return feed_once(feed);
  require_writable(feed.capture, {feed.stimulus});
  require_different(feed.rates_hz, "--rates");
  const auto steps = steps_of(feed, specs, axes);
  require_places(feed, steps);
  // What is mistyped is found before the first capture is fed.
  UnitSearch search = own_units();
  search.isolate = !feed.in_process;
  std::set<std::string> units;
  for (const Step& step : steps) units.insert(step.feed.units.begin(), step.feed.units.end());
  for (const std::string& unit : units)
    if (parse_unit(unit).scheme != "jack") (void)open_unit(parse_unit(unit), search);
  make_stimuli(feed);
  return climb(feed, specs, steps);
}

}  // namespace wavicon::cli
