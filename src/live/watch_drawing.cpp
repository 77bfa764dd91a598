// SPDX-License-Identifier: MIT
// The screen: the answer in figures, one or two views, what is wrong, and the keys.

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "live/watch_figures.hpp"
#include "wavicon/audio/decibels.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/live/watch.hpp"
#include "wavicon/present/table.hpp"
#include "wavicon/sheet/catalogue.hpp"

namespace wavicon {
namespace {

constexpr int kAxisCells = 6;      // of figures beside a plot
constexpr int kLeastBeside = 100;  // columns for two views
constexpr int kLeastForBars = 90;  // columns for bars beside figures
constexpr double kLowestBarDbfs = -70;
constexpr double kTopDbfs = 0, kLowestHz = 20;
constexpr double kMostDifferenceDb = 60;
constexpr double kWholeTurnDeg = 360;
constexpr double kNothing = -240;  // dBFS of no sample

double level_of(double amplitude) { return amplitude > 0 ? db_from_ratio(amplitude) : kNothing; }

std::string hertz_text(double hz) {
  return hz >= 1000 ? fmt::format("{:g}k", hz / 1000) : fmt::format("{:g}", hz);
}

std::string level_cell(double amplitude) {
  return amplitude > 0 ? fmt::format("{:7.2f}", db_from_ratio(amplitude)) : std::string("   none");
}

// Words in lines of at most so many characters.
std::vector<std::string> wrapped(const std::string& text, int width) {
  std::vector<std::string> lines(1);
  std::size_t at = 0;
  while (at < text.size()) {
    auto end = text.find(' ', at);
    if (end == std::string::npos) end = text.size();
    const std::string word = text.substr(at, end - at);
    if (!lines.back().empty() && static_cast<int>(lines.back().size() + 1 + word.size()) > width)
      lines.emplace_back();
    lines.back() += (lines.back().empty() ? "" : " ") + word;
    at = end + 1;
  }
  return lines;
}

const Reading* reading_of(const WatchFigures& figures, const std::string& name,
                          std::optional<int> channel = {}) {
  for (const Sheet& sheet : figures.sheets)
    for (const Reading& reading : sheet.readings)
      if (reading.name == name && (!channel || reading.channel.value_or(0) == *channel)) return &reading;
  return nullptr;
}

}  // namespace

class WatchDrawing {
 public:
  WatchDrawing(const Watch& watch, Canvas& canvas) : watch_(watch), canvas_(canvas) {}

  void all() {
    const int width = canvas_.width(), height = canvas_.height();
    head();
    const int top = 4, bottom = height - 2;
    const bool beside = watch_.options_.beside && width >= kLeastBeside;
    const int first = beside ? (width - 1) / 2 : width;
    if (bottom > top) {
      view(watch_.options_.view, {0, top, first, bottom - top}, beside);
      if (beside) {
        for (int y = top; y < bottom; ++y) canvas_.set(first, y, U'│', Ink::muted);
        view(*watch_.options_.beside, {first + 1, top, width - first - 1, bottom - top}, true);
      }
    }
    if (watch_.help_) help();
    foot();
  }

 private:
  [[nodiscard]] const WatchFigures* figures(WatchView view) const {
    const auto found = watch_.figures_.find(view);
    return found == watch_.figures_.end() ? nullptr : &found->second;
  }

  void head() {
    const LiveSource& source = *watch_.source_;
    std::string names;
    for (const WatchedChannels& one : source.channels())
      names += (names.empty() ? "" : " against ") + printable(one.name, false);
    static const char* const parts[] = {"", ", left", ", right", ", mid", ", side"};
    const std::string right = printable(watch_.playing_line(), false);
    const int room = canvas_.width() - static_cast<int>(right.size()) - 2;
    canvas_.text(0, 0,
                 fmt::format("{}{}, {:g} Hz", names, parts[static_cast<int>(watch_.options_.part)],
                             source.sample_rate_hz()),
                 Ink::muted, false, std::max(room, canvas_.width() / 3));
    canvas_.text(std::max(canvas_.width() / 3 + 1, canvas_.width() - static_cast<int>(right.size())), 0,
                 right, Ink::second);
    const WatchFigures& now = watch_.figures();
    const auto lines =
        wrapped(printable(now.answer.empty() ? "listening" : now.answer, false), canvas_.width());
    for (int i = 0; i < std::min<int>(2, static_cast<int>(lines.size())); ++i)
      canvas_.text(0, 1 + i, lines[static_cast<std::size_t>(i)], Ink::plain, true);
    std::string state = fmt::format("{} · figures of {:.3g} s to {:.1f} s",
                                    views()[index(watch_.options_.view)].word, now.window_s, now.at_s);
    if (watch_.frozen_) state += " · FROZEN, 'f' goes on";
    if (source.ended()) state += " · the recording has ended";
    canvas_.text(0, 3, state, watch_.frozen_ ? Ink::warning : Ink::muted);
  }

