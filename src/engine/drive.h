// One drive, as every face and command sees it: a thin front before the engine (engine/engine.h).
//
// Thread-safe unless said otherwise. Calls block on the local disk, and on the store only where
// said ("may ask the store"); every such wait has a deadline. Errors are named in base/error.h.
//
// Durability: when a call that changes a name returns, and when Flush returns, the change is
// journalled: it survives the death of this process and reaches the store after the next start.
// When Fsync or FsyncFolder returns it also survives a power cut.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/clock.h"
#include "base/error.h"
#include "engine/api/residency.h"
#include "engine/api/types.h"
#include "engine/observe/events.h"
#include "index/index.h"
#include "provider/provider.h"

namespace pargeter {

class Engine;

class Drive {
 public:
  // Opens the state (kBusy: another process has it) and what a crash left. Asks the store nothing.
  static Result<std::unique_ptr<Drive>> Open(DriveOptions options,
                                             std::unique_ptr<Provider> provider);
  ~Drive();

  // Starts the background work. `listener` (may be null) must outlive Stop.
  void Start(ChangeListener* listener);
  // First look at the store: its root's listing, and what the store can do. For a drive that has
  // been mounted before it is fine that the store does not answer, or wants somebody to sign in;
  // and any fault while something waits for upload. `Summary` says which it was.
  Status FirstContact();
  // Waits until nothing waits for upload, at most `patience`; kTimeout says what is left, any other
  // error that all of it waits in vain, until a person does something, and why. kCancelled:
  // `given_up` (may be empty; asked now and then) says that nobody waits for this call any more.
  Status Flush(Duration patience, const std::function<bool()>& given_up = {});
  void Stop();  // ends all threads; what waits stays journalled

  // -- names. `parent` and ids are from earlier answers.
  Result<Attr> Lookup(NodeId parent, const std::string& name);  // may ask the store; counts a use
  void Forget(NodeId id, std::uint64_t uses);
  // May ask the store for what a listing does not tell. `user`: who wants to know; what he may do
  // depends on it. Of a shared drive others are told all, its owner what he asks for now and then.
  Result<Attr> GetAttr(NodeId id, std::optional<std::uint32_t> user = {});
  Result<Attr> SetAttr(NodeId id, const AttrChange& change, const OpenFilePtr& file);
  Result<Attr> MakeFolder(NodeId parent, const std::string& name, std::uint32_t mode,
                          std::uint32_t uid, std::uint32_t gid);
  Result<Attr> MakeSymlink(NodeId parent, const std::string& name, const std::string& target,
                           std::uint32_t uid, std::uint32_t gid);
  Result<std::string> ReadSymlink(NodeId id);
  Status Unlink(NodeId parent, const std::string& name);
  Status RemoveFolder(NodeId parent, const std::string& name);
  using Replace = ReplaceTarget;
  Status Rename(NodeId parent, const std::string& name, NodeId new_parent,
                const std::string& new_name, Replace replace);
  // A new look at a folder begins: its listing is asked for again if it is old.
  Status OpenFolder(NodeId id);
  // Entries with ids above `after`, in order of id, each counted as used if `use`. Waits for the
  // store while the folder's first listing has not come so far; empty at the end.
  Result<std::vector<DirEntry>> ReadFolder(NodeId id, NodeId after, int limit, bool use);

  // -- files
  using Opened = OpenedFile;
  using Intent = OpenIntent;
  Result<Opened> OpenNode(NodeId id, Intent intent);  // may ask the store
  // One that is there is opened with `intent`, unless `exclusive`.
  Result<Opened> Create(NodeId parent, const std::string& name, std::uint32_t mode,
                        std::uint32_t uid, std::uint32_t gid, bool exclusive,
                        Intent intent = Intent::kWrite);
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

