#pragma once
// What the parts of the command `harmonics` share: a tone, a staircase of tones, or several tones at once.

#include "capture.hpp"
#include "wavicon/measure/harmonics.hpp"

namespace wavicon::cli {

struct Harmonics {
  SheetOptions sheet;
  IntakeOptions intake;
  HarmonicsOptions options;
  std::vector<double> band_hz;
  std::string reference;
  std::string draw = "spectrum";
};

/// The options with the capture's format and what the user said about the band.
[[nodiscard]] HarmonicsOptions options_for(const Harmonics& command, const Capture& capture);
/// A stretch of the capture, or the one channel of it that was asked for.
[[nodiscard]] Audio selected(const Harmonics& command, Capture& capture, std::int64_t first,
                             std::int64_t frames);
/// Numbers what was read of the one channel that was asked for as that channel.
void renumber(const Harmonics& command, Sheet& sheet);

/// Harmonics of every step of a staircase: prints, and returns the exit status.
int run_ladder(const Harmonics& command, Capture& capture, const PlacedPart& part);
/// Levels and products of a part that is a pair of tones or a multitone.
[[nodiscard]] Sheet measure_tones(const Harmonics& command, Capture& capture, const PlacedPart& part);

}  // namespace wavicon::cli
