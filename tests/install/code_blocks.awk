# SPDX-License-Identifier: MIT
# Blocks of code of a page in Markdown as a translation unit, a function each; what is no C++ is left out.
BEGIN {
  print "#include <cmath>\n#include <span>\n#include <vector>\n#include \"wavicon/bench/run.hpp\"\n#include \"wavicon/file/sheet_file.hpp\""
  print "#include \"wavicon/measure/measurement_list.hpp\"\n#include \"wavicon/measure/rolling.hpp\"\n#include \"wavicon/path/chain.hpp\""
  print "#include \"wavicon/testing/gtest.hpp\"\nusing namespace wavicon;\nusing namespace wavicon::matchers;"
  print "struct Saturator { double drive; double operator()(double x) const { return x / drive; } };"
  print "inline void show(double) {}"
  print "struct Around { Recipe recipe; Plan plan; BenchOptions options; std::vector<float> samples; double sample_rate = 48000, rate = 48000; int channels = 1, frames = 0; const float* const* channel_pointers = nullptr; };"
}
function finish() {
  if (block ~ /;/ && block !~ /find_package|Value of:|cmake /) {
    print "void block_" ++count "(Around& around) {\n  auto& [recipe, plan, options, samples, sample_rate, rate, channels, frames, channel_pointers] = around;"
    if (block !~ /auto drive/) print "  auto drive = [](float x) { return x; };"
    print block "  (void)recipe, (void)plan, (void)options, (void)samples, (void)sample_rate, (void)rate, (void)channels, (void)frames, (void)channel_pointers, (void)drive;\n}"
  }
  block = ""
}
/^    / { if ($0 !~ /^    #include/) block = block $0 "\n"; next }
/^$/ { if (block != "") block = block "\n"; next }
{ finish() }
END { finish(); if (count < 5) exit 1 }
