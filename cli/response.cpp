#include "wavicon/measure/response.hpp"

#include <fmt/format.h>

#include <memory>

#include "capture.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/intake/locate.hpp"
#include "wavicon/intake/recognise.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

struct Response {
  SheetOptions sheet;
  ResponseOptions options;
  std::string stimulus;
  std::string part;
  std::vector<double> band_hz;
  std::string draw = "magnitude";
  bool difference = false;
  std::string filter_file;
};

// The part of the stimulus to use: the one of that name, else a sweep, else noise, else the whole.
const PlacedPart* part_of(const Stimulus& stimulus, const std::string& name) {
  std::vector<std::string> names;
  for (const char* kind : {"sweep", "noise", "programme", "multitone"})
    for (const PlacedPart& part : stimulus.parts()) {
      if (part.kind != kind) continue;
      if (name.empty() || part.name == name) return &part;
      names.push_back(part.name);
    }
  if (!name.empty())
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("the stimulus has no part '{}' to read a response from{}", name, name_hint(name, names)));
  return nullptr;
}

// Where part and B lie, by the marks in both.
void aim(const Response& command, AudioSource& a, AudioSource& b, const Stimulus& stimulus,
         ResponseOptions& options) {
  const auto in_a = locate(a, stimulus), in_b = locate(b, stimulus);
  const PlacedPart* part = part_of(stimulus, command.part);
  if (in_a.empty() || in_b.empty() || part == nullptr) return;
  const auto index = static_cast<std::size_t>(part - stimulus.parts().data());
  options = response_options(stimulus, index, in_a.front(), in_b.front(), a.sample_rate_hz(), options);
}

Sheet measure(const Response& command, const std::string& path, std::vector<ResponseResult>& results,
              ResponseCache& cache) {
  FileSource a(command.sheet.captures.front()), b(path);
  ResponseOptions options = command.options;
  options.cache = &cache;
  if (command.band_hz.size() == 2) {
    options.band_from_hz = command.band_hz[0];
    options.band_to_hz = command.band_hz[1];
  }
  const auto stimulus = stimulus_of(command.stimulus, a.info());
  if (command.sheet.from_s != 0 || command.sheet.to_s) {
    options.from_s = command.sheet.from_s;
    options.to_s = command.sheet.to_s;
  } else if (stimulus && stimulus->marks()) {
    aim(command, a, b, *stimulus, options);
  }
  if (!options.alignment && !command.sheet.to_s && command.sheet.from_s == 0 &&
      a.frames() < 120 * static_cast<std::int64_t>(a.sample_rate_hz()))
    if (const auto sweep = recognise_sweep(a)) {
      options.sweep = true;
      options.sweep_from_hz = sweep->sweep.from_hz;
      options.sweep_to_hz = sweep->sweep.to_hz;
      options.from_s = static_cast<double>(sweep->first_frame) / a.sample_rate_hz();
      options.to_s = options.from_s + sweep->sweep.seconds;
    }
  results.push_back(measure_response(a, b, options));
  Sheet sheet = response_sheet(results.back(), capture_info(a.info()), capture_info(b.info()));
  require_channel(command.sheet, b.channel_count());
  keep_channel(sheet, command.sheet.channel);
  return sheet;
}

std::string draw(const Response& command, const std::vector<Sheet>& sheets, bool svg) {
  CurveStyle style{.names = {"magnitude"},
                   .title = "Response: B over A",
                   .x_title = "frequency, Hz",
                   .y_title = "dB",
                   .log_frequency = true,
                   .shown_range = 80};
  if (command.draw == "phase")
    style = {.names = {"phase"},
             .title = "Phase of B against A, the common delay taken off",
             .x_title = "frequency, Hz",
             .y_title = "degrees",
             .log_frequency = true,
             .half_turn = 180};
  if (command.draw == "group-delay")
    style = {.names = {"group delay"},
             .title = "Group delay beside the common delay",
             .x_title = "frequency, Hz",
             .y_title = "ms",
             .log_frequency = true,
             .shown_range = 1000};
  if (command.draw == "impulse")
    style = {.names = {"impulse response"},
             .title = "Response over time",
             .x_title = "time after the common delay, ms",
             .y_title = "full scale = 1",
             .shown_range = 100};
  if (command.draw == "difference")
    style = {.names = {"difference"},
             .title = fmt::format("Curve that would bring {} to each",
                                  std::filesystem::path(sheets.front().capture.file).filename().string()),
             .x_title = "frequency, Hz",
             .y_title = "dB",
             .log_frequency = true,
             .shown_range = 80};
  if (command.draw == "coherence")
    style = {.names = {"coherence"},
             .title = "Coherence",
             .x_title = "frequency, Hz",
             .y_title = "0 to 1",
             .log_frequency = true};
  return draw_curves(sheets, style, {.format = svg ? PlotFormat::svg : PlotFormat::png});
}

