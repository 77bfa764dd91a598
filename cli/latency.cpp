#include "wavicon/measure/latency.hpp"

#include <fmt/format.h>

#include <memory>

#include "capture.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

struct Latency {
  SheetOptions sheet;
  std::string stimulus;
  std::vector<double> reported;
  std::vector<double> block_frames;
};

// What is given once holds for all captures.
std::optional<double> reported_for(const Latency& command, std::size_t index) {
  if (command.reported.empty()) return std::nullopt;
  return command.reported.size() == 1 ? command.reported.front() : command.reported.at(index);
}

Sheet measure(const Latency& command, const std::string& path, std::size_t index) {
  FileSource a(command.sheet.captures.front()), b(path);
  auto stimulus = stimulus_of(command.stimulus, a.info());
  if (stimulus && !stimulus->marks()) stimulus.reset();
  LatencyOptions options{.reported_samples = reported_for(command, index)};
  if (!options.reported_samples && b.info().reported_samples)
    options.reported_samples = static_cast<double>(*b.info().reported_samples);
  if (command.sheet.channel) {
    require_channel(command.sheet, b.channel_count());
    options.b_channel = *command.sheet.channel - 1;
    if (options.b_channel < a.channel_count()) options.a_channel = options.b_channel;
  }
  Sheet sheet = latency_sheet(measure_latency(a, b, stimulus.get(), options), capture_info(a.info()),
                              capture_info(b.info()));
  if (!command.block_frames.empty())
    for (Reading& reading : sheet.readings)
      reading.conditions.emplace_back("block_frames", command.block_frames.at(index));
  return sheet;
}

int run(const Latency& command) {
  command.sheet.check();
  const std::size_t count = command.sheet.captures.size() - 1;
  if (command.reported.size() > 1 && command.reported.size() != count)
    throw Error(ErrorCode::bad_argument,
                fmt::format("--reported gives {} values for {} captures: one, or one for each",
                            command.reported.size(), count));
  if (!command.block_frames.empty() && command.block_frames.size() != count)
    throw Error(ErrorCode::bad_argument, fmt::format("--block-sizes gives {} values for {} captures",
                                                     command.block_frames.size(), count));
  std::size_t index = 0;
  auto sheets =
      measure_each(command.sheet, [&](const std::string& path) { return measure(command, path, index++); });
  const int status = deliver(command.sheet, sheets, [](const std::vector<Sheet>& all, bool svg) {
    return draw_latency(all.front(), {.format = svg ? PlotFormat::svg : PlotFormat::png});
  });
  if (count > 1 && !command.sheet.json) {
    std::vector<double> latencies;
    for (const Sheet& sheet : sheets)
      latencies.push_back(*find_reading(sheet, "latency_samples", std::nullopt)->value);
    say(command.sheet.quiet, "\n" + latency_verdict(latencies, command.block_frames));
  }
  return status;
}

}  // namespace

void add_latency(CLI::App& app, Action& action) {
  auto* command =
      app.add_subcommand("latency", "how late is it, and what is to be typed into the recording program?");
  auto latency = std::make_shared<Latency>();
  latency->sheet.against = true;
  latency->sheet.add_to(*command);
  command->add_option("--stimulus", latency->stimulus, "what A is, when it carries no recipe");
  command
      ->add_option("--reported", latency->reported,
                   "latency in samples that is reported: one for all, or one for each capture")
      ->delimiter(',');
  command
      ->add_option("--block-sizes", latency->block_frames, "at which the captures were taken, one for each")
      ->delimiter(',');
  command->callback([latency, &action] { action = [latency] { return run(*latency); }; });
}

}  // namespace wavicon::cli
