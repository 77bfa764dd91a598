// SPDX-License-Identifier: MIT
// The cache of LADSPA libraries, and what a library says of itself.

#include "path/ladspa_cache.hpp"
#include "target.hpp"

using namespace wavicon;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string text(reinterpret_cast<const char*>(data), size);
  if (const auto answers = path_detail::parse_ladspa_cache(text)) {
    const std::string written = path_detail::ladspa_cache_text(*answers);
    const auto again = path_detail::parse_ladspa_cache(written);
    fuzz::require(again && path_detail::ladspa_cache_text(*again) == written,
                  "a written cache reads the same");
    for (const auto& [key, answer] : *answers)
      if (answer.failure) (void)path_detail::still_stands(*answer.failure, 1, 1, "");
  }
  (void)path_detail::parse_ladspa_text(text);
  return 0;
}
