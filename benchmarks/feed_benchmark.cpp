// SPDX-License-Identifier: MIT
// What hosting costs: ten seconds fed through the Tern plugin, against the plugin's own run calls on the same
// blocks. Both are timed in turn within each iteration; `ratio` is the lowest time of the one over the lowest
// of the other (aim: at most 1.1).

#include <benchmark/benchmark.h>
#include <dlfcn.h>
#include <lv2/core/lv2.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <string>
#include <vector>

#include "wavicon/path/chain.hpp"

namespace {

constexpr int kBlockFrames = 512;
constexpr int kFrames = 480000;

double seconds_of(const auto& work) {
  const auto start = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

std::vector<float> saw() {
  std::vector<float> x(kFrames);
  for (std::size_t n = 0; n < x.size(); ++n) x[n] = static_cast<float>(n % 97) / 97.0F - 0.5F;
  return x;
}

// The plugin without any host: its binary, its descriptor, its run.
class BarePlugin {
 public:
  explicit BarePlugin(float oversampling) {
    library_ = dlopen((std::string(WAVICON_TERN_BUNDLE) + "/tern.so").c_str(), RTLD_NOW);
    descriptor_ = reinterpret_cast<LV2_Descriptor_Function>(dlsym(library_, "lv2_descriptor"))(0);
    const LV2_Feature* none = nullptr;
    handle_ = descriptor_->instantiate(descriptor_, 48000, "", &none);
    controls_ = {12.0F, 0.0F, oversampling, 0.0F, 0.0F};
    for (std::uint32_t i = 0; i < controls_.size(); ++i)
      descriptor_->connect_port(handle_, 2 + i, &controls_[i]);
  }
  ~BarePlugin() {
    descriptor_->cleanup(handle_);
    dlclose(library_);
  }
  void run(std::vector<float>& in, std::vector<float>& out) {
    for (std::size_t at = 0; at + kBlockFrames <= in.size(); at += kBlockFrames) {
      descriptor_->connect_port(handle_, 0, in.data() + at);
      descriptor_->connect_port(handle_, 1, out.data());
      descriptor_->run(handle_, kBlockFrames);
    }
  }

 private:
  void* library_ = nullptr;
  const LV2_Descriptor* descriptor_ = nullptr;
  LV2_Handle handle_ = nullptr;
  std::array<float, 5> controls_{};
};

void feed_through_tern(benchmark::State& state) {
  auto in = saw();
  std::vector<float> out(kBlockFrames);
  BarePlugin bare(static_cast<float>(state.range(0)));
  std::vector<std::unique_ptr<wavicon::Unit>> units;
  const std::string name =
      "lv2:" WAVICON_TERN_BUNDLE "?drive=12&oversampling=" + std::to_string(state.range(0));
  units.push_back(wavicon::open_unit(wavicon::parse_unit(name)));
  wavicon::Chain chain(std::move(units));
  chain.prepare(48000, 1, kBlockFrames);
  double hosted_s = 1e9, bare_s = 1e9;
  for (auto _ : state) {
    bare_s = std::min(bare_s, seconds_of([&] { bare.run(in, out); }));
    hosted_s = std::min(
        hosted_s, seconds_of([&] {
          std::size_t at = 0;
          chain.feed(
              [&](std::span<float> block) {
                std::copy_n(in.begin() + static_cast<std::ptrdiff_t>(at), block.size(), block.begin());
                at += block.size();
                return static_cast<std::int64_t>(block.size());
              },
              kFrames, [](std::span<const float> block) { benchmark::DoNotOptimize(block.data()); });
        }));
  }
  state.counters["ratio"] = hosted_s / bare_s;
}
BENCHMARK(feed_through_tern)->Arg(1)->Arg(4)->Unit(benchmark::kMillisecond)->Iterations(30);

}  // namespace

BENCHMARK_MAIN();
