#include "wavicon/measure/takes.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <memory>

#include "capture.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/present/plot.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon::cli {
namespace {

struct Takes {
  SheetOptions sheet;
  TakesOptions options;
  std::string match = "loudness";
  std::string folder;
};

// Several files one after the other, with enough silence between them to part them.
class InARow : public AudioSource {
 public:
  explicit InARow(const std::vector<std::string>& files) {
    for (const std::string& file : files) {
      sources_.push_back(std::make_unique<FileSource>(file));
      const FileSource &first = *sources_.front(), &last = *sources_.back();
      if (last.sample_rate_hz() != first.sample_rate_hz() || last.channel_count() != first.channel_count())
        throw Error(
            ErrorCode::bad_argument,
            fmt::format(
                "{}: {:g} Hz and {} channels, but {} has {:g} Hz and {}: takes are compared at one rate",
                file, last.sample_rate_hz(), last.channel_count(), files.front(), first.sample_rate_hz(),
                first.channel_count()));
      starts_.push_back(frames_);
      frames_ += last.frames();
    }
  }
  [[nodiscard]] double sample_rate_hz() const noexcept override { return sources_.front()->sample_rate_hz(); }
  [[nodiscard]] int channel_count() const noexcept override { return sources_.front()->channel_count(); }
  [[nodiscard]] std::int64_t frames() const noexcept override { return frames_; }
  [[nodiscard]] const AudioFileInfo& info() const { return sources_.front()->info(); }
  void read(std::int64_t first_frame, std::span<double> planar) override {
    const auto channels = static_cast<std::size_t>(channel_count());
    const auto length = static_cast<std::int64_t>(planar.size() / channels);
    std::fill(planar.begin(), planar.end(), 0.0);
    std::vector<double> piece;
    for (std::size_t i = 0; i < sources_.size(); ++i) {
      const std::int64_t from = std::max(first_frame, starts_[i]),
                         to = std::min(first_frame + length, starts_[i] + sources_[i]->frames());
      if (to <= from) continue;
      const auto count = static_cast<std::size_t>(to - from);
      piece.resize(count * channels);
      sources_[i]->read(from - starts_[i], piece);
      for (std::size_t c = 0; c < channels; ++c)
        std::copy_n(piece.begin() + static_cast<std::ptrdiff_t>(c * count), count,
                    planar.begin() + static_cast<std::ptrdiff_t>(c) * length + (from - first_frame));
    }
  }

