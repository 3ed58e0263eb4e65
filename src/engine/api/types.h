// What goes into a drive and comes out of it: options, attributes, open files, its state in sum.
// Plain data, not synchronised unless a field says so; sizes are bytes, times wall-clock
// nanoseconds.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/file.h"
#include "base/mutex.h"
#include "index/index.h"

namespace pargeter {

struct Content;

std::vector<std::string> CommonCrawlers();

// What may change while the drive is mounted.
struct DriveLimits {
  std::uint64_t cache_limit = 10ull << 30;
  double keep_free = 0.1;
  Duration fresh_for{5000};  // a listing this old is asked for again when it is looked at
  // More deletions than this within a minute, and more than this share of all files, are held back
  // from the store until somebody decides. 0: never.
  std::uint64_t hold_files = 1000;
  double hold_share = 0.25;
  // Programs, by the kernel's name for them, that get only what is here and the ends of each file,
  // at most so many bytes at each open.
  std::vector<std::string> crawlers = CommonCrawlers();
  std::uint64_t crawler_allowance = 256 * 1024;
};

struct DriveOptions : DriveLimits {
  std::string name;
  std::string state_folder;  // index.db, pending/, lock, spare
  std::string cache_folder;
  std::uint64_t spare_room = 4u << 20;  // kept on the index's disk for when others have filled it
  Duration quiet{1000};                 // a change waits so long for the next one before it goes up
  Duration patience{60000};             // the longest that a read waits for the store
  Duration retry_pause{2000};           // after a failed upload; doubles with each further failure
  Duration feed_pause{2000};        // between looks at what the store tells, while one works here
  Duration trial_pause{1000};       // between looks whether the store is back; doubles up to 15 s
  Duration hold_quiet{2000};        // deletions go so long after the last of a sweep
  Duration may_be_late{3000};       // a request without an answer may still reach the store so long
  Duration copy_patience{120000};   // who has a copy made at the store waits so long for it
  Duration open_patience{300'000};  // a small file held open for writing goes up about as often
  Duration watch_every{10000};      // between looks after what is visited, fetched and written
  Duration leftover_for{3600'000};  // an old short-lived object goes if it stays unchanged so long
  bool read_only = false;
  // The face keeps the files itself: what passes here on its way up or down is not kept.
  bool passes_through = false;
  bool shared = false;             // other users look in: what is not known yet is not for them
  std::uint32_t uid = 0, gid = 0;  // owner of everything that says nothing else
  std::string host = "here";       // in the names of conflict copies
  int upload_workers = 32;
  int fetch_workers = 8;
  std::size_t remembered = 20000;   // nodes in memory that nobody needs just now
  std::size_t open_contents = 500;  // files kept open; beyond that only what is in use
  std::string boot_id;              // another one than last time: what was not synced may be lost
  const Clock* clock = &SystemClock();
  Disk* disk = &RealDisk();
};

struct Attr {
  NodeId id = kNoNode;
  NodeKind kind = NodeKind::kFile;
  std::uint32_t mode = 0, uid = 0, gid = 0;
  std::uint64_t size = 0, on_disk = 0;
  Nanos mtime = 0, ctime = 0, atime = 0;
  bool deleted = false;  // open, but without a name
};

struct AttrChange {
  std::optional<std::uint32_t> mode, uid, gid;
  std::optional<std::uint64_t> size;
  std::optional<Nanos> mtime = {}, atime = {};  // the latter is kept on this machine
};

// An open file. Belongs to the face from Open to Release; its fields are the drive's.
struct OpenFile {
  NodeId id = kNoNode;
  bool for_writing = false;
  std::shared_ptr<Content> content;
  bool mixed_versions = false;     // others still have an older version open
  bool kernel_pages_valid = true;  // false: pages that the kernel has are of another version
  // where a sequential reader is
  Mutex mu;
  std::uint64_t next GUARDED_BY(mu) = 0;
  std::uint64_t window GUARDED_BY(mu) = 0;
  std::uint64_t fetched_to GUARDED_BY(mu) = 0;
  // of a program that is held back
  std::string crawler GUARDED_BY(mu);
  std::uint64_t crawler_used GUARDED_BY(mu) = 0;
  bool held_back GUARDED_BY(mu) = false;
};
using OpenFilePtr = std::shared_ptr<OpenFile>;

struct DirEntry {
  Attr attr;
  std::string name;
  bool attributes_complete = true;  // false: the store must be asked before a stat is true
};

struct DriveStatus {
  Nanos offline_since = 0;
  PendingSummary pending;
  // Bytes on this disk, in all; those of them that wait for upload, and may not go.
  std::uint64_t cache_bytes = 0, cache_limit = 0, waiting_bytes = 0;
  std::string last_error;
  std::uint64_t uploading = 0;
  std::uint64_t held = 0;  // deletions of files that are held back
  Nanos held_since = 0;
  std::uint64_t conflicts = 0;
  bool state_gone = false;  // deleted under it: what waits is lost when the process ends
  Sums sums;                // of the whole drive
};

struct OpenedFile {
  OpenFilePtr file;
  Attr attr;
};

// A private file beside the waiting bytes, on the same disk, that is to become a content.
struct StagedFile {
  std::string path;
  std::uint64_t size = 0;
  std::uint32_t mode = 0644;
  Nanos mtime = 0;
};

enum class OpenIntent { kRead, kWrite, kTruncate };

enum class ReplaceTarget { kYes, kNo };

struct NodeState {
  Node node;
  std::string state;  // remote partial cached pinned pending conflict local
  Sums sums;          // folders: of what is below
};

// Why a waiting change is not done yet.
struct UploadDelay {
  int tries = 0;                     // in a row
  std::string why;                   // "": it has not been tried
  std::optional<Duration> next_try;  // from now; nothing: when what it waits for has ended
};

enum class ConflictChoice { kHere, kThere, kBoth };

struct PlacedRule {
  Rule rule;
  bool here = true;  // false: for a name that is not known here yet
};

}  // namespace pargeter
