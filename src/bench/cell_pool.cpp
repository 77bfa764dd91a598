// SPDX-License-Identifier: MIT
#include "bench/cell_pool.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <cstring>

#include "wavicon/audio/error.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/path/worker.hpp"

namespace wavicon::bench_detail {
namespace {

constexpr char kDone = 'd', kFailed = 'f';  // first letter of what a process says
constexpr int kLookMs = 200;
constexpr unsigned kLongestS = 3600;  // that one thing may take

void write_all(int to, const std::string& text) {
  for (std::size_t at = 0; at < text.size();) {
    const ssize_t put = ::write(to, text.data() + at, text.size() - at);
    if (put < 0 && errno == EINTR) continue;
    if (put <= 0) ::_exit(1);
    at += static_cast<std::size_t>(put);
  }
}

std::string reason_of(int status, const std::string& said) {
  if (WIFSIGNALED(status) && WTERMSIG(status) == SIGALRM)
    return fmt::format("it made no end within {} s", kLongestS);
  if (WIFSIGNALED(status))
    return fmt::format("its process was ended by a signal ({})", strsignal(WTERMSIG(status)));
  if (said.empty()) return "its process ended without a word";
  return said[0] == kDone ? "" : said.substr(1);
}

}  // namespace

double clock_s() {
  return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count();
}

CellPool::~CellPool() {
  for (const Worker& worker : workers_) {
    ::close(worker.from);
    end_worker(worker.pid);
  }
}

void CellPool::start(std::size_t index, const std::function<std::string()>& work) {
  int ends[2];
  if (::pipe2(ends, O_CLOEXEC) != 0)
    throw Error(ErrorCode::unit_failed, fmt::format("no pipe for a cell: {}", std::strerror(errno)));
  const pid_t parent = ::getpid(), child = ::fork();
  if (child < 0) {
    const int why = errno;
    ::close(ends[0]);
    ::close(ends[1]);
    throw Error(ErrorCode::unit_failed, fmt::format("no process for a cell: {}", std::strerror(why)));
  }
  if (child == 0) {
    begin_worker(parent, abandon_partial_files);
    ::close(ends[0]);
    ::alarm(kLongestS);
    std::string said;
    try {
      said = kDone + work();
    } catch (const std::exception& error) {
      said = std::string(1, kFailed) + error.what();
    }
    write_all(ends[1], said);
    ::_exit(0);
  }
  ::close(ends[1]);
  workers_.push_back({child, ends[0], index, clock_s(), {}});
}

std::optional<Worker> CellPool::take(std::string& reason) {
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
    reason = reason_of(status, ended.said);
    if (!ended.said.empty()) ended.said.erase(0, 1);
    return ended;
  }
  return std::nullopt;
}

}  // namespace wavicon::bench_detail
