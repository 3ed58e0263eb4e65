// The marks and places of an upload log (index/upload_log.h).
//   mark    SIZE:MD5       bytes
//           SIZE@SECONDS   a time of change
//           any            every object there with this drive's origin mark is the upload's
//   place   FOLDER/NAME    with the folder's node id: a folder above may be moved at any time
// Marks are needed where the origin mark is not conclusive (Provenance::OriginIsConclusive).
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

std::string PlaceIdIn(NodeId folder, const std::string& key);
std::string BytesMark(std::uint64_t size, const std::string& digest);  // of 16 bytes
std::string TimeMark(std::uint64_t size, Nanos mtime);
inline constexpr const char* kTrustOrigin = "any";

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
