#include <fmt/format.h>

#include <memory>
#include <vector>

#include "commands.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/stimulus/tone.hpp"

namespace wavicon::cli {
namespace {

constexpr std::int64_t kBlockFrames = 8192;

struct MakeTone {
  ToneStimulus tone;
  int channel_count = 1;
  double fade_s = 0;
  bool on_bin = false;
  std::int64_t on_bin_length = 0;
  FormatOptions format;
  std::string file;
  bool quiet = false;
};

// Moves the tone onto a bin and says to what.
void put_on_bin(MakeTone& make) {
  ToneStimulus& tone = make.tone;
  const auto length = make.on_bin_length > 0
                          ? make.on_bin_length
                          : power_of_two_within(std::llround(tone.seconds * tone.sample_rate_hz));
  if (length < 4 || power_of_two_within(length) != length)
    throw Error(ErrorCode::bad_argument,
                fmt::format("--on-bin {}: the analysis length has to be a power of two, 4 or more", length));
  const double hz = on_bin_frequency_hz(tone.frequency_hz, tone.sample_rate_hz, length);
  say(make.quiet,
      fmt::format("on bin: {:.10g} Hz moved to {:.12g} Hz, {:.0f} whole cycles in {} frames",
                  tone.frequency_hz, hz, hz * static_cast<double>(length) / tone.sample_rate_hz, length));
  tone.frequency_hz = hz;
}

void write_blocks(const MakeTone& make, AudioWriter& writer, std::int64_t frames) {
  Progress progress("make " + make.file, make.quiet);
  const auto channels = static_cast<std::size_t>(make.channel_count);
  std::vector<double> mono, block;
  for (std::int64_t start = 0; start < frames; start += kBlockFrames) {
    mono.resize(static_cast<std::size_t>(std::min(kBlockFrames, frames - start)));
    render(make.tone, start, mono);
    block.resize(mono.size() * channels);
    for (std::size_t n = 0; n < mono.size(); ++n)
      for (std::size_t c = 0; c < channels; ++c) block[n * channels + c] = mono[n];
    writer.write(block);
    progress(static_cast<double>(start) / static_cast<double>(frames));
  }
  writer.finish();
}

int run(MakeTone make) {
  if (make.fade_s > 0) make.tone.fade_in_s = make.tone.fade_out_s = make.fade_s;
  require_valid(make.tone);
  if (make.on_bin) put_on_bin(make);
  const SampleFormat format = make.format.format(SampleFormat::pcm24);
  if (make.tone.level_dbfs > 0 && is_integer(format))
    throw Error(ErrorCode::bad_argument, fmt::format("a level of {:+g} dBFS would clip in {} audio; make it "
                                                     "0 dBFS or lower, or write 32-bit float with --bits 32",
                                                     make.tone.level_dbfs, name_of(format)));
  const std::int64_t frames = frame_count(make.tone);
  const bool dither = make.format.dithers(format);
  AudioWriter writer(
      make.file, {make.tone.sample_rate_hz, make.channel_count, format, dither, make.format.seed, frames});
  write_blocks(make, writer, frames);
  say(make.quiet,
      fmt::format("{}: {:.10g} Hz at {:g} dBFS, {:g} s, {:g} Hz, {} channel{}, {}{}", make.file,
                  make.tone.frequency_hz, make.tone.level_dbfs,
                  static_cast<double>(frames) / make.tone.sample_rate_hz, make.tone.sample_rate_hz,
                  make.channel_count, make.channel_count == 1 ? "" : "s", name_of(format),
                  dither ? fmt::format(", TPDF dither (seed {})", make.format.seed) : ""));
  return exit_status::measured;
}

}  // namespace

void add_make(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand("make", "write a stimulus");
  command->require_subcommand(1);
  auto* tone = command->add_subcommand("tone", "a steady sine");
  auto make = std::make_shared<MakeTone>();
  tone->add_option("-o,--output", make->file, "file to write: .wav, .aiff or .flac")->required();
  tone->add_option("--frequency", make->tone.frequency_hz, "in Hz")->capture_default_str();
  tone->add_option("--level", make->tone.level_dbfs, "of the peak, in dBFS")->capture_default_str();
  tone->add_option("--phase", make->tone.phase_deg, "at the start, in degrees")->capture_default_str();
  tone->add_option("--seconds", make->tone.seconds, "length of the tone")->capture_default_str();
  tone->add_option("--rate", make->tone.sample_rate_hz, "sample rate in Hz, 8000 to 768000")
      ->capture_default_str();
  tone->add_option("--channels", make->channel_count, "all with the same signal")->capture_default_str();
  auto* fade =
      tone->add_option("--fade", make->fade_s, "fade in and out over so many seconds, within the length");
  tone->add_option("--fade-in", make->tone.fade_in_s, "fade in over so many seconds")->excludes(fade);
  tone->add_option("--fade-out", make->tone.fade_out_s, "fade out over so many seconds")->excludes(fade);
  tone->add_option("--silence-before", make->tone.silence_before_s, "in seconds");
  tone->add_option("--silence-after", make->tone.silence_after_s, "in seconds");
  auto* on_bin = tone->add_option("--on-bin", make->on_bin_length,
                                  "move to the nearest frequency with whole cycles in LENGTH frames (a power "
                                  "of two; without LENGTH the largest "
                                  "that fits)");
  on_bin->expected(0, 1)->type_name("[LENGTH]");
  make->format.add_to(*tone);
  tone->add_flag("--quiet", make->quiet, "print nothing but errors");
  tone->callback([make, on_bin, &action] {
    make->on_bin = on_bin->count() > 0;
    action = [make] { return run(*make); };
  });
}

}  // namespace wavicon::cli
