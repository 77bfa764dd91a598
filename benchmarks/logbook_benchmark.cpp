// SPDX-License-Identifier: MIT
// A logbook of a million readings (20 000 sheets of 50), in a file: what a rank, a trend, a list and one more
// sheet take. WAVICON_BENCHMARK_LOGBOOK names another store, a server for instance.

#include <benchmark/benchmark.h>
#include <fmt/format.h>

#include <cstdlib>
#include <filesystem>

#include "wavicon/bench/history.hpp"
#include "wavicon/bench/logbook.hpp"

namespace {

constexpr int kSheets = 20000, kReadings = 50, kOfARun = 200;

wavicon::Sheet sheet(int number) {
  wavicon::Sheet sheet{.measurement = "noise",
                       .capture = {fmt::format("capture-{}.wav", number), "24-bit", 48000, 1, 96000}};
  for (int i = 0; i < kReadings; ++i) {
    wavicon::Reading reading{i == 0 ? "noise_dbfs" : fmt::format("other_{}_db", i), 0,
                             -90 - 0.0007 * number + 0.01 * i, "dBFS"};
    reading.uncertainty = 0.05;
    reading.conditions = {{"bandwidth_hz", std::vector<double>{20, 20000}},
                          {"from_s", 0.001 * number},
                          {"level_dbfs", -20.0 - 0.01 * (number % 7)},
                          {"sample_rate_hz", 48000.0}};
    sheet.readings.push_back(std::move(reading));
  }
  return sheet;
}

std::string store() {
  static const std::string kStore = [] {
    const char* named = std::getenv("WAVICON_BENCHMARK_LOGBOOK");
    std::string url = named != nullptr
                          ? named
                          : (std::filesystem::temp_directory_path() / "wavicon-benchmark.sqlite").string();
    if (named == nullptr)
      for (const char* end : {"", "-wal", "-shm"}) std::filesystem::remove(url + end);
    wavicon::Logbook logbook(url, wavicon::Logbook::Access::keep);
    for (int first = 0; first < kSheets; first += kOfARun) {
      std::vector<wavicon::Sheet> run;
      for (int i = first; i < first + kOfARun; ++i) run.push_back(sheet(i));
      logbook.keep(run, {.on_s = 1700000000 + 3600LL * first});
    }
    return url;
  }();
  return kStore;
}

void rank(benchmark::State& state) {
  const wavicon::Logbook logbook(store());
  for (auto _ : state) benchmark::DoNotOptimize(wavicon::ranking(logbook, "noise_dbfs", {}));
}
void trend_of_all(benchmark::State& state) {
  const wavicon::Logbook logbook(store());
  for (auto _ : state) benchmark::DoNotOptimize(wavicon::trend(logbook, {"noise_dbfs"}, {}));
}
void list(benchmark::State& state) {
  const wavicon::Logbook logbook(store());
  for (auto _ : state) benchmark::DoNotOptimize(wavicon::entries_page(logbook, {}, 30));
}
void list_by_words(benchmark::State& state) {
  const wavicon::Logbook logbook(store());
  for (auto _ : state) benchmark::DoNotOptimize(wavicon::entries_page(logbook, {.words = {"199"}}, 30));
}
void keep_one(benchmark::State& state) {
  wavicon::Logbook logbook(store(), wavicon::Logbook::Access::keep);
  int number = kSheets;
  for (auto _ : state) benchmark::DoNotOptimize(logbook.keep({sheet(++number)}, {}));
}
BENCHMARK(rank)->Unit(benchmark::kMillisecond)->Iterations(5);
BENCHMARK(trend_of_all)->Unit(benchmark::kMillisecond)->Iterations(5);
BENCHMARK(list)->Unit(benchmark::kMillisecond)->Iterations(20);
BENCHMARK(list_by_words)->Unit(benchmark::kMillisecond)->Iterations(20);
BENCHMARK(keep_one)->Unit(benchmark::kMillisecond)->Iterations(200)->UseRealTime();

}  // namespace
