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
#include "engine/tree/places.h"
#include "engine/tree/tree.h"
#include "index/index.h"
#include "net/cancel.h"
#include "provider/provider.h"

namespace pargeter {

class Engine : private Outbox::Worker, private BlobSink, private EffectSink {
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
  Status FsyncFolder();  // the names in it, and in all others
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
  const DriveOptions& options() const { return options_; }
  Provider& provider() { return store_->provider(); }

 private:
  using View = Tree::View;
  using Change = Tree::Change;
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
  // the tree's sinks
  void ReleaseBytes(std::uint64_t bytes) override;
  void DropCached(NodeId id) override;
  void DropPending(NodeId id) override;
  bool HasPending(NodeId id) override;
  std::uint64_t SizeOf(Content* content) override;
  bool IsUnsaved(Content* content) override;
  void Publish(Event event) override;
  void Push(NodeId id, std::int64_t order, Duration delay) override;
  Status OpenIndex(View& view);  // (rebuild.cc)
  Status Rebuild(View& view);
  Status AdoptPending(View& view, NodeId block);
  Result<NodeId> FolderFor(View& view, const std::string& path);
  void NotePending(View& view, const Node& node, const std::string& ranges);
  Status Recover();
  static void FindHoles(Content* content) REQUIRES(content->mu);
  Status ClaimCache(View& view);
  Status RecoverFromPowerCut(View& view);
  Status RecoverWaiting(View& view, bool power_cut);
  Status MendOrphans(View& view);
  std::uint64_t BlocksOf(NodeId id) const;
  Status ForgetLostLocal(View& view);
  Status RecoverHeld(View& view);
  struct Remains;
  Result<Remains> LookAtPending(View& view, const Node& node, bool power_cut);
  static bool WrittenAnew(const Node& node);
  bool EmptyWhenSynced(View& view, const Node& node) const;
  Status DoubtSigns(View& view, std::vector<Node>* waiting);
  Status MendPending(View& view, Node* node, bool power_cut);
  Status MendMade(View& view, Node* node);
  Status TakeBackEmptied(View& view, Node* node);
  Result<bool> TakeOutGaps(const Node& node, std::uint64_t length, RangeSet* present);
  static void ForgetTried(Node* node);
  static void AskForTime(Node* node);
  Status ForgetLost(View& view, Node node);
  Status SetBeside(View& view, const Node& node);
  Status LeaveThere(View& view, const Node& torn);
  Result<std::optional<Node>> ReplacedBy(View& view, const Node& torn);
  Status UndoReplacing(View& view, Node* torn);
  Status BringBackReplaced(View& view, const Node& torn);

  // -- tree (drive.cc), all under tree_mutex_
  Attr AttrOf(const Live& live);
  StateOf StateOfLive(const Live& live);
  Status AddSums(View& view, StateOf* state);
  static std::string PlaceThere(const Node& node);  // the same as in sent.h
  // How a look at the drive's own folder went: once we are let in again, what waits is tried at
  // once.
  void NoteAccess(View& view, const Status& look);
  void RetryWaiting(View& view);
  Status CheckWritable() const;
  Status CheckHoldsLinks();
  Status CheckRole(View& view, const Node& node);  // may the account change it there?
  Status CheckState(View& view);
  Status CheckNewName(const std::string& name) const;
  Status KeepFolder(View& view, NodeId id);
  void EmitHappened(std::string side, std::string what, std::string path, std::string detail = {});

  Result<std::string> RequireRemotePath(NodeId id);
  // -- room in the account (quota.cc)
  Status CheckAccount(NodeId id, std::uint64_t end);
  Result<bool> CountAccount(NodeId id, std::uint64_t end);

  // -- attributes (attributes.cc)
  static bool NeedsAsking(const Node& node);
  // Ask what is not known: whether it is a link; the mode too; the mode as well, but seldom.
  enum class Ask { kLink, kMode, kSome };
  Result<Attr> AttrAsking(NodeId id, Ask ask = Ask::kLink);
  std::uint32_t ModeFor(const Node& node) const;
  Result<Entry> LookAt(bool folder, const std::string& path, const Call& call);
  // `answers`: whoever asks gets them, and a word to the kernel would make that forget them.
  Status LearnAttributes(NodeId id, const Entry& entry, Steady asked = {}, bool answers = false);
  void LearnFolder(NodeId id, const std::string& key);
  Status LearnBeforeSending(const Job& job, bool leaves = false);

