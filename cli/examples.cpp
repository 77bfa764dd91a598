// SPDX-License-Identifier: MIT
// Two examples for each command, at the end of its help; a test runs them all.
#include <fmt/format.h>

#include <array>
#include <string_view>

#include "commands.hpp"

namespace wavicon::cli {
namespace {

struct Examples {
  std::string_view command;
  std::array<std::string_view, 2> calls;
};

// On files that ./demo makes, in its folder.
constexpr Examples kExamples[] = {
    {"make",
     {"tone --frequency 997 --level -20 --seconds 2 -o tone.wav",
      "--recipe ../data/booth-2-morning.toml --rates 48000,96000 -o ."}},
    {"show", {"booth-2-morning-48000.wav", "blocks.wav --save-recipe blocks.toml"}},
    {"units", {"", "sim:tern"}},
    {"feed",
     {"tone.wav --through 'sim:tern?drive=24' -o tern-drive-24.wav",
      "slow-sweep.wav --through 'sim:tern?drive=0,9,18&oversampling=1,4' -o tern-settings.wav"}},
    {"kit", {"make ../data/session-kit.toml --rates 44100,48000 -o session", "read kit --csv bounces.csv"}},
    {"stand-in",
     {"'heron?delay=261.4&reports=200&noise=-110' --server booth",
      "'heron?buffers=2' --server booth --name slow"}},
    {"health", {"morning-good.wav", "sweep-back.wav --reference sweep.wav"}},
    {"levels", {"voice.wav chamber.wav", "voice.wav --limit 'true_peak_dbtp<-1'"}},
    {"spectrum", {"curlew.wav --channel 1 --peaks 6", "curlew-silence.wav --channel 1 --plot lines.png"}},
    {"spectrogram",
     {"tern-times/oversampling-1.wav --linear --orders 7 --part sweep --plot folding.png",
      "voice.wav --plot voice.png"}},
    {"harmonics", {"tern-drive-24.wav --plot harmonics.png", "tern-steps.wav --all"}},
    {"noise",
     {"curlew-silence.wav heron-silence.wav heron-on-batteries.wav --channel 1",
      "heron-silence.wav --channel 1 --calibrate 0dBFS=2.45Vrms --reference-level 1V"}},
    {"aliasing", {"tern-times/oversampling-*.wav --enough -80 --plot aliasing.png", "fold-8.wav"}},
    {"clipping", {"heron-ramp.wav tern-ramp.wav", "heron-ramp.wav --limit 'clipping_point_dbfs>-6'"}},
    {"takes",
     {"reading-1.wav reading-2.wav reading-3.wav",
      "reading-1.wav reading-2.wav reading-3.wav --write readings"}},
    {"response",
     {"slow-sweep.wav avocet-cut-2.wav avocet-cut-4.wav --plot curves.png",
      "pink.wav pink-presence.wav pink-shelf.wav --difference --filter match.wav"}},
    {"dynamics",
     {"levels-and-block.wav plover-peak.wav plover-rms.wav --panel-attack 10",
      "blocks.wav blocks-back.wav --plot curve.png"}},
    {"waveforms", {"four-tones.wav curlew-tones.wav", "four-tones.wav curlew-tones.wav --plot periods.png"}},
    {"null",
     {"chapter-one.wav run-1.wav run-2.wav run-3.wav --channel 1",
      "run-1.wav run-2.wav run-3.wav --all-pairs"}},
    {"latency",
     {"tone.wav heron-block-64.wav --reported 128", "track.wav machine.wav --draw hits --plot hits.png"}},
    {"pair", {"chapter-one.wav run-3.wav --channels 1,1", "chapter-one.wav --plot channels.png"}},
    {"bench",
     {"--plan saturation 'sim:tern?drive=6,18' --only tone=997 --logbook logbook.sqlite --plot thd.png",
      "../data/tern-oversampling.toml --only oversampling=1 --logbook logbook.sqlite --junit bench.xml"}},
    {"logbook",
     {"rank noise_dbu --tag kind=interface --logbook logbook.sqlite",
      "trend noise_dbu --words heron-2026 --logbook logbook.sqlite --plot noise-over-time.png"}},
    {"report",
     {"tern-drive-24.json --title 'Tern at 24 dB' -o tern.html",
      "noise --from-logbook --logbook logbook.sqlite -o noise.html"}},
    {"watch",
     {"voice.wav --view levels --seconds 3 --lines",
      "--through 'sim:tern?drive=12' --play tone --level -20 --until 'thd_db>-70'"}},
    {"doctor", {"", "--missing"}},
    {"help", {"aliasing", "recipes"}},
    {"completion", {"bash", "zsh"}},
    {"explain", {"thd_n_db", "--all"}}};

}  // namespace

void add_examples(CLI::App& app) {
  for (const Examples& examples : kExamples) {
    CLI::App* command = find_command(app, examples.command);
    if (command == nullptr) continue;
    std::string text = "Examples, in the folder that ./demo fills:\n";
    for (const std::string_view call : examples.calls)
      text += fmt::format("  wavicon {}{}{}\n", examples.command, call.empty() ? "" : " ", call);
    command->footer(text);
  }
}

}  // namespace wavicon::cli