  // -- for a face that keeps the files itself (engine/vfs/intake.h has the contracts)
  Result<Opened> OpenKnown(NodeId id);  // for reading, as the index knows it
  Result<std::uint64_t> ReplaceContent(NodeId id, std::uint64_t known, const StagedFile& staged);
  Result<NodeState> CreateFrom(NodeId parent, const std::string& name, const StagedFile& staged,
                               const std::string& conflicts_with);
  Result<std::string> ConflictName(NodeId parent, const std::string& name);
  // Are the bytes of that file the node's version at the store, as its digest tells? Nothing: the
  // version tells nothing of them. No request.
  Result<std::optional<bool>> CompareWithVersion(NodeId id, int fd);
  // Lists all folders that were never listed, and those in which anything has changed since, if the
  // store does not tell that by itself.
  Status CatchUp(const Cancel& cancel);

  // -- looking and asking (engine/inspect.cc)
  DriveStatus Summary();
  using StateOf = NodeState;
  Result<StateOf> State(NodeId id);
  Result<Node> NodeAt(const std::string& path);  // relative to the drive, "" = its root; index only
  Result<std::vector<StateOf>> ListStates(NodeId folder);
  Result<std::vector<std::pair<std::string, Node>>> Queue(int limit);  // path here, node
  using Delay = UploadDelay;
  Delay DelayOf(const Node& node);
  // Copies kept beside another side's version that nobody has settled: path here, node.
  Result<std::vector<std::pair<std::string, Node>>> Conflicts();
  // Decides one: the copy kept here replaces what is there, or goes, or both stay. `path`: the copy
  // or the file beside it. kNotFound: no conflict; kInvalid: several copies.
  using Keep = ConflictChoice;
  Status SettleConflict(const std::string& path, Keep keep);
  // Deletions that were held back, since they were so many: let go, or brought back.
  Status ReleaseDeletions();
  // Files that are back. kBusy: the store is just being asked about one of them.
  Result<std::uint64_t> DropDeletions();
  Result<std::string> PathOf(NodeId id);
  Status Refresh();  // all folders that were looked at lately
  // -- what is on this disk (engine/residency.cc, engine/verify.cc)
  Result<Sums> SumsOf(NodeId folder);
  // Waits for nothing; what is open goes when it is closed.
  Result<Evicted> Evict(const std::vector<NodeId>& ids, const EvictWish& wish);
  // In the background, until it is finished or its `cancel` says so; what came stays. Returns the
  // number of the fetch; kBusy: the system has no thread to give.
  Result<std::int64_t> BeginFetch(std::vector<NodeId> roots);
  std::shared_ptr<Fetch> FetchOf(std::int64_t number);  // null: long over
  Status Pin(NodeId id);  // kNoSpace with the numbers; may ask the store for what is below
  Status Unpin(NodeId id);
  Result<Checked> Verify(NodeId id, bool with_store);
  Status CheckIndex();  // for tests: is what is kept up to date what a walk finds?

  // -- what it is for (engine/placement.cc)
  Status Place(NodeId id, Placement placement);  // kNone: as what it is in
  // For every machine: asks the store. `key` is a path relative to the drive, or a pattern.
  Status PlaceEverywhere(const std::string& key, bool is_pattern, Placement placement);
  Status SetPattern(const std::string& pattern, Placement placement);
  Result<std::vector<PlacedRule>> Rules();
  Result<Explanation> Explain(NodeId id);
  Result<Attr> SpaceOf();  // size: bytes free for new files; on_disk: bytes in all
  // What the account holds and still takes, not older than `max_age`; nothing if the store does not
  // say. May ask the store.
  Result<std::optional<Quota>> AccountSpace(Duration max_age);
  // -- what the store has kept, and where (engine/versions.cc). All but LinkTo ask the store.
  Result<std::vector<Provider::Kept>> Versions(NodeId id);
  Result<std::uint64_t> Restore(NodeId id,
                                const std::string& version);  // bytes; goes up as a change
  Result<Provider::Address> LinkTo(NodeId id, Duration lasts);
  std::vector<Happening> Happened(std::int64_t after, std::size_t limit);
  // New limits take effect at once; a smaller cache gives back what is over.
  void SetLimits(const DriveLimits& limits);
  // For a watchdog: does the index still answer, and do the uploads still get anywhere? Blocks as
  // long as the drive itself is stuck.
  bool IsAlive();
  const DriveOptions& options() const;
  Provider& provider();

 private:
  explicit Drive(std::unique_ptr<Engine> engine);
  const std::unique_ptr<Engine> engine_;
};

}  // namespace pargeter
