// SPDX-License-Identifier: MIT
#include "wavicon/file/audio_file.hpp"

#include <fmt/format.h>
#include <sndfile.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <cstring>
#include <vector>

#include "audio/wide.hpp"
#include "chunks.hpp"
#include "disk.hpp"
#include "read_in_pieces.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/file/limits.hpp"
#include "wavicon/file/output_file.hpp"

namespace wavicon {
namespace {

namespace fs = std::filesystem;

struct CloseSound {
  void operator()(SNDFILE* file) const noexcept { sf_close(file); }
};
using Sound = std::unique_ptr<SNDFILE, CloseSound>;

constexpr std::int64_t kBlockFrames = 8192;
constexpr std::size_t kPieceFrames = 1024;  // decoded at once: what stays in the fastest cache
constexpr const char* kFactsHeading = "wavicon capture\n";
constexpr const char* kRecipeHeading = "wavicon recipe\n";   // first line of a FLAC comment that holds one
constexpr double kLargestWavBytes = 4294967295.0 - 65536.0;  // 32-bit sizes, with room for the other chunks

Error input_error(const fs::path& path, const std::string& what) {
  return Error(ErrorCode::bad_input, fmt::format("{}: {}", path.string(), what));
}

// What a FLAC file carries: facts, then the recipe, each after its heading.
void read_comment(const std::string& comment, AudioFileInfo& info) {
  const auto at =
      comment.rfind(kRecipeHeading, 0) == 0 ? 0 : comment.find(std::string("\n") + kRecipeHeading);
  if (comment.rfind(kFactsHeading, 0) == 0) file_detail::read_facts(comment.substr(0, at), info);
  if (at != std::string::npos)
    info.recipe = comment.substr(at + (at > 0 ? 1 : 0) + std::string(kRecipeHeading).size());
}

// libsndfile's messages end in points and line breaks; ours do not.
std::string reason(SNDFILE* file) {
  std::string text = sf_strerror(file);
  while (!text.empty() && (text.back() == '.' || std::isspace(static_cast<unsigned char>(text.back()))))
    text.pop_back();
  return text;
}

std::string container_name(int format) {
  switch (format & SF_FORMAT_TYPEMASK) {
    case SF_FORMAT_WAV:
    case SF_FORMAT_WAVEX:
      return "WAV";
    case SF_FORMAT_RF64:
      return "RF64";
    case SF_FORMAT_AIFF:
      return "AIFF";
    case SF_FORMAT_FLAC:
      return "FLAC";
    default:
      break;
  }
  SF_FORMAT_INFO info{format & SF_FORMAT_TYPEMASK, nullptr, nullptr};
  return sf_command(nullptr, SFC_GET_FORMAT_INFO, &info, sizeof info) == 0 && info.name != nullptr ? info.name
                                                                                                   : "other";
}

// Samples that are neither integers nor floats, by the words of those who know them; empty for those that
// are.
std::string encoding_of(int format) {
  switch (format & SF_FORMAT_SUBMASK) {
    case SF_FORMAT_ULAW:
      return "8-bit µ-law";
    case SF_FORMAT_ALAW:
      return "8-bit A-law";
    case SF_FORMAT_PCM_S8:
    case SF_FORMAT_PCM_U8:
    case SF_FORMAT_PCM_16:
    case SF_FORMAT_PCM_24:
    case SF_FORMAT_PCM_32:
    case SF_FORMAT_FLOAT:
    case SF_FORMAT_DOUBLE:
      return "";
    default:
      break;
  }
  SF_FORMAT_INFO info{format & SF_FORMAT_SUBMASK, nullptr, nullptr};
  return sf_command(nullptr, SFC_GET_FORMAT_INFO, &info, sizeof info) == 0 && info.name != nullptr
             ? info.name
             : "encoded";
}

SampleFormat sample_format(int format) {
  switch (format & SF_FORMAT_SUBMASK) {
    case SF_FORMAT_PCM_S8:
    case SF_FORMAT_PCM_U8:
      return SampleFormat::pcm8;
    case SF_FORMAT_PCM_16:
      return SampleFormat::pcm16;
    case SF_FORMAT_PCM_24:
      return SampleFormat::pcm24;
    case SF_FORMAT_PCM_32:
      return SampleFormat::pcm32;
    case SF_FORMAT_DOUBLE:
      return SampleFormat::float64;
    case SF_FORMAT_FLOAT:
      return SampleFormat::float32;
    default:
      return SampleFormat::float32;
  }
}

void require_readable(const fs::path& path) {
  std::error_code failure;
  const auto status = fs::status(path, failure);
  if (!fs::exists(status)) throw input_error(path, "there is no such file");
  if (fs::is_directory(status)) throw input_error(path, "is a folder, not an audio file");
  if (!fs::is_regular_file(status)) throw input_error(path, "is no regular file");
  if (fs::file_size(path, failure) == 0) throw input_error(path, "is empty (0 bytes)");
}

}  // namespace

struct AudioReader::Impl {
  AudioFileInfo info;
  file_detail::ReadInPieces bytes;  // outlives the sound that is read from it
  Sound sound;
  std::int64_t position = 0;

