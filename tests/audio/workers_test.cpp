// SPDX-License-Identifier: MIT
#include "wavicon/audio/workers.hpp"

#include <atomic>
#include <chrono>
#include <numeric>
#include <set>
#include <stdexcept>
#include <thread>
#include <vector>

#include "support.hpp"

namespace wavicon::workers_test {
namespace {

using namespace std::chrono_literals;

// Threads that took a part, each of which lasts long enough for another to come.
std::set<std::thread::id> threads_of(std::size_t parts) {
  std::mutex mutex;
  std::set<std::thread::id> ids;
  for_each_part(parts, [&](std::size_t) {
    std::this_thread::sleep_for(20ms);
    const std::lock_guard lock(mutex);
    ids.insert(std::this_thread::get_id());
  });
  return ids;
}

TEST(Workers, NoThreadThatNobodyAllowed) {
  EXPECT_EQ(allowed_threads(), 1);
  EXPECT_EQ(threads_of(8), std::set{std::this_thread::get_id()});
  std::vector<std::size_t> order;
  for_each_part(5, [&](std::size_t part) { order.push_back(part); });
  EXPECT_EQ(order, (std::vector<std::size_t>{0, 1, 2, 3, 4}));
  {
    const ThreadAllowance three(3);
    EXPECT_EQ(allowed_threads(), 3);
    const auto ids = threads_of(12);
    EXPECT_GT(ids.size(), 1U);
    EXPECT_LE(ids.size(), 3U);
    {
      const ThreadAllowance one(1);
      EXPECT_EQ(threads_of(4).size(), 1U);
    }
    EXPECT_EQ(allowed_threads(), 3);
  }
  EXPECT_EQ(threads_of(4).size(), 1U);
  const ThreadAllowance all(0);
  EXPECT_GE(allowed_threads(), 1);
}

TEST(Workers, EachPartOnceAndPartsOfParts) {
  const ThreadAllowance four(4);
  std::vector<std::atomic<int>> done(1000);
  for_each_part(40, [&](std::size_t outer) {
    EXPECT_EQ(allowed_threads(), 4) << "parts may divide themselves again";
    for_each_part(25, [&](std::size_t inner) { ++done[25 * outer + inner]; });
  });
  for (const auto& times : done) ASSERT_EQ(times, 1);
  for_each_part(0, [](std::size_t) { FAIL(); });
}

TEST(Workers, WhatTheLowestPartThrows) {
  for (const int threads : {1, 4}) {
    const ThreadAllowance allowance(threads);
    for (int round = 0; round < 50; ++round) {
      std::string what;
      try {
        for_each_part(64, [](std::size_t part) {
          if (part % 7 == 5) throw std::runtime_error(std::to_string(part));
        });
      } catch (const std::runtime_error& error) {
        what = error.what();
      }
      EXPECT_EQ(what, "5");
    }
  }
}

TEST(Workers, WorkBesideIsDoneAtTheLatestWhenItIsWaitedFor) {
  for (const int threads : {1, 2}) {
    const ThreadAllowance allowance(threads);
    std::atomic<bool> done = false;
    WorkBeside work([&] { done = true; });
    if (threads == 1) {
      EXPECT_FALSE(done) << "nobody allowed a thread";
    }
    work.wait();
    EXPECT_TRUE(done);
    WorkBeside failing([] { throw std::runtime_error("lost"); });
    EXPECT_THROW(failing.wait(), std::runtime_error);
    std::atomic<int> count = 0;
    {
      const WorkBeside unasked([&] { ++count; });
    }
    EXPECT_EQ(count, 1);
    {
      const WorkBeside silent([] { throw std::runtime_error("nobody asked"); });
    }
  }
}

// Before others look for something to do, while they do, and when they sleep.
TEST(Workers, ComeWheneverThereIsSomethingToDo) {
  const ThreadAllowance three(3);
  for (const auto gap : {0us, 20us, 80us, 2000us})
    for (int round = 0; round < 100; ++round) {
      std::atomic<int> done = 0;
      WorkBeside work(5, [&](std::size_t part) {
        if (part == 4) std::this_thread::sleep_for(gap);
        ++done;
      });
      std::this_thread::sleep_for(gap);
      work.wait();
      ASSERT_EQ(done, 5) << gap.count() << " us, round " << round;
    }
}

}  // namespace
}  // namespace wavicon::workers_test
