// One store protocol behind one contract. A Provider serves one folder of one account (a drive's
// root); every path is relative to it, its parts joined by "/", spelled as the store spells them.
// The engine turns parts into file names and back (engine/api/naming.h); nothing here touches a
// disk.
//
// Thread-safe: any number of calls at a time. Calls block, with deadlines of their own; each takes
// a Cancel (may be null). Transient faults are retried inside, with back-off; what comes out as
// kUnavailable, kThrottled or kTimeout has been tried several times.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/clock.h"
#include "base/error.h"

namespace pargeter {

class CancelToken;
using Cancel = std::shared_ptr<CancelToken>;

enum class Kind { kFile, kFolder, kSymlink };

// What a file carries besides its bytes. Unset: the store does not know (or was not asked).
struct Attributes {
  std::optional<std::uint32_t> mode;  // permission bits
  std::optional<Nanos> mtime;
  std::optional<std::uint32_t> uid, gid;
  std::optional<std::string> symlink;  // target: the entry is a symbolic link
  // Who wrote it, [a-z0-9.] up to 64: so that a writer knows his own work again when the answer to
  // it was lost. "": unknown, or a store that carries no such thing.
  std::string origin;
};

// What the store says of one object. `version` names its content and is compared for equality
// only; two objects with the same version at the same path are the same bytes.
struct Entry {
  std::string name;  // last part of its path, as the store spells it; may be "" (see naming.h)
  Kind kind = Kind::kFile;
  std::uint64_t size = 0;
  Nanos modified = 0;  // by the store's clock
  std::string version;
  Attributes attributes;
  bool attributes_known = false;  // false: a listing, which does not carry them
  bool marker = false;            // folders: an object of its own keeps it alive while empty
  bool may_write = true;          // false: the account has no right to change it
};

struct ListPage {
  std::vector<Entry> entries;
  std::string next;       // opaque; "" = this was the last page
  bool may_write = true;  // false: nothing can be put into the folder, or taken out
};

// What changed since some moment, in the order in which it did; a thing once, as it is now.
struct Changes {
  struct One {
    std::string path;            // relative to the provider's root; of folders too without "/"
    std::optional<Entry> entry;  // nothing: it is gone
  };
  std::vector<One> all;
  std::string next;   // names the moment up to which this goes
  bool more = false;  // ask again at once
};

// What must be true at the store for a change to happen: else kChanged and nothing is changed.
struct Precondition {
  enum class Want { kAnything, kNothingThere, kThisVersion } want = Want::kAnything;
  std::string version;
  bool seen_just_now = false;
  static Precondition Anything() { return {}; }
  static Precondition Absent() { return {Want::kNothingThere, {}}; }
  static Precondition Is(std::string v) { return {Want::kThisVersion, std::move(v)}; }
  // The same, and the store said so a moment ago: one that cannot guard it is not asked again.
  static Precondition StillIs(std::string v) { return {Want::kThisVersion, std::move(v), true}; }
};

// How far a store guards a precondition by itself.
enum class Guard {
  kUnknown,    // not tried yet
  kAtomic,     // the store refuses: no window
  kCheckFirst  // we look, then act: a small window
};

struct Capabilities {
  bool real_folders = false;   // folders exist by themselves, also when nothing is in them
  bool moves_folders = false;  // and can be moved in one request
  bool moves_files = false;    // files too, and they keep their version
  bool server_copy = true;
  bool tells_writer = false;          // what is written carries its origin from its first moment on
  bool exact_times = true;            // of change, that attributes carry; else to the second
  bool carries_owners = true;         // numbers of users and groups
  bool keeps_attributes = true;       // mode and time of change, of files and folders
  bool holds_links = true;            // symbolic links, by whatever means
  Guard create = Guard::kUnknown;     // "only if nothing is there"
  Guard replace = Guard::kUnknown;    // "only if it is this version"
  std::uint64_t multipart_above = 0;  // bytes; larger files go up in parts; 0: never
  std::uint64_t part_size = 0;
  // Bytes; larger files are copied in parts: died half-way, an upload is left; 0: never.
  std::uint64_t copies_in_parts_above = 0;
};

// What an account holds and still takes, in bytes.
struct Quota {
  std::uint64_t used = 0, available = 0;
};

// Receives a file's bytes. Called on a network thread: be quick. `Begin` comes once per attempt
// and gives what the answer's headers said; a second Begin starts again at the first byte. The
// bytes of a whole file count only when the call that sends them has returned well: what its digest
// says comes last.
class ReadSink {
 public:
  virtual ~ReadSink() = default;
  virtual Status Begin(const Entry& entry) = 0;
  virtual Status Write(std::string_view data) = 0;
};

// Gives a file's bytes; positioned, so that a retry can start again. Called on a network thread.
class WriteSource {
 public:
  virtual ~WriteSource() = default;
  virtual std::uint64_t Size() const = 0;
  virtual Result<std::size_t> Read(char* data, std::size_t size, std::uint64_t offset) = 0;
};

// Takes all bytes of a version, from the first to the last, that came piece by piece. One caller at
// a time.
class ContentCheck {
 public:
  virtual ~ContentCheck() = default;
  virtual void Add(std::string_view piece) = 0;
  // After the last byte: is their digest the version? kWrong: it is another; some versions only
  // look like a digest. kUnknown: another, but not of a kind that would tell, as far as the store
  // has said how the version came to it; once it is looked at there may be more to say.
  enum class Verdict { kRight, kWrong, kUnknown };
  virtual Verdict Judge() = 0;
};
// Of all that `source` has; kUnknown if that cannot be read.
ContentCheck::Verdict JudgeAll(ContentCheck* check, WriteSource* source);

// An upload in parts that survives a restart: keep `id`, give it back to Resume.
struct PartedUpload {
  std::string path;
  std::string id;
};
struct UploadedPart {
  int number = 0;  // from 1
  std::uint64_t size = 0;
  std::string tag;  // the store's name for the part
};

struct TestReport {
  struct Step {
    std::string what;
    bool ok = false;
    std::string detail;
  };
  std::vector<Step> steps;
  std::optional<Error> failure;
  std::string clock;  // what is wrong with this machine's clock, if the store's says so

