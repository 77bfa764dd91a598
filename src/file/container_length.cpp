#include "container_length.hpp"

#include <fmt/format.h>

#include <array>
#include <bit>
#include <cstdint>
#include <cstring>
#include <fstream>
#include <string_view>

namespace wavicon::file_detail {
namespace {

constexpr std::uint64_t kUnknownLength = 0xFFFFFFFF;  // written by programs that stream

// Chunks of the interchange file format (EA IFF 85) and its little-endian kin RIFF: 4 letters, 32-bit size,
// content padded to even length.
class ChunkFile {
 public:
  explicit ChunkFile(const std::filesystem::path& path)
      : stream_(path, std::ios::binary), size_(std::filesystem::file_size(path)) {}

  std::string missing() {
    const std::string form = text(4);
    if (form != "RIFF" && form != "RF64" && form != "RIFX" && form != "FORM") return "";
    little_ = form == "RIFF" || form == "RF64";
    const std::uint64_t announced = number(4) + 8;
    const std::string type = text(4);
    if (!stream_) return "it ends inside its header";
    if (type != "WAVE" && type != "AIFF" && type != "AIFC") return "";
    for (std::uint64_t at = 12; at < size_;) {
      stream_.seekg(static_cast<std::streamoff>(at));
      const std::string id = text(4);
      std::uint64_t length = number(4);
      if (!stream_) return "it ends inside a chunk's header";
      if (id == "ds64") note_large_sizes();
      const bool sound = id == "data" || id == "SSND";
      if (id == "data" && length == kUnknownLength) {
        if (large_data_ == 0) return "";
        length = large_data_;
      }
      if (at + 8 + length > size_)
        return sound ? fmt::format("its header announces {} bytes of sound and {} are there", length,
                                   size_ - at - 8)
                     : fmt::format("it ends inside its '{}' chunk", id);
      seen_sound_ |= sound;
      at += 8 + length + length % 2;
    }
    if (!seen_sound_) return "it ends before its sound";
    const bool short_of_form = announced != kUnknownLength + 8 && announced > size_ + 1;
    return short_of_form ? fmt::format("its header announces {} bytes and {} are there", announced, size_)
                         : "";
  }

 private:
  std::string text(std::size_t length) {
    std::string result(length, '\0');
    stream_.read(result.data(), static_cast<std::streamsize>(length));
    return result;
  }
  std::uint64_t number(std::size_t length) {
    std::array<unsigned char, 8> bytes{};
    stream_.read(reinterpret_cast<char*>(bytes.data()), static_cast<std::streamsize>(length));
    std::uint64_t value = 0;
    for (std::size_t i = 0; i < length; ++i)
      value |= std::uint64_t{bytes[i]} << 8 * (little_ ? i : length - 1 - i);
    return value;
  }
  void note_large_sizes() {
    number(8);  // of the whole form
    large_data_ = number(8);
  }

  std::ifstream stream_;
  std::uint64_t size_;
  std::uint64_t large_data_ = 0;
  bool little_ = true;
  bool seen_sound_ = false;
};

}  // namespace

std::string missing_part(const std::filesystem::path& path) { return ChunkFile(path).missing(); }

}  // namespace wavicon::file_detail
