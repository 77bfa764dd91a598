// SPDX-License-Identifier: MIT
// What stands beside the sound of a file: cue marks, labels, facts, each from bytes of its own.

#include "file/chunks.hpp"
#include "target.hpp"
#include "wavicon/file/limits.hpp"

using namespace wavicon;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  fuzz::Bytes bytes(data, size);
  constexpr const char* kIds[] = {"cue ", "LIST", "MARK", "wvcf", "wvcn"};
  std::vector<file_detail::ChunkContent> chunks;
  while (bytes.left() > 0) {
    const char* id = kIds[bytes.choice(5)];
    const std::size_t length = bytes.up_to(4096);
    std::string all = bytes.rest();
    chunks.push_back({id, all.substr(0, length)});
    const std::size_t taken = chunks.back().bytes.size();
    bytes = fuzz::Bytes(data + size - (all.size() - taken), all.size() - taken);
  }
  AudioFileInfo info;
  file_detail::take_extras(chunks, info);
  fuzz::require(info.cues.size() <= 2 * size, "no more marks than bytes");
  for (const CueMark& cue : info.cues) fuzz::require(cue.name.size() <= kLongestLabelBytes, "labels are cut");
  return 0;
}
