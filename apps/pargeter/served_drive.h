// One drive at work in the process of a mount: alone, or one of several that the mount shows. It
// has a control socket of its own, so that commands find it by its name either way.
#pragma once

#include <memory>
#include <string>

#include "base/mutex.h"
#include "control/server.h"
#include "engine/drive.h"
#include "face/stream/session.h"
#include "world.h"

namespace pargeter::app {

// A control socket at its place, and the link in the state that says where it is: whoever knows the
// state finds the process.
class NamedControl {
 public:
  NamedControl(const World& world, const std::string& name, ControlServer::Handler handler);
  Status Start();
  void Stop();  // waits for answers that are being given

 private:
  const Paths& paths_;
  const std::string name_;
  ControlServer server_;
};

// What a drive's socket is asked and only the mount can tell.
class MountControl {
 public:
  virtual ~MountControl() = default;
  virtual Result<Json> Unmount(bool now, Duration patience) = 0;
  virtual Json About() const = 0;  // for `status`: the process, and since when
};

class ServedDrive {
 public:
  // Takes the drive's state for this process; asks the store nothing. `mount` must outlive it.
  static Result<std::unique_ptr<ServedDrive>> Open(const World& world,
                                                   const DriveSettings& settings,
                                                   MountControl* mount);
  ~ServedDrive();

  // Begins to work; errors of the first look at the store. `listener`: whom the drive tells of
  // changes instead of the face of ShownBy; has to outlive Stop.
  Status Contact(ChangeListener* listener = nullptr);
  Status Listen();
  void ShownBy(StreamFace* face, InodeNumber base) { listener_.Attach(face, base); }
  // Takes in what the configuration says now; names what changed and what needs a remount.
  Result<Json> Refresh() EXCLUDES(mutex_);
  void Stop();

  Drive& drive() { return *drive_; }
  DriveSettings settings() const EXCLUDES(mutex_);

 private:
  ServedDrive(const World& world, const DriveSettings& settings, MountControl* mount);
  Result<Json> Answer(const std::string& method, const Json& params,
                      const ControlServer::Gone& gone);

  const World& world_;
  MountControl* const mount_;
  const std::string name_;
  FaceListener listener_;
  std::unique_ptr<Drive> drive_;
  NamedControl control_;
  mutable Mutex mutex_;
  DriveSettings settings_ GUARDED_BY(mutex_);
};

}  // namespace pargeter::app
