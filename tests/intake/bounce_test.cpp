// SPDX-License-Identifier: MIT
// A stand-in exporter with every habit that recording programs have, each alone and each with each.

#include "wavicon/intake/bounce.hpp"

#include <functional>

#include "damage.hpp"

namespace wavicon::bounce_test {
namespace {

using namespace testing;

constexpr double kRate = 48000;
using Signal = std::vector<double>;

Recipe kit_recipe() {
  // The marks stand at the very ends: there a fade meets them.
  Recipe recipe{.sample_rate_hz = kRate, .bits = 24};
  recipe.parts.push_back({.kind = Tone{.seconds = 1}});
  return recipe;
}

struct Export {
  std::vector<Signal> channels;
  SampleFormat format = SampleFormat::pcm24;
};

struct Habit {
  std::string name;
  std::function<void(Export&)> work;
  std::function<void(const Bounce&, const std::string&)> check;
};

double fade_gain(double part, bool cosine) {
  return part >= 1 ? 1 : cosine ? 0.5 - 0.5 * std::cos(M_PI * part) : part;
}

const std::vector<Habit>& habits() {
  static const std::vector<Habit> all = {
      {"pan law",
       [](Export& e) {
         for (auto& c : e.channels)
           for (double& v : c) v *= ratio_from_db(-3.01);
       },
       [](const Bounce& b, const std::string& what) {
         EXPECT_NEAR(b.gain_db, -3.01, 0.02) << what;
         EXPECT_EQ(b.gain_like, "a pan law of -3 dB") << what;
       }},
      {"16 bits, dithered",
       [](Export& e) {
         e.format = SampleFormat::pcm16;
         for (std::size_t c = 0; c < e.channels.size(); ++c)
           for (std::size_t n = 0; n < e.channels[c].size(); ++n)
             e.channels[c][n] = std::round(e.channels[c][n] * 32768 + random_triangular(5, 0, n)) / 32768;
       },
       [](const Bounce& b, const std::string& what) {
         EXPECT_EQ(b.used_bits, 16) << what;
         ASSERT_TRUE(b.dithered) << what;
         EXPECT_TRUE(*b.dithered) << what;
       }},
      {"16 bits, cut",
       [](Export& e) {
         e.format = SampleFormat::pcm16;
         for (auto& c : e.channels)
           for (double& v : c) v = std::floor(v * 32768) / 32768;
       },
       [](const Bounce& b, const std::string& what) {
         EXPECT_EQ(b.used_bits, 16) << what;
         ASSERT_TRUE(b.dithered) << what;
         EXPECT_FALSE(*b.dithered) << what;
       }},
      {"padded start",
       [](Export& e) {
         for (auto& c : e.channels) c.insert(c.begin(), 4800, 0.0);
       },
       [](const Bounce& b, const std::string& what) { EXPECT_EQ(b.lead_frames, 4800) << what; }},
      {"padded end",
       [](Export& e) {
         for (auto& c : e.channels) c.insert(c.end(), 7000, 0.0);
       },
       [](const Bounce& b, const std::string& what) { EXPECT_EQ(b.tail_frames, 7000) << what; }},
      {"trimmed end",
       [](Export& e) {
         for (auto& c : e.channels) c.resize(c.size() - 9000);
       },
       [](const Bounce& b, const std::string& what) { EXPECT_EQ(b.tail_frames, -9000) << what; }},
      {"delay",
       [](Export& e) {
         for (auto& c : e.channels) {
           c.insert(c.begin(), 333, 0.0);
           c.resize(c.size() - 333);
         }
       },
       [](const Bounce& b, const std::string& what) {
         EXPECT_EQ(b.lead_frames, 333) << what;
         EXPECT_TRUE(b.delayed) << what;
       }},
      {"faded in",
       [](Export& e) {
         for (auto& c : e.channels)
           for (std::size_t n = 0; n < 5000; ++n) c[n] *= fade_gain(static_cast<double>(n) / 5000, false);
       },
       [](const Bounce& b, const std::string& what) {
         EXPECT_NEAR(static_cast<double>(b.fade_in_frames), 5000, 300) << what << b.fade_shape;
       }},
      {"faded out",
       [](Export& e) {
         for (auto& c : e.channels)
           for (std::size_t n = 0; n < 6000; ++n)
             c[c.size() - 1 - n] *= fade_gain(static_cast<double>(n) / 6000, true);
       },
       [](const Bounce& b, const std::string& what) {
         EXPECT_NEAR(static_cast<double>(b.fade_out_frames), 6000, 400) << what;
       }},
      {"two channels", [](Export& e) { e.channels.push_back(e.channels[0]); },
       [](const Bounce& b, const std::string& what) { EXPECT_TRUE(b.copied) << what; }},
      {"turned",
       [](Export& e) {
         for (auto& c : e.channels)
           for (double& v : c) v = -v;
       },
       [](const Bounce& b, const std::string& what) { EXPECT_EQ(b.polarity, -1) << what; }}};
  return all;
}

Bounce examined_bounce(const Audio& audio, Stimulus& stimulus, SampleFormat format = SampleFormat::float64) {
  const std::shared_ptr<Stimulus> shared(std::shared_ptr<Stimulus>(), &stimulus);
  return examine_bounce(judge(audio, format, {shared, std::nullopt}, {.hold_faults = true}));
}

Bounce seen(const Export& e, Stimulus& stimulus) {
  Audio audio(kRate, static_cast<int>(e.channels.size()), static_cast<std::int64_t>(e.channels[0].size()));
  for (std::size_t c = 0; c < e.channels.size(); ++c)
    std::copy(e.channels[c].begin(), e.channels[c].end(), audio.channel(static_cast<int>(c)).begin());
  return examined_bounce(audio, stimulus, e.format);
}

Export played(Stimulus& stimulus) {
  Signal x = rendered(stimulus);
  for (double& v : x) v = std::round(v * 8388608) / 8388608;
  return {{x}, SampleFormat::pcm24};
}

void check_nothing(const Bounce& b) {
  EXPECT_NEAR(b.gain_db, 0, 0.001);
  EXPECT_EQ(b.polarity, 1);
  EXPECT_EQ(b.lead_frames, 0);
  EXPECT_EQ(b.tail_frames, 0);
  EXPECT_EQ(b.fade_in_frames, 0);
  EXPECT_EQ(b.fade_out_frames, 0);
  EXPECT_FALSE(b.delayed || b.copied || b.one_side || b.normalised || b.dithered.has_value());
  EXPECT_EQ(bounce_sheet(b, {}).findings[0].text,
            "the session left it untouched: no gain, trim, fade or resampling");
}

TEST(Bounce, OfAnHonestExporterIsAsItWasPlayed) {
  Stimulus stimulus(kit_recipe());
  check_nothing(seen(played(stimulus), stimulus));
}

TEST(Bounce, EveryHabitIsNamedAloneAndWithEveryOther) {
  Stimulus stimulus(kit_recipe());
  for (std::size_t i = 0; i < habits().size(); ++i)
    for (std::size_t j = i; j < habits().size(); ++j) {
      const Habit &first = habits()[i], &second = habits()[j];
      const std::string what = first.name + " and " + second.name;
      const auto both = [&](const std::string& a, const std::string& b) {
        return (first.name == a && second.name == b) || (first.name == b && second.name == a);
      };
      // These undo each other, or are one habit twice.
      if (both("16 bits, dithered", "16 bits, cut") || both("padded start", "delay") ||
          both("padded end", "trimmed end") || both("padded end", "delay") || both("trimmed end", "delay"))
        continue;
      Export e = played(stimulus);
      // Word length last, as a program does; what is cut or put before comes after fades.
      const auto late = [](const Habit& h) {
        return h.name.rfind("16 bits", 0) == 0 ? 2 : h.name.find("faded") == 0 ? 0 : 1;
      };
      const bool swap = late(first) > late(second);
      (swap ? second : first).work(e);
      if (i != j) (swap ? first : second).work(e);
      // A fade that begins before the end that it fades to is moved or cut: its length is not the exporter's
      // any more.
      const bool moved_in = (first.name == "faded in" || second.name == "faded in") &&
                            (both("faded in", "padded start") || both("faded in", "delay"));
      const bool moved_out =
          (first.name == "faded out" || second.name == "faded out") &&
          (both("faded out", "padded end") || both("faded out", "trimmed end") || both("faded out", "delay"));
      const Bounce b = seen(e, stimulus);
      if (!(moved_in && first.name == "faded in") && !(moved_out && first.name == "faded out"))
        first.check(b, what);
      if (!(moved_in && second.name == "faded in") && !(moved_out && second.name == "faded out"))
        second.check(b, what);
      EXPECT_NE(bounce_sheet(b, {}).findings[0].text,
                "the session left it untouched: no gain, trim, fade or resampling")
          << what;
    }
}

TEST(Bounce, NormalisingAndATrimmedStartAreNamed) {
  Stimulus stimulus(kit_recipe());
  Export loud = played(stimulus);
  double peak = 0;
  for (const double v : loud.channels[0]) peak = std::max(peak, std::abs(v));
  for (double& v : loud.channels[0]) v *= ratio_from_db(-0.3) / peak;
  const Bounce b = seen(loud, stimulus);
  EXPECT_TRUE(b.normalised);
  EXPECT_NE(bounce_sheet(b, {}).findings[0].text.find("normalised: its peak is at -0.3 dBFS"),
            std::string::npos);
  Export cut = played(stimulus);
  cut.channels[0].erase(cut.channels[0].begin(), cut.channels[0].begin() + 9000);
  EXPECT_EQ(seen(cut, stimulus).lead_frames, -9000);
  Export side = played(stimulus);
  side.channels.emplace_back(side.channels[0].size(), 0.0);
  EXPECT_TRUE(seen(side, stimulus).one_side);
  Export other{{Signal(48000, 0.0)}, SampleFormat::pcm24};
  EXPECT_NE(message_of(ErrorCode::bad_input, [&] { (void)seen(other, stimulus); }).find("not found"),
            std::string::npos);
}

TEST(Bounce, AnEqualiserIsNoFade) {
  const Recipe recipe = kit_recipe();
  for (const double pole : {0.9, 0.99}) {
    // A low cut, then a high cut: y[n] = x[n] - x[n-1] + p·y[n-1], and its mirror image.
    for (const bool low : {true, false}) {
      Stimulus stimulus(recipe);
      Audio audio(kRate, 1, stimulus.frames());
      stimulus.render(0, 0, audio.channel(0));
      double before = 0, out = 0;
      for (double& v : audio.channel(0)) {
        const double x = v;
        out = low ? x - before + pole * out : (1 - pole) * x + pole * out;
        before = x;
        v = out;
      }
      const Bounce bounce = examined_bounce(audio, stimulus);
      const std::string what = std::to_string(pole) + (low ? " low" : " high");
      EXPECT_EQ(bounce.fade_in_frames, 0) << what;
      EXPECT_EQ(bounce.fade_out_frames, 0) << what;
      if (!low || pole < 0.95) {
        EXPECT_GT(bounce.shaped_db, 1) << what;
      }
    }
  }
}

// As programs stretch in time with the pitch kept: grains of 43 ms, half over each other, put farther apart.
Signal stretched(const Signal& x, double ratio) {
  constexpr std::size_t kGrain = 2048, kHop = kGrain / 2;
  Signal y(static_cast<std::size_t>(static_cast<double>(x.size()) * ratio), 0.0);
  for (std::size_t out = 0; out + kGrain <= y.size(); out += kHop) {
    const auto in = static_cast<std::size_t>(static_cast<double>(out) / ratio);
    for (std::size_t n = 0; n < kGrain && in + n < x.size(); ++n)
      y[out + n] += (0.5 - 0.5 * std::cos(2 * M_PI * static_cast<double>(n) / kGrain)) * x[in + n];
  }
  return y;
}

TEST(Bounce, StretchingIsToldFromLostFrames) {
  Recipe recipe{.sample_rate_hz = kRate, .bits = 24, .silence_before_s = 0.5, .silence_after_s = 1};
  recipe.parts.push_back({.kind = Noise{.colour = "pink", .seconds = 4}});
  recipe.parts.push_back({.kind = Programme{.content = "voice", .seconds = 3}});
  Stimulus stimulus(recipe);
  Signal x(static_cast<std::size_t>(stimulus.frames()));
  stimulus.render(0, 0, x);
  const auto examined = [&](const Signal& y) {
    Audio audio(kRate, 1, static_cast<std::int64_t>(y.size()));
    std::copy(y.begin(), y.end(), audio.channel(0).begin());
    return examined_bounce(audio, stimulus);
  };
  for (const double ratio : {0.99, 1.002, 1.02})
    EXPECT_NEAR(examined(stretched(x, ratio)).tempo_ratio, ratio, 0.001) << ratio;
  for (const std::ptrdiff_t lost : {480, 6000}) {
    Signal cut = x;
    cut.erase(cut.begin() + 150000, cut.begin() + 150000 + lost);
    EXPECT_EQ(examined(cut).tempo_ratio, 1) << lost;
    Signal twice = x;
    twice.insert(twice.begin() + 150000, x.begin() + 150000 - lost, x.begin() + 150000);
    EXPECT_EQ(examined(twice).tempo_ratio, 1) << lost;
  }
  EXPECT_EQ(examined(x).tempo_ratio, 1);
}

}  // namespace
}  // namespace wavicon::bounce_test
