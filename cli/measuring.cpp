// SPDX-License-Identifier: MIT
// Every measurement as a command: options from its list of fields, captures through the gate, sheets to text.

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <exception>
#include <functional>
#include <list>
#include <map>
#include <memory>
#include <optional>
#include <utility>

#include "commands.hpp"
#include "program.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/workers.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/file/file_pairs.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/file/sheet_context.hpp"
#include "wavicon/intake/recognise.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/present/plot.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon::cli {
namespace {

namespace fs = std::filesystem;

struct Measuring {
  const MeasurementDescriptor* descriptor = nullptr;
  std::unique_ptr<Measurement> measurement;
  std::vector<OptionField> fields;
  SheetOptions sheet;
  std::string stimulus;
  std::string reference;
  std::string part;
  bool despite_faults = false;
  bool all_pairs = false;
  FilePairs pairs;  // files that are compared by twos; empty: against the first one
  std::string draw;
  std::map<std::string, std::string> inputs;  // files by the names of inputs
  std::map<std::string, std::vector<std::string>> rows;
  std::map<std::string, std::string> outputs;  // files and folders by the names of outputs
};

void add_field(CLI::App& app, const OptionField& field) {
  const std::string& sentence = field.sentence;
  const std::string name = "--" + option_name(field);
  std::visit(
      [&](auto* target) {
        using Value = std::remove_pointer_t<decltype(target)>;
        if constexpr (std::is_same_v<Value, bool>) {
          app.add_flag(name, *target, sentence);
        } else {
          auto* option = app.add_option(name, *target, sentence);
          if (!field.words.empty()) option->type_name(fmt::format("{}", fmt::join(field.words, "|")));
          if constexpr (requires { target->begin(); } && !std::is_same_v<Value, std::string>) {
            if (field.repeatable)
              option->type_size(static_cast<int>(field.count))
                  ->expected(-1)
                  ->delimiter(',')
                  ->allow_extra_args(false);
            else if (field.count > 0)
              option->expected(static_cast<int>(field.count))->delimiter(',');
            else
              option->delimiter(',')->allow_extra_args(false);
          } else if constexpr (!requires { target->has_value(); }) {
            if constexpr (std::is_same_v<Value, std::string>) {
              if (!target->empty()) option->capture_default_str();
            } else {
              option->capture_default_str();
            }
          }
        }
      },
      field.target);
}

std::vector<std::string> words_of(const std::vector<PictureChoice>& pictures) {
  std::vector<std::string> words;
  for (const PictureChoice& picture : pictures) words.push_back(picture.word);
  return words;
}

std::string picture_help(const std::vector<PictureChoice>& pictures) {
  std::string text = "what --plot draws";
  for (const PictureChoice& picture : pictures)
    text += fmt::format("{} {}: {}", &picture == pictures.data() ? ":" : ";", picture.word, picture.sentence);
  return text;
}

// Names the file once.
[[noreturn]] void fail_with(const std::string& path, const Error& error, const std::string& hint = "") {
  const std::string text = error.what();
  throw Error(error.code(), (text.rfind(path + ":", 0) == 0 ? text : path + ": " + text) + hint);
}

// For --verbose: what a file is, on standard error.
void tell_file(const std::string& path) {
  const AudioFileInfo info = AudioReader(path, CutOff::accepted).info();
  std::string text =
      fmt::format("wavicon: {}: {}, {}, {:g} Hz, {} channel{}, {:.3f} s", path, info.container,
                  capture_info(info).format, info.sample_rate_hz, info.channel_count,
                  info.channel_count == 1 ? "" : "s", static_cast<double>(info.frames) / info.sample_rate_hz);
  if (!info.recipe.empty()) {
    const Recipe recipe = parse_recipe(info.recipe, path + " (the recipe inside)");
    text += fmt::format("; carries the recipe '{}': {} part{}{}", recipe.name, recipe.parts.size(),
                        recipe.parts.size() == 1 ? "" : "s", recipe.marks ? " between marks" : ", no marks");
  }
  tell(text);
}

// Files through the gate of one measurement.
class Gate {
 public:
  Gate(const Measuring& command, Progress& progress)
      : command_(command),
        progress_(progress),
        policy_(policy_of(*command.descriptor, command.despite_faults)) {
    if (!command.stimulus.empty()) named_ = std::make_shared<Stimulus>(read_recipe(command.stimulus));
  }
  // What was played in it, unless a stimulus is named: the recipe inside.
  [[nodiscard]] JudgedCapture open(const std::string& path) const {
    if (!command_.descriptor->recognises)
      return opened(path, [&] { return judge_file(path, policy_, named_, watch(path)); });
    return open_reference(path);
  }
  [[nodiscard]] JudgedCapture open_reference(const std::string& path) const {
    return held(path, named_, [&](const JudgedCapture& held) { return recognised(held, policy_); });
  }
  // B holds what A holds.
  [[nodiscard]] JudgedCapture open_against(const std::string& path, const JudgedCapture& a) const {
    const auto& stimulus = named_ ? named_ : a.known_stimulus();
    if (!command_.descriptor->recognises)
      return opened(path, [&] { return judge_file(path, policy_, stimulus, watch(path)); });
    return held(path, stimulus, [&](const JudgedCapture& held) { return placed_by(held, a, policy_); });
  }
  // It holds what its reference holds.
  [[nodiscard]] JudgedCapture open_holding(const std::string& path, const JudgedCapture& reference) const {
    return held(path, named_ ? named_ : reference.known_stimulus(),
                [&](const JudgedCapture& held) { return holding(held, reference, policy_); });
  }
  // Beside the captures: a clean signal or a filter, of which nothing is known.
  [[nodiscard]] JudgedCapture open_input(const std::string& path) const {
    try {
      return judge_file(path, {.despite_faults = true}, nullptr, watch(path));
    } catch (const Error& error) {
      fail_with(path, error);
    }
  }

