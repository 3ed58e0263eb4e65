// The engine of one drive. Names and attributes from the index, bytes from the
// cache or the store, local changes journalled as intents and brought to the store in the
// background, changes at the store brought here.
//
// Thread-safe unless said otherwise. Calls block on the local disk, and on the store only where
// said ("may ask the store"); every such wait has a deadline. Lock order: the probe's,
// saving_mutex_, tree_mutex_, a Content's mu, then any one of fetch_, account_, pins_mutex_
// and the leaves' own. None but the first is held while the store is asked.
//
// Durability: when a call that changes a name returns, and when Flush returns, the change is
// journalled: it survives the death of this process and reaches the store after the next start.
// When Fsync or FsyncFolder returns it also survives a power cut.
#pragma once

#include <atomic>
#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <thread>
#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "base/clock.h"
#include "base/error.h"
#include "base/mutex.h"
#include "cache/block_store.h"
#include "cache/budget.h"
#include "cache/spare_room.h"
#include "engine/content.h"
#include "engine/drive_types.h"
#include "engine/observe/events.h"
#include "engine/observe/health.h"
#include "engine/outbox/outbox.h"
#include "engine/prefetch/fetch_jobs.h"
#include "engine/refresh/listing_pace.h"
#include "engine/residency.h"
#include "engine/store/store_client.h"
#include "index/index.h"
#include "net/cancel.h"
#include "provider/provider.h"

namespace pargeter {

class Engine : private Outbox::Worker {
 public:
  // Opens the state (kBusy: another process has it) and what a crash left. Asks the store nothing.
  static Result<std::unique_ptr<Engine>> Open(DriveOptions options,
                                              std::unique_ptr<Provider> provider);
  ~Engine();

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
  // May give less than is there, but only to a shy reader.
  Result<std::size_t> Read(const OpenFilePtr& file, char* data, std::size_t size,
                           std::uint64_t offset);
  bool IsShy(const std::string& program);
  void MakeShy(const OpenFilePtr& file, const std::string& program);
  Status Write(const OpenFilePtr& file, std::string_view data, std::uint64_t offset, bool append);
  Status Flush(const OpenFilePtr& file);
  Status Fsync(const OpenFilePtr& file);
  Status FsyncFolder() EXCLUDES(tree_mutex_);  // the names in it, and in all others
  void Release(const OpenFilePtr& file);
  Status Allocate(const OpenFilePtr& file, int mode, std::uint64_t offset, std::uint64_t size);
  Result<std::uint64_t> Seek(const OpenFilePtr& file, std::uint64_t offset, bool hole);
  // A whole clean file into an empty one: one copy at the store, no bytes through here. Returns
  // the bytes copied, when the store has the copy; kUnsupported: copy by reading and writing.
  Result<std::uint64_t> CopyWhole(const OpenFilePtr& from, std::uint64_t from_offset,
                                  const OpenFilePtr& to, std::uint64_t to_offset,
                                  std::uint64_t size);

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
  Result<std::optional<Quota>> AccountSpace(Duration max_age) EXCLUDES(tree_mutex_);
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
  const DriveOptions& options() const { return options_; }
  Provider& provider() { return store_->provider(); }

 private:
  struct Live {
    Node node;
    std::uint64_t lookups = 0;
    int opens = 0, writers = 0;
    bool unsaved = false;  // size or times changed by writes since the last save
    std::shared_ptr<Content> content;
    int old_opens = 0;  // handles on former versions
    bool fresh_pages = false;
    Steady last_write{};
    std::uint64_t synced_generation = 0;  // as of the last fsync
    Cancel upload;                        // an upload under way, ended by a write to what it takes
    std::uint64_t upload_end = 0;         // what it takes ends here
    std::uint64_t upload_of = 0;          // the last generation in which that is the same
    Steady held_since{};                  // an upload waits since then, as it is open for writing
    bool doubtful = false;                // an undone change may still be in it
    bool drop_when_closed = false;        // asked to be evicted while it was open
  };
  // A transaction on the index together with what memory and disk hold of it: it happens wholly,
  // or, without Commit or when that fails, not at all. Nests: only the outermost one is real. Begin
  // it before getting hold of the nodes that it changes.
  class Change {
   public:
    explicit Change(Engine* drive);
    ~Change();
    Change(const Change&) = delete;
    Change& operator=(const Change&) = delete;
    Status Commit();

   private:
    void Undo();
    Engine& drive_;
    Transaction transaction_;
    bool open_ = true;
  };
  struct Listing;  // a folder's listing under way
  struct Job;      // one reconcile step (reconcile.cc)
  struct Leftover {
    std::string version;
    Steady seen;
  };
  struct Blocker {
    NodeId id = kNoNode;
    enum class Why { kHeir, kCopy, kAbove, kInside, kPlace, kTried, kDoubt } why = Why::kAbove;
  };
  enum class Outcome { kDone, kAgain, kParked };