  template <typename Sample, typename Read>
  std::int64_t read(std::span<Sample> interleaved, Read read_frames) {
    const auto wanted = static_cast<sf_count_t>(interleaved.size()) / info.channel_count;
    const sf_count_t got = read_frames(sound.get(), interleaved.data(), wanted);
    position += got;
    if (got < wanted && position < info.frames)
      throw input_error(
          info.path,
          fmt::format("ends early or is damaged: {} of {} frames could be read; copy or bounce it again",
                      position, info.frames));
    return got;
  }
};

namespace {

void require_within_limits(const fs::path& path, const SF_INFO& info) {
  if (info.samplerate < kLowestCaptureRateHz || info.samplerate > kHighestSampleRateHz)
    throw input_error(path, fmt::format("its header says {} Hz; sample rates from {:g} Hz to {:g} kHz are "
                                        "measured, so this is damaged or no audio",
                                        info.samplerate, kLowestCaptureRateHz, kHighestSampleRateHz / 1000));
  if (info.channels < 1 || info.channels > kMostChannels)
    throw input_error(
        path, fmt::format("its header says {} channels; 1 to {} are measured", info.channels, kMostChannels));
}

// By which libsndfile reads a file of ours.
template <typename File>
SF_VIRTUAL_IO calls_of() {
  SF_VIRTUAL_IO calls{};
  calls.get_filelen = [](void* file) -> sf_count_t { return static_cast<File*>(file)->size(); };
  calls.seek = [](sf_count_t offset, int whence, void* file) -> sf_count_t {
    return static_cast<File*>(file)->seek(offset, whence);
  };
  calls.read = [](void* bytes, sf_count_t count, void* file) -> sf_count_t {
    return static_cast<File*>(file)->read(bytes, count);
  };
  calls.tell = [](void* file) -> sf_count_t { return static_cast<File*>(file)->seek(0, SEEK_CUR); };
  return calls;
}

// Through longer pieces than libsndfile reads by itself; what it knows by more than the bytes, by itself.
Sound open_sound(const fs::path& path, file_detail::ReadInPieces& bytes, SF_INFO& info) {
  SF_VIRTUAL_IO calls = calls_of<file_detail::ReadInPieces>();
  if (bytes.open(path))
    if (Sound sound{sf_open_virtual(&calls, SFM_READ, &info, &bytes)}) return sound;
  info = {};
  return Sound(sf_open(path.c_str(), SFM_READ, &info));
}

// Where the length of the file does not tell, the last frame does: buffers are sized by it.
void require_last_frame(const fs::path& path, SNDFILE* sound, const SF_INFO& info) {
  if (info.frames <= 0) return;
  std::vector<float> frame(static_cast<std::size_t>(info.channels));
  const bool there = info.seekable != 0 && sf_seek(sound, info.frames - 1, SEEK_SET) == info.frames - 1 &&
                     sf_readf_float(sound, frame.data(), 1) == 1;
  if (!there || sf_seek(sound, 0, SEEK_SET) != 0)
    throw input_error(path, fmt::format("ends early or is damaged: its header announces {} frames, and the "
                                        "last one cannot be read; copy or bounce it again",
                                        info.frames));
}

}  // namespace

AudioReader::AudioReader(const fs::path& path, CutOff cut_off) : impl_(std::make_unique<Impl>()) {
  require_readable(path);
  SF_INFO info{};
  impl_->sound = open_sound(path, impl_->bytes, info);
  const file_detail::ChunkIndex chunks = file_detail::index_chunks(path);
  if (!chunks.missing.empty() && (cut_off == CutOff::refused || !impl_->sound || info.frames <= 0))
    throw input_error(path, fmt::format("is cut off: {}; copy or bounce it again", chunks.missing));
  if (!impl_->sound) throw input_error(path, fmt::format("cannot be read as audio ({})", reason(nullptr)));
  require_within_limits(path, info);
  if (chunks.form.empty() || !encoding_of(info.format).empty())
    require_last_frame(path, impl_->sound.get(), info);
  impl_->info = {path,
                 container_name(info.format),
                 sample_format(info.format),
                 static_cast<double>(info.samplerate),
                 info.channels,
                 info.frames};
  impl_->info.encoding = encoding_of(info.format);
  impl_->info.cut_off = chunks.missing;
  file_detail::read_extras(path, chunks, impl_->info);
  const char* comment = sf_get_string(impl_->sound.get(), SF_STR_COMMENT);
  if (comment != nullptr && impl_->info.recipe.empty()) read_comment(comment, impl_->info);
  if (impl_->info.recipe.size() > kLongestRecipeBytes) impl_->info.recipe.clear();
}
AudioReader::~AudioReader() = default;
AudioReader::AudioReader(AudioReader&&) noexcept = default;
AudioReader& AudioReader::operator=(AudioReader&&) noexcept = default;

const AudioFileInfo& AudioReader::info() const noexcept { return impl_->info; }

namespace {
bool holds_integers(const AudioFileInfo& info) { return is_integer(info.format) && info.encoding.empty(); }
}  // namespace

std::int64_t AudioReader::read(std::span<double> interleaved) {
  return impl_->read(interleaved, sf_readf_double);
}
std::int64_t AudioReader::read(std::span<float> interleaved) {
  return impl_->read(interleaved, sf_readf_float);
}
std::int64_t AudioReader::read(std::span<std::int32_t> interleaved) {
  if (!holds_integers(info()))
    throw Error(ErrorCode::bad_argument,
                fmt::format("{} holds no integers: read it as double", info().path.string()));
  return impl_->read(interleaved, sf_readf_int);
}

void AudioReader::seek(std::int64_t frame) {
  if (sf_seek(impl_->sound.get(), frame, SEEK_SET) != frame)
    throw input_error(
        impl_->info.path,
        fmt::format("frame {} of {} cannot be reached; copy or bounce it again", frame, impl_->info.frames));
  impl_->position = frame;
}

FileSource::FileSource(const fs::path& path, CutOff cut_off, ReadWatch watch)
    : reader_(path, cut_off), watch_(std::move(watch)) {
  if (info().frames == 0) throw input_error(path, "there is no audio in it: 0 frames");
}

namespace {

constexpr double kOfFullScale = 1.0 / 2147483648.0;  // 2^-31: what comes of an integer is exact

double scaled(double sample) { return sample; }
double scaled(std::int32_t sample) { return sample * kOfFullScale; }

// The usual cases, in loops that the compiler can widen.
WAVICON_WIDE void part(const double* pairs, double* first, double* second, std::int64_t count) {
  for (std::int64_t n = 0; n < count; ++n) {
    first[n] = pairs[2 * n];
    second[n] = pairs[2 * n + 1];
  }
}
WAVICON_WIDE void part(const std::int32_t* pairs, double* first, double* second, std::int64_t count) {
  for (std::int64_t n = 0; n < count; ++n) {
    first[n] = pairs[2 * n] * kOfFullScale;
    second[n] = pairs[2 * n + 1] * kOfFullScale;
  }
}
WAVICON_WIDE void scale(const std::int32_t* samples, double* out, std::int64_t count) {
  for (std::int64_t n = 0; n < count; ++n) out[n] = samples[n] * kOfFullScale;
}
void scale(const double* samples, double* out, std::int64_t count) { std::copy_n(samples, count, out); }

}  // namespace

// Frames from … to, sorted into runs of `length` from `planar` on.
template <typename Sample>
void FileSource::read_sorted(std::int64_t from, std::int64_t to, std::vector<Sample>& interleaved,
                             double* planar, std::size_t length) {
  const auto channels = static_cast<std::size_t>(info().channel_count);
  interleaved.resize(std::min(kPieceFrames, length) * channels);
  std::int64_t at = from;
  while (at < to) {
    const auto wanted = std::min(kPieceFrames, static_cast<std::size_t>(to - at));
    const std::int64_t got = reader_.read(std::span(interleaved).first(wanted * channels));
    if (got == 0) break;
    double* run = planar + (at - from);
    if (channels == 1)
      scale(interleaved.data(), run, got);
    else if (channels == 2)
      part(interleaved.data(), run, run + length, got);
    else
      for (std::size_t c = 0; c < channels; ++c, run += length)
        for (std::int64_t n = 0; n < got; ++n)
          run[n] = scaled(interleaved[static_cast<std::size_t>(n) * channels + c]);
    at += got;
  }
  next_frame_ = at;
}

void FileSource::read(std::int64_t first_frame, std::span<double> planar) {
  const auto channels = static_cast<std::size_t>(info().channel_count);
  const std::size_t length = planar.size() / channels;
  const std::int64_t end = first_frame + static_cast<std::int64_t>(length);
  const std::int64_t from = std::clamp<std::int64_t>(first_frame, 0, frames()),
                     to = std::clamp<std::int64_t>(end, from, frames());
  if (from > first_frame || to < end) std::fill(planar.begin(), planar.end(), 0.0);
  if (to == from) return;
  if (from != next_frame_) reader_.seek(from);
  double* run = planar.data() + (from - first_frame);
  // Integers take half the room on their way.
  if (holds_integers(info()))
    read_sorted(from, to, integers_, run, length);
  else
    read_sorted(from, to, interleaved_, run, length);
  tell();
}

void FileSource::tell() const {
  if (watch_) watch_(static_cast<double>(next_frame_) / static_cast<double>(frames()));
}

AudioFile read_audio_file(const fs::path& path) {
  FileSource source(path);
  return {source.info(), read_stretch(source, 0, source.frames())};
}

namespace {

int sound_container(const fs::path& path, const AudioWriteOptions& options) {
  std::string ending = path.extension().string();
  std::transform(ending.begin(), ending.end(), ending.begin(),
                 [](unsigned char c) { return std::tolower(c); });
  if (ending == ".aif" || ending == ".aiff") return SF_FORMAT_AIFF;
  if (ending == ".flac") return SF_FORMAT_FLAC;
  if (ending != ".wav")
    throw Error(ErrorCode::bad_argument,
                fmt::format("{}: the ending says how to write it: .wav, .aif, .aiff or .flac, not '{}'",
                            path.string(), ending));
  const double bytes =
      static_cast<double>(options.frames) * options.channel_count * (bits(options.format) / 8);
  if (bytes > kLargestWavBytes) return SF_FORMAT_RF64;
  return options.channel_count > 2 ? SF_FORMAT_WAVEX : SF_FORMAT_WAV;
}

int sound_samples(SampleFormat format) {
  switch (format) {
    case SampleFormat::pcm16:
      return SF_FORMAT_PCM_16;
    case SampleFormat::pcm24:
      return SF_FORMAT_PCM_24;
    case SampleFormat::float32:
      return SF_FORMAT_FLOAT;
    default:
      throw Error(ErrorCode::bad_argument,
                  fmt::format("{} is not written; 16-bit, 24-bit and 32-bit float are", name_of(format)));
  }
}

void require_holdable(const fs::path& path, int container, const AudioWriteOptions& options) {
  auto fail = [&](const std::string& what) {
    throw Error(ErrorCode::bad_argument, fmt::format("{}: {}", path.string(), what));
  };
  if (options.channel_count < 1 || options.channel_count > kMostChannels)
    fail(fmt::format("files hold 1 to {} channels", kMostChannels));
  if (options.sample_rate_hz != std::floor(options.sample_rate_hz) || options.sample_rate_hz < 1)
    fail(fmt::format("sample rate {} Hz is not a whole number of Hz above 0", options.sample_rate_hz));
  if (options.sample_rate_hz < kLowestCaptureRateHz || options.sample_rate_hz > kHighestSampleRateHz)
    fail(fmt::format("sample rate {} Hz is not within {:g} Hz to {:g} kHz", options.sample_rate_hz,
                     kLowestCaptureRateHz, kHighestSampleRateHz / 1000));
  if (container != SF_FORMAT_FLAC) return;
  if (!is_integer(options.format)) fail("FLAC holds no 32-bit float; write .wav or .aiff, or 24 bits");
  if (options.channel_count > 8) fail("FLAC holds at most 8 channels; write .wav");
  if (options.sample_rate_hz > 655350) fail("FLAC holds at most 655350 Hz; write .wav");
}

}  // namespace

namespace {

// Broadcast extension (EBU Tech 3285, to verify) without a date: the same recipe gives the same bytes
// tomorrow.
void set_origin(SNDFILE* sound, const std::string& description) {
  SF_BROADCAST_INFO origin{};
  std::strncpy(origin.description, description.c_str(), sizeof origin.description - 1);
  std::strncpy(origin.originator, "Wavicon", sizeof origin.originator - 1);
  origin.version = 1;
  sf_command(sound, SFC_SET_BROADCAST_INFO, &origin, sizeof origin);
}

using file_detail::DiskFile;

// libsndfile writes through us: every call is checked, and none is buffered.
SF_VIRTUAL_IO disk_calls() {
  SF_VIRTUAL_IO calls = calls_of<DiskFile>();
  calls.write = [](const void* bytes, sf_count_t count, void* file) -> sf_count_t {
    return static_cast<DiskFile*>(file)->write(bytes, static_cast<std::size_t>(count)) ? count : 0;
  };
  return calls;
}

}  // namespace

struct AudioWriter::Impl {
  static constexpr std::size_t kRow = 1024;  // samples
  fs::path path;
  AudioWriteOptions options;
  PartialFile partial;
  DiskFile file;  // outlives the sound that is written to it
  SF_VIRTUAL_IO calls = disk_calls();
  Sound sound;
  Quantiser quantiser;
  std::int64_t position = 0;
  ClippedSamples clipped;
  bool chunked = true;  ///< recipe and cues go into chunks at the end
  std::vector<std::int32_t> codes;
  std::vector<double> samples;
  std::vector<float> floats;

