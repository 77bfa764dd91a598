// SPDX-License-Identifier: MIT
#pragma once
// A page of the manual as plain data, and what it is shown as: source for `man`, or text for a terminal.

#include <string>
#include <string_view>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/present/table.hpp"

namespace wavicon {

/// A run of letters of one kind.
struct ManualSpan {
  enum class Kind {
    plain,
    strong,    ///< what is typed as it is
    emphasis,  ///< what something is put in place of
  };
  Kind kind = Kind::plain;
  std::string text;
};
using ManualSpans = std::vector<ManualSpan>;

/// One thing of a section.
struct ManualBlock {
  enum class Kind {
    heading,    ///< below the section's: `spans`
    paragraph,  ///< `spans`
    verbatim,   ///< `text`, line by line as it is
    item,       ///< of a list: `spans`
    entry,      ///< `term`, and indented below it `spans`
  };
  Kind kind = Kind::paragraph;
  ManualSpans term;
  ManualSpans spans;
  std::string text;
};

struct ManualSection {
  std::string title;  ///< in capitals
  std::vector<ManualBlock> blocks;
};

struct ManualPage {
  std::string name;      ///< "wavicon-levels"
  int section = 1;       ///< of the manual: 1 for commands, 7 for everything else
  std::string line;      ///< what it is, in one line
  std::string released;  ///< "2026-11-29"
  std::string version;   ///< "0.1.0"
  std::vector<ManualSection> sections;
};

/// A document in CommonMark as blocks: pictures are left out, of a link its words stay, of a table each row
/// is an entry (the first cell its term), `code` is strong. The first heading of the first level is left out.
[[nodiscard]] WAVICON_EXPORT std::vector<ManualBlock> manual_blocks(std::string_view commonmark);

/// Source for `man`, in the macros of man(7), UTF-8; no line is longer than 78 bytes where it can be parted.
[[nodiscard]] WAVICON_EXPORT std::string manual_source(const ManualPage& page);

/// Text for a terminal: titles and what is typed bold where there is colour; paragraphs no wider than 90
/// columns.
[[nodiscard]] WAVICON_EXPORT std::string manual_text(const ManualPage& page, const TableStyle& style = {});

}  // namespace wavicon
