// A joined drive in the process of its mount: finds what is to be shown, starts each as a part of
// its own, and looks again from time to time. What is gone at the store is hidden, never ended,
// while it is mounted: it may have open files, or changes that wait.
#pragma once

#include <atomic>
#include <memory>
#include <optional>
#include <string>
#include <thread>
#include <vector>

#include "base/file.h"
#include "base/mutex.h"
#include "config/joining.h"
#include "face/stream/shown.h"
#include "served_drive.h"

namespace pargeter::app {

class JoinedDrive {
 public:
  // `mount` must outlive it. kBusy: another process has it.
  static Result<std::unique_ptr<JoinedDrive>> Open(const World& world,
                                                   const DriveSettings& settings,
                                                   MountControl* mount);
  ~JoinedDrive();

  // Starts the parts that are known; if none can be shown, looks for what there is. The error says
  // why there is nothing to show; an account in which nothing matches yet is none.
  Status Begin();
  Status Listen() { return control_.Start(); }
  void ShownBy(StreamFace* face);  // from here on it looks again by itself
  Result<Json> Refresh();
  void Stop();

  Shown* shown() { return &shown_; }
  std::vector<Drive*> drives() const EXCLUDES(mutex_);
  DriveSettings settings() const EXCLUDES(mutex_);

 private:
  struct Part {
    DriveSettings settings;
    std::unique_ptr<ServedDrive> served;  // none yet: see `error`
    InodeNumber base = 0;
    bool visible = false;
    std::string error;
  };
  struct Found {
    std::vector<JoinSource> sources;
    std::vector<std::string> silent;  // accounts that did not say all that they have
    std::optional<Error> error;       // of the first of these
  };
  JoinedDrive(const World& world, const DriveSettings& settings, MountControl* mount);
  Result<Json> Answer(const std::string& method, const Json& params,
                      const ControlServer::Gone& gone);
  Json Report() const EXCLUDES(mutex_);
  void LookLoop() EXCLUDES(mutex_);
  // Looks at the stores, and brings what is shown in line with what they have.
  void Look() EXCLUDES(mutex_, look_mutex_);
  Found FindAll(const DriveSettings& settings) const;
  Status Adopt(const Found& found) REQUIRES(look_mutex_) EXCLUDES(mutex_);
  Status AddNew(const Found& found, std::vector<DriveSettings>* known);
  void StartParts() REQUIRES(look_mutex_) EXCLUDES(mutex_);
  void StartOne(Part* part) EXCLUDES(mutex_);
  void ShowAndHide(const Found& found) REQUIRES(look_mutex_) EXCLUDES(mutex_);
  void NoteOnce(const std::string& trouble) EXCLUDES(mutex_);
  std::vector<Part*> parts() const EXCLUDES(mutex_);

  const World& world_;
  MountControl* const mount_;
  const std::string name_;
  std::optional<Fd> lock_;
  NamedControl control_;
  Shown shown_;
  std::thread looker_;
  std::atomic<bool> looked_{false};  // at the stores, once at least
  Mutex look_mutex_;                 // one look at a time
  mutable Mutex mutex_;
  CondVar changed_;
  StreamFace* face_ GUARDED_BY(mutex_) = nullptr;
  bool ending_ GUARDED_BY(mutex_) = false;
  DriveSettings settings_ GUARDED_BY(mutex_);
  std::vector<std::unique_ptr<Part>> parts_ GUARDED_BY(mutex_);  // only ever grows
  std::string trouble_ GUARDED_BY(mutex_);  // of the last look, "" if all went well
};

}  // namespace pargeter::app
