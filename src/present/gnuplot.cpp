// SPDX-License-Identifier: MIT
#include "gnuplot.hpp"

#include <fmt/format.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <memory>

#include "wavicon/audio/error.hpp"

namespace wavicon::present_detail {
namespace {

namespace fs = std::filesystem;

// A file for the script, gone when this goes.
class ScriptFile {
 public:
  explicit ScriptFile(const std::string& text)
      : path_((fs::temp_directory_path() / "wavicon-plot-XXXXXX").string()) {
    const int descriptor = mkstemp(path_.data());
    if (descriptor < 0)
      throw Error(ErrorCode::bad_output,
                  "no temporary file can be made for the plot in " + fs::temp_directory_path().string());
    std::FILE* file = fdopen(descriptor, "w");
    const bool written = std::fwrite(text.data(), 1, text.size(), file) == text.size();
    const bool closed = std::fclose(file) == 0;
    if (!written || !closed) {
      fs::remove(path_);
      throw Error(ErrorCode::bad_output,
                  "the temporary file for the plot cannot be written: is the disk full?");
    }
  }
  ~ScriptFile() {
    std::error_code ignored;
    fs::remove(path_, ignored);
  }
  ScriptFile(const ScriptFile&) = delete;
  ScriptFile& operator=(const ScriptFile&) = delete;
  [[nodiscard]] const std::string& path() const { return path_; }

 private:
  std::string path_;
};

}  // namespace

std::string literal(const std::string& text) {
  std::string result = "'";
  for (const char c : text) result += c == '\'' ? std::string("''") : std::string(1, c == '\n' ? ' ' : c);
  return result + "'";
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
std::string run_gnuplot(const std::string& script) {
  if (std::system("command -v gnuplot >/dev/null 2>&1") != 0)
    throw Error(ErrorCode::bad_output,
                "plots are drawn by gnuplot, which is not installed (Debian package gnuplot-nox)");
  const ScriptFile file(script);
  std::FILE* pipe = popen(("gnuplot '" + file.path() + "' 2>/dev/null").c_str(), "r");
  if (pipe == nullptr) throw Error(ErrorCode::bad_output, "gnuplot cannot be started");
  std::string output;
  std::array<char, 65536> block{};
  for (std::size_t got; (got = std::fread(block.data(), 1, block.size(), pipe)) > 0;)
    output.append(block.data(), got);
  const int status = pclose(pipe);
  if (status != 0 || output.empty())
    throw Error(
        ErrorCode::bad_output,
        fmt::format("gnuplot failed (status {}): is its cairo terminal installed?", WEXITSTATUS(status)));
  return output;
}
#endif

}  // namespace wavicon::present_detail
