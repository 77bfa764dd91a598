// SPDX-License-Identifier: MIT
#pragma once
// What a path added to each order, when what went in had harmonics of its own.

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// Adds to a harmonics sheet, from that of what went in: `hN_added_dbc`, the size of the difference of the
/// two orders as vectors, each relative to its fundamental and with its phase; and `thd_change_db`. Exact
/// where the path passes what went in with the same gain and the same delay at all orders. A bound where
/// either order is one and matters.
///
/// @param before  of as many channels, or of one, which then stands for all.
/// @throws Error bad_argument when the channels do not match, or the fundamentals differ by more than 0.1 %.
WAVICON_EXPORT void add_harmonics_change(Sheet& after, const Sheet& before);

}  // namespace wavicon
