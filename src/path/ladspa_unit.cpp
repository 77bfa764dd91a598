// SPDX-License-Identifier: MIT
#if WAVICON_LADSPA
#include <dlfcn.h>
#include <fmt/format.h>
#include <ladspa.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <map>
#include <optional>
#include <sstream>

#include "isolated.hpp"
#include "ladspa_cache.hpp"
#include "schemes.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"

namespace wavicon::path_detail {
namespace {

namespace fs = std::filesystem;

constexpr const char* kRefused = "refused\t";  // what a child says of a library that it cannot ask
constexpr unsigned long kMostPorts = 65536;    // of a plugin: more is a description that cannot be true

using Port = LadspaPort;
using Description = LadspaDescription;

std::string text_or_nothing(const char* text) { return text == nullptr ? "" : text; }

// What a library says of itself, or why not. Nothing else than a child may ask it.
std::string described(const fs::path& file) {
  void* library = dlopen(file.c_str(), RTLD_NOW | RTLD_LOCAL);
  if (library == nullptr) return std::string(kRefused) + text_or_nothing(dlerror());
  const auto describe = reinterpret_cast<LADSPA_Descriptor_Function>(dlsym(library, "ladspa_descriptor"));
  if (describe == nullptr)
    return std::string(kRefused) + "it is no LADSPA library (no ladspa_descriptor in it)";
  std::vector<Description> plugins;
  for (unsigned long i = 0;; ++i) {
    const LADSPA_Descriptor* plugin = describe(i);
    if (plugin == nullptr) break;
    plugins.push_back(
        {text_or_nothing(plugin->Label), text_or_nothing(plugin->Name), text_or_nothing(plugin->Maker), {}});
    for (unsigned long p = 0; p < std::min(plugin->PortCount, kMostPorts); ++p) {
      const LADSPA_PortRangeHint& hint = plugin->PortRangeHints[p];
      plugins.back().ports.push_back({plugin->PortDescriptors[p], hint.HintDescriptor, hint.LowerBound,
                                      hint.UpperBound, text_or_nothing(plugin->PortNames[p])});
    }
  }
  return ladspa_text(plugins);
}

// In a child. @throws Error unit_failed with the reason.
std::string asked(const fs::path& library, double patience_s) {
  const std::string text =
      told_by_child(library.string(), [&] { return described(library); }, {.patience_s = patience_s});
  if (text.rfind(kRefused, 0) == 0)
    throw Error(ErrorCode::unit_failed, fmt::format("{} cannot be loaded: {}", library.string(),
                                                    text.substr(std::string(kRefused).size())));
  return text;
}

// @throws Error unit_failed with the reason when the library told nothing.
const std::vector<Description>& plugins_of(LadspaCache& cache, const fs::path& library, double patience_s) {
  const LadspaAnswer& answer =
      cache.answer_of(library, patience_s, [&] { return asked(library, patience_s); });
  if (answer.failure) throw Error(ErrorCode::unit_failed, answer.failure->why);
  return answer.plugins;
}

std::vector<std::string> split(const std::string& line, char by) {
  std::vector<std::string> parts;
  std::istringstream in(line);
  for (std::string part; std::getline(in, part, by);) parts.push_back(part);
  return parts;
}

// "Delay time (s)" is delay_time with unit s.
std::string symbol_of(const std::string& name) {
  std::string symbol;
  for (const char c : name.substr(0, name.find_first_of("([{"))) {
    if (std::isalnum(static_cast<unsigned char>(c)))
      symbol += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    else if (!symbol.empty() && symbol.back() != '_')
      symbol += '_';
  }
  while (!symbol.empty() && symbol.back() == '_') symbol.pop_back();
  return symbol.empty() ? "setting" : symbol;
}

std::string unit_of(const std::string& name) {
  const auto open = name.find_first_of("([");
  if (open == std::string::npos) return "";
  const auto close = name.find_first_of(")]", open);
  return name.substr(open + 1, close == std::string::npos ? close : close - open - 1);
}

SettingInfo setting_of(const Port& port, double rate, std::vector<std::string>& remarks) {
  SettingInfo s;
  s.symbol = symbol_of(port.name);
  s.name = port.name;
  s.unit = unit_of(port.name);
  const double scale = LADSPA_IS_HINT_SAMPLE_RATE(port.hint) ? rate : 1;
  s.minimum = LADSPA_IS_HINT_BOUNDED_BELOW(port.hint) ? scale * static_cast<double>(port.low) : -1e9;
  s.maximum = LADSPA_IS_HINT_BOUNDED_ABOVE(port.hint) ? scale * static_cast<double>(port.high) : 1e9;
  s.toggle = LADSPA_IS_HINT_TOGGLED(port.hint);
  if (s.toggle) {
    s.minimum = 0;
    s.maximum = 1;
  }
  put_range_right(s, remarks);
  s.integer = LADSPA_IS_HINT_INTEGER(port.hint);
  s.logarithmic = LADSPA_IS_HINT_LOGARITHMIC(port.hint) && s.minimum > 0;
  const auto part = [&](double share) {
    return s.logarithmic ? s.minimum * std::pow(s.maximum / s.minimum, share)
                         : s.minimum + share * (s.maximum - s.minimum);
  };
  switch (port.hint & LADSPA_HINT_DEFAULT_MASK) {
    case LADSPA_HINT_DEFAULT_MINIMUM:
      s.default_value = s.minimum;
      break;
    case LADSPA_HINT_DEFAULT_LOW:
      s.default_value = part(0.25);
      break;
    case LADSPA_HINT_DEFAULT_MIDDLE:
      s.default_value = part(0.5);
      break;
    case LADSPA_HINT_DEFAULT_HIGH:
      s.default_value = part(0.75);
      break;
    case LADSPA_HINT_DEFAULT_MAXIMUM:
      s.default_value = s.maximum;
      break;
    case LADSPA_HINT_DEFAULT_1:
      s.default_value = 1;
      break;
    case LADSPA_HINT_DEFAULT_100:
      s.default_value = 100;
      break;
    case LADSPA_HINT_DEFAULT_440:
      s.default_value = 440;
      break;
    default:
      s.default_value = std::clamp(0.0, s.minimum, s.maximum);
  }
  if (s.integer) s.default_value = std::round(s.default_value);
  put_default_right(s, remarks);
  return s;
}

UnitInfo info_of(const fs::path& file, const Description& plugin, double rate) {
  UnitInfo info{
      fmt::format("ladspa:{}:{}", file.string(), plugin.label), plugin.name, plugin.maker, 0, 0, {}};
  info.binary = file;
  std::map<std::string, int> seen;
  for (const Port& port : plugin.ports) {
    if (LADSPA_IS_PORT_AUDIO(port.descriptor))
      ++(LADSPA_IS_PORT_INPUT(port.descriptor) ? info.input_count : info.output_count);
    if (!LADSPA_IS_PORT_CONTROL(port.descriptor) || !LADSPA_IS_PORT_INPUT(port.descriptor)) continue;
    info.settings.push_back(setting_of(port, rate, info.remarks));
    std::string& symbol = info.settings.back().symbol;
    if (const int count = ++seen[symbol]; count > 1) symbol += fmt::format("_{}", count);
  }
  return info;
}

// Why it cannot carry a signal; empty when it can.
std::string refusal(const UnitInfo& info) {
  if (info.input_count == 0) return "it has no audio input";
  if (info.output_count == 0) return "it has no audio output";
  if (info.input_count > 2 || info.output_count > 2) return "more than two inputs or outputs";
  return "";
}

std::vector<fs::path> folders() {
  const char* path = std::getenv("LADSPA_PATH");
  std::vector<fs::path> found;
  for (const std::string& folder :
       split(path != nullptr ? path
                             : "/usr/local/lib/ladspa:/usr/lib/ladspa:/usr/lib/x86_64-linux-gnu/ladspa:/usr/"
                               "lib/aarch64-linux-gnu/ladspa",
             ':'))
    if (!folder.empty()) found.emplace_back(folder);
  return found;
}

// Those in a folder that can be read, by name.
std::vector<fs::path> libraries_in(const fs::path& folder) {
  std::vector<fs::path> found;
  std::error_code failure;
  for (fs::directory_iterator at(folder, failure), end; !failure && at != end; at.increment(failure))
    if (at->path().extension() == ".so") found.push_back(at->path());
  std::sort(found.begin(), found.end());
  return found;
}

fs::path found_file(const std::string& name) {
  std::error_code ignored;
  if (name.find('/') != std::string::npos) {
    if (!fs::is_regular_file(name, ignored))
      throw Error(ErrorCode::bad_argument, fmt::format("ladspa:{}: there is no such file", name));
    return name;
  }
  std::vector<std::string> names;
  for (const fs::path& folder : folders())
    for (const fs::path& file : libraries_in(folder)) {
      if (file.filename() == name || file.stem() == name) return file;
      names.push_back(file.stem().string());
    }
  throw Error(ErrorCode::bad_argument,
              fmt::format("there is no LADSPA library '{}'{}; 'wavicon units' lists what is there", name,
                          name_hint(name, names)));
}

// A running copy of it; lives in the child only.
class Instance {
 public:
  Instance(const LADSPA_Descriptor* plugin, const Description& description, const std::vector<double>& values,
           double rate, int block_frames)
      : plugin_(plugin),
        handle_(plugin->instantiate(plugin, static_cast<unsigned long>(rate))),
        frames_(block_frames) {
    if (handle_ == nullptr)
      throw Error(ErrorCode::unit_failed,
                  fmt::format("{} refused to start at {:g} Hz", description.label, rate));
    controls_.assign(description.ports.size(), 0.0F);
    for (std::size_t p = 0; p < description.ports.size(); ++p) {
      const Port& port = description.ports[p];
      if (LADSPA_IS_PORT_AUDIO(port.descriptor)) {
        (LADSPA_IS_PORT_INPUT(port.descriptor) ? ins_ : outs_).push_back(p);
        continue;
      }
      if (LADSPA_IS_PORT_INPUT(port.descriptor)) {
        controls_[p] = static_cast<float>(values[settings_.size()]);
        settings_.push_back(p);
      }
      if (!LADSPA_IS_PORT_INPUT(port.descriptor) && (port.name == "latency" || port.name == "_latency"))
        latency_ = p;
      plugin_->connect_port(handle_, p, &controls_[p]);
    }
    if (plugin_->activate != nullptr) plugin_->activate(handle_);
  }
  ~Instance() {
    if (plugin_->deactivate != nullptr) plugin_->deactivate(handle_);
    if (plugin_->cleanup != nullptr) plugin_->cleanup(handle_);
  }
  Instance(const Instance&) = delete;
  Instance& operator=(const Instance&) = delete;

