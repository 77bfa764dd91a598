// SPDX-License-Identifier: MIT
// Runs a target over files and folders of inputs: what ./check does with the seeds and with every input that
// once failed.

#include <chrono>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <iterator>

#include "target.hpp"

namespace {

namespace fs = std::filesystem;

constexpr double kLongestS = 120;  // for one input; without sanitizers each takes well below a second

bool replay(const fs::path& file) {
  std::ifstream stream(file, std::ios::binary);
  const std::vector<char> bytes{std::istreambuf_iterator<char>(stream), {}};
  const auto began = std::chrono::steady_clock::now();
  LLVMFuzzerTestOneInput(reinterpret_cast<const std::uint8_t*>(bytes.data()), bytes.size());
  const double took_s = std::chrono::duration<double>(std::chrono::steady_clock::now() - began).count();
  if (took_s > kLongestS) std::fprintf(stderr, "%s took %.1f s\n", file.c_str(), took_s);
  return took_s <= kLongestS;
}

}  // namespace

int main(int argc, char** argv) {
  std::size_t count = 0;
  bool all = true;
  for (int i = 1; i < argc; ++i) {
    if (!fs::is_directory(argv[i])) {
      all = replay(argv[i]) && all;
      ++count;
      continue;
    }
    for (const auto& entry : fs::recursive_directory_iterator(argv[i]))
      if (entry.is_regular_file()) {
        all = replay(entry.path()) && all;
        ++count;
      }
  }
  // Nothing and one byte are inputs, too.
  const std::uint8_t one = 0;
  LLVMFuzzerTestOneInput(&one, 0);
  LLVMFuzzerTestOneInput(&one, 1);
  std::printf("%zu inputs\n", count + 2);
  return all && count > 0 ? 0 : 1;
}
