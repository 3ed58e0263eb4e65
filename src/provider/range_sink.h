// Passes a file's bytes on, after checking that they are the ones that were asked for.
#pragma once

#include <functional>
#include <optional>
#include <string>

#include "base/digest.h"
#include "base/text.h"
#include "net/http_client.h"
#include "provider/provider.h"

namespace pargeter {

class RangeSink : public BodySink {
 public:
  using Describe = std::function<Entry(const HttpHead&)>;
  // Bytes [offset, offset + size) of `version` ("": whichever). `describe` makes an Entry of an
  // answer's headers. With `check_md5` the digest of a whole file is taken on the way.
  RangeSink(Describe describe, std::string version, std::uint64_t offset, std::uint64_t size,
            bool check_md5, ReadSink* out)
      : describe_(std::move(describe)),
        version_(std::move(version)),
        offset_(offset),
        size_(size),
        check_md5_(check_md5),
        out_(out) {}

  Status Begin(const HttpHead& head) override;
  Status Write(std::string_view data) override;
  // After the last byte: kDamaged if what came is not the whole range.
  Status Check() const;
  bool is_other() const { return is_other_; }  // another version was there
  // The digest of a whole file, "" if it was not taken.
  std::string WholeMd5() { return check_md5_ && whole_ ? Hex(md5_.Finish()) : ""; }

 private:
  const Describe describe_;
  const std::string version_;
  const std::uint64_t offset_, size_;
  const bool check_md5_;
  ReadSink* out_;
  Md5Stream md5_;
  std::uint64_t skip_ = 0, left_ = 0;
  bool whole_ = false, is_other_ = false;
  bool open_end_ = false;  // the answer does not say how long the file is
};

// The size of the whole file, as the answer to a GET tells it. Nothing: it does not (RFC 9110
// section 14.4 allows "*" for it, and a whole file may come without its length).
std::optional<std::uint64_t> TotalSize(const HttpHead& head);

}  // namespace pargeter
