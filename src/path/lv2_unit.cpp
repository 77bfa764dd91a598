// SPDX-License-Identifier: MIT
#if WAVICON_LV2
#include <dlfcn.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <lv2/state/state.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <cstring>
#include <filesystem>

#include "cache_text.hpp"
#include "lv2_cache.hpp"
#include "lv2_features.hpp"
#include "lv2_plugin.hpp"
#include "lv2_state.hpp"
#include "schemes.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/audio/nearest_names.hpp"
#include "wavicon/version.hpp"

namespace wavicon::path_detail {
namespace {

namespace fs = std::filesystem;

struct FreeInstance {
  void operator()(LilvInstance* instance) const noexcept {
    lilv_instance_deactivate(instance);
    lilv().instance_free(instance);
  }
};

// One running copy of a plugin with everything its ports point at.
class Instance {
 public:
  Instance(const Plugin& plugin, UridMap& urids, const LilvState* state, const std::vector<double>& values,
           double sample_rate_hz, int block_frames)
      : plugin_(plugin),
        block_frames_(block_frames),
        features_(urids, sample_rate_hz, block_frames),
        urids_(urids) {
    LilvInstance* raw = lilv().plugin_instantiate(plugin.lilv, sample_rate_hz, features_.array());
    if (raw == nullptr)
      throw Error(ErrorCode::unit_failed, fmt::format("{} refused to start at {} Hz with blocks of {} frames",
                                                      plugin.info.name, sample_rate_hz, block_frames));
    lilv_.reset(raw);
    connect(values);
    features_.worker().attach(lilv_instance_get_handle(raw),
                              static_cast<const LV2_Worker_Interface*>(
                                  lilv_instance_get_extension_data(raw, LV2_WORKER__interface)));
    if (state != nullptr) lilv().state_restore(state, raw, nullptr, nullptr, 0, features_.array());
    lilv_instance_activate(raw);
  }
  Instance(const Instance&) = delete;
  Instance& operator=(const Instance&) = delete;

  void run(const float* const* inputs, float* const* outputs, bool doubled) {
    std::size_t in = 0, out = 0;
    for (std::uint32_t i = 0; i < plugin_.ports.size(); ++i) {
      const PortKind kind = plugin_.ports[i].kind;
      if (kind == PortKind::audio_in)
        lilv_instance_connect_port(lilv_.get(), i, const_cast<float*>(inputs[doubled ? 0 : in++]));
      if (kind == PortKind::audio_out) lilv_instance_connect_port(lilv_.get(), i, outputs[out++]);
    }
    for (Events& events : events_) events.reset(urids_);
    lilv_instance_run(lilv_.get(), static_cast<std::uint32_t>(block_frames_));
    features_.worker().deliver();
  }

  void turn(std::size_t setting, double value) {
    for (std::size_t i = 0; i < plugin_.ports.size(); ++i)
      if (plugin_.ports[i].kind == PortKind::control_in && *plugin_.ports[i].setting == setting)
        controls_[i] = static_cast<float>(value);
  }

  /// What it would keep of itself in a session.
  [[nodiscard]] State state() const {
    return State(lilv().state_new_from_instance(plugin_.lilv, lilv_.get(), map_of(urids_), nullptr, nullptr,
                                                nullptr, nullptr, value_of_port, const_cast<Instance*>(this),
                                                LV2_STATE_IS_POD | LV2_STATE_IS_PORTABLE, features_.array()));
  }

  [[nodiscard]] std::int64_t latency_frames() const {
    return plugin_.latency_port ? std::llround(std::max(0.0F, controls_[*plugin_.latency_port])) : 0;
  }

 private:
  // Buffer of an event port; the plugin finds an empty sequence in it, or room to write one.
  struct Events {
    bool input = true;
    std::vector<std::uint64_t> memory = std::vector<std::uint64_t>(kSequenceBytes / sizeof(std::uint64_t));
    LV2_Atom_Sequence* sequence() { return reinterpret_cast<LV2_Atom_Sequence*>(memory.data()); }
    void reset(UridMap& urids) {
      sequence()->atom.size = input ? sizeof(LV2_Atom_Sequence_Body) : kSequenceBytes - sizeof(LV2_Atom);
      sequence()->atom.type = urids.map(input ? LV2_ATOM__Sequence : LV2_ATOM__Chunk);
      sequence()->body = {0, 0};
    }
  };

