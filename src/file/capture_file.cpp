// SPDX-License-Identifier: MIT
#include "wavicon/file/capture_file.hpp"

#include <fmt/format.h>

#include <fstream>
#include <utility>
#include <vector>

#include "chunks.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/limits.hpp"

namespace wavicon {
namespace {

namespace fs = std::filesystem;

// Whether a file begins as an audio file does.
bool is_audio_file(const fs::path& path) {
  std::ifstream stream(path, std::ios::binary);
  char head[4] = {};
  stream.read(head, sizeof head);
  const std::string start(head, static_cast<std::size_t>(stream.gcount()));
  return start == "RIFF" || start == "RF64" || start == "FORM" || start == "fLaC";
}

class FileSink : public AudioSink {
 public:
  FileSink(const fs::path& path, const SinkShape& shape)
      : writer_(path, {.sample_rate_hz = shape.sample_rate_hz,
                       .channel_count = shape.channel_count,
                       .format = SampleFormat::float32,
                       .description = shape.description}),
        channels_(static_cast<std::size_t>(shape.channel_count)) {}

  void write(std::span<const double> planar) override {
    const std::size_t frames = planar.size() / channels_;
    interleaved_.resize(planar.size());
    for (std::size_t c = 0; c < channels_; ++c)
      for (std::size_t n = 0; n < frames; ++n) interleaved_[n * channels_ + c] = planar[c * frames + n];
    writer_.write(std::span<const double>(interleaved_));
  }
  void finish() override { writer_.finish(); }

 private:
  AudioWriter writer_;
  std::size_t channels_;
  std::vector<double> interleaved_;
};

}  // namespace

CaptureInfo capture_info(const AudioFileInfo& info) {
  return {.file = info.path.string(),
          .format = info.encoding.empty() ? name_of(info.format) : info.encoding,
          .sample_rate_hz = info.sample_rate_hz,
          .channels = info.channel_count,
          .frames = info.frames,
          .cut_off = info.cut_off,
          .broken_chunk = info.broken_chunk,
          .reported_samples = info.reported_samples,
          .recipe = info.recipe,
          .chain = info.chain};
}

Recipe read_recipe(const fs::path& path, const PartRule& rule) {
  std::error_code ignored;
  if (fs::is_regular_file(path, ignored) && is_audio_file(path)) {
    const AudioReader reader(path);
    if (reader.info().recipe.empty())
      throw Error(
          ErrorCode::bad_input,
          path.string() + ": carries no recipe; a stimulus is a file made by 'wavicon make', or a recipe");
    return parse_recipe(reader.info().recipe, path.string() + " (the recipe inside)", rule);
  }
  std::ifstream stream(path, std::ios::binary);
  if (!stream || fs::is_directory(path, ignored))
    throw Error(ErrorCode::bad_input, path.string() + ": there is no such recipe, or it cannot be read");
  // One byte more than is allowed: the reader of recipes says so.
  std::string text(kLongestRecipeBytes + 1, '\0');
  stream.read(text.data(), static_cast<std::streamsize>(text.size()));
  text.resize(static_cast<std::size_t>(stream.gcount()));
  return parse_recipe(text, path.string(), rule);
}

std::shared_ptr<Stimulus> stimulus_inside(const AudioFileInfo& info) {
  if (info.recipe.empty()) return nullptr;
  return std::make_shared<Stimulus>(parse_recipe(info.recipe, info.path.string() + " (the recipe inside)"));
}

JudgedCapture judge_file(const fs::path& path, const GatePolicy& policy, std::shared_ptr<Stimulus> stimulus,
                         ReadWatch watch) {
  auto source = std::make_shared<FileSource>(path, CutOff::accepted, std::move(watch));
  const AudioFileInfo& info = source->info();
  CaptureInfo capture = capture_info(info);
  if (!stimulus)
    stimulus = stimulus_inside(info);
  else if (capture.recipe.empty())
    capture.recipe = recipe_text(stimulus->recipe());
  return judge(source, capture, info.format, {std::move(stimulus), std::nullopt}, policy);
}

std::unique_ptr<AudioSink> file_sink(const fs::path& path, const SinkShape& shape) {
  return std::make_unique<FileSink>(path, shape);
}

}  // namespace wavicon
