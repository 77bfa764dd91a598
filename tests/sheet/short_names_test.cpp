// SPDX-License-Identifier: MIT
#include "wavicon/sheet/short_names.hpp"

#include <gtest/gtest.h>

namespace wavicon::short_names_test {
namespace {

using Texts = std::vector<std::string>;

TEST(ShortNames, WhatAllShareStandsOnce) {
  const ShortNames names = short_names({"x/tern-drive-0-b.wav", "x/tern-drive-12-b.wav"});
  EXPECT_EQ(names.labels, (Texts{"0", "12"}));
  EXPECT_EQ(names.spoken, (Texts{"drive-0", "drive-12"}));
  EXPECT_EQ(names.shared, "tern-drive");
  EXPECT_EQ(names.pattern, "tern-drive-*-b.wav");
  EXPECT_EQ(short_names({"level--20.wav", "level--40.wav"}).labels, (Texts{"-20", "-40"}));
  // Up to whole words alone, and nothing where one name is part of the other.
  EXPECT_EQ(short_names({"heron.wav", "hero.wav"}).labels, (Texts{"heron", "hero"}));
  EXPECT_EQ(short_names({"a.wav", "a-b.wav"}).labels, (Texts{"a", "a-b"}));
  EXPECT_EQ(short_names({"", "a"}).labels, (Texts{"", "a"}));
}

TEST(ShortNames, FoldersStayWhereTheyTellFilesApart) {
  EXPECT_EQ(short_names({"x/a.wav", "y/a.wav"}).labels, (Texts{"x", "y"}));
  EXPECT_EQ(short_names({"x/a.wav"}).labels, (Texts{"a.wav"}));
  EXPECT_TRUE(short_names({}).labels.empty());
}

}  // namespace
}  // namespace wavicon::short_names_test
