// SPDX-License-Identifier: MIT
#include "wavicon/file/text_file.hpp"

#include <fmt/format.h>

#include <fstream>
#include <iterator>

#include "wavicon/audio/error.hpp"

namespace wavicon {

std::string read_text_file(const std::filesystem::path& path, const std::string& what,
                           std::uint64_t longest_bytes) {
  std::error_code failure;
  std::ifstream stream(path, std::ios::binary);
  if (!stream || std::filesystem::is_directory(path, failure))
    throw Error(ErrorCode::bad_input,
                fmt::format("{}: there is no such {}, or it cannot be read", path.string(), what));
  if (const auto size = std::filesystem::file_size(path, failure); !failure && size > longest_bytes)
    throw Error(ErrorCode::bad_input, fmt::format("{}: has {} bytes; a {} of {} is the longest",
                                                  path.string(), size, what, longest_bytes));
  std::string text{std::istreambuf_iterator<char>(stream), {}};
  if (stream.bad()) throw Error(ErrorCode::bad_input, path.string() + ": cannot be read to its end");
  return text;
}

}  // namespace wavicon