  // -- names (drive_names.cc)
  Status Remove(View& view, Live* live, std::uint32_t mark = kClean);
  Status StayAway(View& view, const Node& heir);
  Result<Live*> NewNode(View& view, NodeId parent, const std::string& name, NodeKind kind,
                        std::uint32_t mode, std::uint32_t uid, std::uint32_t gid);
  Status EnsureListed(NodeId folder);

  // -- listings (lister.cc)
  enum class Wait { kNo, kFirstPage, kAll };
  Status ListFolder(NodeId id, Wait wait, const std::string& until_name,
                    Traffic traffic = Traffic::kForeground);
  bool IsFresh(View& view, NodeId id);
  bool BeginListing(const std::shared_ptr<Listing>& listing);
  void RunListing(const std::shared_ptr<Listing>& listing);
  bool CloseListing(Listing* listing, const Status& outcome);
  Result<bool> IsOtherSpelling(NodeId folder, const std::string& name, const Entry& entry);
  Status LookForRules(const std::vector<Entry>& entries);
  void RemoveLeftovers();
  Status LookAgain(NodeId id);
  Status LookForKey(NodeId id, const std::string& key);
  void ForgetOld(View& view);
  void WatchLoop();
  void ShrinkLoop();

  // -- what the store has shown, or shows no more (sightings.cc)
  Status TakePage(Listing* listing, const std::vector<Entry>& entries, bool may_write);
  Status EndListing(Listing* listing);
  Status TakeOne(View& view, NodeId folder, const Entry& entry, Steady asked);
  Status TakeEntry(View& view, Listing* listing, const Entry& entry);
  Status TakeNew(View& view, Listing* listing, const Entry& entry);
  Status TakeKnown(View& view, Listing* listing, Live* live, const Entry& entry);
  Status TakeRole(View& view, Live* live, bool may_write);
  Status NoteLeftover(View& view, NodeId folder, const Entry& entry);
  void NewVersion(View& view, Live* live, const Entry& entry);
  Status VanishedThere(View& view, Live* live, Steady asked);
  Status GiveNameBack(View& view, NodeId parent, const std::string& name);
  bool MayBeElsewhere(View& view, const Node& node, Steady asked);
  static Error MovedMeanwhile();

  // -- from the disk of the cache to that of the waiting, and back (two_disks.cc)
  Status Carry(const std::shared_ptr<Content>& content, BlockStore::Place to);
  void DropCarried(Content* content);
  Status MoveContent(Content* content, BlockStore::Place to) REQUIRES(content->mu);
  void GiveUpBytes(View& view, Live* live);
  Status MakeRoomOn(BlockStore::Place to, std::uint64_t bytes);

  // -- the store's own word on what changed (feed.cc)
  void FeedLoop();
  bool IsBusy();
  Result<std::size_t> LookAtFeed(std::string* moment);
  Status TakeChanges(const Changes& changes, Steady started);
  Result<bool> WasMissing(View& view, NodeId folder, const Entry& entry, Steady asked);
  Status TakeChanged(View& view, NodeId folder, const Entry& entry, Steady started,
                     std::map<std::string, std::vector<NodeId>>* left,
                     std::vector<NodeId>* doubtful);
  Result<NodeId> FolderThere(View& view, const std::string& path);
  Result<std::optional<Node>> NodeThere(View& view, NodeId folder, const std::string& key,
                                        bool is_folder);
  Result<bool> MovedThere(View& view, Live* live, NodeId folder, const Entry& entry);

