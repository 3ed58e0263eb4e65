// Contents as what is sent to the store, or compared with it.
#pragma once

#include <algorithm>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "base/file.h"
#include "engine/bytes/content.h"
#include "provider/provider.h"
#include "provider/text_source.h"

namespace pargeter {

// A content as the source of an upload: [base, base + size) of its block file.
class ContentSource : public WriteSource {
 public:
  ContentSource(std::shared_ptr<Content> content, std::uint64_t base, std::uint64_t size,
                Disk* disk)
      : content_(std::move(content)), base_(base), size_(size), disk_(*disk) {}
  std::uint64_t Size() const override { return size_; }
  Result<std::size_t> Read(char* data, std::size_t size, std::uint64_t offset) override {
    if (offset >= size_) return std::size_t{0};
    const std::size_t want =
        static_cast<std::size_t>(std::min<std::uint64_t>(size, size_ - offset));
    const Range range{base_ + offset, base_ + offset + want};
    int fd = -1;
    std::vector<Range> pieces = {range};  // the rest of it are holes
    if (content_) {
      const Lock lock(content_->mu);
      fd = content_->fd.get();
      pieces = content_->hollow.Missing(range);
    }
    if (pieces.empty() || pieces[0] != range) std::fill_n(data, want, '\0');
    Result<std::size_t> n = want;
    for (const Range& piece : pieces) {
      n = disk_.ReadAt(fd, data + (piece.begin - range.begin), piece.size(), piece.begin);
      if (!n.ok()) return n;
      if (*n < piece.size())
        return Error(Code::kCancelled, "the file became shorter while it went up");
      n = want;
    }
    // what is written now must not go up as a part of what it was: if nothing came after that, the
    // store would be left with neither
    if (content_) {
      const Lock lock(content_->mu);
      if (content_->stable_prefix < base_ + size_)
        return Error(Code::kCancelled, "it was changed while it went up");
    }
    return n;
  }

 private:
  const std::shared_ptr<Content> content_;
  const std::uint64_t base_, size_;
  Disk& disk_;
};

// What is here of a content, to be looked at or compared. It stays here that long; kCancelled: it
// is being written.
class HereSource : public WriteSource {
 public:
  HereSource(std::shared_ptr<Content> content, std::uint64_t size, Disk* disk)
      : content_(std::move(content)), size_(size), disk_(*disk) {
    const Lock lock(content_->mu);
    fd_ = content_->BeginUse();
  }
  HereSource(const HereSource&) = delete;
  HereSource& operator=(const HereSource&) = delete;
  ~HereSource() override {
    const Lock lock(content_->mu);
    content_->EndUse();
  }
  std::uint64_t Size() const override { return size_; }
  Result<std::size_t> Read(char* data, std::size_t size, std::uint64_t offset) override {
    if (offset >= size_) return std::size_t{0};
    const auto want = static_cast<std::size_t>(std::min<std::uint64_t>(size, size_ - offset));
    auto n = disk_.ReadAt(fd_, data, want, offset);
    const Lock lock(content_->mu);
    if (content_->written || content_->about_to_change > 0)
      return Error(Code::kCancelled, "it is being written");
    if (n.ok() && *n < want) return Error(Code::kDamaged, "the cached file is too short");
    return n;
  }

 private:
  const std::shared_ptr<Content> content_;
  const std::uint64_t size_;
  Disk& disk_;
  int fd_ = -1;
};

}  // namespace pargeter
