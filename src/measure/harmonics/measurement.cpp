// SPDX-License-Identifier: MIT
#include "wavicon/measure/measurement.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>
#include <utility>

#include "measure/common/by_setting.hpp"
#include "measure/common/option_fields.hpp"
#include "measure/common/words.hpp"
#include "measure/harmonics/harmonics_of.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/measure/aliasing/aliasing.hpp"
#include "wavicon/measure/harmonics/change.hpp"
#include "wavicon/measure/harmonics/ladder.hpp"
#include "wavicon/measure/harmonics/sweep.hpp"

namespace wavicon {
namespace {

using namespace measure_detail;

constexpr double kLongestS = 60;  // of a capture without a known part: nobody needs more
constexpr double kSettleS = 0.1;  // left out at the start of a group of tones, for what rings or breathes
constexpr double kMostSettled = 0.25;  // of the part
constexpr int kMostSweepOrder = 10;    // of orders that are shown over frequency

// A plain tone before all others, a sweep last.
int harmonics_rank(const PartKind& kind) {
  if (std::holds_alternative<Tone>(kind)) return 1;
  if (std::holds_alternative<Staircase>(kind) || std::holds_alternative<TwoTone>(kind) ||
      std::holds_alternative<Multitone>(kind))
    return 2;
  return std::holds_alternative<Sweep>(kind) ? 3 : -1;
}

// Where the loudest minute of a long source begins, in seconds; memory would grow with its length.
double loudest_minute_s(AudioSource& source) {
  const double rate = source.sample_rate_hz();
  const auto second = static_cast<std::int64_t>(rate);
  std::vector<double> scratch(static_cast<std::size_t>(second * source.channel_count())), energy;
  for_each_block(source, 0, source.frames() / second * second, scratch,
                 [&](std::int64_t, std::span<const double> planar, std::int64_t) {
                   energy.push_back(std::inner_product(planar.begin(), planar.end(), planar.begin(), 0.0));
                 });
  const auto minute = static_cast<std::size_t>(kLongestS);
  double sum = std::accumulate(energy.begin(), energy.begin() + static_cast<std::ptrdiff_t>(minute), 0.0),
         best = sum;
  std::size_t at = 0;
  for (std::size_t i = minute; i < energy.size(); ++i) {
    sum += energy[i] - energy[i - minute];
    if (sum > best * (1 + 1e-9)) {
      best = sum;
      at = i + 1 - minute;
    }
  }
  return static_cast<double>(at);
}

// The tones of a part that is a pair of tones or a multitone, as they were played.
struct PlayedTones {
  std::vector<double> tones_hz;
  std::vector<double> levels_dbfs;
  double fade_in_s = 0;
  double fade_out_s = 0;
};

PlayedTones played_tones(const PartKind& kind) {
  if (const auto* two = std::get_if<TwoTone>(&kind)) {
    const TwoTone pair = resolved(*two);
    const double upper = ratio_from_db(pair.level_dbfs) / (1 + pair.ratio);
    return {{pair.lower_hz, pair.upper_hz},
            {db_from_ratio(upper * pair.ratio), db_from_ratio(upper)},
            pair.fade_in_s,
            pair.fade_out_s};
  }
  const auto& group = std::get<Multitone>(kind);
  auto oscillators = group.oscillators;
  std::sort(oscillators.begin(), oscillators.end(),
            [](const auto& a, const auto& b) { return a.frequency_hz < b.frequency_hz; });
  PlayedTones result{{}, {}, group.fade_in_s, group.fade_out_s};
  for (const Oscillator& o : oscillators) {
    if (o.to_hz || o.to_dbfs || o.delay_s > 0)
      throw Error(
          ErrorCode::bad_argument,
          "this multitone changes while it plays; only steady tones are measured: look at it with 'wavicon "
          "spectrogram'");
    result.tones_hz.push_back(o.frequency_hz);
    result.levels_dbfs.push_back(o.level_dbfs);
  }
  return result;
}

// A stretch of a capture, or one channel of it.
struct Piece {
  Audio audio;
  double starts_s;
};
Piece piece_of(const JudgedCapture& capture, std::optional<int> channel, std::int64_t first,
               std::int64_t frames) {
  const double starts_s = static_cast<double>(first) / capture.sample_rate_hz();
  Audio all = read_stretch(capture.source(), first, frames);
  if (!channel) return {std::move(all), starts_s};
  Audio one(all.sample_rate_hz(), 1, all.frames());
  const auto from = std::as_const(all).channel(*channel);
  std::copy(from.begin(), from.end(), one.channel(0).begin());
  return {std::move(one), starts_s};
}

// What was read of the one channel that was asked for is that channel's.
void renumber(Sheet& sheet, std::optional<int> channel) {
  if (!channel) return;
  for (Reading& r : sheet.readings) r.channel = channel;
  for (Curve& c : sheet.curves) c.channel = channel;
  for (Finding& f : sheet.findings) f.channel = channel;
}

class Harmonics : public Measurement {
 public:
  std::vector<OptionField> fields() override {
    return {{.key = "tone_hz",
             .target = &options_.tone_hz,
             .unit = "Hz",
             .sentence = "fundamental in Hz, found within 3 % (default: the strongest tone)"},
            {.key = "orders",
             .target = &options_.highest_order,
             .sentence = "highest order that is read and counted in THD"},
            band_field(band_hz_, "FROM TO in Hz, for THD+N, SINAD and noise (default: 20 20000)")};
  }

