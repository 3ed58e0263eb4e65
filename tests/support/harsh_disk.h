// A disk that fails, dies and loses power on command: for the engine's files, and, as SQLite's
// default file system while it exists, for the index as well. One at a time.
#pragma once

#include <sys/stat.h>
#include <sys/types.h>

#include <atomic>
#include <functional>
#include <map>
#include <random>
#include <string>
#include <vector>

#include "base/file.h"
#include "base/mutex.h"
#include "cache/range_set.h"
#include "support/hook.h"

namespace pargeter::test {

class HarshDisk : public Disk {
 public:
  HarshDisk();
  ~HarshDisk() override;

  // Changing operations are counted from 1. From operation `n` on none has an effect: the process
  // was killed there, whatever it does afterwards. Of a write that fails, or in which it is killed,
  // the first half is written, as real disks do.
  void DieAt(std::uint64_t n) { die_at_ = n; }
  void FailAt(std::uint64_t n) { fail_at_ = n; }  // that one fails
  void FailShare(double share, std::uint64_t seed);
  Hook<void()> on_read;                    // each read of a file, done
  std::function<void()> on_write;          // each write to a file waits for it
  std::function<void()> on_sync;           // each sync of a file waits for it
  std::function<std::uint64_t()> on_free;  // tells how much is free, if not `free`
  void Heal();                             // no faults from here on; also raises the dead
  bool dead() const { return dead_; }
  std::uint64_t operations() const { return count_; }
  std::atomic<bool> full{false}, broken{false};
  std::atomic<std::uint64_t> free{100ull
                                  << 30};  // bytes; what others do on the real disk is not ours

  std::atomic<std::uint64_t> bytes_read{0};
  // Notes what each sync makes sure of, below `folder`, one on each file system that is used,
  // before anything happens there. PowerCut then drops, tears and reorders what was not synced, on
  // all at once; call it when nothing has the files open any more.
  void WatchPower(const std::string& folder);
  void PowerCut(std::uint64_t seed);

  Result<Fd> Open(const std::string& path, int flags, unsigned mode) override;
  Result<std::size_t> ReadAt(int fd, char* data, std::size_t size, std::uint64_t at) override;
  Status WriteAt(int fd, std::string_view data, std::uint64_t offset) override;
  Status Truncate(int fd, std::uint64_t size) override;
  Status SyncData(int fd) override;
  Status SyncFolder(const std::string& path) override;
  Status SyncAll(const std::string& path) override;
  Status Rename(const std::string& from, const std::string& to) override;
  Status Remove(const std::string& path) override;
  Status Punch(int fd, std::uint64_t offset, std::uint64_t size) override;
  Result<std::uint64_t> FreeBytes(const std::string& path) override;

  // what the file system under SQLite calls
  struct FileId {
    dev_t device = 0;
    ino_t inode = 0;
    auto operator<=>(const FileId&) const = default;
  };
  bool Gate();  // false: this operation must not happen
  // Before a change, with what tells the content until then; and after a sync.
  using Before = std::function<std::string()>;
  void Wrote(FileId file, std::uint64_t offset, std::string_view data, const Before& before,
             bool by_sectors = false, bool hole = false);
  void Cut(FileId file, std::uint64_t size, const Before& before);
  void Synced(FileId file);
  void Made(const std::string& path);
  void FolderSynced(const std::string& folder);
  bool watching() const { return !volumes_.empty(); }
  void Removing(const std::string& path);

 private:
  struct Change {
    std::uint64_t offset = 0;
    std::string data;
    bool cut = false;              // to `offset` bytes
    bool hole = false;             // of the zeros that `data` is
    timespec time{0, UTIME_OMIT};  // of the file's last change before this one
  };
  struct Image {
    std::string content;
    RangeSet written;  // the rest is a hole
    void Apply(const Change& change);
  };
  struct File {
    Image synced;
    timespec synced_time{0, UTIME_OMIT};  // of its last change, as it is on the disk
    timespec time{0, UTIME_OMIT};         // of its last change
    std::vector<Change> since;
    bool by_sectors = false;
  };
  struct NameChange {
    std::string from, to;  // made: to; removed: from; renamed: both
    std::string saved;     // what stood at `to`, or what was removed
  };
  // A file system: it journals names in order, and knows nothing of another's.
  struct Volume {
    std::string folder, trash;
    std::vector<NameChange> names;
    std::size_t synced = 0;  // so many of them
    void Undo(std::mt19937_64* dice);
  };
  static Image AllWritten(std::string content);
  Status Fault() const;
  void NoteState(int fd);
  Volume& VolumeOf(const std::string& path) REQUIRES(mutex_);
  static std::string Save(const Volume& volume, const std::string& path);
  void Tear(const std::string& path, const File& file, std::mt19937_64* dice);

  std::atomic<std::uint64_t> count_{0}, die_at_{0}, fail_at_{0};
  std::atomic<bool> dead_{false};
  Mutex mutex_;
  double fail_share_ GUARDED_BY(mutex_) = 0;
  std::mt19937_64 dice_ GUARDED_BY(mutex_);
  std::vector<Volume> volumes_;  // (which there are is settled before anything happens)
  std::map<FileId, File> files_ GUARDED_BY(mutex_);
};

}  // namespace pargeter::test
