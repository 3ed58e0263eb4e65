#include "net/uri.h"

#include <fmt/format.h>

#include "base/text.h"

namespace pargeter {
namespace {

int HexValue(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  if (c >= 'a' && c <= 'f') return c - 'a' + 10;
  if (c >= 'A' && c <= 'F') return c - 'A' + 10;
  return -1;
}

}  // namespace

std::string PercentEncode(std::string_view bytes, KeepSlash slash) {
  static const char kDigits[] = "0123456789ABCDEF";
  std::string out;
  out.reserve(bytes.size() + 8);
  for (const char c : bytes) {
    const bool unreserved = (c >= 'A' && c <= 'Z') || (c >= 'a' && c <= 'z') ||
                            (c >= '0' && c <= '9') || c == '-' || c == '.' || c == '_' || c == '~';
    if (unreserved || (c == '/' && slash == KeepSlash::kYes)) {
      out += c;
    } else {
      const auto byte = static_cast<unsigned char>(c);
      out += '%';
      out += kDigits[byte >> 4];
      out += kDigits[byte & 15];
    }
  }
  return out;
}

std::string PercentDecode(std::string_view text) {
  std::string out;
  out.reserve(text.size());
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '%' && i + 2 < text.size() && HexValue(text[i + 1]) >= 0 &&
        HexValue(text[i + 2]) >= 0) {
      out += static_cast<char>(HexValue(text[i + 1]) * 16 + HexValue(text[i + 2]));
      i += 2;
    } else {
      out += text[i];
    }
  }
  return out;
}

Result<Endpoint> ParseEndpoint(std::string_view url) {
  const Error bad(Code::kInvalid, fmt::format("\"{}\" is no store address", Printable(url)),
                  "Write it as http://HOST:PORT or https://HOST.");
  Endpoint endpoint;
  const auto colon = url.find("://");
  if (colon == std::string_view::npos) return bad;
  endpoint.scheme = Lower(url.substr(0, colon));
  if (endpoint.scheme != "http" && endpoint.scheme != "https") return bad;
  url.remove_prefix(colon + 3);
  if (url.find_first_of("?#@ \t\\") != std::string_view::npos) return bad;
  const auto slash = url.find('/');
  endpoint.authority = std::string(url.substr(0, slash));
  if (slash != std::string_view::npos) endpoint.path = std::string(url.substr(slash));
  while (!endpoint.path.empty() && endpoint.path.back() == '/') endpoint.path.pop_back();
  std::string_view host = endpoint.authority;
  std::string_view port;
  if (!host.empty() && host[0] == '[') {
    const auto close = host.find(']');
    if (close == std::string_view::npos) return bad;
    port = host.substr(close + 1);
    host = host.substr(1, close - 1);
  } else if (const auto at = host.find(':'); at != std::string_view::npos) {
    port = host.substr(at);
    host = host.substr(0, at);
  }
  endpoint.host = std::string(host);
  if (host.empty()) return bad;
  if (!port.empty()) {
    if (port[0] != ':' || port.size() < 2 || port.size() > 6) return bad;
    if (port.find_first_not_of("0123456789", 1) != std::string_view::npos) return bad;
    if (std::stoi(std::string(port.substr(1))) > 65535) return bad;
  }
  return endpoint;
}

}  // namespace pargeter
