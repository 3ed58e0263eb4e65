// What all components of a drive stand on: its options, the tree, the store, the queue of changes,
// the disk, and those who are told. Made once, before the components; outlives them.
#pragma once

#include <atomic>
#include <deque>
#include <functional>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <unordered_map>
#include <utility>
#include <vector>

#include "base/clock.h"
#include "base/error.h"
#include "base/file.h"
#include "base/mutex.h"
#include "cache/block_store.h"
#include "cache/budget.h"
#include "cache/spare_room.h"
#include "engine/api/residency.h"
#include "engine/api/types.h"
#include "engine/context/pin_signal.h"
#include "engine/observe/events.h"
#include "engine/observe/health.h"
#include "engine/outbox/outbox.h"
#include "engine/store/store_client.h"
#include "engine/tree/places.h"
#include "engine/tree/tree.h"
#include "index/index.h"
#include "net/cancel.h"

namespace pargeter {

class Context : private EffectSink {
 public:
  Context(DriveOptions drive_options, std::unique_ptr<Provider> provider);

  // Of the drive's state and of its cache: released when all else is closed, so that whoever waits
  // for one of them finds the index closed.
  Fd state_lock, cache_lock;
  const DriveOptions options;
  const Cancel stop = std::make_shared<CancelToken>();  // cancelled when the drive is closed
  std::atomic<bool> started{false};                     // threads are at work
  Events events{options.clock};
  Health health;
  PinSignal pins;
  StoreClient store;
  Outbox outbox;
  Tree tree;
  UnderLock<DriveLimits> limits;
  UnderLock<bool> pins_changed{false};  // something is to be fetched, perhaps
  // On the disk; there once the folders are locked.
  std::unique_ptr<BlockStore> blocks;
  std::unique_ptr<Budget> budget;
  std::unique_ptr<SpareRoom> spare;

 private:
  void Publish(Event event) override { events.Publish(std::move(event)); }
  void Push(NodeId id, std::int64_t order, Duration delay) override {
    outbox.Push(id, order, delay);
  }
};

// A part of the engine: the context under short names.
class Component {
 public:
  Component(const Component&) = delete;
  Component& operator=(const Component&) = delete;

 protected:
  using View = Tree::View;
  using Change = Tree::Change;
  explicit Component(Context* context)
      : options_(context->options),
        stop_(context->stop),
        started_(context->started),
        events_(context->events),
        health_(context->health),
        pins_(context->pins),
        store_(&context->store),
        outbox_(context->outbox),
        tree_(context->tree),
        limits_(context->limits),
        pins_changed_(context->pins_changed),
        blocks_(context->blocks),
        budget_(context->budget),
        spare_(context->spare) {}
  ~Component() = default;

  // Bytes that are as at the store are dropped when nobody uses them.
  bool KeepsNoBytes(const Node& node) const {
    return options_.passes_through || node.effective == Placement::kThin;
  }

  const DriveOptions& options_;
  const Cancel& stop_;
  std::atomic<bool>& started_;
  Events& events_;
  Health& health_;
  PinSignal& pins_;
  StoreClient* const store_;
  Outbox& outbox_;
  Tree& tree_;
  UnderLock<DriveLimits>& limits_;
  UnderLock<bool>& pins_changed_;
  std::unique_ptr<BlockStore>& blocks_;
  std::unique_ptr<Budget>& budget_;
  std::unique_ptr<SpareRoom>& spare_;
};

}  // namespace pargeter
