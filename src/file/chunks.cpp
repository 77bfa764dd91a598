// SPDX-License-Identifier: MIT
#include "chunks.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <fstream>
#include <sstream>

namespace wavicon::file_detail {
namespace {

constexpr std::uint64_t kUnknownLength =
    0xFFFFFFFF;  // written by programs that stream, and by RF64 for "see ds64"
constexpr const char* kRecipeChunk = "wvcn";
constexpr const char* kFactsChunk = "wvcf";
constexpr const char* kReported = "reported_samples = ";
constexpr std::uint64_t kLongestExtra = std::uint64_t{1} << 26;

std::uint64_t number_at(const std::string& bytes, std::size_t at, std::size_t length, bool little) {
  std::uint64_t value = 0;
  for (std::size_t i = 0; i < length && at + i < bytes.size(); ++i)
    value |= std::uint64_t{static_cast<unsigned char>(bytes[at + i])} << 8 * (little ? i : length - 1 - i);
  return value;
}

std::string bytes_of(std::uint64_t value, std::size_t length, bool little) {
  std::string bytes(length, '\0');
  for (std::size_t i = 0; i < length; ++i)
    bytes[little ? i : length - 1 - i] = static_cast<char>(value >> 8 * i & 0xFF);
  return bytes;
}

std::string read_bytes(std::ifstream& stream, std::uint64_t offset, std::uint64_t length) {
  std::string bytes(length, '\0');
  stream.clear();
  stream.seekg(static_cast<std::streamoff>(offset));
  stream.read(bytes.data(), static_cast<std::streamsize>(length));
  bytes.resize(static_cast<std::size_t>(std::max<std::streamsize>(0, stream.gcount())));
  return bytes;
}

std::string chunk(const std::string& id, const std::string& content, bool little) {
  return id + bytes_of(content.size(), 4, little) + content +
         (content.size() % 2 == 1 ? std::string(1, '\0') : "");
}

// WAV: cue points by frame, and a list of labels that carries their names.
std::string riff_cues(const std::vector<CueMark>& cues) {
  std::string points = bytes_of(cues.size(), 4, true), labels = "adtl";
  for (std::size_t i = 0; i < cues.size(); ++i) {
    const auto frame = static_cast<std::uint64_t>(cues[i].frame);
    points += bytes_of(i + 1, 4, true) + bytes_of(frame, 4, true) + "data" + bytes_of(0, 8, true) +
              bytes_of(frame, 4, true);
    labels += chunk("labl", bytes_of(i + 1, 4, true) + cues[i].name + '\0', true);
  }
  return chunk("cue ", points, true) + chunk("LIST", labels, true);
}

// AIFF: markers with names as counted strings of even total length.
std::string aiff_cues(const std::vector<CueMark>& cues) {
  std::string markers = bytes_of(cues.size(), 2, false);
  for (std::size_t i = 0; i < cues.size(); ++i) {
    std::string name = cues[i].name.substr(0, 254);
    if (name.size() % 2 == 0) name += ' ';
    markers += bytes_of(i + 1, 2, false) + bytes_of(static_cast<std::uint64_t>(cues[i].frame), 4, false) +
               static_cast<char>(name.size()) + name;
  }
  return chunk("MARK", markers, false);
}

void read_riff_cues(const std::string& points, std::vector<CueMark>& cues) {
  for (std::size_t at = 4; at + 24 <= points.size(); at += 24)
    cues.push_back({static_cast<std::int64_t>(number_at(points, at + 20, 4, true)), ""});
}

void read_riff_labels(const std::string& list, std::vector<CueMark>& cues) {
  if (list.substr(0, 4) != "adtl") return;
  for (std::size_t at = 4; at + 8 <= list.size();) {
    const std::uint64_t size = number_at(list, at + 4, 4, true);
    if (size > list.size()) return;
    const std::uint64_t number = number_at(list, at + 8, 4, true);
    if (list.substr(at, 4) == "labl" && number >= 1 && number <= cues.size() && size > 4) {
      const std::string name = list.substr(at + 12, size - 4);
      cues[number - 1].name = name.substr(0, name.find('\0'));
    }
    at += 8 + size + size % 2;
  }
}

void read_aiff_cues(const std::string& markers, std::vector<CueMark>& cues) {
  for (std::size_t at = 2; at + 7 <= markers.size();) {
    const std::size_t length = number_at(markers, at + 6, 1, false);
    std::string name = markers.substr(at + 7, length);
    while (!name.empty() && name.back() == ' ') name.pop_back();
    cues.push_back({static_cast<std::int64_t>(number_at(markers, at + 2, 4, false)), name});
    at += 7 + length + (length + 1) % 2;
  }
}

}  // namespace

ChunkIndex index_chunks(const std::filesystem::path& path) {
  std::ifstream stream(path, std::ios::binary);
  const std::uint64_t size = std::filesystem::file_size(path);
  ChunkIndex index;
  const std::string head = read_bytes(stream, 0, 12);
  const std::string form = head.substr(0, 4);
  if (form != "RIFF" && form != "RF64" && form != "FORM") return index;
  index.little_endian = form != "FORM";
  if (head.size() < 12) {
    index.missing = "it ends inside its header";
    return index;
  }
  const std::string type = head.substr(8, 4);
  if (type != "WAVE" && type != "AIFF" && type != "AIFC") return index;
  index.form = form;
  const std::uint64_t announced = number_at(head, 4, 4, index.little_endian);
  std::uint64_t large_data = 0;
  bool sound_seen = false;
  for (std::uint64_t at = 12; at < size;) {
    const std::string header = read_bytes(stream, at, 8);
    if (header.size() < 8) {
      index.missing = "it ends inside a chunk's header";
      return index;
    }
    Chunk found{header.substr(0, 4), at + 8, number_at(header, 4, 4, index.little_endian)};
    if (found.id == "ds64") large_data = number_at(read_bytes(stream, at + 16, 8), 0, 8, true);
    const bool sound = found.id == "data" || found.id == "SSND";
    if (found.id == "data" && found.size == kUnknownLength)
      found.size = large_data != 0 ? large_data : size - at - 8;
    if (found.offset + found.size > size) {
      index.missing = sound ? fmt::format("its header announces {} bytes of sound and {} are there",
                                          found.size, size - found.offset)
                            : fmt::format("it ends inside its '{}' chunk", found.id);
      return index;
    }
    sound_seen |= sound;
    at = found.offset + found.size + found.size % 2;
    index.chunks.push_back(std::move(found));
  }
  if (!sound_seen)
    index.missing = "it ends before its sound";
  else if (announced != kUnknownLength && announced + 8 > size + 1)
    index.missing = fmt::format("its header announces {} bytes and {} are there", announced + 8, size);
  return index;
}

void read_extras(const std::filesystem::path& path, const ChunkIndex& index, AudioFileInfo& info) {
  std::ifstream stream(path, std::ios::binary);
  for (const Chunk& found : index.chunks) {
    if (found.size > kLongestExtra) continue;
    const bool wanted = found.id == kFactsChunk || found.id == kRecipeChunk || found.id == "cue " ||
                        found.id == "LIST" || found.id == "MARK";
    if (!wanted) continue;
    const std::string content = read_bytes(stream, found.offset, found.size);
    if (found.id == kRecipeChunk) info.recipe = content;
    if (found.id == kFactsChunk) read_facts(content, info);
    if (found.id == "cue ") read_riff_cues(content, info.cues);
    if (found.id == "LIST") read_riff_labels(content, info.cues);
    if (found.id == "MARK") read_aiff_cues(content, info.cues);
  }
}

std::string facts_text(const AudioWriteOptions& options) {
  return options.reported_samples ? fmt::format("{}{}\n", kReported, *options.reported_samples) : "";
}

void read_facts(const std::string& text, AudioFileInfo& info) {
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);)
    if (line.rfind(kReported, 0) == 0) {
      const char* digits = line.c_str() + std::string(kReported).size();
      char* end = nullptr;
      const long long value = std::strtoll(digits, &end, 10);
      if (end != digits) info.reported_samples = value;
    }
}

