// SPDX-License-Identifier: MIT
// Ready plans: each of a stand-in whose figures are known, and of what somebody else made.

#include <cmath>
#include <numbers>

#include "program.hpp"

namespace wavicon::ready_plans_test {
namespace {

using namespace testing;

class ReadyPlan : public Program {
 protected:
  // The first line is the answer.
  std::string first_line(const std::string& arguments, int status = 0) const {
    const Ran ran = wavicon("bench --plan " + arguments);
    EXPECT_EQ(ran.status, status) << arguments << "\n" << ran.out << ran.err;
    return ran.out.substr(0, ran.out.find('\n'));
  }
  json page(const std::string& arguments) const {
    return json::parse(wavicon("bench --json --plan " + arguments).out);
  }
  static double value(const json& row, const std::string& name) {
    return row.at(name).at("value").get<double>();
  }
  // A recording that Wavicon did not make: plucked strings with noise.
  void write_recording(const std::string& name, double gain, int late, double noise,
                       double rate_hz = 44100) const {
    Audio audio(rate_hz, 1, static_cast<std::int64_t>(6 * rate_hz));
    std::uint32_t state = 99 + static_cast<std::uint32_t>(late);
    for (int n = 0; n < static_cast<int>(audio.frames()); ++n) {
      state = state * 1664525 + 1013904223;
      double y = noise * (static_cast<double>(state >> 8) / (1 << 23) - 1);
      const double at = (n - late) / rate_hz;
      for (int note = 0; at > 0 && note < 12; ++note)
        if (const double t = at - 0.43 * note; t > 0 && t < 2)
          for (int k = 1; k < 6; ++k)
            y += gain * 0.1 * std::exp(-3 * k * t) *
                 std::sin(2 * std::numbers::pi * k * (98.3 + 17.9 * ((note * 5) % 7)) * t);
      audio.channel(0)[static_cast<std::size_t>(n)] = static_cast<float>(y);
    }
    write_audio_file(file(name), audio, {.format = SampleFormat::pcm24});
  }
  // Plugins of a package of Debian's, where it is installed.
  Ran with_system_plugins(const std::string& arguments) const {
    return testing::run("cd '" + folder_.path().string() + "' && WAVICON_LOGBOOK=logbook.sqlite '" +
                        WAVICON_PROGRAM + "' " + arguments);
  }
  bool is_installed(const std::string& unit) const {
    return with_system_plugins("units " + unit).status == 0;
  }
};

TEST_F(ReadyPlan, AreListedSavedAndRunFromTheFile) {
  const std::string list = good("bench --plans");
  for (const char* name : {"cables", "compressor", "converter", "equaliser", "examination", "interface",
                           "latency", "oversampling", "saturation", "session", "takes"})
    EXPECT_HAS(list, name);
  EXPECT_HAS(good("bench --plan oversampling 'sim:tern?drive=18&oversampling=1,8' --save own.toml"),
             "own.toml: the plan 'oversampling-tern' with 2 cells");
  EXPECT_HAS(read_text(file("own.toml")), "through = [\"sim:tern?drive=18&oversampling={oversampling}\"]");
  EXPECT_HAS(wavicon("bench own.toml").out, "oversampling-tern: oversampling 8 is the first that keeps");
  // It is the same plan: what was measured is known.
  EXPECT_HAS(wavicon("bench --plan oversampling 'sim:tern?drive=18&oversampling=1,8'").out,
             "2 of them known from before");
  EXPECT_HAS(bad(2, "bench --plan oversamplig sim:tern"), "did you mean 'oversampling'");
  EXPECT_HAS(bad(2, "bench --plan oversampling sim:tern"), "it has one value alone");
  EXPECT_HAS(bad(2, "bench --plan cables a.wav"), "one capture is given to it");
  EXPECT_HAS(bad(2, "bench --plan saturation a.wav"), "'a.wav' is no unit");
  EXPECT_HAS(bad(2, "bench --plan cables sim:tern sim:tern"), "units are given to it; it takes at least two");
  EXPECT_HAS(bad(2, "bench --plan converter sim:tern a.wav"), "units and files are given together");
  EXPECT_HAS(bad(2, "bench --plan interface"), "nothing is given to it");
  EXPECT_HAS(bad(2, "bench"), "which plan?");
  EXPECT_HAS(bad(2, "bench a.toml --save b.toml"), "--save is of a ready plan");
  EXPECT_HAS(bad(2, "bench own.toml --share 3/2"), "--share 3/2 is not I/N");
  EXPECT_HAS(bad(2, "bench own.toml --plot x.jpg"), ".png or .svg");
}

TEST_F(ReadyPlan, OversamplingSaysWhichIsEnough) {
  EXPECT_EQ(first_line("oversampling 'sim:tern?drive=18&oversampling=1,2,4,8,16' --plot os.svg", 1),
            "oversampling-tern: oversampling 8 is the first that keeps worst_alias_dbc<-80");
  EXPECT_HAS(read_text(file("os.svg")), "oversampling");
}

// y = tanh-like: THD rises with drive and level, and is the same for each tone.
TEST_F(ReadyPlan, SaturationIsAMatrixOverDriveToneAndLevel) {
  const json rows = page("saturation 'sim:tern?drive=0,12'")["harmonics"];
  ASSERT_EQ(rows.size(), 56u);
  for (std::size_t tone = 0; tone < 3; ++tone)
    for (std::size_t level = 2; level < 6; ++level) {
      EXPECT_LT(value(rows[7 * tone + level], "thd_db"), value(rows[7 * tone + level + 1], "thd_db"));
      EXPECT_LT(value(rows[7 * tone + level], "thd_db"), value(rows[28 + 7 * tone + level], "thd_db"));
      EXPECT_NEAR(value(rows[7 * tone + level], "thd_db"), value(rows[level], "thd_db"), 0.05);
    }
  // Units beside each other, two in series among them.
  const json beside = page(
      "saturation nothing 'sim:tern?drive=6' 'sim:tern?drive=6 sim:dunlin?gain=-6' "
      "--only 'tone=997 level=-12'")["harmonics"];
  ASSERT_EQ(beside.size(), 3u);
  EXPECT_EQ(beside[2]["unit"], "tern+dunlin");
  EXPECT_NEAR(value(beside[2], "thd_db"), value(beside[1], "thd_db"), 0.01);
  EXPECT_NEAR(value(beside[2], "fundamental_dbfs"), value(beside[1], "fundamental_dbfs") - 6, 0.01);
}

// The panel's values are Plover's own time constants: a peak detector is at 90 % after 2.303 of them.
TEST_F(ReadyPlan, CompressorsStandBesideEachOther) {
  const json rows = page("compressor 'sim:plover?threshold=-24&ratio=4&attack=5,20'")["dynamics"];
  ASSERT_EQ(rows.size(), 2u);
  for (std::size_t i = 0; i < 2; ++i) {
    EXPECT_NEAR(value(rows[i], "attack_90_ms"), 2.3026 * (i == 0 ? 5 : 20), 0.03 * 2.3 * 20);
    EXPECT_NEAR(value(rows[i], "threshold_dbfs"), -24, 0.1);
    EXPECT_NEAR(value(rows[i], "ratio"), 4, 0.02);
  }
  const json family =
      page("compressor 'sim:plover?threshold=-20&ratio=2' 'sim:plover?threshold=-30&ratio=8'");
  EXPECT_NEAR(value(family["dynamics"][1], "ratio"), 8, 0.1);
  EXPECT_EQ(family["dynamics"][1]["unit"], "plover-2");
}

TEST_F(ReadyPlan, EqualisersAreMeasuredFromAllSides) {
  const json all = page("equaliser 'sim:avocet?bell=-6,6&bell_hz=1000&q=1'");
  ASSERT_EQ(all["response_curve"].size(), 2u);
  EXPECT_NEAR(value(all["response_curve"][0], "gain_db"), -6, 0.05);
  EXPECT_NEAR(value(all["response_curve"][1], "gain_db"), 6, 0.05);
  for (const char* table : {"harmonics_tone", "clipping_ramp", "null"})
    EXPECT_EQ(all[table].size(), 2u) << table;
}

TEST_F(ReadyPlan, InterfacesAreReadAtOnceAndFromBounces) {
  const auto check = [](const json& all) {
    EXPECT_NEAR(value(all["noise_quiet"][0], "noise_dbfs"), -97.9, 1);  // noise at -108 beside hum at -96
    EXPECT_NEAR(value(all["noise_quiet"][0], "mains_dbfs"), -96, 0.2);
    EXPECT_NEAR(value(all["response_left"][0], "crosstalk_db"), -60, 0.5);
    EXPECT_LT(value(all["response_left"][0], "ripple_db"), 0.02);
  };
  const std::string heron = "'sim:heron?noise=-108&hum=-96&crosstalk=-60'";
  const json fed = page("interface " + heron);
  check(fed);
  EXPECT_NEAR(value(fed["latency"][0], "latency_samples"), 261.4, 0.02);  // Heron's own delay
  // The same played from a file by another program, and recorded.
  good("bench --plan interface --stimulus play.wav");
  good("feed play.wav --through " + heron + " -o back.wav --keep-latency --tail 0.5 --quiet");
  check(page("interface back.wav"));
}

TEST_F(ReadyPlan, ConvertersAndDelaysAreRead) {
  const json curlew = page("converter sim:curlew");
  EXPECT_EQ(curlew["waveforms_tones"].size(), 1u);
  EXPECT_NEAR(value(curlew["noise_quiet"][0], "spur_dbfs"), -50, 0.1);  // the carrier that is left over
  const json late = page("latency 'sim:heron?delay=51.4&buffers=2'")["latency"];
  ASSERT_EQ(late.size(), 4u);
  for (std::size_t i = 0; i < 4; ++i)
    EXPECT_NEAR(value(late[i], "latency_samples"), 51.4 + 2 * std::stod(late[i]["block"].get<std::string>()),
                0.02);
}

// Recordings that Wavicon did not make.
TEST_F(ReadyPlan, CablesSessionsAndTakesAreForCapturesOfAnybody) {
  write_recording("a.wav", 1, 0, 1e-5);
  write_recording("b.wav", 0.5, 100, 1e-5);
  write_recording("c.wav", 0.9, 37, 1e-3);
  const json pairs = page("cables a.wav b.wav c.wav")["null_against"];
  ASSERT_EQ(pairs.size(), 3u);
  EXPECT_NEAR(value(pairs[0], "gain_db"), -6.02, 0.02);
  EXPECT_NEAR(value(pairs[0], "delay_samples"), 100, 0.01);
  EXPECT_NEAR(value(pairs[2], "delay_samples"), 37 - 100, 0.05);
  EXPECT_LT(value(pairs[0], "null_depth_db"), value(pairs[1], "null_depth_db"));
  EXPECT_HAS(wavicon("bench --plan session a.wav b.wav c.wav").out,
             "2 of 2 limits are not kept: null_depth_db<-90");
  EXPECT_HAS(first_line("takes a.wav b.wav c.wav"), "takes: ");
}

TEST_F(ReadyPlan, ExaminationOfOurPluginsFindsNothing) {
  const std::string bundle = std::string("lv2:") + WAVICON_BUNDLES + "/tern.lv2";
  const Ran ran = wavicon("bench --plan examination '" + bundle + "?drive=0' --only rate=48000");
  EXPECT_HAS(ran.out, "examination: nothing stands out");
}

TEST_F(ReadyPlan, PluginsOfOthersAreExaminedAndMeasured) {
  const std::string overdrive = "lv2:http://drobilla.net/plugins/mda/Overdrive",
                    bandisto = "lv2:http://drobilla.net/plugins/mda/Bandisto",
                    dynamics = "lv2:http://drobilla.net/plugins/mda/Dynamics";
  if (!is_installed(overdrive)) GTEST_SKIP() << "the package mda-lv2 is not installed";
  const Ran examined = with_system_plugins("bench --plan examination " + overdrive + " " + bandisto +
                                           " --only rate=48000 --json");
  const json cells = json::parse(examined.out)["examination"];
  ASSERT_EQ(cells.size(), 17u) << examined.out;
  const Ran driven = with_system_plugins("bench --plan saturation '" + overdrive +
                                         "?drive=0,0.5,1' --only 'tone=997 level=-6' --json");
  const json rows = json::parse(driven.out)["harmonics"];
  ASSERT_EQ(rows.size(), 3u) << driven.out << driven.err;
  EXPECT_LT(value(rows[0], "thd_db"), -120);
  EXPECT_GT(value(rows[2], "thd_db"), value(rows[1], "thd_db"));
  EXPECT_GT(value(rows[1], "thd_db"), -60);
  const Ran pressed = with_system_plugins("bench --plan compressor '" + dynamics + "' --json");
  EXPECT_EQ(json::parse(pressed.out)["dynamics"].size(), 1u) << pressed.out << pressed.err;
}

}  // namespace
}  // namespace wavicon::ready_plans_test