  Engine(DriveOptions options, std::unique_ptr<Provider> provider);
  Status OpenIndex() REQUIRES(tree_mutex_);  // (rebuild.cc)
  Status Rebuild() REQUIRES(tree_mutex_);
  Status AdoptPending(NodeId block) REQUIRES(tree_mutex_);
  Result<NodeId> FolderFor(const std::string& path) REQUIRES(tree_mutex_);
  void NotePending(const Node& node, const std::string& ranges) REQUIRES(tree_mutex_);
  Status Recover();
  static void FindHoles(Content* content) REQUIRES(content->mu);
  Status ClaimCache() REQUIRES(tree_mutex_);
  Status RecoverFromPowerCut() REQUIRES(tree_mutex_);
  Status RecoverWaiting(bool power_cut) REQUIRES(tree_mutex_);
  Status MendOrphans() REQUIRES(tree_mutex_);
  std::uint64_t BlocksOf(NodeId id) const;
  Status ForgetLostLocal() REQUIRES(tree_mutex_);
  Status RecoverHeld() REQUIRES(tree_mutex_);
  struct Remains;
  Result<Remains> LookAtPending(const Node& node, bool power_cut) REQUIRES(tree_mutex_);
  static bool WrittenAnew(const Node& node);
  bool EmptyWhenSynced(const Node& node) const REQUIRES(tree_mutex_);
  Status DoubtSigns(std::vector<Node>* waiting) REQUIRES(tree_mutex_);
  Status MendPending(Node* node, bool power_cut) REQUIRES(tree_mutex_);
  Status MendMade(Node* node) REQUIRES(tree_mutex_);
  Status TakeBackEmptied(Node* node) REQUIRES(tree_mutex_);
  Result<bool> TakeOutGaps(const Node& node, std::uint64_t length, RangeSet* present)
      REQUIRES(tree_mutex_);
  static void ForgetTried(Node* node);
  static void AskForTime(Node* node);
  Status ForgetLost(Node node) REQUIRES(tree_mutex_);
  Status SetBeside(const Node& node) REQUIRES(tree_mutex_);
  Status LeaveThere(const Node& torn) REQUIRES(tree_mutex_);
  Result<std::optional<Node>> ReplacedBy(const Node& torn) REQUIRES(tree_mutex_);
  Status UndoReplacing(Node* torn) REQUIRES(tree_mutex_);
  Status BringBackReplaced(const Node& torn) REQUIRES(tree_mutex_);

  // -- tree (drive.cc), all under tree_mutex_
  Result<Live*> Get(NodeId id) REQUIRES(tree_mutex_);
  Live* Adopt(Node node) REQUIRES(tree_mutex_);
  Result<Live*> Find(NodeId parent, const std::string& name)
      REQUIRES(tree_mutex_);  // null: not here
  Result<Live*> GetFolder(NodeId id) REQUIRES(tree_mutex_);
  Status Save(Live* live) REQUIRES(tree_mutex_);
  Status AddIntent(Live* live) REQUIRES(tree_mutex_);
  void Trim() REQUIRES(tree_mutex_);
  Attr AttrOf(const Live& live) REQUIRES(tree_mutex_);
  StateOf StateOfLive(const Live& live) REQUIRES(tree_mutex_);
  Status AddSums(StateOf* state) REQUIRES(tree_mutex_);
  Result<std::string> FolderKey(NodeId folder) REQUIRES(tree_mutex_);  // prefix at the store
  static std::string KeyPart(const Node& node);                        // where it is to be
  static std::string ThereName(const Node& node);                      // where it is
  Result<std::string> TherePath(const Node& node) REQUIRES(tree_mutex_);
  static std::string PlaceThere(const Node& node);  // the same as in sent.h
  void SetThere(Node* node, NodeId parent, const std::string& key);
  static void TakeOut(Node* node);  // of the tree here; the store has it where it had it
  // How a look at the drive's own folder went: once we are let in again, what waits is tried at
  // once.
  void NoteAccess(const Status& look) REQUIRES(tree_mutex_);
  void RetryWaiting() REQUIRES(tree_mutex_);
  Status CheckWritable() const;
  Status CheckHoldsLinks() EXCLUDES(tree_mutex_);
  Status CheckRole(const Node& node) REQUIRES(tree_mutex_);  // may the account change it there?
  Status CheckState() REQUIRES(tree_mutex_);
  Status CheckNewName(const std::string& name) const;
  void TouchFolder(NodeId id) REQUIRES(tree_mutex_);
  Status KeepFolder(NodeId id) REQUIRES(tree_mutex_);
  void Emit(Event event);
  void EmitHappened(std::string side, std::string what, std::string path, std::string detail = {});

  Result<std::string> PlaceThere(NodeId id) EXCLUDES(tree_mutex_);
  // -- room in the account (quota.cc)
  Status CheckAccount(NodeId id, std::uint64_t end) EXCLUDES(tree_mutex_);
  Result<bool> CountAccount(NodeId id, std::uint64_t end) EXCLUDES(tree_mutex_);

  // -- attributes (attributes.cc)
  static bool NeedsAsking(const Node& node);
  // Ask what is not known: whether it is a link; the mode too; the mode as well, but seldom.
  enum class Ask { kLink, kMode, kSome };
  Result<Attr> AttrAsking(NodeId id, Ask ask = Ask::kLink);
  std::uint32_t ModeFor(const Node& node) const;
  Result<Entry> LookAt(bool folder, const std::string& path, const Call& call);
  // `answers`: whoever asks gets them, and a word to the kernel would make that forget them.
  Status LearnAttributes(NodeId id, const Entry& entry, Steady asked = {}, bool answers = false)
      EXCLUDES(tree_mutex_);
  void LearnFolder(NodeId id, const std::string& key) EXCLUDES(tree_mutex_);
  Status LearnBeforeSending(const Job& job, bool leaves = false) EXCLUDES(tree_mutex_);

