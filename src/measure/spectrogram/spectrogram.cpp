// SPDX-License-Identifier: MIT
#include "wavicon/measure/spectrogram/spectrogram.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/transform.hpp"
#include "wavicon/audio/window.hpp"
#include "wavicon/sheet/sheet_builder.hpp"

namespace wavicon {
namespace {

constexpr double kBetweenBinsDb = 0.16, kMeanOverMiddle = 1.44;  // of noise: 1/ln 2
constexpr double kBeta = 14;  // of the Kaiser window: side lobes at -106 dB
constexpr double kWindowWidths =
    4.9;  // half-amplitude widths of the lobe that a window needs to part two lines
constexpr double kLowestDb = -200;

void require_valid(const SpectrogramOptions& o, const AudioSource& capture) {
  auto fail = [](const std::string& what) { throw Error(ErrorCode::bad_argument, what); };
  if (o.channel < 0 || o.channel >= capture.channel_count())
    fail(fmt::format("there is no channel {}, it has {}", o.channel + 1, capture.channel_count()));
  if (!(o.resolution_hz >= 0.5 && o.resolution_hz <= 5000))
    fail(fmt::format("a resolution of {} Hz is not within 0.5 to 5000", o.resolution_hz));
  if (!(o.overlap >= 0 && o.overlap <= 0.95))
    fail(fmt::format("an overlap of {} is not within 0 to 0.95", o.overlap));
  if (!(o.low_hz >= 0 && (!o.log_frequency || o.low_hz > 0))) fail("the lowest frequency has to be above 0");
  if (o.high_hz != 0 && !(o.high_hz > o.low_hz)) fail("the highest frequency is not above the lowest");
  if (o.columns < 1 || o.columns > 10000 || o.rows < 2 || o.rows > 10000)
    fail("columns and rows have to be within 1 to 10000");
}

// The bins of each row: a range of transform bins, or a place between two.
struct Rows {
  std::vector<double> hz;
  std::vector<std::pair<double, double>> bins;
};

Rows rows_of(const SpectrogramOptions& o, double high_hz, double bin_hz) {
  Rows rows;
  const auto edge = [&](int i) {
    const double part = static_cast<double>(i) / o.rows;
    return o.log_frequency ? o.low_hz * std::pow(high_hz / o.low_hz, part)
                           : o.low_hz + (high_hz - o.low_hz) * part;
  };
  for (int i = 0; i < o.rows; ++i) {
    rows.hz.push_back(o.log_frequency ? std::sqrt(edge(i) * edge(i + 1)) : (edge(i) + edge(i + 1)) / 2);
    rows.bins.emplace_back(edge(i) / bin_hz, edge(i + 1) / bin_hz);
  }
  return rows;
}

// Highest power between two places, which may lie between the same two bins.
double highest_between_bins(const std::vector<double>& power, double from, double to) {
  auto at = [&](double place) {
    const auto left = std::min(power.size() - 2, static_cast<std::size_t>(place));
    const double part = std::min(1.0, place - static_cast<double>(left));
    return power[left] * (1 - part) + power[left + 1] * part;
  };
  double highest = std::max(at(from), at(to));
  for (auto bin = static_cast<std::size_t>(std::ceil(from));
       static_cast<double>(bin) <= to && bin < power.size(); ++bin)
    highest = std::max(highest, power[bin]);
  return highest;
}

// Where the columns lie: each holds at least one window; windows keep their overlap where columns are wide.
struct Columns {
  std::int64_t count = 1, windows_each = 1;
  double frames = 0;  // of one column
};

Columns columns_of(const SpectrogramOptions& options, std::int64_t frames, std::size_t window_frames) {
  const auto widest_hop = std::max<std::int64_t>(
      1, static_cast<std::int64_t>(static_cast<double>(window_frames) * (1 - options.overlap)));
  Columns columns;
  columns.count =
      std::clamp<std::int64_t>(frames / std::max<std::int64_t>(1, widest_hop / 4), 1, options.columns);
  columns.frames = static_cast<double>(frames) / static_cast<double>(columns.count);
  columns.windows_each =
      static_cast<std::int64_t>(std::ceil(columns.frames / static_cast<double>(widest_hop)));
  return columns;
}

// Powers of one window after the other, of the channel that the options name.
class WindowedPower {
 public:
  WindowedPower(AudioSource& capture, int channel, std::size_t frames)
      : capture_(capture),
        channel_(channel),
        window_(kaiser_window(frames, kBeta)),
        transform_(fast_transform_length(2 * frames)),
        power_(transform_.length() / 2 + 1) {
    for (const double w : window_) sum_ += w / 2;
  }

