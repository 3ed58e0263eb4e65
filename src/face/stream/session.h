// The streaming face: one drive as a FUSE file system, over libfuse's low-level interface.
#pragma once

#include <memory>
#include <string>

#include "base/error.h"
#include "engine/drive.h"

namespace pargeter {

struct MountOptions {
  std::string at;    // absolute
  std::string name;  // of the drive: shown as the mount's source
  bool read_only = false;
  bool share_with_all = false;  // other users may look in; their permissions are checked
};

class StreamFace : public ChangeListener {
 public:
  // Mounts; from here on the kernel queues requests. kPermission if the kernel refuses.
  static Result<std::unique_ptr<StreamFace>> Mount(Drive* drive, const MountOptions& options);
  ~StreamFace() override;

  // Serves requests on many threads until the file system is unmounted.
  Status Serve();
  // Takes the mount away, upon which Serve returns. kBusy: somebody uses it, and how is kIfFree.
  Status Unmount(bool now);

  void ContentChanged(NodeId id) override;
  void AttributesChanged(NodeId id) override;
  void NameChanged(NodeId parent, const std::string& name) override;

 private:
  StreamFace() = default;
  struct Session;
  std::unique_ptr<Session> session_;
};

}  // namespace pargeter
