// SPDX-License-Identifier: MIT
#pragma once
// What comes in now, measured over and over by the same code as files, and shown as cells. docs/watch.md.

#include <deque>
#include <functional>
#include <future>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/export.hpp"
#include "wavicon/live/canvas.hpp"
#include "wavicon/live/live_source.hpp"
#include "wavicon/live/spectrum_trace.hpp"
#include "wavicon/sheet/limit.hpp"
#include "wavicon/sheet/picture.hpp"
#include "wavicon/sheet/sheet.hpp"
#include "wavicon/stimulus/stimulus.hpp"

namespace wavicon {

enum class WatchView { spectrum, harmonics, levels, spectrogram, wave, pair, noise, round_trip };

struct WatchViewInfo {
  WatchView view;
  std::string word;      ///< "round-trip"
  std::string question;  ///< that it answers
  std::string reads;     ///< what is seen, and where it misleads: two or three sentences
};
/// In the order of their keys, 1 and on.
[[nodiscard]] WAVICON_EXPORT const std::vector<WatchViewInfo>& watch_views();
/// The measurement whose figures answer for a view. @param sources  1 or 2.
[[nodiscard]] WAVICON_EXPORT std::string measurement_of(WatchView view, std::size_t sources);
/// @throws Error bad_argument with the nearest words.
[[nodiscard]] WAVICON_EXPORT WatchView watch_view(const std::string& word);

/// Which of the channels of a source are watched.
enum class WatchedPart { all, left, right, mid, side };

struct WatchOptions {
  WatchView view = WatchView::spectrum;
  std::optional<WatchView> beside;
  WatchedPart part = WatchedPart::all;
  double window_s = 1;              ///< of figures: 0.1 … 60
  double averaging_s = 0.3;         ///< of the spectrum that is drawn
  std::size_t transform = 16384;    ///< its length
  double keep_s = 10;               ///< what `k` keeps
  double course_s = 60;             ///< of harmonics against the time
  double figures_each_s = 0.5;      ///< how often figures are made by themselves; 0: refresh() does
  bool beside_drawing = false;      ///< figures are made by a thread of their own
  std::shared_ptr<Stimulus> marks;  ///< that the generator plays over and over: round trips are found by them
  std::optional<Limit> until;       ///< a reading that is waited for
};

struct WatchFigures {
  WatchView view = WatchView::spectrum;
  double at_s = 0;            ///< end of what was measured, since the start
  double window_s = 0;        ///< its length
  std::vector<Sheet> sheets;  ///< as the command for files gives them; empty: `answer` says why
  std::string answer;
  std::vector<Finding> health;  ///< of what came in
};

/// What was kept on the way, for the summary and for files.
struct WatchKept {
  std::vector<std::pair<std::string, Audio>> captures;  ///< one for each source, of the same time
  WatchFigures figures;                                 ///< of these, by the view that was shown
};

struct WatchHooks {
  /// Writes a capture with its sheets. @return what was written, for a person.
  std::function<std::string(const WatchKept&)> keep;
  /// Draws the picture of sheets. @return what was written.
  std::function<std::string(const std::vector<Sheet>&, const Picture&)> draw;
};

/// Keys that are no characters.
enum WatchKey : int { key_up = 0x110000, key_down, key_left, key_right, key_enter, key_escape, key_erase };

class WAVICON_EXPORT Watch {
 public:
  /// @throws Error bad_argument for options out of range.
  Watch(std::unique_ptr<LiveSource> source, WatchOptions options, WatchHooks hooks = {});
  ~Watch();

  /// Time passes: more comes in, traces and figures follow.
  void advance(double seconds);
  [[nodiscard]] const LiveSource& source() const noexcept { return *source_; }
  /// Of what came in, since the start.
  [[nodiscard]] double now_s() const;
  [[nodiscard]] bool quits() const noexcept { return quits_; }

  /// The newest window of audio of a source as it is measured; none: there is not enough yet.
  [[nodiscard]] std::optional<Audio> window(std::size_t source, double seconds) const;
  /// Measures the newest window, here and now.
  [[nodiscard]] WatchFigures measure(WatchView view) const;
  /// Makes the figures of the view that is shown now, whenever they would be due.
  void refresh() { deliver(measure(options_.view)); }
  /// The last figures of the view that is shown.
  [[nodiscard]] const WatchFigures& figures() const;

  /// When the reading that was waited for was there.
  struct Reached {
    double at_s = 0;
    LimitResult result;
    std::optional<double> level_dbfs;  ///< that was played
  };
  [[nodiscard]] const std::optional<Reached>& reached() const noexcept { return reached_; }

  /// One key: a character or a WatchKey.
  void press(int key);
  [[nodiscard]] Canvas draw(int width, int height, bool only_ascii = false) const;
  /// What is wrong with what comes in, and with the server; empty: nothing.
  [[nodiscard]] std::string health_line() const;
  /// What plays, and through what.
  [[nodiscard]] std::string playing_line() const;
  /// Moments, captures and pictures that were kept, a line each.
  [[nodiscard]] const std::vector<std::string>& kept() const noexcept { return kept_; }

 private:
  friend class WatchDrawing;
  struct Moment {
    double at_s = 0;
    std::optional<double> value, level;
  };
  struct KeptTrace {
    std::string name;
    std::vector<double> level_dbfs;
  };
  struct Meter {
    double rms = 0, peak = 0, held = 0;
    double silent_s = 0;  // how long nothing came in
    std::int64_t clipped = 0;
  };

  [[nodiscard]] std::function<WatchFigures()> measuring(WatchView view) const;
  void look_at_new();
  void take_traces(double seconds);
  void take_figures();
  void deliver(WatchFigures figures);
  void shown_changed();
  bool typed(int key);
  void finish_typing();
  void turn_setting(int steps);
  void tell(std::string text);
  void keep();
  [[nodiscard]] std::vector<WatchView> shown() const;
  [[nodiscard]] std::vector<double> newest(int channel, std::size_t frames) const;

  std::unique_ptr<LiveSource> source_;
  WatchOptions options_;
  WatchHooks hooks_;
  bool quits_ = false, frozen_ = false, help_ = false, difference_ = false;
  double clock_s_ = 0, figures_due_s_ = 0, traces_due_s_ = 0, columns_due_s_ = 0, begun_s_ = 0,
         told_until_s_ = 0;
  std::int64_t seen_ = 0;              // frames
  std::int64_t last_loop_ = -1;        // whose round trip was read
  std::vector<Meter> meters_;          // for each channel of the ring
  std::vector<SpectrumTrace> traces_;  // for each source
  std::vector<KeptTrace> references_;
  std::deque<std::vector<float>> columns_;  // of the spectrogram
  double bottom_dbfs_ = -120;
  std::map<WatchView, WatchFigures> figures_;
  std::deque<Moment> course_, trips_;
  std::future<WatchFigures> being_made_;
  std::optional<Reached> reached_;
  std::vector<std::string> kept_;
  std::string told_;
  std::size_t setting_ = 0, preset_ = 0;
  bool third_octaves_ = false;
  char asking_ = 0;  // what is typed: 'f' frequency, 'l' level, 'm' note
  std::string typed_;
};

}  // namespace wavicon