  void foot() {
    const int height = canvas_.height();
    const std::string wrong = printable(watch_.health_line(), false);
    const bool told = watch_.clock_s_ < watch_.told_until_s_ && !watch_.told_.empty();
    if (watch_.asking_ != 0) {
      const char* what = watch_.asking_ == 'f'   ? "frequency in Hz: "
                         : watch_.asking_ == 'l' ? "level in dBFS: "
                                                 : "note: ";
      canvas_.text(0, height - 2, what + watch_.typed_ + "_", Ink::plain, true);
    } else if (told) {
      canvas_.text(0, height - 2, printable(watch_.told_, false), Ink::good);
    } else if (!wrong.empty()) {
      canvas_.text(0, height - 2, "! " + wrong, Ink::warning, true);
    } else {
      canvas_.text(0, height - 2, "nothing is wrong with what comes in", Ink::muted);
    }
    canvas_.text(0, height - 1, keys(), Ink::muted);
  }

  [[nodiscard]] std::string keys() const {
    std::string line = "1-8 view  v beside  f freeze  r reference  k keep  m mark  w window  c channel";
    if (watch_.source_->generator() != nullptr) line = "space on/off  ↑↓ level  ←→ pitch  " + line;
    if (!watch_.source_->settings().empty()) line = "-+ turn  ,. setting  " + line;
    // The last words are there in any width.
    const std::string end = "  ? help  q quit";
    const int room = canvas_.width() - static_cast<int>(end.size());
    std::string cut;
    int cells = 0;
    for (const char c : line) {
      if ((static_cast<unsigned char>(c) & 0xC0) != 0x80 && ++cells > room) break;
      cut += c;
    }
    // A key with its word, or neither.
    if (cut.size() < line.size()) cut.erase(cut.rfind("  ") + 1);
    while (!cut.empty() && cut.back() == ' ') cut.pop_back();
    return cut + end;
  }

  void help() {
    const WatchViewInfo& info = views()[index(watch_.options_.view)];
    const int width = std::min(76, canvas_.width() - 4);
    std::vector<std::string> lines = {info.word + ": " + info.question, ""};
    for (const std::string& line : wrapped(info.reads, width - 2)) lines.push_back(line);
    lines.emplace_back();
    for (const char* line :
         {"1 spectrum     2 harmonics  3 levels  4 spectrogram",
          "5 wave         6 pair       7 noise   8 round trip", "v  the next view beside   tab  change sides",
          "f  freeze   r  reference   d  difference   x  forget what is held",
          "k  keep the last seconds with the sheet   p  picture   m  mark with a note",
          "w  next window of figures   c  left, right, mid, side",
          "space  on/off   ↑↓  1 dB   ←→  semitone or (t) third octave   g l  type",
          ", .  choose a setting   - +  turn it   [ ]  presets"})
      lines.emplace_back(line);
    const int left = (canvas_.width() - width) / 2;
    int y = std::max(0, (canvas_.height() - static_cast<int>(lines.size()) - 2) / 2);
    const auto blank = [&](int row) {
      for (int x = left; x < left + width; ++x) canvas_.set(x, row, U' ');
    };
    blank(y++);
    for (const std::string& line : lines) {
      blank(y);
      canvas_.text(left + 1, y++, line, Ink::plain, &line == &lines.front());
    }
    blank(y);
    for (int x = left; x < left + width; ++x) {
      canvas_.set(x, y, U'─', Ink::muted);
      canvas_.set(x, y - static_cast<int>(lines.size()) - 1, U'─', Ink::muted);
    }
  }

  static const std::vector<WatchViewInfo>& views() { return watch_views(); }
  static std::size_t index(WatchView view) { return static_cast<std::size_t>(view); }

