// SPDX-License-Identifier: MIT
// Times whole commands against what they cannot do without: decoding the same file, its transforms, the same
// plugin in the same process, one core. Each row and its base run in turn, and the median of the processor
// times counts (of wall times where a row is about cores); memory is the highest that the system saw.
//   wavicon-benchmark-commands WAVICON SIGNALS FOLDER [ROUNDS [WORD]]   all rows, or those that hold a word
// FOLDER is that of wavicon-benchmark-signals.

#include <fmt/format.h>

#include <fcntl.h>
#include <spawn.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <string>
#include <vector>

namespace {

namespace fs = std::filesystem;

constexpr long kSpectrum = 65536;  // samples of a window at 96 kHz

using Command = std::vector<std::string>;

struct Cost {
  double processor_s = 0;
  double wall_s = 0;
  double memory_mb = 0;
};

double seconds_of(const timeval& t) {
  return static_cast<double>(t.tv_sec) + 1e-6 * static_cast<double>(t.tv_usec);
}

Cost run(const Command& command) {
  std::vector<char*> words;
  for (const std::string& word : command) words.push_back(const_cast<char*>(word.c_str()));
  words.push_back(nullptr);
  posix_spawn_file_actions_t quiet;
  posix_spawn_file_actions_init(&quiet);
  posix_spawn_file_actions_addopen(&quiet, STDOUT_FILENO, "/dev/null", O_WRONLY, 0);
  posix_spawn_file_actions_addopen(&quiet, STDERR_FILENO, "/dev/null", O_WRONLY, 0);
  const auto start = std::chrono::steady_clock::now();
  pid_t child = 0;
  if (posix_spawn(&child, words[0], &quiet, nullptr, words.data(), environ) != 0) {
    fmt::print(stderr, "{} cannot be started\n", command[0]);
    std::exit(2);
  }
  posix_spawn_file_actions_destroy(&quiet);
  int status = 0;
  rusage usage{};
  ::wait4(child, &status, 0, &usage);
  const double wall_s = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  if (!WIFEXITED(status) || WEXITSTATUS(status) != 0) {
    fmt::print(stderr, "failed: {}\n", fmt::join(command, " "));
    std::exit(2);
  }
  return {seconds_of(usage.ru_utime) + seconds_of(usage.ru_stime), wall_s,
          static_cast<double>(usage.ru_maxrss) / 1024};
}

enum class Measured { processor, wall };

struct Row {
  std::string work;
  Command command;
  std::vector<Command> bases;  // what it is held against, together; none: the figure itself counts
  std::string base;            // in words
  double aim = 0;              // times the base, or seconds
  Measured measured = Measured::processor;
};

double median(std::vector<double> values) {
  std::sort(values.begin(), values.end());
  return values[values.size() / 2];
}

void time_row(const Row& row, int rounds) {
  std::vector<double> own, base;
  double memory = 0;
  const auto time_of = [&](const Cost& cost) {
    return row.measured == Measured::wall ? cost.wall_s : cost.processor_s;
  };
  for (int i = 0; i < rounds; ++i) {
    const Cost cost = run(row.command);
    own.push_back(time_of(cost));
    memory = std::max(memory, cost.memory_mb);
    double together = 0;
    for (const Command& command : row.bases) together += time_of(run(command));
    base.push_back(together);
  }
  const double s = median(own);
  const std::string ratio = row.bases.empty() ? "" : fmt::format("{:.2f} × {}", s / median(base), row.base),
                    aim = row.aim == 0        ? ""
                          : row.bases.empty() ? fmt::format("{:.3g} s", row.aim)
                                              : fmt::format("{:.3g} ×", row.aim);
  fmt::print("| {} | {:.3f} s | {} | {} | {:.0f} MB |\n", row.work, s, ratio, aim, memory);
  std::fflush(stdout);
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 4) {
    fmt::print(stderr, "wavicon-benchmark-commands WAVICON SIGNALS FOLDER [ROUNDS [WORD]]\n");
    return 2;
  }
  const std::string wavicon = argv[1], signals = argv[2];
  const fs::path folder = argv[3];
  const int rounds = argc > 4 ? std::max(1, std::atoi(argv[4])) : 5;
  const std::string only = argc > 5 ? argv[5] : "";
  const auto file = [&](const char* name) { return (folder / name).string(); };
  const auto tool = [&](Command words) {
    words.insert(words.begin(), wavicon);
    return words;
  };
  const auto make = [&](const char* name, Command words) {
    if (fs::exists(folder / name)) return;
    words.insert(words.end(), {"-o", file(name)});
    run(tool(words));
  };
  make("noise.wav",
       {"make", "noise", "--colour", "pink", "--seconds", "600", "--rate", "96000", "--channels", "2"});
  make("apart.wav", {"make", "noise", "--colour", "pink", "--seconds", "600", "--rate", "96000", "--channels",
                     "2", "--independent"});
  make("sweep.wav", {"make", "sweep", "--seconds", "8"});
  make("minute.wav", {"make", "noise", "--seconds", "60"});
  if (!fs::exists(folder / "tern.wav"))
    run(tool({"feed", file("sweep.wav"), "--through", "sim:tern?drive=12", "-o", file("tern.wav")}));