  static const void* value_of_port(const char* symbol, void* self, std::uint32_t* size, std::uint32_t* type) {
    auto& own = *static_cast<Instance*>(self);
    for (std::uint32_t i = 0; i < own.plugin_.ports.size(); ++i) {
      const Port& port = own.plugin_.ports[i];
      if (port.kind != PortKind::control_in || own.plugin_.info.settings[*port.setting].symbol != symbol)
        continue;
      *size = sizeof(float);
      *type = own.urids_.map(LV2_ATOM__Float);
      return &own.controls_[i];
    }
    *size = *type = 0;
    return nullptr;
  }

  void connect(const std::vector<double>& values) {
    const std::size_t count = plugin_.ports.size();
    controls_.assign(count, 0.0F);
    signals_.assign(count, {});
    events_.reserve(count);
    for (std::uint32_t i = 0; i < count; ++i) {
      const Port& port = plugin_.ports[i];
      void* place = nullptr;
      switch (port.kind) {
        case PortKind::control_in:
          controls_[i] = static_cast<float>(values[*port.setting]);
          [[fallthrough]];
        case PortKind::control_out:
          place = &controls_[i];
          break;
        case PortKind::atom_in:
        case PortKind::atom_out:
          events_.push_back({port.kind == PortKind::atom_in});
          events_.back().reset(urids_);
          place = events_.back().memory.data();
          break;
        case PortKind::cv_in:
        case PortKind::cv_out:
          if (port.optional) break;
          [[fallthrough]];
        case PortKind::audio_in:
        case PortKind::audio_out:
          signals_[i].assign(static_cast<std::size_t>(block_frames_), port.resting);
          place = signals_[i].data();
          break;
        case PortKind::unknown:
          break;
      }
      lilv_instance_connect_port(lilv_.get(), i, place);
    }
  }

  const Plugin& plugin_;
  int block_frames_;
  Features features_;
  UridMap& urids_;
  std::vector<float> controls_;              ///< by port
  std::vector<std::vector<float>> signals_;  ///< by port
  std::vector<Events> events_;
  std::unique_ptr<LilvInstance, FreeInstance> lilv_;  ///< last: goes before what its ports point at
};

class Lv2Unit : public InstancedUnit<Instance> {
 public:
  Lv2Unit(World world, Plugin plugin, const UnitSpec& spec)
      : world_(std::move(world)), plugin_(std::move(plugin)) {
    for (const Preset& preset : presets_of(world_.get(), plugin_.lilv))
      plugin_.info.presets.push_back(preset.label);
    const UnitSpec settings = take_state_from(spec);
    if (state_) take_values(state_.get(), urids_, plugin_.info);
    // Its ports have their defaults already.
    if (!state_ && plugin_.wants_default_state) state_ = default_state(world_.get(), urids_, plugin_);
    values_ = setting_values(plugin_.info.name, plugin_.info.settings, settings);
  }

  ~Lv2Unit() override { instances_.clear(); }  // before what they refer to
  const UnitInfo& info() const noexcept override { return plugin_.info; }

  void prepare(double sample_rate_hz, int channel_count, int block_frames) override {
    const std::string why = refusal(plugin_, block_frames);
    if (!why.empty())
      throw Error(ErrorCode::unit_failed, fmt::format("{} cannot be hosted: {}", plugin_.info.name, why));
    fit_ = fit_channels(plugin_.info, channel_count);
    sample_rate_hz_ = sample_rate_hz;
    channel_count_ = channel_count;
    block_frames_ = block_frames;
    require_loadable();
    instances_.clear();
    for (int i = 0; i < fit_.count; ++i)
      instances_.push_back(
          std::make_unique<Instance>(plugin_, urids_, state_.get(), values_, sample_rate_hz, block_frames));
  }

  bool turn(std::size_t setting, double value) override {
    values_.at(setting) = value;
    for (const auto& instance : instances_) instance->turn(setting, value);
    return true;
  }

