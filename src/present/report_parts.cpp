// SPDX-License-Identifier: MIT
#include "report_parts.hpp"

#include <cmark.h>
#include <fmt/format.h>
#include <nettle/base64.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <memory>

#include "reading_text.hpp"
#include "wavicon/audio/plain_text.hpp"
#include "wavicon/present/page_text.hpp"

namespace wavicon::present_detail {
namespace {

constexpr double kLeastShare = 0.02;  // of a bar: the lowest figure has one, too

const Reading* figure_in(const PageCell& cell) {
  const auto* reading = std::get_if<Reading>(&cell);
  return reading != nullptr && reading->value ? reading : nullptr;
}

// Levels differ by decibels.
std::string unit_of_change(const std::string& unit) {
  if (unit.empty()) return "";
  return unit.rfind("dB", 0) == 0 ? " dB" : " " + unit;
}

void replace_all(std::string& text, const std::string& from, const std::string& to) {
  for (std::size_t at = text.find(from); at != std::string::npos; at = text.find(from, at + to.size()))
    text.replace(at, from.size(), to);
}

}  // namespace

std::string inline_svg(const std::string& svg, const std::string& says, std::size_t number) {
  const auto start = svg.find("<svg");
  std::string text = start == std::string::npos ? std::string() : svg.substr(start);
  // gnuplot's own title and description name the program, not what is seen.
  for (const char* element : {"title", "desc"}) {
    const auto from = text.find(fmt::format("<{}>", element)), to = text.find(fmt::format("</{}>", element));
    if (from != std::string::npos && to != std::string::npos)
      text.erase(from, to + std::string(element).size() + 3 - from);
  }
  const std::string own = fmt::format("p{}-", number);
  for (const char* quote : {"\"", "'"})
    replace_all(text, std::string(" id=") + quote, std::string(" id=") + quote + own);
  replace_all(text, "url(#", "url(#" + own);
  replace_all(text, "url('#", "url('#" + own);
  replace_all(text, "href='#", "href='#" + own);
  replace_all(text, "href=\"#", "href=\"#" + own);
  const auto end = text.find('>');
  if (end == std::string::npos) return {};
  text.insert(end, fmt::format(" role=\"img\" aria-label=\"{}\"", xml_escaped(says)));
  return text;
}

std::string from_markdown(const std::string& text) {
  const std::string clean = printable(text, true);
  const std::unique_ptr<cmark_node, void (*)(cmark_node*)> document(
      cmark_parse_document(clean.data(), clean.size(), CMARK_OPT_DEFAULT), cmark_node_free);
  // A picture from elsewhere would be asked for when the page is opened: its text is shown instead.
  const std::unique_ptr<cmark_iter, void (*)(cmark_iter*)> nodes(cmark_iter_new(document.get()),
                                                                 cmark_iter_free);
  for (cmark_event_type event; (event = cmark_iter_next(nodes.get())) != CMARK_EVENT_DONE;) {
    cmark_node* node = cmark_iter_get_node(nodes.get());
    if (event != CMARK_EVENT_EXIT || cmark_node_get_type(node) != CMARK_NODE_IMAGE) continue;
    while (cmark_node* inside = cmark_node_first_child(node)) cmark_node_insert_before(node, inside);
    cmark_node_unlink(node);
    cmark_node_free(node);
  }
  // Without CMARK_OPT_UNSAFE raw HTML and links that run something are left out.
  const std::unique_ptr<char, void (*)(void*)> html(cmark_render_html(document.get(), CMARK_OPT_DEFAULT),
                                                    std::free);
  return html ? html.get() : std::string();
}

std::string base64(const std::string& bytes) {
  std::string text(BASE64_ENCODE_RAW_LENGTH(bytes.size()), '\0');
  base64_encode_raw(text.data(), bytes.size(), reinterpret_cast<const std::uint8_t*>(bytes.data()));
  return text;
}

std::string plain_cell(const PageCell& cell) {
  Page page;
  page.answer.push_back({cell});
  return page_title(page);
}

std::string plain_sentence(const std::vector<PageCell>& sentence) {
  std::string text;
  for (const PageCell& cell : sentence) text += plain_cell(cell);
  return text;
}

ColumnFigures column_figures(const PageTable& table, std::size_t column) {
  ColumnFigures figures;
  const Reading* first = nullptr;
  double low = 0, high = 0, unsure = 0, shown = 0;
  std::size_t count = 0;
  for (const auto& row : table.rows) {
    const Reading* one = figure_in(row[column]);
    if (one == nullptr) continue;
    if (first == nullptr) first = one, low = high = *one->value;
    if (one->unit != first->unit) return {};
    unsure = std::max(unsure, one->uncertainty.value_or(0));
    if (one->entry != nullptr) shown = std::max(shown, 1.5 * std::pow(10.0, -one->entry->digits));
    low = std::min(low, *one->value);
    high = std::max(high, *one->value);
    ++count;
  }
  // What is the same within what is sure, or to the last digit that is shown, needs no bars.
  if (count < 2 || !(high - low > std::max(unsure, shown))) return {};
  bool is_first = true;
  for (const auto& row : table.rows) {
    const Reading* one = figure_in(row[column]);
    figures.shares.push_back(
        one == nullptr ? -1 : kLeastShare + (1 - kLeastShare) * (*one->value - low) / (high - low));
    std::string change;
    if (one != nullptr && !is_first && !one->bound && !first->bound) {
      const double more = *one->value - *first->value,
                   sure = std::hypot(one->uncertainty.value_or(0), first->uncertainty.value_or(0));
      const std::string number = number_text(more, one->entry, sure);
      if (std::abs(more) > sure && number.find_first_of("123456789") != std::string::npos)
        change = (more > 0 ? "+" : "") + number + unit_of_change(one->unit);
    }
    if (one != nullptr) is_first = false;
    figures.changes.push_back(std::move(change));
  }
  return figures;
}

std::vector<std::pair<std::string, std::string>> meanings(const std::vector<Sheet>& sheets) {
  std::vector<std::pair<std::string, std::string>> list;
  for (const Sheet& sheet : sheets)
    for (const Reading& reading : sheet.readings) {
      if (reading.entry == nullptr) continue;
      std::string words = reading.entry->words;
      if (const auto hole = words.find("{}"); hole != std::string::npos) words.replace(hole, 2, "n");
      std::string text = reading.entry->definition;
      if (!reading.entry->misleads.empty()) text += " " + reading.entry->misleads;
      if (std::none_of(list.begin(), list.end(), [&](const auto& one) { return one.first == words; }))
        list.emplace_back(std::move(words), std::move(text));
    }
  return list;
}

std::vector<std::string> circumstances(const std::vector<Sheet>& sheets) {
  std::vector<const Reading*> readings;
  for (const Sheet& sheet : sheets)
    for (const Reading& reading : sheet.readings) readings.push_back(&reading);
  std::vector<std::string> list;
  if (readings.empty()) return list;
  for (const auto& condition : readings.front()->conditions)
    if (shared_by_all(condition, readings)) list.push_back(condition_text(condition.first, condition.second));
  return list;
}

std::string limit_words(const LimitResult& result) {
  const Reading value{.value = result.value,
                      .unit = result.unit,
                      .bound = result.outcome == LimitResult::Outcome::undecided,
                      .entry = result.entry};
  std::string text = result.limit;
  if (!result.file.empty()) text += ", " + result.file;
  if (result.channel && result.channels > 1) text += fmt::format(", channel {}", *result.channel + 1);
  text += ": " + (value.value ? plain_cell(value) : std::string("no value"));
  if (!result.past.empty()) text += " (against " + result.past + ")";
  return text;
}

}  // namespace wavicon::present_detail
