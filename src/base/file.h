// The local disk: an owned descriptor, the few whole-file operations that must be atomic, and the
// Disk interface through which index and cache reach their files so that tests can make it fail.
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <string>
#include <string_view>

#include "base/error.h"

namespace pargeter {

// Owns a file descriptor; closes it. Movable. -1 is "none".
class Fd {
 public:
  Fd() = default;
  explicit Fd(int fd) : fd_(fd) {}
  Fd(Fd&& other) noexcept : fd_(other.Release()) {}
  Fd& operator=(Fd&& other) noexcept;
  ~Fd() { Reset(); }
  int get() const { return fd_; }
  explicit operator bool() const { return fd_ >= 0; }
  int Release();
  void Reset();

 private:
  int fd_ = -1;
};

// What the cache needs of a file system. Offsets and lengths are bytes. Calls block on the disk;
// thread-safe for distinct descriptors and for positioned I/O on the same one. EINTR is retried.
class Disk {
 public:
  virtual ~Disk() = default;
  virtual Result<Fd> Open(const std::string& path, int flags, unsigned mode = 0600);
  // Reads up to `size` bytes; fewer only at the end of the file.
  virtual Result<std::size_t> ReadAt(int fd, char* data, std::size_t size, std::uint64_t offset);
  // Writes all of `data` or fails; a failure may leave a part of it written.
  virtual Status WriteAt(int fd, std::string_view data, std::uint64_t offset);
  virtual Status Truncate(int fd, std::uint64_t size);
  virtual Status SyncData(int fd);  // fdatasync: after it a power cut keeps the bytes
  virtual Status SyncFolder(const std::string& path);  // makes names in it survive a power cut
  virtual Status SyncAll(const std::string& path);     // everything of the disk that `path` is on
  virtual Status Rename(const std::string& from, const std::string& to);
  virtual Status Remove(const std::string& path);  // kNotFound is not an error
  virtual Status Punch(int fd, std::uint64_t offset, std::uint64_t size);  // frees whole blocks
  virtual Status Allocate(int fd, std::uint64_t size);               // takes room for so many zeros
  virtual Result<std::uint64_t> FreeBytes(const std::string& path);  // to this user
};
Disk& RealDisk();

Result<std::string> ReadFile(const std::string& path, std::uint64_t limit = 16u << 20);
// Replaces the file atomically and durably: temporary name, sync, rename, sync of the folder.
Status WriteFileAtomically(const std::string& path, std::string_view content, unsigned mode);
// Makes the folder and its parents, all 0700 where they are new.
Status MakeFolders(const std::string& path);
// A lock on `path` held until the descriptor closes; kBusy if another process has it. The file
// then holds our process id.
Result<Fd> LockFile(const std::string& path);

}  // namespace pargeter