  bool restart_from_own_state() override {
    const State saved = instances_.at(0)->state();
    // Written and read again, as a session does.
    const std::unique_ptr<char, void (*)(void*)> text(
        saved ? lilv().state_to_string(world_.get(), map_of(urids_), unmap_of(urids_), saved.get(),
                                       "urn:wavicon:saved", nullptr)
              : nullptr,
        lilv().free);
    State read(text ? lilv().state_new_from_string(world_.get(), map_of(urids_), text.get()) : nullptr);
    if (!read)
      throw Error(ErrorCode::unit_failed,
                  fmt::format("{} saves a state that cannot be read again", plugin_.info.name));
    UnitInfo restored = plugin_.info;
    take_values(read.get(), urids_, restored);
    for (std::size_t i = 0; i < values_.size(); ++i) values_[i] = restored.settings[i].default_value;
    state_ = std::move(read);
    prepare(sample_rate_hz_, channel_count_, block_frames_);
    return true;
  }

 private:
  // What is left of the spec once preset=, state= and bypass= were heeded; a setting of the plugin that is
  // called so goes before.
  UnitSpec take_state_from(UnitSpec spec) {
    UnitInfo& info = plugin_.info;
    const auto is_setting = [&](const std::string& symbol) {
      return std::any_of(info.settings.begin(), info.settings.end(),
                         [&](const SettingInfo& s) { return s.symbol == symbol; });
    };
    UnitSpec rest{spec.scheme, spec.name, {}};
    bool loaded = false;
    for (auto& [symbol, text] : spec.settings) {
      const bool state = symbol == "preset" || symbol == "state";
      if (is_setting(symbol) || !(state || symbol == "bypass")) {
        rest.settings.emplace_back(symbol, text);
      } else if (state) {
        if (loaded)
          throw Error(ErrorCode::bad_argument,
                      fmt::format("{}: one preset or one state at a time", info.name));
        loaded = true;
        state_ = symbol == "preset" ? open_preset(world_.get(), urids_, plugin_, text)
                                    : open_saved_state(world_.get(), urids_, plugin_, text);
      } else {
        rest.settings.emplace_back(enabled_for(text));
      }
    }
    return rest;
  }

  [[nodiscard]] std::pair<std::string, std::string> enabled_for(const std::string& bypass) const {
    const UnitInfo& info = plugin_.info;
    if (info.enabled_setting.empty())
      throw Error(
          ErrorCode::bad_argument,
          fmt::format("{} has no switch that says whether it is in use, so it cannot be bypassed; leave "
                      "it out of the chain",
                      info.name));
    if (bypass != "0" && bypass != "1")
      throw Error(ErrorCode::bad_argument, fmt::format("{}: bypass={} is not 0 or 1", info.name, bypass));
    return {info.enabled_setting, bypass == "1" ? "0" : "1"};
  }

  // lilv says on standard error why a binary does not load; this way it stands in the exception.
  void require_loadable() const {
    const LilvNode* library = lilv().plugin_get_library_uri(plugin_.lilv);
    const std::unique_ptr<char, void (*)(void*)> path(
        library ? lilv().file_uri_parse(lilv().node_as_uri(library), nullptr) : nullptr, lilv().free);
    if (!path)
      throw Error(ErrorCode::unit_failed, fmt::format("{} names no binary in its bundle", plugin_.info.name));
    void* loaded = dlopen(path.get(), RTLD_NOW | RTLD_LOCAL);
    if (loaded == nullptr)
      throw Error(ErrorCode::unit_failed,
                  fmt::format("{} cannot be loaded: {}", plugin_.info.name, dlerror()));
    dlclose(loaded);
  }

