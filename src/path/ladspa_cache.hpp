// SPDX-License-Identifier: MIT
#pragma once
// What LADSPA libraries said of themselves, as text between processes and as a file that is kept. Internal to
// `path`.

#include <cstdint>
#include <filesystem>
#include <functional>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "wavicon/audio/export.hpp"

namespace wavicon::path_detail {

/// A port as the plugin describes it; what depends on the sample rate is worked out when it is known.
struct LadspaPort {
  int descriptor = 0;
  int hint = 0;
  float low = 0, high = 0;
  std::string name;
};

struct LadspaDescription {
  std::string label, name, maker;
  std::vector<LadspaPort> ports;
};

/// Why a library could not be asked, and what that hung on: when any of it changes, it is asked again.
struct LadspaFailure {
  std::string why;
  std::int64_t at_s = 0;     ///< seconds since 1970
  double patience_s = 0;     ///< that it was given
  std::string surroundings;  ///< of the loader: search path, list of known libraries
};

/// What a library said, or why it said nothing.
struct LadspaAnswer {
  std::vector<LadspaDescription> plugins;
  std::optional<LadspaFailure> failure;
};

/// Answers by library: its path, time of change and size.
using LadspaAnswers = std::map<std::string, LadspaAnswer>;

/// A line for each plugin and port, fields between tabs.
[[nodiscard]] std::string ladspa_text(const std::vector<LadspaDescription>& plugins);
/// @return none for text that is not exactly that.
[[nodiscard]] WAVICON_EXPORT std::optional<std::vector<LadspaDescription>> parse_ladspa_text(
    std::string_view text);

/// The cache as a file has it.
[[nodiscard]] WAVICON_EXPORT std::string ladspa_cache_text(const LadspaAnswers& answers);
/// @return none for anything that was not written by ladspa_cache_text() to its end.
[[nodiscard]] WAVICON_EXPORT std::optional<LadspaAnswers> parse_ladspa_cache(std::string_view text);

/// Whether a failure still stands: nothing that it hung on changed, and it is less than a day old.
[[nodiscard]] WAVICON_EXPORT bool still_stands(const LadspaFailure& failure, std::int64_t now_s,
                                               double patience_s, const std::string& surroundings);

/// The answers that are kept in the user's cache folder; written back when it goes and something is new. A
/// file that does not parse is thrown away; one that cannot be written is done without.
class LadspaCache {
 public:
  LadspaCache();
  ~LadspaCache();
  LadspaCache(const LadspaCache&) = delete;
  LadspaCache& operator=(const LadspaCache&) = delete;

  /// @param ask  what the library says, as ladspa_text(), @throws Error with the reason.
  [[nodiscard]] const LadspaAnswer& answer_of(const std::filesystem::path& library, double patience_s,
                                              const std::function<std::string()>& ask);

 private:
  void save() const;

  std::filesystem::path file_;
  LadspaAnswers known_;
  bool changed_ = false;
};

}  // namespace wavicon::path_detail
