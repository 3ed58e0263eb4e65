// Files: what the store has kept of a file, and addresses of files at the store.
#include <fcntl.h>
#include <fmt/format.h>

#include <algorithm>

#include "base/random.h"
#include "base/text.h"
#include "base/units.h"
#include "engine/content/contents.h"
#include "engine/content/fetcher.h"
#include "engine/context/facts.h"
#include "engine/refresh/refresher.h"
#include "engine/refresh/remote_merge.h"
#include "engine/vfs/account_room.h"
#include "engine/vfs/files.h"
#include "engine/vfs/namespace.h"

namespace pargeter {

namespace {
// Into a file of its own first: what comes from the network thread must not wait for the drive.
class FileSink : public ReadSink {
 public:
  FileSink(Disk* disk, int fd) : disk_(*disk), fd_(fd) {}
  Status Begin(const Entry& entry) override {
    at_ = 0;
    size_ = entry.size;
    return disk_.Truncate(fd_, 0);
  }
  Status Write(std::string_view data) override {
    PG_TRY(disk_.WriteAt(fd_, data, at_));
    at_ += data.size();
    return {};
  }
  std::uint64_t got() const { return at_; }
  bool whole() const { return at_ == size_; }

 private:
  Disk& disk_;
  const int fd_;
  std::uint64_t at_ = 0, size_ = 0;
};
}  // namespace

Result<std::string> Files::RequireRemotePath(NodeId id) {
  View view(&tree_);
  PG_ASSIGN(const Inode* inode, view.Get(id));
  const Node& node = inode->node;
  if (node.kind == NodeKind::kFolder)
    return Error(Code::kIsFolder, Printable(node.name) + " is a folder");
  if (node.remote.place == RemotePlace::kNone)
    return Error(Code::kNotFound, Printable(node.name) + " is not at the store yet",
                 "Wait until it is uploaded: pargeter flush");
  return view.RemotePath(node);
}

Result<std::vector<Provider::Kept>> Files::Versions(NodeId id) {
  PG_ASSIGN(const std::string path, RequireRemotePath(id));
  return store_->Ask(Traffic::kForeground,
                     [&](const Call& c) { return store_->Versions(path, c); });
}

Result<Provider::Address> Files::LinkTo(NodeId id, Duration lasts) {
  PG_ASSIGN(const std::string path, RequireRemotePath(id));
  return store_->Link(path, lasts);
}

// As if somebody had written it here: what is there now becomes a former version in its turn.
Result<std::uint64_t> Files::Restore(NodeId id, const std::string& version) {
  PG_ASSIGN(const std::string path, RequireRemotePath(id));
  {
    View view(&tree_);
    PG_ASSIGN(const Inode* inode, view.Get(id));
    PG_TRY(facts_.CheckRole(view, inode->node));
    if (inode->node.dirty & kData)
      return Error(Code::kRefused, "the file has changes that wait for upload",
                   "Wait until they are uploaded: pargeter flush");
  }
  const std::string name = options_.state_folder + "/restored-" + RandomName(4);
  PG_ASSIGN(const Fd fd, options_.disk->Open(name, O_RDWR | O_CREAT | O_EXCL, 0600));
  Ignore(options_.disk->Remove(name));  // it lives as long as it is open
  FileSink sink(options_.disk, fd.get());
  PG_TRY(store_->Ask(Traffic::kForeground,
                     [&](const Call& c) { return store_->ReadKept(path, version, &sink, c); }));
  if (!sink.whole()) return Error(Code::kDamaged, "the store's answer was cut short");
  PG_ASSIGN(const OpenedFile opened, OpenNode(id, OpenIntent::kTruncate));
  const Status copied = [&]() -> Status {
    std::string piece(kMiB, '\0');
    for (std::uint64_t at = 0; at < sink.got();) {
      PG_ASSIGN(const std::size_t n,
                options_.disk->ReadAt(fd.get(), piece.data(), piece.size(), at));
      if (n == 0) return Error(Code::kIo, "the disk does not give back what was fetched");
      PG_TRY(Write(opened.file, std::string_view(piece.data(), n), at, false));
      at += n;
    }
    return Flush(opened.file);
  }();
  Release(opened.file);
  PG_TRY(copied);
  return sink.got();
}

}  // namespace pargeter
