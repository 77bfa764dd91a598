// SPDX-License-Identifier: MIT
// Text from outside: what is shown steers nothing, what names a file stays in its folder.

#include "wavicon/audio/plain_text.hpp"
#include "support.hpp"

namespace wavicon::plain_text_test {
namespace {

TEST(PlainText, Utf8IsWellFormedOrNot) {
  for (const char* good : {"", "a", "Größe", "\u20AC", "\U0001F50A", "\xF4\x8F\xBF\xBF"})
    EXPECT_TRUE(is_utf8(good)) << good;
  // Overlong, surrogate, beyond the last code point, cut off, a lone continuation.
  for (const char* bad : {"\xC0\xAF", "\xE0\x80\xAF", "\xED\xA0\x80", "\xF4\x90\x80\x80", "\xC3", "\xE2\x82",
                          "\x80", "a\xFFz"}) {
    EXPECT_FALSE(is_utf8(bad)) << bad;
    EXPECT_TRUE(is_utf8(as_utf8(bad)));
  }
  EXPECT_EQ(as_utf8("a\xFFz"), "a\uFFFDz");
  EXPECT_EQ(as_utf8("Größe"), "Größe");
}

TEST(PlainText, WhatWouldSteerATerminalIsShownInstead) {
  EXPECT_EQ(printable("a\x1b[31mb"), "a\\x1b[31mb");
  EXPECT_EQ(printable("a\nb\rc\x7f"), "a\\x0ab\\x0dc\\x7f");
  EXPECT_EQ(printable("a\nb", true), "a\nb");
  EXPECT_EQ(printable("\xC2\x9B"
                      "31m"),
            "\\x9b31m");  // C1: a command without an escape
  EXPECT_EQ(printable("gpj.\u202Egnp"), "gpj.\\u{202e}gnp");
  EXPECT_EQ(printable(std::string("a\0b", 3)), "a\\x00b");
  EXPECT_EQ(printable("Größe 5 \u20AC"), "Größe 5 \u20AC");
  EXPECT_EQ(printable("\xFF"), "\uFFFD");
}

TEST(PlainText, NamesOfFilesArePlain) {
  for (const char* good : {"a", "chapter one", "kick_2.close", "Bläser", "スネア", "x-", "7", "_"})
    EXPECT_EQ(file_name_problem(good), "") << good;
  for (const char* bad : {"",    ".",    "..",      "../../x", "/etc/x", "a/b",     "a\\b",     ".hidden",
                          "-rf", " x",   "x ",      "x.",      "a\nb",   "a\x1b",   "a:b",      "a*",
                          "a,b", "\xFF", "o'clock", "$(id)",   "a|b",    "\u202Ex", "a\u200Bb", "a\uFFFDb"})
    EXPECT_NE(file_name_problem(bad), "") << bad;
  EXPECT_EQ(file_name_problem(std::string(kLongestNameBytes, 'n')), "");
  EXPECT_HAS(file_name_problem(std::string(kLongestNameBytes + 1, 'n')), "180 are the most");
  EXPECT_HAS(file_name_problem("../../x"), "holds '/'");
}

}  // namespace
}  // namespace wavicon::plain_text_test
