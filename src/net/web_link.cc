#include "net/web_link.h"

#include <algorithm>

#include "base/text.h"

namespace pargeter {
namespace {

constexpr std::size_t kMostLinks = 50;

// A value up to one of `ends`; within quotes they count for nothing, and a backslash quotes one.
std::string ValueAt(std::string_view text, std::size_t* at, std::string_view ends) {
  std::string value;
  if (*at < text.size() && text[*at] == '"') {
    for (++*at; *at < text.size() && text[*at] != '"'; ++*at) {
      if (text[*at] == '\\' && *at + 1 < text.size()) ++*at;
      value += text[*at];
    }
    while (*at < text.size() && ends.find(text[*at]) == std::string_view::npos) ++*at;
    return value;
  }
  const auto end = std::min(text.find_first_of(ends, *at), text.size());
  value = std::string(Trim(text.substr(*at, end - *at)));
  *at = end;
  return value;
}

bool IsPlain(std::string_view target) {
  return std::all_of(target.begin(), target.end(),
                     [](unsigned char c) { return c > ' ' && c < 0x7f; });
}

}  // namespace

bool WebLink::Is(std::string_view rel) const {
  return std::find(rels.begin(), rels.end(), rel) != rels.end();
}

std::vector<WebLink> ParseWebLinks(std::string_view header) {
  std::vector<WebLink> links;
  std::size_t at = 0;
  while (links.size() < kMostLinks) {
    const auto open = header.find('<', at);
    const auto close = open == std::string_view::npos ? open : header.find('>', open);
    if (close == std::string_view::npos) break;
    WebLink link;
    link.target = std::string(header.substr(open + 1, close - open - 1));
    at = close + 1;
    while (at < header.size() && header[at] != ',') {
      if (header[at] != ';') {
        ++at;
        continue;
      }
      ++at;
      const std::string name = Lower(ValueAt(header, &at, "=;,"));
      std::string value;
      if (at < header.size() && header[at] == '=') value = Lower(ValueAt(header, &++at, ";,"));
      if (name == "rel" && link.rels.empty())
        for (const std::string& one : Split(value, ' '))
          if (!one.empty()) link.rels.push_back(one);
      if (name == "type" && link.type.empty()) link.type = value;
    }
    if (IsPlain(link.target)) links.push_back(std::move(link));
  }
  return links;
}

std::string LocalTarget(const std::string& target, const Endpoint& server) {
  if (!IsPlain(target)) return "";
  if (target.size() > 1 && target[0] == '/' && target[1] != '/') return target;
  const std::string origin = server.scheme + "://" + server.authority;
  if (target.size() > origin.size() && target.compare(0, origin.size(), origin) == 0 &&
      target[origin.size()] == '/')
    return target.substr(origin.size());
  return "";
}

}  // namespace pargeter
