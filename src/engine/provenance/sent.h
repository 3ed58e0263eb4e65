// What an upload has begun to send, written down (Node::upload) so that it is known again:
//   "=MARK PLACE\n..."      what was sent and where, the last of it, where who wrote what is there
//                           does not tell that (Provenance::SignTells). SIZE:MD5 for bytes,
//                           SIZE@SECONDS for a time of change, "any" for all that has our sign.
//                           A place is FOLDER/NAME with the folder's node id: one above it may be
//                           moved at any time, by a request of its own
//   "MARK:SIZE:ID\nPATH"    an upload in parts; "?\nPATH": perhaps one (SendLog::EndParts)
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/digest.h"
#include "index/index.h"
#include "provider/provider.h"

namespace pargeter {

inline bool HasParts(const std::string& upload) { return !upload.empty() && upload[0] != '='; }
std::string PlaceIn(NodeId folder, const std::string& key);
// One line of it: what was sent, and where.
struct SentMark {
  std::string of, place;
  bool operator==(const SentMark&) const = default;
};
std::vector<SentMark> ParseSent(const std::string& upload);
bool SentTo(const std::string& upload, const std::string& place);
std::string BytesMark(std::uint64_t size, const std::string& digest);  // of 16 bytes
std::string TimeMark(std::uint64_t size, Nanos mtime);
inline constexpr const char* kAnything = "any";
std::string WithoutAnything(const std::string& upload);
bool AnythingSentTo(const std::string& upload, const std::string& place);
std::string WithSent(const std::string& upload, const std::string& place, const std::string& mark);
std::string WithoutSent(const std::string& upload, const std::string& place);
// What was sent into `from` is in `to` now.
std::string MovedSent(const std::string& upload, NodeId from, NodeId to);

// Passes the bytes on, and tells their digest before it gives the last of them away.
class SentSource : public WriteSource {
 public:
  using Tell = std::function<Status(const std::string& digest)>;
  SentSource(WriteSource* source, Tell tell) : source_(*source), tell_(std::move(tell)) {}
  std::uint64_t Size() const override { return source_.Size(); }
  Result<std::size_t> Read(char* data, std::size_t size, std::uint64_t offset) override;

 private:
  WriteSource& source_;
  const Tell tell_;
  Md5Stream md5_;
  std::uint64_t at_ = 0;
};

}  // namespace pargeter
