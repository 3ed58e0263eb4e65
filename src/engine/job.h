// One step of reconciling a node: what was found under the tree lock, to be acted on without it.
#pragma once

#include <algorithm>
#include <map>
#include <optional>
#include <set>
#include <string>

#include "engine/engine.h"
#include "engine/sent.h"

namespace pargeter {

struct Engine::Job {
  NodeId id = kNoNode;
  Node node;               // as it was when the job was planned
  std::string path;        // where it is to be at the store
  std::string there_path;  // where it is, "" if it is not
  NodeId parent = kNoNode;
  std::string key;  // last part of `path`
  std::string Place() const { return PlaceIn(parent, key); }
  struct Above {
    NodeId id, parent;
    std::string key;
  };
  std::vector<Above> above;   // folders on `path`: it makes those that are not there by then
  Precondition only_if;       // of what is at `path` now
  bool aside = false;         // to a name of our own, out of another's way
  std::string tried_path;     // of a former attempt elsewhere, to be taken back first
  bool first_try = false;     // no former attempt may have come to something at `path`
  bool went_on = false;       // what stands there is the file, and cannot go back
  std::optional<Entry> made;  // what stands there is all that the store has of it
  std::vector<Kept> kept;     // by an attempt before this one, too
  Kept* KeptFile(const std::string& was) {
    const auto it = std::find_if(kept.begin(), kept.end(), [&](const Kept& one) {
      return one.path == was && !one.version.empty();
    });
    return it == kept.end() ? nullptr : &*it;
  }
  void ForgetKeptFile(const std::string& was) {
    std::erase_if(kept, [&](const Kept& one) { return one.path == was && !one.version.empty(); });
  }
  Copies copied;              // below it
  Copies left;                // what a former move has left where it goes, as far as that is known
  NodeId occupant = kNoNode;  // a node, gone here, that the store still has at `path`
  // Of a folder that moves to the place of one whose deletion is held back, by path below it: the
  // versions of what still stands there, and what has come there.
  std::map<std::string, std::string> standing;
  std::set<std::string> came;
  bool parts_ended = false;        // nothing is left at the store of what `node.upload` says
  bool begun_with_others = false;  // attributes than these was its upload in parts
  Attributes attributes;
  std::shared_ptr<Content> content;
  std::uint64_t size = 0;
  Call call{nullptr, Traffic::kUpload};
  // With kAgain: the next turn is not before `delay`, and later each time (Outbox), up
  // to `longest`. `why` is what the queue says of it.
  Duration delay{0}, longest{30000};
  std::string why;
  NodeId behind = kNoNode;  // with kParked
  bool postponed = false;   // `delay` or `behind` say until when
  bool for_person = false;  // nothing but a person's word ends the wait
};

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
      if (content_->same_until < base_ + size_)
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

// Refused so, the place may be taken by what is to go there (Engine::IsItself).
inline bool MayBeItself(Code code) {
  return code == Code::kChanged || code == Code::kPermission || code == Code::kExists;
}

// As they were planned to be sent: nobody has set one since.
inline bool SameAttributes(const Node& a, const Node& b) {
  return a.mode == b.mode && a.mtime == b.mtime && a.uid == b.uid && a.gid == b.gid;
}

// Of a removal of many: what was changed since the look is looked at again soon.
inline Status OutcomeOf(const std::vector<std::pair<std::string, Error>>& left) {
  if (left.empty()) return {};
  const Error& first = left.front().second;
  return first.code == Code::kChanged ? Error(Code::kStale, first.what) : first;
}

class TextSource : public WriteSource {
 public:
  explicit TextSource(std::string text) : text_(std::move(text)) {}
  std::uint64_t Size() const override { return text_.size(); }
  Result<std::size_t> Read(char* data, std::size_t size, std::uint64_t offset) override {
    return offset < text_.size() ? text_.copy(data, size, offset) : 0;
  }

 private:
  const std::string text_;
};

}  // namespace pargeter
