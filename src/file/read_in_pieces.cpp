// SPDX-License-Identifier: MIT
#include "read_in_pieces.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <new>

namespace wavicon::file_detail {
namespace {

// A call of the system takes as long as copying several thousand bytes. Who reads here and there wants few of
// them; what is read on from where the last piece ended comes in pieces that double.
constexpr std::int64_t kShortestPiece = 8192, kLongestPiece = 65536;

}  // namespace

ReadInPieces::~ReadInPieces() {
  if (descriptor_ >= 0) ::close(descriptor_);
}

bool ReadInPieces::open(const std::filesystem::path& path) noexcept {
  held_.reset(new (std::nothrow) char[kLongestPiece]);
  if (!held_) {
    errno = ENOMEM;
    return false;
  }
  descriptor_ = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  return descriptor_ >= 0;
}

std::int64_t ReadInPieces::size() const noexcept {
  struct stat state {};
  return ::fstat(descriptor_, &state) == 0 ? state.st_size : -1;
}

bool ReadInPieces::fill() noexcept {
  const bool on = count_ > 0 && place_ == first_ + count_;
  piece_ = on ? std::min(2 * piece_, kLongestPiece) : kShortestPiece;
  first_ = place_;
  count_ = 0;
  ssize_t got = 0;
  do got = ::pread(descriptor_, held_.get(), static_cast<std::size_t>(piece_), place_);
  while (got < 0 && errno == EINTR);
  if (got <= 0) return false;
  count_ = got;
  return true;
}

std::int64_t ReadInPieces::read(void* bytes, std::int64_t count) noexcept {
  auto* to = static_cast<char*>(bytes);
  std::int64_t done = 0;
  while (done < count) {
    const bool held = place_ >= first_ && place_ < first_ + count_;
    if (!held && !fill()) break;
    const std::int64_t here = std::min(count - done, first_ + count_ - place_);
    std::memcpy(to + done, held_.get() + (place_ - first_), static_cast<std::size_t>(here));
    done += here;
    place_ += here;
  }
  return done;
}

std::int64_t ReadInPieces::seek(std::int64_t offset, int whence) noexcept {
  const std::int64_t from = whence == SEEK_SET ? 0 : whence == SEEK_CUR ? place_ : size();
  if (from < 0 || from + offset < 0) return -1;
  place_ = from + offset;
  return place_;
}

}  // namespace wavicon::file_detail