  std::vector<Sheet> measure(const MeasureRequest& request, const JudgedCapture& capture,
                             std::size_t index) override {
    if (index == 0) ladders_.clear();
    const auto reference = request.inputs.find("reference");
    const bool each_step = reference == request.inputs.end();
    auto sheets = of_capture(request, capture, each_step);
    if (reference != request.inputs.end()) {
      if (!before_) before_ = of_capture(request, reference->second, false).front();
      for (Sheet& sheet : sheets) add_harmonics_change(sheet, *before_);
    }
    return sheets;
  }

  // How the orders grow in each capture, and over the setting that tells the captures apart.
  void conclude(const MeasureRequest&, std::vector<Sheet>& sheets) override {
    std::size_t steps = 0;
    for (const CaptureLadder& ladder : ladders_) steps += ladder.steps.size();
    if (ladders_.empty() || steps != sheets.size()) {
      ladders_.clear();
      return;
    }
    std::vector<std::string> files;
    for (const CaptureLadder& ladder : ladders_) files.push_back(ladder.capture.file);
    if (const std::vector<double> values = setting_values(files); !values.empty()) {
      for (std::size_t i = 0; i < values.size(); ++i) ladders_[i].setting = values[i];
      sheets.push_back(harmonics_over_setting(ladders_, setting_word(files)));
    }
    for (const CaptureLadder& ladder : ladders_)
      sheets.push_back(harmonics_ladder(ladder.steps, ladder.capture));
  }

  // Captures at several values of a setting in the order of it.
  std::vector<std::size_t> order(const std::vector<std::string>& files) const override {
    return order_by_setting(files);
  }

  std::optional<RowLayout> rows(const std::vector<Sheet>& sheets) const override {
    const auto is_product = [](const Reading& r) { return r.name == "product_dbc"; };
    if (sheets.size() == 1 && std::any_of(sheets[0].readings.begin(), sheets[0].readings.end(), is_product))
      return RowLayout{.heading = "order",
                       .rows_by = "order",
                       .columns = {"product_dbc"},
                       .row_words = "product",
                       .column_condition = "at_hz"};
    if (ladders_.empty()) return std::nullopt;
    RowLayout layout{.heading = "step",
                     .columns = {"fundamental_dbfs", "thd_db", "thd_n_db", "h2_dbc", "h3_dbc", "h4_dbc",
                                 "h5_dbc", "h6_dbc", "h7_dbc"}};
    std::vector<std::string> files;
    for (const CaptureLadder& ladder : ladders_) files.push_back(ladder.capture.file);
    const std::vector<std::string> labels = setting_labels(files);
    layout.rest_in_words = ladders_.size() > 1;
    const bool one_tone = all_alike([](const LadderStep&step) { return step.frequency_hz; }),
               one_level = all_alike([](const LadderStep&step) { return step.level_dbfs; });
    for (std::size_t i = 0; i < ladders_.size(); ++i)
      for (const LadderStep& step : ladders_[i].steps) {
        std::string name = ladders_.size() > 1 ? labels[i] : "";
        if (!one_tone || one_level)
          name += fmt::format("{}{:g} Hz", name.empty() ? "" : ", ", step.frequency_hz);
        if (!one_level) name += fmt::format("{}{:g} dBFS", name.empty() ? "" : ", ", step.level_dbfs);
        layout.names.push_back(std::move(name));
      }
    lay_out_as_matrix(layout, labels, one_tone, one_level);
    return layout;
  }

