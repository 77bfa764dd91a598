// SPDX-License-Identifier: MIT
#include "disk.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <system_error>
#include <utility>

namespace wavicon::file_detail {
namespace {

constexpr mode_t kUsual = 0666;  // less what the user's mask takes away

DiskFault disk_fault = nullptr;

int fault_of(DiskCall call) noexcept { return disk_fault == nullptr ? 0 : disk_fault(call); }

}  // namespace

DiskFault set_disk_fault(DiskFault fault) noexcept { return std::exchange(disk_fault, fault); }

DiskFile::~DiskFile() {
  if (descriptor_ >= 0) ::close(descriptor_);
}

bool DiskFile::fail(int error) noexcept {
  if (error_ == 0) error_ = error;
  return false;
}

bool DiskFile::create(const std::filesystem::path& path) noexcept {
  if (const int error = fault_of(DiskCall::open); error != 0) return fail(error);
  descriptor_ = ::open(path.c_str(), O_RDWR | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, kUsual);
  return descriptor_ >= 0 || fail(errno);
}

bool DiskFile::write(const void* bytes, std::size_t count) noexcept {
  if (const int error = fault_of(DiskCall::write); error != 0) return fail(error);
  const auto* at = static_cast<const char*>(bytes);
  while (count > 0) {
    const ssize_t written = ::write(descriptor_, at, count);
    if (written < 0 && errno == EINTR) continue;
    if (written <= 0) return fail(written < 0 ? errno : ENOSPC);
    at += written;
    count -= static_cast<std::size_t>(written);
  }
  return true;
}

std::int64_t DiskFile::read(void* bytes, std::int64_t count) noexcept {
  auto* at = static_cast<char*>(bytes);
  std::int64_t got = 0;
  while (got < count) {
    const ssize_t piece = ::read(descriptor_, at + got, static_cast<std::size_t>(count - got));
    if (piece < 0 && errno == EINTR) continue;
    if (piece < 0) fail(errno);
    if (piece <= 0) break;
    got += piece;
  }
  return got;
}

std::int64_t DiskFile::seek(std::int64_t offset, int whence) noexcept {
  const off_t at = ::lseek(descriptor_, offset, whence);
  if (at < 0) fail(errno);
  return at;
}

std::int64_t DiskFile::size() const noexcept {
  struct stat state {};
  return ::fstat(descriptor_, &state) == 0 ? state.st_size : -1;
}

bool DiskFile::close() noexcept {
  const int descriptor = std::exchange(descriptor_, -1);
  return descriptor < 0 || ::close(descriptor) == 0 || fail(errno);
}

std::string DiskFile::why() const { return error_ == 0 ? "" : std::generic_category().message(error_); }

int rename_file(const std::filesystem::path& from, const std::filesystem::path& to) noexcept {
  if (const int error = fault_of(DiskCall::rename); error != 0) return error;
  return std::rename(from.c_str(), to.c_str()) == 0 ? 0 : errno;
}

int create_folders(const std::filesystem::path& folder) {
  if (const int error = fault_of(DiskCall::folder); error != 0) return error;
  std::error_code failure;
  std::filesystem::create_directories(folder, failure);
  return failure.value();
}

}  // namespace wavicon::file_detail
