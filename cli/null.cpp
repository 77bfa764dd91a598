#include "wavicon/measure/null.hpp"

#include <fmt/format.h>

#include <memory>
#include <set>

#include "capture.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/filtered.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/audio/resampled.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/present/plot.hpp"

namespace wavicon::cli {
namespace {

constexpr std::int64_t kMostTaps = 1 << 20;

struct Null {
  SheetOptions sheet;
  NullOptions options;
  std::vector<std::string> as_is;
  std::vector<double> band_hz;
  bool resample = false;
  std::string residual_file;
  double residual_gain_db = 0;
  std::string aligned_file;
  std::string draw = "spectrum";
  std::string filter_file;
};

// Residual and aligned B on their way to files.
class Outputs {
 public:
  Outputs(const Null& command, double rate, int channels) : gain_(ratio_from_db(command.residual_gain_db)) {
    const AudioWriteOptions options{
        .sample_rate_hz = rate, .channel_count = channels, .format = SampleFormat::float32};
    if (!command.residual_file.empty())
      residual_ = std::make_unique<AudioWriter>(command.residual_file, options);
    if (!command.aligned_file.empty())
      aligned_ = std::make_unique<AudioWriter>(command.aligned_file, options);
    channels_ = static_cast<std::size_t>(channels);
  }
  [[nodiscard]] bool wanted() const { return residual_ || aligned_; }
  void take(std::int64_t first_frame, std::span<const double> residual, std::span<const double> aligned) {
    // Both begin where A begins.
    if (first_) {
      const std::vector<double> silence(static_cast<std::size_t>(first_frame) * channels_, 0.0);
      for (auto* writer : {residual_.get(), aligned_.get()})
        if (writer != nullptr) writer->write(std::span<const double>(silence));
      first_ = false;
    }
    write(residual_.get(), residual, gain_);
    write(aligned_.get(), aligned, 1);
  }
  void finish() {
    if (residual_) residual_->finish();
    if (aligned_) aligned_->finish();
  }

 private:
  void write(AudioWriter* writer, std::span<const double> planar, double gain) {
    if (writer == nullptr) return;
    const std::size_t frames = planar.size() / channels_;
    interleaved_.resize(planar.size());
    for (std::size_t c = 0; c < channels_; ++c)
      for (std::size_t n = 0; n < frames; ++n)
        interleaved_[n * channels_ + c] = gain * planar[c * frames + n];
    writer->write(std::span<const double>(interleaved_));
  }

