// SPDX-License-Identifier: MIT
#define NCURSES_WIDECHAR 1
#include "wavicon/live/terminal.hpp"

#include <curses.h>
#include <langinfo.h>
#include <signal.h>
#include <termios.h>
#include <unistd.h>
#include <clocale>

#include <array>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <string_view>

#include "wavicon/audio/error.hpp"
#include "wavicon/live/watch.hpp"

namespace wavicon {
namespace {

// Colours of 256 that can be read on light paper and on dark; -1: the terminal's own ink.
constexpr short kInks[] = {-1, 243, 31, 166, 244, 133, 64, 160};
constexpr short kInksOf8[] = {-1, -1, COLOR_BLUE, COLOR_RED, -1, COLOR_MAGENTA, COLOR_GREEN, COLOR_RED};
constexpr short kHeatInks[kHeats] = {246, 244, 242, 67, 31, 30, 64, 100, 136, 172, 166, 160};

// What a crash puts right, with calls that a signal handler may make.
termios before{};
constexpr std::string_view kBack = "\033[?1049l\033[?25h\033[?1l\033>\033[0m\r\n";
constexpr int kEndings[] = {SIGSEGV, SIGBUS, SIGABRT, SIGFPE, SIGILL, SIGTERM, SIGHUP, SIGQUIT};

void put_back(int number) {
  (void)!::write(STDOUT_FILENO, kBack.data(), kBack.size());
  ::tcsetattr(STDIN_FILENO, TCSANOW, &before);
  ::signal(number, SIG_DFL);
  ::raise(number);
}

bool is_faint(Ink ink) { return ink == Ink::muted || ink == Ink::highest; }

}  // namespace

struct Terminal::Impl {
  SCREEN* screen = nullptr;
  bool colour = false, ascii = true;
  std::array<struct sigaction, std::size(kEndings)> handlers{};
};

Terminal::Terminal(bool colour) : impl_(std::make_unique<Impl>()) {
  if (::isatty(STDIN_FILENO) == 0 || ::isatty(STDOUT_FILENO) == 0)
    throw Error(ErrorCode::bad_output, "there is no terminal here: --lines prints a line a second");
  std::setlocale(LC_CTYPE, "");
  impl_->ascii = std::strcmp(::nl_langinfo(CODESET), "UTF-8") != 0;
  ::tcgetattr(STDIN_FILENO, &before);
  const char* type = std::getenv("TERM");
  if (type != nullptr && std::string_view(type) != "dumb") impl_->screen = ::newterm(nullptr, stdout, stdin);
  if (impl_->screen == nullptr)
    throw Error(ErrorCode::bad_output, "this terminal (TERM) is not known: --lines prints a line a second");
  ::cbreak();
  ::noecho();
  ::nonl();
  ::curs_set(0);
  ::keypad(stdscr, TRUE);
  ::set_escdelay(50);
  impl_->colour = colour && ::has_colors();
  if (impl_->colour) {
    ::start_color();
    ::use_default_colors();
    const bool many = COLORS >= 256;
    for (short i = 0; i < static_cast<short>(Ink::heat_0); ++i)
      ::init_pair(static_cast<short>(i + 1), many ? kInks[i] : kInksOf8[i], -1);
    for (short i = 0; i < kHeats; ++i)
      ::init_pair(static_cast<short>(static_cast<short>(Ink::heat_0) + i + 1), many ? kHeatInks[i] : -1, -1);
  }
  struct sigaction action {};
  action.sa_handler = put_back;
  for (std::size_t i = 0; i < std::size(kEndings); ++i)
    ::sigaction(kEndings[i], &action, &impl_->handlers[i]);
}

Terminal::~Terminal() {
  ::endwin();
  ::delscreen(impl_->screen);
  for (std::size_t i = 0; i < std::size(kEndings); ++i)
    ::sigaction(kEndings[i], &impl_->handlers[i], nullptr);
}

int Terminal::width() const { return COLS; }
int Terminal::height() const { return LINES; }
bool Terminal::only_ascii() const { return impl_->ascii; }

std::optional<int> Terminal::key(double wait_s) {
  ::wtimeout(stdscr, static_cast<int>(std::lround(1000 * wait_s)));
  wint_t read = 0;
  const int kind = ::get_wch(&read);
  if (kind == ERR) return std::nullopt;
  if (kind == OK) {
    if (read == '\r' || read == '\n') return key_enter;
    if (read == 27) return key_escape;
    if (read == 127 || read == 8) return key_erase;
    return static_cast<int>(read);
  }
  switch (read) {
    case KEY_UP:
      return key_up;
    case KEY_DOWN:
      return key_down;
    case KEY_LEFT:
      return key_left;
    case KEY_RIGHT:
      return key_right;
    case KEY_ENTER:
      return key_enter;
    case KEY_BACKSPACE:
      return key_erase;
    default:
      return std::nullopt;  // KEY_RESIZE among them: the size is asked for each time
  }
}

void Terminal::show(const Canvas& canvas) {
  for (int y = 0; y < std::min(canvas.height(), LINES); ++y)
    for (int x = 0; x < std::min(canvas.width(), COLS); ++x) {
      const Cell& cell = canvas.at(x, y);
      attr_t attributes = cell.bold ? A_BOLD : A_NORMAL;
      if (!impl_->colour && is_faint(cell.ink)) attributes |= A_DIM;
      const wchar_t text[2] = {static_cast<wchar_t>(cell.glyph), 0};
      cchar_t drawn;
      ::setcchar(&drawn, text, attributes,
                 impl_->colour ? static_cast<short>(static_cast<short>(cell.ink) + 1) : 0, nullptr);
      mvadd_wch(y, x, &drawn);
    }
  wrefresh(stdscr);
}

}  // namespace wavicon