  void view(WatchView which, CellArea area, bool titled) {
    if (titled) {
      const WatchFigures* own = figures(which);
      const std::string text = which == watch_.options_.view
                                   ? views()[index(which)].word
                                   : views()[index(which)].word + (own == nullptr ? "" : ": " + own->answer);
      canvas_.text(area.left, area.top, printable(text, false), Ink::muted, false, area.width);
      ++area.top;
      --area.height;
    }
    switch (which) {
      case WatchView::spectrum:
      case WatchView::noise:
        spectrum(area);
        break;
      case WatchView::harmonics:
        harmonics(area);
        break;
      case WatchView::levels:
        levels(area);
        break;
      case WatchView::spectrogram:
        spectrogram(area);
        break;
      case WatchView::wave:
        wave(area);
        break;
      case WatchView::pair:
        pair(area);
        break;
      case WatchView::round_trip:
        round_trip(area);
        break;
    }
  }

  // Figures at the left and frequencies below; what is left for the plot.
  CellArea axes(const CellArea& area, double bottom, double top, const char* unit) {
    const CellArea plot{area.left + kAxisCells, area.top, area.width - kAxisCells, area.height - 1};
    if (plot.width < 10 || plot.height < 3) return plot;
    const double range = top - bottom;
    const double step = range == kWholeTurnDeg    ? 90
                        : range / plot.height > 8 ? 40
                        : range / plot.height > 4 ? 20
                                                  : 10;
    for (double level = std::floor(top / step) * step; level >= bottom; level -= step) {
      const int y = plot.top + static_cast<int>(std::lround((top - level) / range * (plot.height - 1)));
      canvas_.text(area.left, y, fmt::format("{:5.0f}", level), Ink::muted);
    }
    canvas_.text(area.left, area.top + area.height - 1, unit, Ink::muted);
    int taken = -1;
    for (const double hz : {20., 50., 100., 200., 500., 1e3, 2e3, 5e3, 10e3, 20e3, 50e3, 100e3}) {
      const double share = place_of(hz);
      if (share < 0 || share > 1) continue;
      const std::string text = hertz_text(hz);
      const int x =
          plot.left + static_cast<int>(share * (plot.width - 1)) - static_cast<int>(text.size()) / 2;
      if (x <= taken || x + static_cast<int>(text.size()) > area.left + area.width) continue;
      taken = x + canvas_.text(x, area.top + area.height - 1, text, Ink::muted);
    }
    return plot;
  }
  [[nodiscard]] double highest_hz() const { return watch_.source_->sample_rate_hz() / 2; }
  [[nodiscard]] double place_of(double hz) const {
    return std::log(hz / kLowestHz) / std::log(highest_hz() / kLowestHz);
  }

  // Heights of dot columns: the highest bin in each.
  [[nodiscard]] std::vector<double> heights(const std::vector<double>& levels, double bin_hz,
                                            int dots) const {
    std::vector<double> shares(static_cast<std::size_t>(dots), std::numeric_limits<double>::quiet_NaN());
    const double step = std::pow(highest_hz() / kLowestHz, 1.0 / dots);
    double hz = kLowestHz;
    for (double& share : shares) {
      const double from = hz / bin_hz, to = hz * step / bin_hz;
      hz *= step;
      double level = -400;
      const auto first = static_cast<std::size_t>(std::ceil(from));
      for (std::size_t k = first; static_cast<double>(k) < to && k < levels.size(); ++k)
        level = std::max(level, levels[k]);
      if (level == -400) {  // between two bins
        const auto low = static_cast<std::size_t>(from);
        if (low + 1 >= levels.size()) continue;
        level = levels[low] + (from - std::floor(from)) * (levels[low + 1] - levels[low]);
      }
      share = (level - watch_.bottom_dbfs_) / (kTopDbfs - watch_.bottom_dbfs_);
    }
    return shares;
  }

  // What the second source, or the only one against the last reference, has more.
  void difference(const CellArea& area) {
    const CellArea plot = axes(area, -kMostDifferenceDb, kMostDifferenceDb, "dB");
    const std::vector<double>& now = watch_.traces_.back().level_dbfs();
    const std::vector<double>& before = watch_.traces_.size() > 1 ? watch_.traces_.front().level_dbfs()
                                                                  : watch_.references_.back().level_dbfs;
    if (plot.width < 10 || plot.height < 3 || now.size() != before.size()) return;
    std::vector<double> more(now.size());
    // On the scale that heights() has; where both are hidden there is nothing to tell.
    const double scale = (kTopDbfs - watch_.bottom_dbfs_) / (2 * kMostDifferenceDb);
    for (std::size_t k = 0; k < now.size(); ++k)
      more[k] = std::max(now[k], before[k]) < watch_.bottom_dbfs_
                    ? watch_.bottom_dbfs_ + kMostDifferenceDb * scale
                    : watch_.bottom_dbfs_ + (now[k] - before[k] + kMostDifferenceDb) * scale;
    DotPlot dots(canvas_, plot);
    dots.curve(heights(more, watch_.traces_.back().bin_hz(), dots.width()), Ink::second);
    canvas_.text(plot.left + 1, plot.top,
                 watch_.traces_.size() > 1 ? "the second over the first"
                                           : "over the reference " + watch_.references_.back().name,
                 Ink::second);
  }