  Picture picture(const std::vector<Sheet>& sheets, const std::string& word) const override {
    if (word == "period") return {.kind = PictureKind::period};
    if (ladders_.size() > 1) return picture_of_several(sheets);
    if (!sheets.empty() && sheets.back().measurement == "harmonics ladder") {
      Picture ladder{.style = {.title = "Harmonics over the level of the stimulus",
                               .x_title = "level of the stimulus, dBFS",
                               .y_title = "relative to the fundamental, dBc",
                               .shown_range = 160}};
      for (const Curve& curve : sheets.back().curves) {
        ladder.style.names.push_back(curve.name);
        // Several tones have a panel each.
        const std::size_t at = curve.name.find(" at ");
        if (at == std::string::npos) continue;
        const std::string tone = curve.name.substr(at);
        auto& panels = ladder.style.panels;
        if (std::find(panels.begin(), panels.end(), tone) == panels.end()) panels.push_back(tone);
      }
      if (!sheets.back().findings.empty()) ladder.answer = sheets.back().findings.front().text;
      return ladder;
    }
    const auto over_frequency = [](const Sheet& sheet) {
      return std::any_of(sheet.curves.begin(), sheet.curves.end(),
                         [](const Curve& c) { return c.name == "THD" && c.x_unit == "Hz"; });
    };
    if (std::any_of(sheets.begin(), sheets.end(), over_frequency)) return picture_over_frequency(sheets);
    const bool tones = std::all_of(sheets.begin(), sheets.end(),
                                   [](const Sheet& s) { return s.measurement == "harmonics"; });
    if (tones)
      return {.kind = sheets.size() == 1 ? PictureKind::harmonic_lines : PictureKind::harmonic_orders};
    return {
        .style = {.names = {"spectrum"},
                  .title = one_or_several(sheets, "Spectrum of the tones and of what they make of each other",
                                          "Spectra side by side"),
                  .x_title = "frequency, Hz",
                  .y_title = "level of a sine, dBFS",
                  .log_frequency = true,
                  .shown_range = 180}};
  }