 private:
  std::vector<std::unique_ptr<FileSource>> sources_;
  std::vector<std::int64_t> starts_;
  std::int64_t frames_ = 0;
};

void write_takes(const Takes& command, InARow& source, const TakesResult& result) {
  namespace fs = std::filesystem;
  fs::create_directories(command.folder);
  const double rate = source.sample_rate_hz();
  const auto channels = static_cast<std::size_t>(source.channel_count());
  for (std::size_t i = 0; i < result.takes.size(); ++i) {
    const RecordedTake& take = result.takes[i];
    AudioWriter writer(
        fs::path(command.folder) / fmt::format("take-{}.wav", i + 1),
        {.sample_rate_hz = rate, .channel_count = source.channel_count(), .format = SampleFormat::float32});
    const double gain = ratio_from_db(take.gain_db);
    std::vector<double> scratch(16384 * channels), interleaved;
    for_each_block(source, std::llround(take.start_s * rate), std::llround(take.end_s * rate), scratch,
                   [&](std::int64_t, std::span<const double> planar, std::int64_t count) {
                     const auto frames = static_cast<std::size_t>(count);
                     interleaved.resize(planar.size());
                     for (std::size_t c = 0; c < channels; ++c)
                       for (std::size_t n = 0; n < frames; ++n)
                         interleaved[n * channels + c] = gain * planar[c * frames + n];
                     writer.write(std::span<const double>(interleaved));
                   });
    writer.finish();
  }
}

// A row for each take.
std::string table_of(const Sheet& sheet) {
  std::string text;
  for (const Finding& finding : sheet.findings)
    text +=
        fmt::format("{}: {}{}\n", sheet.capture.file,
                    finding.severity == Severity::note ? "" : name_of(finding.severity) + ": ", finding.text);
  std::vector<std::vector<std::string>> rows = {
      {"  take", "start_s", "end_s", "rms_dbfs", "lufs", "gain_db", "gap_noise_dbfs", "matched"}};
  std::int64_t current = 0;
  for (const Reading& r : sheet.readings) {
    const ConditionValue* take = find_condition(r, "take");
    if (take == nullptr) continue;
    if (std::get<std::int64_t>(*take) != current) {
      current = std::get<std::int64_t>(*take);
      rows.push_back({fmt::format("  {}", current), "", "", "", "", "", "", ""});
    }
    static const std::vector<std::string> kColumns = {
        "", "start_s", "end_s", "rms_dbfs", "loudness_integrated_lufs", "gain_db", "gap_noise_dbfs"};
    const auto column = std::find(kColumns.begin(), kColumns.end(), r.name) - kColumns.begin();
    if (column >= static_cast<std::ptrdiff_t>(kColumns.size())) continue;
    auto& row = rows.back();
    row[static_cast<std::size_t>(column)] = r.unit == "s" ? fmt::format("{:.2f}", *r.value) : value_text(r);
    if (const ConditionValue* matched = find_condition(r, "matched_dbfs"))
      row[7] = fmt::format("{:.2f}", std::get<double>(*matched));
  }
  text += "\n" + aligned(rows, {false, true, true, true, true, true, true, true});
  return text;
}

int run(const Takes& command) {
  command.sheet.check();
  TakesOptions options = command.options;
  options.by_rms = command.match == "rms";
  InARow source(command.sheet.captures);
  CaptureInfo info = capture_info(source.info());
  info.frames = source.frames();
  TakesResult result;
  try {
    result = measure_takes(source, options);
  } catch (const Error& error) {
    throw Error(error.code(), fmt::format("{}: {}", command.sheet.captures.front(), error.what()));
  }
  const Sheet sheet = takes_sheet(result, info);
  if (!command.folder.empty()) write_takes(command, source, result);
  SheetOptions quiet = command.sheet;
  quiet.quiet = quiet.quiet || !quiet.json;
  const int status = deliver(quiet, {sheet}, [&](const std::vector<Sheet>& all, bool svg) {
    CurveStyle style{.title = "Takes at the loudness of the first",
                     .x_title = "frequency, Hz",
                     .y_title = "level in a third octave, dBFS",
                     .log_frequency = true,
                     .shown_range = 100};
    for (const Curve& curve : all.front().curves) style.names.push_back(curve.name);
    return draw_curves(all, style, {.format = svg ? PlotFormat::svg : PlotFormat::png});
  });
  if (!command.sheet.json && !command.sheet.quiet) std::fputs(table_of(sheet).c_str(), stdout);
  return status;
}

}  // namespace

void add_takes(CLI::App& app, Action& action) {
  auto* command = app.add_subcommand(
      "takes", "split a recording at its silences, match the takes in loudness, compare them");
  auto takes = std::make_shared<Takes>();
  takes->sheet.overlays = true;
  takes->sheet.add_to(*command);
  command->add_option("--threshold", takes->options.threshold_dbfs,
                      "level of 10 ms in dBFS under which it is a gap (default: found)");
  command->add_option("--gap", takes->options.least_gap_s,
                      "shortest silence in s that parts two takes (default: found)");
  command->add_option("--match", takes->match, "what is made equal: loudness or rms")
      ->check(CLI::IsMember({"loudness", "rms"}))
      ->capture_default_str();
  command->add_option("--write", takes->folder, "folder for the takes as files, matched, 32-bit float");
  command->callback([takes, &action] { action = [takes] { return run(*takes); }; });
}

}  // namespace wavicon::cli