  const std::string music = file("music.wav");
  const Command decode{signals, "--decode", music};
  // Transforms of both channels of ten minutes at 96 kHz that overlap by half, or by three quarters.
  const auto transforms = [&](long length, long per_length = 2) {
    return Command{signals, "--transforms", std::to_string(length),
                   std::to_string(per_length * 2 * 57600000L / length)};
  };
  const auto one_core = [&](Command words) {
    words.insert(words.end(), {"--jobs", "1"});
    return tool(words);
  };
  constexpr double kBothCores = 1 / 1.8;
  const std::string late = file("b.wav"), longest = file("long.wav");
  const auto isolated = [&](const char* unit) {
    return tool({"feed", file("minute.wav"), "--through", unit, "-o", file("out.wav")});
  };
  const auto in_process = [&](const char* unit) {
    return tool({"feed", file("minute.wav"), "--through", unit, "--in-process", "-o", file("out.wav")});
  };
  const Command encode{signals, "--encode", file("minute.wav"), file("out.wav")};
  std::vector<Row> rows{
      {"decoding alone", decode, {}, "", 0},
      {"health, no recipe", one_core({"health", music}), {decode}, "decoding", 2},
      {"health, recipe inside", one_core({"health", file("noise.wav")}), {decode}, "decoding", 2},
      {"health, recipe inside, other noise on each channel",
       one_core({"health", file("apart.wav")}),
       {decode},
       "decoding",
       2},
      {"levels without true peak, loudness",
       one_core({"levels", music, "--no-true-peak", "--no-loudness"}),
       {one_core({"health", music})},
       "health",
       1.5},
      {"levels", one_core({"levels", music}), {decode}, "decoding", 8},
      {"noise", one_core({"noise", music}), {decode, transforms(32768)}, "(decoding + transforms)", 1.5},
      {"spectrum",
       one_core({"spectrum", music}),
       {decode, transforms(kSpectrum)},
       "(decoding + transforms)",
       1.5},
      {"noise, beside the overlap of its window",
       one_core({"noise", music}),
       {decode, transforms(32768, 4)},
       "(decoding + its transforms)",
       1.5},
      {"spectrum, beside the overlap of its window",
       one_core({"spectrum", music}),
       {decode, transforms(kSpectrum, 4)},
       "(decoding + its transforms)",
       1.5},
      {"null, 20 ppm fast", one_core({"null", file("a.wav"), late}), {}, "", 4},
      {"null, late by whole samples", one_core({"null", file("a.wav"), file("whole.wav")}), {}, "", 2},
      {"aliasing, sweep of 8 s", one_core({"aliasing", file("tern.wav")}), {}, "", 0.6},
      {"levels of 3 s", tool({"levels", file("short.wav")}), {}, "", 0.012},
      {"health of 3 s", tool({"health", file("short.wav")}), {}, "", 0.012},
      {"explain of a reading", tool({"explain", "thd_db"}), {}, "", 0.012},
      {"units, the second time", tool({"units"}), {}, "", 0.2},
      {"make noise, pink, 60 s",
       tool({"make", "noise", "--colour", "pink", "--seconds", "60", "-o", file("out.wav")}),
       {encode},
       "encoding",
       3},
      {"make sweep, 60 s",
       tool({"make", "sweep", "--seconds", "60", "-o", file("out.wav")}),
       {encode},
       "encoding",
       3},
      {"feed 60 s through Tern (LV2)",
       isolated("lv2:urn:saltmarsh:tern"),
       {in_process("lv2:urn:saltmarsh:tern")},
       "in process",
       1.1,
       Measured::wall},
      {"feed 60 s through Plover (LV2)",
       isolated("lv2:urn:saltmarsh:plover"),
       {in_process("lv2:urn:saltmarsh:plover")},
       "in process",
       1.1,
       Measured::wall},
  };
  const auto add_cores = [&](const char* work, const Command& words) {
    rows.push_back({std::string("all cores: ") + work,
                    tool(words),
                    {one_core(words)},
                    "one core",
                    kBothCores,
                    Measured::wall});
  };
  add_cores("health", {"health", music});
  add_cores("health of two", {"health", file("a.wav"), late});
  add_cores("levels", {"levels", music});
  add_cores("levels of three", {"levels", file("a.wav"), late, file("whole.wav")});
  add_cores("noise", {"noise", music});
  add_cores("spectrum", {"spectrum", music});
  add_cores("null, 20 ppm fast", {"null", file("a.wav"), late});
  add_cores("aliasing", {"aliasing", file("tern.wav")});
  if (fs::exists(longest)) {
    const Command decode_long{signals, "--decode", longest};
    for (const char* name : {"levels", "noise", "spectrogram"})
      rows.push_back(
          {fmt::format("{} of 2 h at 192 kHz", name), tool({name, longest}), {decode_long}, "decoding", 0});
    rows.push_back({"null of 2 h at 192 kHz with itself, given the delay",
                    tool({"null", longest, longest, "--delay", "0", "--from", "1"}),
                    {decode_long},
                    "decoding",
                    0});
  }
  fmt::print("| work | time | beside | aim | memory |\n|---|---|---|---|---|\n");
  for (const Row& row : rows)
    if (row.work.find(only) != std::string::npos &&
        (!only.empty() || row.work.find("2 h") == std::string::npos))
      time_row(row, rounds);
}