 private:
  // With its faults held, until it is known what was played.
  template <typename Known>
  [[nodiscard]] JudgedCapture held(const std::string& path, const std::shared_ptr<Stimulus>& stimulus,
                                   Known&& known) const {
    return opened(path, [&] {
      GatePolicy held = policy_;
      held.hold_faults = true;
      return known(judge_file(path, held, stimulus, watch(path)));
    });
  }
  template <typename Judge>
  [[nodiscard]] JudgedCapture opened(const std::string& path, Judge&& judged) const {
    try {
      if (command_.sheet.verbose) tell_file(path);
      return judged();
    } catch (const UnfitCapture& unfit) {
      const bool final = unfit.fault() == FindingCode::broken_sample;
      fail_with(path, unfit,
                final ? "; 'wavicon health' says more" : "; --despite-faults measures it all the same");
    } catch (const Error& error) {
      fail_with(path, error);
    }
  }

  [[nodiscard]] ReadWatch watch(const std::string& path) const {
    return [path, &progress = progress_](double part) { progress.reading(path, part); };
  }

  const Measuring& command_;
  Progress& progress_;
  GatePolicy policy_;
  std::shared_ptr<Stimulus> named_;
};

// Opens captures one after the other, the next ones beside what is done with the one before.
class Opened {
 public:
  Opened(const std::vector<std::string>& files, std::function<JudgedCapture(const std::string&)> open,
         bool ahead)
      : files_(files),
        open_(std::move(open)),
        ahead_(ahead ? static_cast<std::size_t>(allowed_threads() - 1) : 0) {}
  [[nodiscard]] JudgedCapture next() {
    const std::size_t wanted = std::min(files_.size(), taken_ + 1 + ahead_);
    for (; begun_ < wanted; ++begun_) {
      auto& slot = coming_.emplace_back();
      slot.work = std::make_unique<WorkBeside>(
          [this, to = &slot.capture, file = files_[begun_]] { to->emplace(open_(file)); });
    }
    ++taken_;
    coming_.front().work->wait();
    JudgedCapture capture = *coming_.front().capture;
    coming_.pop_front();
    return capture;
  }