  void spectrum(const CellArea& area) {
    if (watch_.difference_ && (watch_.traces_.size() > 1 || !watch_.references_.empty())) {
      difference(area);
      return;
    }
    const CellArea plot = axes(area, watch_.bottom_dbfs_, kTopDbfs, "dBFS");
    if (plot.width < 10 || plot.height < 3 || watch_.traces_.front().level_dbfs().empty()) return;
    DotPlot dots(canvas_, plot);
    const double bin_hz = watch_.traces_.front().bin_hz();
    for (const auto& reference : watch_.references_)
      dots.curve(heights(reference.level_dbfs, bin_hz, dots.width()), Ink::reference);
    dots.curve(heights(watch_.traces_.back().highest_dbfs(), bin_hz, dots.width()), Ink::highest);
    if (watch_.traces_.size() > 1)
      dots.curve(heights(watch_.traces_.front().level_dbfs(), bin_hz, dots.width()), Ink::first);
    dots.curve(heights(watch_.traces_.back().level_dbfs(), bin_hz, dots.width()),
               watch_.traces_.size() > 1 ? Ink::second : Ink::first);
    names(plot);
    legend(area);
  }

  // Names over the lines, the strongest first, none over another.
  void names(const CellArea& plot) {
    std::vector<std::pair<int, CellArea>> placed;
    for (const NamedLine& line : watch_.traces_.back().lines()) {
      const std::string text = line.name;
      const auto cells = static_cast<int>(text.size());
      int x = plot.left + static_cast<int>(place_of(line.frequency_hz) * plot.width) - cells / 2;
      x = std::clamp(x, plot.left, plot.left + std::max(0, plot.width - cells));
      const double share = (kTopDbfs - line.level_dbfs) / (kTopDbfs - watch_.bottom_dbfs_);
      const int y = std::max(plot.top, plot.top + static_cast<int>(share * plot.height) - 1);
      const CellArea own{x - 1, y, cells + 2, 1};
      if (y >= plot.top + plot.height || std::any_of(placed.begin(), placed.end(), [&](const auto& one) {
            return one.second.top == y && own.left < one.second.left + one.second.width &&
                   one.second.left < own.left + own.width;
          }))
        continue;
      placed.emplace_back(y, own);
      canvas_.text(x, y, text, Ink::plain, line.name == "tone");
    }
  }

  void legend(const CellArea& area) {
    int y = area.top;
    const auto line = [&](const std::string& text, Ink ink) {
      const int x = area.left + area.width - static_cast<int>(text.size()) - 1;
      if (x > area.left + kAxisCells) canvas_.text(x, y++, text, ink);
    };
    if (watch_.traces_.size() > 1) {
      line(printable(watch_.source_->channels().front().name, false), Ink::first);
      line(printable(watch_.source_->channels().back().name, false), Ink::second);
    }
    line("highest", Ink::highest);
    for (const auto& reference : watch_.references_) line("reference " + reference.name, Ink::reference);
  }

