// SPDX-License-Identifier: MIT
#pragma once
// SOCI without what it adds for Boost, whose headers Debian's package of SOCI does not bring along.

#include <soci/soci-config.h>
#undef SOCI_HAVE_BOOST
#undef SOCI_HAVE_BOOST_DATE_TIME
#include <soci/soci.h>
