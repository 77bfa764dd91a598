// SPDX-License-Identifier: MIT
#pragma once
#include <cstdint>
#include <string_view>

namespace wavicon::trials {

/// Every kind of signal lined up with a capture of it whose place is known, at four rates; prints a table.
/// @param only  one row of the table (copies, hits, sweeps, programme, speeds, slips, blocks); empty: all.
/// @return how many cases missed what they must reach.
int align_cases(std::uint64_t seed, std::string_view only);

/// Pairs of signals that have nothing in common, of 1 to 60 s at 24 kHz; prints each that was lined up.
/// @return how many were.
int unrelated_pairs(int count, std::uint64_t seed);

}  // namespace wavicon::trials