  [[nodiscard]] double bin_hz() const {
    return capture_.sample_rate_hz() / static_cast<double>(transform_.length());
  }

  // Re a full-scale sine's, by bin, of the window around that frame.
  const std::vector<double>& around(double middle) {
    const std::size_t length = window_.size();
    const auto x =
        read_channel(capture_, channel_, std::llround(middle) - static_cast<std::int64_t>(length / 2),
                     static_cast<std::int64_t>(length));
    std::fill(transform_.input().begin(), transform_.input().end(), 0.0);
    for (std::size_t n = 0; n < length; ++n) transform_.input()[n] = x[n] * window_[n];
    transform_.execute();
    for (std::size_t b = 0; b < power_.size(); ++b)
      power_[b] = std::norm(transform_.bins()[b]) / (sum_ * sum_);
    if (!std::isfinite(power_[0]))
      throw Error(ErrorCode::bad_input,
                  fmt::format("holds NaN or infinity near {:.3f} s: what wrote it has failed there",
                              middle / capture_.sample_rate_hz()));
    return power_;
  }

 private:
  AudioSource& capture_;
  int channel_;
  std::vector<double> window_;
  double sum_ = 0;
  RealTransform transform_;
  std::vector<double> power_;
};

struct HighestPlace {
  double power = 0, s = 0, hz = 0;
  double middle = 0;  // frame of its window
};

// What lies beside a sine in its window, and that the bins may not meet its crest.
double uncertainty_db(std::vector<double> powers, double highest) {
  const auto middle = powers.begin() + std::ssize(powers) / 2;
  std::nth_element(powers.begin(), middle, powers.end());
  return std::hypot(kBetweenBinsDb,
                    2 * kDbOfAmplitudeShare * std::sqrt(kMeanOverMiddle * *middle / highest / 2));
}

HighestPlace fill(LevelMap& map, WindowedPower& power, const Columns& columns, const Rows& rows,
                  std::int64_t first, double rate) {
  HighestPlace peak;
  std::vector<double> highest;
  for (std::int64_t c = 0; c < columns.count; ++c) {
    const double begin = static_cast<double>(first) + static_cast<double>(c) * columns.frames;
    map.x.push_back((begin + columns.frames / 2) / rate);
    highest.assign(rows.hz.size(), 0.0);
    for (std::int64_t w = 0; w < columns.windows_each; ++w) {
      const double middle =
          begin + (static_cast<double>(w) + 0.5) * columns.frames / static_cast<double>(columns.windows_each);
      const auto& bins = power.around(middle);
      for (std::size_t r = 0; r < rows.hz.size(); ++r) {
        const double here = highest_between_bins(bins, rows.bins[r].first, rows.bins[r].second);
        highest[r] = std::max(highest[r], here);
        if (here > peak.power) peak = {here, map.x.back(), rows.hz[r], middle};
      }
    }
    for (const double level : highest)
      map.z.push_back(std::max(kLowestDb, db_from_power_ratio(level + 1e-30)));
  }
  return peak;
}

}  // namespace

Sheet measure_spectrogram(const JudgedCapture& judged, const SpectrogramOptions& options) {
  AudioSource& capture = judged.source();
  require_valid(options, capture);
  const double rate = capture.sample_rate_hz();
  const double high_hz = std::min(options.high_hz > 0 ? options.high_hz : rate / 2, rate / 2);
  const std::int64_t first = std::llround(options.from_s * rate);
  const std::int64_t end =
      std::min(capture.frames(), options.to_s ? static_cast<std::int64_t>(std::llround(*options.to_s * rate))
                                              : capture.frames());
  if (first < 0 || end <= first)
    throw Error(ErrorCode::bad_input, fmt::format("there is nothing between {} s and {} s", options.from_s,
                                                  static_cast<double>(end) / rate));
  const auto length = static_cast<std::size_t>(std::max(16.0, kWindowWidths / options.resolution_hz * rate));
  WindowedPower power(capture, options.channel, length);
  const Rows rows = rows_of(options, high_hz, power.bin_hz());
  LevelMap map{"level", options.channel, "s", "Hz", "dBFS", {}, rows.hz, {}};
  const HighestPlace peak = fill(map, power, columns_of(options, end - first, length), rows, first, rate);

  SheetBuilder sheet(spectrogram_readings(), judged.info());
  const Conditions conditions = {{"resolution_hz", options.resolution_hz},
                                 {"window", std::string("Kaiser 14")},
                                 {"window_s", static_cast<double>(length) / rate},
                                 {"bandwidth_hz", std::vector<double>{options.low_hz, high_hz}},
                                 {"sample_rate_hz", rate},
                                 {"duration_s", static_cast<double>(end - first) / rate}};
  auto reading = [&](const char* name, std::optional<double> value, double uncertainty) {
    Reading& added = sheet.add(name, options.channel, value, conditions);
    if (value) added.uncertainty = uncertainty;
  };
  const bool silent = peak.power <= 0;
  reading("highest_dbfs", silent ? std::nullopt : std::optional(db_from_power_ratio(peak.power)),
          silent ? 0 : uncertainty_db(power.around(peak.middle), peak.power));
  reading("highest_s", silent ? std::nullopt : std::optional(peak.s), static_cast<double>(length) / rate / 3);
  reading("highest_hz", silent ? std::nullopt : std::optional(peak.hz), options.resolution_hz / 2);
  if (silent)
    sheet.say(Severity::note, FindingCode::silent_channel, "every sample is zero: there is no highest place",
              options.channel);
  sheet.say(Severity::note, FindingCode::detail,
            fmt::format("two tones come apart from {:g} Hz on, two moments from {:.3g} s on; finer in one "
                        "is coarser in the other (--resolution)",
                        options.resolution_hz, static_cast<double>(length) / rate / 3),
            options.channel);
  sheet.sheet().maps.push_back(std::move(map));
  return sheet.finish();
}

void add_sweep_paths(Sheet& sheet, const Stimulus& stimulus, const Take& take, int highest_order) {
  const double rate = sheet.capture.sample_rate_hz, stimulus_rate = stimulus.recipe().sample_rate_hz;
  auto place_s = [&](double frame) { return (take.first_frame + frame * take.frames_per_frame) / rate; };
  for (std::size_t i = 0; i < stimulus.parts().size(); ++i) {
    const PlacedPart& part = stimulus.parts()[i];
    const auto first = static_cast<double>(part.first_frame), frames = static_cast<double>(part.frames);
    sheet.labels.push_back({part.name, place_s(first), place_s(first + frames)});
    const auto* sweep = std::get_if<Sweep>(&stimulus.recipe().parts[i].kind);
    if (sweep == nullptr) continue;
    constexpr int kPoints = 600;
    for (int order = 2; order <= highest_order; ++order) {
      Curve path{fmt::format("order {}", order), std::nullopt, "s", "Hz", {}, {}};
      for (int k = 0; k <= kPoints; ++k) {
        const double at = frames * k / kPoints, step_s = 1e-5;
        const double t = std::min(at / stimulus_rate, frames / stimulus_rate - step_s);
        const double hz = order * std::abs(sweep_cycles(*sweep, t + step_s) - sweep_cycles(*sweep, t)) /
                          step_s * take.rate_ratio;
        path.x.push_back(place_s(at));
        path.y.push_back(std::abs(hz - rate * std::round(hz / rate)));
      }
      sheet.curves.push_back(std::move(path));
    }
  }
}

}  // namespace wavicon
