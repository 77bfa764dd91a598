// SPDX-License-Identifier: MIT
#include "wavicon/present/manual_page.hpp"

#include <cmark.h>
#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <sstream>

#include "wavicon/audio/plain_text.hpp"

namespace wavicon {
namespace {

using SpanKind = ManualSpan::Kind;
using Block = ManualBlock::Kind;

void append(ManualSpans& spans, SpanKind kind, std::string_view text) {
  if (text.empty()) return;
  if (!spans.empty() && spans.back().kind == kind)
    spans.back().text += text;
  else
    spans.push_back({kind, std::string(text)});
}

void append(ManualSpans& spans, const ManualSpans& more) {
  for (const ManualSpan& span : more) append(spans, span.kind, span.text);
}

std::string_view literal_of(cmark_node* node) {
  const char* text = cmark_node_get_literal(node);
  return text == nullptr ? std::string_view() : std::string_view(text);
}

// What is inside a paragraph or a heading.
void read_spans(cmark_node* parent, SpanKind kind, ManualSpans& spans) {
  for (cmark_node* node = cmark_node_first_child(parent); node != nullptr; node = cmark_node_next(node)) {
    switch (cmark_node_get_type(node)) {
      case CMARK_NODE_TEXT:
        append(spans, kind, literal_of(node));
        break;
      case CMARK_NODE_SOFTBREAK:
      case CMARK_NODE_LINEBREAK:
        append(spans, kind, " ");
        break;
      case CMARK_NODE_CODE:
        append(spans, SpanKind::strong, literal_of(node));
        break;
      case CMARK_NODE_STRONG:
        read_spans(node, SpanKind::strong, spans);
        break;
      case CMARK_NODE_EMPH:
        read_spans(node, SpanKind::emphasis, spans);
        break;
      case CMARK_NODE_LINK:
        read_spans(node, kind, spans);
        break;
      default:  // pictures, and what is no text
        break;
    }
  }
}

ManualSpans spans_of(cmark_node* node) {
  ManualSpans spans;
  read_spans(node, SpanKind::plain, spans);
  return spans;
}

using Node = std::unique_ptr<cmark_node, void (*)(cmark_node*)>;

Node parsed(std::string_view text) {
  return Node(cmark_parse_document(text.data(), text.size(), CMARK_OPT_DEFAULT), cmark_node_free);
}

void read_blocks(cmark_node* parent, std::vector<ManualBlock>& blocks) {
  for (cmark_node* node = cmark_node_first_child(parent); node != nullptr; node = cmark_node_next(node)) {
    switch (cmark_node_get_type(node)) {
      case CMARK_NODE_HEADING:
        // The page has a title of its own.
        if (cmark_node_get_heading_level(node) > 1)
          blocks.push_back({.kind = Block::heading, .term = {}, .spans = spans_of(node), .text = {}});
        break;
      case CMARK_NODE_PARAGRAPH:
        if (ManualSpans spans = spans_of(node); !spans.empty())
          blocks.push_back({.kind = Block::paragraph, .term = {}, .spans = std::move(spans), .text = {}});
        break;
      case CMARK_NODE_CODE_BLOCK:
        blocks.push_back(
            {.kind = Block::verbatim, .term = {}, .spans = {}, .text = std::string(literal_of(node))});
        break;
      case CMARK_NODE_LIST:
        for (cmark_node* item = cmark_node_first_child(node); item != nullptr; item = cmark_node_next(item)) {
          const std::size_t first = blocks.size();
          read_blocks(item, blocks);
          if (first < blocks.size() && blocks[first].kind == Block::paragraph)
            blocks[first].kind = Block::item;
        }
        break;
      case CMARK_NODE_BLOCK_QUOTE:
        read_blocks(node, blocks);
        break;
      default:
        break;
    }
  }
}

// Cells of "| a | b |": a bar inside one is written \|.
std::vector<std::string> cells_of(const std::string& line) {
  std::vector<std::string> cells(1);
  for (std::size_t i = 1; i < line.size(); ++i) {
    if (line[i] == '\\' && i + 1 < line.size() && line[i + 1] == '|')
      cells.back() += line[++i];
    else if (line[i] == '|')
      cells.emplace_back();
    else
      cells.back() += line[i];
  }
  cells.pop_back();  // behind the last bar
  for (std::string& cell : cells) {
    const auto from = cell.find_first_not_of(' ');
    cell = from == std::string::npos ? "" : cell.substr(from, cell.find_last_not_of(' ') - from + 1);
  }
  return cells;
}

ManualSpans cell_spans(const std::string& cell) {
  const Node document = parsed(cell);
  cmark_node* paragraph = cmark_node_first_child(document.get());
  return paragraph == nullptr ? ManualSpans() : spans_of(paragraph);
}

void add_table(const std::vector<std::string>& lines, std::vector<ManualBlock>& blocks) {
  const auto headings = cells_of(lines.front());
  for (std::size_t row = 2; row < lines.size(); ++row) {
    const auto cells = cells_of(lines[row]);
    ManualBlock entry{.kind = Block::entry, .term = cell_spans(cells.front()), .spans = {}, .text = {}};
    for (std::size_t i = 1; i < cells.size() && i < headings.size(); ++i) {
      if (cells[i].empty() || cells[i] == "-") continue;
      if (!entry.spans.empty()) {
        // A cell's full stop is no end any more.
        if (std::string& last = entry.spans.back().text; last.back() == '.') last.pop_back();
        append(entry.spans, SpanKind::plain, "; ");
      }
      if (cells.size() > 2 && !headings[i].empty()) append(entry.spans, SpanKind::plain, headings[i] + ": ");
      append(entry.spans, cell_spans(cells[i]));
    }
    blocks.push_back(std::move(entry));
  }
}

// Words of a paragraph, each with the kinds of its letters, so that lines can be broken between them.
struct Word {
  ManualSpans spans;
  std::size_t letters = 0;
};

std::size_t letters_of(std::string_view text) {
  return static_cast<std::size_t>(
      std::count_if(text.begin(), text.end(), [](char c) { return (c & 0xC0) != 0x80; }));
}

std::vector<Word> words_of(const ManualSpans& spans) {
  std::vector<Word> words(1);
  for (const ManualSpan& span : spans) {
    std::size_t at = 0;
    while (at < span.text.size()) {
      const std::size_t end = std::min(span.text.find_first_of(" \n\t", at), span.text.size());
      append(words.back().spans, span.kind, std::string_view(span.text).substr(at, end - at));
      words.back().letters += letters_of(std::string_view(span.text).substr(at, end - at));
      if (end < span.text.size() && words.back().letters > 0) words.emplace_back();
      at = end + 1;
    }
  }
  if (words.back().letters == 0) words.pop_back();
  return words;
}

// Letters that man(7) takes for its own. Hyphens of what is typed stay as they are.
std::string escaped(std::string_view text, SpanKind kind) {
  std::string out;
  for (const char c : text) {
    if (c == '\\')
      out += "\\e";
    else if (c == '-' && kind == SpanKind::strong)
      out += "\\-";
    else
      out += c;
  }
  return out;
}

std::string source_of(const ManualSpans& spans) {
  std::string out;
  for (const ManualSpan& span : spans) {
    const char* font = span.kind == SpanKind::strong ? "\\fB" : span.kind == SpanKind::emphasis ? "\\fI" : "";
    out += font + escaped(span.text, span.kind) + (*font != '\0' ? "\\fR" : "");
  }
  return out;
}

// No line begins with what would be a macro.
std::string safe_line(const std::string& line) {
  return !line.empty() && (line[0] == '.' || line[0] == '\'') ? "\\&" + line : line;
}

constexpr std::size_t kWidth = 78;

// As preprocessors write it: what is no ASCII takes eight bytes, "\\[u2013]".
std::size_t bytes_of(std::string_view text) {
  std::size_t bytes = 0;
  for (const char c : text) bytes += static_cast<unsigned char>(c) < 0x80 ? 1 : (c & 0xC0) == 0x80 ? 0 : 8;
  return bytes;
}

// Broken before column 78, and after sentences.
std::string source_lines(const ManualSpans& spans) {
  std::string out, line;
  for (const Word& word : words_of(spans)) {
    const std::string text = source_of(word.spans);
    const bool ended = !line.empty() && (line.back() == '.' || line.back() == '?' || line.back() == '!');
    if (!line.empty() && (ended || bytes_of(line) + 1 + bytes_of(text) > kWidth)) {
      out += safe_line(line) + "\n";
      line.clear();
    }
    line += (line.empty() ? "" : " ") + text;
  }
  return out + (line.empty() ? "" : safe_line(line) + "\n");
}

std::string one_line(const ManualSpans& spans) {
  std::string line;
  for (const Word& word : words_of(spans)) line += (line.empty() ? "" : " ") + source_of(word.spans);
  return safe_line(line) + "\n";
}

std::string verbatim_source(const std::string& text, bool first) {
  std::string out = std::string(first ? "" : ".PP\n") + ".RS 4\n.nf\n";
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    const auto end = line.find_last_not_of(" \t\r");
    out += end == std::string::npos ? ".sp\n"
                                    : safe_line(escaped(line.substr(0, end + 1), SpanKind::strong)) + "\n";
  }
  return out + ".fi\n.RE\n";
}

// @param first  below a heading, where a paragraph needs no distance.
std::string block_source(const ManualBlock& block, bool first) {
  switch (block.kind) {
    case Block::heading:
      return ".SS " + one_line(block.spans);
    case Block::verbatim:
      return verbatim_source(block.text, first);
    case Block::item:
      return ".IP \\(bu 2\n" + source_lines(block.spans);
    case Block::entry:
      // Its first line cannot be broken.
      if (bytes_of(source_of(block.term)) > kWidth)
        return ".PP\n" + source_lines(block.term) + ".RS 8\n" + source_lines(block.spans) + ".RE\n";
      return ".TP 8\n" + one_line(block.term) + (block.spans.empty() ? "\\&\n" : source_lines(block.spans));
    default:
      return std::string(first ? "" : ".PP\n") + source_lines(block.spans);
  }
}

std::string in_quotes(const std::string& text) {
  std::string out = "\"";
  for (const char c : escaped(text, SpanKind::plain))
    out += c == '"' ? std::string("\\(dq") : std::string(1, c);
  return out + "\"";
}

// For a terminal.
class TextPage {
 public:
  explicit TextPage(const TableStyle& style)
      : width_(std::min<std::size_t>(style.columns, 90)), colour_(style.colour) {}

