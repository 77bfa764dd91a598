// SPDX-License-Identifier: MIT
#pragma once
// A page in Debian's Chromium, steered through its debugging pipe: keys are pressed and things asked for.

#include <fcntl.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <filesystem>
#include <nlohmann/json.hpp>
#include <stdexcept>
#include <string>

namespace wavicon::testing {

class BrowserSession {
 public:
  BrowserSession(const std::filesystem::path& folder, const std::string& page) {
    int to[2], from[2];
    if (::pipe(to) != 0 || ::pipe(from) != 0) throw std::runtime_error("no pipe");
    profile_ = folder / "session";
    pid_ = ::fork();
    if (pid_ == 0) {
      ::setpgid(0, 0);
      // Out of the way of the places that the browser reads from and writes to.
      const int in = ::fcntl(to[0], F_DUPFD, 20), out = ::fcntl(from[1], F_DUPFD, 20);
      ::dup2(in, 3);
      ::dup2(out, 4);
      ::dup2(::open("/dev/null", O_WRONLY), 1);
      ::dup2(1, 2);
      const std::string profile = "--user-data-dir=" + profile_.string();
      ::execlp("chromium", "chromium", "--headless", "--disable-gpu", "--disable-dev-shm-usage",
               "--no-first-run", profile.c_str(), "--remote-debugging-pipe",
               ::geteuid() == 0 ? "--no-sandbox" : "--mute-audio", nullptr);
      ::_exit(127);
    }
    ::close(to[0]);
    ::close(from[1]);
    to_ = to[1];
    from_ = from[0];
    const json target = ask("Target.createTarget", {{"url", "file://" + page}});
    session_ =
        ask("Target.attachToTarget", {{"targetId", target["targetId"]}, {"flatten", true}})["sessionId"];
    for (int i = 0; i < 200 && evaluate("location.protocol+document.readyState") != "file:complete"; ++i)
      ::usleep(50000);
  }
  ~BrowserSession() {
    ::close(to_);
    ::close(from_);
    ::kill(pid_, SIGTERM);
    ::waitpid(pid_, nullptr, 0);
    // Its helpers may outlive it and write on: they go, and then what they wrote.
    ::kill(-pid_, SIGKILL);
    std::error_code busy;
    for (int i = 0; i < 100 && (std::filesystem::remove_all(profile_, busy), busy); ++i) ::usleep(20000);
  }
  BrowserSession(const BrowserSession&) = delete;
  BrowserSession& operator=(const BrowserSession&) = delete;

  using json = nlohmann::json;
  json ask(const std::string& method, const json& params) {
    json message = {{"id", ++id_}, {"method", method}, {"params", params}};
    if (!session_.empty()) message["sessionId"] = session_;
    const std::string text = message.dump() + '\0';
    if (::write(to_, text.data(), text.size()) < 0) throw std::runtime_error("the browser is gone");
    while (true) {
      const json answer = json::parse(next());
      if (answer.value("id", 0) != id_) continue;
      if (answer.contains("error")) throw std::runtime_error(answer.dump());
      return answer["result"];
    }
  }
  json evaluate(const std::string& script) {
    return ask("Runtime.evaluate", {{"expression", script}, {"returnByValue", true}})["result"].value("value",
                                                                                                      json());
  }
  void press(const std::string& key, int code) {
    json event = {{"type", "keyDown"}, {"key", key}, {"code", key}, {"windowsVirtualKeyCode", code}};
    if (key == "Enter") event["text"] = "\r";
    ask("Input.dispatchKeyEvent", event);
    event["type"] = "keyUp";
    event.erase("text");
    ask("Input.dispatchKeyEvent", event);
  }

 private:
  std::string next() {
    while (true) {
      if (const auto end = waiting_.find('\0'); end != std::string::npos) {
        std::string message = waiting_.substr(0, end);
        waiting_.erase(0, end + 1);
        return message;
      }
      char bytes[65536];
      const ssize_t count = ::read(from_, bytes, sizeof(bytes));
      if (count <= 0) throw std::runtime_error("the browser is gone");
      waiting_.append(bytes, static_cast<std::size_t>(count));
    }
  }
  std::filesystem::path profile_;
  pid_t pid_ = 0;
  int to_ = -1, from_ = -1, id_ = 0;
  std::string session_, waiting_;
};

}  // namespace wavicon::testing
