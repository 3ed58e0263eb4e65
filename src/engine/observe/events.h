// What the engine tells others: faces, which have to invalidate what a kernel keeps, and the record
// of activity. An event is published when the change that it tells of is committed.
#pragma once

#include <string>
#include <thread>
#include <utility>
#include <vector>

#include "base/clock.h"
#include "base/mutex.h"
#include "engine/observe/activity.h"
#include "index/index.h"

namespace pargeter {

// A face. Called without locks, from one thread of the drive.
class ChangeListener {
 public:
  virtual ~ChangeListener() = default;
  virtual void ContentChanged(NodeId id) = 0;
  virtual void AttributesChanged(NodeId id) = 0;
  virtual void NameChanged(NodeId parent, const std::string& name) = 0;
  // A face that keeps the files itself (DriveOptions::passes_through) says whether it has the
  // content of this generation? May be called with the tree's lock: must not call the drive.
  virtual bool Keeps(NodeId, std::uint64_t /*generation*/) { return true; }
  // For the first time: no name in it was told of before.
  virtual void FolderListed(NodeId) {}
};

struct Event {
  enum class Kind {
    kContentChanged,     // of `id`
    kAttributesChanged,  // of `id`
    kNameChanged,        // `name` in the folder `id` came, went, or is another node now
    kFolderListed,       // `id`, for the first time
    kHappened            // for the record of activity: `happening`
  };
  Kind kind;
  NodeId id = kNoNode;
  std::string name;
  Happening happening;

  static Event ContentChanged(NodeId id) { return {Kind::kContentChanged, id, {}, {}}; }
  static Event AttributesChanged(NodeId id) { return {Kind::kAttributesChanged, id, {}, {}}; }
  static Event NameChanged(NodeId folder, std::string name) {
    return {Kind::kNameChanged, folder, std::move(name), {}};
  }
  static Event FolderListed(NodeId id) { return {Kind::kFolderListed, id, {}, {}}; }
  // `side`: here, store.
  static Event Happened(std::string side, std::string what, std::string path,
                        std::string detail = {}) {
    return {Kind::kHappened,
            kNoNode,
            {},
            {0, 0, std::move(side), std::move(what), std::move(path), std::move(detail)}};
  }
};

// Takes events from any thread, and hands those for a face to one listener, in order, on a thread
// of its own. Thread-safe; a leaf: Publish never waits for the listener.
class Events {
 public:
  explicit Events(const Clock* clock) : activity_(clock) {}
  ~Events() { Stop(); }
  Events(const Events&) = delete;
  Events& operator=(const Events&) = delete;

  // `listener` may be null, and must outlive Stop. Events from before Start are not handed on.
  void Start(ChangeListener* listener);
  void Stop();
  void Publish(Event event);
  const Activity& activity() const { return activity_; }

 private:
  void Run();
  static void HandTo(ChangeListener* listener, const Event& event);
  Activity activity_;
  Mutex mutex_;
  CondVar changed_;
  ChangeListener* listener_ GUARDED_BY(mutex_) = nullptr;
  std::vector<Event> waiting_ GUARDED_BY(mutex_);
  bool stopped_ GUARDED_BY(mutex_) = false;
  std::thread thread_;
};

}  // namespace pargeter
