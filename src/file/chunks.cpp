// SPDX-License-Identifier: MIT
#include "chunks.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstdio>
#include <cstdlib>
#include <fstream>
#include <map>
#include <sstream>
#include <utility>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/file/limits.hpp"

namespace wavicon::file_detail {
namespace {

constexpr std::uint64_t kUnknownLength =
    0xFFFFFFFF;  // written by programs that stream, and by RF64 for "see ds64"
constexpr const char* kRecipeChunk = "wvcn";
constexpr const char* kFactsChunk = "wvcf";
constexpr long long kMostReported = 1LL << 40;  // samples of latency: more is no latency
constexpr const char* kReported = "reported_samples = ";
constexpr const char* kUnit = "unit = ";
constexpr std::size_t kMostUnits = 1000;

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

// The first thing that is wrong is told; what comes before it was read.
void note(AudioFileInfo& info, const std::string& id, const std::string& what) {
  if (info.broken_chunk.empty())
    info.broken_chunk =
        fmt::format("its '{}' chunk is broken: {}; the sound is not touched by that", printable(id), what);
}

using CueFrames = std::vector<std::pair<std::uint64_t, std::int64_t>>;  // by number
using CueNames = std::map<std::uint64_t, std::string>;

std::string label(std::string text) { return text.substr(0, std::min(text.find('\0'), kLongestLabelBytes)); }

void read_riff_cues(const std::string& points, CueFrames& cues, AudioFileInfo& info) {
  constexpr std::size_t kPointBytes = 24;
  const std::uint64_t announced = number_at(points, 0, 4, true);
  const std::size_t held = points.size() < 4 ? 0 : (points.size() - 4) / kPointBytes;
  if (announced > held)
    note(info, "cue ", fmt::format("it announces {} marks and holds {}", announced, held));
  if (held > kMostCues) note(info, "cue ", fmt::format("of its {} marks {} were read", held, kMostCues));
  for (std::size_t i = 0; i < std::min({held, kMostCues, static_cast<std::size_t>(announced)}); ++i) {
    const std::size_t at = 4 + i * kPointBytes;
    cues.emplace_back(number_at(points, at, 4, true),
                      static_cast<std::int64_t>(number_at(points, at + 20, 4, true)));
  }
}

void read_riff_labels(const std::string& list, CueNames& names, AudioFileInfo& info) {
  if (list.compare(0, 4, "adtl") != 0) return;
  std::size_t at = 4;
  while (at + 8 <= list.size()) {
    const std::uint64_t size = number_at(list, at + 4, 4, true);
    if (size > list.size() - at - 8) {
      note(info, "LIST",
           fmt::format("a label announces {} bytes and {} are there", size, list.size() - at - 8));
      return;
    }
    if (list.compare(at, 4, "labl") == 0) {
      if (size < 4)
        note(info, "LIST", fmt::format("a label of {} bytes does not say which mark it names", size));
      else
        names[number_at(list, at + 8, 4, true)] = label(list.substr(at + 12, size - 4));
    }
    at += 8 + size + size % 2;
  }
}

void read_aiff_cues(const std::string& markers, AudioFileInfo& info) {
  const std::uint64_t announced = number_at(markers, 0, 2, false);
  std::size_t at = 2;
  for (std::uint64_t i = 0; i < announced; ++i) {
    const std::size_t length = at + 7 <= markers.size() ? number_at(markers, at + 6, 1, false) : 0;
    if (at + 7 + length > markers.size()) {
      note(info, "MARK", fmt::format("it announces {} marks and holds {}", announced, i));
      return;
    }
    std::string name = label(markers.substr(at + 7, length));
    while (!name.empty() && name.back() == ' ') name.pop_back();
    info.cues.push_back({static_cast<std::int64_t>(number_at(markers, at + 2, 4, false)), name});
    at += 7 + length + (length + 1) % 2;
  }
}

bool is_wanted(const std::string& id) {
  return id == kFactsChunk || id == kRecipeChunk || id == "cue " || id == "LIST" || id == "MARK";
}

}  // namespace

ChunkIndex index_chunks(const std::filesystem::path& path) {
  std::ifstream stream(path, std::ios::binary);
  std::error_code failure;
  const std::uint64_t size = std::filesystem::file_size(path, failure);
  if (failure || !stream)
    throw Error(ErrorCode::bad_input, fmt::format("{}: cannot be read ({})", path.string(),
                                                  failure ? failure.message() : "it cannot be opened"));
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
    if (index.chunks.size() >= kMostChunks) {
      index.too_many =
          fmt::format("it has more than {} chunks; those beyond were not looked at", kMostChunks);
      break;
    }
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
    if (found.size > size - found.offset) {
      index.missing = sound ? fmt::format("its header announces {} bytes of sound and {} are there",
                                          found.size, size - found.offset)
                            : fmt::format("it ends inside its '{}' chunk", printable(found.id));
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

void take_extras(const std::vector<ChunkContent>& chunks, AudioFileInfo& info) {
  CueFrames frames;
  CueNames names;
  for (const ChunkContent& chunk : chunks) {
    if (chunk.id == kRecipeChunk) info.recipe = chunk.bytes;
    if (chunk.id == kFactsChunk) read_facts(chunk.bytes, info);
    if (chunk.id == "cue ") read_riff_cues(chunk.bytes, frames, info);
    if (chunk.id == "LIST") read_riff_labels(chunk.bytes, names, info);
    if (chunk.id == "MARK") read_aiff_cues(chunk.bytes, info);
  }
  // Labels may stand before the marks that they name.
  for (const auto& [number, frame] : frames) {
    const auto name = names.find(number);
    info.cues.push_back({frame, name == names.end() ? "" : name->second});
  }
}

void read_extras(const std::filesystem::path& path, const ChunkIndex& index, AudioFileInfo& info) {
  std::ifstream stream(path, std::ios::binary);
  std::vector<ChunkContent> contents;
  if (!index.too_many.empty()) info.broken_chunk = index.too_many;
  for (const Chunk& found : index.chunks) {
    if (!is_wanted(found.id)) continue;
    const std::uint64_t most = found.id == kRecipeChunk ? kLongestRecipeBytes : kLongestChunkBytes;
    if (found.size > most)
      note(info, found.id, fmt::format("it has {} bytes; {} are the most that is read", found.size, most));
    else
      contents.push_back({found.id, read_bytes(stream, found.offset, found.size)});
  }
  take_extras(contents, info);
}

std::string facts_text(const AudioWriteOptions& options) {
  std::string text =
      options.reported_samples ? fmt::format("{}{}\n", kReported, *options.reported_samples) : "";
  for (const std::string& unit : options.chain) text += fmt::format("{}{}\n", kUnit, printable(unit));
  return text;
}

void read_facts(const std::string& text, AudioFileInfo& info) {
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    if (line.rfind(kUnit, 0) == 0 && info.chain.size() < kMostUnits)
      info.chain.push_back(line.substr(std::string(kUnit).size()));
    if (line.rfind(kReported, 0) == 0) {
      const char* digits = line.c_str() + std::string(kReported).size();
      char* end = nullptr;
      const long long value = std::strtoll(digits, &end, 10);
      if (end != digits && std::abs(value) < kMostReported) info.reported_samples = value;
    }
  }
}

bool append_extras(DiskFile& file, const std::filesystem::path& path, const std::string& recipe,
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

  const std::int64_t end = file.seek(0, SEEK_END);
  if (end < 0) return false;
  if (end % 2 == 1) extras.insert(extras.begin(), '\0');
  if (!file.write(extras)) return false;
  const auto size = static_cast<std::uint64_t>(end) + extras.size() - 8;
  const bool large = index.form == "RF64";
  // RF64 keeps its size in the ds64 chunk that follows the form's type.
  return file.seek(large ? 20 : 4, SEEK_SET) >= 0 && file.write(bytes_of(size, large ? 8 : 4, little));
}

}  // namespace wavicon::file_detail
