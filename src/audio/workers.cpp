// SPDX-License-Identifier: MIT
#include "wavicon/audio/workers.hpp"

#include <algorithm>
#include <atomic>
#include <chrono>
#include <condition_variable>
#include <cstdint>
#include <deque>
#include <exception>
#include <mutex>
#include <system_error>
#include <thread>
#include <utility>
#include <vector>

namespace wavicon {
namespace {

thread_local int allowed = 1;

constexpr int kMostThreads = 256;

// Looks for something for a while, letting others run meanwhile: to be put to sleep and woken takes longer
// than most of what is waited for here, on a virtual machine many times so.
template <typename There>
void look_for(There&& there) {
  constexpr auto kLooked = std::chrono::microseconds(100);
  const auto end = std::chrono::steady_clock::now() + kLooked;
  while (!there() && std::chrono::steady_clock::now() < end) std::this_thread::yield();
}

}  // namespace

// Parts that belong together. They are handed out in their order; guarded by the pool's mutex.
struct audio_detail::WorkGroup {
  std::function<void(std::size_t)> work;
  std::size_t count = 0;
  int threads = 1;                       // allowed to each of its parts
  std::size_t next = 0;                  // first part that nobody has taken
  std::atomic<std::size_t> ended{0};     // looked at by who waits without the mutex
  std::size_t failed = ~std::size_t{0};  // lowest part that threw; those that nobody has taken are left out
  std::exception_ptr failure;
  std::condition_variable all_ended;
};

namespace {

using audio_detail::WorkGroup;

// Nobody waits for a thread that has nothing to do: who waits for its parts takes those that are left itself,
// and only those.
class Pool {
 public:
  static Pool& instance() {
    static Pool pool;
    return pool;
  }

  void add(std::shared_ptr<WorkGroup> group) {
    const std::lock_guard lock(mutex_);
    const auto wanted = static_cast<std::size_t>(group->threads - 1);
    while (threads_.size() < wanted) {
      try {
        threads_.emplace_back([this] { serve(); });
      } catch (const std::system_error&) {
        break;  // the caller does what is left
      }
    }
    waiting_.push_back(std::move(group));
    ++added_;
    something_to_do_.notify_all();
  }

  void finish(WorkGroup& group) {
    std::unique_lock lock(mutex_);
    while (group.next < group.count) run_next(group, lock);
    forget(group);
    if (group.ended != group.count) {
      lock.unlock();
      look_for([&] { return group.ended == group.count; });
      lock.lock();
    }
    group.all_ended.wait(lock, [&] { return group.ended == group.count; });
    if (group.failure) std::rethrow_exception(std::exchange(group.failure, nullptr));
  }

  ~Pool() {
    {
      const std::lock_guard lock(mutex_);
      ending_ = true;
    }
    something_to_do_.notify_all();
    for (std::thread& thread : threads_) thread.join();
  }

 private:
  void serve() {
    std::unique_lock lock(mutex_);
    while (true) {
      if (waiting_.empty()) {
        const std::uint64_t seen = added_;
        lock.unlock();
        look_for([&] { return added_ != seen; });
        lock.lock();
      }
      something_to_do_.wait(lock, [&] { return ending_ || !waiting_.empty(); });
      if (ending_) return;
      const std::shared_ptr<WorkGroup> group = waiting_.front();
      if (group->next < group->count) run_next(*group, lock);
      if (group->next >= group->count) forget(*group);
    }
  }

  void run_next(WorkGroup& group, std::unique_lock<std::mutex>& lock) {
    const std::size_t part = group.next++;
    lock.unlock();
    std::exception_ptr failure;
    {
      const int before = std::exchange(allowed, group.threads);
      try {
        group.work(part);
      } catch (...) {
        failure = std::current_exception();
      }
      allowed = before;
    }
    lock.lock();
    if (failure) {
      if (part < group.failed) {
        group.failed = part;
        group.failure = failure;
      }
      group.ended += group.count - group.next;
      group.next = group.count;
    }
    if (++group.ended == group.count) group.all_ended.notify_all();
  }

  void forget(const WorkGroup& group) {
    std::erase_if(waiting_, [&](const auto& other) { return other.get() == &group; });
  }

  std::mutex mutex_;
  std::condition_variable something_to_do_;
  std::deque<std::shared_ptr<WorkGroup>> waiting_;
  std::vector<std::thread> threads_;
  std::atomic<std::uint64_t> added_{0};  // groups so far
  bool ending_ = false;
};

}  // namespace

ThreadAllowance::ThreadAllowance(int threads) : before_(allowed) {
  const int cores = static_cast<int>(std::max(1U, std::thread::hardware_concurrency()));
  allowed = std::clamp(threads > 0 ? threads : cores, 1, kMostThreads);
}
ThreadAllowance::~ThreadAllowance() { allowed = before_; }

int allowed_threads() noexcept { return allowed; }

WorkBeside::WorkBeside(std::function<void()> work)
    : WorkBeside(1, [work = std::move(work)](std::size_t) { work(); }) {}
WorkBeside::WorkBeside(std::size_t count, std::function<void(std::size_t)> work)
    : group_(std::make_shared<WorkGroup>()) {
  group_->work = std::move(work);
  group_->count = count;
  group_->threads = allowed;
  if (allowed > 1 && count > 0) Pool::instance().add(group_);
}
WorkBeside::WorkBeside(WorkBeside&&) noexcept = default;
WorkBeside::~WorkBeside() {
  if (!group_) return;
  try {
    wait();
  } catch (...) {  // nobody asked
  }
}
void WorkBeside::wait() {
  if (const auto group = std::exchange(group_, nullptr)) Pool::instance().finish(*group);
}

void for_each_part(std::size_t count, const std::function<void(std::size_t)>& work) {
  if (count < 2 || allowed < 2) {
    for (std::size_t part = 0; part < count; ++part) work(part);
    return;
  }
  WorkBeside(count, work).wait();
}

void for_each_part(std::size_t count, std::size_t values, const std::function<void(std::size_t)>& work) {
  constexpr std::size_t kWorthAThread = 8192;  // some tens of microseconds of the cheapest work
  if (values >= kWorthAThread) return for_each_part(count, work);
  for (std::size_t part = 0; part < count; ++part) work(part);
}

}  // namespace wavicon