  void turn(std::size_t setting, double value) {
    controls_[settings_.at(setting)] = static_cast<float>(value);
  }

  void run(const float* const* inputs, float* const* outputs, bool doubled) {
    for (std::size_t i = 0; i < ins_.size(); ++i)
      plugin_->connect_port(handle_, ins_[i], const_cast<float*>(inputs[doubled ? 0 : i]));
    for (std::size_t i = 0; i < outs_.size(); ++i) plugin_->connect_port(handle_, outs_[i], outputs[i]);
    plugin_->run(handle_, static_cast<unsigned long>(frames_));
  }
  [[nodiscard]] std::int64_t latency_frames() const {
    return latency_ ? std::llround(std::max(0.0F, controls_[*latency_])) : 0;
  }

 private:
  const LADSPA_Descriptor* plugin_;
  LADSPA_Handle handle_;
  int frames_;
  std::vector<float> controls_;
  std::vector<std::size_t> ins_, outs_, settings_;
  std::optional<std::size_t> latency_;
};

class LadspaUnit : public InstancedUnit<Instance> {
 public:
  LadspaUnit(fs::path file, Description description, UnitInfo info, const UnitSpec& spec)
      : file_(std::move(file)),
        description_(std::move(description)),
        info_(std::move(info)),
        values_(setting_values(info_.name, info_.settings, spec)) {}

