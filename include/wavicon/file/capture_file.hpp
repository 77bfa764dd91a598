// SPDX-License-Identifier: MIT
#pragma once
// Captures and stimuli as files: the way of a file through the gate.

#include <filesystem>
#include <memory>
#include <string>

#include "wavicon/audio/export.hpp"
#include "wavicon/audio/sink.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/intake/judged_capture.hpp"
#include "wavicon/stimulus/recipe.hpp"

namespace wavicon {

/// What a sheet says of the file that was measured.
[[nodiscard]] WAVICON_EXPORT CaptureInfo capture_info(const AudioFileInfo& info);

/// The recipe of a file: a text in TOML, or the recipe that an audio file carries.
///
/// @param rule  as parse_recipe(). @throws Error bad_input naming file, line and column, or that it carries
/// none.
[[nodiscard]] WAVICON_EXPORT Recipe read_recipe(const std::filesystem::path& path, const PartRule& rule = {});

/// The stimulus of the recipe inside an audio file; null when it carries none. @throws Error bad_input for a
/// broken one.
[[nodiscard]] WAVICON_EXPORT std::shared_ptr<Stimulus> stimulus_inside(const AudioFileInfo& info);

/// Opens a file, looks for what was played in it, and lets it through or not.
///
/// @param stimulus  what was played; null for the recipe inside the file.
/// @param watch     as FileSource: while it is judged, and whenever it is measured.
/// @throws Error as AudioReader, stimulus_inside() and judge(). A file that is cut off is a fault like
/// others.
[[nodiscard]] WAVICON_EXPORT JudgedCapture judge_file(const std::filesystem::path& path,
                                                      const GatePolicy& policy = {},
                                                      std::shared_ptr<Stimulus> stimulus = nullptr,
                                                      ReadWatch watch = {});

/// A file as a sink, 32-bit float; it gets its name at finish(). @throws Error as AudioWriter.
[[nodiscard]] WAVICON_EXPORT std::unique_ptr<AudioSink> file_sink(const std::filesystem::path& path,
                                                                  const SinkShape& shape);

}  // namespace wavicon
