// The streaming face: one drive, or several side by side, as a FUSE file system, over libfuse's
// low-level interface.
#pragma once

#include <atomic>
#include <memory>
#include <string>

#include "base/error.h"
#include "engine/drive.h"
#include "face/stream/shown.h"

namespace pargeter {

struct MountOptions {
  std::string at;    // absolute
  std::string name;  // of the drive: shown as the mount's source
  bool read_only = false;
  bool share_with_all = false;  // other users may look in; their permissions are checked
};

class StreamFace {
 public:
  // Mounts; from here on the kernel queues requests. kPermission if the kernel refuses. `shown`
  // must outlive it, and so must the thread that calls this (mount_guard.h).
  static Result<std::unique_ptr<StreamFace>> Mount(Shown* shown, const MountOptions& options);
  ~StreamFace();

  // Serves requests on many threads until the file system is unmounted; what was still open is
  // released then.
  Status Serve();
  // Takes the mount away, upon which Serve returns. kBusy: somebody uses it, and how is kIfFree.
  Status Unmount(bool now);

  // What the kernel may remember of these is no longer true.
  void ContentChanged(InodeNumber inode);
  void AttributesChanged(InodeNumber inode);
  void NameChanged(InodeNumber parent, const std::string& name);

 private:
  StreamFace() = default;
  struct Session;
  std::unique_ptr<Session> session_;
};

// Carries a drive's changes to the face that shows it. Before it is shown they go nowhere.
class FaceListener : public ChangeListener {
 public:
  void Attach(StreamFace* face, InodeNumber base) {
    base_ = base;
    face_ = face;
  }
  void ContentChanged(NodeId id) override {
    if (StreamFace* face = face_) face->ContentChanged(base_ | static_cast<InodeNumber>(id));
  }
  void AttributesChanged(NodeId id) override {
    if (StreamFace* face = face_) face->AttributesChanged(base_ | static_cast<InodeNumber>(id));
  }
  void NameChanged(NodeId parent, const std::string& name) override {
    if (StreamFace* face = face_) face->NameChanged(base_ | static_cast<InodeNumber>(parent), name);
  }

 private:
  std::atomic<InodeNumber> base_{0};
  std::atomic<StreamFace*> face_{nullptr};
};

}  // namespace pargeter