 private:
  struct Slot {
    std::optional<JudgedCapture> capture;
    std::unique_ptr<WorkBeside> work;  // ended before the capture is gone
  };
  const std::vector<std::string>& files_;
  std::function<JudgedCapture(const std::string&)> open_;
  std::size_t ahead_, begun_ = 0, taken_ = 0;
  std::list<Slot> coming_;
};

OpenSink sinks_of(const Measuring& command) {
  std::map<std::string, std::string> wanted;
  for (const auto& [name, file] : command.outputs)
    if (!file.empty()) wanted[name] = file;
  if (wanted.empty()) return {};
  return [wanted](const std::string& output, const std::string& item,
                  const SinkShape& shape) -> std::unique_ptr<AudioSink> {
    const auto found = wanted.find(output);
    if (found == wanted.end()) return nullptr;
    if (item.empty()) return file_sink(found->second, shape);
    make_folder(found->second);
    return file_sink(file_below(found->second, item + ".wav"), shape);
  };
}

// @return those that are files of their own.
std::vector<std::string> checked_outputs(const Measuring& command, std::size_t count) {
  std::vector<std::string> files;
  for (const ExtraOutput& output : command.descriptor->outputs) {
    const std::string& file = command.outputs.at(output.name);
    if (file.empty()) continue;
    const bool folder = output.several || (output.folder_of_several && count > 1);
    if (output.one_capture && !folder && count > 1 && command.descriptor->input == MeasuredInput::against)
      throw Error(ErrorCode::bad_argument, fmt::format("--{} is made of one B, not of several", output.name));
    if (!folder) files.push_back(file);
  }
  return files;
}

// What is made on the way to be listened to on a page, in a folder that goes again.
class Listening {
 public:
  explicit Listening(Measuring& command) : command_(command) {
    if (!command.sheet.listen) return;
    std::string folder = (fs::temp_directory_path() / "wavicon-listen-XXXXXX").string();
    if (::mkdtemp(folder.data()) == nullptr)
      throw Error(ErrorCode::write_failed,
                  "no folder for sounds can be made in " + fs::temp_directory_path().string());
    folder_ = folder;
    for (const ExtraOutput& output : command.descriptor->outputs)
      if (std::string& file = command.outputs.at(output.name); file.empty())
        file = (folder_ / (output.name + (output.several ? "" : ".wav"))).string();
  }
  Listening(const Listening&) = delete;
  Listening& operator=(const Listening&) = delete;
  ~Listening() {
    std::error_code ignored;
    if (!folder_.empty()) fs::remove_all(folder_, ignored);
  }
  // A, then what was made of B, what is left of both last.
  [[nodiscard]] std::vector<ExcerptSource> sounds() const {
    std::vector<ExcerptSource> list;
    if (folder_.empty()) return list;
    const auto& outputs = command_.descriptor->outputs;
    if (command_.descriptor->input == MeasuredInput::against) {
      const std::string& a = command_.sheet.captures.front();
      list.push_back({"A, " + fs::path(a).filename().string(), a});
    }
    for (auto output = outputs.rbegin(); output != outputs.rend(); ++output) {
      const fs::path made = command_.outputs.at(output->name);
      std::vector<fs::path> files;
      if (fs::is_directory(made))
        for (const auto& entry : fs::directory_iterator(made)) files.push_back(entry.path());
      else if (fs::exists(made))
        files.push_back(made);
      std::sort(files.begin(), files.end());
      for (const fs::path& file : files)
        list.push_back({files.size() > 1 || output->several ? file.stem().string() : output->name, file,
                        output->name == "residual"});
    }
    return list;
  }

