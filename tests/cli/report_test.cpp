// SPDX-License-Identifier: MIT
// Pages to send, as a browser sees them. The browser and the checker are Debian's.

#include <unistd.h>

#include <cmath>
#include <map>
#include <regex>

#include "browser.hpp"
#include "program.hpp"

namespace wavicon::report_test {
namespace {

using namespace testing;

class ReportCommand : public Program {
 protected:
  void SetUp() override {
    good("make tone --frequency 997 --seconds 1 -o a.wav --quiet");
    for (const char* drive : {"0", "12", "24"})
      good(std::string("feed a.wav --through sim:tern?drive=") + drive + " -o drive-" + drive +
           ".wav --quiet");
    good("harmonics drive-0.wav drive-12.wav drive-24.wav --quiet --sheet three.json");
    good("harmonics drive-12.wav --quiet --sheet one.json");
  }
  static bool has(const std::string& program) { return testing::run("command -v " + program).status == 0; }
  // The browser over a page from the disk; a profile of its own, as any user.
  Ran browse(const std::string& options, const std::string& page) const {
    const std::string root = ::geteuid() == 0 ? "--no-sandbox " : "";
    return testing::run("cd '" + folder_.path().string() +
                        "' && timeout 60 chromium --headless --disable-gpu --disable-dev-shm-usage " + root +
                        "--no-first-run --user-data-dir=profile " + options + " 'file://" + file(page) + "'");
  }
  void write(const std::string& name, const std::string& text) const { std::ofstream(file(name)) << text; }
  static std::size_t count(const std::string& text, const std::string& part) {
    std::size_t n = 0;
    for (std::size_t at = text.find(part); at != std::string::npos; at = text.find(part, at + 1)) ++n;
    return n;
  }
};

TEST_F(ReportCommand, TheAnswerComesFirstAndTheEvidenceLast) {
  good("report three.json -o page.html --title 'Tern at three drives' --by 'Booth 2' --limit 'thd_db<-40'");
  const std::string page = read_text(file("page.html"));
  EXPECT_LT(page.size(), 2'000'000u);
  std::size_t before = 0;
  for (const char* part :
       {"<!DOCTYPE html>", "Tern at three drives</title>", "<h1>Tern at three drives</h1>", "Booth 2",
        "class=\"answer\"", "kept: thd_db&lt;-40", "not kept: thd_db&lt;-40", "which harmonics does it add",
        "<svg", "<table>", "What these figures mean", "How to repeat it", "wavicon harmonics drive-24.wav",
        "Files, versions and digests"}) {
    const auto at = page.find(part, before > 200 ? 200 : 0);
    EXPECT_NE(at, std::string::npos) << part;
    if (std::string(part).find("kept") == std::string::npos) {
      EXPECT_GE(at, before) << part;
      before = at;
    }
  }
  // Nothing is loaded from elsewhere.
  EXPECT_FALSE(std::regex_search(page, std::regex("(src|href)=[\"']https?:")));
  EXPECT_EQ(page.find("@import"), std::string::npos);
  // One of one sheet is named by itself, and of the logbook by words.
  good("harmonics drive-12.wav --quiet --report own.html --keep --as 'Tern, warm'");
  EXPECT_HAS(read_text(file("own.html")), "harmonics of drive-12.wav");
  EXPECT_HAS(read_text(file("own.html")), "<ul class=\"cards\"><li><b>");
  good("report warm --from-logbook -o kept.html");
  EXPECT_HAS(read_text(file("kept.html")), "harmonics of drive-12.wav");
  good("report three.json -o page.md");
  EXPECT_HAS(read_text(file("page.md")), "![harmonics: ");
  EXPECT_TRUE(std::filesystem::exists(file("page-1.png")));
}

TEST_F(ReportCommand, WhatIsBrokenIsNamedAndTheRestGoesOn) {
  std::string text = read_text(file("one.json"));
  write("broken.json", text.replace(text.find("\"readings\""), 10, "\"raedings\""));
  const Ran ran = wavicon("report three.json broken.json -o page.html");
  EXPECT_EQ(ran.status, 0) << ran.err;
  EXPECT_HAS(ran.err, "left out: broken.json");
  EXPECT_HAS(read_text(file("page.html")), "left out: broken.json");
  EXPECT_HAS(bad(3, "report broken.json -o none.html --quiet"), "broken.json");
  EXPECT_HAS(bad(2, "report -o none.html"), "of what?");
  EXPECT_HAS(bad(2, "report one.json -o page.txt"), ".html, .md or .pdf");
  EXPECT_HAS(bad(2, "report one.json -o none.html --limit 'noise_dbfs<0'"), "no sheet gives that reading");
  EXPECT_HAS(bad(2, "report one.json -o /nowhere/page.html"), "/nowhere");
  write("t.html", "<html>{{content}}{{colour}}</html>");
  EXPECT_HAS(bad(2, "report one.json -o none.html --template t.html"), "no mark '{{colour}}'");
  write("t.html", "<html>{{title}}</html>");
  EXPECT_HAS(bad(2, "report one.json -o none.html --template t.html"), "{{content}} is not in it");
  write("t.html", "<!DOCTYPE html><title>{{title}}</title><main>{{content}}</main>");
  good("report one.json -o own.html --template t.html --title 'A & B'");
  EXPECT_HAS(read_text(file("own.html")), "<!DOCTYPE html><title>A &amp; B</title><main><section>");
}

// Without the program that draws, the figures are sent all the same.
TEST_F(ReportCommand, ComesWithoutPicturesWhereNothingDraws) {
  const Ran ran =
      testing::run("cd '" + folder_.path().string() + "' && PATH=/nowhere WAVICON_LOGBOOK=l.sqlite '" +
                   WAVICON_PROGRAM + "' report one.json -o page.html");
  EXPECT_EQ(ran.status, 0) << ran.err;
  const std::string page = read_text(file("page.html"));
  EXPECT_HAS(page, "a picture is left out: ");
  EXPECT_HAS(page, "<table>");
}

// Names, notes and titles that try to run something are text.
TEST_F(ReportCommand, HostileNamesAreInert) {
  const std::string evil = "<img src=x onerror=alert(1)>\"'><script>document.title='owned'</script>";
  json sheets = json::parse(read_text(file("one.json")));
  json& sheet = sheets.is_array() ? sheets[0] : sheets;
  sheet["capture"]["file"] = evil;
  for (json& finding : sheet["findings"]) finding["text"] = evil;
  write("evil.json", sheets.dump());
  write("note.md",
        "**bold** " + evil + " [link](javascript:alert(1)) ![far *away*](http://127.0.0.1:9/x.png)");
  write("title.txt", evil);
  good("report evil.json -o evil.html --note note.md --title \"$(cat title.txt)\" --by \"$(cat title.txt)\"");
  const std::string page = read_text(file("evil.html"));
  EXPECT_EQ(page.find("<img src=x"), std::string::npos);
  EXPECT_EQ(page.find("<script>document"), std::string::npos);
  EXPECT_EQ(page.find("javascript:"), std::string::npos);
  EXPECT_EQ(page.find("127.0.0.1"), std::string::npos);
  EXPECT_HAS(page, "far <em>away</em>");
  EXPECT_HAS(page, "<strong>bold</strong>");
  if (!has("chromium")) GTEST_SKIP() << "the package chromium is not installed";
  const std::string dom = browse("--dump-dom", "evil.html").out;
  EXPECT_EQ(dom.find("<title>owned"), std::string::npos);
  EXPECT_HAS(dom, "How to repeat it");
}

TEST_F(ReportCommand, IsWholeInABrowser) {
  if (!has("chromium")) GTEST_SKIP() << "the package chromium is not installed";
  good("report three.json -o page.html --limit 'thd_db<-40'");
  const Ran seen = browse("--enable-logging=stderr --log-net-log=net.json --dump-dom", "page.html");
  EXPECT_EQ(count(seen.out, "<svg"), 2u);  // for light and for dark
  EXPECT_GE(count(seen.out, "<table"), 2u);
  EXPECT_EQ(seen.err.find("CONSOLE"), std::string::npos) << seen.err.substr(0, 2000);
  // Requests that the page itself made: none but of its own file.
  const std::string net = read_text(file("net.json"));
  EXPECT_EQ(net.find("\"initiator\":\"file://"), std::string::npos);
  // Narrow and wide: no sideways scrolling. The page tells it to the frame around it.
  std::string inner = read_text(file("page.html"));
  inner.insert(inner.find("</body>"),
               "<script>parent.postMessage(document.documentElement.scrollWidth,'*')</script>");
  std::string attribute;
  for (const char c : inner)
    attribute += c == '"' ? std::string("&quot;") : c == '&' ? "&amp;" : std::string(1, c);
  for (const int width : {375, 1280}) {
    write("frame.html",
          "<!DOCTYPE html><body><iframe width=\"" + std::to_string(width) + "\" height=\"800\" srcdoc=\"" +
              attribute +
              "\"></iframe><script>addEventListener('message',function(e){document.body.dataset."
              "wide=e.data})</script></body>");
    const std::string dom =
        browse("--window-size=1400,900 --virtual-time-budget=5000 --dump-dom", "frame.html").out;
    std::smatch found;
    ASSERT_TRUE(std::regex_search(dom, found, std::regex("data-wide=\"(\\d+)\""))) << dom.substr(0, 300);
    EXPECT_LE(std::stoi(found[1]), width);
  }
  // On paper all of it is there, what is folded away as well.
  good("report three.json -o page.pdf");
  EXPECT_FALSE(std::filesystem::exists(file("page.pdf.html")));
  if (has("pdftotext")) {
    const std::string text = testing::run("pdftotext -layout '" + file("page.pdf") + "' -").out;
    EXPECT_HAS(text, "What these figures mean");
    EXPECT_HAS(text, "RMS level of what is in the band");
    EXPECT_HAS(text, "Files, versions and digests");
  }
}

// With the tabulator: every folded part and every table can be reached, from the top to the bottom, and
// opened.
TEST_F(ReportCommand, IsReadByTheKeyboardAlone) {
  if (!has("chromium")) GTEST_SKIP() << "the package chromium is not installed";
  good("report three.json -o page.html --limit 'thd_db<-40'");
  BrowserSession browser(folder_.path(), file("page.html"));
  const int stops =
      browser.evaluate("document.querySelectorAll('summary,[tabindex],a[href],audio').length").get<int>();
  ASSERT_GE(stops, 4);
  double above = -1;
  std::vector<std::string> reached;
  for (int i = 0; i < 40; ++i) {
    browser.press("Tab", 9);
    const json at = browser.evaluate(
        "(e=>e===document.body?null:{name:e.tagName,top:e.getBoundingClientRect().top+scrollY,"
        "seen:getComputedStyle(e).outlineStyle,text:e.innerText.slice(0,40)})(document.activeElement)");
    if (at.is_null()) break;
    EXPECT_GE(at["top"].get<double>(), above) << at;
    EXPECT_NE(at["seen"], "none") << at;
    above = at["top"];
    reached.push_back(at["name"]);
    if (at["name"] != "SUMMARY") continue;
    browser.press("Enter", 13);
    EXPECT_EQ(browser.evaluate("document.activeElement.parentElement.open"), true) << at;
  }
  EXPECT_GE(std::count(reached.begin(), reached.end(), "SUMMARY"), 3);
  EXPECT_GE(std::count(reached.begin(), reached.end(), "DIV"), 1);
}

// Inches: A4 and Letter. No word leaves the page, and what is folded away is there.
TEST_F(ReportCommand, IsPrintedOnBothPapers) {
  if (!has("chromium") || !has("pdftotext")) GTEST_SKIP() << "chromium or pdftotext is not installed";
  good("report three.json -o page.html --limit 'thd_db<-40'");
  BrowserSession browser(folder_.path(), file("page.html"));
  for (const auto& [wide, high] : {std::pair(8.27, 11.69), std::pair(8.5, 11.0)}) {
    write("page.txt", browser.ask("Page.printToPDF", {{"paperWidth", wide}, {"paperHeight", high}})["data"]
                          .get<std::string>());
    testing::run("base64 -d '" + file("page.txt") + "' > '" + file("printed.pdf") + "'");
    const std::string words = testing::run("pdftotext -bbox '" + file("printed.pdf") + "' -").out;
    const std::regex page("<page width=\"([0-9.]+)\""), place("xMin=\"(-?[0-9.]+)\".*xMax=\"([0-9.]+)\"");
    std::smatch found;
    ASSERT_TRUE(std::regex_search(words, found, page)) << words.substr(0, 300);
    EXPECT_NEAR(std::stod(found[1]), wide * 72, 1);
    int count = 0;
    for (auto at = std::sregex_iterator(words.begin(), words.end(), place); at != std::sregex_iterator();
         ++at, ++count) {
      EXPECT_GE(std::stod((*at)[1]), 30) << at->str();
      EXPECT_LE(std::stod((*at)[2]), wide * 72 - 30) << at->str();
    }
    EXPECT_GT(count, 300);
    EXPECT_HAS(testing::run("pdftotext -layout '" + file("printed.pdf") + "' -").out,
               "Files, versions and digests");
  }
}

// What a person adds goes with every command that makes a page.
TEST_F(ReportCommand, TakesATitleBesideEveryMeasurement) {
  write("note.md", "Taken on **Monday**.");
  good("harmonics drive-12.wav --quiet --report own.html --title 'Tern & Co' --by 'Ida' --note note.md");
  const std::string page = read_text(file("own.html"));
  EXPECT_HAS(page, "<h1>Tern &amp; Co</h1>");
  EXPECT_HAS(page, "Ida, ");
  EXPECT_HAS(page, "<strong>Monday</strong>");
  EXPECT_HAS(bad(2, "harmonics drive-12.wav --title x"), "--report FILE writes it");
  EXPECT_HAS(bad(2, "bench --plan oversampling sim:tern --title x"), "--report FILE writes it");
  EXPECT_HAS(bad(2, "harmonics drive-12.wav --report x.txt"), ".html, .md or .pdf");
  // Before anything is measured.
  EXPECT_HAS(bad(3, "harmonics none.wav --report x.html --note none.md"), "none.md");
}

TEST_F(ReportCommand, IsValid) {
  if (!has("tidy")) GTEST_SKIP() << "the package tidy is not installed";
  good("report three.json -o page.html --limit 'thd_db<-40'");
  const Ran checked = testing::run("tidy -q -e --drop-empty-elements no '" + file("page.html") + "'");
  EXPECT_EQ(checked.status, 0) << checked.err;
}

// Contrast of every ink on every paper, by the formula of WCAG 2: 4.5 for text.
TEST_F(ReportCommand, CanBeReadInLightAndDark) {
  good("report one.json -o page.html");
  const std::string page = read_text(file("page.html"));
  const auto luminance = [](const std::string& colour) {
    double sum = 0;
    const double weights[] = {0.2126, 0.7152, 0.0722};
    for (std::size_t i = 0; i < 3; ++i) {
      const double c = std::stoi(colour.substr(1 + 2 * i, 2), nullptr, 16) / 255.0;
      sum += weights[i] * (c <= 0.04045 ? c / 12.92 : std::pow((c + 0.055) / 1.055, 2.4));
    }
    return sum;
  };
  const std::regex colour("--(paper|ink|muted|main|accent|card):(#[0-9a-f]{6})");
  std::map<std::string, std::vector<std::string>> named;
  for (auto at = std::sregex_iterator(page.begin(), page.end(), colour); at != std::sregex_iterator(); ++at)
    named[(*at)[1]].push_back((*at)[2]);
  ASSERT_GE(named["card"].size(), 2u);
  for (std::size_t scheme = 0; scheme < 2; ++scheme)
    for (const char* ink : {"ink", "muted", "main", "accent"})
      for (const char* paper : {"paper", "card"}) {
        const double a = luminance(named[ink].at(scheme)), b = luminance(named[paper].at(scheme));
        EXPECT_GE((std::max(a, b) + 0.05) / (std::min(a, b) + 0.05), 4.5) << ink << " on " << paper << scheme;
      }
}

// Ten seconds of A, of B at A's level, and of what is left of them, from the same place.
TEST_F(ReportCommand, ResidualsCanBeListenedTo) {
  good("make programme --content chamber --seconds 14 --no-marks -o p.wav --quiet");
  good("feed p.wav --through 'sim:dunlin?gain=-3&noise=-80' -o q.wav --quiet");
  EXPECT_HAS(bad(2, "null p.wav q.wav --listen"), "--report FILE writes it");
  good("null p.wav q.wav --quiet --report page.html --listen");
  const std::string page = read_text(file("page.html"));
  EXPECT_EQ(count(page, "<audio"), 3u);
  EXPECT_HAS(page, "A, p.wav, 10.0 s from ");
  EXPECT_TRUE(std::regex_search(
      page, std::regex("residual, 10\\.0 s from [0-9.]+ s on, level changed by \\+[0-9]+ dB")));
  // The sound itself: decoded, it is what was written.
  const auto at = page.find("base64,") + 7;
  const std::string sound = page.substr(at, page.find('"', at) - at);
  write("sound.txt", sound);
  testing::run("base64 -d '" + file("sound.txt") + "' > '" + file("sound.flac") + "'");
  const auto a = read_planar(file("sound.flac")), whole = read_planar(file("p.wav"));
  std::smatch found;
  ASSERT_TRUE(std::regex_search(page, found, std::regex("A, p.wav, 10.0 s from ([0-9.]+) s")));
  EXPECT_EQ(a[0].size(), 480000u);
  const auto first = static_cast<std::size_t>(std::llround(std::stod(found[1]) * 48000));
  for (std::size_t n = 0; n < 480000; n += 1000) EXPECT_NEAR(a[0][n], whole[0][first + n], 1e-4) << n;
  EXPECT_FALSE(std::filesystem::exists(file("residual.wav")));
}

TEST_F(ReportCommand, OfAWholePlan) {
  good("bench --plan oversampling 'sim:tern?drive=18&oversampling=1,8' --report page.html || [ $? = 1 ]");
  const std::string page = read_text(file("page.html"));
  EXPECT_HAS(page, "oversampling-tern: oversampling 8 is the first that keeps worst_alias_dbc&lt;-80");
  EXPECT_HAS(page, "class=\"bar\"");
  EXPECT_HAS(page, "<svg");
  EXPECT_HAS(page, "bench --plan oversampling");
}

}  // namespace
}  // namespace wavicon::report_test
