// SPDX-License-Identifier: MIT
#include "gnuplot.hpp"

#include "table_parts.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <spawn.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cmath>
#include <cstdlib>
#include <numbers>
#include <string_view>
#include <system_error>

#include "wavicon/audio/error.hpp"
#include "wavicon/audio/plain_text.hpp"

namespace wavicon::present_detail {
namespace {

[[maybe_unused]] constexpr double kDarkest = 22;  // of 255: dark paper

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

std::string shortened(const std::string& text, std::size_t most) {
  if (width(text) <= most) return text;
  // At letters, not within one.
  std::vector<std::size_t> starts;
  for (std::size_t i = 0; i < text.size(); ++i)
    if ((text[i] & 0xC0) != 0x80) starts.push_back(i);
  const std::size_t front = (most - 1) / 2, back = most - 1 - front;
  return text.substr(0, starts[front]) + "\u2026" + text.substr(starts[starts.size() - back]);
}

std::string titles(const std::vector<Sheet>& sheets, const std::string& answer, const std::string& drawn,
                   const PlotOptions& options) {
  constexpr double kTitlePx = 9.9, kSmallPx = 7.4;  // of a letter
  std::string title = answer;
  for (const Sheet& sheet : sheets)
    for (const Finding& finding : sheet.findings)
      if (title.empty() && sheets.size() == 1 && finding.severity == Severity::note) title = finding.text;
  std::string below = title.empty() ? "" : drawn;
  if (title.empty()) title = drawn;
  std::vector<std::string> files;
  for (const Sheet& sheet : sheets)
    if (std::find(files.begin(), files.end(), sheet.capture.file) == files.end())
      files.push_back(sheet.capture.file);
  const ShortNames names = capture_names(sheets);
  std::string of = files.size() == 1 ? files.front() : names.pattern;
  if (files.size() > 1) of += fmt::format("{}{} captures", of.empty() ? "" : ": ", files.size());
  if (!of.empty()) below += (below.empty() ? "" : "  \u00b7  ") + of;
  if (!sheets.empty() && sheets.front().capture.sample_rate_hz > 0)
    below += fmt::format("  \u00b7  {:g} kHz", sheets.front().capture.sample_rate_hz / 1000);
  const auto fits = [&](double px) {
    return static_cast<std::size_t>(std::max(20.0, (options.width_px - 120) / px));
  };
  auto lines = head_lines(printable(title), fits(kTitlePx));
  if (lines.size() > 2) {
    lines.resize(2);
    lines[1] += " \u2026";
  }
  const bool two = lines.size() == 2;
  std::string text = "set tmargin 5\n";
  for (std::size_t i = 0; i < lines.size(); ++i)
    text += fmt::format("set label {} at graph 0,1 left offset 0,{} font ',13' textcolor rgb '{}'\n",
                        literal(lines[i]), two ? (i == 0 ? 3.5 : 2.25) : 2.7, kInk);
  return text + fmt::format("set label {} at graph 0,1 left offset 0,1.05 font ',10' textcolor rgb '{}'\n",
                            literal(shortened(below, fits(kSmallPx))), kMuted);
}

std::string overall_title(const std::vector<Sheet>& sheets, const std::string& drawn,
                          const PlotOptions& options) {
  constexpr double kLetterPx = 9.9;
  std::string text;
  for (const Sheet& sheet : sheets)
    for (const Finding& finding : sheet.findings)
      if (text.empty() && sheets.size() == 1 && finding.severity == Severity::note) text = finding.text;
  if (text.empty()) text = drawn;
  const std::string of = sheets.size() == 1 ? sheets.front().capture.file : capture_names(sheets).pattern;
  if (!of.empty()) text = of + ": " + text;
  const auto most = static_cast<std::size_t>(std::max(20.0, (options.width_px - 60) / kLetterPx));
  return fmt::format(" title {} font ',13' textcolor rgb '{}'", literal(shortened(text, most)), kInk);
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

Curve between_samples(const Curve& curve) {
  constexpr std::ptrdiff_t kReach = 12, kPerSample = 12;
  constexpr std::size_t kMost = 2000;
  const auto count = static_cast<std::ptrdiff_t>(curve.x.size());
  if (count < 3 || curve.x.size() > kMost) return curve;
  const double step = (curve.x.back() - curve.x.front()) / static_cast<double>(count - 1);
  for (std::ptrdiff_t i = 1; i < count; ++i)
    if (std::abs(curve.x[static_cast<std::size_t>(i)] - curve.x[static_cast<std::size_t>(i - 1)] - step) >
        0.01 * step)
      return curve;
  const auto sinc = [](double x) {
    return x == 0 ? 1.0 : std::sin(std::numbers::pi * x) / (std::numbers::pi * x);
  };
  Curve smooth = curve;
  smooth.x.clear();
  smooth.y.clear();
  for (std::ptrdiff_t k = 0; k <= (count - 1) * kPerSample; ++k) {
    const double at = static_cast<double>(k) / static_cast<double>(kPerSample);
    const auto near = static_cast<std::ptrdiff_t>(std::floor(at));
    double sum = 0, weights = 0;
    for (std::ptrdiff_t i = std::max<std::ptrdiff_t>(0, near - kReach + 1);
         i <= std::min(count - 1, near + kReach); ++i) {
      const double away = at - static_cast<double>(i),
                   weight = sinc(away) * sinc(away / static_cast<double>(kReach));
      sum += weight * curve.y[static_cast<std::size_t>(i)];
      weights += weight;
    }
    smooth.x.push_back(curve.x.front() + at * step);
    smooth.y.push_back(std::abs(weights) > 0.5 ? sum / weights : sum);
  }
  return smooth;
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

std::string shade(const char* from, const char* to, double share) {
  const auto part = [](const char* colour, int i) {
    return std::strtol(std::string(colour + 1 + 2 * i, 2).c_str(), nullptr, 16);
  };
  std::string text = "#";
  for (int i = 0; i < 3; ++i)
    text += fmt::format("{:02x}", std::lround(static_cast<double>(part(from, i)) * (1 - share) +
                                              static_cast<double>(part(to, i)) * share));
  return text;
}

#if !WAVICON_PLOTS
std::string run_gnuplot(const std::string&, const PlotOptions&) {
  throw Error(ErrorCode::bad_output, "this build draws no plots (configured with WAVICON_PLOTS=OFF)");
}
#else
namespace {

// Every colour of a script for dark paper: what comes from outside holds no '#' (literal()), so that each is
// one of ours. Lightness is turned, the hue stays.
std::string darkened(const std::string& script) {
  std::string text = script;
  for (std::size_t at = 0; (at = text.find("'#", at)) != std::string::npos; at += 9) {
    if (at + 8 >= text.size() || text[at + 8] != '\'') continue;
    std::array<double, 3> part{};
    for (std::size_t i = 0; i < 3; ++i)
      part[i] = static_cast<double>(std::strtol(text.substr(at + 2 + 2 * i, 2).c_str(), nullptr, 16));
    const double high = *std::max_element(part.begin(), part.end()),
                 low = *std::min_element(part.begin(), part.end());
    std::string turned;
    for (const double p : part)
      turned +=
          fmt::format("{:02x}", std::lround(kDarkest + (255 - kDarkest) * (255 - high - low + p) / 255));
    text.replace(at + 2, 6, turned);
  }
  return text;
}

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
// read (-d). It reads what it is not told to open byte by byte, each with a call to the system.
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
  char name[] = "gnuplot", plain[] = "-d", input[] = "/proc/self/fd/0";
  char* arguments[] = {name, plain, ::access("/proc/self/fd", X_OK) == 0 ? input : nullptr, nullptr};
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

std::string run_gnuplot(const std::string& script, const PlotOptions& options) {
  const Descriptor memory(::memfd_create("wavicon-plot", MFD_CLOEXEC));
  if (memory.number < 0) throw plot_error("there is no memory for the plot's script");
  hold_script(memory, options.dark ? darkened(script) : script);
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