 private:
  Measuring& command_;
  fs::path folder_;
};

MeasureRequest request_of(const Measuring& command, std::size_t count) {
  MeasureRequest request;
  request.selection = {command.sheet.from_s, command.sheet.to_s, command.part};
  if (command.sheet.channel) request.channel = *command.sheet.channel - 1;
  request.rms_reference = command.sheet.rms_reference == "sine" ? RmsReference::sine : RmsReference::square;
  request.picture = command.draw;
  request.open_sink = sinks_of(command);
  request.capture_count = count;
  request.pairs = !command.pairs.pairs.empty();
  return request;
}

// Measures one capture, and puts its name before what goes wrong.
void measure_one(Measuring& command, const MeasureRequest& request, const JudgedCapture& capture,
                 std::size_t index, std::vector<Sheet>& sheets) {
  const std::string& path = capture.info().file;
  try {
    const auto start = std::chrono::steady_clock::now();
    auto made = measured(*command.measurement, request, capture, index);
    if (command.sheet.verbose)
      tell(fmt::format("wavicon: {}: {} measured in {:.2f} s: {} readings, {} curves", path,
                       made.back().measurement,
                       std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count(),
                       made.back().readings.size(), made.back().curves.size()));
    for (Sheet& sheet : made) sheets.push_back(std::move(sheet));
  } catch (const Error& error) {
    fail_with(path, error);
  } catch (const Interrupted&) {
    throw;
  } catch (const std::exception&) {
    const Failure failure = current_failure();
    throw Error(ErrorCode::bad_input, fmt::format("{}: {}", path, failure.line));
  }
}

// What cannot be compared leaves its place in the grid empty, with the reason; where that is all of it, it
// fails.
std::vector<Sheet> measure_pairs(Measuring& command, MeasureRequest& request, Progress& progress) {
  const Gate gate(command, progress);
  std::vector<Sheet> sheets;
  std::exception_ptr failure;
  bool any = false;
  for (std::size_t i = 0; i < command.pairs.pairs.size(); ++i) {
    const FilePair& pair = command.pairs.pairs[i];
    try {
      // Pairs of one A follow each other.
      if (!request.reference || request.reference->info().file != pair.a) {
        request.reference.reset();
        request.reference = gate.open(pair.a);
      }
      measure_one(command, request, gate.open_against(pair.b, *request.reference), i, sheets);
      any = true;
    } catch (const Error& error) {
      failure = std::current_exception();
      sheets.push_back(
          {.measurement = command.descriptor->name,
           .capture = {.file = pair.b},
           .findings = {{Severity::warning, FindingCode::not_measured,
                         fmt::format("not compared with {}: {}", pair.a, error.what()), std::nullopt}}});
    }
  }
  if (!any && failure) std::rethrow_exception(failure);
  command.measurement->conclude(request, sheets);
  return sheets;
}

std::vector<Sheet> measure_all(Measuring& command, MeasureRequest& request, Progress& progress) {
  if (request.pairs) return measure_pairs(command, request, progress);
  const Gate gate(command, progress);
  std::vector<std::string> files;
  for (const std::size_t place : command.measurement->order(command.sheet.captures))
    files.push_back(command.sheet.captures[place]);
  for (const ExtraInput& input : command.descriptor->inputs)
    if (!input.row && !command.inputs.at(input.name).empty())
      request.inputs.emplace(input.name, gate.open_input(command.inputs.at(input.name)));
  std::vector<Sheet> sheets;
  switch (command.descriptor->input) {
    case MeasuredInput::capture:
      if (!command.reference.empty()) request.clean_signal = gate.open_reference(command.reference);
      {
        // What was played belongs to one thread: captures that share it are opened one after the other.
        const bool ahead = command.reference.empty() && command.stimulus.empty() && !command.sheet.verbose;
        Opened opened(
            files,
            [&](const std::string& file) {
              return command.reference.empty() ? gate.open(file)
                                               : gate.open_holding(file, *request.clean_signal);
            },
            ahead);
        for (std::size_t i = 0; i < files.size(); ++i)
          measure_one(command, request, opened.next(), i, sheets);
      }
      break;
    case MeasuredInput::against:
      if (files.size() == 1) {
        measure_one(command, request, gate.open(files.front()), 0, sheets);
        break;
      }
      request.reference = gate.open(files.front());
      for (const auto& [name, row] : command.rows)
        for (const std::string& file : row)
          request.rows[name].push_back(gate.open_against(file, *request.reference));
      for (std::size_t i = 1; i < files.size(); ++i)
        measure_one(command, request, gate.open_against(files[i], *request.reference), i - 1, sheets);
      break;
    case MeasuredInput::pair:
      if (files.size() > 1) request.reference = gate.open(files.front());
      measure_one(
          command, request,
          request.reference ? gate.open_against(files.back(), *request.reference) : gate.open(files.back()),
          0, sheets);
      break;
    case MeasuredInput::recording: {
      std::vector<JudgedCapture> row;
      for (const std::string& file : files) row.push_back(gate.open(file));
      measure_one(command, request, judge_row(row), 0, sheets);
      break;
    }
  }
  command.measurement->conclude(request, sheets);
  return sheets;
}

// Folders are compared file by file; --all-pairs compares each file with every other one.
FilePairs pairs_of(const Measuring& command) {
  if (command.descriptor->grid.empty()) return {};
  const auto& files = command.sheet.captures;
  if (std::all_of(files.begin(), files.end(), [](const std::string& file) { return fs::is_directory(file); }))
    return folder_pairs(files);
  return command.all_pairs ? every_pair(files) : FilePairs{};
}

// What was asked for beside what is usual.
std::vector<std::pair<std::string, std::string>> options_of(const Measuring& command) {
  const auto usual = command.descriptor->make();
  auto given = given_options(command.fields, usual->fields());
  const auto add = [&](const char* key, const std::string& value) {
    if (!value.empty()) given.emplace_back(key, value);
  };
  add("part", command.part);
  add("from_s", command.sheet.from_s != 0 ? fmt::format("{:g}", command.sheet.from_s) : "");
  add("to_s", command.sheet.to_s ? fmt::format("{:g}", *command.sheet.to_s) : "");
  add("channel", command.sheet.channel ? std::to_string(*command.sheet.channel) : "");
  add("rms_reference", command.sheet.rms_reference == "sine" ? "sine" : "");
  add("reference", command.reference);
  add("against", command.descriptor->input == MeasuredInput::against ? command.sheet.captures.front() : "");
  add("despite_faults", command.despite_faults ? "true" : "");
  return given;
}

int run(Measuring& command) {
  const MeasurementDescriptor& descriptor = *command.descriptor;
  command.pairs = pairs_of(command);
  const std::size_t files = command.sheet.captures.size(),
                    count = !command.pairs.pairs.empty() ? command.pairs.pairs.size()
                            : descriptor.input == MeasuredInput::against && files > 1 ? files - 1
                                                                                      : files;
  if (descriptor.input == MeasuredInput::pair && files > 2)
    throw Error(ErrorCode::bad_argument, "a pair is two files, or two channels of one");
  std::vector<std::string> inputs{command.stimulus, command.reference};
  for (const auto& [name, file] : command.inputs) inputs.push_back(file);
  for (const auto& [name, row] : command.rows) inputs.insert(inputs.end(), row.begin(), row.end());
  command.sheet.check(reading_names(descriptor), checked_outputs(command, count), inputs);
  require_in_range(command.fields);
  const Listening listening(command);
  // Outlives the captures that tell it how far they are read.
  Progress progress("measuring", command.sheet.quiet);
  MeasureRequest request = request_of(command, count);
  command.measurement->check(request);
  const ThreadAllowance allowance(command.sheet.jobs);
  auto sheets = measure_all(command, request, progress);
  add_context(sheets, options_of(command), current_time_s());
  progress.end();
  const Measurement& measurement = *command.measurement;
  Delivery delivery{.sheets = sheets};
  delivery.rows = measurement.rows(sheets);
  if (request.pairs)
    delivery.rows = RowLayout{.heading = "A / B", .columns = descriptor.grid, .grid = command.pairs.grid};
  if (!descriptor.pictures.empty())
    delivery.picture =
        measurement.picture(sheets, command.draw.empty() ? descriptor.pictures.front().word : command.draw);
  if (count > 1) delivery.comparison = measurement.compare(sheets);
  delivery.answer = measurement.answer(sheets);
  if (delivery.picture && sheets.size() > 1 && delivery.picture->answer.empty())
    delivery.picture->answer = !delivery.answer.empty()       ? delivery.answer
                               : !delivery.comparison.empty() ? delivery.comparison.front()
                                                              : "";
  delivery.sounds = listening.sounds();
  delivery.one_timeline = descriptor.input == MeasuredInput::against;
  delivery.headline = descriptor.headline;
  delivery.deciding = descriptor.deciding;
  return deliver(command.sheet, delivery);
}

void add_gate_options(CLI::App& app, Measuring& command) {
  const bool against = command.descriptor->input == MeasuredInput::against;
  app.add_option("--stimulus", command.stimulus,
                 against
                     ? "what A and B hold: its file, or its recipe (default: the recipe inside A)"
                     : "what was played: its file, or its recipe (default: the recipe inside the capture)");
  if (command.descriptor->by_reference)
    app.add_option("--reference", command.reference,
                   "the clean signal that went in, when it was not made by Wavicon");
  if (!command.descriptor->part_help.empty())
    app.add_option("--part", command.part, command.descriptor->part_help);
  app.add_flag("--despite-faults", command.despite_faults,
               "measure a capture that is unfit; this is noted in the conditions");
}

}  // namespace