  // -- names (drive_names.cc)
  Status Remove(Live* live, std::uint32_t mark = kClean) REQUIRES(tree_mutex_);
  Status StayAway(const Node& heir) REQUIRES(tree_mutex_);
  Result<Live*> NewNode(NodeId parent, const std::string& name, NodeKind kind, std::uint32_t mode,
                        std::uint32_t uid, std::uint32_t gid) REQUIRES(tree_mutex_);
  Status EnsureListed(NodeId folder) EXCLUDES(tree_mutex_);

  // -- listings (lister.cc)
  enum class Wait { kNo, kFirstPage, kAll };
  Status ListFolder(NodeId id, Wait wait, const std::string& until_name,
                    Traffic traffic = Traffic::kForeground) EXCLUDES(tree_mutex_);
  bool IsFresh(NodeId id) REQUIRES(tree_mutex_);
  bool BeginListing(const std::shared_ptr<Listing>& listing);
  void RunListing(const std::shared_ptr<Listing>& listing) EXCLUDES(tree_mutex_);
  bool CloseListing(Listing* listing, const Status& outcome) EXCLUDES(tree_mutex_);
  Result<bool> IsOtherSpelling(NodeId folder, const std::string& name, const Entry& entry)
      EXCLUDES(tree_mutex_);
  Status LookForRules(const std::vector<Entry>& entries) EXCLUDES(tree_mutex_);
  void RemoveLeftovers() EXCLUDES(tree_mutex_);
  Status LookAgain(NodeId id) EXCLUDES(tree_mutex_);
  Status LookForKey(NodeId id, const std::string& key) EXCLUDES(tree_mutex_);
  void ForgetOld() REQUIRES(tree_mutex_);
  void WatchLoop();
  void ShrinkLoop() EXCLUDES(tree_mutex_);

  // -- what the store has shown, or shows no more (sightings.cc)
  Status TakePage(Listing* listing, const std::vector<Entry>& entries, bool may_write)
      EXCLUDES(tree_mutex_);
  Status EndListing(Listing* listing) EXCLUDES(tree_mutex_);
  Status TakeOne(NodeId folder, const Entry& entry, Steady asked) REQUIRES(tree_mutex_);
  Status TakeEntry(Listing* listing, const Entry& entry) REQUIRES(tree_mutex_);
  Status TakeNew(Listing* listing, const Entry& entry) REQUIRES(tree_mutex_);
  Status TakeKnown(Listing* listing, Live* live, const Entry& entry) REQUIRES(tree_mutex_);
  Status TakeRole(Live* live, bool may_write) REQUIRES(tree_mutex_);
  Status NoteLeftover(NodeId folder, const Entry& entry) REQUIRES(tree_mutex_);
  void NewVersion(Live* live, const Entry& entry) REQUIRES(tree_mutex_);
  Status VanishedThere(Live* live, Steady asked) REQUIRES(tree_mutex_);
  Status GiveNameBack(NodeId parent, const std::string& name) REQUIRES(tree_mutex_);
  bool MayBeElsewhere(const Node& node, Steady asked) REQUIRES(tree_mutex_);
  static Error MovedMeanwhile();

  // -- from the disk of the cache to that of the waiting, and back (two_disks.cc)
  Status Carry(const std::shared_ptr<Content>& content, BlockStore::Place to) EXCLUDES(tree_mutex_);
  void DropCarried(Content* content);
  Status MoveContent(Content* content, BlockStore::Place to) REQUIRES(tree_mutex_, content->mu);
  void GiveUpBytes(Live* live) REQUIRES(tree_mutex_);
  Status MakeRoomOn(BlockStore::Place to, std::uint64_t bytes) EXCLUDES(tree_mutex_);

  // -- the store's own word on what changed (feed.cc)
  void FeedLoop();
  bool IsBusy() EXCLUDES(tree_mutex_);
  Result<std::size_t> LookAtFeed(std::string* moment) EXCLUDES(tree_mutex_);
  Status TakeChanges(const Changes& changes, Steady started) EXCLUDES(tree_mutex_);
  Result<bool> WasMissing(NodeId folder, const Entry& entry, Steady asked) REQUIRES(tree_mutex_);
  Status TakeChanged(NodeId folder, const Entry& entry, Steady started,
                     std::map<std::string, std::vector<NodeId>>* left,
                     std::vector<NodeId>* doubtful) REQUIRES(tree_mutex_);
  Result<NodeId> FolderThere(const std::string& path) REQUIRES(tree_mutex_);
  Result<std::optional<Node>> NodeThere(NodeId folder, const std::string& key, bool is_folder)
      REQUIRES(tree_mutex_);
  Result<bool> MovedThere(Live* live, NodeId folder, const Entry& entry) REQUIRES(tree_mutex_);

