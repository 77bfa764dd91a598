// SPDX-License-Identifier: MIT
#pragma once
// What a shared library of Wavicon shows; everything else is hidden.

#if defined(_WIN32)
#define WAVICON_EXPORT
#else
#define WAVICON_EXPORT __attribute__((visibility("default")))
#endif