 private:
  // Tones over levels, or captures over levels or tones, are matrices of THD and the first orders.
  void lay_out_as_matrix(RowLayout& layout, const std::vector<std::string>& labels, bool one_tone,
                         bool one_level) const {
    constexpr std::size_t kMostColumns = 9;
    const bool several = ladders_.size() > 1;
    if (several ? one_tone == one_level : one_tone || one_level) return;
    if (ladders_.front().capture.channels > 1) return;
    PairGrid grid;
    const auto place_of = [](std::vector<std::string>& names, const std::string& name) {
      const auto found = std::find(names.begin(), names.end(), name);
      if (found != names.end()) return static_cast<std::size_t>(found - names.begin());
      names.push_back(name);
      return names.size() - 1;
    };
    for (std::size_t i = 0; i < ladders_.size(); ++i)
      for (const LadderStep& step : ladders_[i].steps) {
        const std::string level = fmt::format("{:g} dBFS", step.level_dbfs),
                          tone = hz_text(step.frequency_hz, 5);
        const std::size_t row = place_of(grid.rows, several ? labels[i] : tone),
                          column = place_of(grid.columns, several && one_level ? tone : level);
        grid.places.emplace_back(row, column);
      }
    if (grid.columns.size() > kMostColumns) return;
    layout.grid = std::move(grid);
    layout.matrices = {"thd_db", "h2_dbc", "h3_dbc"};
  }
  // Of all steps of all captures.
  template <typename Value>
  [[nodiscard]] bool all_alike(Value value) const {
    for (const CaptureLadder& ladder : ladders_)
      for (const LadderStep& step : ladder.steps)
        if (value(step) != value(ladders_.front().steps.front())) return false;
    return true;
  }
  // THD over the setting, a line for each level; where no setting tells them apart, over the level.
  static Picture picture_of_several(const std::vector<Sheet>& sheets) {
    Picture picture{.style = {.title = "THD over the level of the stimulus",
                              .x_title = "level of the stimulus, dBFS",
                              .y_title = "THD, dB",
                              .shown_range = 160}};
    std::vector<std::string> files;
    for (const Sheet& sheet : sheets)
      if (sheet.measurement == "harmonics ladder" && !sheet.capture.file.empty())
        files.push_back(sheet.capture.file);
    const bool over_setting = std::any_of(sheets.begin(), sheets.end(),
                                          [](const Sheet& sheet) { return sheet.capture.file.empty(); });
    if (over_setting) {
      picture.style.title = "THD over " + setting_word(files) + ", a line for each level";
      picture.style.x_title = setting_word(files);
    }
    auto& names = picture.style.names;
    for (const Sheet& sheet : sheets)
      for (const Curve& curve : sheet.curves)
        if (sheet.measurement == "harmonics ladder" && curve.name.rfind("THD", 0) == 0 &&
            sheet.capture.file.empty() == over_setting &&
            std::find(names.begin(), names.end(), curve.name) == names.end())
          names.push_back(curve.name);
    return picture;
  }

  static Picture picture_over_frequency(const std::vector<Sheet>& sheets) {
    Picture picture{.style = {.names = {"THD"},
                              .title = one_or_several(sheets, "Harmonics over the frequency of the sweep",
                                                      "THD over the frequency of the sweep"),
                              .x_title = "frequency of the sweep, Hz",
                              .y_title = "relative to the fundamental, dBc",
                              .log_frequency = true,
                              .shown_range = 140}};
    if (sheets.size() == 1)
      for (int k = 2; k <= 7; ++k) picture.style.names.push_back(fmt::format("H{}", k));
    return picture;
  }

  [[nodiscard]] HarmonicsOptions options_for(const MeasureRequest& request) const {
    HarmonicsOptions options = options_;
    options.rms_reference = request.rms_reference;
    take_band(band_hz_, options.band_from_hz, options.band_to_hz);
    return options;
  }

  std::vector<Sheet> of_capture(const MeasureRequest& request, const JudgedCapture& capture, bool each_step) {
    const bool whole = !request.selection.in_seconds();
    std::optional<std::size_t> part;
    if (capture.played()) part = choose_part(capture.stimulus(), request.selection.part, harmonics_rank);
    if (!part) return {of_tone(request, capture, part)};
    const PartKind& kind = capture.stimulus().recipe().parts[*part].kind;
    if (std::holds_alternative<Sweep>(kind) && whole) return {of_sweep(capture, *part)};
    if (std::holds_alternative<TwoTone>(kind) || std::holds_alternative<Multitone>(kind))
      return {of_tones(request, capture, *part)};
    if (std::holds_alternative<Staircase>(kind) && each_step && whole)
      return of_staircase(request, capture, *part);
    return {of_tone(request, capture, part)};
  }

  // Orders of a sweep over its frequency: everything up to order 40 is followed, so that what folds is not
  // taken for them.
  [[nodiscard]] Sheet of_sweep(const JudgedCapture& capture, std::size_t part) const {
    Sheet sheet = harmonics_over_frequency(measure_aliasing(capture, part),
                                           std::min(kMostSweepOrder, options_.highest_order), capture.info());
    add_part(sheet, capture.stimulus().parts()[part].name);
    return sheet;
  }