  // -- content (drive_io.cc, fetcher.cc)
  Result<std::shared_ptr<Content>> ContentOf(View& view, Live* live);
  void NoteUse(View& view, Live* live);
  void SaveUses(View& view);
  void CloseIdle(View& view);
  Result<Opened> MakeOpen(View& view, Live* live, bool writing);
  Result<WritingMark> BeginWriting(const OpenFilePtr& file);
  Result<WritingMark> MakeDirty(const OpenFilePtr& file);
  Status Truncate(View& view, Live* live, std::uint64_t size);
  Status WriteBytes(const OpenFilePtr& file, std::string_view data, std::uint64_t offset,
                    bool append);
  Status SetLength(Content* content) REQUIRES(content->mu);
  Status WriteZeros(Content* content, std::uint64_t offset, std::uint64_t end)
      REQUIRES(content->mu);
  Status AddZeros(Content* content, std::uint64_t end) REQUIRES(content->mu);
  bool FreeForWriting(std::uint64_t bytes);
  Status Grew(const OpenFilePtr& file, std::uint64_t begin, std::uint64_t end);
  Status SaveContent(View& view, Live* live, Content* content, bool confirmed = false);
  void SaveWritten();
  Status FlushContent(const OpenFilePtr& file, bool durable);
  void DropContent(View& view, Live* live);
  Result<std::uint64_t> BeginCopy(const OpenFilePtr& from, const OpenFilePtr& to,
                                  std::uint64_t size);
  Status GiveUpCopy(View& view, Live* live);
  Status EnsurePresent(const std::shared_ptr<Content>& content, Range range, Range ahead,
                       Steady deadline, Traffic traffic);
  Status StartFlight(const std::shared_ptr<Content>& content, Range range, Traffic traffic)
      REQUIRES(content->mu);
  void RunFlight(const std::shared_ptr<Content>& content, const std::shared_ptr<Flight>& flight);
  Status FetchRange(const std::shared_ptr<Content>& content, const Source& source,
                    const Flight& flight, std::uint64_t* added, Entry* entry);
  static Status AskSource(const std::shared_ptr<Content>& content,
                          const std::function<Status(const Source&)>& ask);
  bool MoveHasEnded(const std::shared_ptr<Content>& content, Steady deadline);
  bool IsCheckedOnArrival(const Source& source) const;
  Status CheckArrived(const std::shared_ptr<Content>& content, const Source& source, Range last);
  Status DropWrong(const std::shared_ptr<Content>& content);
  Result<std::size_t> ShyPart(const OpenFilePtr& file, std::size_t size, std::uint64_t offset);
  Result<std::size_t> ReadThrough(const std::shared_ptr<Content>& content, char* data,
                                  std::size_t size, std::uint64_t offset);
  Range PlanAhead(const OpenFilePtr& file, std::uint64_t offset, std::uint64_t size,
                  std::uint64_t file_size);
  bool MakeRoom(std::uint64_t bytes);
  std::uint64_t FreeUnused(std::uint64_t bytes);
  std::uint64_t FreeOf(View& view, Live* live, std::uint64_t bytes);
  std::uint64_t FreeTail(View& view, Live* live, std::uint64_t bytes);
  std::uint64_t FreeBehindReaders(std::uint64_t bytes);
  void SavePresenceOfAll() EXCLUDES(saving_mutex_);
  void SaveAll();
  void SyncEverything();
  void FetchLoop();

  Status Walk(NodeId id, const std::function<Result<bool>(View&, const Node&)>& enter,
              const std::function<void(View&, const Node&)>& each);
  void Weigh(View& view, const Node& row, const EvictWish& wish, Evicted* answer,
             std::vector<std::pair<Nanos, NodeId>>* out);
  bool DropIfUnused(View& view, Live* live, bool arriving = false);
  Status ListBelow(NodeId id, const Cancel& cancel);
  static Status ForMany(const std::vector<NodeId>& ids, const std::function<Status(NodeId)>& each);
  Status FetchFile(NodeId id, const Cancel& cancel, std::atomic<std::uint64_t>* bytes_done);
  void RunFetch(Fetch* fetch);
  void WakePins() EXCLUDES(pins_mutex_);
  void PinLoop();
  bool FetchPinned();
  void LookForNew(NodeId root);

  // -- is it what the store gave? (verify.cc)
  bool CanBeRead(const std::shared_ptr<Content>& content, std::uint64_t size);
  Status VerifyFile(NodeId id, bool with_store, Checked* out);
  // Of a file that is wholly here. May ask the store once: how did that version come to it?
  ContentCheck::Verdict JudgeByDigest(const std::shared_ptr<Content>& content, const Node& node);
  Result<bool> SameAsStore(const std::shared_ptr<Content>& content,
                           const std::vector<Range>& ranges, std::uint64_t piece);

