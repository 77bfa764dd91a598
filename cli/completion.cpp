// SPDX-License-Identifier: MIT
// What shells ask for when a word is to be finished, made from the commands themselves.

#include "completion.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <utility>

#include "commands.hpp"
#include "kinds.hpp"
#include "manual_pages.hpp"
#include "wavicon/audio/error.hpp"
#include "wavicon/bench/plan.hpp"
#include "wavicon/file/capture_file.hpp"
#include "wavicon/file/output_file.hpp"
#include "wavicon/measure/measurement_list.hpp"

namespace wavicon::cli {
namespace {

struct Completion {
  std::vector<std::string> given;  // a shell's name, or words
  std::string line, breaks, file;
  bool words = false;
};

// A word that may stand there, and what it is.
struct Offer {
  std::string word;
  std::string about;
};

struct Offers {
  std::vector<Offer> words;
  std::vector<std::string> endings;  // of files; empty with `files`: any
  bool files = false;
  bool folders = false;
};

// A line as a shell takes it apart, up to its end.
struct TypedLine {
  std::vector<std::string> words;  // without quotes; the last is the one that is being typed
  bool quoted = false;             // within quotes at the end
};

bool starts(const std::string& text, const std::string& with) { return text.rfind(with, 0) == 0; }

// The parser of a command and what was typed of it.
struct Place {
  std::unique_ptr<CLI::App> app;
  CLI::App* command = nullptr;     // the one below that is being typed, maybe one of its own commands
  std::string name;                // of the command
  CLI::Option* awaited = nullptr;  // the option whose value comes next
  std::size_t positionals = 0;     // that were given
  std::vector<std::string> typed;  // in front of the word
  std::vector<std::string> given;  // options
};

CLI::Option* option_of(CLI::App& command, const std::string& word) {
  for (CLI::Option* option : command.get_options())
    if (!option->get_positional() && option->check_name(word)) return option;
  return nullptr;
}

// Values that an option takes at least and at most, each time that it is given.
int values_of(const CLI::Option& option) {
  const int most = option.get_items_expected_max();
  return most == 0 ? 0 : std::max(1, option.get_items_expected_min());
}

void walk(Place& place) {
  int owed = 0;
  for (std::size_t i = 1; i < place.typed.size(); ++i) {
    const std::string& word = place.typed[i];
    if (owed > 0) {
      if (--owed == 0) place.awaited = nullptr;
      continue;
    }
    if (word.size() > 1 && word[0] == '-') {
      const std::string name = word.substr(0, word.find('='));
      place.given.push_back(name);
      CLI::Option* option = option_of(*place.command, name);
      if (option == nullptr || name.size() < word.size()) continue;
      owed = values_of(*option);
      place.awaited = owed > 0 ? option : nullptr;
      continue;
    }
    CLI::App* below = find_command(*place.command, word);
    if (below != nullptr)
      place.command = below;
    else
      ++place.positionals;
  }
}

CLI::Option* positional_at(CLI::App& command, std::size_t place) {
  CLI::Option* last = nullptr;
  for (CLI::Option* option : command.get_options()) {
    if (!option->get_positional()) continue;
    last = option;
    const auto most = static_cast<std::size_t>(option->get_items_expected_max());
    if (place < most) return option;
    place -= most;
  }
  return last != nullptr && last->get_items_expected_max() > 1 ? last : nullptr;
}

void offer_units(const std::string& word, Offers& offers) {
  const auto asked = word.find('?');
  if (asked == std::string::npos) {
    for (const UnitListing& unit : list_units(own_units()))
      if (unit.refused.empty()) offers.words.push_back({unit.name, unit.title});
    return;
  }
  const std::string name = word.substr(0, asked);
  const auto last = word.find_last_of("?&");
  const std::string front = word.substr(0, last + 1), rest = word.substr(last + 1);
  const auto unit = open_unit(parse_unit(name), own_units());
  const auto equals = rest.find('=');
  const auto& settings = unit->info().settings;
  const auto begun = [&](const SettingInfo& setting) { return starts(setting.symbol, rest); };
  const bool one = std::count_if(settings.begin(), settings.end(), begun) == 1;
  for (const SettingInfo& setting : settings) {
    if (equals == std::string::npos)
      offers.words.push_back({front + setting.symbol + "=",
                              setting.unit.empty() ? setting.name : setting.name + ", " + setting.unit});
    // A value is to follow: shells end a word, and its quotes, where nothing else can stand.
    if (one && begun(setting))
      offers.words.push_back(
          {fmt::format("{}{}={:.6g}", front, setting.symbol, setting.default_value), "its default"});
    if (equals != std::string::npos && rest.substr(0, equals) == setting.symbol)
      for (const SettingChoice& choice : setting.choices)
        offers.words.push_back(
            {front + setting.symbol + "=" + fmt::format("{:.6g}", choice.value), choice.label});
  }
}

// "h{}_dbc" stands for many: the first few are offered.
void offer_reading(const ReadingEntry& entry, Offers& offers) {
  const auto open = entry.name.find("{}");
  if (open == std::string::npos) {
    offers.words.push_back({entry.name, entry.words});
    return;
  }
  for (const char* order : {"2", "3", "4", "5"}) {
    std::string name = entry.name;
    offers.words.push_back({name.replace(open, 2, order), entry.words});
  }
}

void offer_readings(const std::string& command, Offers& offers) {
  const auto tables = reading_tables(measurements());
  const bool any = std::none_of(tables.begin(), tables.end(),
                                [&](const ReadingTable* table) { return table->measurement == command; });
  for (const ReadingTable* table : tables)
    if (any || table->measurement == command)
      for (const ReadingEntry& entry : table->entries) offer_reading(entry, offers);
}

// Behind the sign: what the logbook knows.
void offer_limit(const std::string& word, const std::string& command, Offers& offers) {
  const auto sign = word.find_first_of("<>");
  if (sign == std::string::npos) return offer_readings(command, offers);
  const std::string front = word.substr(0, word.find_first_not_of("<>=", sign));
  for (const char* earlier : {"last", "first", "best"})
    offers.words.push_back({front + earlier, "of the logbook"});
}

// Parts of what the captures on the line carry.
void offer_parts(const Place& place, Offers& offers) {
  for (const std::string& word : place.typed) {
    try {
      for (const RecipePart& part : read_recipe(word).parts)
        if (!part.name.empty()) offers.words.push_back({part.name, "in " + word});
      if (!offers.words.empty()) return;
    } catch (const Error&) {  // no file, or none that carries a recipe
    }
  }
}

void offer_kind(const std::string& kind, const std::string& word, const Place& place, Offers& offers) {
  if (kind == "UNIT") return offer_units(word, offers);
  if (kind == "LIMIT") return offer_limit(word, place.name, offers);
  if (kind == "READING") return offer_readings(place.name, offers);
  if (kind == "PART") return offer_parts(place, offers);
  if (kind == "MEASUREMENT") {
    for (const MeasurementDescriptor& m : measurements()) offers.words.push_back({m.name, m.question});
  } else if (kind == "COMMAND") {
    for (CLI::App* command : command_app("")->get_subcommands(nullptr))
      offers.words.push_back({command->get_name(), command->get_description()});
    for (const std::string& topic : manual_topics()) offers.words.push_back({topic, "of the manual"});
  } else if (kind == "READY-PLAN") {
    for (const ReadyPlan& plan : ready_plans()) offers.words.push_back({plan.name, plan.question});
  } else if (kind == "STAND-IN") {
    for (const UnitListing& unit : list_units(own_units()))
      if (starts(unit.name, "sim:")) offers.words.push_back({unit.name.substr(4), unit.title});
  } else {
    bool folders = false, files = false;
    const auto endings = endings_of(kind, folders, files);
    offers.folders = offers.folders || folders;
    offers.files = offers.files || files;
    offers.endings.insert(offers.endings.end(), endings.begin(), endings.end());
    if (!folders && !files) offers.words.push_back({kind, ""});
  }
}

// "square|sine", "AUDIO|RECIPE": each of them.
void offer_value(const CLI::Option& option, const std::string& word, const Place& place, Offers& offers) {
  std::string kinds = kind_of(option, place.name);
  // What stands behind a ready plan's name is what the plan takes.
  if (kinds == "PLAN" && option.get_positional() &&
      std::find(place.given.begin(), place.given.end(), "--plan") != place.given.end())
    kinds = starts(word, "sim:") || starts(word, "lv2:") || starts(word, "ladspa:") ? "UNIT" : "UNIT|AUDIO";
  if (kinds.empty() && option.get_positional()) offers.files = true;
  for (std::size_t at = 0; at < kinds.size();) {
    const std::size_t end = std::min(kinds.find('|', at), kinds.size());
    offer_kind(kinds.substr(at, end - at), word, place, offers);
    at = end + 1;
  }
}

void offer_options(CLI::App& command, const Place& place, Offers& offers) {
  for (const CLI::Option* option : command.get_options()) {
    if (option->get_positional() || option->get_group().empty()) continue;
    const std::string name = option->get_name(false, false);
    const bool again = option->get_items_expected_max() > 1;
    if (again || std::find(place.given.begin(), place.given.end(), name) == place.given.end())
      offers.words.push_back({name, option->get_description()});
  }
}

Offers all_offers(const std::vector<std::string>& words) {
  Offers offers;
  const std::string& word = words.back();
  if (words.size() == 1) {
    const auto app = command_app("");
    for (CLI::App* command : app->get_subcommands(nullptr))
      offers.words.push_back({command->get_name(), command->get_description()});
    offers.words.push_back({"--help", "all commands"});
    offers.words.push_back({"--version", "of this program"});
    return offers;
  }
  Place place;
  place.typed.assign(words.begin(), words.end() - 1);
  place.name = words.front();
  const auto names = command_names();
  if (std::find(names.begin(), names.end(), place.name) == names.end()) return offers;
  place.app = command_app(place.name);
  place.command = find_command(*place.app, place.name);
  walk(place);
  if (place.awaited != nullptr) {
    offer_value(*place.awaited, word, place, offers);
  } else if (const auto equals = word.find('='); starts(word, "--") && equals != std::string::npos) {
    if (const CLI::Option* option = option_of(*place.command, word.substr(0, equals))) {
      offer_value(*option, word.substr(equals + 1), place, offers);
      for (Offer& offer : offers.words) offer.word = word.substr(0, equals + 1) + offer.word;
    }
  } else if (starts(word, "-")) {
    offer_options(*place.command, place, offers);
  } else {
    if (place.positionals == 0)
      for (CLI::App* below : place.command->get_subcommands(nullptr))
        offers.words.push_back({below->get_name(), below->get_description()});
    if (const CLI::Option* option = positional_at(*place.command, place.positionals))
      offer_value(*option, word, place, offers);
    else if (offers.words.empty())
      offer_options(*place.command, place, offers);
  }
  return offers;
}

// Letters that end a command where they are not quoted.
bool parts_commands(char c) { return c == '|' || c == ';' || c == '&'; }

Offers offers_for(const std::vector<std::string>& words) {
  Offers offers = all_offers(words);
  std::vector<Offer> once;
  for (Offer& offer : offers.words)
    if (std::none_of(once.begin(), once.end(), [&](const Offer& there) { return there.word == offer.word; }))
      once.push_back(std::move(offer));
  offers.words = std::move(once);
  return offers;
}

TypedLine typed_line(const std::string& line) {
  TypedLine typed;
  char quote = '\0';
  bool within = false;  // a word
  std::string word;
  const auto end_word = [&] {
    if (within) typed.words.push_back(std::exchange(word, {}));
    within = false;
  };
  for (std::size_t i = 0; i < line.size(); ++i) {
    const char c = line[i];
    if (quote != '\0') {
      if (c == quote)
        quote = '\0';
      else
        word += c == '\\' && quote == '"' && i + 1 < line.size() ? line[++i] : c;
    } else if (c == ' ' || c == '\t') {
      end_word();
    } else if (parts_commands(c)) {
      word.clear();
      within = false;
      typed.words.clear();
    } else {
      within = true;
      if (c == '\'' || c == '"')
        quote = c;
      else
        word += c == '\\' && i + 1 < line.size() ? line[++i] : c;
    }
  }
  typed.quoted = quote != '\0';
  typed.words.push_back(word);
  return typed;
}

// For shells: what is offered, "words", "files .wav .flac" or "folders"; then a word, a tab and what it is,
// on a line each.
int answer(const Completion& completion) {
  TypedLine typed;
  if (completion.words) {
    typed.words = completion.given;
  } else {
    typed = typed_line(completion.line);
    if (!typed.words.empty()) typed.words.erase(typed.words.begin());  // the program's name
  }
  if (typed.words.empty()) typed.words.emplace_back();
  Offers offers;
  try {
    offers = offers_for(typed.words);
  } catch (const Error&) {  // what cannot be found out is not offered
  }
  const std::string& word = typed.words.back();
  // Where a shell parts words, what stands in front of the last parting is there already.
  const auto last = typed.quoted ? std::string::npos : word.find_last_of(completion.breaks);
  const std::size_t kept = last == std::string::npos ? 0 : last + 1;
  std::string text = offers.folders ? "folders" : offers.files ? "files" : "words";
  for (const std::string& ending : offers.endings) text += " " + ending;
  text += "\n";
  for (const Offer& offer : offers.words)
    if (starts(offer.word, word)) text += fmt::format("{} | {}\n", offer.word.substr(kept), offer.about);
  print(text);
  return exit_status::measured;
}

int run(const Completion& completion) {
  if (completion.words || !completion.line.empty()) return answer(completion);
  const std::string shell = completion.given.empty() ? "" : completion.given.front();
  if (completion.given.size() == 1)
    if (const std::string script = completion_script(shell); !script.empty()) {
      if (completion.file.empty())
        print(script);
      else
        write_text_file(completion.file, script);
      return exit_status::measured;
    }
  throw Error(ErrorCode::bad_argument,
              fmt::format("there is no completion for '{}': it is made for bash, zsh and fish", shell));
}

}  // namespace

void add_completion(CLI::App& app, Action& action) {
  auto* sub = app.add_subcommand("completion", "how do I make my shell finish the words?");
  auto completion = std::make_shared<Completion>();
  sub->add_option("SHELL", completion->given, "bash, zsh or fish: print what it is to read");
  sub->add_option("-o,--output", completion->file, "write it to a file");
  // What the shells call.
  sub->add_option("--line", completion->line)->group("");
  sub->add_option("--breaks", completion->breaks)->group("");
  sub->add_flag("--words", completion->words)->group("");
  sub->callback([completion, &action] {
    if (completion->given.empty() && completion->line.empty() && !completion->words)
      throw CLI::RequiredError("SHELL");
    action = [completion] { return run(*completion); };
  });
}

}  // namespace wavicon::cli
