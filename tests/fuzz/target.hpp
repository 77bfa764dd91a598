// SPDX-License-Identifier: MIT
#pragma once
// What fuzzing targets share. A target takes any bytes and returns: it may refuse them by an Error, and by
// nothing else.

#include <unistd.h>

#include <algorithm>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <string>
#include <vector>

#include "wavicon/audio/error.hpp"

namespace wavicon::fuzz {

/// Ends the program: what had to hold does not.
inline void require(bool holds, const char* what) {
  if (holds) return;
  std::fprintf(stderr, "does not hold: %s\n", what);
  std::abort();
}

/// Runs what may refuse its input in our own words.
template <typename Call>
bool accepted(Call&& call) {
  try {
    call();
    return true;
  } catch (const Error& error) {
    require(*error.what() != '\0', "a refusal says why");
    return false;
  }
}

/// Bytes taken one piece after the other; zeros when they have run out.
class Bytes {
 public:
  Bytes(const std::uint8_t* data, std::size_t size) : data_(data), size_(size) {}
  template <typename Number>
  Number number() {
    Number value{};
    const std::size_t count = std::min(sizeof value, size_);
    if (count > 0) std::memcpy(&value, data_, count);
    skip(count);
    return value;
  }
  /// 0 … most.
  std::uint32_t up_to(std::uint32_t most) { return number<std::uint32_t>() % (most + 1); }
  std::uint8_t choice(std::uint8_t count) {
    return static_cast<std::uint8_t>(number<std::uint8_t>() % count);
  }
  std::string rest() {
    std::string text(reinterpret_cast<const char*>(data_), size_);
    skip(size_);
    return text;
  }
  [[nodiscard]] std::size_t left() const { return size_; }

 private:
  void skip(std::size_t count) {
    data_ += count;
    size_ -= count;
  }
  const std::uint8_t* data_;
  std::size_t size_;
};

/// A file that holds the bytes, always of the same name: written over by each input of this process.
inline const std::string& in_file(const std::uint8_t* data, std::size_t size, const char* ending) {
  static std::string path;
  if (path.empty()) {
    const char* memory = ::access("/dev/shm", W_OK) == 0 ? "/dev/shm" : "/tmp";
    path = std::string(memory) + "/wavicon-fuzz-" + std::to_string(::getpid()) + ending;
    std::atexit([] { std::remove(path.c_str()); });
  }
  std::FILE* file = std::fopen(path.c_str(), "wb");
  require(file != nullptr && std::fwrite(data, 1, size, file) == size, "the input is written");
  std::fclose(file);
  return path;
}

}  // namespace wavicon::fuzz

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size);
