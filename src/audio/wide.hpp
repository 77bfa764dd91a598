// SPDX-License-Identifier: MIT
#pragma once
// Marks loops that are worth compiling twice, for the oldest processor and for those with wider registers.
// Contraction is off (cmake/WaviconComponent.cmake), so both give the same bits (scripts/same-bits compares
// them; it defines WAVICON_NARROW). Internal.

#if !defined(WAVICON_NARROW) && defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__) && \
    !defined(__SANITIZE_ADDRESS__) && !defined(__SANITIZE_THREAD__)
#define WAVICON_WIDE __attribute__((target_clones("avx512f", "avx2", "default")))
#define WAVICON_EIGHT_WIDE 1  // audio/eight_wide.hpp
#else
#define WAVICON_WIDE
#endif

// What such loops call: a copy of its own would be made for the oldest processor alone.
#define WAVICON_WITHIN_WIDE inline __attribute__((always_inline))
