// Open files, as a face asks for them; and what the store keeps of a file.
#pragma once

#include "engine/context/context.h"

namespace pargeter {

class AccountRoom;
class Contents;
class Facts;
class Fetcher;
class Namespace;
class Refresher;
class RemoteMerge;

class Files : public Component {
 public:
  Files(Context* context, Facts* facts, Contents* contents, Fetcher* fetcher, RemoteMerge* merge,
        Refresher* refresher, AccountRoom* room, Namespace* names)
      : Component(context),
        facts_(*facts),
        contents_(*contents),
        fetcher_(*fetcher),
        merge_(*merge),
        refresher_(*refresher),
        room_(*room),
        names_(*names) {}

  Result<Attr> SetAttr(NodeId id, const AttrChange& change, const OpenFilePtr& file);
  Result<OpenedFile> OpenNode(NodeId id, OpenIntent intent);  // may ask the store
  // As the index knows it: does not ask the store.
  Result<OpenedFile> OpenKnown(NodeId id, bool writing);
  // One that is there is opened with `intent`, unless `exclusive`.
  Result<OpenedFile> Create(NodeId parent, const std::string& name, std::uint32_t mode,
                            std::uint32_t uid, std::uint32_t gid, bool exclusive,
                            OpenIntent intent = OpenIntent::kWrite);
  // May give less than is there, but only to a crawler.
  Result<std::size_t> Read(const OpenFilePtr& file, char* data, std::size_t size,
                           std::uint64_t offset);
  bool IsCrawler(const std::string& program);
  void LimitCrawler(const OpenFilePtr& file, const std::string& program);
  Status Write(const OpenFilePtr& file, std::string_view data, std::uint64_t offset, bool append);
  Status Flush(const OpenFilePtr& file);
  Status Fsync(const OpenFilePtr& file);
  Status FsyncFolder();  // the names in it, and in all others
  void Release(const OpenFilePtr& file);
  Status Allocate(const OpenFilePtr& file, int mode, std::uint64_t offset, std::uint64_t size);
  Result<std::uint64_t> Seek(const OpenFilePtr& file, std::uint64_t offset, bool hole);
  // A whole clean file into an empty one: one copy at the store, no bytes through here. Returns
  // the bytes copied, when the store has the copy; kUnsupported: copy by reading and writing.
  Result<std::uint64_t> CopyWhole(const OpenFilePtr& from, std::uint64_t from_offset,
                                  const OpenFilePtr& to, std::uint64_t to_offset,
                                  std::uint64_t size);
  Result<std::uint64_t> Restore(NodeId id,
                                const std::string& version);  // bytes; goes up as a change
  Result<Provider::Address> LinkTo(NodeId id, Duration lasts);
  Result<std::vector<Provider::Kept>> Versions(NodeId id);

 private:
  // The object's path; kRefused: the store does not have the file.
  Result<std::string> RequireRemotePath(NodeId id);
  Result<OpenedFile> MakeOpen(View& view, Inode* inode, bool writing);
  Status WriteBytes(const OpenFilePtr& file, std::string_view data, std::uint64_t offset,
                    bool append);
  // On the disk of the waiting bytes. False: there is nothing to free.
  bool FreeForWriting(std::uint64_t bytes);
  // The content was changed from `begin` on, and is at least as long as `end`.
  Status NoteWritten(const OpenFilePtr& file, std::uint64_t begin, std::uint64_t end);
  // Returns the generation of the copy; 0: it has to be copied by reading and writing.
  Result<std::uint64_t> BeginCopy(const OpenFilePtr& from, const OpenFilePtr& to,
                                  std::uint64_t size);
  // The part of a read that a crawler may have; kRefused: none.
  Result<std::size_t> CrawlerAllowance(const OpenFilePtr& file, std::size_t size,
                                       std::uint64_t offset);
  // Small files whole; a window that doubles for sequential readers; only the range itself for
  // random ones.
  Range PlanAhead(const OpenFilePtr& file, std::uint64_t offset, std::uint64_t size,
                  std::uint64_t file_size);

  Facts& facts_;
  Contents& contents_;
  Fetcher& fetcher_;
  RemoteMerge& merge_;
  Refresher& refresher_;
  AccountRoom& room_;
  Namespace& names_;
};

}  // namespace pargeter
