// SPDX-License-Identifier: MIT
#pragma once
// What is called of libjack.so.0, which is loaded with the first call: who does without it does not need it.
// Internal to `path`.

#include <jack/jack.h>

// clang-format off
#define WAVICON_JACK_CALLS(CALL) \
  CALL(activate) CALL(client_close) CALL(client_open) CALL(connect) CALL(deactivate) CALL(free) \
  CALL(get_buffer_size) CALL(get_client_name) CALL(get_ports) CALL(get_sample_rate) CALL(on_shutdown) \
  CALL(port_by_name) CALL(port_get_buffer) CALL(port_get_latency_range) CALL(port_name) \
  CALL(port_register) CALL(port_set_latency_range) CALL(set_error_function) CALL(set_info_function) \
  CALL(set_latency_callback) CALL(set_process_callback) CALL(set_xrun_callback)
// clang-format on

namespace wavicon::path_detail {

struct JackCalls {
#define WAVICON_CALL(name) decltype(&::jack_##name) name;
  WAVICON_JACK_CALLS(WAVICON_CALL)
#undef WAVICON_CALL
};

/// @throws Error unit_failed naming the package, where the library is not there.
const JackCalls& jack();

}  // namespace wavicon::path_detail
