// SPDX-License-Identifier: MIT
#pragma once
// A shared library that is loaded when it is used, and stays. Internal to `path`.

#include <string>

namespace wavicon::path_detail {

class LateLibrary {
 public:
  /// @param file  its name as the linker knows it. @param what  that needs it: "LV2 plugins need". @param
  /// package  that brings it. @throws Error unit_failed where it is not there.
  LateLibrary(const char* file, const char* what, const char* package);
  /// @throws Error unit_failed for a name that it has not.
  template <typename Call>
  [[nodiscard]] Call call(const char* name) const {
    return reinterpret_cast<Call>(address(name));
  }

 private:
  [[nodiscard]] void* address(const char* name) const;
  std::string file_;
  void* handle_;
};

}  // namespace wavicon::path_detail