  // -- placement (placement.cc)
  Placement PlacementOf(View& view, const Node& node, Placement above) const;
  const Rule* PatternFor(View& view, const std::string& name) const;
  Status Inherit(View& view, Node* node);
  Status Reconsider(View& view, NodeId id, bool everything);
  Status TurnInto(View& view, Node* node, Placement now);
  Status CheckPinsFit(View& view, const Node& node);
  Status CheckMayBeLocal(View& view, const Node& node);
  Status LoadRules(View& view);
  Result<std::pair<std::vector<Rule>, std::string>> LoadSharedRules();
  Status TakeSharedRules(const std::string& version);
  Status ApplySharedRules(const std::vector<Rule>& rules, const std::string& version);
  Status PlaceShared(View& view, const Rule& rule);
  Status Publish(const std::vector<Rule>& fresh);
  Status FollowMoves();
  Result<Outcome> BringDown(Job* job);
  Result<bool> MadeBefore(const Job& job, const std::string& from, Code refused,
                          const Entry& target);
  Result<bool> OnlyAttributesDiffer(const Node& node, const std::string& path, const Entry& there,
                                    const Call& call);
  Status AdoptVersion(View& view, Live* live, const Entry& there);

  // -- uploads (uploader.cc, plan.cc, reconcile.cc, conflicts.cc, moves.cc, removals.cc)
  Result<std::uint64_t> WaitingForStore();  // changes, but for held deletions
  std::optional<Error> WhyInVain(Steady since);
  Status AwaitUploads(Steady begun, Steady deadline, const std::function<bool()>& given_up);
  TurnResult RunTurn(NodeId id, int tries, const Cancel& cancel) override;
  std::int64_t EndTurn(NodeId id) override;
  TurnResult TurnAfter(const Job& job, const Error& error, int tries);
  Duration NoteFailed(const Job& job, const Error& error);
  Duration NotePassing(NodeId id, const Error& error, int tries);
  Result<Outcome> Reconcile(Job* job);
  Status EnsureProbed(const Call& call);
  Status PlanJob(View& view, Job* job);
  Status PlanPlace(View& view, Job* job, Live* live);
  Result<std::optional<Blocker>> BlockerOf(View& view, const Node& node);
  Result<std::optional<Blocker>> KnownBlockerOf(View& view, const Node& node);
  Result<std::optional<Blocker>> MoveInDoubt(View& view, const Node& node);
  Result<std::optional<std::string>> PathInDoubt(View& view, const Node& node);
  Result<bool> GetsOn(View& view, NodeId first, NodeId id);
  Status NoteWaiting(View& view, Live* live, NodeId behind);
  static bool Goes(const Node& node);
  bool IsBeingWritten(Live* live) const;
  bool IsToBeTakenBack(const Node& node) const;
  Result<std::optional<Blocker>> MoveAbove(View& view, NodeId up);
  Result<std::optional<Blocker>> MoveAboveTried(View& view, const Node& node);
  Result<std::optional<Blocker>> PlaceTaken(View& view, const Node& node);
  Result<bool> WaitsForItself(View& view, NodeId id, const Blocker& first);
  Status PlanTakingBack(View& view, Job* job, Live* live);
  Result<bool> IsWhatIsKnown(const Job& job, const Entry& made);
  Result<bool> MadeBy(const Job& job, const Entry& made);
  bool MayBeLate(Job* job);
  bool MayBeAnothers(NodeId id);
  Result<bool> WasTriedBelow(View& view, NodeId folder);
  Result<bool> WentThere(const Job& job, const Entry& made);
  // Some stores take names for one that differ only in case or in Unicode form: what stands at
  // `path` is then the file, or folder, itself.
  Result<bool> IsItself(const Job& job, const std::string& path);
  Result<std::pair<bool, bool>> ListsNames(const std::string& folder, const std::string& a,
                                           const std::string& b, const Call& call);
  Result<bool> AreOne(const std::string& a, const std::string& b, const Call& call);
  std::string SpelledNow(View& view, const Node& left);
  // It is, where the node is to go: it goes by way of a name of our own.
  Result<Outcome> GoAside(Job* job);
  Result<bool> IsLate(const Job& job, const Entry& there);
  Result<Outcome> TakeBack(Job* job);
  Result<bool> TakeBackFile(Job* planned);
  Result<Outcome> GoesOnFrom(View& view, Job* job, Live* live);
  void ReadOnFromNewPlaces(View& view);
  Result<bool> IsAllThereIs(const Job& job, const Entry& made);
  Result<bool> IsAllTheStoreHas(const Job& job);
  Status TakeBackFolder(Job* job);
  Result<bool> IsFolderAt(const std::string& path, const Call& call);
  Status TakeBackMoved(const Job& job, const std::vector<Entry>& made);
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
  Result<std::optional<Node>> FileThere(View& view, NodeId folder, const std::string& path);
  Status TakeCopies(View& view, NodeId folder, const Copies& copied);
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
  Status NameKept(View& view, NodeId folder, const std::string& path, const std::string& kept,
                  const std::string& version);
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
  Status SyncBeforeSending(Job* job);
  Result<bool> WentAlong(const Job& job);
  Result<Outcome> BaseIsGone(Job* job);
  Result<Outcome> Settle(NodeId id);
  Result<Outcome> UploadFile(Job* job);
  Result<Entry> SendContent(Job* job);
  Result<Entry> SendParts(Job* job);
  // Without the lock. Is it what an upload of the node sent to `place` (sent.h), without an answer
  // that anybody heard? A store that does not tell the writer is asked for the bytes at `path`.
  Result<bool> WasSent(const Node& node, const std::string& place, const std::string& path,
                       const Entry& there, const Call& call);
  // Before the last of it goes. kCancelled: its content was changed since the job was planned. A
  // power cut after an fsync of that must not leave a version at the store that is not journalled.
  Status JournalSent(const Job& job, const std::string& mark);
  Status JournalParts(NodeId id, const std::string& upload);
  Status JournalUnknownParts(NodeId id, const std::string& path);
  Status EndParts(const std::string& journalled, const Call& call);
  Result<Outcome> CopyFile(Job* job);
  Result<Outcome> ResolveRefusedCopy(Job* job, const std::string& from, const std::string& version);
  Result<Outcome> SendFolder(Job* job);
  Result<Outcome> MoveFolder(Job* job);
  Result<Outcome> RemoveThere(Job* job);
  Result<Outcome> RemoveSiblings(Job* job, const std::vector<Node>& group);
  bool MayBeTheLast(View& view, const Node& node);
  void AskNextTime(NodeId left);
  Result<bool> IsTheLast(NodeId id, const Call& call);
  void ForgetLeft(View& view, const Node& left);
  Status LeaveThem(View& view, NodeId moved);  // what it has left is removed by nobody
  Status RemoveOne(const Node& node, const Call& call);
  Status CommitGone(NodeId id);
  // What it went into is there with it, where it was then, whatever is called otherwise since.
  Status AboveIsThere(View& view, const Job& job);
  // How it came to its place; kCopyBefore: by a former attempt, with the attributes of that time.
  enum class Sent { kBytes, kBytesAlone, kCopy, kCopyBefore, kMove };
  Status LeaveOldPlace(View& view, const Job& job, Sent how);
  bool CopiedInParts(std::uint64_t size) const;
  Status CommitUpload(Job* job, const Entry& entry, Sent how);
  static void NoteAttributesSent(const Job& job, Sent how, Node* node);
  Status CountDeletion(View& view, const Node& node);
  bool IsHeld(View& view, const Node& node);
  std::vector<Node> HeldDeletions(View& view);  // files and folders, in order
  Result<std::vector<Node>> WithFoldersAbove(View& view, std::vector<Node> held);
  Duration UntilCounted(View& view);
  // A folder, gone here, whose deletion is held back, at the place of `node`.
  Result<std::optional<Node>> HeldFolderAt(View& view, const Node& node);
  // Something in such a folder that has to be done before another may take its place.
  Result<NodeId> UnsureInside(View& view, NodeId held);
  Status TakePlace(View& view, Live* live, const Node& held);
  Status TakeOver(View& view, NodeId heir, NodeId former, const std::set<std::string>& came);
  Status TakeInside(View& view, NodeId heir, NodeId former, const std::string& below,
                    const std::set<std::string>& came);
  Status DropLeft(View& view, NodeId heir, const std::string& key);
  Status HeldBelow(View& view, NodeId held, const std::string& below,
                   std::map<std::string, std::string>* versions);
  Result<bool> FolderComesTo(View& view, const Node& held);
  Result<bool> FolderComesOver(View& view, NodeId folder);
  Status BringBack(View& view, Node node);
  Result<Node> ConflictAt(const std::string& path);
  Result<Outcome> Conflict(Job* job);
  Result<std::string> NameBeside(View& view, NodeId parent, const std::string& name);
  Status KeepBeside(View& view, Live* live);
  void NoteConflict(View& view, const std::string& path, const Node& kept);
  Status DropKept(const Node& kept);
  Status TakesName(const Node& kept);
  Result<bool> MeetsFile(const Job& job);
  Status GivesWay(NodeId folder, const std::string& path, Steady asked);
  Status ForgetInside(View& view, NodeId folder);
  void DropOccupant(View& view, Job* job);
  void DropThere(View& view, Live* gone, const std::string& path);
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

