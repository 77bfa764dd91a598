// SPDX-License-Identifier: MIT
#pragma once
// The chunks of WAV, RF64 and AIFF files (EA IFF 85 and its little-endian kin RIFF): 4 letters, a 32-bit
// size, content padded to even length. What libsndfile does not tell or write is done here: whether a file is
// whole, our recipe, named cue marks of any number. Internal to `file`.

#include <cstdint>
#include <filesystem>
#include <string>
#include <vector>

#include "disk.hpp"
#include "wavicon/file/audio_file.hpp"

namespace wavicon::file_detail {

struct Chunk {
  std::string id;
  std::uint64_t offset = 0;  ///< of the content
  std::uint64_t size = 0;    ///< of the content
};

struct ChunkIndex {
  std::string form;  ///< "RIFF", "RF64", "FORM", …; empty for other files
  bool little_endian = true;
  std::vector<Chunk> chunks;  ///< as far as they could be read
  std::string missing;        ///< empty when the file is complete, otherwise what is missing, as a sentence
  std::string too_many;       ///< chunks that were not looked at, as a sentence; empty: none
};

/// Every size is checked against the length of the file: none leads outside of it.
/// @throws Error bad_input when the file cannot be read.
[[nodiscard]] ChunkIndex index_chunks(const std::filesystem::path& path);

/// Content of a chunk that is wanted.
struct ChunkContent {
  std::string id;
  std::string bytes;
};

/// Recipe, cue marks and facts of what the chunks hold; info.broken_chunk names what cannot be read.
void take_extras(const std::vector<ChunkContent>& chunks, AudioFileInfo& info);

/// The same of an indexed file.
void read_extras(const std::filesystem::path& path, const ChunkIndex& index, AudioFileInfo& info);

/// Appends recipe, cue marks and facts to a finished WAV, RF64 or AIFF file and corrects its size.
/// @param path  of `file`. @return false when the file cannot be written.
[[nodiscard]] bool append_extras(DiskFile& file, const std::filesystem::path& path, const std::string& recipe,
                                 const std::vector<CueMark>& cues, const std::string& facts);

/// What is known of a recording, a line "key = value" each; empty when nothing is.
[[nodiscard]] std::string facts_text(const AudioWriteOptions& options);
/// Reads them back; unknown lines are passed over.
void read_facts(const std::string& text, AudioFileInfo& info);

}  // namespace wavicon::file_detail
