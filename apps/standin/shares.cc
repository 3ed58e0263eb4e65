#include "shares.h"

#include <fmt/format.h>

#include <cstdlib>

#include "base/random.h"
#include "base/text.h"
#include "base/units.h"
#include "net/uri.h"
#include "pages.h"
#include "provider/xml.h"

namespace pargeter::standin {
namespace {

constexpr long kLongest = 90L * 86400;
constexpr const char* kBytes = "/bytes";

std::string NameIn(const std::string& path) { return path.substr(path.rfind('/') + 1); }
std::string Encoded(const std::string& path) { return PercentEncode(path, KeepSlash::kYes); }
std::string Day(Nanos when) { return Rfc3339(when).substr(0, 16).replace(10, 1, " ") + " UTC"; }

std::string Facts(const Object& file, const std::string& more) {
  return fmt::format("<dl><dt>Size</dt><dd>{}</dd><dt>Changed</dt><dd>{}</dd>{}</dl>",
                     FormatSize(file.body->size), Day(file.modified), more);
}

}  // namespace

std::string Shares::LinksOf(const std::string& shown) {
  return fmt::format(
      "</{}{}>; rel=\"alternate\"; type=\"text/html\", </{}{}>; "
      "rel=\"urn:x-pargeter:share\"",
      kPages, Encoded(shown), kAsk, Encoded(shown));
}

HttpAnswer Shares::PageOf(const std::string& shown, const Object& file) {
  return Page(200,
              fmt::format("<h1>{}</h1>{}<a class=\"button\" href=\"/{}\">Open</a>",
                          xml::Escape(NameIn(shown)),
                          Facts(file, fmt::format("<dt>Place</dt><dd>{}</dd>", xml::Escape(shown))),
                          Encoded(shown)));
}

HttpAnswer Shares::Add(const std::string& form, const std::string& key, const std::string& shown,
                       Nanos now) {
  HttpAnswer answer;
  const long seconds = form.rfind("seconds=", 0) == 0 ? std::atol(form.c_str() + 8) : 0;
  if (seconds < 1 || seconds > kLongest) {
    answer.status = 400;
    answer.text = "seconds=N, 90 days at most\n";
    return answer;
  }
  const std::string token = RandomName(16);
  shared_[token] = {key, NameIn(shown), now + seconds * 1'000'000'000, false};
  answer.status = 201;
  answer.headers.emplace_back("Location", "/" + std::string(kShared) + token);
  return answer;
}

std::optional<Shares::Shared> Shares::Find(const std::string& path, Nanos now) const {
  std::string token = path.substr(std::string(kShared).size());
  const bool bytes = token.size() > 6 && token.compare(token.size() - 6, 6, kBytes) == 0;
  if (bytes) token.resize(token.size() - 6);
  const auto it = shared_.find(token);
  if (it == shared_.end() || it->second.until <= now) return std::nullopt;
  Shared shared = it->second;
  shared.bytes = bytes;
  return shared;
}

HttpAnswer Shares::SharedPage(const std::string& path, const Shared& shared, const Object& file) {
  return Page(
      200,
      fmt::format("<h1>{}</h1>{}<a class=\"button\" href=\"/{}{}\" download=\"{}\">"
                  "Download</a>",
                  xml::Escape(shared.name),
                  Facts(file, fmt::format("<dt>Shared until</dt><dd>{}</dd>", Day(shared.until))),
                  path, kBytes, xml::Escape(shared.name)));
}

HttpAnswer Shares::OverPage() {
  return Page(410,
              "<h1>Nothing is shared here</h1><p>It may have been, and its time is over. Ask "
              "whoever gave you the address for a new one.</p>");
}

}  // namespace pargeter::standin
