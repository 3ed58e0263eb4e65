// A mount from start to end, in this process: what it shows, signals, and what a service manager
// wants to know.
#pragma once

#include <signal.h>

#include <atomic>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "base/mutex.h"
#include "engine/drive.h"
#include "face/mirror/mirror.h"
#include "face/stream/session.h"
#include "joined_drive.h"
#include "served_drive.h"
#include "service/notify.h"
#include "world.h"

namespace pargeter::app {

class Serving : public MountControl {
 public:
  Serving(const World& world, const DriveSettings& settings);
  ~Serving() override;
  // Returns when it is unmounted. `ready` is called once the mount answers.
  Status Run(const std::function<void()>& ready);

  Result<Json> Unmount(bool now, Duration patience) override;
  Json About() const override;

 private:
  Status Open();
  Status Begin();
  Status ShowAsMount();
  Status ShowAsDirectory();
  // Until EndFace, or until somebody unmounts.
  Status Serve();
  // kBusy: somebody uses the mount.
  Status EndFace(bool now);
  void Stop();
  std::vector<Drive*> drives() const;
  DriveSettings settings() const { return alone_ ? alone_->settings() : joined_->settings(); }
  Result<Json> Refresh() { return alone_ ? alone_->Refresh() : joined_->Refresh(); }
  void WatchSignals(sigset_t signals);
  void ReportLoop();  // to the service manager: what it does, and that it is alive
  void FlushAtEnd();
  Status FlushFor(Duration patience);

  const World& world_;
  const Notify notify_;
  const DriveSettings begun_;
  // one of the two
  std::unique_ptr<ServedDrive> alone_;
  std::unique_ptr<JoinedDrive> joined_;
  std::unique_ptr<Shown> shown_;
  // one of the two
  std::unique_ptr<StreamFace> face_;
  std::unique_ptr<MirrorFace> mirror_;
  const Nanos started_;
  Mutex mutex_;
  CondVar changed_;
  bool ending_ GUARDED_BY(mutex_) = false;
  bool mirror_ended_ GUARDED_BY(mutex_) = false;
  const std::string name_, at_;
  std::atomic<bool> by_command_{false}, asked_{false}, hurry_{false}, ended_{false};
};

}  // namespace pargeter::app