  void title(const std::string& text) { text_ += (text_.empty() ? "" : "\n") + bold(text) + "\n"; }
  void add(const ManualBlock& block, bool follows_entry) {
    switch (block.kind) {
      case Block::heading:
        text_ += "\n  ";
        wrap({{SpanKind::strong, plain(block.spans)}}, 2);
        break;
      case Block::verbatim:
        verbatim(block.text);
        break;
      case Block::item:
        text_ += "    - ";
        wrap(block.spans, 6);
        break;
      case Block::entry:
        if (!follows_entry) text_ += "\n";
        text_ += "    ";
        wrap(block.term, 8);
        if (!block.spans.empty()) {
          text_ += "        ";
          wrap(block.spans, 8);
        }
        break;
      default:
        text_ += "\n    ";
        wrap(block.spans, 4);
    }
  }
  [[nodiscard]] std::string text() const { return text_; }

 private:
  [[nodiscard]] std::string bold(const std::string& text) const {
    const std::string safe = printable(text);
    return colour_ && !safe.empty() ? "\x1b[1m" + safe + "\x1b[0m" : safe;
  }
  static std::string plain(const ManualSpans& spans) {
    std::string text;
    for (const ManualSpan& span : spans) text += span.text;
    return text;
  }
  void wrap(const ManualSpans& spans, std::size_t indent) {
    std::size_t column = indent;
    bool first = true;
    for (const Word& word : words_of(spans)) {
      if (!first && column + 1 + word.letters > width_) {
        text_ += "\n" + std::string(indent, ' ');
        column = indent;
        first = true;
      }
      if (!first) {
        text_ += " ";
        ++column;
      }
      for (const ManualSpan& span : word.spans)
        text_ += span.kind == SpanKind::strong ? bold(span.text) : printable(span.text);
      column += word.letters;
      first = false;
    }
    text_ += "\n";
  }
  void verbatim(const std::string& text) {
    text_ += "\n";
    std::istringstream lines(text);
    for (std::string line; std::getline(lines, line);)
      text_ += line.empty() ? "\n" : "      " + printable(line) + "\n";
  }

