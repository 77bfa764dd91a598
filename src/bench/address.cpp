// SPDX-License-Identifier: MIT
#include "bench/address.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "wavicon/audio/error.hpp"

namespace wavicon::bench_detail {
namespace {

[[noreturn]] void fail(const std::string& what) {
  throw Error(ErrorCode::bad_argument,
              fmt::format("logbook: {}; a logbook is a file, or postgresql://USER@HOST/DATABASE", what));
}

std::string decoded(const std::string& text, const char* what) {
  std::string plain;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '%') {
      plain += text[i];
      continue;
    }
    const auto digit = [&](std::size_t at) {
      const bool is_digit = at < text.size() && std::isxdigit(static_cast<unsigned char>(text[at])) != 0;
      if (!is_digit)
        fail(fmt::format("the address's {} has a % that no two hexadecimal digits follow", what));
      return text[at];
    };
    const std::string digits{digit(i + 1), digit(i + 2)};
    const auto byte = static_cast<char>(std::stoi(digits, nullptr, 16));
    if (byte == 0) fail(fmt::format("the address's {} holds a zero byte", what));
    plain += byte;
    i += 2;
  }
  return plain;
}

// What comes before a character, and takes both off.
std::string taken(std::string& text, char end) {
  const auto at = text.find(end);
  std::string first = text.substr(0, at);
  text = at == std::string::npos ? "" : text.substr(at + 1);
  return first;
}

class Parameters {
 public:
  void add(const std::string& name, const std::string& value) {
    if (value.empty()) return;
    text_ += (text_.empty() ? "" : " ") + name + "='";
    for (const char c : value) {
      if (c == '\'' || c == '\\') text_ += '\\';
      text_ += c;
    }
    text_ += '\'';
  }
  [[nodiscard]] const std::string& text() const { return text_; }

 private:
  std::string text_;
};

StoreAddress parse_server(std::string rest) {
  StoreAddress address{.server = true};
  Parameters parameters;
  std::string place = rest.substr(0, rest.find('?'));
  std::string query = place.size() < rest.size() ? rest.substr(place.size() + 1) : "";
  std::string user;
  if (const auto at = place.rfind('@'); at != std::string::npos) {
    user = place.substr(0, at);
    place = place.substr(at + 1);
    std::string password = user;
    user = taken(password, ':');
    parameters.add("password", decoded(password, "password"));
    parameters.add("user", decoded(user, "user"));
  }
  const auto slash = place.find('/');
  std::string host = place.substr(0, slash);
  const std::string database = slash == std::string::npos ? "" : place.substr(slash + 1);
  address.name = fmt::format("postgresql://{}{}{}/{}", user, user.empty() ? "" : "@", host, database);
  if (!host.empty() && host.front() == '[') {
    const auto end = host.find(']');
    if (end == std::string::npos) fail("the address's host has no closing bracket");
    parameters.add("host", host.substr(1, end - 1));
    host = host.substr(end + 1);
    (void)taken(host, ':');
  } else {
    parameters.add("host", decoded(taken(host, ':'), "host"));
  }
  if (host.find_first_not_of("0123456789") != std::string::npos) fail("the address's port is no number");
  parameters.add("port", host);
  parameters.add("dbname", decoded(database, "database"));
  while (!query.empty()) {
    std::string value = taken(query, '&');
    const std::string name = taken(value, '=');
    if (name.empty() ||
        !std::all_of(name.begin(), name.end(), [](unsigned char c) { return std::islower(c) || c == '_'; }))
      fail("the address has a parameter without a name");
    parameters.add(name, decoded(value, "parameter"));
  }
  parameters.add("application_name", "wavicon");
  address.parameters = parameters.text();
  return address;
}

}  // namespace

StoreAddress parse_address(const std::string& url) {
  const auto scheme = url.find("://");
  const std::string kind = scheme == std::string::npos ? "" : url.substr(0, scheme);
  if (kind == "postgresql" || kind == "postgres") return parse_server(url.substr(scheme + 3));
  if (!kind.empty() && kind != "sqlite") fail(fmt::format("'{}://' is no scheme of a logbook", kind));
  StoreAddress address;
  address.path = kind.empty() ? url : url.substr(scheme + 3);
  address.name = address.path;
  if (address.path.empty() || address.path.find_first_of("\"\n") != std::string::npos)
    fail(fmt::format("'{}' is no path: it is empty, or has quotes or line ends", url));
  return address;
}

}  // namespace wavicon::bench_detail