  // -- content (drive_io.cc, fetcher.cc)
  Result<std::shared_ptr<Content>> ContentOf(Live* live) REQUIRES(tree_mutex_);
  void NoteUse(Live* live) REQUIRES(tree_mutex_);
  void SaveUses() REQUIRES(tree_mutex_);
  void CloseIdle() REQUIRES(tree_mutex_);
  Result<Opened> MakeOpen(Live* live, bool writing) REQUIRES(tree_mutex_);
  Result<WritingMark> BeginWriting(const OpenFilePtr& file) EXCLUDES(tree_mutex_);
  Result<WritingMark> MakeDirty(const OpenFilePtr& file) EXCLUDES(tree_mutex_);
  Status Truncate(Live* live, std::uint64_t size) REQUIRES(tree_mutex_);
  Status WriteBytes(const OpenFilePtr& file, std::string_view data, std::uint64_t offset,
                    bool append) EXCLUDES(tree_mutex_);
  Status SetLength(Content* content) REQUIRES(content->mu);
  Status WriteZeros(Content* content, std::uint64_t offset, std::uint64_t end)
      REQUIRES(content->mu);
  Status AddZeros(Content* content, std::uint64_t end) REQUIRES(content->mu);
  bool FreeForWriting(std::uint64_t bytes) EXCLUDES(tree_mutex_);
  Status Grew(const OpenFilePtr& file, std::uint64_t begin, std::uint64_t end)
      EXCLUDES(tree_mutex_);
  Status SaveContent(Live* live, Content* content, bool confirmed = false) REQUIRES(tree_mutex_);
  void SaveWritten() EXCLUDES(tree_mutex_);
  Status FlushContent(const OpenFilePtr& file, bool durable) EXCLUDES(tree_mutex_);
  void DropContent(Live* live) REQUIRES(tree_mutex_);
  Result<std::uint64_t> BeginCopy(const OpenFilePtr& from, const OpenFilePtr& to,
                                  std::uint64_t size) EXCLUDES(tree_mutex_);
  Status GiveUpCopy(Live* live) REQUIRES(tree_mutex_);
  Status EnsurePresent(const std::shared_ptr<Content>& content, Range range, Range ahead,
                       Steady deadline, Traffic traffic);
  Status StartFlight(const std::shared_ptr<Content>& content, Range range, Traffic traffic)
      REQUIRES(content->mu);
  void RunFlight(const std::shared_ptr<Content>& content, const std::shared_ptr<Flight>& flight);
  Status FetchRange(const std::shared_ptr<Content>& content, const Source& source,
                    const Flight& flight, std::uint64_t* added, Entry* entry);
  static Status AskSource(const std::shared_ptr<Content>& content,
                          const std::function<Status(const Source&)>& ask);
  bool MoveHasEnded(const std::shared_ptr<Content>& content, Steady deadline) EXCLUDES(tree_mutex_);
  bool IsCheckedOnArrival(const Source& source) const;
  Status CheckArrived(const std::shared_ptr<Content>& content, const Source& source, Range last)
      EXCLUDES(tree_mutex_);
  Status DropWrong(const std::shared_ptr<Content>& content) EXCLUDES(tree_mutex_);
  Result<std::size_t> ShyPart(const OpenFilePtr& file, std::size_t size, std::uint64_t offset);
  Result<std::size_t> ReadThrough(const std::shared_ptr<Content>& content, char* data,
                                  std::size_t size, std::uint64_t offset);
  Range PlanAhead(const OpenFilePtr& file, std::uint64_t offset, std::uint64_t size,
                  std::uint64_t file_size);
  bool MakeRoom(std::uint64_t bytes) EXCLUDES(tree_mutex_);
  std::uint64_t FreeUnused(std::uint64_t bytes) EXCLUDES(tree_mutex_);
  std::uint64_t FreeOf(Live* live, std::uint64_t bytes) REQUIRES(tree_mutex_);
  std::uint64_t FreeTail(Live* live, std::uint64_t bytes) REQUIRES(tree_mutex_);
  std::uint64_t FreeBehindReaders(std::uint64_t bytes) EXCLUDES(tree_mutex_);
  void SavePresenceOfAll() EXCLUDES(tree_mutex_, saving_mutex_);
  void SaveAll() EXCLUDES(tree_mutex_);
  void SyncEverything() EXCLUDES(tree_mutex_);
  Status SyncIndex() REQUIRES(tree_mutex_);
  static void Restore(Live* live, Node node);
  void RemoveDoomed() REQUIRES(tree_mutex_);
  void FetchLoop();

  Status Below(NodeId id, const std::function<Result<bool>(const Node&)>& enter,
               const std::function<void(const Node&)>& each) EXCLUDES(tree_mutex_);
  void Weigh(const Node& row, const EvictWish& wish, Evicted* answer,
             std::vector<std::pair<Nanos, NodeId>>* out) REQUIRES(tree_mutex_);
  bool DropIfUnused(Live* live, bool arriving = false) REQUIRES(tree_mutex_);
  Status ListBelow(NodeId id, const Cancel& cancel) EXCLUDES(tree_mutex_);
  static Status ForMany(const std::vector<NodeId>& ids, const std::function<Status(NodeId)>& each);
  Status FetchFile(NodeId id, const Cancel& cancel, std::atomic<std::uint64_t>* bytes_done)
      EXCLUDES(tree_mutex_);
  void RunFetch(Fetch* fetch);
  void WakePins() EXCLUDES(pins_mutex_);
  void PinLoop();
  bool FetchPinned() EXCLUDES(tree_mutex_);
  void LookForNew(NodeId root) EXCLUDES(tree_mutex_);

  // -- is it what the store gave? (verify.cc)
  bool CanBeRead(const std::shared_ptr<Content>& content, std::uint64_t size);
  Status VerifyFile(NodeId id, bool with_store, Checked* out) EXCLUDES(tree_mutex_);
  // Of a file that is wholly here. May ask the store once: how did that version come to it?
  ContentCheck::Verdict JudgeByDigest(const std::shared_ptr<Content>& content, const Node& node)
      EXCLUDES(tree_mutex_);
  Result<bool> SameAsStore(const std::shared_ptr<Content>& content,
                           const std::vector<Range>& ranges, std::uint64_t piece);