  std::size_t width_;
  bool colour_;
  std::string text_;
};

}  // namespace

std::vector<ManualBlock> manual_blocks(std::string_view commonmark) {
  std::vector<ManualBlock> blocks;
  std::string prose;
  std::vector<std::string> table;
  bool fenced = false;
  const auto end_table = [&] {
    if (table.size() > 2) add_table(table, blocks);
    table.clear();
  };
  const auto end_prose = [&] {
    read_blocks(parsed(prose).get(), blocks);
    prose.clear();
  };
  std::istringstream lines{std::string(commonmark)};
  for (std::string line; std::getline(lines, line);) {
    if (line.rfind("```", 0) == 0) fenced = !fenced;
    if (!fenced && !line.empty() && line.front() == '|') {
      if (table.empty()) end_prose();
      table.push_back(line);
      continue;
    }
    if (!table.empty()) end_table();
    prose += line + "\n";
  }
  end_table();
  end_prose();
  return blocks;
}

std::string manual_source(const ManualPage& page) {
  std::string title = page.name;
  std::transform(title.begin(), title.end(), title.begin(),
                 [](char c) { return c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c; });
  std::string out =
      fmt::format(".TH {} {} {} {} {}\n", in_quotes(title), page.section, in_quotes(page.released),
                  in_quotes("wavicon " + page.version), in_quotes("Wavicon's manual"));
  // Words stay whole and as far apart as they are.
  out += ".nh\n.ad l\n.SH NAME\n" + escaped(page.name, SpanKind::plain) + " \\-\n" +
         source_lines({{SpanKind::plain, page.line}});
  for (const ManualSection& section : page.sections) {
    out += ".SH " + in_quotes(section.title) + "\n";
    bool first = true;
    for (const ManualBlock& block : section.blocks) {
      out += block_source(block, first);
      first = block.kind == Block::heading;
    }
  }
  return out;
}

std::string manual_text(const ManualPage& page, const TableStyle& style) {
  TextPage text(style);
  text.title(page.name);
  text.add({.kind = Block::paragraph, .term = {}, .spans = {{SpanKind::plain, page.line}}, .text = {}},
           false);
  for (const ManualSection& section : page.sections) {
    text.title(section.title);
    Block before = Block::heading;
    for (const ManualBlock& block : section.blocks) {
      text.add(block, before == Block::entry);
      before = block.kind;
    }
  }
  return text.text();
}

}  // namespace wavicon
