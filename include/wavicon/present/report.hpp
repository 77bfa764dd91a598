// SPDX-License-Identifier: MIT
#pragma once
// One page to send: what was measured, as a single HTML file that needs nothing else.

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "wavicon/audio/export.hpp"
#include "wavicon/sheet/limit.hpp"
#include "wavicon/sheet/page.hpp"
#include "wavicon/sheet/picture.hpp"
#include "wavicon/sheet/sheet.hpp"

namespace wavicon {

/// A picture with the text that stands for it where it is not seen.
struct ReportPicture {
  std::vector<Sheet> drawn;
  Picture picture;
  std::string says;  ///< what it shows, as a sentence
};

/// One sound, played by the reader's own player.
struct ReportSound {
  std::string name;
  std::string type;   ///< "audio/flac"
  std::string bytes;  ///< of the file
};

/// What belongs together: of one measurement.
struct ReportSection {
  std::string title;
  std::string question;
  std::vector<std::string> answer;
  std::optional<ReportPicture> picture;
  std::vector<PageTable> tables;  ///< figures with bars and differences to the first row
  std::vector<Sheet> sheets;      ///< whose findings, conditions and contexts are told; their curves are not
  std::vector<ReportSound> sounds;
};

struct Report {
  std::string title;
  std::string by;                             ///< who measured; empty: not told
  std::string note;                           ///< CommonMark; markup of HTML in it is left out
  std::string logo_type;                      ///< "image/png", "image/svg+xml", "image/jpeg"; empty: none
  std::string logo;                           ///< bytes of the file
  std::vector<std::vector<PageCell>> answer;  ///< sentences
  std::vector<LimitResult> limits;
  std::vector<Reading> deciding;  ///< figures that decide, the first three are shown large
  std::vector<ReportSection> sections;
  std::vector<std::string> commands;  ///< how to repeat it
  std::vector<std::string> remarks;
};

/// A readings' table of one measurement: of one sheet its readings as rows, of several the sheets as rows.
///
/// @param names  readings that make it, patterns among them, in their order; those that no sheet has are left
/// out.
[[nodiscard]] WAVICON_EXPORT PageTable report_table(const std::vector<Sheet>& sheets,
                                                    const std::vector<std::string>& names);

/// Figures of tables that are told in large letters: each kind once, of the first row or capture that has it.
[[nodiscard]] WAVICON_EXPORT std::vector<Reading> deciding_figures(const std::vector<PageTable>& tables);

/// The page. Everything that comes from outside is text in it, never markup; nothing is loaded from
/// elsewhere.
///
/// @param layout  a page of somebody's own with the marks {{title}}, {{by}}, {{style}}, {{answer}},
///                {{content}}, {{evidence}}; empty: ours. @throws Error bad_argument for another mark, or
/// when {{content}} is not there; bad_output as draw_picture().
[[nodiscard]] WAVICON_EXPORT std::string report_html(const Report& report, const std::string& layout = {});

/// The same as Markdown, with pictures as files beside it.
struct MarkdownReport {
  std::string text;
  std::vector<std::pair<std::string, std::string>> files;  ///< names and bytes of PNG pictures
};
/// @param stem  of the pictures' names.
[[nodiscard]] WAVICON_EXPORT MarkdownReport report_markdown(const Report& report, const std::string& stem);

}  // namespace wavicon
