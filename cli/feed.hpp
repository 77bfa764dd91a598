// SPDX-License-Identifier: MIT
#pragma once
// What feeding one capture and feeding a ladder of them share.

#include "commands.hpp"

namespace wavicon::cli {

struct Feed {
  std::string stimulus;
  std::vector<std::string> units;
  std::string capture;
  int block_frames = 512;
  std::vector<int> blocks;       ///< as given; several make a ladder
  std::vector<double> rates_hz;  ///< at which the stimulus is made anew
  int jobs = 0;                  ///< 0: as many as there are cores
  bool keep_latency = false;
  double tail_s = 0;
  FormatOptions format;
  bool in_process = false;
  double ceiling_dbfs = -6;  ///< of what is played through a server
  int repeat = 0;            ///< rounds more when the server loses the beat
  double patience_s = 10;
  bool quiet = false;
};

/// One capture, as the settings say.
int feed_once(const Feed& feed);
/// Played and recorded through a server. @param spec  jack:SERVER?to=PORTS&from=PORTS
int feed_live(const Feed& feed, const UnitSpec& spec);
/// One, or all steps of a ladder: every combination of listed values, block lengths and rates, several at
/// once, each in a process of its own; steps that an interrupted run has finished are not fed again.
int run_feed(const Feed& feed);

}  // namespace wavicon::cli
