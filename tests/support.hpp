// SPDX-License-Identifier: MIT
#pragma once
// What several tests share: signals of known content, folders that vanish, programs run and watched.

#include <gtest/gtest.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <functional>
#include <iterator>
#include <numbers>
#include <string>
#include <vector>

#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/error.hpp"

namespace wavicon::testing {

/// A sine whose phase is reduced in 80 bits before the sine is taken; independent of the library's own
/// generator.
inline double exact_sine(double frequency_hz, double sample_rate_hz, std::int64_t frame,
                         double phase_cycles = 0) {
  const long double cycles = static_cast<long double>(frequency_hz) / sample_rate_hz * frame + phase_cycles;
  // Of the nearest quarter of a turn, where no argument has to be reduced: that took most of the time.
  const long double turn = cycles - std::floor(cycles), quarters = std::floor(4 * turn + 0.5L),
                    x = 2 * std::numbers::pi_v<long double> * (turn - quarters / 4);
  const auto quarter = static_cast<int>(quarters) % 4;
  const auto y = static_cast<double>(quarter % 2 == 0 ? std::sin(x) : std::cos(x));
  return quarter < 2 ? y : -y;
}

/// The code and the message of what a call throws; fails the test when it throws nothing.
inline std::string message_of(ErrorCode expected, const std::function<void()>& call) {
  try {
    call();
  } catch (const Error& error) {
    EXPECT_EQ(static_cast<int>(error.code()), static_cast<int>(expected)) << error.what();
    return error.what();
  }
  ADD_FAILURE() << "nothing was thrown";
  return "";
}

/// Expects a text to hold a part.
/// White space between words counts as one space: sentences are broken where the terminal ends.
inline std::string in_one_row(const std::string& text) {
  std::string row;
  for (const char c : text)
    if (c != ' ' && c != '\n')
      row += c;
    else if (row.empty() || row.back() != ' ')
      row += ' ';
  return row;
}

#define EXPECT_HAS(text, part)                                                               \
  EXPECT_NE(::wavicon::testing::in_one_row(text).find(::wavicon::testing::in_one_row(part)), \
            std::string::npos)                                                               \
      << (text)

/// A folder of its own for one test.
class TemporaryFolder {
 public:
  TemporaryFolder() {
    std::string name = (std::filesystem::temp_directory_path() / "wavicon-test-XXXXXX").string();
    path_ = mkdtemp(name.data());
  }
  ~TemporaryFolder() { std::filesystem::remove_all(path_); }
  TemporaryFolder(const TemporaryFolder&) = delete;
  TemporaryFolder& operator=(const TemporaryFolder&) = delete;
  [[nodiscard]] std::string file(const std::string& name) const { return (path_ / name).string(); }
  [[nodiscard]] const std::filesystem::path& path() const { return path_; }
  [[nodiscard]] std::vector<std::string> names() const {
    std::vector<std::string> found;
    for (const auto& entry : std::filesystem::directory_iterator(path_))
      found.push_back(entry.path().filename().string());
    return found;
  }

 private:
  std::filesystem::path path_;
};

inline std::string read_text(const std::filesystem::path& path) {
  std::ifstream stream(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(stream), {}};
}

inline void write_text(const std::filesystem::path& path, const std::string& text) {
  std::ofstream(path, std::ios::binary) << text;
}

struct Ran {
  int status = -1;
  std::string out;
  std::string err;
};

/// Runs a command line through the shell.
inline Ran run(const std::string& command) {
  const TemporaryFolder folder;
  Ran ran;
  std::FILE* pipe = popen((command + " 2>'" + folder.file("err") + "'").c_str(), "r");
  char block[4096];
  for (std::size_t got; (got = std::fread(block, 1, sizeof block, pipe)) > 0;) ran.out.append(block, got);
  const int status = pclose(pipe);
  ran.status = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
  ran.err = read_text(folder.file("err"));
  return ran;
}

}  // namespace wavicon::testing
