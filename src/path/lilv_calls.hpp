// SPDX-License-Identifier: MIT
#pragma once
// What is called of liblilv-0.so.0, which is loaded with the first call: who does without it does not need
// it. Internal to `path`.

#include <lilv/lilv.h>

// clang-format off
#define WAVICON_LILV_CALLS(CALL) \
  CALL(file_uri_parse) CALL(free) CALL(instance_free) CALL(new_file_uri) CALL(new_uri) \
  CALL(node_as_float) CALL(node_as_string) CALL(node_as_uri) CALL(node_equals) CALL(node_free) \
  CALL(node_get_path) CALL(node_is_literal) CALL(node_is_uri) CALL(nodes_begin) CALL(nodes_free) \
  CALL(nodes_get) CALL(nodes_is_end) CALL(nodes_next) CALL(plugin_get_author_name) \
  CALL(plugin_get_bundle_uri) CALL(plugin_get_library_uri) CALL(plugin_get_name) \
  CALL(plugin_get_num_ports) CALL(plugin_get_port_by_index) CALL(plugin_get_related) \
  CALL(plugin_get_required_features) CALL(plugin_get_uri) CALL(plugin_has_extension_data) \
  CALL(plugin_has_feature) CALL(plugin_instantiate) CALL(plugins_begin) CALL(plugins_get) \
  CALL(plugins_get_by_uri) CALL(plugins_is_end) CALL(plugins_next) CALL(port_get) CALL(port_get_name) \
  CALL(port_get_range) CALL(port_get_scale_points) CALL(port_get_symbol) CALL(port_has_property) \
  CALL(port_is_a) CALL(scale_point_get_label) CALL(scale_point_get_value) CALL(scale_points_begin) \
  CALL(scale_points_free) CALL(scale_points_get) CALL(scale_points_is_end) CALL(scale_points_next) \
  CALL(state_emit_port_values) CALL(state_free) CALL(state_get_plugin_uri) CALL(state_new_from_file) \
  CALL(state_new_from_instance) CALL(state_new_from_string) CALL(state_new_from_world) \
  CALL(state_restore) CALL(state_to_string) CALL(world_free) CALL(world_get) \
  CALL(world_get_all_plugins) CALL(world_load_all) CALL(world_load_bundle) CALL(world_load_resource) \
  CALL(world_new)
// clang-format on

namespace wavicon::path_detail {

struct LilvCalls {
#define WAVICON_CALL(name) decltype(&::lilv_##name) name;
  WAVICON_LILV_CALLS(WAVICON_CALL)
#undef WAVICON_CALL
};

/// @throws Error unit_failed naming the package, where the library is not there.
const LilvCalls& lilv();

}  // namespace wavicon::path_detail

/// A loop over one of lilv's collections: what LILV_FOREACH is, by calls of the loaded library.
#define WAVICON_LILV_EACH(collection, iterator, list)                                                        \
  for (LilvIter* iterator = lilv().collection##_begin(list); !lilv().collection##_is_end(list, iterator); \
       (iterator) = lilv().collection##_next(list, iterator))