  Impl(const fs::path& target, const AudioWriteOptions& o)
      : path(target), options(o), partial(target), quantiser(o.format, o.dither, o.seed) {}

  template <typename Sample>
  void write(std::span<const Sample> interleaved) {
    const auto channels = static_cast<std::size_t>(options.channel_count);
    const auto frames = static_cast<sf_count_t>(interleaved.size() / channels);
    const sf_count_t written = is_integer(options.format) ? write_codes(interleaved, channels, frames)
                                                          : write_floats(interleaved, frames);
    if (written != frames || !file.why().empty())
      throw Error(ErrorCode::write_failed, fmt::format("{}: cannot be written on after {} frames ({})",
                                                       path.string(), position + written, why()));
    position += frames;
  }

  // What the system said, else what libsndfile says.
  [[nodiscard]] std::string why() const { return file.why().empty() ? reason(sound.get()) : file.why(); }

  template <typename Sample>
  sf_count_t write_codes(std::span<const Sample> interleaved, std::size_t channels, sf_count_t frames) {
    codes.resize(interleaved.size());
    const std::size_t row =
        std::max<std::size_t>(1, kRow / channels) * channels;  // whole frames, in the first cache
    for (std::size_t at = 0; at < interleaved.size(); at += row) {
      const auto part = interleaved.subspan(at, std::min(row, interleaved.size() - at));
      const auto made = std::span(codes).subspan(at, part.size());
      const std::int64_t first = position + static_cast<std::int64_t>(at / channels);
      samples.assign(part.begin(), part.end());
      quantiser.codes(samples, options.channel_count, first, made);
      for (std::int32_t& code : made)
        code = static_cast<std::int32_t>(static_cast<std::uint32_t>(code) << (32 - bits(options.format)));
      if (quantiser.clips(peak(samples))) count_clipped(channels, first);
    }
    return sf_writef_int(sound.get(), codes.data(), frames);
  }

