// SPDX-License-Identifier: MIT
#include "wavicon/file/output_file.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <cstdio>
#include <cstring>
#include <memory>
#include <system_error>

#include "wavicon/audio/error.hpp"

namespace wavicon {
namespace {

namespace fs = std::filesystem;

Error output_error(const fs::path& target, const std::string& why) {
  return Error(ErrorCode::bad_output, fmt::format("{}: cannot be written: {}", target.string(), why));
}

}  // namespace

void require_writable(const fs::path& target, const std::vector<fs::path>& inputs) {
  std::error_code ignored;
  if (target.filename().empty()) throw output_error(target, "no file name is given");
  const fs::path folder = target.has_parent_path() ? target.parent_path() : fs::path(".");
  if (!fs::exists(folder, ignored))
    throw output_error(target, fmt::format("the folder {} does not exist; make it first", folder.string()));
  if (!fs::is_directory(folder, ignored))
    throw output_error(target, fmt::format("{} is no folder", folder.string()));
  if (::access(folder.c_str(), W_OK) != 0)
    throw output_error(target, fmt::format("the folder {} may not be written to ({})", folder.string(),
                                           std::strerror(errno)));
  if (fs::is_directory(target, ignored)) throw output_error(target, "a folder of that name is there");
  if (fs::exists(target, ignored) && !fs::is_regular_file(target, ignored))
    throw output_error(target, "what is there is no regular file");
  for (const fs::path& input : inputs)
    if (fs::equivalent(target, input, ignored))
      throw output_error(target, "it is also the input; choose another name for the output");
}

PartialFile::PartialFile(const fs::path& target) : target_(target) {
  static std::atomic<unsigned> counter{0};
  require_writable(target);
  std::error_code ignored;
  final_ = fs::is_symlink(target, ignored) ? fs::weakly_canonical(target, ignored) : target;
  const std::string name = fmt::format(".{}.{}-{}.partial{}", final_.stem().string(), ::getpid(), counter++,
                                       final_.extension().string());
  partial_ = final_.parent_path() / name;
}

PartialFile::~PartialFile() {
  std::error_code ignored;
  if (!committed_) fs::remove(partial_, ignored);
}

void PartialFile::commit() {
  std::error_code failure;
  fs::rename(partial_, final_, failure);
  if (failure) throw output_error(target_, failure.message());
  committed_ = true;
}

void write_text_file(const fs::path& target, const std::string& text) {
  PartialFile partial(target);
  const std::unique_ptr<std::FILE, int (*)(std::FILE*)> file(std::fopen(partial.path().c_str(), "wb"),
                                                             &std::fclose);
  if (!file) throw output_error(target, std::strerror(errno));
  if (std::fwrite(text.data(), 1, text.size(), file.get()) != text.size() || std::fflush(file.get()) != 0)
    throw output_error(target, std::strerror(errno));
  partial.commit();
}

}  // namespace wavicon