  std::unique_ptr<AudioWriter> residual_, aligned_;
  std::vector<double> interleaved_;
  double gain_;
  std::size_t channels_ = 1;
  bool first_ = true;
};

NullOptions options_of(const Null& command) {
  NullOptions options = command.options;
  options.from_s = command.sheet.from_s;
  options.to_s = command.sheet.to_s;
  if (command.band_hz.size() == 2) {
    options.band_from_hz = command.band_hz[0];
    options.band_to_hz = command.band_hz[1];
  }
  static const std::vector<std::string> kWhat = {"delay", "drift", "gain", "polarity"};
  for (const std::string& what : command.as_is) {
    if (what == "delay" && !options.delay_samples)
      options.delay_samples = 0;
    else if (what == "drift" && !options.drift_ppm)
      options.drift_ppm = 0;
    else if (what == "gain" && !options.gain_db)
      options.gain_db = 0;
    else if (what == "polarity")
      options.polarity = 1;
    else
      throw Error(ErrorCode::bad_argument, fmt::format("--as-is '{}'{}", what, name_hint(what, kWhat)));
  }
  return options;
}

// A as it sounds through a filter that was written by 'wavicon response --filter'.
std::unique_ptr<FilteredSource> through_filter(const std::string& path, FileSource& a,
                                               std::vector<Finding>& findings) {
  const AudioFile file = read_audio_file(path);
  const Audio& audio = file.audio;
  if (audio.sample_rate_hz() != a.sample_rate_hz())
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("the filter {} is made for {:g} Hz and A has {:g} Hz: make it from captures at that rate",
                    path, audio.sample_rate_hz(), a.sample_rate_hz()));
  if (audio.frames() > kMostTaps)
    throw Error(ErrorCode::bad_argument, fmt::format("{} has {} frames: no filter of at most {} taps", path,
                                                     audio.frames(), kMostTaps));
  std::vector<std::vector<double>> filters;
  for (int c = 0; c < audio.channel_count(); ++c)
    filters.emplace_back(audio.channel(c).begin(), audio.channel(c).end());
  findings.push_back(
      {Severity::note,
       fmt::format(
           "A went through {} ({} taps) before it was compared; what lies deeper than 70 dB can be the "
           "filter's own error",
           path, audio.frames()),
       std::nullopt});
  return std::make_unique<FilteredSource>(a, filters);
}

Sheet measure(const Null& command, const std::string& path) {
  const std::string& reference = command.sheet.captures.front();
  FileSource a(reference), b(path);
  NullOptions options = options_of(command);
  options.format_a = a.info().format;
  options.format_b = b.info().format;
  std::unique_ptr<ResampledSource> faster;
  std::unique_ptr<FilteredSource> filtered;
  AudioSource *from = &a, *against = &b;
  std::vector<Finding> findings;
  if (!command.filter_file.empty()) {
    filtered = through_filter(command.filter_file, a, findings);
    from = filtered.get();
    options.format_a = SampleFormat::float64;
  }
  if (a.sample_rate_hz() != b.sample_rate_hz()) {
    if (!command.resample)
      throw Error(
          ErrorCode::bad_argument,
          fmt::format("{} has {:g} Hz and {} has {:g} Hz; --resample brings the lower one up to the higher",
                      reference, a.sample_rate_hz(), path, b.sample_rate_hz()));
    const double low = std::min(a.sample_rate_hz(), b.sample_rate_hz()),
                 high = std::max(a.sample_rate_hz(), b.sample_rate_hz());
    AudioSource*& slower = a.sample_rate_hz() < high ? from : against;
    faster = std::make_unique<ResampledSource>(*slower, high);
    slower = faster.get();
    if (!options.band_to_hz) options.band_to_hz = 0.45 * low;
    findings.push_back({Severity::note,
                        fmt::format("{} was resampled from {:g} to {:g} Hz; compared up to {:g} Hz only",
                                    slower == from ? "A" : "B", low, high, *options.band_to_hz),
                        std::nullopt});
  }
  Outputs outputs(command, from->sample_rate_hz(), std::max(a.channel_count(), b.channel_count()));
  Progress progress("comparing", command.sheet.quiet);
  const NullSink sink = [&](std::int64_t first, std::span<const double> residual,
                            std::span<const double> aligned) {
    progress(static_cast<double>(first) / static_cast<double>(from->frames()));
    outputs.take(first, residual, aligned);
  };
  Sheet sheet = null_sheet(measure_null(*from, *against, options, sink), capture_info(a.info()),
                           capture_info(b.info()));
  outputs.finish();
  sheet.findings.insert(sheet.findings.end(), findings.begin(), findings.end());
  require_channel(command.sheet, std::max(a.channel_count(), b.channel_count()));
  keep_channel(sheet, command.sheet.channel);
  return sheet;
}

std::string draw(const Null& command, const std::vector<Sheet>& sheets, bool svg) {
  const PlotOptions options{.format = svg ? PlotFormat::svg : PlotFormat::png};
  CurveStyle style{.names = {"residual", "programme"},
                   .title = "What is left, under what was compared",
                   .x_title = "frequency, Hz",
                   .y_title = "level in 1/12 octave, dBFS",
                   .log_frequency = true,
                   .shown_range = 200};
  if (command.draw == "time") {
    style.names = {"residual over time", "programme over time"};
    style.x_title = "time in A, s";
    style.y_title = "RMS, dBFS";
    style.log_frequency = false;
  } else if (command.draw == "response") {
    style.names = {"B over A"};
    style.title = "The filter that lies between A and B";
    style.y_title = "dB";
  } else if (command.draw == "depth") {
    style.names = {"depth per third octave"};
    style.title = "How deep it nulls";
    style.y_title = "residual over programme, dB";
  }
  if (sheets.size() > 1) style.names.resize(1);
  return draw_curves(sheets, style, options);
}

int run(const Null& command) {
  command.sheet.check();
  const std::vector<std::filesystem::path> inputs(command.sheet.captures.begin(),
                                                  command.sheet.captures.end());
  for (const std::string& file : {command.residual_file, command.aligned_file}) {
    if (file.empty()) continue;
    if (command.sheet.captures.size() > 2)
      throw Error(ErrorCode::bad_argument, "--residual and --aligned write what is left of one B");
    require_writable(file, inputs);
  }
  const auto sheets =
      measure_each(command.sheet, [&](const std::string& path) { return measure(command, path); });
  return deliver(command.sheet, sheets,
                 [&](const std::vector<Sheet>& all, bool svg) { return draw(command, all, svg); });
}

}  // namespace

void add_null(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand("null", "are two recordings the same, and if not, what is left?");
  auto null = std::make_shared<Null>();
  null->sheet.overlays = null->sheet.against = true;
  null->sheet.add_to(*command);
  command->add_option("--delay", null->options.delay_samples,
                      "of A's first sample in B, in samples (default: found)");
  command->add_option("--drift", null->options.drift_ppm,
                      "of B's clock against A's, in ppm (default: found)");
  command->add_option("--gain", null->options.gain_db, "of B over A, in dB (default: found)");
  command->add_option("--as-is", null->as_is, "delay, drift, gain, polarity: what is not to be matched")
      ->delimiter(',');
  command->add_option("--match-response", null->options.response_taps,
                      "also match the linear response, by a filter of so many taps (64 to 2048)");
  command->add_option("--filter", null->filter_file,
                      "a filter for A, as 'wavicon response --filter' writes it");
  command->add_option("--band", null->band_hz, "FROM TO in Hz, of depth and verdict (default: everything)")
      ->expected(2);
  command->add_flag("--resample", null->resample, "bring the file of the lower rate up to the other's");
  command->add_option("--residual", null->residual_file, "write what is left, on A's time, as 32-bit float");
  command->add_option("--residual-gain", null->residual_gain_db, "dB by which that file is raised")
      ->capture_default_str();
  command->add_option("--aligned", null->aligned_file,
                      "write B on A's time and at A's level, to listen to both in turn");
  command->add_option("--draw", null->draw, "what --plot draws: spectrum, time, depth, response")
      ->check(CLI::IsMember({"spectrum", "time", "depth", "response"}))
      ->capture_default_str();
  command->callback([null, &action] { action = [null] { return run(*null); }; });
}

}  // namespace wavicon::cli