  void harmonics(const CellArea& area) {
    const WatchFigures* own = figures(WatchView::harmonics);
    if (own == nullptr || own->sheets.empty()) {
      canvas_.text(area.left + 1, area.top, "a steady tone is needed", Ink::muted);
      return;
    }
    const int rows = std::min(9, std::max(3, area.height / 2 - 1));
    const double bottom = -140;
    const int room = area.width - 24;
    for (int order = 2; order < 2 + rows; ++order) {
      const Reading* reading = reading_of(*own, fmt::format("h{}_dbc", order));
      const int y = area.top + order - 2;
      canvas_.text(area.left + 1, y, fmt::format("H{}", order), Ink::plain, true);
      if (reading == nullptr || !reading->value) {
        canvas_.text(area.left + 6, y, "beyond half the rate", Ink::muted, false, area.width - 6);
        continue;
      }
      canvas_.text(area.left + 5, y, fmt::format("{:>16}", value_text(*reading) + " dBc"),
                   reading->bound ? Ink::muted : Ink::plain);
      if (room > 4)
        canvas_.bar(area.left + 23, y, std::clamp((*reading->value - bottom) / -bottom, 0.0, 1.0) * room,
                    reading->bound ? Ink::muted : Ink::first);
    }
    std::string sums;
    for (const auto& [name, words] : {std::pair("thd_db", "THD"), std::pair("thd_n_db", "THD+N"),
                                      std::pair("residual_noise_dbfs", "noise beside the tone")})
      if (const Reading* reading = reading_of(*own, name); reading != nullptr && reading->value)
        sums +=
            fmt::format("{}{} {} {}", sums.empty() ? " " : " · ", words, value_text(*reading), reading->unit);
    canvas_.text(area.left, area.top + rows, sums, Ink::plain, false, area.width);
    course({area.left, area.top + rows + 1, area.width, area.height - rows - 1}, watch_.course_, "THD, dB",
           watch_.options_.course_s, true);
  }

  // Values against the time that has passed, newest at the right; a second one on the same scale.
  template <typename Moments>
  void course(const CellArea& area, const Moments& moments, const std::string& title, double seconds,
              bool second) {
    if (area.height < 4 || area.width < 20 || moments.empty()) return;
    double low = 1e300, high = -1e300;
    for (const auto& moment : moments)
      for (const auto& value : {moment.value, second ? moment.level : std::nullopt})
        if (value) low = std::min(low, *value), high = std::max(high, *value);
    if (low > high) return;
    const double margin = std::max(1.0, 0.05 * (high - low));
    low = std::floor(low - margin);
    high = std::ceil(high + margin);
    canvas_.text(area.left, area.top, title + (second ? "  and level of the tone, dBFS" : ""), Ink::muted);
    const CellArea plot{area.left + kAxisCells + 3, area.top + 1, area.width - kAxisCells - 3,
                        area.height - 2};
    canvas_.text(area.left, plot.top, fmt::format("{:8.7g}", high), Ink::muted);
    canvas_.text(area.left, plot.top + plot.height - 1, fmt::format("{:8.7g}", low), Ink::muted);
    canvas_.text(plot.left, area.top + area.height - 1, fmt::format("{:g} s ago", seconds), Ink::muted);
    canvas_.text(area.left + area.width - 4, area.top + area.height - 1, "now", Ink::muted);
    DotPlot dots(canvas_, plot);
    const double now = moments.back().at_s;
    const auto draw = [&](bool level, Ink ink) {
      std::vector<double> shares(static_cast<std::size_t>(dots.width()),
                                 std::numeric_limits<double>::quiet_NaN());
      int before = -1;
      double last = 0;
      for (const auto& moment : moments) {
        const auto& value = level ? moment.level : moment.value;
        const int x = dots.width() - 1 - static_cast<int>((now - moment.at_s) / seconds * dots.width());
        if (!value || x < 0) continue;
        // Joined, so that a course is a line.
        const double share = (*value - low) / (high - low);
        for (int between = before < 0 ? x : before + 1; between <= x; ++between)
          shares[static_cast<std::size_t>(between)] =
              before < 0 || x == before ? share : last + (share - last) * (between - before) / (x - before);
        before = x;
        last = share;
      }
      dots.curve(shares, ink);
    };
    if (second) draw(true, Ink::highest);
    draw(false, Ink::first);
  }

