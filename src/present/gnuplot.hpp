// SPDX-License-Identifier: MIT
#pragma once
// The way to gnuplot and the look that all our pictures share. Internal to `present`.

#include <string>
#include <utility>
#include <vector>

#include "wavicon/present/plot.hpp"

namespace wavicon::present_detail {

// Paper, ink and four marks that stay apart in grey and for colour-blind eyes: dark, middle, light, and one
// warm accent.
inline constexpr const char* kPaper = "#fbfaf7";
inline constexpr const char* kInk = "#2b2b28";
inline constexpr const char* kGrid = "#dcd8cf";
inline constexpr const char* kMain = "#14506b";
inline constexpr const char* kQuiet = "#b3a894";
inline constexpr const char* kMuted = "#6f675a";
inline constexpr const char* kAccent = "#b4431c";

/// A gnuplot string that shows a text: the one place where text comes into a script. All but letters, digits
/// and a few signs are written as octal escapes, so no text can end the string or be taken for a command.
[[nodiscard]] std::string literal(const std::string& text);
/// Terminal, colours and fonts.
[[nodiscard]] std::string preamble(const PlotOptions& options);
/// A text of at most so many letters, "…" in its middle where it had more.
[[nodiscard]] std::string shortened(const std::string& text, std::size_t most);
/// The answer as a title, in two lines where it is long, and below it what is drawn, of which files.
///
/// @param answer  empty: what the first finding of a single sheet says, else `drawn`.
[[nodiscard]] std::string titles(const std::vector<Sheet>& sheets, const std::string& answer,
                                 const std::string& drawn, const PlotOptions& options);
/// The same for several panels, behind "set multiplot": what the only sheet says, and of which file.
[[nodiscard]] std::string overall_title(const std::vector<Sheet>& sheets, const std::string& drawn,
                                        const PlotOptions& options);
/// A named block of numbers, one pair per line.
[[nodiscard]] std::string data_block(const std::string& name,
                                     const std::vector<std::pair<double, double>>& points);
/// The points of a curve, x times a factor.
[[nodiscard]] std::string data_block(const std::string& name, const Curve& curve, double x_factor = 1);
/// The band-limited curve through evenly spaced samples: a windowed sinc of 12 samples to each side. Curves
/// of other spacing, and those of more than 2000 samples, stay as they are.
[[nodiscard]] Curve between_samples(const Curve& curve);
/// Log frequency axis from `low_hz` to `high_hz` with the ticks that a studio is used to: 20, 50, 100 … 20k.
[[nodiscard]] std::string frequency_axis(double low_hz, double high_hz);
/// Runs a script, its colours turned for dark paper where the options ask for it; what it writes to standard
/// output. @throws Error bad_output with gnuplot's own words.
[[nodiscard]] std::string run_gnuplot(const std::string& script, const PlotOptions& options);
/// A colour between two, as "#rrggbb". @param share  0: the first, 1: the second.
[[nodiscard]] std::string shade(const char* from, const char* to, double share);

}  // namespace wavicon::present_detail
