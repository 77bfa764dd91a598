// SPDX-License-Identifier: MIT
// The program with calls that fail: the n-th open, write, rename, folder or allocation, for one n after the
// other. Whatever fails, there is a line and a status, and every file is whole or not there.

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/wait.h>

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <cstdlib>
#include <map>
#include <new>

#include "file/disk.hpp"
#include "program.hpp"
#include "support.hpp"

namespace {

// Shared with the child that is watched: how many calls there were, and which one fails; -1: none.
struct Watch {
  std::atomic<long> calls{0};
  std::atomic<long> failing{-1};
};
Watch* watch_allocations = nullptr;
Watch* watch_disk = nullptr;
wavicon::file_detail::DiskCall watched_call{};

bool fails(Watch* watch) { return watch != nullptr && watch->calls.fetch_add(1) == watch->failing.load(); }

void* allocated(std::size_t bytes, std::size_t alignment) {
  if (fails(watch_allocations)) return nullptr;
  if (bytes == 0) bytes = 1;
  return alignment == 0 ? std::malloc(bytes)
                        : std::aligned_alloc(alignment, (bytes + alignment - 1) / alignment * alignment);
}

void* allocated_or_thrown(std::size_t bytes, std::size_t alignment = 0) {
  while (true) {
    if (void* memory = allocated(bytes, alignment)) return memory;
    const std::new_handler handler = std::get_new_handler();
    if (handler == nullptr) throw std::bad_alloc();
    handler();
  }
}

}  // namespace

void* operator new(std::size_t bytes) { return allocated_or_thrown(bytes); }
void* operator new[](std::size_t bytes) { return allocated_or_thrown(bytes); }
void* operator new(std::size_t bytes, std::align_val_t alignment) {
  return allocated_or_thrown(bytes, static_cast<std::size_t>(alignment));
}
void* operator new(std::size_t bytes, const std::nothrow_t&) noexcept { return allocated(bytes, 0); }
void* operator new[](std::size_t bytes, const std::nothrow_t&) noexcept { return allocated(bytes, 0); }
void operator delete(void* memory) noexcept { std::free(memory); }
void operator delete[](void* memory) noexcept { std::free(memory); }
void operator delete(void* memory, std::size_t) noexcept { std::free(memory); }
void operator delete[](void* memory, std::size_t) noexcept { std::free(memory); }
void operator delete(void* memory, std::align_val_t) noexcept { std::free(memory); }
void operator delete(void* memory, std::size_t, std::align_val_t) noexcept { std::free(memory); }
void operator delete(void* memory, const std::nothrow_t&) noexcept { std::free(memory); }
void operator delete[](void* memory, const std::nothrow_t&) noexcept { std::free(memory); }

