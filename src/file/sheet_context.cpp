// SPDX-License-Identifier: MIT
#include "wavicon/file/sheet_context.hpp"

#include <fmt/format.h>
#include <nettle/sha2.h>
#include <unistd.h>

#include <array>
#include <chrono>
#include <climits>
#include <cstdlib>
#include <fstream>

#include "wavicon/audio/error.hpp"
#include "wavicon/version.hpp"

namespace wavicon {
namespace {

constexpr std::size_t kShownDigits = 16;  // of a plugin's digest

std::string finished(sha256_ctx& context) {
  std::array<std::uint8_t, SHA256_DIGEST_SIZE> digest{};
  sha256_digest(&context, digest.size(), digest.data());
  std::string text = "sha256:";
  for (const std::uint8_t byte : digest) text += fmt::format("{:02x}", byte);
  return text;
}

void add_bytes(sha256_ctx& context, const char* bytes, std::size_t count) {
  sha256_update(&context, count, reinterpret_cast<const std::uint8_t*>(bytes));
}

}  // namespace

std::string digest_of(std::string_view bytes) {
  sha256_ctx context{};
  sha256_init(&context);
  add_bytes(context, bytes.data(), bytes.size());
  return finished(context);
}

std::string digest_of_file(const std::filesystem::path& path) {
  std::ifstream stream(path, std::ios::binary);
  sha256_ctx context{};
  sha256_init(&context);
  std::array<char, 1 << 16> block{};
  while (stream.read(block.data(), block.size()) || stream.gcount() > 0)
    add_bytes(context, block.data(), static_cast<std::size_t>(stream.gcount()));
  if (!stream.eof())
    throw Error(ErrorCode::bad_input, path.string() + ": cannot be read, to know it again later");
  return finished(context);
}

std::int64_t current_time_s() {
  if (const char* fixed = std::getenv("SOURCE_DATE_EPOCH"); fixed != nullptr) {
    char* end = nullptr;
    const long long seconds = std::strtoll(fixed, &end, 10);
    if (end != fixed && *end == '\0' && seconds > 0) return seconds;
  }
  return std::chrono::duration_cast<std::chrono::seconds>(std::chrono::system_clock::now().time_since_epoch())
      .count();
}

std::string machine_name() {
  std::array<char, HOST_NAME_MAX + 1> name{};
  return gethostname(name.data(), name.size() - 1) == 0 ? name.data() : "";
}

void add_context(std::vector<Sheet>& sheets, const std::vector<std::pair<std::string, std::string>>& options,
                 std::int64_t made_s) {
  for (Sheet& sheet : sheets)
    sheet.context = SheetContext{
        .version = WAVICON_VERSION,
        .arithmetic = kArithmetic,
        .made_s = made_s,
        .options = options,
        .stimulus = sheet.capture.recipe.empty() ? "" : digest_of(sheet.capture.recipe),
        .recipe = sheet.capture.recipe,
        .chain = sheet.capture.chain,
    };
}

std::string unit_identity(const std::string& written, const std::filesystem::path& binary) {
  if (binary.empty()) return fmt::format("{} (wavicon {})", written, WAVICON_VERSION);
  return fmt::format("{} ({})", written,
                     digest_of_file(binary).substr(0, std::string("sha256:").size() + kShownDigits));
}

}  // namespace wavicon
