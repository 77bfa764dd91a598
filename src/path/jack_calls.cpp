// SPDX-License-Identifier: MIT
#if WAVICON_JACK
#include "jack_calls.hpp"

#include "late_library.hpp"

namespace wavicon::path_detail {

const JackCalls& jack() {
  static const JackCalls kCalls = [] {
    const LateLibrary library("libjack.so.0", "a sound server needs", "libjack-jackd2-0");
    JackCalls calls{};
#define WAVICON_CALL(name) calls.name = library.call<decltype(&::jack_##name)>("jack_" #name);
    WAVICON_JACK_CALLS(WAVICON_CALL)
#undef WAVICON_CALL
    return calls;
  }();
  return kCalls;
}

}  // namespace wavicon::path_detail
#endif
