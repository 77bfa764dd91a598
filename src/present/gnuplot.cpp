// SPDX-License-Identifier: MIT
#include "gnuplot.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <spawn.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <string_view>
#include <system_error>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/plain_text.hpp"

namespace wavicon::present_detail {
namespace {

// What gnuplot's strings may hold as it is: nothing that it or a shell could take for more than a letter.
bool is_harmless(char c) {
  return (c >= '0' && c <= '9') || (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') ||
         std::string_view(" ,.:()+-=/_").find(c) != std::string_view::npos;
}

}  // namespace

std::string literal(const std::string& text) {
  std::string result = "\"";
  for (const char c : printable(text))
    result += is_harmless(c) ? std::string(1, c) : fmt::format("\\{:03o}", static_cast<unsigned char>(c));
  return result + "\"";
}

std::string preamble(const PlotOptions& options) {
  const bool png = options.format == PlotFormat::png;
  std::string text = fmt::format(
      "set terminal {} size {},{} noenhanced background rgb '{}' font 'DejaVu Sans,{}'{}\n",
      png ? "pngcairo" : "svg", options.width_px, options.height_px, kPaper, 12, png ? "" : " dynamic");
  text += "set encoding utf8\nset samples 2\n";
  text += fmt::format("set border 3 lc rgb '{}' lw 1\nset tics nomirror out scale 0.6 textcolor rgb '{}'\n",
                      kInk, kInk);
  text +=
      fmt::format("set grid xtics ytics lc rgb '{}' lw 1 lt 1\nset key textcolor rgb '{}'\n", kGrid, kInk);
  return text;
}

std::string data_block(const std::string& name, const std::vector<std::pair<double, double>>& points) {
  std::string text = fmt::format("${} << END\n", name);
  for (const auto& [x, y] : points) text += fmt::format("{:.8g} {:.6g}\n", x, y);
  return text + "END\n";
}

std::string data_block(const std::string& name, const Curve& curve, double x_factor) {
  std::vector<std::pair<double, double>> points;
  for (std::size_t i = 0; i < curve.x.size(); ++i) points.emplace_back(x_factor * curve.x[i], curve.y[i]);
  return data_block(name, points);
}

std::string frequency_axis(double low_hz, double high_hz) {
  std::string ticks;
  for (double decade = 1; decade <= high_hz; decade *= 10)
    for (const double step : {1.0, 2.0, 5.0}) {
      const double hz = decade * step;
      if (hz < low_hz || hz > high_hz) continue;
      const std::string label = hz >= 1000 ? fmt::format("{:g}k", hz / 1000) : fmt::format("{:g}", hz);
      ticks += fmt::format("{}'{}' {:g}", ticks.empty() ? "" : ", ", label, hz);
    }
  return fmt::format("set logscale x\nset xrange [{:.8g}:{:.8g}]\nset xtics ({})\n", low_hz, high_hz, ticks);
}

#if !WAVICON_PLOTS
std::string run_gnuplot(const std::string&) {
  throw Error(ErrorCode::bad_output, "this build draws no plots (configured with WAVICON_PLOTS=OFF)");
}
#else
namespace {

Error plot_error(const std::string& what) { return Error(ErrorCode::bad_output, what); }

// Closed when it goes.
struct Descriptor {
  int number = -1;
  explicit Descriptor(int n = -1) : number(n) {}
  ~Descriptor() { close(); }
  Descriptor(const Descriptor&) = delete;
  Descriptor& operator=(const Descriptor&) = delete;
  void close() {
    if (number >= 0) ::close(number);
    number = -1;
  }
};

// The script in memory, to be read from its start.
void hold_script(const Descriptor& memory, const std::string& script) {
  for (std::size_t at = 0; at < script.size();) {
    const ssize_t written = ::write(memory.number, script.data() + at, script.size() - at);
    if (written < 0 && errno == EINTR) continue;
    if (written <= 0) throw plot_error("there is no memory for the plot's script");
    at += static_cast<std::size_t>(written);
  }
  ::lseek(memory.number, 0, SEEK_SET);
}

// gnuplot itself, by no shell: the script is its input, its output ours, and the user's own settings are not
// read (-d).
pid_t start_gnuplot(const Descriptor& script, const Descriptor& output) {
  posix_spawn_file_actions_t files;
  posix_spawnattr_t how;
  posix_spawn_file_actions_init(&files);
  posix_spawnattr_init(&how);
  posix_spawn_file_actions_adddup2(&files, script.number, STDIN_FILENO);
  posix_spawn_file_actions_adddup2(&files, output.number, STDOUT_FILENO);
  posix_spawn_file_actions_addopen(&files, STDERR_FILENO, "/dev/null", O_WRONLY, 0);
  sigset_t usual;
  sigemptyset(&usual);
  sigaddset(&usual, SIGPIPE);
  posix_spawnattr_setsigdefault(&how, &usual);
  posix_spawnattr_setflags(&how, POSIX_SPAWN_SETSIGDEF);
  char name[] = "gnuplot", plain[] = "-d";
  char* arguments[] = {name, plain, nullptr};
  pid_t child = 0;
  const int failure = posix_spawnp(&child, name, &files, &how, arguments, environ);
  posix_spawn_file_actions_destroy(&files);
  posix_spawnattr_destroy(&how);
  if (failure == ENOENT)
    throw plot_error("plots are drawn by gnuplot, which is not installed (Debian package gnuplot-nox)");
  if (failure != 0)
    throw plot_error(fmt::format("gnuplot cannot be started: {}", std::generic_category().message(failure)));
  return child;
}

}  // namespace

std::string run_gnuplot(const std::string& script) {
  const Descriptor memory(::memfd_create("wavicon-plot", MFD_CLOEXEC));
  if (memory.number < 0) throw plot_error("there is no memory for the plot's script");
  hold_script(memory, script);
  int ends[2];
  if (::pipe2(ends, O_CLOEXEC) != 0) throw plot_error("there is no pipe from gnuplot");
  const Descriptor from(ends[0]);
  Descriptor to(ends[1]);
  const pid_t child = start_gnuplot(memory, to);
  to.close();
  std::string output;
  std::array<char, 65536> block{};
  for (ssize_t got; (got = ::read(from.number, block.data(), block.size())) != 0;) {
    if (got < 0 && errno == EINTR) continue;
    if (got < 0) break;
    output.append(block.data(), static_cast<std::size_t>(got));
  }
  int status = 0;
  while (::waitpid(child, &status, 0) < 0 && errno == EINTR) {
  }
  if (status != 0 || output.empty())
    throw plot_error(
        fmt::format("gnuplot failed (status {}): is its cairo terminal installed?", WEXITSTATUS(status)));
  return output;
}
#endif

}  // namespace wavicon::present_detail