  void count_clipped(std::size_t channels, std::int64_t first) {
    for (std::size_t i = 0; i < samples.size(); ++i)
      if (quantiser.clips(samples[i]) && clipped.count++ == 0)
        clipped.first_frame = first + static_cast<std::int64_t>(i / channels);
  }

  sf_count_t write_floats(std::span<const double> interleaved, sf_count_t frames) {
    floats.assign(interleaved.begin(), interleaved.end());
    return sf_writef_float(sound.get(), floats.data(), frames);
  }
  sf_count_t write_floats(std::span<const float> interleaved, sf_count_t frames) {
    return sf_writef_float(sound.get(), interleaved.data(), frames);
  }
};

AudioWriter::AudioWriter(const fs::path& path, const AudioWriteOptions& options) {
  const int container = sound_container(path, options);
  const int samples = sound_samples(options.format);
  require_holdable(path, container, options);
  impl_ = std::make_unique<Impl>(path, options);
  SF_INFO info{};
  info.samplerate = static_cast<int>(options.sample_rate_hz);
  info.channels = options.channel_count;
  info.format = container | samples;
  if (!impl_->file.create(impl_->partial.path()))
    throw Error(ErrorCode::bad_output,
                fmt::format("{}: cannot be written: {}", path.string(), impl_->file.why()));
  impl_->sound.reset(sf_open_virtual(&impl_->calls, SFM_WRITE, &info, &impl_->file));
  if (!impl_->sound)
    throw Error(ErrorCode::write_failed,
                fmt::format("{}: cannot be written: {}", path.string(), impl_->why()));
  // The chunk with the peak holds the time of writing: the same samples would give other bytes every second.
  sf_command(impl_->sound.get(), SFC_SET_ADD_PEAK_CHUNK, nullptr, SF_FALSE);
  impl_->chunked = container != SF_FORMAT_FLAC;
  const std::string facts = file_detail::facts_text(options),
                    comment = (facts.empty() ? "" : kFactsHeading + facts) +
                              (options.recipe.empty() ? "" : kRecipeHeading + options.recipe);
  if (!impl_->chunked && !comment.empty()) sf_set_string(impl_->sound.get(), SF_STR_COMMENT, comment.c_str());
  if (!options.description.empty() && impl_->chunked && container != SF_FORMAT_AIFF)
    set_origin(impl_->sound.get(), options.description);
}
AudioWriter::~AudioWriter() = default;
AudioWriter::AudioWriter(AudioWriter&&) noexcept = default;
AudioWriter& AudioWriter::operator=(AudioWriter&&) noexcept = default;

void AudioWriter::write(std::span<const double> interleaved) { impl_->write(interleaved); }
void AudioWriter::write(std::span<const float> interleaved) { impl_->write(interleaved); }
void AudioWriter::set_reported_samples(std::int64_t samples) { impl_->options.reported_samples = samples; }
ClippedSamples AudioWriter::clipped() const noexcept { return impl_->clipped; }

void AudioWriter::finish() {
  sf_write_sync(impl_->sound.get());
  const int failure = sf_error(impl_->sound.get());
  const std::string told = reason(impl_->sound.get());
  const int closing = sf_close(impl_->sound.release());
  const bool added = impl_->file.why().empty() &&
                     (!impl_->chunked || file_detail::append_extras(
                                             impl_->file, impl_->partial.path(), impl_->options.recipe,
                                             impl_->options.cues, file_detail::facts_text(impl_->options)));
  if (failure != SF_ERR_NO_ERROR || closing != 0 || !added || !impl_->file.close())
    throw Error(ErrorCode::write_failed, fmt::format("{}: cannot be finished ({})", impl_->path.string(),
                                                     impl_->file.why().empty() ? told : impl_->file.why()));
  impl_->partial.commit();
}

ClippedSamples write_audio_file(const fs::path& path, const Audio& audio, AudioWriteOptions options) {
  options.sample_rate_hz = audio.sample_rate_hz();
  options.channel_count = audio.channel_count();
  options.frames = audio.frames();
  AudioWriter writer(path, options);
  const auto channels = static_cast<std::size_t>(audio.channel_count());
  std::vector<double> block;
  for (std::int64_t start = 0; start < audio.frames(); start += kBlockFrames) {
    const std::int64_t count = std::min(kBlockFrames, audio.frames() - start);
    block.resize(static_cast<std::size_t>(count) * channels);
    for (std::size_t c = 0; c < channels; ++c) {
      const double* from = audio.channel(static_cast<int>(c)).data() + start;
      for (std::int64_t n = 0; n < count; ++n) block[static_cast<std::size_t>(n) * channels + c] = from[n];
    }
    writer.write(block);
  }
  writer.finish();
  return writer.clipped();
}

std::vector<std::vector<float>> read_planar(const fs::path& path) {
  AudioReader reader(path);
  const AudioFileInfo& info = reader.info();
  const auto channels = static_cast<std::size_t>(info.channel_count);
  if (info.frames > kMostSamplesAtOnce / info.channel_count)
    throw input_error(path, fmt::format("{} frames of {} channels are more than is held at once ({} samples)",
                                        info.frames, info.channel_count, kMostSamplesAtOnce));
  std::vector<float> interleaved(static_cast<std::size_t>(info.frames) * channels);
  reader.read(std::span(interleaved));
  std::vector<std::vector<float>> runs(channels, std::vector<float>(static_cast<std::size_t>(info.frames)));
  for (std::size_t i = 0; i < interleaved.size(); ++i) runs[i % channels][i / channels] = interleaved[i];
  return runs;
}

void write_planar(AudioWriter& writer, const std::vector<std::vector<float>>& runs) {
  if (runs.empty()) return;
  std::vector<float> interleaved(runs.front().size() * runs.size());
  for (std::size_t i = 0; i < interleaved.size(); ++i)
    interleaved[i] = runs[i % runs.size()][i / runs.size()];
  writer.write(std::span<const float>(interleaved));
}

}  // namespace wavicon