  // Adds a step: `detail` if `outcome` is good, else its error, which becomes the failure. Returns
  // whether it is good.
  bool Add(std::string what, const Status& outcome, std::string detail);
  // Fills in `clock`; `ahead`: as far as this machine's clock is ahead of the store's.
  void CompareClocks(Nanos ahead);
};

class Provider {
 public:
  virtual ~Provider() = default;
  // Is this version a digest of the content, as HoldsContent understands it?
  virtual bool TellsContent(const std::string& version) const = 0;
  // Of a file of `size` bytes; nullptr where the version says nothing of its content that could be
  // compared. Not to outlive the provider.
  virtual std::unique_ptr<ContentCheck> CheckOf(const std::string& version, std::uint64_t size) {
    (void)version, (void)size;
    return nullptr;
  }

  virtual Capabilities Can() const = 0;

  // One page of the direct children of `folder`, sorted by the store. `folder` is "" for the root
  // and else ends in "/": a part of a path may be empty, so "/" is a folder below the root. Sizes
  // and versions, no attributes. A folder that is not there gives an empty page on stores without
  // real folders.
  virtual Result<ListPage> List(const std::string& folder, const std::string& next,
                                const Cancel& cancel) = 0;
  // Every object below `folder`, at any depth; names are paths relative to it.
  virtual Result<ListPage> ListDeep(const std::string& folder, const std::string& next,
                                    const Cancel& cancel) = 0;
  // One object with its attributes. kNotFound if there is neither object nor folder.
  virtual Result<Entry> Look(const std::string& path, const Cancel& cancel) = 0;
  Result<std::optional<Entry>> LookIfThere(const std::string& path, const Cancel& cancel) {
    Result<Entry> there = Look(path, cancel);
    if (there.ok()) return std::optional<Entry>(std::move(*there));
    if (there.error().code == Code::kNotFound) return std::optional<Entry>();
    return there.error();
  }
  // A folder with its own attributes. kNotFound: the store has nothing that would carry them.
  virtual Result<Entry> LookFolder(const std::string& path, const Cancel& cancel) {
    auto there = Look(path, cancel);
    if (there.ok() && there->kind != Kind::kFolder)
      return Error(Code::kNotFound, "a file has the folder's place");
    return there;
  }

