// SPDX-License-Identifier: MIT
#pragma once
// Where the compiler finds no good way from plain loops, one for eight doubles side by side may be written
// beside them (#ifdef WAVICON_EIGHT_WIDE, in functions for the target avx512f), which gives the same bits.
// Internal.

#include "audio/wide.hpp"

#ifdef WAVICON_EIGHT_WIDE
#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wuninitialized"  // GCC 12, of what its own header leaves open on purpose
#pragma GCC diagnostic ignored "-Wmaybe-uninitialized"
#include <immintrin.h>
#pragma GCC diagnostic pop

namespace wavicon {

/// Whether this processor runs them.
inline bool runs_eight_wide() {
  static const bool runs = __builtin_cpu_supports("avx512f");
  return runs;
}

}  // namespace wavicon
#endif