  void levels(const CellArea& area) {
    const WatchFigures* own = figures(WatchView::levels);
    // Bars beside the figures, or under them where there is no room.
    const bool beside = area.width >= kLeastForBars;
    const int bars = beside ? area.width - 58 : area.width - 6;
    const int left = area.left + 4, figures_at = beside ? left + bars + 2 : left;
    canvas_.text(
        figures_at, area.top,
        fmt::format("{:>7} {:>7} {:>7} {:>8} {:>6}  clipped", "RMS", "peak", "highest", "true pk", "crest"),
        Ink::muted, false, area.left + area.width - figures_at);
    int y = area.top + 1;
    const auto& sources = watch_.source_->channels();
    for (const WatchedChannels& watched : sources)
      for (int c = 0; c < watched.count && y < area.top + area.height - 6; ++c) {
        const auto& meter = watch_.meters_[static_cast<std::size_t>(watched.first + c)];
        const bool last = &watched == &sources.back();
        const auto figure = [&](const char* name) -> std::string {
          const Reading* reading = own == nullptr || !last ? nullptr : reading_of(*own, name, c);
          return reading == nullptr || !reading->value ? "" : fmt::format("{:.2f}", *reading->value);
        };
        canvas_.text(area.left, y, fmt::format("{}{}", sources.size() == 1 ? "" : last ? "B" : "A", c + 1));
        const std::string rms = figure("rms_dbfs");
        canvas_.text(
            figures_at, y,
            fmt::format("{:>7} {:>7} {:>7} {:>8} {:>6}  {}", rms.empty() ? level_cell(meter.rms) : rms,
                        level_cell(meter.peak), level_cell(meter.held), figure("true_peak_dbtp"),
                        figure("crest_factor_db"), meter.clipped),
            Ink::plain, false, area.left + area.width - figures_at);
        if (!beside) ++y;
        const auto cells = [&](double amplitude) {
          return std::clamp((level_of(amplitude) - kLowestBarDbfs) / -kLowestBarDbfs, 0.0, 1.0) * bars;
        };
        canvas_.bar(left, y, cells(meter.rms), meter.held >= 1 ? Ink::warning : Ink::first);
        if (meter.peak > 0)
          canvas_.set(left + static_cast<int>(cells(meter.peak)), y, U'│', Ink::plain, true);
        if (meter.held > 0) canvas_.set(left + static_cast<int>(cells(meter.held)), y, U'│', Ink::highest);
        ++y;
      }
    int taken = area.left;
    for (const int mark : {-60, -50, -40, -30, -20, -10, -3, 0}) {
      const std::string text = fmt::format("{}", mark);
      const int x = left + static_cast<int>((mark - kLowestBarDbfs) / -kLowestBarDbfs * bars) - 1;
      if (x > taken) taken = x + canvas_.text(x, y, text, Ink::muted);
    }
    y += 2;
    if (own == nullptr) return;
    for (const char* name : {"loudness_integrated_lufs", "loudness_momentary_max_lufs",
                             "loudness_short_term_max_lufs", "dc_offset_dbfs"})
      if (const Reading* reading = reading_of(*own, name);
          reading != nullptr && reading->value && reading->entry != nullptr && y < area.top + area.height)
        canvas_.text(
            area.left, y++,
            fmt::format("{:>12} {:<5} {}", value_text(*reading), reading->unit, reading->entry->words));
  }

  void spectrogram(const CellArea& area) {
    const CellArea plot{area.left + kAxisCells, area.top, area.width - kAxisCells, area.height - 1};
    if (plot.width < 10 || plot.height < 3) return;
    int taken = plot.top + plot.height;
    for (const double hz : {20., 50., 100., 200., 500., 1e3, 2e3, 5e3, 10e3, 20e3, 50e3}) {
      const int y = plot.top + plot.height - 1 - static_cast<int>(place_of(hz) * (plot.height - 1));
      if (y >= taken || y < plot.top) continue;
      canvas_.text(area.left, y, fmt::format("{:>5}", hertz_text(hz)), Ink::muted);
      taken = y;
    }
    static const char32_t shades[] = {U' ', U'░', U'▒', U'▓', U'█'};
    const auto& columns = watch_.columns_;
    for (int x = 0; x < plot.width; ++x) {
      const auto back = static_cast<std::size_t>(plot.width - x);
      if (back > columns.size()) continue;
      const auto& column = columns[columns.size() - back];
      for (int row = 0; row < plot.height; ++row) {
        const std::size_t from = column.size() * static_cast<std::size_t>(row) /
                                 static_cast<std::size_t>(plot.height),
                          to = column.size() * static_cast<std::size_t>(row + 1) /
                               static_cast<std::size_t>(plot.height);
        const float level =
            *std::max_element(column.begin() + static_cast<std::ptrdiff_t>(from),
                              column.begin() + static_cast<std::ptrdiff_t>(std::max(to, from + 1)));
        const double share = std::clamp(
            (static_cast<double>(level) - watch_.bottom_dbfs_) / (kTopDbfs - watch_.bottom_dbfs_), 0.0, 1.0);
        const int heat = std::min(kHeats - 1, static_cast<int>(share * kHeats));
        const char32_t shade = shades[std::min(4, static_cast<int>(share * 5))];
        canvas_.set(plot.left + x, plot.top + plot.height - 1 - row, heat > 0 && shade == U' ' ? U'·' : shade,
                    static_cast<Ink>(static_cast<int>(Ink::heat_0) + heat));
      }
    }
    canvas_.text(plot.left, area.top + area.height - 1, fmt::format("{:.1f} s ago", 0.1 * plot.width),
                 Ink::muted);
    canvas_.text(area.left + area.width - 4, area.top + area.height - 1, "now", Ink::muted);
    canvas_.text(area.left, area.top + area.height - 1, "Hz", Ink::muted);
  }