  // -- placement (placement.cc)
  Placement PlacementOf(const Node& node, Placement above) const REQUIRES(tree_mutex_);
  const Rule* PatternFor(const std::string& name) const REQUIRES(tree_mutex_);
  Status Inherit(Node* node) REQUIRES(tree_mutex_);
  Result<std::string> PathHere(NodeId id) REQUIRES(tree_mutex_);
  Status Reconsider(NodeId id, bool everything) REQUIRES(tree_mutex_);
  Status TurnInto(Node* node, Placement now) REQUIRES(tree_mutex_);
  static bool MayStay(const Node& node);
  Status CheckPinsFit(const Node& node) REQUIRES(tree_mutex_);
  Status CheckMayBeLocal(const Node& node) REQUIRES(tree_mutex_);
  Status LoadRules() REQUIRES(tree_mutex_);
  Result<std::pair<std::vector<Rule>, std::string>> LoadSharedRules() EXCLUDES(tree_mutex_);
  Status TakeSharedRules(const std::string& version) EXCLUDES(tree_mutex_);
  Status ApplySharedRules(const std::vector<Rule>& rules, const std::string& version)
      EXCLUDES(tree_mutex_);
  Status PlaceShared(const Rule& rule) REQUIRES(tree_mutex_);
  Status Publish(const std::vector<Rule>& fresh) EXCLUDES(tree_mutex_);
  Status FollowMoves() EXCLUDES(tree_mutex_);
  Result<Outcome> BringDown(Job* job) EXCLUDES(tree_mutex_);
  Result<bool> MadeBefore(const Job& job, const std::string& from, Code refused,
                          const Entry& target) EXCLUDES(tree_mutex_);
  Result<bool> OnlyAttributesDiffer(const Node& node, const std::string& path, const Entry& there,
                                    const Call& call) EXCLUDES(tree_mutex_);
  Status AdoptVersion(Live* live, const Entry& there) REQUIRES(tree_mutex_);