void write_filter(const Response& command, const std::vector<ResponseResult>& results, Sheet& sheet) {
  const auto filters = matching_filters(results[0], results[1]);
  const double rate = results[0].sample_rate_hz;
  Audio audio(rate, static_cast<int>(filters.size()), static_cast<std::int64_t>(filters[0].size()));
  for (std::size_t c = 0; c < filters.size(); ++c)
    std::copy(filters[c].begin(), filters[c].end(), audio.channel(static_cast<int>(c)).begin());
  write_audio_file(command.filter_file, audio,
                   {.sample_rate_hz = rate,
                    .channel_count = audio.channel_count(),
                    .format = SampleFormat::float32,
                    .description = "filter, middle tap at the middle frame"});
  sheet.findings.push_back(
      {Severity::note,
       fmt::format("{}: the filter of {} taps that brings {} here; 'wavicon null --filter' "
                   "takes it",
                   command.filter_file, filters[0].size(), command.sheet.captures[1]),
       std::nullopt});
}

int run(const Response& asked) {
  Response command = asked;
  command.difference |= command.draw == "difference";
  command.sheet.check();
  if (command.difference && command.sheet.captures.size() < 3)
    throw Error(ErrorCode::bad_argument, "a difference takes two captures: response A B1 B2 --difference");
  if (!command.filter_file.empty()) {
    if (command.sheet.captures.size() != 3)
      throw Error(ErrorCode::bad_argument,
                  "a filter leads from one capture to another: response A B1 B2 --filter FILE");
    require_writable(command.filter_file, {command.sheet.captures.begin(), command.sheet.captures.end()});
  }
  std::vector<ResponseResult> results;
  ResponseCache cache;
  auto sheets = measure_each(command.sheet,
                             [&](const std::string& path) { return measure(command, path, results, cache); });
  for (std::size_t i = 1; i < sheets.size(); ++i) {
    if (command.difference) add_difference(sheets[0], sheets[i]);
    add_crossover(results[i - 1], results[i], sheets[i - 1], sheets[i]);
  }
  if (!command.filter_file.empty()) write_filter(command, results, sheets.back());
  return deliver(command.sheet, sheets,
                 [&](const std::vector<Sheet>& all, bool svg) { return draw(command, all, svg); });
}

}  // namespace

void add_response(CLI::App& app, Action& action) {
  auto* command =
      app.add_subcommand("response", "what curve is it? output over input, from a sweep, noise or programme");
  auto response = std::make_shared<Response>();
  response->sheet.overlays = response->sheet.against = true;
  response->sheet.add_to(*command);
  command->add_option("--stimulus", response->stimulus, "what A is, when it carries no recipe");
  command->add_option("--part", response->part,
                      "part of the stimulus to use (default: the first sweep, else the first noise)");
  command->add_option("--smoothing", response->options.smoothing,
                      "N for 1/N octave, 1 to 48 (default: none)");
  command->add_option("--at", response->options.reference_hz, "frequency of gain_db, in Hz")
      ->capture_default_str();
  command->add_option("--band", response->band_hz, "FROM TO in Hz, of the ripple (default: 100 10000)")
      ->expected(2);
  command
      ->add_option("--draw", response->draw,
                   "what --plot draws: magnitude, phase, group-delay, impulse, coherence, difference")
      ->check(CLI::IsMember({"magnitude", "phase", "group-delay", "impulse", "coherence", "difference"}))
      ->capture_default_str();
  command->add_flag("--difference", response->difference,
                    "also the curve that would bring the first capture to each of the others");
  command->add_option("--filter", response->filter_file,
                      "write the filter that brings the first capture to the second, for null --filter");
  command->callback([response, &action] { action = [response] { return run(*response); }; });
}

}  // namespace wavicon::cli