  Tree tree_{{options_.clock, options_.remembered, options_.quiet}, this, this};
  Mutex saving_mutex_;  // before the tree's; held while what was fetched is synced and written down
  // Whose files go when it is done, and what was counted of them.
  // A power cut may take back that a file is up; and that one is up which was promised.
  UnderLock<std::unordered_map<NodeId, std::shared_ptr<Listing>>> listings_;
  UnderLock<int> learning_{0};  // listings that are done, but for LearnFolder
  UnderLock<std::unordered_map<NodeId, Steady>> listed_;   // when, this run
  UnderLock<std::unordered_map<NodeId, Steady>> visited_;  // folders, by people
  UnderLock<std::optional<Steady>> feed_asked_;            // its answer is under way
  UnderLock<std::unordered_map<NodeId, Steady>> acked_;    // changed by us, or told
  UnderLock<std::map<std::pair<NodeId, std::string>, Steady>> removed_;
  // Since when the store does not have what a request without an answer was to make.
  UnderLock<std::unordered_map<NodeId, Steady>> not_there_;
  // Since when it has what such a request, or another machine's, has made.
  UnderLock<std::unordered_map<NodeId, Steady>> copy_seen_;
  // Places that nodes have left at the store, some by a request that was called off.
  UnderLock<std::map<std::pair<NodeId, std::string>, Steady>> left_behind_;
  UnderLock<std::map<std::string, Leftover>> leftovers_;       // by their paths
  UnderLock<std::unordered_map<NodeId, Steady>> just_copied_;  // old places of moves
  // What a moved file has left at its old places, and is not gone from there yet.
  UnderLock<std::unordered_multimap<NodeId, NodeId>> left_by_;
  UnderLock<std::unordered_map<NodeId, Copies>> copied_below_;  // originals are left
  // By an attempt that failed half-way.
  UnderLock<std::unordered_map<NodeId, std::vector<Kept>>> kept_below_;
  UnderLock<std::unordered_multimap<std::string, NodeId>> copy_sources_;
  UnderLock<std::deque<NodeId>> open_contents_;  // oldest first; some are closed
  UnderLock<std::vector<Rule>> rules_;
  UnderLock<bool> awaited_rules_{false};  // some are for names not known here
  UnderLock<bool> pins_changed_{false};   // something is to be fetched, perhaps
  UnderLock<ino_t> index_inode_{0};
  UnderLock<bool> shut_out_{false};
  UnderLock<std::set<NodeId>> respelled_;  // to go aside: the store has one name for two
  UnderLock<std::deque<std::pair<Steady, std::int64_t>>> deletions_;  // when, intent
  UnderLock<std::int64_t> hold_from_{0};  // this intent and later; 0: none are held
  UnderLock<DriveLimits> limits_;
  // all that is older, and what was known to be here up to that round, is on the disk
  UnderLock<Nanos> synced_at_{0};
  UnderLock<std::int64_t> names_synced_{0};  // intents promised by a folder's fsync
  UnderLock<std::int64_t> synced_round_{0};
  UnderLock<bool> cache_changed_{false};  // since then

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