bool append_extras(const std::filesystem::path& path, const std::string& recipe,
                   const std::vector<CueMark>& cues, const std::string& facts) {
  const ChunkIndex index = index_chunks(path);
  const bool little = index.little_endian;
  // Cue frames are 32-bit numbers in both containers.
  std::vector<CueMark> near;
  std::copy_if(cues.begin(), cues.end(), std::back_inserter(near),
               [](const CueMark& cue) { return cue.frame < 0xFFFFFFFF; });
  std::string extras;
  if (!near.empty()) extras += little ? riff_cues(near) : aiff_cues(near);
  if (!recipe.empty()) extras += chunk(kRecipeChunk, recipe, little);
  if (!facts.empty()) extras += chunk(kFactsChunk, facts, little);
  if (extras.empty()) return true;

  std::fstream stream(path, std::ios::binary | std::ios::in | std::ios::out);
  stream.seekp(0, std::ios::end);
  if (static_cast<std::uint64_t>(stream.tellp()) % 2 == 1) stream.put('\0');
  stream << extras;
  const auto size = static_cast<std::uint64_t>(stream.tellp()) - 8;
  const bool large = index.form == "RF64";
  stream.seekp(large ? 20 : 4);  // RF64 keeps its size in the ds64 chunk that follows the form's type
  stream << bytes_of(size, large ? 8 : 4, little);
  stream.flush();
  return stream.good();
}

}  // namespace wavicon::file_detail
