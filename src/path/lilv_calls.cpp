// SPDX-License-Identifier: MIT
#if WAVICON_LV2
#include "lilv_calls.hpp"

#include "late_library.hpp"

namespace wavicon::path_detail {

const LilvCalls& lilv() {
  static const LilvCalls kCalls = [] {
    const LateLibrary library("liblilv-0.so.0", "LV2 plugins need", "liblilv-0-0");
    LilvCalls calls{};
#define WAVICON_CALL(name) calls.name = library.call<decltype(&::lilv_##name)>("lilv_" #name);
    WAVICON_LILV_CALLS(WAVICON_CALL)
#undef WAVICON_CALL
    return calls;
  }();
  return kCalls;
}

}  // namespace wavicon::path_detail
#endif
