// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <memory>
#include <optional>

#include "feed.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/file/sheet_context.hpp"
#include "wavicon/path/chain.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon::cli {
namespace {

std::string latency_text(const Feed& feed, const FeedResult& result) {
  if (result.latency_frames == 0) return "the units report no latency";
  return fmt::format("{} frames of latency reported, {}", result.latency_frames,
                     feed.keep_latency ? "kept" : "taken off");
}

Chain open_chain(const Feed& feed, double sample_rate_hz, std::vector<std::filesystem::path>& binaries) {
  std::vector<std::unique_ptr<Unit>> units;
  UnitSearch search = own_units();
  search.sample_rate_hz = sample_rate_hz;
  search.isolate = !feed.in_process;
  search.patience_s = feed.patience_s;
  for (const std::string& unit : feed.units) {
    units.push_back(open_unit(parse_unit(unit), search));
    binaries.push_back(units.back()->info().binary);
  }
  return Chain(std::move(units));
}

void report(const Feed& feed, const AudioFileInfo& in, const FeedResult& result, int channels,
            SampleFormat format, const ClippedSamples& clipped) {
  say(feed.quiet, fmt::format("{}: {} frames ({:g} s), {:g} Hz, {} channel{}, {}", feed.capture,
                              result.frames, static_cast<double>(result.frames) / in.sample_rate_hz,
                              in.sample_rate_hz, channels, channels == 1 ? "" : "s", name_of(format)));
  say(feed.quiet, fmt::format("peak in {}, out {}; {}", level_text(result.peak_in),
                              level_text(result.peak_out), latency_text(feed, result)));
  if (channels < in.channel_count)
    warn(feed.quiet,
         fmt::format("{}: {} channels went in and {} came out: the last unit has {} output{}, so what "
                     "was different between the channels is lost",
                     feed.capture, in.channel_count, channels, channels, channels == 1 ? "" : "s"));
  if (result.run_s > result.audio_s)
    warn(feed.quiet,
         fmt::format("{}: the units took {:.2f} s for {:.2f} s of audio: in real time they do not "
                     "keep up on this machine",
                     feed.capture, result.run_s, result.audio_s));
  if (result.latency_changed)
    warn(feed.quiet, feed.capture +
                         ": a unit reported another latency at the end than at the start: the capture may be "
                         "shifted in the "
                         "middle");
  if (clipped.count > 0)
    warn(feed.quiet, fmt::format("{}: {} samples lie beyond full scale and were clipped by the capture's own "
                                 "format ({}), first at {:.6f} s; write "
                                 "32-bit float with --bits 32, or feed a lower level",
                                 feed.capture, clipped.count, name_of(format),
                                 static_cast<double>(clipped.first_frame) / in.sample_rate_hz));
}

}  // namespace

int feed_once(const Feed& feed) {
  for (const std::string& unit : feed.units)
    if (const UnitSpec spec = parse_unit(unit); spec.scheme == "jack") {
      if (feed.units.size() > 1)
        throw Error(ErrorCode::bad_argument,
                    "jack: cannot be in a chain: feed through the plugins first, then play what came out");
      return feed_live(feed, spec);
    }
  AudioReader reader(feed.stimulus);
  const AudioFileInfo in = reader.info();
  if (in.frames == 0)
    throw Error(ErrorCode::bad_input, feed.stimulus + ": there is no audio in it: 0 frames");
  require_writable(feed.capture, {feed.stimulus});
  if (!(feed.tail_s >= 0 && feed.tail_s <= 3600))
    throw Error(ErrorCode::bad_argument, "--tail is not within 0 to 3600 s");
  std::vector<std::filesystem::path> binaries;
  Chain chain = open_chain(feed, in.sample_rate_hz, binaries);
  const int channels = chain.prepare(in.sample_rate_hz, in.channel_count, feed.block_frames);
  for (const std::string& remark : chain.remarks()) warn(feed.quiet, remark);

  const std::string ending = std::filesystem::path(feed.capture).extension().string();
  const bool flac = ending == ".flac" || ending == ".FLAC";
  const SampleFormat format = feed.format.format(flac ? SampleFormat::pcm24 : SampleFormat::float32);
  const auto tail = std::llround(feed.tail_s * in.sample_rate_hz);
  AudioWriteOptions writing{chain.claimed_rate_hz(),     channels,         format,
                            feed.format.dithers(format), feed.format.seed, in.frames + tail};
  writing.recipe = in.recipe;  // the capture knows what was fed in, and through what
  writing.chain = in.chain;
  for (std::size_t i = 0; i < binaries.size(); ++i)
    writing.chain.push_back(unit_identity(feed.units[i], binaries[i]));
  auto progress = std::make_optional<Progress>("feed " + feed.stimulus, feed.quiet);
  AudioWriter writer(feed.capture, writing);
  const FeedResult result =
      chain.feed([&](std::span<float> block) { return reader.read(block); }, in.frames,
                 [&](std::span<const float> block) { writer.write(block); },
                 {feed.block_frames, feed.keep_latency, tail, [&](double part) { (*progress)(part); }});
  progress.reset();
  if (feed.keep_latency) writer.set_reported_samples(result.latency_frames);
  writer.finish();
  report(feed, in, result, channels, format, writer.clipped());
  return exit_status::measured;
}

void add_feed(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand(
      "feed", "what comes back? sends a stimulus through plugins, stand-ins or an interface");
  auto feed = std::make_shared<Feed>();
  command->add_option("STIMULUS", feed->stimulus, "audio file to send")->required();
  command
      ->add_option("--through", feed->units,
                   "SCHEME:NAME?setting=value&…; several in a row are a chain; setting=a,b,c makes a ladder")
      ->required()
      ->allow_extra_args(false);
  command
      ->add_option("-o,--output", feed->capture,
                   "capture to write: .wav, .aiff or .flac; those of a ladder are named after it")
      ->required();
  command
      ->add_option("--block", feed->blocks,
                   "frames per run of the units; several make a ladder (default: 512)")
      ->delimiter(',');
  command
      ->add_option("--rates", feed->rates_hz,
                   "make the stimulus anew at each of these rates: a ladder of them")
      ->delimiter(',');
  command
      ->add_option("--jobs", feed->jobs, "captures of a ladder at once (default: as many as there are cores)")
      ->check(CLI::PositiveNumber);
  command->add_flag("--keep-latency", feed->keep_latency,
                    "leave the latency that the units report in the capture");
  command->add_option("--tail", feed->tail_s,
                      "seconds of silence to feed after the stimulus, for what rings on");
  command->add_option("--patience", feed->patience_s, "seconds that a plugin may take without progress")
      ->check(CLI::PositiveNumber)
      ->capture_default_str();
  command
      ->add_option("--ceiling", feed->ceiling_dbfs,
                   "through jack: a stimulus with a higher peak, in dBFS, is not played")
      ->capture_default_str();
  command
      ->add_option("--repeat", feed->repeat,
                   "through jack: so many more rounds when the server loses the beat")
      ->check(CLI::Range(0, 100));
  command->add_flag("--in-process", feed->in_process,
                    "run plugins inside this program: what crashes there takes it along");
  feed->format.add_to(*command);
  command->add_flag("--quiet", feed->quiet, "print nothing but errors");
  command->callback([feed, &action] { action = [feed] { return run_feed(*feed); }; });
}

}  // namespace wavicon::cli