  [[nodiscard]] Sheet of_tones(const MeasureRequest& request, const JudgedCapture& capture,
                               std::size_t part) const {
    const PlayedTones tones = played_tones(capture.stimulus().recipe().parts[part].kind);
    const HarmonicsOptions common = options_for(request);
    ToneGroupOptions options{.tones_hz = tones.tones_hz,
                             .played_dbfs = tones.levels_dbfs,
                             .band_from_hz = common.band_from_hz,
                             .band_to_hz = common.band_to_hz};
    for (double& hz : options.tones_hz) hz *= capture.take().rate_ratio;
    Selection selection = request.selection;
    if (!selection.in_seconds()) selection.part = capture.stimulus().parts()[part].name;
    const ChosenStretch stretch = choose_stretch(capture, selection, harmonics_rank);
    double from_s = stretch.from_s, to_s = stretch.to_s.value_or(capture.seconds());
    if (stretch.part) {
      from_s += tones.fade_in_s + std::min(kSettleS, kMostSettled * (to_s - from_s));
      to_s -= tones.fade_out_s;
    }
    const double rate = capture.sample_rate_hz();
    const auto first = std::llround(from_s * rate), end = std::llround(to_s * rate);
    const Piece piece = piece_of(capture, request.channel, first, end - first);
    Sheet sheet = tone_group_sheet(tone_group_of(piece.audio, options, capture.format(), piece.starts_s),
                                   capture.info());
    renumber(sheet, request.channel);
    add_part(sheet, stretch.what);
    return sheet;
  }

  // Every step by itself, and how the orders grow from one to the next.
  std::vector<Sheet> of_staircase(const MeasureRequest& request, const JudgedCapture& capture,
                                  std::size_t part) {
    const auto& staircase = std::get<Staircase>(capture.stimulus().recipe().parts[part].kind);
    const PlacedPart& placed = capture.stimulus().parts()[part];
    const double rate = capture.sample_rate_hz();
    CaptureLadder ladder{.capture = capture.info(), .steps = {}};
    for (const StaircaseStep& step : staircase_steps(staircase, capture.stimulus().recipe().sample_rate_hz)) {
      const auto at = static_cast<double>(placed.first_frame + step.first_frame);
      const auto first = std::llround(capture.seconds_of(at) * rate),
                 end = std::llround(capture.seconds_of(at + static_cast<double>(step.frames)) * rate);
      HarmonicsOptions options = options_for(request);
      options.tone_hz = step.frequency_hz * capture.take().rate_ratio;
      const Piece piece = piece_of(capture, request.channel, first, end - first);
      Sheet sheet = harmonics_sheet(harmonics_of(piece.audio, options, capture.format(), piece.starts_s),
                                    capture.info());
      // As recognised, a level has more digits than it is read to.
      const double level_dbfs = std::round(1000 * step.level_dbfs) / 1000;
      for (Reading& r : sheet.readings) {
        r.conditions.emplace_back("step_hz", step.frequency_hz);
        r.conditions.emplace_back("step_dbfs", level_dbfs);
      }
      renumber(sheet, request.channel);
      add_part(sheet, placed.name);
      ladder.steps.push_back({step.frequency_hz, level_dbfs, std::move(sheet)});
    }
    std::vector<Sheet> sheets;
    for (const LadderStep& step : ladder.steps) sheets.push_back(step.sheet);
    ladders_.push_back(std::move(ladder));
    return sheets;
  }

  // A tone where the capture holds it, or the strongest one of a stretch.
  Sheet of_tone(const MeasureRequest& request, const JudgedCapture& capture,
                std::optional<std::size_t> part) const {
    HarmonicsOptions options = options_for(request);
    std::vector<Finding> findings;
    std::string what;
    const auto* tone = part ? std::get_if<Tone>(&capture.stimulus().recipe().parts[*part].kind) : nullptr;
    if (tone != nullptr) {
      Selection selection = request.selection;
      if (!selection.in_seconds()) selection.part = capture.stimulus().parts()[*part].name;
      const ChosenStretch stretch = choose_stretch(capture, selection, harmonics_rank);
      options.from_s = stretch.from_s;
      options.to_s = stretch.to_s;
      what = stretch.what;
      if (!options.tone_hz) options.tone_hz = tone->frequency_hz * capture.take().rate_ratio;
    } else {
      if (!capture.played() && !request.selection.part.empty())
        (void)choose_stretch(capture, request.selection, harmonics_rank);  // says why there is no such part
      options.from_s = request.selection.from_s;
      options.to_s = request.selection.to_s;
      if (capture.played())
        findings.push_back({Severity::note, FindingCode::assumed_stimulus,
                            "the stimulus has no part that is a tone: the strongest steady tone was measured",
                            std::nullopt});
      else if (!capture.known_stimulus())
        findings.push_back({Severity::note, FindingCode::assumed_stimulus,
                            "no stimulus was given: the strongest steady tone was taken for it",
                            std::nullopt});
    }
    shorten(capture, options, findings);
    Sheet sheet = sheet_of(request, capture, options);
    add_part(sheet, what);
    sheet.findings.insert(sheet.findings.end(), findings.begin(), findings.end());
    return sheet;
  }

