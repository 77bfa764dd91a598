// SPDX-License-Identifier: MIT
#pragma once
// The kinds of part that a stimulus is made of, as plain data. Each kind lists its settings once, in
// fields(): recipes, the command line and the manual are all made from that list.

#include <cstdint>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "wavicon/audio/export.hpp"

namespace wavicon {

/// A steady sine, clipped on purpose when clip_db is above 0.
struct Tone {
  double frequency_hz = 997;
  double level_dbfs = -20;
  double phase_deg = 0;
  double seconds = 1;
  double fade_in_s = 0;
  double fade_out_s = 0;
  double clip_db = 0;  ///< the sine is this much higher than level_dbfs and cut there
};

/// One sine of a multitone; frequency and level (in dB) change linearly where an end is given.
struct Oscillator {
  double frequency_hz = 1000;
  std::optional<double> to_hz;
  double level_dbfs = -20;
  std::optional<double> to_dbfs;
  double phase_deg = 0;
  double delay_s = 0;  ///< silent until then; phase and changes start there
};

/// Any number of sines at once.
struct Multitone {
  std::vector<Oscillator> oscillators;
  double seconds = 1;
  double fade_in_s = 0;
  double fade_out_s = 0;
};

/// Two sines for intermodulation; level_dbfs is the peak of their sum.
struct TwoTone {
  std::string pair = "own";  ///< "own": as the next three say; else the pair of a standard
  double lower_hz = 60;
  double upper_hz = 7000;
  double ratio = 4;  ///< amplitude of the lower over the upper
  double level_dbfs = -10;
  double seconds = 1;
  double fade_in_s = 0;
  double fade_out_s = 0;
};

/// A sine whose frequency runs from one value to another.
struct Sweep {
  double from_hz = 18;
  double to_hz = 22000;
  double seconds = 10;        ///< of one way
  std::string law = "log";    ///< "log", "linear"
  bool return_trip = false;   ///< there and back: twice as long
  bool synchronised = false;  ///< log only: length moved so that every harmonic's response starts in phase
  double level_dbfs = -10;
  std::optional<double> to_dbfs;  ///< level at the end, changing linearly in dB
  double fade_in_s = 0.01;
  double fade_out_s = 0.01;
};

/// Gaussian noise, or with a period one stretch of it over and over.
struct Noise {
  std::string colour = "white";  ///< "white", "pink"
  double from_hz = 0;            ///< band; 0 and none: all there is
  std::optional<double> to_hz;
  std::optional<double> octave_hz;  ///< the octave band of this nominal centre instead
  std::optional<double> third_octave_hz;
  std::optional<double>
      period_s;  ///< repeats, amplitudes exactly those of the colour (noise_period_frames())
  double level_dbfs = -20;
  std::string level_as = "rms";  ///< "rms" (full scale = 1), "peak"
  double seconds = 5;
  std::int64_t seed = 1;
  bool independent = false;  ///< another noise on each channel
  double fade_in_s = 0;
  double fade_out_s = 0;
};

/// A carrier switched on and off.
struct Burst {
  std::variant<Tone, Sweep, Noise> carrier;  ///< its seconds and fades do not count
  double on_s = 0.05;
  double gap = 4;  ///< silence after each burst, in multiples of on_s
  std::int64_t count = 5;
  double edge_s = 0;  ///< raised cosine at both ends, within on_s
};

/// A tone at each of a list of frequencies, at each of a list of levels.
struct Staircase {
  std::vector<double> frequencies_hz = {997};
  std::vector<double> levels_dbfs = {-60, -50, -40, -30, -20, -10};
  std::vector<double> trims_db;  ///< one for each frequency, added to its levels; none: 0
  double step_s = 0.5;
  double gap_s = 0;
  double edge_s = 0.002;           ///< raised cosine at both ends of a step, within step_s
  std::vector<double> starts_s;    ///< of each step, from the start of the part; none: one after the other
  std::vector<double> lengths_s;   ///< of each step; none: step_s
  std::vector<double> phases_deg;  ///< at the start of each step; none: 0
};

/// A tone that steps from low to high and back, each at a rising zero crossing, or where it is told.
struct LevelBlock {
  double frequency_hz = 997;
  double low_dbfs = -40;
  double high_dbfs = -10;
  double low_s = 0.5;
  double high_s = 0.5;
  double after_s = 1;  ///< at the low level again
  double phase_deg = 0;
  bool exact = false;  ///< steps at low_s and high_s, wherever the wave is then
};

/// One sample at a level, the rest silent.
struct Impulse {
  double level_dbfs = -6;
  bool negative = false;
  double seconds = 1;
};

struct Silence {
  double seconds = 1;
};

/// On channel n, and on no other at that time, n short tones.
struct ChannelNumbers {
  double frequency_hz = 661;
  double level_dbfs = -20;
  double beep_s = 0.1;
  double gap_s = 0.1;
};

/// Made-up programme: what is no test signal, and still the same bytes every time.
struct Programme {
  std::string content = "voice";  ///< "voice": syllables in phrases with pauses; "chamber": plucked chords
  double level_dbfs = -24;        ///< RMS of its first eight seconds, full scale = 1
  double seconds = 10;
  std::int64_t seed = 1;
  double fade_in_s = 0.01;
  double fade_out_s = 0.05;
};

using PartKind = std::variant<Tone, Multitone, TwoTone, Sweep, Noise, Burst, Staircase, LevelBlock, Impulse,
                              Silence, ChannelNumbers, Programme>;

/// What may be written for a number.
struct Range {
  double low = 0;
  double high = 0;
  enum class Limit {
    fixed,
    below_half_rate
  } limit = Limit::fixed;  ///< below_half_rate: above low, below half the sample rate
};

inline constexpr double kLongestS = 24 * 3600;
inline constexpr Range kFrequency{0, 0, Range::Limit::below_half_rate};
inline constexpr Range kLevel{-200, 60};
inline constexpr Range kPhase{-360, 360};
inline constexpr Range kLength{1e-6, kLongestS};
inline constexpr Range kTime{0, kLongestS};
inline constexpr Range kTrim{-200, 200};

/// Calls the visitor for each setting: visit(key, member, range or list of words, what it is).
template <typename Visitor>
void fields(Tone& p, Visitor& visit) {
  visit("frequency_hz", p.frequency_hz, kFrequency, "of the sine");
  visit("level_dbfs", p.level_dbfs, kLevel, "of the peak");
  visit("phase_deg", p.phase_deg, kPhase, "at the start; 0 is a rising zero crossing");
  visit("seconds", p.seconds, kLength, "length, fades included");
  visit("fade_in_s", p.fade_in_s, kTime, "raised cosine at the start");
  visit("fade_out_s", p.fade_out_s, kTime, "raised cosine at the end");
  visit("clip_db", p.clip_db, Range{0, 120},
        "clip on purpose: the sine is this much higher and cut at the level");
}

template <typename Visitor>
void fields(Oscillator& p, Visitor& visit) {
  visit("frequency_hz", p.frequency_hz, kFrequency, "of the sine, at the start");
  visit("to_hz", p.to_hz, kFrequency, "at the end, changing linearly");
  visit("level_dbfs", p.level_dbfs, kLevel, "of the peak, at the start");
  visit("to_dbfs", p.to_dbfs, kLevel, "at the end, changing linearly in dB");
  visit("phase_deg", p.phase_deg, kPhase, "at the start");
  visit("delay_s", p.delay_s, kTime, "silent until then");
}

template <typename Visitor>
void fields(Multitone& p, Visitor& visit) {
  visit("oscillators", p.oscillators, "a list of tables, one for each sine");
  visit("seconds", p.seconds, kLength, "length, fades included");
  visit("fade_in_s", p.fade_in_s, kTime, "raised cosine at the start");
  visit("fade_out_s", p.fade_out_s, kTime, "raised cosine at the end");
}

template <typename Visitor>
void fields(TwoTone& p, Visitor& visit) {
  visit("pair", p.pair, std::vector<std::string>{"own", "smpte", "din", "itu"},
        "as lower_hz, upper_hz and ratio say, or the pair of a standard in their place");
  visit("lower_hz", p.lower_hz, kFrequency, "lower frequency");
  visit("upper_hz", p.upper_hz, kFrequency, "upper frequency");
  visit("ratio", p.ratio, Range{0.001, 1000}, "amplitude of the lower over the upper");
  visit("level_dbfs", p.level_dbfs, kLevel, "peak of the sum");
  visit("seconds", p.seconds, kLength, "length, fades included");
  visit("fade_in_s", p.fade_in_s, kTime, "raised cosine at the start");
  visit("fade_out_s", p.fade_out_s, kTime, "raised cosine at the end");
}

template <typename Visitor>
void fields(Sweep& p, Visitor& visit) {
  visit("from_hz", p.from_hz, kFrequency, "frequency at the start; above to_hz for a falling sweep");
  visit("to_hz", p.to_hz, kFrequency, "frequency at the end");
  visit("seconds", p.seconds, kLength, "length of one way, fades included");
  visit("law", p.law, std::vector<std::string>{"log", "linear"}, "how the frequency changes");
  visit("return_trip", p.return_trip, "there and back: twice as long");
  visit("synchronised", p.synchronised, "log: length moved so that harmonic responses separate in phase too");
  visit("level_dbfs", p.level_dbfs, kLevel, "of the peak, at the start");
  visit("to_dbfs", p.to_dbfs, kLevel, "at the end, changing linearly in dB");
  visit("fade_in_s", p.fade_in_s, kTime, "raised cosine at the start");
  visit("fade_out_s", p.fade_out_s, kTime, "raised cosine at the end");
}

template <typename Visitor>
void fields(Noise& p, Visitor& visit) {
  visit("colour", p.colour, std::vector<std::string>{"white", "pink"},
        "density level, or falling by 3.01 dB per octave");
  visit("from_hz", p.from_hz, Range{0, 384000}, "lower end of the band");
  visit("to_hz", p.to_hz, Range{0, 384000}, "upper end of the band");
  visit("octave_hz", p.octave_hz, Range{1, 384000},
        "octave band of this nominal centre, instead of from_hz and to_hz");
  visit("third_octave_hz", p.third_octave_hz, Range{1, 384000}, "third-octave band of this nominal centre");
  visit("period_s", p.period_s, Range{0.05, 10},
        "repeats after so long, moved to a power of two of frames: each period measures the same");
  visit("level_dbfs", p.level_dbfs, kLevel, "as level_as says");
  visit("level_as", p.level_as, std::vector<std::string>{"rms", "peak"}, "rms: full scale = 1");
  visit("seconds", p.seconds, kLength, "length, fades included");
  visit("seed", p.seed, Range{0, 9e15}, "of the random numbers");
  visit("independent", p.independent, "another noise on each channel");
  visit("fade_in_s", p.fade_in_s, kTime, "raised cosine at the start");
  visit("fade_out_s", p.fade_out_s, kTime, "raised cosine at the end");
}

template <typename Visitor>
void fields(Burst& p, Visitor& visit) {
  visit("carrier", p.carrier, "a table with a kind: tone, sweep or noise");
  visit("on_s", p.on_s, kLength, "length of one burst, edges included");
  visit("gap", p.gap, Range{0, 1e6}, "silence after each burst, in multiples of on_s");
  visit("count", p.count, Range{1, 1e6}, "bursts");
  visit("edge_s", p.edge_s, kTime, "raised cosine at both ends of a burst");
}

template <typename Visitor>
void fields(Staircase& p, Visitor& visit) {
  visit("frequencies_hz", p.frequencies_hz, kFrequency, "every frequency is played at every level");
  visit("levels_dbfs", p.levels_dbfs, kLevel, "of the peaks");
  visit("trims_db", p.trims_db, kTrim, "one for each frequency, added to its levels");
  visit("step_s", p.step_s, kLength, "length of a step, edges included");
  visit("gap_s", p.gap_s, kTime, "silence after each step");
  visit("edge_s", p.edge_s, kTime, "raised cosine at both ends of a step");
  visit("starts_s", p.starts_s, kTime,
        "of each step, from the start of the part (default: one after the other)");
  visit("lengths_s", p.lengths_s, kLength, "of each step (default: step_s)");
  visit("phases_deg", p.phases_deg, kPhase, "at the start of each step (default: 0)");
}

template <typename Visitor>
void fields(LevelBlock& p, Visitor& visit) {
  visit("frequency_hz", p.frequency_hz, kFrequency, "of the sine");
  visit("low_dbfs", p.low_dbfs, kLevel, "peak before and after");
  visit("high_dbfs", p.high_dbfs, kLevel, "peak in the middle");
  visit("low_s", p.low_s, kLength, "low at the start, moved to whole cycles");
  visit("high_s", p.high_s, kLength, "high, moved to whole cycles");
  visit("after_s", p.after_s, kLength, "low at the end");
  visit("phase_deg", p.phase_deg, kPhase, "at the start");
  visit("exact", p.exact, "low_s and high_s are not moved to whole cycles");
}

template <typename Visitor>
void fields(Impulse& p, Visitor& visit) {
  visit("level_dbfs", p.level_dbfs, kLevel, "of the one sample");
  visit("negative", p.negative, "downwards");
  visit("seconds", p.seconds, kLength, "length, mostly silent");
}

template <typename Visitor>
void fields(Silence& p, Visitor& visit) {
  visit("seconds", p.seconds, kLength, "length");
}

template <typename Visitor>
void fields(ChannelNumbers& p, Visitor& visit) {
  visit("frequency_hz", p.frequency_hz, kFrequency, "of the tones");
  visit("level_dbfs", p.level_dbfs, kLevel, "of the peak");
  visit("beep_s", p.beep_s, kLength, "length of a tone");
  visit("gap_s", p.gap_s, kLength, "silence after each tone, and twice after each channel");
}

template <typename Visitor>
void fields(Programme& p, Visitor& visit) {
  visit("content", p.content, std::vector<std::string>{"voice", "chamber"},
        "syllables in phrases with pauses, or plucked chords");
  visit("level_dbfs", p.level_dbfs, kLevel, "RMS of its first eight seconds, full scale = 1");
  visit("seconds", p.seconds, kLength, "length, fades included");
  visit("seed", p.seed, Range{0, 9e15}, "of what is said or played");
  visit("fade_in_s", p.fade_in_s, kTime, "raised cosine at the start");
  visit("fade_out_s", p.fade_out_s, kTime, "raised cosine at the end");
}

/// The frequencies and the ratio that are played. Sources: SMPTE RP 120 (60 and 7000 Hz, 4:1), DIN 45403 (250
/// and 8000 Hz, 4:1), ITU-R twin tone (19 and 20 kHz, 1:1), all to verify.
[[nodiscard]] WAVICON_EXPORT TwoTone resolved(const TwoTone& pair);

/// Frames after which the noise repeats: the power of two that is nearest to its period; 0 when it does not.
[[nodiscard]] WAVICON_EXPORT std::int64_t noise_period_frames(const Noise& noise, double sample_rate_hz);

/// "tone", "multitone", "two_tone", …: the word in recipes.
[[nodiscard]] WAVICON_EXPORT std::string kind_name(const PartKind& kind);
/// Every word, in the order of PartKind.
[[nodiscard]] WAVICON_EXPORT const std::vector<std::string>& kind_names();
/// The kind of that word with its defaults; none for another word.
[[nodiscard]] WAVICON_EXPORT std::optional<PartKind> kind_from_name(const std::string& name);

}  // namespace wavicon
