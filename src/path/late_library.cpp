// SPDX-License-Identifier: MIT
#include "late_library.hpp"

#include <dlfcn.h>
#include <fmt/format.h>

#include "wavicon/audio/error.hpp"

namespace wavicon::path_detail {

LateLibrary::LateLibrary(const char* file, const char* what, const char* package)
    : file_(file), handle_(dlopen(file, RTLD_NOW | RTLD_LOCAL)) {
  if (handle_ == nullptr)
    throw Error(ErrorCode::unit_failed,
                fmt::format("{} {}, which is not there: apt install {}", what, file, package));
}

void* LateLibrary::address(const char* name) const {
  void* found = dlsym(handle_, name);
  if (found == nullptr)
    throw Error(ErrorCode::unit_failed, fmt::format("{} has no {}: it is too old", file_, name));
  return found;
}

}  // namespace wavicon::path_detail
