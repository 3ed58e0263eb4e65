// DavProvider: reading. A version is made of what a listing tells, a tag or else the time and the
// size. The headers of a GET may tell less, or another kind: then the bytes are held back until a
// look has found the version unchanged behind them.
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

#include "base/log.h"
#include "base/text.h"
#include "provider/compare_sink.h"
#include "provider/paths.h"
#include "provider/range_sink.h"
#include "provider/webdav/dav_provider.h"

namespace pargeter::webdav {
namespace {

constexpr std::uint64_t kMostHeld = 4u << 20;  // bytes; larger ranges are asked for in pieces
constexpr int kAttempts = 4;

// Passes on what is known to be of the version, and holds back the rest.
class GuardedSink : public ReadSink {
 public:
  GuardedSink(bool needs_version, ReadSink* out) : needs_version_(needs_version), out_(*out) {}
  Status Begin(const Entry& entry) override {
    held_ = needs_version_ && entry.version.empty();
    bytes_.clear();
    return held_ ? Status() : out_.Begin(entry);
  }
  Status Write(std::string_view data) override {
    if (!held_) return out_.Write(data);
    too_large_ = bytes_.size() + data.size() > kMostHeld;
    if (too_large_) return Error(Code::kCancelled, "more than is held back at once");
    bytes_ += data;
    return {};
  }
  bool held() const { return held_; }
  bool too_large() const { return too_large_; }
  std::uint64_t size() const { return bytes_.size(); }
  // `entry`: as a look has found the file after the last byte came.
  Status PassOn(const Entry& entry) {
    PG_TRY(out_.Begin(entry));
    return bytes_.empty() ? Status() : out_.Write(bytes_);
  }

 private:
  const bool needs_version_;
  ReadSink& out_;
  std::string bytes_;
  bool held_ = false, too_large_ = false;
};

// Several ranges, one after the other, as one.
class JoiningSink : public ReadSink {
 public:
  explicit JoiningSink(ReadSink* out) : out_(*out) {}
  Status Begin(const Entry& entry) override {
    file_size_ = entry.size;
    return std::exchange(begun_, true) ? Status() : out_.Begin(entry);
  }
  Status Write(std::string_view data) override { return out_.Write(data); }
  std::uint64_t file_size() const { return file_size_; }

 private:
  ReadSink& out_;
  bool begun_ = false;
  std::uint64_t file_size_ = 0;
};

}  // namespace

std::string DatedVersion(Nanos modified, std::uint64_t size) {
  return fmt::format("{}-{}", modified / 1'000'000'000, size);
}

// `version` in the entry: the wanted one if the headers agree with it in either kind, another if
// they tell both kinds and neither agrees, "" if they leave it open.
Entry DavProvider::EntryOfHead(const HttpHead& head, const std::string& path,
                               const std::string& wanted) const {
  Entry entry;
  entry.name = NameIn(path);
  entry.modified = ParseHttpDate(head.Get("last-modified").c_str());
  const std::optional<std::uint64_t> total = TotalSize(head);
  entry.size = total.value_or(0);
  const std::string tag = PlainEtag(head.Get("etag"));
  const std::string dated = entry.modified > 0 && total ? DatedVersion(entry.modified, *total) : "";
  if (wanted.empty()) {
    entry.version = tag.empty() ? dated : tag;
  } else if (total && (tag == wanted || dated == wanted)) {
    entry.version = wanted;
  } else if (!tag.empty() && !dated.empty() && !reads_tell_otherwise_) {
    entry.version = tag;
  }
  return entry;
}

Status DavProvider::Read(const std::string& path, const std::string& version, std::uint64_t offset,
                         std::uint64_t size, ReadSink* sink, const Cancel& cancel) {
  if (size == 0) return {};
  if (!Sayable(path)) return Error(Code::kNotFound, "there can be no " + Printable(path));
  for (int attempt = 1;; ++attempt) {
    // The tag of the answer is compared here: a weak one never matches a condition, RFC 9110
    // section 13.1.1, and servers call fresh ones weak.
    GuardedSink guarded(!version.empty(), sink);
    RangeSink range([&](const HttpHead& head) { return EntryOfHead(head, path, version); }, version,
                    offset, size, false, &guarded);
    Call call = NewCall("GET", path, "read", cancel);
    call.headers = {{"range", fmt::format("bytes={}-{}", offset, offset + size - 1)}};
    call.sink = &range;
    const auto answer = Send(call);
    if (!answer.ok() && guarded.too_large())
      return ReadInPieces(path, version, offset, size, sink, cancel);
    if (!answer.ok() && range.is_other() && !reads_tell_otherwise_) {
      // the server may name one version differently in a listing and in a GET
      const auto there = Look(path, cancel);
      if (!there.ok() || there->version != version) return answer.error();
      reads_tell_otherwise_ = true;
      continue;
    }
    if (!answer.ok()) return answer.error();
    Status good = range.Check();
    if (good.ok() && guarded.held()) {
      const auto there = Look(path, cancel);
      if (!there.ok()) return there.error();
      if (there->version != version) return Error(Code::kChanged, "another version is there");
      const std::uint64_t behind = there->size > offset ? there->size - offset : 0;
      if (guarded.size() == std::min(size, behind)) return guarded.PassOn(*there);
      good = Error(Code::kDamaged, "the store's answer was cut short");
    }
    if (good.ok() || attempt >= kAttempts) return good;
    Log(LogLevel::kWarning, "{}; reading it again", good.error().what);
  }
}

Status DavProvider::ReadInPieces(const std::string& path, const std::string& version,
                                 std::uint64_t offset, std::uint64_t size, ReadSink* sink,
                                 const Cancel& cancel) {
  JoiningSink joined(sink);
  for (std::uint64_t at = offset; at < offset + size; at += kMostHeld) {
    if (at > offset && at >= joined.file_size()) break;
    PG_TRY(Read(path, version, at, std::min(kMostHeld, offset + size - at), &joined, cancel));
  }
  return {};
}

Status DavProvider::ReadKept(const std::string& path, const std::string& id, ReadSink* sink,
                             const Cancel& cancel) {
  if (id.empty() || id[0] != '/' || !Sayable(id.substr(1)))
    return Error(Code::kInvalid, "that is no version of " + Printable(path));
  RangeSink whole([&](const HttpHead& head) { return EntryOfHead(head, path, ""); }, "", 0,
                  ~0ull >> 1, false, sink);
  Call call = NewCall("GET", path, "read a former version of", cancel);
  call.root_path = id;
  call.sink = &whole;
  PG_TRY(Send(call));
  return whole.Check();
}

}  // namespace pargeter::webdav
