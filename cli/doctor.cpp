// SPDX-License-Identifier: MIT
// What this machine has of what the program can use, and what to do about what it has not.

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <memory>
#include <sstream>

#include "commands.hpp"
#include "program.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/bench/logbook.hpp"
#include "wavicon/path/live_stream.hpp"
#include "wavicon/present/table.hpp"
#include "wavicon/sheet/sheet.hpp"
#include "wavicon/version.hpp"

namespace wavicon::cli {
namespace {

namespace fs = std::filesystem;

struct Looked {
  std::string what;
  bool there = true;
  std::string found;  ///< or what to do
};

bool in_path(const std::string& program) {
  const char* path = std::getenv("PATH");
  std::istringstream folders(path == nullptr ? "" : path);
  for (std::string folder; std::getline(folders, folder, ':');)
    if (::access((fs::path(folder) / program).c_str(), X_OK) == 0) return true;
  return false;
}

Looked program(const std::string& what, const std::string& name, const std::string& package) {
  if (in_path(name)) return {what, true, name};
  return {what, false, "apt install " + package};
}

Looked plugins() {
  std::size_t usable = 0, refused = 0, own = 0;
  for (const UnitListing& unit : list_units(own_units())) {
    // A scheme without anything: what hosts it is not there.
    if (unit.name.back() == ':') return {"plugins", false, unit.refused};
    if (unit.name.rfind("sim:", 0) == 0)
      ++own;
    else
      ++(unit.refused.empty() ? usable : refused);
  }
  if (usable + refused == 0)
    return {"plugins", false,
            fmt::format("none beside the {} stand-ins: apt install mda-lv2 has 32 of them", own)};
  return {"plugins", true,
          fmt::format("{} can be hosted, {} cannot ('wavicon units' says why), {} stand-ins", usable, refused,
                      own)};
}

Looked server() {
  try {
    const LiveStream stream({.from = {"."}});
    std::size_t ports = 0;
    for (const auto& group : stream.recorded_from()) ports += group.size();
    return {"sound server", true,
            fmt::format("JACK, {:g} Hz, blocks of {}, {} ports to record from", stream.sample_rate_hz(),
                        stream.block_frames(), ports)};
  } catch (const Error& error) {
    return {
        "sound server", false,
        fmt::format("{} (jackd, or PipeWire by pw-jack wavicon); files and plugins need none", error.what())};
  }
}

Looked logbook() {
  const std::string store = usual_logbook();
  try {
    const Logbook opened(store);
    const std::size_t count = opened.entries({}).size();
    return {"logbook", true, fmt::format("{}, {} entr{}", opened.name(), count, count == 1 ? "y" : "ies")};
  } catch (const Error& error) {
    if (!fs::exists(store) && store.find("://") == std::string::npos)
      return {"logbook", true, store + ", which --keep begins"};
    return {"logbook", false, error.what()};
  }
}

Looked terminal() {
  const char* type = std::getenv("TERM");
  if (::isatty(STDOUT_FILENO) == 0 || type == nullptr)
    return {"terminal", true, "none here: 'watch' prints lines"};
  for (const char* name : {"LC_ALL", "LC_CTYPE", "LANG"})
    if (const char* value = std::getenv(name); value != nullptr && *value != '\0') {
      const std::string text = value;
      if (text.find("UTF-8") != std::string::npos || text.find("utf8") != std::string::npos)
        return {"terminal", true, fmt::format("{}, {}, {} columns", type, text, terminal_columns())};
      break;
    }
  return {"terminal", false, "it shows ASCII alone: export LANG=C.UTF-8"};
}

int run(bool only_missing) {
  std::vector<std::vector<std::string>> rows;
  std::size_t missing = 0;
  for (const Looked& looked : {plugins(), server(), program("pictures", "gnuplot", "gnuplot-nox"),
                               program("pages as PDF", "chromium", "chromium"), logbook(), terminal()}) {
    missing += looked.there ? 0 : 1;
    if (!looked.there || !only_missing)
      rows.push_back({looked.what, looked.there ? "there" : "missing", looked.found});
  }
  print(fmt::format("wavicon {}, arithmetic {}: {}\n", WAVICON_VERSION, kArithmetic,
                    missing == 0 ? std::string("everything is there")
                                 : fmt::format("{} of 6 {} missing; what needs none of it works", missing,
                                               missing == 1 ? "is" : "are")));
  if (!rows.empty()) print("\n" + aligned(rows, {false, false, false}));
  return exit_status::measured;
}

}  // namespace

void add_doctor(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand("doctor", "what is there on this machine, and what is missing?");
  auto only_missing = std::make_shared<bool>(false);
  command->add_flag("--missing", *only_missing, "only that");
  command->callback([only_missing, &action] { action = [only_missing] { return run(*only_missing); }; });
}

}  // namespace wavicon::cli