  void wave(const CellArea& area) {
    const double rate = watch_.source_->sample_rate_hz();
    const auto lines = watch_.traces_.front().lines();
    const double period_s = lines.empty() ? 0.005 : 1 / lines.front().frequency_hz;
    const double shown_s = std::clamp(3 * period_s, 16 / rate, 0.2);
    std::vector<std::vector<double>> waves;
    for (std::size_t i = 0; i < watch_.source_->channels().size(); ++i) {
      const auto audio = watch_.window(i, 2 * shown_s + 2 * period_s);
      if (!audio) return;
      waves.emplace_back(audio->channel(0).begin(), audio->channel(0).end());
    }
    // From where the first one goes upwards through zero.
    const auto frames = static_cast<std::size_t>(shown_s * rate);
    double start = 0;
    for (std::size_t n = 1; n + frames + 2 < waves[0].size(); ++n)
      if (waves[0][n - 1] <= 0 && waves[0][n] > 0) {
        start = static_cast<double>(n) - waves[0][n] / (waves[0][n] - waves[0][n - 1]);
        break;
      }
    const bool two = waves.size() > 1;
    if (two) waves.push_back(residual(waves[0], waves[1]));
    const int below = two ? std::max(3, area.height / 4) : 0;
    const CellArea plot{area.left + kAxisCells + 2, area.top, area.width - kAxisCells - 2,
                        area.height - below - 1};
    if (plot.width < 10 || plot.height < 3) return;
    double peak = 1e-9;
    for (std::size_t i = 0; i < std::min<std::size_t>(2, waves.size()); ++i)
      for (const double v : waves[i]) peak = std::max(peak, std::abs(v));
    DotPlot dots(canvas_, plot);
    trace(dots, waves[0], start, frames, peak, Ink::first);
    if (two) trace(dots, waves[1], start, frames, peak, Ink::second);
    canvas_.text(area.left, plot.top, fmt::format("{:7.3g}", peak), Ink::muted);
    canvas_.text(area.left, plot.top + plot.height / 2, "      0", Ink::muted);
    canvas_.text(area.left, plot.top + plot.height - 1, fmt::format("{:7.3g}", -peak), Ink::muted);
    if (two) {
      double left = 1e-12;
      for (const double v : waves[2]) left = std::max(left, std::abs(v));
      const CellArea lower{plot.left, plot.top + plot.height + 1, plot.width, below - 1};
      canvas_.text(area.left, lower.top - 1,
                   fmt::format("what is left, its peak {:.1f} dBFS:", level_of(left)), Ink::muted);
      DotPlot rest(canvas_, lower);
      trace(rest, waves[2], start, frames, left, Ink::reference);
      legend_of_two(area);
    }
    canvas_.text(plot.left, area.top + area.height - 1, fmt::format("{:.4g} ms", 1000 * shown_s), Ink::muted);
  }

  void legend_of_two(const CellArea& area) {
    int y = area.top;
    for (const auto& [watched, ink] : {std::pair(&watch_.source_->channels().front(), Ink::first),
                                       std::pair(&watch_.source_->channels().back(), Ink::second)}) {
      const std::string name = printable(watched->name, false);
      canvas_.text(std::max(area.left, area.left + area.width - static_cast<int>(name.size()) - 1), y++, name,
                   ink);
    }
  }

  // The second one without what it has of the first: least squares over a level.
  static std::vector<double> residual(const std::vector<double>& a, const std::vector<double>& b) {
    double both = 0, own = 0;
    for (std::size_t n = 0; n < a.size(); ++n) both += a[n] * b[n], own += a[n] * a[n];
    const double gain = own > 0 ? both / own : 0;
    std::vector<double> rest(a.size());
    for (std::size_t n = 0; n < a.size(); ++n) rest[n] = b[n] - gain * a[n];
    return rest;
  }

