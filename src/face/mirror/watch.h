// Tells which folders of a directory programs have changed something in (inotify(7)). A folder is
// watched from the call of Watch on: watch first, then look. Thread-safe.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <thread>
#include <unordered_map>

#include "base/error.h"
#include "base/file.h"
#include "base/mutex.h"

namespace pargeter {

class DirectoryWatch {
 public:
  // Called on a thread of its own: a folder, by the path that it had when it was watched last.
  using Changed = std::function<void(const std::string& folder)>;
  // Events were lost, or there are fewer watches than folders: everything may have changed.
  using Lost = std::function<void()>;

  static Result<std::unique_ptr<DirectoryWatch>> Begin(std::string at, Changed changed, Lost lost);
  ~DirectoryWatch();  // waits for calls under way
  DirectoryWatch(const DirectoryWatch&) = delete;
  DirectoryWatch& operator=(const DirectoryWatch&) = delete;

  // kTooMany: the system allows no more watches; Changed is not called for that folder. kNotFound:
  // it is not there.
  Status Watch(const std::string& folder);

 private:
  DirectoryWatch(std::string at, Changed changed, Lost lost)
      : at_(std::move(at)), changed_(std::move(changed)), lost_(std::move(lost)) {}
  void Run();
  void Handle(const char* events, std::size_t size);

  const std::string at_;
  const Changed changed_;
  const Lost lost_;
  Fd inotify_, stop_;
  Mutex mutex_;
  std::unordered_map<int, std::string> folders_ GUARDED_BY(mutex_);  // by watch
  std::thread thread_;
};

}  // namespace pargeter