  World world_;
  UridMap urids_;
  Plugin plugin_;
  State state_;  ///< what was asked for, else the plugin's own; null: none
  std::vector<double> values_;
  double sample_rate_hz_ = 0;
  int channel_count_ = 0, block_frames_ = 0;
};

std::string uri_of(const LilvPlugin* plugin) { return lilv().node_as_uri(lilv().plugin_get_uri(plugin)); }

// "Overdrive" of http://…/mda/Overdrive or urn:…:Overdrive.
std::string last_segment(const std::string& uri) { return uri.substr(uri.find_last_of("/#:") + 1); }

void load_bundle(LilvWorld* world, const fs::path& folder) {
  const Node uri(lilv().new_file_uri(world, nullptr, (fs::absolute(folder).lexically_normal() / "").c_str()));
  lilv().world_load_bundle(world, uri.get());
}

// What lilv says of a faulty bundle is no message of ours: nobody asked for that bundle.
class QuietErrors {
 public:
  QuietErrors() : kept_(::dup(STDERR_FILENO)) {
    std::fflush(stderr);
    const int nothing = ::open("/dev/null", O_WRONLY | O_CLOEXEC);
    if (kept_ >= 0 && nothing >= 0) ::dup2(nothing, STDERR_FILENO);
    if (nothing >= 0) ::close(nothing);
  }
  ~QuietErrors() {
    std::fflush(stderr);
    if (kept_ < 0) return;
    ::dup2(kept_, STDERR_FILENO);
    ::close(kept_);
  }
  QuietErrors(const QuietErrors&) = delete;
  QuietErrors& operator=(const QuietErrors&) = delete;

