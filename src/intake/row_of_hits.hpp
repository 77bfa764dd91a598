// SPDX-License-Identifier: MIT
#pragma once
// align_hits() of what is kept already. Internal to `intake`.

#include <optional>

#include "kept_channel.hpp"
#include "wavicon/intake/hits.hpp"

namespace wavicon::intake_detail {

/// @param options  channels do not matter: each has one.
[[nodiscard]] std::optional<HitRow> row_of_hits(KeptChannel& reference, KeptChannel& capture,
                                                AlignOptions options);

}  // namespace wavicon::intake_detail
