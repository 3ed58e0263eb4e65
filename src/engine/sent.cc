#include "engine/sent.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>
#include <vector>

#include "base/text.h"
#include "engine/engine.h"

namespace pargeter {

namespace {

constexpr std::size_t kRemembered = 12;

struct SentMark {
  std::string of, place;
  bool operator==(const SentMark&) const = default;
};

std::vector<SentMark> Parse(const std::string& upload) {
  std::vector<SentMark> all;
  if (upload.empty() || HasParts(upload)) return all;
  for (const std::string& line : Split(upload.substr(1), '\n')) {
    const auto space = line.find(' ');
    if (space != std::string::npos) all.push_back({line.substr(0, space), line.substr(space + 1)});
  }
  return all;
}

std::string Written(const std::vector<SentMark>& all) {
  std::string out;
  for (const SentMark& one : all) out += (out.empty() ? "=" : "\n") + one.of + " " + one.place;
  return out;
}

class DigestSink : public ReadSink {
 public:
  Status Begin(const Entry&) override {
    md5_.Reset();
    return {};
  }
  Status Write(std::string_view data) override {
    md5_.Update(data);
    return {};
  }
  std::string Finish() { return md5_.Finish(); }

 private:
  Md5Stream md5_;
};

}  // namespace

std::string PlaceIn(NodeId folder, const std::string& key) {
  std::string name;  // in one line
  for (const char c : key) name += c == '\n' ? "%0A" : c == '%' ? "%25" : std::string(1, c);
  return fmt::format("{}/{}", folder, name);
}

bool SentTo(const std::string& upload, const std::string& place) {
  const std::vector<SentMark> all = Parse(upload);
  return std::any_of(all.begin(), all.end(),
                     [&](const SentMark& one) { return one.place == place; });
}

bool AnythingSentTo(const std::string& upload, const std::string& place) {
  const std::vector<SentMark> all = Parse(upload);
  return std::find(all.begin(), all.end(), SentMark{kAnything, place}) != all.end();
}

std::string WithoutAnything(const std::string& upload) {
  if (HasParts(upload)) return upload;
  std::vector<SentMark> all = Parse(upload);
  std::erase_if(all, [](const SentMark& one) { return one.of == kAnything; });
  return Written(all);
}

std::string MovedSent(const std::string& upload, NodeId from, NodeId to) {
  if (HasParts(upload)) return upload;
  const std::string former = PlaceIn(from, "");
  std::vector<SentMark> all = Parse(upload);
  for (SentMark& one : all)
    if (one.place.rfind(former, 0) == 0)
      one.place = PlaceIn(to, "") + one.place.substr(former.size());
  return Written(all);
}

std::string BytesMark(std::uint64_t size, const std::string& digest) {
  return fmt::format("{}:{}", size, Hex(digest));
}

std::string TimeMark(std::uint64_t size, Nanos mtime) {
  return fmt::format("{}@{}", size, mtime / 1'000'000'000);
}

std::string WithSent(const std::string& upload, const std::string& place, const std::string& mark) {
  std::vector<SentMark> all = Parse(upload);
  std::erase(all, SentMark{mark, place});
  all.push_back({mark, place});
  if (all.size() > kRemembered) all.erase(all.begin());
  return Written(all);
}

std::string WithoutSent(const std::string& upload, const std::string& place) {
  if (HasParts(upload)) return upload;
  std::vector<SentMark> all = Parse(upload);
  std::erase_if(all, [&](const SentMark& one) { return one.place == place; });
  return Written(all);
}

Result<std::size_t> SentSource::Read(char* data, std::size_t size, std::uint64_t offset) {
  PG_ASSIGN(const std::size_t n, source_.Read(data, size, offset));
  if (offset == 0 && at_ != 0) {  // once more from the start
    md5_.Reset();
    at_ = 0;
  }
  if (offset != at_ || n == 0) return n;
  md5_.Update({data, n});
  at_ += n;
  if (at_ == Size()) PG_TRY(tell_(md5_.Finish()));
  return n;
}

Result<bool> Engine::WasSent(const Node& node, const std::string& place, const std::string& path,
                             const Entry& there, const Call& call) {
  if (there.kind == Kind::kFolder || (node.dirty & kUnsure) || !SentTo(node.upload, place))
    return false;
  std::vector<std::string> marks;
  for (const SentMark& one : Parse(node.upload))
    if (one.place == place) marks.push_back(one.of);
  const auto among = [&marks](const std::string& mark) {
    return std::find(marks.begin(), marks.end(), mark) != marks.end();
  };
  // (another machine may have sent as many in the same second)
  const std::string& origin = there.attributes.origin;
  if (there.attributes.mtime && (origin.empty() || origin == WriterOf(node)) &&
      among(TimeMark(there.size, *there.attributes.mtime)))
    return true;
  const std::string so_long = std::to_string(there.size) + ":";
  if (std::none_of(marks.begin(), marks.end(),
                   [&](const std::string& mark) { return mark.rfind(so_long, 0) == 0; }))
    return false;
  DigestSink sink;
  if (there.size > 0) {
    const Status read = store_->Read(path, there.version, 0, there.size, &sink, call);
    if (!read.ok() && (read.error().code == Code::kChanged || read.error().code == Code::kNotFound))
      return false;
    if (!read.ok()) return read.error();
  } else {
    PG_TRY(sink.Begin(there));
  }
  return among(BytesMark(there.size, sink.Finish()));
}

}  // namespace pargeter
