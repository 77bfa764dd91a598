// SPDX-License-Identifier: MIT
// What a person sees and presses, without a terminal, with a clock of the tests' own.

#include <unistd.h>

#include <cmath>
#include <numbers>

#include "support.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/intake/recognise.hpp"
#include "wavicon/live/play.hpp"
#include "wavicon/live/watch.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon::watch_test {
namespace {

using namespace testing;

// A signal without end and without memory, by a formula for each channel.
class Formula : public AudioSource {
 public:
  using Value = std::function<double(int channel, double n)>;
  Formula(double rate, int channels, double seconds, Value value)
      : rate_(rate), channels_(channels), frames_(std::llround(seconds * rate)), value_(std::move(value)) {}
  double sample_rate_hz() const noexcept override { return rate_; }
  int channel_count() const noexcept override { return channels_; }
  std::int64_t frames() const noexcept override { return frames_; }
  void read(std::int64_t first, std::span<double> planar) override {
    const auto count = planar.size() / static_cast<std::size_t>(channels_);
    for (int c = 0; c < channels_; ++c)
      for (std::size_t n = 0; n < count; ++n)
        planar[static_cast<std::size_t>(c) * count + n] =
            value_(c, static_cast<double>(first) + static_cast<double>(n));
  }

 private:
  double rate_;
  int channels_;
  std::int64_t frames_;
  Value value_;
};

double wave(double hz, double n, double rate = 48000) {
  return std::sin(2 * std::numbers::pi * hz * n / rate);
}

// Rough, and the same in every run.
double rough(double n, int seed = 0) {
  auto x = static_cast<std::uint64_t>(n) * 0x9E3779B97F4A7C15ULL +
           static_cast<std::uint64_t>(seed) * 0xD1B54A32D192ED03ULL;
  x ^= x >> 31;
  x *= 0xBF58476D1CE4E5B9ULL;
  x ^= x >> 29;
  return static_cast<double>(x >> 11) / 4503599627370496.0 - 1;
}

std::unique_ptr<LiveSource> played(Formula::Value value, int channels = 1, double seconds = 100,
                                   double rate = 48000) {
  return play_recordings(
      {{"capture.wav", std::make_shared<Formula>(rate, channels, seconds, std::move(value))}}, 15);
}

void pass(Watch& watch, double seconds) {
  for (double t = 0; t < seconds; t += 0.04) watch.advance(0.04);
}

std::string screen(const Watch& watch, int width = 120, int height = 40) {
  const Canvas canvas = watch.draw(width, height);
  std::string text;
  for (int y = 0; y < height; ++y) text += canvas.row(y) + "\n";
  return text;
}

// Column of the first cell of a text in a row of the screen; -1: it is not there.
int column_of(const Watch& watch, const std::string& text, int width = 120, int height = 40) {
  const Canvas canvas = watch.draw(width, height);
  for (int y = 4; y < height - 2; ++y)
    for (int x = 0; x + static_cast<int>(text.size()) <= width; ++x) {
      bool same = true;
      for (std::size_t i = 0; i < text.size() && same; ++i)
        same = canvas.at(x + static_cast<int>(i), y).glyph == static_cast<char32_t>(text[i]);
      if (same) return x;
    }
  return -1;
}

double value(const WatchFigures& figures, const std::string& name, int channel = 0) {
  for (const Sheet& sheet : figures.sheets)
    for (const Reading& reading : sheet.readings)
      if (reading.name == name && reading.channel.value_or(0) == channel && reading.value)
        return *reading.value;
  ADD_FAILURE() << name << " is not there: " << figures.answer;
  return std::nan("");
}

WatchOptions viewing(WatchView view, double window_s = 1) {
  WatchOptions options;
  options.view = view;
  options.window_s = window_s;
  return options;
}

void type(Watch& watch, const std::string& text) {
  for (const char c : text) watch.press(c);
  watch.press(key_enter);
}

// The same figures, to the last bit, as the measurement gives of a file with the same seconds.
TEST(Watch, ReadsWhatTheCommandsForFilesRead) {
  const TemporaryFolder folder;
  const auto signal = [](int c, double n) {
    return 0.1 * wave(997, n) * (c + 1) + 1e-3 * wave(2991, n) + 1e-4 * rough(n, c);
  };
  for (const WatchView view :
       {WatchView::spectrum, WatchView::harmonics, WatchView::levels, WatchView::noise, WatchView::pair}) {
    Watch watch(played(signal, 2), viewing(view));
    pass(watch, 3);
    const WatchFigures figures = watch.measure(view);
    ASSERT_FALSE(figures.sheets.empty()) << figures.answer;
    write_audio_file(folder.file("window.wav"), *watch.window(0, 1),
                     {.channel_count = 2, .format = SampleFormat::float32, .frames = 48000});
    const MeasurementDescriptor& descriptor = *find_measurement(measurements(), measurement_of(view, 1));
    const GatePolicy policy = policy_of(descriptor, true);
    JudgedCapture capture =
        judge_file(folder.file("window.wav"), {.despite_faults = true, .hold_faults = true});
    capture = descriptor.recognises ? recognised(capture, policy) : capture.admitted(policy);
    const auto measurement = descriptor.make();
    const auto sheets = measured(*measurement, {}, capture);
    ASSERT_EQ(sheets.size(), figures.sheets.size());
    ASSERT_EQ(sheets[0].readings.size(), figures.sheets[0].readings.size());
    for (std::size_t i = 0; i < sheets[0].readings.size(); ++i) {
      const Reading &file = sheets[0].readings[i], &live = figures.sheets[0].readings[i];
      EXPECT_EQ(file.name, live.name);
      EXPECT_EQ(file.value, live.value) << file.name;
      EXPECT_EQ(file.uncertainty, live.uncertainty) << file.name;
      EXPECT_EQ(file.floor, live.floor) << file.name;
    }
  }
}

TEST(Watch, SpectrumNamesItsLinesWhereTheyAre) {
  // The third is at 21 kHz; the fourth is at 28 kHz, above half the rate: it is seen at 20.
  Watch watch(played([](int, double n) {
                return 0.1 * wave(7000, n) + 1e-3 * wave(21000, n) + 3e-4 * wave(20000, n) +
                       1e-3 * wave(50, n) + 1e-6 * rough(n);
              }),
              viewing(WatchView::spectrum));
  pass(watch, 3);
  const std::string seen = screen(watch);
  EXPECT_HAS(seen, "-20.00 dBFS at 7000.00 Hz");
  EXPECT_HAS(seen, "nothing is wrong");
  // Where a frequency is: the axis has 6 cells for figures, and is logarithmic from 20 Hz to half the rate.
  const auto place = [](double hz) { return 6 + std::log(hz / 20) / std::log(1200.0) * 114; };
  EXPECT_NEAR(column_of(watch, "tone") + 2, place(7000), 2.1);
  EXPECT_NEAR(column_of(watch, "H3") + 1, place(21000), 2.1);
  EXPECT_NEAR(column_of(watch, "H4 folded") + 4.5, place(20000), 5.5);
  EXPECT_NEAR(column_of(watch, "50 Hz hum") + 4.5, place(50), 5.5);
  EXPECT_EQ(column_of(watch, "H2"), -1);
  EXPECT_EQ(column_of(watch, "H5"), -1);
}

TEST(Watch, HarmonicsAndTheirCourse) {
  Watch watch(
      played([](int, double n) { return 0.1 * wave(997, n) + 1e-4 * wave(1994, n) + 1e-3 * wave(2991, n); }),
      viewing(WatchView::harmonics));
  pass(watch, 4);
  EXPECT_NEAR(value(watch.figures(), "h3_dbc"), -40, 0.01);
  const std::string seen = screen(watch);
  EXPECT_HAS(seen, "H2 -60.00 dBc");
  EXPECT_HAS(seen, "H3 -40.00 dBc");
  EXPECT_HAS(seen, "H4 <");  // under the noise it is a bound
  EXPECT_HAS(seen, "THD -39.96 dB · THD+N -39.96 dB");
  EXPECT_HAS(seen, "THD, dB and level of the tone");
  // The stronger one has the longer bar.
  const Canvas canvas = watch.draw(120, 40);
  const auto bar = [&](int y) {
    int cells = 0;
    for (int x = 23; x < 120; ++x)
      cells += canvas.at(x, y).glyph >= U'▉' - 7 && canvas.at(x, y).glyph <= U'▏' ? 1 : 0;
    return cells;
  };
  EXPECT_NEAR(bar(5), 96 * 100 / 140.0, 1.5);
  EXPECT_NEAR(bar(4), 96 * 80 / 140.0, 1.5);
}

TEST(Watch, LevelsHoldAndCountWhatClips) {
  Watch watch(played(
                  [](int c, double n) {
                    return c == 0 ? 0.5 * wave(997, n) : n == 48000 ? 1.0 : 0.05 * wave(997, n);
                  },
                  2),
              viewing(WatchView::levels));
  pass(watch, 4);
  EXPECT_NEAR(value(watch.figures(), "rms_dbfs", 0), -9.03, 0.01);
  EXPECT_NEAR(value(watch.figures(), "peak_dbfs", 1), -26.02, 0.01);
  const std::string seen = screen(watch);
  EXPECT_HAS(seen, "-9.03");
  EXPECT_HAS(seen, "0.00");  // the highest of the second channel is held
  EXPECT_HAS(seen, "1 sample at full scale");
  watch.press('x');
  pass(watch, 0.2);
  EXPECT_EQ(screen(watch).find("at full scale"), std::string::npos);
}

TEST(Watch, TwoSourcesAreInStep) {
  const auto signal = [](double n) { return 0.2 * wave(997, n) + 0.05 * rough(n); };
  auto source = play_recordings(
      {{"a.wav", std::make_shared<Formula>(48000, 1, 100, [&](int, double n) { return signal(n); })},
       {"b.wav",
        std::make_shared<Formula>(48000, 1, 100,
                                  [&](int, double n) { return 0.5 * signal(n - 37) + 1e-5 * rough(n, 7); })}},
      15);
  WatchOptions options = viewing(WatchView::pair);
  options.beside = WatchView::wave;
  Watch watch(std::move(source), options);
  pass(watch, 5);
  EXPECT_NEAR(value(watch.figures(), "time_offset_samples"), 37, 0.05);
  EXPECT_NEAR(value(watch.figures(), "level_difference_db"), -6.02, 0.01);
  const WatchFigures null = watch.measure(WatchView::wave);
  EXPECT_NEAR(value(null, "delay_samples"), 37, 0.01);
  EXPECT_NEAR(value(null, "gain_db"), -6.0206, 0.001);
  const std::string seen = screen(watch);
  EXPECT_HAS(seen, "a.wav against b.wav");
  EXPECT_HAS(seen, "B comes later");
  EXPECT_LT(value(watch.figures(), "null_depth_db"), -60);
  EXPECT_HAS(seen, "what is left");
  // B over A, over frequency.
  watch.press('1');
  watch.press('d');
  EXPECT_HAS(screen(watch), "the second over the first");
  // Narrower than 100 columns there is room for one.
  EXPECT_EQ(screen(watch, 80, 24).find("what is left"), std::string::npos);
}

TEST(Watch, NoiseReadsItsFloor) {
  Watch watch(played([](int, double n) { return 1e-4 * rough(n); }), viewing(WatchView::noise, 5));
  pass(watch, 7);
  // Even from -1e-4 to 1e-4: -84.77 dBFS in all, 20 Hz to 20 kHz of 24 kHz.
  EXPECT_NEAR(value(watch.figures(), "noise_dbfs"), -84.77 + 10 * std::log10(19980.0 / 24000), 0.15);
}

TEST(Watch, SpectrogramShowsWhatComesAndGoes) {
  Watch watch(played([](int, double n) { return n < 5 * 48000 ? 0.5 * wave(200, n) : 0.5 * wave(5000, n); }),
              viewing(WatchView::spectrogram));
  pass(watch, 8);
  const Canvas canvas = watch.draw(120, 40);
  const auto loudest_row = [&](int x) {
    int row = -1;
    for (int y = 4; y < 37; ++y)
      if (row < 0 || canvas.at(x, y).ink > canvas.at(x, row).ink) row = y;
    return row;
  };
  const auto row_of = [](double hz) { return 4 + 32 - std::log(hz / 20) / std::log(1200.0) * 33; };
  EXPECT_NEAR(loudest_row(118), row_of(5000), 1.2);      // now
  EXPECT_NEAR(loudest_row(119 - 45), row_of(200), 1.2);  // 4.5 s ago
}

std::shared_ptr<Generator> tone(double hz = 997, double dbfs = -20) {
  return std::make_shared<Generator>(GeneratorOptions{.frequency_hz = hz, .level_dbfs = dbfs});
}

TEST(Watch, UnitsAreTurnedByKeys) {
  WatchOptions options = viewing(WatchView::harmonics);
  Watch watch(generator_through(tone(), {"sim:tern?drive=0"}, {}, 15), options);
  pass(watch, 3);
  const double before = value(watch.figures(), "thd_db");
  for (int i = 0; i < 12; ++i) watch.press('+');
  EXPECT_HAS(watch.playing_line(), "drive 12 dB");
  pass(watch, 3);
  const double after = value(watch.figures(), "thd_db");
  EXPECT_GT(after, before + 10);
  EXPECT_NEAR(after, -61.63, 0.02);  // as 'harmonics' reads what 'feed' brought back at drive=12
  // A setting of choices goes from one to the next, and no further than the last.
  watch.press('.');
  watch.press('.');
  for (int i = 0; i < 9; ++i) watch.press('+');
  EXPECT_HAS(watch.playing_line(), "oversampling 16");
  watch.press('-');
  EXPECT_HAS(watch.playing_line(), "oversampling 8");
  watch.press('[');
  EXPECT_HAS(screen(watch), "there are no presets");
}

TEST(Watch, ToneIsTurnedByKeysAndByTyping) {
  Watch watch(generator_through(tone(440, -20), {"sim:dunlin"}, {}, 15), viewing(WatchView::spectrum));
  watch.press(key_right);
  EXPECT_NEAR(watch.source().generator()->frequency_hz(), 466.1638, 1e-3);
  watch.press(key_left);
  watch.press('t');
  watch.press(key_right);
  EXPECT_NEAR(watch.source().generator()->frequency_hz(), 553.93, 0.01);
  watch.press(key_up);
  EXPECT_EQ(watch.source().generator()->level_dbfs(), -19);
  for (int i = 0; i < 30; ++i) watch.press(key_up);
  EXPECT_EQ(watch.source().generator()->level_dbfs(), -6);  // the ceiling
  watch.press('g');
  type(watch, "1234.5");
  EXPECT_EQ(watch.source().generator()->frequency_hz(), 1234.5);
  watch.press('l');
  type(watch, "-33");
  EXPECT_EQ(watch.source().generator()->level_dbfs(), -33);
  watch.press('g');
  type(watch, "12x");
  EXPECT_HAS(screen(watch), "'12x' is no number");
  EXPECT_EQ(watch.source().generator()->frequency_hz(), 1234.5);
  pass(watch, 3);
  EXPECT_HAS(screen(watch), "-33.00 dBFS at 1234.50 Hz");
  watch.press(' ');
  pass(watch, 4);
  EXPECT_HAS(screen(watch), "in is silent");
  EXPECT_HAS(watch.playing_line(), "off");
}

TEST(Watch, KeysFreezeKeepAndMark) {
  std::vector<WatchKept> kept;
  WatchHooks hooks{[&](const WatchKept& one) {
                     kept.push_back(one);
                     return std::string("watched-1.wav");
                   },
                   [](const std::vector<Sheet>&, const Picture&) { return std::string("watched-2.png"); }};
  WatchOptions options = viewing(WatchView::harmonics);
  options.keep_s = 2;
  Watch watch(played([](int, double n) { return 0.1 * wave(997, n) + 1e-3 * wave(2991, n); }), options,
              hooks);
  watch.press('k');
  EXPECT_HAS(screen(watch), "not enough yet");
  pass(watch, 4);
  watch.press('k');
  ASSERT_EQ(kept.size(), 1u);
  EXPECT_EQ(kept[0].captures.at(0).second.frames(), 96000);
  EXPECT_NEAR(value(kept[0].figures, "thd_db"), -40, 0.01);
  EXPECT_HAS(screen(watch), "kept: watched-1.wav");
  watch.press('m');
  type(watch, "switch on");
  watch.press('p');
  watch.press('f');
  const double at_s = watch.figures().at_s;
  pass(watch, 2);
  EXPECT_EQ(watch.figures().at_s, at_s);
  EXPECT_HAS(screen(watch), "FROZEN");
  watch.press('f');
  pass(watch, 1);
  EXPECT_GT(watch.figures().at_s, at_s);
  ASSERT_EQ(watch.kept().size(), 3u);
  EXPECT_HAS(watch.kept()[1], "switch on: 997.000 Hz");
  EXPECT_HAS(watch.kept()[2], "watched-2.png");
  watch.press('1');
  watch.press('r');
  EXPECT_HAS(screen(watch), "reference 7 s");
  watch.press('?');
  EXPECT_HAS(screen(watch), "which lines are in it?");
  watch.press('q');
  EXPECT_TRUE(watch.quits());
}

TEST(Watch, RoundTripsAreReadFromMarks) {
  Recipe recipe = recipe_to_play("marks", 48000);
  const auto marks = std::make_shared<Stimulus>(recipe);
  auto generator = std::make_shared<Generator>(
      GeneratorOptions{.name = "marks", .level_dbfs = -12, .loop = loop_of(*marks)});
  EXPECT_EQ(generator->loop_frames(), 96000);
  WatchOptions options = viewing(WatchView::round_trip);
  options.marks = marks;
  Watch watch(generator_through(generator, {"sim:heron?delay=261.4&noise=-100"}, {}, 15), options);
  pass(watch, 1);
  EXPECT_HAS(screen(watch), "the first answer takes two");
  pass(watch, 10);
  EXPECT_NEAR(value(watch.figures(), "latency_samples"), 261.4, 0.05);
  EXPECT_HAS(screen(watch), "5 of 5 came back");
}

TEST(Watch, WaitsForAReading) {
  WatchOptions options = viewing(WatchView::harmonics);
  options.until = parse_limit("thd_db>-50");
  // The third harmonic comes after four seconds.
  Watch watch(played([](int, double n) {
                return 0.1 * wave(997, n) + (n > 4 * 48000 ? 1e-3 : 1e-6) * wave(2991, n);
              }),
              options);
  pass(watch, 3.5);
  EXPECT_FALSE(watch.reached());
  pass(watch, 3);
  ASSERT_TRUE(watch.reached());
  EXPECT_GE(watch.reached()->at_s, 4);
  EXPECT_LE(watch.reached()->at_s, 5.6);
  EXPECT_GT(*watch.reached()->result.value, -50);
}

// From sound to screen, at 25 frames a second: a meter shows a tone before it is 100 ms old. The spectrum's
// window rises from nothing: what is newest counts little, and a tone is named a frame later.
TEST(Watch, ShowsWhatComesInWithinATenthOfASecond) {
  const auto shown_after_s = [](WatchView view, const std::string& text) {
    WatchOptions options = viewing(view);
    options.figures_each_s = 0;
    Watch watch(played([](int, double n) { return n < 96000 ? 0.0 : 0.1 * wave(997, n); }), options);
    while (watch.now_s() < 2) watch.advance(0.04);
    int frames = 0;
    for (; screen(watch).find(text) == std::string::npos && frames < 100; ++frames) watch.advance(0.04);
    return frames * 0.04;
  };
  EXPECT_LE(shown_after_s(WatchView::levels, "-20.0"), 0.1);
  EXPECT_LE(shown_after_s(WatchView::spectrum, "tone"), 0.13);
}

TEST(Watch, TellsWhenOnly16BitsComeIn) {
  const auto rounded = [](double v) { return std::round(32768 * v) / 32768; };
  Watch coarse(played([&](int, double n) { return rounded(0.1 * wave(997, n) + 1e-4 * rough(n)); }),
               viewing(WatchView::levels));
  pass(coarse, 3);
  EXPECT_HAS(coarse.health_line(), "only 16 of the 32 bits are used");
  Watch fine(played([](int, double n) { return 0.1 * wave(997, n) + 1e-4 * rough(n); }),
             viewing(WatchView::levels));
  pass(fine, 3);
  EXPECT_EQ(fine.health_line().find("16 bits"), std::string::npos);
}

// A figure that the measurement itself doubts, and one that there is not.
TEST(Watch, SaysWhatSpeaksAgainstItsFigures) {
  Watch broken(played([](int, double n) {
                 const bool gone = n > 100000 && n < 100500;
                 return gone ? 0.0 : 0.1 * wave(997, n) + 1e-4 * rough(n);
               }),
               viewing(WatchView::levels));
  pass(broken, 2.5);
  EXPECT_HAS(broken.health_line(), "dropout");
  Watch silent(played([](int, double) { return 0.0; }), viewing(WatchView::spectrum));
  pass(silent, 2);
  EXPECT_HAS(silent.figures().answer, "every sample is zero");
  EXPECT_HAS(screen(silent), "every sample is zero");
}

TEST(Watch, SaysWhatIsWrong) {
  Watch silent(played([](int, double) { return 0.0; }), viewing(WatchView::levels));
  pass(silent, 3);
  EXPECT_HAS(silent.health_line(), "capture.wav is silent");
  Watch clipped(played([](int, double n) { return std::clamp(2 * wave(997, n), -1.0, 1.0); }),
                viewing(WatchView::levels));
  pass(clipped, 3);
  EXPECT_HAS(clipped.health_line(), "at full scale");
  Watch early(played([](int, double n) { return wave(997, n); }), viewing(WatchView::harmonics));
  EXPECT_HAS(screen(early), "listening");
  // Odd sizes of a terminal, and one that knows ASCII alone.
  for (const WatchViewInfo& info : watch_views())
    for (const auto& [width, height] : {std::pair(1, 1), {10, 3}, {30, 8}, {80, 24}, {120, 40}, {400, 120}}) {
      Watch any(played([](int c, double n) { return 0.1 * wave(997 + c, n); }, 2), viewing(info.view));
      pass(any, 1.5);
      (void)any.draw(width, height);
      const Canvas ascii = any.draw(width, height, true);
      for (int y = 0; y < ascii.height(); ++y)
        for (int x = 0; x < ascii.width(); ++x) ASSERT_LT(ascii.at(x, y).glyph, 128u);
    }
  EXPECT_THROW(Watch(played([](int, double) { return 0.0; }), viewing(WatchView::levels, 0)), Error);
  EXPECT_THROW((void)watch_view("spectra"), Error);
  EXPECT_THROW((void)play_recordings({}, 1), Error);
  EXPECT_THROW((void)play_recordings({{"a", std::make_shared<Formula>(48000, 1, 1, nullptr)},
                                      {"b", std::make_shared<Formula>(44100, 1, 1, nullptr)}},
                                     1),
               Error);
}

// Edges: NaN, 0 frames, 64 channels, 768 kHz.
TEST(Watch, TakesWhatComes) {
  Watch broken(played([](int, double n) { return n == 60000 ? std::nan("") : 0.1 * wave(997, n); }),
               viewing(WatchView::harmonics));
  pass(broken, 1.8);
  EXPECT_HAS(broken.figures().answer + broken.health_line(), "NaN");
  pass(broken, 3);
  EXPECT_NEAR(value(broken.figures(), "fundamental_dbfs"), -20, 0.01);
  Watch empty(played([](int, double) { return 0.0; }, 1, 0), viewing(WatchView::spectrum));
  pass(empty, 1);
  EXPECT_HAS(screen(empty), "listening");
  Watch wide(played([](int c, double n) { return 0.01 * (c + 1) * wave(997, n); }, 64, 3),
             viewing(WatchView::levels));
  pass(wide, 1.5);
  EXPECT_NEAR(value(wide.figures(), "peak_dbfs", 63), 20 * std::log10(0.64), 0.01);
  Watch fast(played([](int, double n) { return 0.1 * wave(997, n, 768000); }, 1, 3, 768000),
             viewing(WatchView::harmonics, 0.5));
  pass(fast, 1.5);
  EXPECT_NEAR(value(fast.figures(), "fundamental_hz"), 997, 0.01);
}

std::size_t resident_bytes() {
  std::size_t whole = 0, resident = 0;
  std::ifstream("/proc/self/statm") >> whole >> resident;
  return resident * static_cast<std::size_t>(::sysconf(_SC_PAGESIZE));
}

// An hour by a fast clock: what is held does not grow.
TEST(Watch, AnHourTakesNoMoreThanAMinute) {
  WatchOptions options = viewing(WatchView::harmonics, 0.5);
  options.transform = 1024;
  options.figures_each_s = 5;
  Watch watch(played([](int, double n) { return 0.1 * wave(997, n, 8000) + 1e-5 * rough(n); }, 1, 3700, 8000),
              options);
  const auto minutes = [&](int count) {
    for (int i = 0; i < count * 60 * 25; ++i) watch.advance(0.04);
    (void)watch.draw(120, 40);
  };
  minutes(3);
  const std::size_t before = resident_bytes();
  minutes(57);
  EXPECT_LT(resident_bytes(), before + (std::size_t{2} << 20));
  EXPECT_NEAR(watch.now_s(), 3600, 0.1);
}

}  // namespace
}  // namespace wavicon::watch_test
