// SPDX-License-Identifier: MIT
// Tries to catch the library in a wrong figure; what it tries does not depend on the library's own
// generators.
//   wavicon-trials place [SEED [ROW]]  every kind of signal lined up, at known places; one of
//                                      copies, hits, sweeps, programme, speeds, slips, blocks
//   wavicon-trials unrelated N [SEED]  pairs that have nothing in common
//   wavicon-trials readings N [SEED]   random signals, units and damage against their truths
#include <fmt/format.h>

#include <cstdlib>
#include <exception>
#include <string>

#include "trials/align_cases.hpp"
#include "trials/reading_trials.hpp"

int main(int argc, char** argv) try {
  using namespace wavicon::trials;
  const auto word = [&](int i) { return i < argc ? std::string(argv[i]) : std::string(); };
  const auto number = [&](int i, std::uint64_t otherwise) {
    return i < argc ? std::strtoull(argv[i], nullptr, 10) : otherwise;
  };
  if (word(1) == "place") return align_cases(number(2, 1), word(3)) > 0;
  if (word(1) == "unrelated") return unrelated_pairs(static_cast<int>(number(2, 100)), number(3, 1)) > 0;
  if (word(1) == "readings")
    return reading_trials(static_cast<int>(number(2, 100)), number(3, 1), true).silent_errors > 0;
  if (word(1) == "one") return show_trial(static_cast<int>(number(2, 0)), number(3, 1)), 0;
  fmt::print(stderr,
             "wavicon-trials place [SEED [ROW]] | unrelated N [SEED] | readings N [SEED] | one TRIAL SEED\n");
  return 2;
} catch (const std::exception& error) {
  fmt::print(stderr, "{}\n", error.what());
  return 3;
}