  static void trace(DotPlot& dots, const std::vector<double>& wave, double start, std::size_t frames,
                    double peak, Ink ink) {
    std::vector<double> shares(static_cast<std::size_t>(dots.width()));
    for (std::size_t x = 0; x < shares.size(); ++x) {
      const double at =
          start + static_cast<double>(x) * static_cast<double>(frames) / static_cast<double>(shares.size());
      const auto n = std::min(static_cast<std::size_t>(at), wave.size() - 2);
      const double value = wave[n] + (at - static_cast<double>(n)) * (wave[n + 1] - wave[n]);
      shares[x] = 0.5 + 0.5 * value / peak;
    }
    dots.curve(shares, ink);
  }

  void pair(const CellArea& area) {
    const WatchFigures* own = figures(WatchView::pair);
    if (own == nullptr || own->sheets.empty()) return;
    int y = area.top;
    const int middle = area.left + 34, half = std::max(5, (area.width - 38) / 2);
    // From the middle to the side.
    const auto row = [&](const char* name, const char* words, double most) {
      const Reading* reading = reading_of(*own, name);
      if (reading == nullptr || !reading->value || y >= area.top + area.height) return;
      canvas_.text(area.left, y, fmt::format("{:<14}{:>12} {}", words, value_text(*reading), reading->unit));
      if (most > 0 && area.width > 60) {
        const double share = std::clamp(*reading->value / most, -1.0, 1.0);
        const int at = middle + half + static_cast<int>(std::lround(share * half));
        for (int x = middle; x <= middle + 2 * half && x < area.left + area.width; ++x)
          canvas_.set(x, y, U'─', Ink::muted);
        canvas_.set(middle + half, y, U'│', Ink::muted);
        canvas_.set(std::min(at, area.left + area.width - 1), y, U'█', share < 0 ? Ink::second : Ink::first);
      }
      ++y;
    };
    row("level_difference_db", "level, B over A", 12);
    row("correlation", "correlation", 1);
    row("time_offset_samples", "B comes later", 0);
    row("mono_sum_loss_db", "mono sum", 12);
    row("null_depth_db", "null", 0);
    const Curve* phase = nullptr;
    for (const Sheet& sheet : own->sheets)
      for (const Curve& curve : sheet.curves)
        if (curve.x_unit == "Hz" && curve.y_unit == "deg") phase = &curve;
    const CellArea below{area.left, y + 1, area.width, area.top + area.height - y - 1};
    if (phase == nullptr || below.height < 4) return;
    canvas_.text(below.left, y, "phase over frequency", Ink::muted);
    const CellArea plot{below.left + kAxisCells, below.top, below.width - kAxisCells, below.height - 1};
    (void)axes({below.left, below.top, below.width, below.height}, -180, 180, "deg");
    DotPlot dots(canvas_, plot);
    for (std::size_t i = 0; i < phase->x.size(); ++i) {
      const int x = static_cast<int>(place_of(phase->x[i]) * dots.width());
      const int row_dot = static_cast<int>((180 - phase->y[i]) / 360 * (dots.height() - 1));
      for (const int dx : {0, 1})
        for (const int dy : {0, 1}) dots.dot(x + dx, row_dot + dy, Ink::first);
    }
  }

  void round_trip(const CellArea& area) {
    const auto& trips = watch_.trips_;
    if (trips.empty()) {
      canvas_.text(area.left + 1, area.top, "marks are played every two seconds; the first answer takes two",
                   Ink::muted);
      return;
    }
    double low = 1e300, high = -1e300;
    std::size_t count = 0;
    for (const auto& trip : trips)
      if (trip.value) low = std::min(low, *trip.value), high = std::max(high, *trip.value), ++count;
    canvas_.text(area.left, area.top,
                 count == 0
                     ? std::string("no mark came back")
                     : fmt::format("{} of {} came back · {:.2f} … {:.2f} samples, spread {:.2f} · {} xruns",
                                   count, trips.size(), low, high, high - low, watch_.source_->xruns()));
    course({area.left, area.top + 2, area.width, area.height - 2}, trips, "latency, samples",
           std::max(watch_.options_.course_s, 10.0), false);
  }

  const Watch& watch_;
  Canvas& canvas_;
};

Canvas Watch::draw(int width, int height, bool only_ascii) const {
  Canvas canvas(width, height, only_ascii);
  WatchDrawing(*this, canvas).all();
  return canvas;
}

}  // namespace wavicon