  // -- uploads (uploader.cc, plan.cc, reconcile.cc, conflicts.cc, moves.cc, removals.cc)
  Result<std::uint64_t> WaitingForStore() EXCLUDES(tree_mutex_);  // changes, but for held deletions
  std::optional<Error> WhyInVain(Steady since);
  Status AwaitUploads(Steady begun, Steady deadline, const std::function<bool()>& given_up)
      EXCLUDES(tree_mutex_);
  TurnResult RunTurn(NodeId id, int tries, const Cancel& cancel) override EXCLUDES(tree_mutex_);
  std::int64_t EndTurn(NodeId id) override EXCLUDES(tree_mutex_);
  TurnResult TurnAfter(const Job& job, const Error& error, int tries) EXCLUDES(tree_mutex_);
  Duration NoteFailed(const Job& job, const Error& error) EXCLUDES(tree_mutex_);
  Duration NotePassing(NodeId id, const Error& error, int tries) EXCLUDES(tree_mutex_);
  Result<Outcome> Reconcile(Job* job) EXCLUDES(tree_mutex_);
  Status EnsureProbed(const Call& call) EXCLUDES(tree_mutex_);
  Status PlanJob(Job* job) REQUIRES(tree_mutex_);
  Status PlanPlace(Job* job, Live* live) REQUIRES(tree_mutex_);
  Result<std::optional<Blocker>> BlockerOf(const Node& node) REQUIRES(tree_mutex_);
  Result<std::optional<Blocker>> KnownBlockerOf(const Node& node) REQUIRES(tree_mutex_);
  Result<std::optional<Blocker>> MoveInDoubt(const Node& node) REQUIRES(tree_mutex_);
  Result<std::optional<std::string>> PathInDoubt(const Node& node) REQUIRES(tree_mutex_);
  Result<bool> GetsOn(NodeId first, NodeId id) REQUIRES(tree_mutex_);
  Status NoteWaiting(Live* live, NodeId behind) REQUIRES(tree_mutex_);
  static bool Goes(const Node& node);
  bool IsBeingWritten(Live* live) const REQUIRES(tree_mutex_);
  bool IsToBeTakenBack(const Node& node) const;
  Result<std::optional<Blocker>> MoveAbove(NodeId up) REQUIRES(tree_mutex_);
  Result<std::optional<Blocker>> MoveAboveTried(const Node& node) REQUIRES(tree_mutex_);
  Result<std::optional<Blocker>> PlaceTaken(const Node& node) REQUIRES(tree_mutex_);
  Result<bool> WaitsForItself(NodeId id, const Blocker& first) REQUIRES(tree_mutex_);
  Status PlanTakingBack(Job* job, Live* live) REQUIRES(tree_mutex_);
  Result<bool> IsWhatIsKnown(const Job& job, const Entry& made);
  Result<bool> MadeBy(const Job& job, const Entry& made) EXCLUDES(tree_mutex_);
  bool MayBeLate(Job* job) EXCLUDES(tree_mutex_);
  bool MayBeAnothers(NodeId id) EXCLUDES(tree_mutex_);
  Result<bool> WasTriedBelow(NodeId folder) REQUIRES(tree_mutex_);
  Result<bool> WentThere(const Job& job, const Entry& made) EXCLUDES(tree_mutex_);
  // Some stores take names for one that differ only in case or in Unicode form: what stands at
  // `path` is then the file, or folder, itself.
  Result<bool> IsItself(const Job& job, const std::string& path) EXCLUDES(tree_mutex_);
  Result<std::pair<bool, bool>> ListsNames(const std::string& folder, const std::string& a,
                                           const std::string& b, const Call& call);
  Result<bool> AreOne(const std::string& a, const std::string& b, const Call& call);
  std::string SpelledNow(const Node& left) REQUIRES(tree_mutex_);
  // It is, where the node is to go: it goes by way of a name of our own.
  Result<Outcome> GoAside(Job* job) EXCLUDES(tree_mutex_);
  Result<bool> IsLate(const Job& job, const Entry& there) EXCLUDES(tree_mutex_);
  Result<Outcome> TakeBack(Job* job) EXCLUDES(tree_mutex_);
  Result<bool> TakeBackFile(Job* planned) EXCLUDES(tree_mutex_);
  Result<Outcome> GoesOnFrom(Job* job, Live* live) REQUIRES(tree_mutex_);
  void ReadOnFromNewPlaces() REQUIRES(tree_mutex_);
  Result<bool> IsAllThereIs(const Job& job, const Entry& made) EXCLUDES(tree_mutex_);
  Result<bool> IsAllTheStoreHas(const Job& job) EXCLUDES(tree_mutex_);
  Status TakeBackFolder(Job* job);
  Result<bool> IsFolderAt(const std::string& path, const Call& call);
  Status TakeBackMoved(const Job& job, const std::vector<Entry>& made) EXCLUDES(tree_mutex_);
  Status TakeBackKept(const Job& job, const std::vector<Entry>& made);
  static std::string FormerName(const Job& job, const std::string& name);
  // Below a folder that goes object by object: path, versions of the original and of its copy,
  // where those differ.
  using Copies = std::map<std::string, std::pair<std::string, std::string>>;
  // Where it was below a moved folder, and what it is called beside what others have there. Folders
  // have no version, and come before what is in them.
  struct Kept {
    std::string path, name, version;
  };
  Status BringBelow(Job* job);
  Status Bring(Job* job, const Entry& object, Mutex* mutex);
  Result<bool> AreSame(const Job& job, const Entry& object, const std::string& from,
                       const Entry& there, const std::string& to);
  Status BringBeside(Job* job, const Entry& object, const std::string& name, Mutex* mutex);
  Result<Entry> SendBelow(const Job& job, const Entry& object, const std::string& to,
                          const Precondition& only_if);
  Result<std::optional<Node>> FileThere(NodeId folder, const std::string& path)
      REQUIRES(tree_mutex_);
  Status TakeCopies(NodeId folder, const Copies& copied) REQUIRES(tree_mutex_);
  Status SeeWhatCame(Job* job);
  Result<std::vector<Entry>> AllBelow(const std::string& folder, const Call& call);
  bool MayBeCopy(const std::string& version, std::uint64_t size, const Entry& copy) const;
  // Without the lock. Did the store make it of that version of `from`? False if that is not there
  // any more. To find out it may be copied once more to a folder `below`, below which unfinished
  // uploads are journalled; "": to the drive's own.
  Result<bool> IsCopy(const Job& job, const std::string& below, const std::string& from,
                      const std::string& version, std::uint64_t size, const Entry& copy);
  Status MakeFoldersBelow(Job* job, const std::vector<Entry>& objects);
  static std::string NewName(const Job& job, const std::string& path);
  std::string BesideThere(const std::string& path) const;
  Status NameKept(NodeId folder, const std::string& path, const std::string& kept,
                  const std::string& version) REQUIRES(tree_mutex_);
  std::string OriginOf(NodeId id) const;
  NodeId WrittenBy(const std::string& origin) const;
  std::string WriterOf(const Node& node) const;
  // Whether what stands at `place` and says that it is of this node is what is known of it, or was
  // sent for it since. A power cut takes the memory of what was sent: of nodes that waited for
  // nothing then, only what was written down since is known.
  bool SignTells(const Node& node, const std::string& place) const;
  static std::string WithAnything(const Node& node);
  std::string AsideName(NodeId id) const;
  static bool IsAsideName(std::string_view name);  // of any machine
  Status SyncBeforeSending(Job* job) EXCLUDES(tree_mutex_);
  Result<bool> WentAlong(const Job& job) EXCLUDES(tree_mutex_);
  Result<Outcome> BaseIsGone(Job* job) EXCLUDES(tree_mutex_);
  Result<Outcome> Settle(NodeId id) EXCLUDES(tree_mutex_);
  Result<Outcome> UploadFile(Job* job);
  Result<Entry> SendContent(Job* job);
  Result<Entry> SendParts(Job* job);
  // Without the lock. Is it what an upload of the node sent to `place` (sent.h), without an answer
  // that anybody heard? A store that does not tell the writer is asked for the bytes at `path`.
  Result<bool> WasSent(const Node& node, const std::string& place, const std::string& path,
                       const Entry& there, const Call& call);
  // Before the last of it goes. kCancelled: its content was changed since the job was planned. A
  // power cut after an fsync of that must not leave a version at the store that is not journalled.
  Status JournalSent(const Job& job, const std::string& mark) EXCLUDES(tree_mutex_);
  Status JournalParts(NodeId id, const std::string& upload) EXCLUDES(tree_mutex_);
  Status JournalUnknownParts(NodeId id, const std::string& path) EXCLUDES(tree_mutex_);
  Status EndParts(const std::string& journalled, const Call& call);
  Result<Outcome> CopyFile(Job* job);
  Result<Outcome> ResolveRefusedCopy(Job* job, const std::string& from, const std::string& version)
      EXCLUDES(tree_mutex_);
  Result<Outcome> SendFolder(Job* job);
  Result<Outcome> MoveFolder(Job* job);
  Result<Outcome> RemoveThere(Job* job);
  Result<Outcome> RemoveSiblings(Job* job, const std::vector<Node>& group);
  bool MayBeTheLast(const Node& node) REQUIRES(tree_mutex_);
  void AskNextTime(NodeId left) EXCLUDES(tree_mutex_);
  Result<bool> IsTheLast(NodeId id, const Call& call) EXCLUDES(tree_mutex_);
  void ForgetLeft(const Node& left) REQUIRES(tree_mutex_);
  Status LeaveThem(NodeId moved) REQUIRES(tree_mutex_);  // what it has left is removed by nobody
  Status RemoveOne(const Node& node, const Call& call) EXCLUDES(tree_mutex_);
  Status CommitGone(NodeId id) EXCLUDES(tree_mutex_);
  // What it went into is there with it, where it was then, whatever is called otherwise since.
  Status AboveIsThere(const Job& job) REQUIRES(tree_mutex_);
  // How it came to its place; kCopyBefore: by a former attempt, with the attributes of that time.
  enum class Sent { kBytes, kBytesAlone, kCopy, kCopyBefore, kMove };
  Status LeaveOldPlace(const Job& job, Sent how) REQUIRES(tree_mutex_);
  bool CopiedInParts(std::uint64_t size) const;
  Status CommitUpload(Job* job, const Entry& entry, Sent how) EXCLUDES(tree_mutex_);
  static void NoteAttributesSent(const Job& job, Sent how, Node* node);
  Status CountDeletion(const Node& node) REQUIRES(tree_mutex_);
  bool IsHeld(const Node& node) REQUIRES(tree_mutex_);
  std::vector<Node> HeldDeletions() REQUIRES(tree_mutex_);  // files and folders, in order
  Result<std::vector<Node>> WithFoldersAbove(std::vector<Node> held) REQUIRES(tree_mutex_);
  Duration UntilCounted() REQUIRES(tree_mutex_);
  // A folder, gone here, whose deletion is held back, at the place of `node`.
  Result<std::optional<Node>> HeldFolderAt(const Node& node) REQUIRES(tree_mutex_);
  // Something in such a folder that has to be done before another may take its place.
  Result<NodeId> UnsureInside(NodeId held) REQUIRES(tree_mutex_);
  Status TakePlace(Live* live, const Node& held) REQUIRES(tree_mutex_);
  Status TakeOver(NodeId heir, NodeId former, const std::set<std::string>& came)
      REQUIRES(tree_mutex_);
  Status TakeInside(NodeId heir, NodeId former, const std::string& below,
                    const std::set<std::string>& came) REQUIRES(tree_mutex_);
  Status DropLeft(NodeId heir, const std::string& key) REQUIRES(tree_mutex_);
  Status HeldBelow(NodeId held, const std::string& below,
                   std::map<std::string, std::string>* versions) REQUIRES(tree_mutex_);
  Result<bool> FolderComesTo(const Node& held) REQUIRES(tree_mutex_);
  Result<bool> FolderComesOver(NodeId folder) REQUIRES(tree_mutex_);
  Status BringBack(Node node) REQUIRES(tree_mutex_);
  Result<Node> ConflictAt(const std::string& path) EXCLUDES(tree_mutex_);
  Result<Outcome> Conflict(Job* job) EXCLUDES(tree_mutex_);
  Result<std::string> NameBeside(NodeId parent, const std::string& name) REQUIRES(tree_mutex_);
  Status KeepBeside(Live* live) REQUIRES(tree_mutex_);
  void NoteConflict(const std::string& path, const Node& kept);
  Status DropKept(const Node& kept) EXCLUDES(tree_mutex_);
  Status TakesName(const Node& kept) EXCLUDES(tree_mutex_);
  Result<bool> MeetsFile(const Job& job) EXCLUDES(tree_mutex_);
  Status GivesWay(NodeId folder, const std::string& path, Steady asked) EXCLUDES(tree_mutex_);
  Status ForgetInside(NodeId folder) REQUIRES(tree_mutex_);
  void DropOccupant(Job* job) REQUIRES(tree_mutex_);
  void DropThere(Live* gone, const std::string& path) REQUIRES(tree_mutex_);
  std::string Stamp() const;