void add_measurement(CLI::App& app, const MeasurementDescriptor& descriptor, Action& action) {
  auto* sub = app.add_subcommand(descriptor.name, descriptor.question);
  auto command = std::make_shared<Measuring>();
  command->descriptor = &descriptor;
  command->measurement = descriptor.make();
  command->fields = command->measurement->fields();
  command->sheet.overlays = descriptor.draws_several || descriptor.input == MeasuredInput::pair ||
                            descriptor.input == MeasuredInput::recording;
  command->sheet.against = descriptor.input == MeasuredInput::against;
  command->sheet.of_one_file = descriptor.of_one_file;
  // Those whose outputs are sound: residuals and takes, no filters.
  command->sheet.has_sounds = !descriptor.grid.empty() || descriptor.input == MeasuredInput::recording;
  command->sheet.add_to(*sub, !descriptor.pictures.empty());
  add_gate_options(*sub, *command);
  for (const OptionField& field : command->fields) add_field(*sub, field);
  for (const ExtraInput& input : descriptor.inputs)
    if (input.row)
      sub->add_option("--" + input.name, command->rows[input.name], input.sentence)->delimiter(',');
    else
      sub->add_option("--" + input.name, command->inputs[input.name], input.sentence);
  for (const ExtraOutput& output : descriptor.outputs)
    sub->add_option("--" + output.name, command->outputs[output.name], output.sentence);
  if (!descriptor.grid.empty())
    sub->add_flag(
        "--all-pairs", command->all_pairs,
        "compare each file with every other one; folders instead of files are compared file by file, by "
        "their names");
  if (descriptor.pictures.size() > 1)
    sub->add_option("--draw", command->draw, picture_help(descriptor.pictures))
        ->check(CLI::IsMember(words_of(descriptor.pictures)));
  sub->callback([command, &action] { action = [command] { return run(*command); }; });
}

}  // namespace wavicon::cli
