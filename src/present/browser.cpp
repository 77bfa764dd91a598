// SPDX-License-Identifier: MIT
#include "wavicon/present/browser.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <string>
#include <vector>

#include "wavicon/audio/error.hpp"

extern char** environ;

namespace wavicon {

void print_to_pdf(const std::filesystem::path& html, const std::filesystem::path& pdf) {
  namespace fs = std::filesystem;
  std::error_code ignored;
  fs::remove(pdf, ignored);
  // A profile of its own: the user's browser may be running.
  const fs::path profile = fs::path(pdf).replace_extension(".profile");
  std::vector<std::string> words = {"chromium",
                                    "--headless",
                                    "--disable-gpu",
                                    "--disable-dev-shm-usage",
                                    "--no-first-run",
                                    "--no-pdf-header-footer",
                                    "--user-data-dir=" + profile.string(),
                                    "--print-to-pdf=" + pdf.string(),
                                    "file://" + fs::absolute(html).string()};
  if (::geteuid() == 0) words.insert(words.begin() + 1, "--no-sandbox");  // root has none
  std::vector<char*> argv;
  for (std::string& word : words) argv.push_back(word.data());
  argv.push_back(nullptr);
  posix_spawn_file_actions_t quiet;
  posix_spawn_file_actions_init(&quiet);
  posix_spawn_file_actions_addopen(&quiet, STDOUT_FILENO, "/dev/null", O_WRONLY, 0);
  posix_spawn_file_actions_addopen(&quiet, STDERR_FILENO, "/dev/null", O_WRONLY, 0);
  pid_t pid = 0;
  const int failed = ::posix_spawnp(&pid, words[0].c_str(), &quiet, nullptr, argv.data(), environ);
  posix_spawn_file_actions_destroy(&quiet);
  int status = 1;
  if (failed == 0)
    while (::waitpid(pid, &status, 0) < 0 && errno == EINTR) {
    }
  fs::remove_all(profile, ignored);
  if (failed != 0 || (WIFEXITED(status) && WEXITSTATUS(status) == 127))
    throw Error(ErrorCode::bad_output,
                "PDF is printed by Chromium, which is not installed: apt install chromium; or write .html");
  if (status != 0 || !fs::exists(pdf, ignored) || fs::file_size(pdf, ignored) == 0)
    throw Error(ErrorCode::bad_output, fmt::format("{}: Chromium printed nothing", pdf.string()));
}

}  // namespace wavicon