  static void shorten(const JudgedCapture& capture, HarmonicsOptions& options,
                      std::vector<Finding>& findings) {
    if (options.to_s || capture.seconds() - options.from_s <= kLongestS) return;
    if (options.from_s == 0) options.from_s = loudest_minute_s(capture.source());
    options.to_s = std::min(capture.seconds(), options.from_s + kLongestS);
    findings.push_back(
        {Severity::note, FindingCode::limited_range,
         fmt::format("the capture is long: {:g} s from {:g} s on were looked at; --from and --to "
                     "choose others",
                     kLongestS, options.from_s),
         std::nullopt});
  }

  static Sheet sheet_of(const MeasureRequest& request, const JudgedCapture& capture,
                        const HarmonicsOptions& options) {
    const double rate = capture.sample_rate_hz(), half_frame_s = 0.5 / rate;
    const bool inside = options.from_s >= 0 && options.to_s.value_or(capture.seconds()) > options.from_s &&
                        options.to_s.value_or(0) <= capture.seconds() + half_frame_s;
    if (!request.channel || !inside)
      return harmonics_sheet(measure_harmonics(capture, options), capture.info());
    const std::int64_t first = std::llround(options.from_s * rate),
                       end = std::min<std::int64_t>(
                           std::llround(options.to_s.value_or(capture.seconds()) * rate),
                           capture.source().frames());
    HarmonicsOptions of_piece = options;
    of_piece.from_s = 0;
    of_piece.to_s.reset();
    const Piece piece = piece_of(capture, request.channel, first, end - first);
    Sheet sheet = harmonics_sheet(harmonics_of(piece.audio, of_piece, capture.format(), piece.starts_s),
                                  capture.info());
    renumber(sheet, request.channel);
    return sheet;
  }

  HarmonicsOptions options_;
  std::vector<double> band_hz_;
  std::vector<CaptureLadder> ladders_;  // of staircases
  std::optional<Sheet> before_;
};

}  // namespace

MeasurementDescriptor harmonics_measurement() {
  return {
      .name = "harmonics",
      .question = "which harmonics does it add, and how much THD and noise is that?",
      .tables = {harmonics_readings, harmonics_sweep_readings, harmonics_ladder_readings,
                 intermodulation_readings, multitone_readings},
      .part_help =
          "tone, staircase, pair, multitone or sweep of the stimulus to measure (default: the first tone, "
          "else the first of the others, a sweep last)",
      .inputs = {{"reference",
                  "what went in, as a capture of its own: also says what was added to each order"}},
      .pictures = {{"spectrum", "the spectrum"}, {"period", "one period of the tone"}},
      .recognises = true,
      .part_use =
          [](const PartKind& kind) {
            return std::holds_alternative<Tone>(kind) ? PartUse::usual
                   : harmonics_rank(kind) > 0         ? PartUse::possible
                                                      : PartUse::no;
          },
      .headline = {"fundamental_dbfs", "thd_db", "thd_n_db"},
      .deciding = {"fundamental_hz", "fundamental_dbfs", "tone_dbfs", "imd_percent", "imd_db",
                   "imd_second_db", "imd_third_db", "rest_db", "thd_percent", "thd_db", "thd_max_db",
                   "thd_change_db", "thd_n_percent", "thd_n_db", "residual_noise_dbfs", "even_over_odd_db",
                   "h{}_dbc", "h{}_added_dbc", "h{}_growth_db_per_db"},
      .make = []() -> std::unique_ptr<Measurement> { return std::make_unique<Harmonics>(); }};
}

}  // namespace wavicon
