// SPDX-License-Identifier: MIT
#include "isolated.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/futex.h>
#include <poll.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <chrono>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <new>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/limits.hpp"

namespace wavicon::path_detail {
namespace {

using Clock = std::chrono::steady_clock;

constexpr int kSpins = 4000;              // before a process goes to sleep
constexpr int kLookMs = 20;               // between two looks whether the child still lives
constexpr double kMostOfALookS = 0.25;    // of the time from one look to the next: more was not waited for
constexpr std::size_t kTextBytes = 4096;  // of a message between the processes
constexpr int kMostTurns = 64;            // of settings, between two runs
constexpr std::size_t kCanaryBytes = 64;  // before each buffer
constexpr unsigned char kCanary = 0xA5;
constexpr std::size_t kAlignment = 16;  // bytes: what vector instructions want
constexpr int kNoMemoryStatus = 86;     // exit status; no plugin's own by chance

enum class State : std::uint32_t { starting, ready, run, done, failed, quit };
enum class Fault : std::uint32_t { none, beyond_buffer, no_memory, before_buffer };

// What both processes see first.
struct Control {
  std::atomic<std::uint32_t> state{0};
  std::atomic<std::uint32_t> fault{0};
  std::atomic<std::uint32_t> asleep{0};  ///< processes that wait in the kernel
  std::atomic<std::uint32_t> wanted{0};  ///< blocks of this run
  std::atomic<std::uint32_t> ended{0};   ///< of them, whose outputs are there
  std::int64_t latency = 0;
  double claimed_rate_hz = 0;
  int outputs = 0;
  int error_code = 0;
  struct Turn {
    std::size_t setting = 0;
    double value = 0;
  };
  int turn_count = 0;  ///< to be made before the next run; written while the child waits
  Turn turns[kMostTurns];
  char text[kTextBytes] = {};
};
static_assert(std::atomic<std::uint32_t>::is_always_lock_free);

void relax() {
#if defined(__x86_64__)
  __builtin_ia32_pause();
#endif
}

void set_state(Control& control, State state) {
  control.state.store(static_cast<std::uint32_t>(state), std::memory_order_seq_cst);
  if (control.asleep.load(std::memory_order_seq_cst) > 0)
    ::syscall(SYS_futex, &control.state, FUTEX_WAKE, 2, nullptr, nullptr, 0);
}

State state_of(const Control& control) {
  return static_cast<State>(control.state.load(std::memory_order_acquire));
}

// Waits until the state is no longer `old`, or a while.
void wait_while(Control& control, State old) {
  for (int i = 0; i < kSpins; ++i) {
    if (state_of(control) != old) return;
    relax();
  }
  const timespec look{0, kLookMs * 1'000'000L};
  control.asleep.fetch_add(1, std::memory_order_seq_cst);
  ::syscall(SYS_futex, &control.state, FUTEX_WAIT, static_cast<std::uint32_t>(old), &look, nullptr, 0);
  control.asleep.fetch_sub(1, std::memory_order_seq_cst);
}

// What was waited, look by look. A machine that slept between two looks, or a program that was stopped and
// goes on, had nobody in it who could have made progress: that counts as one look.
class Patience {
 public:
  explicit Patience(double seconds) : all_s_(seconds), left_s_(seconds) {}

  void begin_again() {
    left_s_ = all_s_;
    last_ = Clock::now();
  }
  // After a look.
  [[nodiscard]] bool is_over() {
    const auto now = Clock::now();
    left_s_ -= std::min(kMostOfALookS, std::chrono::duration<double>(now - last_).count());
    last_ = now;
    return left_s_ < 0;
  }

