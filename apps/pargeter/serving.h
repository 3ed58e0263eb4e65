// One mounted drive from start to end, in this process: the mount, the control socket, signals, and
// what a service manager wants to know.
#pragma once

#include <signal.h>

#include <atomic>
#include <functional>
#include <memory>
#include <string>

#include "base/mutex.h"
#include "engine/drive.h"
#include "face/stream/session.h"
#include "service/notify.h"
#include "world.h"

namespace pargeter::app {

class Serving {
 public:
  Serving(const World& world, DriveSettings settings);
  ~Serving();
  // Returns when the drive is unmounted. `ready` is called once the mount answers.
  Status Run(const std::function<void()>& ready);

 private:
  // The drive's threads may tell the face of changes before it is mounted: they go nowhere.
  struct Forward : ChangeListener {
    std::atomic<StreamFace*> face{nullptr};
    void ContentChanged(NodeId id) override {
      if (StreamFace* f = face) f->ContentChanged(id);
    }
    void AttributesChanged(NodeId id) override {
      if (StreamFace* f = face) f->AttributesChanged(id);
    }
    void NameChanged(NodeId parent, const std::string& name) override {
      if (StreamFace* f = face) f->NameChanged(parent, name);
    }
  };
  Status Begin();
  void WatchSignals(sigset_t signals);
  void ReportLoop();  // to the service manager: what it does, and that it is alive
  void FlushAtEnd();
  Result<Json> Answer(const std::string& method, const Json& params);
  Result<Json> Unmount(bool now, Duration patience);
  // Takes in what the configuration says now; names what changed and what needs a remount.
  Result<Json> Refresh();

  const World& world_;
  const Notify notify_;
  Forward forward_;
  std::unique_ptr<Drive> drive_;
  std::unique_ptr<StreamFace> face_;
  Nanos started_ = 0;
  Mutex mutex_;
  CondVar changed_;
  bool ending_ GUARDED_BY(mutex_) = false;
  DriveSettings settings_ GUARDED_BY(mutex_);
  const std::string name_, at_;
  std::atomic<bool> by_command_{false}, asked_{false}, hurry_{false}, ended_{false};
};

}  // namespace pargeter::app