  ~LadspaUnit() override { instances_.clear(); }  // before what they refer to
  const UnitInfo& info() const noexcept override { return info_; }
  bool turn(std::size_t setting, double value) override {
    values_.at(setting) = value;
    for (const auto& instance : instances_) instance->turn(setting, value);
    return true;
  }
  void prepare(double sample_rate_hz, int channel_count, int block_frames) override {
    if (const std::string why = refusal(info_); !why.empty())
      throw Error(ErrorCode::unit_failed, fmt::format("{} cannot be hosted: {}", info_.name, why));
    fit_ = fit_channels(info_, channel_count);
    // Never unloaded: some libraries leave threads or handlers behind.
    void* library = dlopen(file_.c_str(), RTLD_NOW | RTLD_LOCAL);
    if (library == nullptr)
      throw Error(ErrorCode::unit_failed, fmt::format("{} cannot be loaded: {}", info_.name, dlerror()));
    const auto describe = reinterpret_cast<LADSPA_Descriptor_Function>(dlsym(library, "ladspa_descriptor"));
    const LADSPA_Descriptor* plugin = nullptr;
    for (unsigned long i = 0; describe != nullptr && (plugin = describe(i)) != nullptr; ++i)
      if (description_.label == plugin->Label) break;
    if (plugin == nullptr)
      throw Error(ErrorCode::unit_failed, fmt::format("{} is no longer in its library", info_.name));
    instances_.clear();
    for (int i = 0; i < fit_.count; ++i)
      instances_.push_back(
          std::make_unique<Instance>(plugin, description_, values_, sample_rate_hz, block_frames));
  }

