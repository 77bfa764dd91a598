// SPDX-License-Identifier: MIT
#pragma once
// What a person adds to a page to send.

#include <string>

namespace CLI {
class App;
}

namespace wavicon::cli {

struct ReportOptions {
  std::string file, title, by, note_file, logo_file, template_file;
  /// @param named  the page is what the command is for (-o), not something beside it (--report).
  void add_to(CLI::App& app, bool named);
  /// Whether there is to be a page; files that it is made of are read, so that nothing is missing later.
  ///
  /// @throws Error bad_argument for words about a page without one, or an ending that is none; as
  /// read_text_file().
  [[nodiscard]] bool wanted() const;
};

}  // namespace wavicon::cli