  // Bytes [offset, offset + size) of that version, or of whatever is there if `version` is "".
  // kChanged: another version is there. kDamaged: the body was not what its headers promised.
  virtual Status Read(const std::string& path, const std::string& version, std::uint64_t offset,
                      std::uint64_t size, ReadSink* sink, const Cancel& cancel) = 0;

  // Stores a whole file in one request and says what is there now. The store's answer is checked
  // against our own digest. A returned value means that the store has acknowledged it.
  virtual Result<Entry> Write(const std::string& path, WriteSource* source,
                              const Attributes& attributes, const Precondition& only_if,
                              const Cancel& cancel) = 0;

  // The same in parts, where multipart_above is not 0. Parts may go up in parallel. Complete is
  // idempotent.
  virtual Result<PartedUpload> BeginParts(const std::string& path, const Attributes& attributes,
                                          const Cancel& cancel);
  virtual Result<UploadedPart> WritePart(const PartedUpload& upload, int number, WriteSource* part,
                                         const Cancel& cancel);
  virtual Result<std::vector<UploadedPart>> ListParts(const PartedUpload& upload,
                                                      const Cancel& cancel);
  virtual Result<Entry> CompleteParts(const PartedUpload& upload,
                                      const std::vector<UploadedPart>& parts,
                                      const Precondition& only_if, const Cancel& cancel);
  virtual Status AbortParts(const PartedUpload&, const Cancel&) { return {}; }
  virtual Result<std::vector<PartedUpload>> ListUploads(const Cancel&) {
    return std::vector<PartedUpload>();
  }

  // A copy made by the store of exactly `version` of `from`. With `attributes`, the copy carries
  // those instead of the original's. `size` as last known decides between one request and parts.
  virtual Result<Entry> Copy(const std::string& from, const std::string& version,
                             std::uint64_t size, const std::string& to,
                             const Attributes* attributes, const Precondition& only_if,
                             const Cancel& cancel) = 0;

  // kChanged if another version is there; success if nothing is.
  virtual Status Remove(const std::string& path, const Precondition& only_if,
                        const Cancel& cancel) = 0;
  // Many at once; those that could not be removed, with the reason. A store that guards such a
  // request refuses (kChanged) what is not the version of a moment ago; others delete it.
  struct Removal {
    std::string path;
    std::string version;  // "": whichever
  };
  virtual Result<std::vector<std::pair<std::string, Error>>> RemoveMany(
      const std::vector<Removal>& removals, const Cancel& cancel) = 0;

  virtual Status MakeFolder(const std::string& path, const Attributes& attributes,
                            const Cancel& cancel) = 0;
  // Only an empty one goes; one with something in it stays, and that is no error.
  virtual Status RemoveFolder(const std::string& path, const Cancel& cancel) = 0;
  // Where folders can be moved (Capabilities): the folder with all in it, in one request. kChanged:
  // something is at `to` already. kNotFound: no folder is at `from`; a file may be, and stays. With
  // a folder at `to` then, it is taken for a move whose answer was lost.
  virtual Status MoveFolder(const std::string& from, const std::string& to, const Cancel& cancel) {
    (void)from, (void)to, (void)cancel;
    return Error(Code::kUnsupported, "this store cannot move folders");
  }
  // Where files can be moved: exactly `version` of `from`, which keeps it. kNotFound: it is not at
  // `from`, perhaps since a move whose answer was lost.
  virtual Result<Entry> MoveFile(const std::string& from, const std::string& version,
                                 const std::string& to, const Precondition& only_if,
                                 const Cancel& cancel) {
    (void)from, (void)version, (void)to, (void)only_if, (void)cancel;
    return Error(Code::kUnsupported, "this store cannot move files");
  }

  // Finds out how far the store guards preconditions, by trying them on an object of its own with
  // a random name, which it deletes again.
  virtual Status Probe(const Cancel& cancel) = 0;
  // What a former Probe found, so that it need not be repeated.
  virtual std::string ProbeResult() const = 0;
  virtual void AdoptProbeResult(const std::string& result) = 0;