 private:
  fs::path file_;
  Description description_;
  UnitInfo info_;
  std::vector<double> values_;
};

}  // namespace

std::unique_ptr<Unit> open_ladspa(const UnitSpec& spec, const UnitSearch& search) {
  // FILE or FILE:LABEL; a label holds no slash.
  const auto colon = spec.name.rfind(':');
  const bool labelled = colon != std::string::npos && spec.name.find('/', colon) == std::string::npos;
  const fs::path file = found_file(labelled ? spec.name.substr(0, colon) : spec.name);
  const std::string label = labelled ? spec.name.substr(colon + 1) : "";
  LadspaCache cache;
  const auto& plugins = plugins_of(cache, file, search.patience_s);
  std::vector<std::string> labels;
  for (const Description& plugin : plugins) {
    labels.push_back(plugin.label);
    if (plugin.label != label && !(label.empty() && plugins.size() == 1)) continue;
    UnitInfo info = info_of(file, plugin, search.sample_rate_hz);
    return std::make_unique<LadspaUnit>(file, plugin, std::move(info), spec);
  }
  if (label.empty())
    throw Error(
        ErrorCode::bad_argument,
        fmt::format("ladspa:{}: the library holds {} plugins; name one, for example ladspa:{}:{}", spec.name,
                    plugins.size(), spec.name, plugins.empty() ? "LABEL" : plugins.front().label));
  throw Error(ErrorCode::bad_argument, fmt::format("ladspa:{}: the library has no plugin '{}'{}", spec.name,
                                                   label, name_hint(label, labels)));
}

std::vector<UnitListing> list_ladspa(const UnitSearch& search) {
  std::vector<UnitListing> list;
  LadspaCache cache;
  for (const fs::path& folder : folders())
    for (const fs::path& file : libraries_in(folder)) {
      try {
        for (const Description& plugin : plugins_of(cache, file, search.patience_s)) {
          const UnitInfo info = info_of(file.stem(), plugin, search.sample_rate_hz);
          list.push_back({info.name, info.title, info.input_count, info.output_count, refusal(info)});
        }
      } catch (const Error& error) {
        list.push_back({"ladspa:" + file.stem().string(), "", 0, 0, error.what()});
      }
    }
  std::sort(list.begin(), list.end(), [](const auto& a, const auto& b) { return a.name < b.name; });
  return list;
}

}  // namespace wavicon::path_detail
#endif
