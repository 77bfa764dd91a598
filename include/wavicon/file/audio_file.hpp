// SPDX-License-Identifier: MIT
#pragma once
// Audio files: read whole or in blocks, written whole or not at all. WAV (RF64 beyond 4 GiB), AIFF and FLAC
// are written; what libsndfile reads is read.

#include <cstdint>
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "wavicon/audio/audio.hpp"
#include "wavicon/audio/export.hpp"
#include "wavicon/audio/sample_format.hpp"
#include "wavicon/audio/source.hpp"

namespace wavicon {

/// A named place in a file.
struct CueMark {
  std::int64_t frame = 0;
  std::string name;
};

struct AudioFileInfo {
  std::filesystem::path path;
  std::string container;  ///< "WAV", "AIFF", "FLAC", …
  SampleFormat format = SampleFormat::pcm24;
  double sample_rate_hz = 0;
  int channel_count = 0;
  std::int64_t frames = 0;
  std::string recipe;                            ///< text of the recipe that the file carries; empty for none
  std::vector<CueMark> cues;                     ///< in file order
  std::optional<std::int64_t> reported_samples;  ///< latency that what recorded it reported, and left in
  std::vector<std::string> chain;  ///< units that it went through, one after the other; empty: not known
  std::string encoding;      ///< of samples that are neither integers nor floats: "8-bit µ-law"; else empty
  std::string cut_off;       ///< what the header announces and the file does not hold; empty for a whole file
  std::string broken_chunk;  ///< what beside the sound cannot be read, and why, as a sentence; empty: nothing
};

/// What to do with a file that ends before what its header announces.
enum class CutOff {
  refused,
  accepted,  ///< AudioFileInfo::cut_off says so; what it holds is read
};

/// A file opened for reading, from its first frame on.
class WAVICON_EXPORT AudioReader {
 public:
  /// @throws Error bad_input when there is no such file, or it is a folder, empty, no audio file, ends
  /// before what its header announces, or exceeds a bound of wavicon/file/limits.hpp.
  explicit AudioReader(const std::filesystem::path& path, CutOff cut_off = CutOff::refused);
  ~AudioReader();
  AudioReader(AudioReader&&) noexcept;
  AudioReader& operator=(AudioReader&&) noexcept;

  [[nodiscard]] const AudioFileInfo& info() const noexcept;
  /// Next frames, interleaved, full scale ±1 (integer samples exactly).
  ///
  /// @param interleaved  a whole number of frames; filled from the start.
  /// @return             frames read; fewer than asked only at the end.
  /// @throws Error bad_input when the file cannot be decoded on, with the frame.
  std::int64_t read(std::span<double> interleaved);
  std::int64_t read(std::span<float> interleaved);
  /// The same of integers, full scale 2^31: what the file holds, however many bits.
  /// @throws Error bad_argument unless is_integer(info().format) and info().encoding is empty, else as above.
  std::int64_t read(std::span<std::int32_t> interleaved);
  /// The next read() begins at this frame, 0 … frames.
  void seek(std::int64_t frame);

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

/// Called after each read with how far into the file it came, 0 … 1, on the thread that reads. What it throws
/// ends the read, and with it the measurement.
using ReadWatch = std::function<void(double part)>;

/// A file as a source: any stretch of it, decoded when it is asked for.
class WAVICON_EXPORT FileSource : public AudioSource {
 public:
  /// @throws Error bad_input as AudioReader, or for a file of 0 frames.
  explicit FileSource(const std::filesystem::path& path, CutOff cut_off = CutOff::refused,
                      ReadWatch watch = {});
  [[nodiscard]] const AudioFileInfo& info() const noexcept { return reader_.info(); }
  [[nodiscard]] double sample_rate_hz() const noexcept override { return info().sample_rate_hz; }
  [[nodiscard]] int channel_count() const noexcept override { return info().channel_count; }
  [[nodiscard]] std::int64_t frames() const noexcept override { return info().frames; }
  void read(std::int64_t first_frame, std::span<double> planar) override;

 private:
  template <typename Sample>
  void read_sorted(std::int64_t from, std::int64_t to, std::vector<Sample>& interleaved, double* planar,
                   std::size_t length);
  void tell() const;

  AudioReader reader_;
  ReadWatch watch_;
  std::int64_t next_frame_ = 0;
  std::vector<double> interleaved_;
  std::vector<std::int32_t> integers_;
};

struct AudioFile {
  AudioFileInfo info;
  Audio audio;
};

/// The whole file in memory. @throws Error bad_input as AudioReader, or for a file of 0 frames.
[[nodiscard]] WAVICON_EXPORT AudioFile read_audio_file(const std::filesystem::path& path);

/// The whole file, a run for each channel, as plugins and servers take it. @throws Error bad_input as
/// AudioReader.
[[nodiscard]] WAVICON_EXPORT std::vector<std::vector<float>> read_planar(const std::filesystem::path& path);

struct AudioWriteOptions {
  double sample_rate_hz = 48000;
  int channel_count = 1;
  SampleFormat format = SampleFormat::pcm24;     ///< pcm16, pcm24 or float32; FLAC holds integers only
  bool dither = false;                           ///< TPDF, integer formats only
  std::uint64_t seed = 1;                        ///< of the dither
  std::int64_t frames = 0;                       ///< expected, to choose RF64 for large files
  std::string recipe;                            ///< kept inside the file
  std::vector<CueMark> cues;                     ///< WAV and AIFF; FLAC holds none
  std::string description;                       ///< WAV: origin field of the broadcast extension
  std::optional<std::int64_t> reported_samples;  ///< kept inside the file, as AudioFileInfo has it
  std::vector<std::string> chain;                ///< kept inside the file: a line for each unit
};

/// What the format could not hold.
struct ClippedSamples {
  std::int64_t count = 0;
  std::int64_t first_frame = 0;
};

/// A file being written; it gets its name at finish() and is gone when that is never called. The same samples
/// and options give the same bytes.
class WAVICON_EXPORT AudioWriter {
 public:
  /// The container follows the name's ending: .wav, .aif, .aiff, .flac.
  ///
  /// @throws Error bad_argument for an unknown ending, or a rate, format or channel count that the container
  /// does not hold, with what to do
  /// @throws Error bad_output   when the file cannot be made
  AudioWriter(const std::filesystem::path& path, const AudioWriteOptions& options);
  ~AudioWriter();
  AudioWriter(AudioWriter&&) noexcept;
  AudioWriter& operator=(AudioWriter&&) noexcept;

  /// Appends frames, interleaved. @throws Error write_failed when the disk takes no more.
  void write(std::span<const double> interleaved);
  void write(std::span<const float> interleaved);
  /// AudioWriteOptions::reported_samples, when it is known at the end only. FLAC holds what the options said.
  void set_reported_samples(std::int64_t samples);
  /// Closes the file and gives it its name. @throws Error write_failed.
  void finish();
  [[nodiscard]] ClippedSamples clipped() const noexcept;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

/// Appends a run for each channel, all of the same length. @throws Error write_failed as
/// AudioWriter::write().
WAVICON_EXPORT void write_planar(AudioWriter& writer, const std::vector<std::vector<float>>& runs);

/// @throws Error as AudioWriter.
WAVICON_EXPORT ClippedSamples write_audio_file(const std::filesystem::path& path, const Audio& audio,
                                               AudioWriteOptions options);

}  // namespace wavicon