 private:
  double all_s_, left_s_;
  Clock::time_point last_ = Clock::now();
};

std::size_t page_bytes() { return static_cast<std::size_t>(::sysconf(_SC_PAGESIZE)); }

// One channel's buffer, its end at the edge of a page that nobody may touch, and such a page before it.
class GuardedBuffer {
 public:
  explicit GuardedBuffer(std::size_t floats) {
    const std::size_t page = page_bytes(),
                      bytes = (floats * sizeof(float) + kAlignment - 1) / kAlignment * kAlignment,
                      held = (bytes + kCanaryBytes + page - 1) / page * page;
    size_ = held + 2 * page;
    void* memory = ::mmap(nullptr, size_, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    if (memory == MAP_FAILED) throw std::bad_alloc();
    base_ = static_cast<unsigned char*>(memory);
    ::mprotect(base_, page, PROT_NONE);
    ::mprotect(base_ + page + held, page, PROT_NONE);
    samples_ = reinterpret_cast<float*>(base_ + page + held - bytes);
    std::memset(canary(), kCanary, kCanaryBytes);
  }
  GuardedBuffer(GuardedBuffer&& other) noexcept
      : base_(std::exchange(other.base_, nullptr)), size_(other.size_), samples_(other.samples_) {}
  GuardedBuffer(const GuardedBuffer&) = delete;
  GuardedBuffer& operator=(const GuardedBuffer&) = delete;
  GuardedBuffer& operator=(GuardedBuffer&&) = delete;
  ~GuardedBuffer() {
    if (base_ != nullptr) ::munmap(base_, size_);
  }
  [[nodiscard]] float* samples() const { return samples_; }
  [[nodiscard]] bool guards(const void* address) const {
    const auto* at = static_cast<const unsigned char*>(address);
    return at >= base_ && at < base_ + size_;
  }
  [[nodiscard]] bool intact() const {
    return std::all_of(canary(), canary() + kCanaryBytes, [](unsigned char c) { return c == kCanary; });
  }

 private:
  [[nodiscard]] unsigned char* canary() const {
    return reinterpret_cast<unsigned char*>(samples_) - kCanaryBytes;
  }

  unsigned char* base_ = nullptr;
  std::size_t size_ = 0;
  float* samples_ = nullptr;
};

// Blocks of all channels on their way between the processes; the unit is given the guarded buffers alone.
class SharedRow {
 public:
  SharedRow() = default;
  explicit SharedRow(std::size_t floats) : bytes_(std::max<std::size_t>(1, floats) * sizeof(float)) {
    void* memory = ::mmap(nullptr, bytes_, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    if (memory == MAP_FAILED) throw std::bad_alloc();
    samples_ = static_cast<float*>(memory);
  }
  SharedRow(SharedRow&& other) noexcept { *this = std::move(other); }
  SharedRow& operator=(SharedRow&& other) noexcept {
    std::swap(samples_, other.samples_);
    std::swap(bytes_, other.bytes_);
    return *this;
  }
  SharedRow(const SharedRow&) = delete;
  SharedRow& operator=(const SharedRow&) = delete;
  ~SharedRow() {
    if (samples_ != nullptr) ::munmap(samples_, bytes_);
  }
  [[nodiscard]] float* samples() const { return samples_; }

 private:
  float* samples_ = nullptr;
  std::size_t bytes_ = 0;
};

// What the child's handlers need to know.
Control* child_control = nullptr;
const std::vector<GuardedBuffer>* child_buffers = nullptr;

void on_fault(int signal, siginfo_t* info, void*) {
  if (child_control != nullptr && child_buffers != nullptr)
    for (const GuardedBuffer& buffer : *child_buffers)
      if (buffer.guards(info->si_addr))
        child_control->fault = static_cast<std::uint32_t>(Fault::beyond_buffer);
  ::signal(signal, SIG_DFL);
  ::raise(signal);
}

void on_no_memory() {
  if (child_control != nullptr) child_control->fault = static_cast<std::uint32_t>(Fault::no_memory);
  ::_exit(kNoMemoryStatus);
}

std::size_t held_bytes() {
  std::size_t pages = 0;
  std::ifstream("/proc/self/statm") >> pages;
  return pages * page_bytes();
}

// A child that dies with its parent, leaves no core, prints nothing, and cannot take all memory.
void settle_as_child(pid_t parent, const Isolation& options) {
  ::prctl(PR_SET_PDEATHSIG, SIGKILL);
  if (::getppid() != parent) ::_exit(0);
  const rlimit none{0, 0};
  ::setrlimit(RLIMIT_CORE, &none);
  const rlimit memory{held_bytes() + options.most_memory, held_bytes() + options.most_memory};
  ::setrlimit(RLIMIT_AS, &memory);
  const int nowhere = ::open("/dev/null", O_RDWR);
  for (int fd = 0; fd <= 2; ++fd) ::dup2(nowhere, fd);
  for (const int signal : {SIGTERM, SIGHUP, SIGPIPE, SIGABRT, SIGFPE, SIGILL}) ::signal(signal, SIG_DFL);
  ::signal(SIGINT, SIG_IGN);  // the parent hears it and ends this one
  static unsigned char stack[65536];
  stack_t alternative{};
  alternative.ss_sp = stack;
  alternative.ss_size = sizeof stack;
  ::sigaltstack(&alternative, nullptr);
  struct sigaction action {};
  action.sa_sigaction = on_fault;
  action.sa_flags = SA_SIGINFO | SA_ONSTACK;
  ::sigaction(SIGSEGV, &action, nullptr);
  ::sigaction(SIGBUS, &action, nullptr);
  std::set_new_handler(on_no_memory);
}

std::string signal_text(int signal) {
  switch (signal) {
    case SIGSEGV:
    case SIGBUS:
      return "crashed (it touched memory that is not its own)";
    case SIGABRT:
      return "gave up (abort)";
    case SIGFPE:
      return "crashed (a division that is not defined)";
    case SIGILL:
      return "crashed (an instruction that this processor does not have)";
    default:
      return fmt::format("was ended by signal {}", signal);
  }
}

// How a child ended.
std::string ending_text(int status, Fault fault, const Isolation& options) {
  if (fault == Fault::beyond_buffer) return "wrote or read beyond its buffer";
  if (fault == Fault::no_memory || (WIFEXITED(status) && WEXITSTATUS(status) == kNoMemoryStatus))
    return fmt::format("asked for more than {} MiB of memory", options.most_memory >> 20);
  if (WIFSIGNALED(status)) return signal_text(WTERMSIG(status));
  return fmt::format("ended the program (exit {})", WEXITSTATUS(status));
}

class IsolatedUnit : public Unit {
 public:
  IsolatedUnit(std::unique_ptr<Unit> inner, const Isolation& options)
      : inner_(std::move(inner)), options_(options) {
    void* memory =
        ::mmap(nullptr, sizeof(Control), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    if (memory == MAP_FAILED) throw std::bad_alloc();
    control_ = new (memory) Control;
  }
  ~IsolatedUnit() override {
    end_child();
    ::munmap(control_, sizeof(Control));
  }
  IsolatedUnit(const IsolatedUnit&) = delete;
  IsolatedUnit& operator=(const IsolatedUnit&) = delete;

  const UnitInfo& info() const noexcept override { return inner_->info(); }

  void prepare(double sample_rate_hz, int channel_count, int block_frames) override {
    end_child();
    new (control_) Control;
    buffers_.clear();
    inputs_.clear();
    outputs_.clear();
    inputs_count_ = channel_count;
    block_frames_ = block_frames;
    const int most_outputs = std::max(1, inner_->info().output_count) * channel_count;
    for (int c = 0; c < channel_count + most_outputs; ++c) {
      buffers_.emplace_back(static_cast<std::size_t>(block_frames));
      (c < channel_count ? inputs_ : outputs_).push_back(buffers_.back().samples());
    }
    row_ = SharedRow(buffers_.size() * row_frames());
    const pid_t parent = ::getpid();
    const pid_t child = ::fork();
    if (child < 0)
      throw Error(ErrorCode::unit_failed, fmt::format("{}: no process could be started for it: {}",
                                                      info().name, std::strerror(errno)));
    if (child == 0) serve(parent, sample_rate_hz, channel_count);
    child_ = child;
    await(State::starting, "while it was started");
    if (state_of(*control_) == State::failed) {
      const std::string text = control_->text;
      const auto code = static_cast<ErrorCode>(control_->error_code);
      end_child();
      throw Error(code, text);
    }
  }

  int output_channel_count() const noexcept override { return control_->outputs; }
  std::int64_t latency_frames() const noexcept override { return control_->latency; }
  double claimed_rate_hz() const noexcept override { return control_->claimed_rate_hz; }

  bool turn(std::size_t setting, double value) override {
    // Here for the next prepare(), and there for what runs.
    if (!inner_->turn(setting, value)) return false;
    Control::Turn* const end = control_->turns + control_->turn_count;
    Control::Turn* const place =
        std::find_if(control_->turns, end, [&](const auto& one) { return one.setting == setting; });
    if (place == end && control_->turn_count == kMostTurns) return false;
    *place = {setting, value};
    if (place == end) ++control_->turn_count;
    return true;
  }

  void run(const float* const* inputs, float* const* outputs) override {
    int done = 0;
    run_row({inputs, inputs_count_, outputs, block_frames_, 1}, done);
  }

  // The processes meet once for all of them.
  void run_row(const Row& row, int& done) override {
    const std::size_t frames = static_cast<std::size_t>(row.count) * static_cast<std::size_t>(block_frames_);
    for (int c = 0; c < inputs_count_; ++c) std::copy_n(row.inputs[c], frames, in_row(c));
    control_->wanted = static_cast<std::uint32_t>(row.count);
    control_->ended = 0;
    done = 0;
    const auto hand_over = [&] {
      done = std::min(row.count, static_cast<int>(control_->ended.load()));
      for (int c = 0; c < control_->outputs; ++c)
        std::copy_n(in_row(inputs_count_ + c),
                    static_cast<std::size_t>(done) * static_cast<std::size_t>(block_frames_), row.outputs[c]);
    };
    set_state(*control_, State::run);
    try {
      await(State::run, "");
    } catch (const Error&) {
      hand_over();
      throw;
    }
    hand_over();
    if (state_of(*control_) == State::failed)
      throw Error(static_cast<ErrorCode>(control_->error_code), control_->text);
    if (static_cast<Fault>(control_->fault.load()) == Fault::before_buffer) {
      end_child();
      throw Error(ErrorCode::unit_failed,
                  fmt::format("{} wrote before the start of its buffer", info().name));
    }
  }

 private:
  // The child's life; never returns.
  [[noreturn]] void serve(pid_t parent, double rate, int channel_count) {
    child_control = control_;
    child_buffers = &buffers_;
    settle_as_child(parent, options_);
    try {
      inner_->prepare(rate, channel_count, block_frames_);
      control_->outputs = inner_->output_channel_count();
      control_->claimed_rate_hz = inner_->claimed_rate_hz();
      set_state(*control_, State::ready);
      std::vector<const float*> in(inputs_.begin(), inputs_.end());
      while (true) {
        const State state = state_of(*control_);
        if (state == State::quit) ::_exit(0);
        if (state != State::run) {
          wait_while(*control_, state);
          continue;
        }
        for (; control_->turn_count > 0; --control_->turn_count) {
          const Control::Turn& turn = control_->turns[control_->turn_count - 1];
          (void)inner_->turn(turn.setting, turn.value);
        }
        run_blocks(in);
        control_->latency = inner_->latency_frames();
        set_state(*control_, State::done);
      }
    } catch (const Error& error) {
      fail(error.code(), error.what());
    } catch (const std::bad_alloc&) {
      on_no_memory();
    } catch (const std::exception& error) {
      fail(ErrorCode::unit_failed, fmt::format("{} threw: {}", inner_->info().name, error.what()));
    } catch (...) {
      fail(ErrorCode::unit_failed, fmt::format("{} threw what is no exception", inner_->info().name));
    }
    ::_exit(0);
  }

  // Block by block through the guarded buffers.
  void run_blocks(const std::vector<const float*>& in) {
    const auto frames = static_cast<std::size_t>(block_frames_);
    for (std::uint32_t block = 0; block < control_->wanted; ++block) {
      const std::size_t at = block * frames;
      for (int c = 0; c < inputs_count_; ++c)
        std::copy_n(in_row(c) + at, frames, inputs_[static_cast<std::size_t>(c)]);
      inner_->run(in.data(), outputs_.data());
      if (!std::all_of(buffers_.begin(), buffers_.end(), [](const auto& b) { return b.intact(); })) {
        control_->fault = static_cast<std::uint32_t>(Fault::before_buffer);
        return;
      }
      for (int c = 0; c < control_->outputs; ++c)
        std::copy_n(outputs_[static_cast<std::size_t>(c)], frames, in_row(inputs_count_ + c) + at);
      control_->ended = block + 1;
    }
  }

  [[nodiscard]] std::size_t row_frames() const {
    return static_cast<std::size_t>(kMostBlocks) * static_cast<std::size_t>(block_frames_);
  }
  [[nodiscard]] float* in_row(int channel) const {
    return row_.samples() + static_cast<std::size_t>(channel) * row_frames();
  }

  void fail(ErrorCode code, const std::string& text) {
    control_->error_code = static_cast<int>(code);
    std::strncpy(control_->text, text.c_str(), kTextBytes - 1);
    set_state(*control_, State::failed);
  }

  // Until the child has left a state; reports its end or its standing still.
  void await(State old, const std::string& when) {
    Patience patience(options_.patience_s);
    std::uint32_t ended = 0;
    while (state_of(*control_) == old) {
      wait_while(*control_, old);
      if (state_of(*control_) != old) return;
      // Each block that is done is progress.
      if (const std::uint32_t now = control_->ended; now != ended) {
        ended = now;
        patience.begin_again();
      }
      int status = 0;
      if (child_ > 0 && ::waitpid(child_, &status, WNOHANG) == child_) {
        child_ = 0;
        if (state_of(*control_) != old) return;
        throw Error(ErrorCode::unit_failed,
                    fmt::format("{} {}{}{}", info().name,
                                ending_text(status, static_cast<Fault>(control_->fault.load()), options_),
                                when.empty() ? "" : " ", when));
      }
      if (patience.is_over()) {
        end_child();
        throw Error(ErrorCode::unit_failed, fmt::format("{} hangs: no progress in {:g} s{}{}", info().name,
                                                        options_.patience_s, when.empty() ? "" : " ", when));
      }
    }
  }

  void end_child() noexcept {
    if (child_ <= 0) return;
    ::kill(child_, SIGKILL);
    ::waitpid(child_, nullptr, 0);
    child_ = 0;
  }

  std::unique_ptr<Unit> inner_;
  Isolation options_;
  Control* control_ = nullptr;
  std::vector<GuardedBuffer> buffers_;
  std::vector<float*> inputs_, outputs_;
  SharedRow row_;  // of the inputs and, behind them, the outputs
  int inputs_count_ = 0;
  int block_frames_ = 0;
  pid_t child_ = 0;
};

}  // namespace

std::unique_ptr<Unit> isolated(std::unique_ptr<Unit> inner, const Isolation& options) {
  return std::make_unique<IsolatedUnit>(std::move(inner), options);
}

std::string told_by_child(const std::string& what, const std::function<std::string()>& work,
                          const Isolation& options) {
  int ends[2];
  if (::pipe2(ends, O_CLOEXEC) != 0)
    throw Error(ErrorCode::unit_failed, fmt::format("{}: {}", what, std::strerror(errno)));
  const pid_t parent = ::getpid(), child = ::fork();
  if (child == 0) {
    settle_as_child(parent, options);
    std::string text;
    try {
      text = work();
    } catch (...) {
      ::_exit(1);
    }
    for (std::size_t at = 0; at < text.size();) {
      const ssize_t written = ::write(ends[1], text.data() + at, text.size() - at);
      if (written <= 0) ::_exit(1);
      at += static_cast<std::size_t>(written);
    }
    ::_exit(0);
  }
  ::close(ends[1]);
  std::string text;
  Patience patience(options.patience_s);
  bool hangs = child < 0, endless = false;
  char piece[65536];
  while (child > 0) {
    pollfd waiting{ends[0], POLLIN, 0};
    const bool told = ::poll(&waiting, 1, kLookMs) != 0;
    hangs = patience.is_over();
    if (!told && !hangs) continue;
    if (hangs) {
      ::kill(child, SIGKILL);
      break;
    }
    const ssize_t got = ::read(ends[0], piece, sizeof piece);
    if (got <= 0) break;
    text.append(piece, static_cast<std::size_t>(got));
    if (text.size() > kLongestCacheBytes) {
      ::kill(child, SIGKILL);
      endless = true;
      break;
    }
  }
  ::close(ends[0]);
  int status = 0;
  if (child > 0) ::waitpid(child, &status, 0);
  if (hangs)
    throw Error(ErrorCode::unit_failed,
                fmt::format("{} hangs: no answer in {:g} s", what, options.patience_s));
  if (endless) throw Error(ErrorCode::unit_failed, what + " describes itself without end");
  if (!WIFEXITED(status) || WEXITSTATUS(status) != 0)
    throw Error(ErrorCode::unit_failed, fmt::format("{} {} while it was asked what it is", what,
                                                    ending_text(status, Fault::none, options)));
  return text;
}

}  // namespace wavicon::path_detail
