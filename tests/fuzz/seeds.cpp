// SPDX-License-Identifier: MIT
// Makes the inputs from which fuzzing starts: one whole example of everything that each target reads.

#include <cstdio>
#include <filesystem>
#include <fstream>
#include <iostream>

#include "file/chunks.hpp"
#include "path/ladspa_cache.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/file/audio_file.hpp"
#include "wavicon/file/sheet_file.hpp"
#include "wavicon/file/stimulus_file.hpp"
#include "wavicon/measure/measurement_list.hpp"
#include "wavicon/path/unit.hpp"
#include "wavicon/stimulus/stimulus.hpp"

using namespace wavicon;

namespace {

namespace fs = std::filesystem;

class Folder {
 public:
  Folder(const fs::path& all, const char* target) : path_(all / target) { fs::create_directories(path_); }
  void add(const std::string& bytes) {
    std::ofstream(path_ / std::to_string(count_++), std::ios::binary) << bytes;
  }
  [[nodiscard]] fs::path file(const std::string& name) const { return path_ / name; }

 private:
  fs::path path_;
  int count_ = 0;
};

// Every kind of part at its defaults, short.
Recipe recipe_of(const std::string& kind, double seconds) {
  Recipe recipe;
  recipe.name = kind;
  recipe.sample_rate_hz = 8000;
  recipe.parts.push_back({.name = "part " + kind, .kind = *kind_from_name(kind)});
  std::visit(
      [&](auto& part) {
        if constexpr (requires { part.seconds; }) part.seconds = seconds;
        if constexpr (requires { part.to_hz = 3000.0; }) part.to_hz = 3000.0;
        if constexpr (requires { part.upper_hz; }) part.upper_hz = 3000;
        if constexpr (requires { part.oscillators; })
          part.oscillators = {{.frequency_hz = 83, .to_hz = 167}, {}};
        if constexpr (requires { part.frequencies_hz; }) part.frequencies_hz = {83, 331};
        if constexpr (requires { part.beep_s; }) part.beep_s = 0.01;
      },
      recipe.parts[0].kind);
  return recipe;
}

void recipes(const fs::path& all) {
  Folder folder(all, "recipe");
  for (const std::string& kind : kind_names()) folder.add(recipe_text(recipe_of(kind, 0.05)));
  folder.add("[[part]]\nkind = \"burst\"\ncarrier = { kind = \"noise\", colour = \"pink\" }\non_s = 0.1\n");
  folder.add("name = \"../../x\"\n[[part]]\nkind = \"tone\"\n");
  folder.add("sample_rate_hz = 768000.0\nchannels = 64\n[[part]]\nkind = \"noise\"\nperiod_s = 10.0\n");
}

std::string bytes_of(const fs::path& file) {
  std::ifstream stream(file, std::ios::binary);
  return {std::istreambuf_iterator<char>(stream), {}};
}

void audio_files(const fs::path& all) {
  Folder folder(all, "audio_file");
  for (const char* ending : {".wav", ".aiff", ".flac"})
    for (const int bits : {16, 24, 32}) {
      if (bits == 32 && std::string(ending) == ".flac") continue;
      Recipe recipe = recipe_of("tone", 0.02);
      recipe.bits = bits;
      recipe.marks = bits == 24;
      Stimulus stimulus(recipe);
      (void)write_stimulus_file(folder.file(std::string("whole-") + std::to_string(bits) + ending), stimulus);
    }
  const std::string wav = bytes_of(folder.file("whole-16.wav"));
  folder.add(wav.substr(0, wav.size() / 2));
  folder.add(wav.substr(0, 20));
  // A size near the end of what 64 bits count.
  std::string large = wav;
  large.replace(0, 4, "RF64");
  large.insert(12, std::string("ds64\x1c\0\0\0", 8) + std::string(28, '\xFF'));
  folder.add(large);
}

void specs(const fs::path& all) {
  Folder folder(all, "unit_spec");
  for (const UnitListing& unit : list_units({}))
    if (unit.name.rfind("sim:", 0) == 0) {
      std::string text = unit.name;
      folder.add(text);
      const auto opened = open_unit(parse_unit(text));
      for (const SettingInfo& setting : opened->info().settings)
        text += (text.find('?') == std::string::npos ? "?" : "&") + setting.symbol + "=" +
                std::to_string(setting.default_value);
      folder.add(text);
    }
  folder.add("lv2:http://example.org/x?gain=3&preset=a b");
}

void sheets(const fs::path& all) {
  Folder folder(all, "sheet");
  Sheet sheet{.measurement = "noise", .capture = {"a.wav", "24-bit", 48000, 2, 96000}};
  Reading reading{"noise_dbfs", 0, -90.5, "dBFS", -150.0};
  reading.uncertainty = 0.1;
  reading.conditions = {{"bandwidth_hz", std::vector<double>{20, 20000}}, {"under", std::string("no tone")}};
  Reading word{"verdict", std::nullopt, std::nullopt, ""};
  word.text = "noise";
  sheet.readings = {reading, word};
  sheet.curves = {{"noise", 1, "s", "dBFS", {0, 1}, {-90, -91}}};
  sheet.findings = {{Severity::fault, FindingCode::dropout, "a dropout", 0}};
  sheet.maps = {{"levels", 0, "s", "Hz", "dBFS", {0}, {100, 200}, {-1, -2}}};
  folder.add(sheets_to_json({sheet}));
  sheet.channel_names = {"mid", "side"};
  sheet.context = SheetContext{.version = "0.1.0",
                               .arithmetic = 1,
                               .made_s = 1772409600,
                               .options = {{"a", "b"}},
                               .stimulus = "sha256:0",
                               .recipe = "rate = 48000",
                               .chain = {"sim:tern"}};
  folder.add(sheets_to_json({sheet, sheet}));
}

void limits(const fs::path& all) {
  Folder folder(all, "limit");
  for (const char* text : {"thd_db<-80", "thd_db<=1e300", "thd_db > nan", "x>=", "<3", "thd_dB<0"})
    folder.add(std::string("\x01\0\0\0\0\0\0\x54\xC0\0", 10) + text);
}

void chunk_contents(const fs::path& all) {
  Folder folder(all, "chunks");
  const auto piece = [](char id, const std::string& bytes) {
    std::string text(1, id);
    for (int i = 0; i < 4; ++i) text += static_cast<char>(bytes.size() >> 8 * i & 0xFF);
    return text + bytes;
  };
  const std::string cue("\1\0\0\0\7\0\0\0\0\0\0\0data\0\0\0\0\0\0\0\0\x2A\0\0\0", 28),
      labels("adtllabl\x08\0\0\0\7\0\0\0abc\0", 20), marks("\0\1\0\1\0\0\0\x2A\3abc", 12);
  folder.add(piece(0, cue) + piece(1, labels));
  folder.add(piece(1, labels) + piece(0, cue));
  folder.add(piece(2, marks) + piece(3, "reported_samples = 12\n") + piece(4, "name = \"x\"\n"));
  folder.add(piece(1, std::string("adtllabl\1\0\0\0\7\0\0\0", 16)));
}

void caches(const fs::path& all) {
  Folder folder(all, "plugin_cache");
  path_detail::LadspaAnswers answers;
  answers["/usr/lib/ladspa/bed.so\t1.0 2"] = {{{"bed", "Reed bed", "nobody", {{5, 3, 0, 1, "Gain (dB)"}}}},
                                              {}};
  answers["/usr/lib/ladspa/mud.so\t1.0 2"].failure = {"it hangs", 1000, 10, "none none"};
  folder.add(path_detail::ladspa_cache_text(answers));
  folder.add(path_detail::ladspa_text(answers.begin()->second.plugins));
  folder.add("wavicon-ladspa 2\n\n\nend\n");
}

void texts(const fs::path& all) {
  Folder folder(all, "names");
  for (const std::string text : {"morning.wav", "o'clock.wav", "`id`.wav", "a\x1b[31mb", "line\nline",
                                 "\xff\xfe", "Größe", "../../x", "\u202Egnp.wav", "$(id) @x \"y\"",
                                 "\xC2\x9B"
                                 "31m"})
    folder.add(text);
}

void signals(const fs::path& all) {
  Folder health(all, "health"), measure(all, "measure");
  for (int format = 0; format < 4; ++format)
    for (int way = 0; way < 4; ++way) {
      std::string bytes{static_cast<char>(format), static_cast<char>(way % 2), 1, 4, 0,
                        static_cast<char>(way)};
      for (int i = 0; i < 600; ++i) bytes += static_cast<char>((i * 37 + i / 11) & 0xFF);
      health.add(bytes);
    }
  for (std::size_t m = 0; m < measurements().size(); ++m)
    for (int way = 0; way < 8; ++way) {
      std::string bytes{static_cast<char>(m), static_cast<char>(way), static_cast<char>(way), 5, 1};
      for (int i = 0; i < 300; ++i) bytes += static_cast<char>((i * (17 + 2 * way) + i / 7) & 0xFF);
      measure.add(bytes);
    }
}

}  // namespace

int main(int argc, char** argv) {
  if (argc != 2) {
    std::fputs("wavicon-fuzz-seeds FOLDER\n", stderr);
    return 2;
  }
  const fs::path all = argv[1];
  for (const auto make :
       {recipes, audio_files, specs, limits, sheets, chunk_contents, caches, texts, signals})
    make(all);
  return 0;
}
