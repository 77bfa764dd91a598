// SPDX-License-Identifier: MIT
#include "ladspa_cache.hpp"

#include <fmt/format.h>

#include <chrono>
#include <cstdlib>

#include "cache_text.hpp"
#include "wavicon/audio/error.hpp"

namespace wavicon::path_detail {
namespace {

namespace fs = std::filesystem;

constexpr std::string_view kVersion = "wavicon-ladspa 2";
constexpr std::string_view kEnd = "end";  // last line: what lacks it was not written to its end
constexpr std::int64_t kFailureKeptS = 24 * 3600;
constexpr const char* kLoaderList = "/etc/ld.so.cache";

// Adds what a line says; false when it says nothing that is known.
bool take_line(const std::vector<std::string_view>& parts, std::vector<LadspaDescription>& plugins) {
  if (parts[0] == "plugin" && parts.size() == 4) {
    plugins.push_back({std::string(parts[1]), std::string(parts[2]), std::string(parts[3]), {}});
    return true;
  }
  if (parts[0] != "port" || parts.size() != 6 || plugins.empty()) return false;
  const auto descriptor = number<int>(parts[1]), hint = number<int>(parts[2]);
  const auto low = number<float>(parts[3]), high = number<float>(parts[4]);
  if (!descriptor || !hint || !low || !high) return false;
  plugins.back().ports.push_back({*descriptor, *hint, *low, *high, std::string(parts[5])});
  return true;
}

std::int64_t now_s() {
  return std::chrono::duration_cast<std::chrono::seconds>(std::chrono::system_clock::now().time_since_epoch())
      .count();
}

// What the loader goes by besides the library itself.
std::string surroundings_of(const fs::path& library) {
  const char* path = std::getenv("LD_LIBRARY_PATH");
  std::error_code ignored;
  std::string text = fmt::format("{} {}", stamp_of(kLoaderList), stamp_of(library.parent_path()));
  for (const std::string_view folder : split(path == nullptr ? "" : path, ':'))
    if (!folder.empty()) text += fmt::format(" {} {}", folder, stamp_of(fs::path(folder)));
  return in_one_line(text);
}

}  // namespace

std::string ladspa_text(const std::vector<LadspaDescription>& plugins) {
  std::string text;
  for (const LadspaDescription& plugin : plugins) {
    text += fmt::format("plugin\t{}\t{}\t{}\n", in_one_line(plugin.label), in_one_line(plugin.name),
                        in_one_line(plugin.maker));
    for (const LadspaPort& port : plugin.ports)
      text += fmt::format("port\t{}\t{}\t{}\t{}\t{}\n", port.descriptor, port.hint, port.low, port.high,
                          in_one_line(port.name));
  }
  return text;
}

std::optional<std::vector<LadspaDescription>> parse_ladspa_text(std::string_view text) {
  std::vector<LadspaDescription> plugins;
  while (!text.empty()) {
    const std::size_t end = text.find('\n');
    if (end == std::string_view::npos || !take_line(split(text.substr(0, end), '\t'), plugins))
      return std::nullopt;
    text.remove_prefix(end + 1);
  }
  return plugins;
}

std::string ladspa_cache_text(const LadspaAnswers& answers) {
  std::string text = fmt::format("{}\n", kVersion);
  for (const auto& [key, answer] : answers) {
    text += fmt::format("file\t{}\n", key);
    if (answer.failure)
      text += fmt::format("failed\t{}\t{}\t{}\t{}\n", answer.failure->at_s, answer.failure->patience_s,
                          in_one_line(answer.failure->surroundings), in_one_line(answer.failure->why));
    text += ladspa_text(answer.plugins);
  }
  return text + fmt::format("{}\n", kEnd);
}

std::optional<LadspaAnswers> parse_ladspa_cache(std::string_view text) {
  const auto lines = lines_between(text, kVersion, kEnd);
  if (!lines) return std::nullopt;
  LadspaAnswers answers;
  LadspaAnswer* answer = nullptr;
  for (const std::string_view line : *lines) {
    const auto parts = split(line, '\t');
    if (parts[0] == "file" && parts.size() > 1) {
      answer = &answers[std::string(line.substr(5))];
    } else if (answer == nullptr) {
      return std::nullopt;
    } else if (parts[0] == "failed" && parts.size() == 5) {
      const auto at_s = number<std::int64_t>(parts[1]);
      const auto patience_s = number<double>(parts[2]);
      if (!at_s || !patience_s) return std::nullopt;
      answer->failure = LadspaFailure{std::string(parts[4]), *at_s, *patience_s, std::string(parts[3])};
    } else if (!take_line(parts, answer->plugins)) {
      return std::nullopt;
    }
  }
  return answers;
}

bool still_stands(const LadspaFailure& failure, std::int64_t at_s, double patience_s,
                  const std::string& surroundings) {
  return failure.surroundings == surroundings && patience_s <= failure.patience_s && at_s >= failure.at_s &&
         at_s - failure.at_s < kFailureKeptS;
}

LadspaCache::LadspaCache() : file_(cache_file("ladspa")) {
  if (auto answers = parse_ladspa_cache(kept_text(file_))) known_ = std::move(*answers);
}

LadspaCache::~LadspaCache() {
  if (!changed_ || file_.empty()) return;
  try {
    save();
  } catch (const std::exception&) {  // it only saves time
  }
}

void LadspaCache::save() const { keep_text(file_, ladspa_cache_text(known_)); }

const LadspaAnswer& LadspaCache::answer_of(const fs::path& library, double patience_s,
                                           const std::function<std::string()>& ask) {
  const std::string key = in_one_line(fmt::format("{}\t{}", library.string(), stamp_of(library))),
                    surroundings = surroundings_of(library);
  if (const auto found = known_.find(key);
      found != known_.end() &&
      (!found->second.failure || still_stands(*found->second.failure, now_s(), patience_s, surroundings)))
    return found->second;
  LadspaAnswer answer;
  const auto fail = [&](const std::string& why) {
    answer.failure = LadspaFailure{in_one_line(why), now_s(), patience_s, surroundings};
  };
  try {
    if (auto plugins = parse_ladspa_text(ask()))
      answer.plugins = std::move(*plugins);
    else
      fail(library.string() + " describes itself in a way that cannot be read");
  } catch (const Error& error) {
    fail(error.what());
  }
  changed_ = true;
  return known_[key] = answer;
}

}  // namespace wavicon::path_detail