namespace wavicon::faults_test {
namespace {

using namespace testing;
namespace fs = std::filesystem;
using file_detail::DiskCall;

constexpr long kMostRuns = 250;  // of one command and kind, spread over all calls; every one in long tests

struct Outcome {
  int status = -1;
  bool crashed = false;
  std::string err;
  std::map<std::string, std::string> files;  // that are there then
  long calls = 0;
};

class Faults : public ::testing::Test {
 protected:
  void SetUp() override {
    void* memory = ::mmap(nullptr, sizeof(Watch), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    ASSERT_NE(memory, MAP_FAILED);
    // What a command leaves running is waited for here, and seen.
    ASSERT_EQ(::prctl(PR_SET_CHILD_SUBREAPER, 1), 0);
    watch_ = new (memory) Watch;
    ::setenv("LV2_PATH", "/nowhere", 1);
    ::setenv("SOURCE_DATE_EPOCH", "1788000000", 1);
    ::setenv("LADSPA_PATH", "/nowhere", 1);
    given("make tone --seconds 0.15 --rate 8000 --frequency 331 -o in.wav");
    write_text(given_.file("r.toml"),
               "name = \"kit\"\nsample_rate_hz = 8000.0\n[[part]]\nkind = \"tone\"\nfrequency_hz = "
               "331.0\nseconds = 0.2\n");
    given("kit make r.toml -o kit");
    fs::copy_file(given_.file("kit/stimuli/kit-8000.wav"), given_.file("kit/bounces/one.wav"));
  }
  void TearDown() override { ::munmap(watch_, sizeof(Watch)); }

  // One command in a child of its own, in a fresh copy of what is given.
  Outcome run(const std::string& command, std::optional<DiskCall> call, bool allocations, long failing) {
    const TemporaryFolder work, said;
    fs::copy(given_.path(), work.path(), fs::copy_options::recursive);
    watch_->calls = 0;
    watch_->failing = failing;
    const pid_t child = ::fork();
    if (child == 0) ::_exit(child_runs(command, work, said, call, allocations));
    int state = 0;
    ::waitpid(child, &state, 0);
    while (::waitpid(-1, nullptr, 0) > 0) {
    }
    Outcome outcome;
    outcome.crashed = !WIFEXITED(state);
    outcome.status = WIFEXITED(state) ? WEXITSTATUS(state) : 128 + WTERMSIG(state);
    outcome.err = read_text(said.file("err"));
    for (const auto& entry : fs::recursive_directory_iterator(work.path()))
      if (entry.is_regular_file())
        outcome.files[fs::relative(entry.path(), work.path()).string()] = read_text(entry.path());
    outcome.calls = watch_->calls;
    return outcome;
  }

  void every_fault(const std::string& command, std::optional<DiskCall> call, bool allocations,
                   const char* what) {
    const Outcome clean = run(command, call, allocations, -1);
    ASSERT_EQ(clean.status, 0) << command << "\n" << clean.err;
    ASSERT_GT(clean.calls, 0) << command << ": " << what;
    long told = 0, runs = 0;
    for (const long n :
         chosen(clean.calls, allocations ? run("--version", call, allocations, -1).calls : 0)) {
      const Outcome outcome = run(command, call, allocations, n);
      const std::string where =
          command + ": " + what + " " + std::to_string(n) + " of " + std::to_string(clean.calls);
      ++runs;
      ASSERT_FALSE(outcome.crashed) << where << " (status " << outcome.status << ")\n" << outcome.err;
      if (outcome.status != 0) {
        ++told;
        EXPECT_TRUE(outcome.status == 2 || outcome.status == 3 || outcome.status == 4)
            << where << ": " << outcome.status;
        EXPECT_EQ(outcome.err.rfind("wavicon: ", 0), 0U) << where << "\n" << outcome.err;
        EXPECT_EQ(outcome.err.find("std::"), std::string::npos) << where << "\n" << outcome.err;
      } else {
        EXPECT_EQ(outcome.files.size(), clean.files.size()) << where << ": a success without its files";
      }
      for (const auto& [name, bytes] : outcome.files) {
        EXPECT_EQ(name.find(".partial"), std::string::npos) << where << ": " << name;
        // What an interrupted ladder has finished is kept until it is whole.
        if (name.find(".ladder") != std::string::npos) continue;
        const auto whole = clean.files.find(name);
        ASSERT_NE(whole, clean.files.end()) << where << ": " << name;
        EXPECT_TRUE(bytes == whole->second) << where << ": " << name << " is not whole";
      }
    }
    EXPECT_GT(told, 0) << command << ": " << what;
    std::printf("%s: %ld of %ld %s failed, %ld times told\n", command.c_str(), runs, clean.calls, what, told);
  }

  void every_fault(const std::string& command, bool folders = false) {
    every_fault(command, DiskCall::open, false, "opens");
    every_fault(command, DiskCall::write, false, "writes");
    every_fault(command, DiskCall::rename, false, "renames");
    if (folders) every_fault(command, DiskCall::folder, false, "folders");
    every_fault(command, std::nullopt, true, "allocations");
  }

 private:
  // Which calls fail: all, or a few of those by which the program gets ready and most of its work.
  static std::vector<long> chosen(long calls, long getting_ready) {
    if (const char* only = std::getenv("WAVICON_FAULT"))
      return {std::atol(only)};  // to look at in a debugger
    const bool all = std::getenv("WAVICON_LONG_TESTS") != nullptr;
    std::vector<long> chosen;
    for (long n = 0; n < calls;) {
      chosen.push_back(n);
      const long left = n < getting_ready ? getting_ready : calls - getting_ready;
      n += all ? 1 : std::max(1L, left / (n < getting_ready ? kMostRuns / 10 : kMostRuns));
    }
    return chosen;
  }

  void given(const std::string& command) {
    const TemporaryFolder said;
    const pid_t child = ::fork();
    if (child == 0) ::_exit(child_runs(command, given_, said, std::nullopt, false));
    int state = 0;
    ::waitpid(child, &state, 0);
    ASSERT_EQ(state, 0) << command << read_text(said.file("err"));
  }

  // What leaves it ends the child, as it would the program.
  int child_runs(const std::string& command, const TemporaryFolder& work, const TemporaryFolder& said,
                 std::optional<DiskCall> call, bool allocations) noexcept {
    ::dup2(::open("/dev/null", O_WRONLY), STDOUT_FILENO);
    ::dup2(::open(said.file("err").c_str(), O_CREAT | O_WRONLY, 0600), STDERR_FILENO);
    if (::chdir(work.path().c_str()) != 0) return 99;
    std::vector<std::string> words{"wavicon"};
    std::istringstream in(command);
    for (std::string word; in >> word;) words.push_back(word);
    std::vector<char*> arguments;
    for (std::string& word : words) arguments.push_back(word.data());
    arguments.push_back(nullptr);
    if (call) {
      watched_call = *call;
      watch_disk = watch_;
      file_detail::set_disk_fault(
          [](DiskCall made) { return made == watched_call && fails(watch_disk) ? ENOSPC : 0; });
    }
    if (allocations) watch_allocations = watch_;
    const int status = cli::run_program(static_cast<int>(words.size()), arguments.data());
    watch_allocations = nullptr;
    return status;
  }

  Watch* watch_ = nullptr;
  TemporaryFolder given_;
};

TEST_F(Faults, MakeLeavesWholeFilesOrNone) {
  every_fault(
      "make sweep --seconds 0.2 --rate 8000 --to 3000 --rates 8000,16000 --save-recipe s.toml -o x.wav");
}
TEST_F(Faults, FeedLeavesWholeFilesOrNone) {
  every_fault("feed in.wav --through sim:tern?drive=6 -o out.wav");
}
TEST_F(Faults, ALadderLeavesWholeFilesOrNone) {
  every_fault("feed in.wav --jobs 1 --through sim:tern?drive=0,6 -o out.wav");
}
TEST_F(Faults, AKitLeavesWholeFilesOrNone) { every_fault("kit make r.toml --rates 8000,16000 -o new", true); }
TEST_F(Faults, ReadingAKitLeavesWholeFilesOrNone) { every_fault("kit read kit --sheet s.json --csv s.csv"); }
TEST_F(Faults, AMeasurementLeavesWholeFilesOrNone) {
  every_fault("null in.wav in.wav --residual r.wav --sheet s.json --csv s.csv");
  every_fault("harmonics in.wav --sheet s.json --csv s.csv");
}

}  // namespace
}  // namespace wavicon::faults_test
