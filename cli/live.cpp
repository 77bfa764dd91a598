// SPDX-License-Identifier: MIT
#include "wavicon/path/live.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <csignal>
#include <memory>

#include "feed.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon::cli {
namespace {

LiveOptions options_of(const Feed& feed, const UnitSpec& spec) {
  LiveOptions options = live_options(spec);
  options.ceiling_dbfs = feed.ceiling_dbfs;
  if (feed.tail_s > 0) options.tail_s = feed.tail_s;
  return options;
}

// The parts that xruns spoiled.
std::string spoiled_parts(const LiveResult& result, const AudioFileInfo& in) {
  const auto stimulus = stimulus_inside(in);
  std::string names;
  if (!stimulus) return names;
  for (const PlacedPart& part : stimulus->parts())
    for (const std::int64_t at : result.xruns)
      if (at + result.block_frames >= part.first_frame &&
          at <= part.first_frame + part.frames + result.reported_samples + 8 * result.block_frames) {
        names += (names.empty() ? "" : ", ") + part.name;
        break;
      }
  return names;
}

void write_capture(const Feed& feed, const std::string& file, const AudioFileInfo& in,
                   const LiveResult& result) {
  const auto channels = static_cast<int>(result.recorded.size());
  const SampleFormat format = feed.format.format(SampleFormat::float32);
  const auto frames = static_cast<std::int64_t>(result.recorded.at(0).size());
  AudioWriteOptions writing{in.sample_rate_hz,           channels,         format,
                            feed.format.dithers(format), feed.format.seed, frames};
  writing.recipe = in.recipe;
  writing.reported_samples = result.reported_samples;
  AudioWriter writer(file, writing);
  write_planar(writer, result.recorded);
  writer.finish();
}

}  // namespace

int feed_live(const Feed& feed, const UnitSpec& spec) {
  AudioReader reader(feed.stimulus);
  const AudioFileInfo& in = reader.info();
  if (in.frames == 0)
    throw Error(ErrorCode::bad_input, feed.stimulus + ": there is no audio in it: 0 frames");
  require_writable(feed.capture, {feed.stimulus});
  LiveOptions options = options_of(feed, spec);
  LiveResult result;
  for (int round = 0;; ++round) {
    {
      Progress progress("play " + feed.stimulus, feed.quiet);
      options.progress = [&](double part) { progress(part); };
      result = play_and_record(read_planar(feed.stimulus), in.sample_rate_hz, options);
    }
    if (result.xruns.empty() || round >= feed.repeat) break;
    say(feed.quiet, fmt::format("{} xrun{}: repeating the take", result.xruns.size(),
                                result.xruns.size() == 1 ? "" : "s"));
  }
  if (!result.cut.empty()) {
    const std::filesystem::path capture = feed.capture;
    const std::string kept =
        (capture.parent_path() / (capture.stem().string() + "-cut" + capture.extension().string())).string();
    if (!result.recorded.empty() && !result.recorded[0].empty()) write_capture(feed, kept, in, result);
    throw Error(ErrorCode::unit_failed,
                fmt::format("{} after {:.2f} s of {:.2f} s; what was recorded is kept as {}", result.cut,
                            static_cast<double>(result.recorded.empty() ? 0 : result.recorded[0].size()) /
                                in.sample_rate_hz,
                            static_cast<double>(in.frames) / in.sample_rate_hz, kept));
  }
  write_capture(feed, feed.capture, in, result);
  say(feed.quiet,
      fmt::format(
          "{}: {} frames ({:g} s), {:g} Hz, {} channel{}, played to {}, recorded from {}", feed.capture,
          result.recorded[0].size(), static_cast<double>(result.recorded[0].size()) / in.sample_rate_hz,
          in.sample_rate_hz, result.recorded.size(), result.recorded.size() == 1 ? "" : "s",
          result.played_to.empty() ? "nothing" : result.played_to.front(), result.recorded_from.front()));
  say(feed.quiet, fmt::format("input before {}, while playing {}; blocks of {} frames, round trip reported "
                              "by the ports {} samples (latency --reported {})",
                              level_text(result.idle_peak, 1), level_text(result.peak, 1),
                              result.block_frames, result.reported_samples, result.reported_samples));
  if (result.peak == 0) warn(feed.quiet, "the input is silent: is the right port recorded, is the cable in?");
  if (result.peak >= 1) warn(feed.quiet, "the input clips: turn it down");
  if (!result.xruns.empty()) {
    const std::string parts = spoiled_parts(result, in);
    const std::string line =
        fmt::format("{} xrun{}, first at {:.3f} s", result.xruns.size(), result.xruns.size() == 1 ? "" : "s",
                    static_cast<double>(result.xruns.front()) / in.sample_rate_hz);
    if (!parts.empty())
      throw Error(ErrorCode::unit_failed,
                  fmt::format("{}: {} unfit in {} (feed again, or --repeat 3)", line, feed.capture, parts));
    warn(feed.quiet, line + ", outside of all parts");
  }
  return exit_status::measured;
}

namespace {

struct StandIn {
  std::string unit;
  std::string server;
  std::string name;
  int channels = 2;
  double seconds = 0;
  bool quiet = false;
};

std::sig_atomic_t volatile stop_asked = 0;

int serve(const StandIn& command) {
  const std::string spec_text = command.unit.rfind("sim:", 0) == 0 ? command.unit : "sim:" + command.unit;
  const UnitSpec spec = parse_unit(spec_text);
  const auto unit = open_unit(spec, own_units());
  for (const int signal : {SIGINT, SIGTERM}) std::signal(signal, [](int) { stop_asked = 1; });
  const auto begin = std::chrono::steady_clock::now();
  long reported = 0;
  for (const auto& [symbol, value] : spec.settings)
    if (symbol == "reports") reported = std::strtol(value.c_str(), nullptr, 10);
  serve_unit(
      *unit, command.name.empty() ? spec.name : command.name, command.server, command.channels, reported,
      [&](const std::string& line) {
        say(command.quiet, line);
        if (const int error = output_error(); error != 0)
          throw Error(ErrorCode::write_failed, "standard output cannot be written");
      },
      [&] {
        return stop_asked != 0 ||
               (command.seconds > 0 &&
                std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count() >
                    command.seconds);
      });
  return exit_status::measured;
}

}  // namespace

void add_stand_in(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand(
      "stand-in", "how do I rehearse without the interface? runs a simulated one on a JACK server");
  auto stand_in = std::make_shared<StandIn>();
  command
      ->add_option("NAME", stand_in->unit, "NAME?setting=value&…, for example heron?delay=261.4&noise=-108")
      ->required();
  command->add_option("--server", stand_in->server, "name of the server (default: the default one)");
  command->add_option("--name", stand_in->name, "of the client (default: the unit's)");
  command->add_option("--channels", stand_in->channels, "in and out")
      ->check(CLI::Range(1, 64))
      ->capture_default_str();
  command->add_option("--seconds", stand_in->seconds, "end after so long (default: at Ctrl-C)");
  command->add_flag("--quiet", stand_in->quiet, "print nothing but errors");
  command->callback([stand_in, &action] { action = [stand_in] { return serve(*stand_in); }; });
}

}  // namespace wavicon::cli