 private:
  int kept_;
};

std::vector<const LilvPlugin*> all_plugins(LilvWorld* world) {
  std::vector<const LilvPlugin*> found;
  const LilvPlugins* plugins = lilv().world_get_all_plugins(world);
  WAVICON_LILV_EACH(plugins, i, plugins) found.push_back(lilv().plugins_get(plugins, i));
  return found;
}

bool is_bundle(const fs::path& folder) {
  std::error_code ignored;
  return fs::is_regular_file(folder / "manifest.ttl", ignored);
}

void load_own_bundles(LilvWorld* world, const UnitSearch& search) {
  std::error_code ignored;
  for (const fs::path& folder : search.own_bundle_folders)
    for (const auto& entry : fs::directory_iterator(folder, ignored))
      if (is_bundle(entry.path())) load_bundle(world, entry.path());
}

const LilvPlugin* by_uri(LilvWorld* world, const std::string& uri) {
  const Node node(lilv().new_uri(world, uri.c_str()));
  return node ? lilv().plugins_get_by_uri(lilv().world_get_all_plugins(world), node.get()) : nullptr;
}

Error unknown(const std::string& message) { return Error(ErrorCode::bad_argument, message); }

// BUNDLE or BUNDLE:NAME, where NAME is the URI or its last segment.
const LilvPlugin* by_bundle(LilvWorld* world, const std::string& name) {
  fs::path folder = name;
  std::string wanted;
  std::error_code ignored;
  if (!fs::is_directory(folder, ignored)) {
    const auto colon = name.find(':');
    folder = name.substr(0, colon);
    wanted = name.substr(colon + 1);
  }
  if (!is_bundle(folder))
    throw unknown(
        fmt::format("lv2:{}: {} is no LV2 bundle (it holds no manifest.ttl)", name, folder.string()));
  load_bundle(world, folder);
  const auto plugins = all_plugins(world);
  if (plugins.empty()) throw unknown(fmt::format("lv2:{}: the bundle describes no plugin", name));
  if (wanted.empty() && plugins.size() == 1) return plugins.front();
  std::vector<std::string> names;
  for (const LilvPlugin* plugin : plugins) {
    const std::string uri = uri_of(plugin);
    if (uri == wanted || last_segment(uri) == wanted) return plugin;
    names.push_back(last_segment(uri));
  }
  if (wanted.empty())
    throw unknown(fmt::format("lv2:{}: the bundle holds {} plugins; name one, for example lv2:{}:{}", name,
                              names.size(), name, names.front()));
  throw unknown(
      fmt::format("lv2:{}: the bundle has no plugin '{}'{}", name, wanted, name_hint(wanted, names)));
}

const LilvPlugin* by_name(LilvWorld* world, const std::string& name, const UnitSearch& search) {
  std::error_code ignored;
  const bool path = fs::is_directory(name, ignored) ||
                    fs::is_directory(name.substr(0, name.find(':')), ignored) || name[0] == '/' ||
                    name[0] == '.';
  if (path) return by_bundle(world, name);
  const QuietErrors quiet;
  load_own_bundles(world, search);
  if (const LilvPlugin* own = by_uri(world, name)) return own;
  lilv().world_load_all(world);
  if (const LilvPlugin* installed = by_uri(world, name)) return installed;
  std::vector<std::string> uris;
  for (const LilvPlugin* plugin : all_plugins(world)) uris.push_back(uri_of(plugin));
  throw unknown(fmt::format("there is no LV2 plugin '{}'{}; 'wavicon units' lists what is there", name,
                            name_hint(name, uris)));
}

}  // namespace

std::unique_ptr<Unit> open_lv2(const UnitSpec& spec, const UnitSearch& search) {
  World world(lilv().world_new());
  const LilvPlugin* plugin = by_name(world.get(), spec.name, search);
  Plugin described = describe(world.get(), plugin, "lv2:" + spec.name, search.sample_rate_hz);
  return std::make_unique<Lv2Unit>(std::move(world), std::move(described), spec);
}

namespace {

UnitListing listing_of(LilvWorld* world, const LilvPlugin* described, const UnitSearch& search) {
  constexpr int kUsualBlockFrames = 512;
  const Plugin plugin = describe(world, described, "lv2:" + uri_of(described), search.sample_rate_hz);
  return {plugin.info.name, plugin.info.title, plugin.info.input_count, plugin.info.output_count,
          refusal(plugin, kUsualBlockFrames)};
}

// The folder that a plugin was found in, as bundles_in() names it.
std::string folder_of(const LilvPlugin* described) {
  const std::unique_ptr<char, void (*)(void*)> path(
      lilv().file_uri_parse(lilv().node_as_uri(lilv().plugin_get_bundle_uri(described)), nullptr),
      lilv().free);
  std::error_code ignored;
  return path ? in_one_line(fs::canonical(path.get(), ignored).string()) : "";
}

// Reads them all; what did not change since it was kept is not described again.
void list_all(const UnitSearch& search, const Lv2Bundles& kept, Lv2Bundles& bundles,
              std::vector<UnitListing>& list) {
  const QuietErrors quiet;
  const World world(lilv().world_new());
  load_own_bundles(world.get(), search);
  lilv().world_load_all(world.get());
  for (const LilvPlugin* described : all_plugins(world.get())) {
    const std::string folder = folder_of(described);
    const auto now = bundles.find(folder);
    const auto before = kept.find(folder);
    const UnitListing* known = nullptr;
    if (now != bundles.end() && before != kept.end() && now->second.stamp == before->second.stamp)
      for (const UnitListing& listing : before->second.plugins)
        if (listing.name == "lv2:" + uri_of(described)) known = &listing;
    list.push_back(known != nullptr ? *known : listing_of(world.get(), described, search));
    if (now != bundles.end()) now->second.plugins.push_back(list.back());
  }
}

bool are_the_same(const Lv2Bundles& kept, const Lv2Bundles& now) {
  return std::equal(kept.begin(), kept.end(), now.begin(), now.end(), [](const auto& a, const auto& b) {
    return a.first == b.first && a.second.stamp == b.second.stamp;
  });
}

}  // namespace

std::vector<UnitListing> list_lv2(const UnitSearch& search) {
  auto folders = lv2_folders();
  folders.insert(folders.end(), search.own_bundle_folders.begin(), search.own_bundle_folders.end());
  Lv2Bundles bundles = bundles_in(folders);
  const fs::path file = cache_file("lv2");
  const auto kept = parse_lv2_cache(kept_text(file), WAVICON_VERSION);
  std::vector<UnitListing> list;
  if (kept && are_the_same(*kept, bundles)) {
    for (const auto& [folder, bundle] : *kept)
      list.insert(list.end(), bundle.plugins.begin(), bundle.plugins.end());
  } else {
    list_all(search, kept.value_or(Lv2Bundles{}), bundles, list);
    keep_text(file, lv2_cache_text(bundles, WAVICON_VERSION));
  }
  std::sort(list.begin(), list.end(), [](const auto& a, const auto& b) { return a.name < b.name; });
  return list;
}

}  // namespace wavicon::path_detail
#endif