  // Is what `entry` at `path` describes the very content of `source`? Then an
  // upload whose answer was lost had arrived.
  // Where versions say nothing about content, what is at `path` is read back and compared; an error
  // then says that nobody knows.
  virtual Result<bool> HoldsContent(const std::string& path, const Entry& entry,
                                    WriteSource* source, const Cancel& cancel) = 0;
  // Takes away what an attempt to write `path` by `origin` may have left that was given up, if this
  // store needs such names of its own for it. No error if there is nothing.
  virtual Status DropUnfinished(const std::string& path, const std::string& origin,
                                const Cancel& cancel) {
    (void)path, (void)origin, (void)cancel;
    return {};
  }

  // Asks something small once, without retries: does the store answer within `patience`? Any
  // complete answer counts.
  virtual Status Ping(Duration patience, const Cancel& cancel) {
    (void)patience;
    const auto seen = Look("", cancel);
    return seen.ok() || seen.error().code == Code::kNotFound ? Status() : Status(seen.error());
  }
  // When the store last gave a sign of life to any request.
  virtual Steady LastSign() const { return std::chrono::steady_clock::now(); }

  // What the store has kept of a file, the newest (that is there now) first. kUnsupported: it keeps
  // nothing, or does not say.
  struct Kept {
    std::string id;  // opaque
    std::uint64_t size = 0;
    Nanos modified = 0;
    bool current = false;
  };
  virtual Result<std::vector<Kept>> Versions(const std::string& path, const Cancel&) {
    (void)path;
    return Error(Code::kUnsupported, "this store keeps no former versions");
  }
  // One of them, whole.
  virtual Status ReadKept(const std::string& path, const std::string& id, ReadSink* sink,
                          const Cancel& cancel) {
    (void)path, (void)id, (void)sink, (void)cancel;
    return Error(Code::kUnsupported, "this store keeps no former versions");
  }
  // An address that opens the file: for `lasts` for whoever has it where the store can sign such
  // (0: as long as is usual), else for those whom the store lets in. kUnsupported: not for a time.
  struct Address {
    std::string url;
    Duration lasts{0};  // 0: as long as the file is there
    bool open_to_all = false;
  };
  virtual Result<Address> Link(const std::string& path, Duration lasts) {
    (void)path, (void)lasts;
    return Error(Code::kUnsupported, "files of this store have no address");
  }

  // A feed of changes: a name for this moment, to ask from later on. kUnsupported: there is none.
  virtual Result<std::string> FeedStart(const Cancel&) {
    return Error(Code::kUnsupported, "this store does not tell what changed");
  }
  // One request. kStale: that moment means nothing to the store any more: look at everything.
  virtual Result<Changes> ChangesSince(const std::string& moment, const Cancel& cancel) {
    (void)moment, (void)cancel;
    return Error(Code::kUnsupported, "this store does not tell what changed");
  }

  // Nothing: the store does not say, and is not asked again.
  virtual Result<std::optional<Quota>> SpaceOfAccount(const Cancel&) {
    return std::optional<Quota>();
  }

  // Steps from resolving the name to reading and (unless the account may only read) writing.
  virtual TestReport Test(bool may_write, const Cancel& cancel) = 0;
};

// Opens one folder of the account that stores are listed under; "" lists the top (buckets).
class Browser {
 public:
  virtual ~Browser() = default;
  virtual Result<std::vector<Entry>> Browse(const std::string& folder, const Cancel& cancel) = 0;
};

// A symbolic link on a store that knows none: an object whose metadata has the target, and whose
// body says so to people, padded to a size that hardly any file has. A listing tells sizes but no
// metadata, so only objects of just this size have to be asked what they are.
// A long target, which metadata has no room for, is in the body alone, of another such size.
constexpr std::uint64_t kSymlinkObjectSize = 1789, kLongSymlinkObjectSize = 4177;
constexpr std::size_t kLongestInMetadata = 1200, kLongestTarget = 4095;  // bytes of a target
inline bool MayBeSymlink(std::uint64_t size) {
  return size == kSymlinkObjectSize || size == kLongSymlinkObjectSize;
}
std::string SymlinkBody(const std::string& target);
// The target of `length` bytes in such a body; "" if it is none.
std::string TargetInBody(std::string_view body, std::size_t length);

// kStoreFault: the store has acknowledged a change of `path`, and a look does not bear that out.
Error NotDone(const std::string& path);

// True for the names of our own short-lived objects at a store, which no listing shows.
bool IsOwnScratchName(std::string_view name);
constexpr std::string_view kScratchPrefix = ".pargeter-scratch-";

}  // namespace pargeter
