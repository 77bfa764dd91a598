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
  double patience_s = 10;
  bool quiet = false;
};

/// One capture, as the settings say.
int feed_once(const Feed& feed);
/// One, or all steps of a ladder: every combination of listed values, block lengths and rates, several at
/// once, each in a process of its own; steps that an interrupted run has finished are not fed again.
int run_feed(const Feed& feed);

}  // namespace wavicon::cli
