// SPDX-License-Identifier: MIT
#include "wavicon/file/output_file.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <atomic>
#include <cctype>
#include <cerrno>
#include <mutex>
#include <optional>
#include <string_view>
#include <system_error>

#include "disk.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/plain_text.hpp"

namespace wavicon {
namespace {

namespace fs = std::filesystem;

constexpr int kMostLinks = 40;  // one after the other; more is a circle
constexpr fs::perms kMayWrite = fs::perms::owner_write | fs::perms::group_write | fs::perms::others_write;

std::mutex list_lock;
PartialFile* being_written = nullptr;  // the last one that was begun

std::string words_of(int error) { return std::generic_category().message(error); }

Error output_error(const fs::path& target, const std::string& why) {
  return Error(ErrorCode::bad_output, fmt::format("{}: cannot be written: {}", target.string(), why));
}

Error write_error(const fs::path& target, const std::string& why) {
  return Error(ErrorCode::write_failed, fmt::format("{}: cannot be written: {}", target.string(), why));
}

// The whole path with all links followed, of a file that need not be there; none for a circle of links.
std::optional<fs::path> resolved(const fs::path& path) {
  std::error_code failure;
  fs::path whole = fs::absolute(path, failure);
  // A link to what is not there is followed by hand: it is where the file would be made.
  for (int i = 0; !failure && i < kMostLinks && fs::is_symlink(whole, failure); ++i)
    whole = whole.parent_path() / fs::read_symlink(whole, failure);
  if (failure && failure != std::errc::no_such_file_or_directory && failure != std::errc::not_a_directory)
    return std::nullopt;
  // A name that ends in a slash has no last part.
  fs::path real = fs::weakly_canonical(whole.has_filename() ? whole : whole.parent_path(), failure);
  if (failure) return std::nullopt;
  return real;
}

// Whether two names are one file, be it there or not.
bool same_file(const fs::path& a, const fs::path& b) {
  std::error_code ignored;
  if (fs::equivalent(a, b, ignored)) return true;
  const auto real_a = resolved(a), real_b = resolved(b);
  return real_a && real_b ? *real_a == *real_b : a.lexically_normal() == b.lexically_normal();
}

// What is there may be replaced. A superuser may write everywhere; what is marked as read-only is kept all
// the same.
void require_replaceable(const fs::path& target) {
  std::error_code ignored;
  const fs::file_status status = fs::status(target, ignored);
  if (!fs::exists(status)) return;
  if (fs::is_directory(status)) throw output_error(target, "a folder of that name is there");
  if (!fs::is_regular_file(status)) throw output_error(target, "what is there is no regular file");
  if ((status.permissions() & kMayWrite) == fs::perms::none || ::access(target.c_str(), W_OK) != 0)
    throw output_error(target, "what is there is read-only; choose another name, or allow it to be written");
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
    throw output_error(
        target, fmt::format("the folder {} may not be written to ({})", folder.string(), words_of(errno)));
  require_replaceable(target);
  for (const fs::path& input : inputs)
    if (same_file(target, input))
      throw output_error(target, "it is also the input; choose another name for the output");
}

void require_apart(const std::vector<fs::path>& targets) {
  for (std::size_t i = 0; i < targets.size(); ++i)
    for (std::size_t k = 0; k < i; ++k)
      if (!targets[i].empty() && !targets[k].empty() && same_file(targets[i], targets[k]))
        throw output_error(targets[i], "two outputs would go to this one file; give each a name of its own");
}

fs::path file_below(const fs::path& folder, const std::string& name) {
  if (const std::string problem = file_name_problem(name); !problem.empty())
    throw Error(ErrorCode::bad_argument, fmt::format("the file name '{}' {}", printable(name), problem));
  const fs::path target = folder / name;
  require_below(folder, target);
  return target;
}

std::string tame_name(std::string text) {
  for (char& c : text)
    if (std::isalnum(static_cast<unsigned char>(c)) == 0 &&
        std::string_view(".-_+").find(c) == std::string_view::npos)
      c = '-';
  return text;
}

void require_below(const fs::path& folder, const fs::path& target) {
  const auto below = resolved(folder.empty() ? fs::path(".") : folder), real = resolved(target);
  if (!below || !real || real->parent_path() != *below)
    throw output_error(
        target, fmt::format("a link there leads out of the folder{}", real ? ", to " + real->string() : ""));
}

void make_folder(const fs::path& folder) {
  // A name that ends in a slash has no last part.
  const fs::path made = folder.has_filename() ? folder : folder.parent_path();
  if (const int error = file_detail::create_folders(made); error != 0)
    throw Error(ErrorCode::bad_output,
                fmt::format("{}: the folder cannot be made ({})", folder.string(), words_of(error)));
}

PartialFile::PartialFile(const fs::path& target) : target_(target) {
  static std::atomic<unsigned> counter{0};
  require_writable(target);
  std::error_code ignored;
  final_ = fs::is_symlink(target, ignored) ? fs::weakly_canonical(target, ignored) : target;
  const std::string name = fmt::format(".{}.{}-{}.partial{}", final_.stem().string(), ::getpid(), counter++,
                                       final_.extension().string());
  partial_ = final_.parent_path() / name;
  const std::lock_guard hold(list_lock);
  after_ = being_written;
  if (after_ != nullptr) after_->before_ = this;
  being_written = this;
}

PartialFile::~PartialFile() {
  if (!committed_) ::unlink(partial_.c_str());
  const std::lock_guard hold(list_lock);
  (before_ != nullptr ? before_->after_ : being_written) = after_;
  if (after_ != nullptr) after_->before_ = before_;
}

void abandon_partial_files() noexcept {
  for (const PartialFile* file = being_written; file != nullptr; file = file->after_)
    if (!file->committed_) ::unlink(file->partial_.c_str());
}

void PartialFile::commit() {
  if (const int error = file_detail::rename_file(partial_, final_); error != 0)
    throw write_error(target_, words_of(error));
  committed_ = true;
}

void write_text_file(const fs::path& target, const std::string& text) {
  PartialFile partial(target);
  file_detail::DiskFile file;
  if (!file.create(partial.path())) throw output_error(target, file.why());
  if (!file.write(text) || !file.close()) throw write_error(target, file.why());
  partial.commit();
}

}  // namespace wavicon