  const DriveOptions options_;
  const Cancel stop_ = std::make_shared<CancelToken>();
  std::unique_ptr<StoreClient> store_;
  Events events_{options_.clock};
  Health health_;
  ListingPace pace_{options_.clock};
  FetchJobs fetches_;
  Outbox outbox_{{options_.clock, options_.upload_workers, options_.quiet, stop_,
                  [this] { return store_->OfflineSince() == 0; }}};
  std::string own_id_;            // random, for as long as the state lives
  NodeId last_of_cut_ = kNoNode;  // nodes up to it were there before the last power cut
  std::unique_ptr<BlockStore> blocks_;
  std::unique_ptr<Budget> budget_;
  std::unique_ptr<SpareRoom> spare_;
  Fd lock_, cache_lock_;
  std::vector<std::thread> threads_;
  bool started_ = false;
  std::atomic<bool> has_feed_{false};  // the store tells what changed

  Mutex saving_mutex_;  // before the tree's; held while what was fetched is synced and written down
  Mutex tree_mutex_;
  CondVar tree_changed_;
  std::unique_ptr<Index> index_ GUARDED_BY(tree_mutex_);
  std::unordered_map<NodeId, std::unique_ptr<Live>> live_ GUARDED_BY(tree_mutex_);
  std::size_t trim_at_ GUARDED_BY(tree_mutex_) = 0;
  int changes_ GUARDED_BY(tree_mutex_) = 0;           // Change objects alive
  std::set<NodeId> touched_ GUARDED_BY(tree_mutex_);  // what a Change under way has got hold of
  // Whose files go when it is done, and what was counted of them.
  std::map<NodeId, std::uint64_t> dropped_ GUARDED_BY(tree_mutex_);
  std::vector<NodeId> doomed_ GUARDED_BY(tree_mutex_);  // deleted: files go after a sync
  // A power cut may take back that a file is up; and that one is up which was promised.
  bool acks_unsynced_ GUARDED_BY(tree_mutex_) = false;
  bool promises_unsynced_ GUARDED_BY(tree_mutex_) = false;
  std::unordered_map<NodeId, std::shared_ptr<Listing>> listings_ GUARDED_BY(tree_mutex_);
  int learning_ GUARDED_BY(tree_mutex_) = 0;  // listings that are done, but for LearnFolder
  std::unordered_map<NodeId, Steady> listed_ GUARDED_BY(tree_mutex_);   // when, this run
  std::unordered_map<NodeId, Steady> visited_ GUARDED_BY(tree_mutex_);  // folders, by people
  std::optional<Steady> feed_asked_ GUARDED_BY(tree_mutex_);            // its answer is under way
  std::unordered_map<NodeId, Steady> acked_ GUARDED_BY(tree_mutex_);    // changed by us, or told
  std::map<std::pair<NodeId, std::string>, Steady> removed_ GUARDED_BY(tree_mutex_);
  // Since when the store does not have what a request without an answer was to make.
  std::unordered_map<NodeId, Steady> not_there_ GUARDED_BY(tree_mutex_);
  // Since when it has what such a request, or another machine's, has made.
  std::unordered_map<NodeId, Steady> copy_seen_ GUARDED_BY(tree_mutex_);
  // Places that nodes have left at the store, some by a request that was called off.
  std::map<std::pair<NodeId, std::string>, Steady> left_behind_ GUARDED_BY(tree_mutex_);
  std::map<std::string, Leftover> leftovers_ GUARDED_BY(tree_mutex_);       // by their paths
  std::unordered_map<NodeId, Steady> just_copied_ GUARDED_BY(tree_mutex_);  // old places of moves
  // What a moved file has left at its old places, and is not gone from there yet.
  std::unordered_multimap<NodeId, NodeId> left_by_ GUARDED_BY(tree_mutex_);
  std::unordered_map<NodeId, Copies> copied_below_ GUARDED_BY(tree_mutex_);  // originals are left
  // By an attempt that failed half-way.
  std::unordered_map<NodeId, std::vector<Kept>> kept_below_ GUARDED_BY(tree_mutex_);
  std::unordered_multimap<std::string, NodeId> copy_sources_ GUARDED_BY(tree_mutex_);
  std::deque<NodeId> open_contents_ GUARDED_BY(tree_mutex_);  // oldest first; some are closed
  std::set<NodeId> used_ GUARDED_BY(tree_mutex_);  // of late: to be journalled before it matters
  std::vector<Rule> rules_ GUARDED_BY(tree_mutex_);
  bool awaited_rules_ GUARDED_BY(tree_mutex_) = false;  // some are for names not known here
  bool pins_changed_ GUARDED_BY(tree_mutex_) = false;   // something is to be fetched, perhaps
  ino_t index_inode_ GUARDED_BY(tree_mutex_) = 0;
  bool shut_out_ GUARDED_BY(tree_mutex_) = false;
  std::set<NodeId> respelled_
      GUARDED_BY(tree_mutex_);  // to go aside: the store has one name for two
  std::deque<std::pair<Steady, std::int64_t>> deletions_ GUARDED_BY(tree_mutex_);  // when, intent
  std::int64_t hold_from_ GUARDED_BY(tree_mutex_) = 0;  // this intent and later; 0: none are held
  DriveLimits limits_ GUARDED_BY(tree_mutex_);
  // all that is older, and what was known to be here up to that round, is on the disk
  Nanos synced_at_ GUARDED_BY(tree_mutex_) = 0;
  std::int64_t names_synced_ GUARDED_BY(tree_mutex_) = 0;  // intents promised by a folder's fsync
  std::int64_t synced_round_ GUARDED_BY(tree_mutex_) = 0;
  bool cache_changed_ GUARDED_BY(tree_mutex_) = false;  // since then

  struct Account {
    bool offered = true;  // the store says how much room there is
    std::optional<Quota> known;
    std::uint64_t left = 0;  // bytes that may be written yet
    Steady at{};
  };
  Mutex account_mutex_;
  Account account_ GUARDED_BY(account_mutex_);
  Mutex pins_mutex_;
  CondVar pins_cond_;
  bool pins_woken_ GUARDED_BY(pins_mutex_) = false;
  Mutex fetch_mutex_;
  CondVar fetch_changed_;
  std::vector<std::pair<std::shared_ptr<Content>, std::shared_ptr<Flight>>> to_fetch_
      GUARDED_BY(fetch_mutex_);
  bool fetch_stopped_ GUARDED_BY(fetch_mutex_) = false;
  std::set<NodeId> unsaved_presence_ GUARDED_BY(fetch_mutex_);
};

}  // namespace pargeter
