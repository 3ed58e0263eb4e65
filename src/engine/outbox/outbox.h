// The queue of local changes: whose turn it is to be brought to the store, and when. It knows
// numbers of nodes, and nothing of their rows; a Worker takes the turns.
//
// A node has one turn at a time. One that is pushed while it has its turn gets another after that.
// Turns are given in order of (due, order); several at a time, fewer when the store wants it
// slower, none while the store is not reachable.
//
// Thread-safe; a leaf lock, not held while the worker works.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <set>
#include <string>
#include <thread>
#include <tuple>
#include <unordered_map>
#include <unordered_set>
#include <utility>
#include <vector>

#include "base/clock.h"
#include "base/error.h"
#include "base/mutex.h"
#include "index/index.h"
#include "net/cancel.h"

namespace pargeter {

// How a turn ended.
struct TurnResult {
  enum class Next {
    kDone,    // nothing is left to do
    kAgain,   // another turn, not before `delay`
    kBehind,  // another turn when that of `behind` has ended
  };
  Next next = Next::kDone;
  NodeId behind = kNoNode;
  Duration delay{0};
  // The pause grows with each turn in a row, up to this; 0: it is `delay` each time.
  Duration longest{0};
  std::string why;                 // what `queue` says of the wait
  std::optional<Error> refusal{};  // nothing but a person ends the wait
  bool failed = false;             // no progress: those that wait behind it stay where they are

  static TurnResult Done() { return {}; }
  // No reason: the change takes several steps.
  static TurnResult Again(Duration delay = Duration(0), std::string why = {},
                          Duration longest = Duration(30000)) {
    return {.next = Next::kAgain, .delay = delay, .longest = longest, .why = std::move(why)};
  }
  static TurnResult Behind(NodeId other, std::string why = {}) {
    return {.next = Next::kBehind, .behind = other, .why = std::move(why)};
  }
};

class Outbox {
 public:
  class Worker {
   public:
    virtual ~Worker() = default;
    // Takes the turn of `id`; `tries`: turns in a row that ended with kAgain or kBehind. `cancel`
    // is cancelled when the outbox stops.
    virtual TurnResult RunTurn(NodeId id, int tries, const Cancel& cancel) = 0;
    // The turn is over, and the next one has not begun. Returns the node's order, 0 if it is not
    // known any more.
    virtual std::int64_t EndTurn(NodeId id) = 0;
  };
  struct Options {
    const Clock* clock;
    int workers;     // threads, and the most turns at once
    Duration quiet;  // for how long a change waits for the next one
    Cancel stop;     // ends all waits
    std::function<bool()> online;
  };
  explicit Outbox(Options options) : options_(std::move(options)), at_once_(options_.workers) {}
  ~Outbox() { Stop(); }
  Outbox(const Outbox&) = delete;
  Outbox& operator=(const Outbox&) = delete;

  // `worker` has to outlive Stop. Without Start turns are only collected.
  void Start(Worker* worker);
  void Stop();  // after `stop` was cancelled; waits for the turns under way
  void Wake();  // `online` has changed

  // The node has changed: a turn after `delay`, instead of an earlier Push's; at once while
  // somebody waits for all (Hurry).
  void Push(NodeId id, std::int64_t order, Duration delay);
  // After the quiet time.
  void Push(NodeId id, std::int64_t order) { Push(id, order, options_.quiet); }

  // Takes over the turn of a node that waits for one; false: it does not. It counts as running
  // until EndStolen.
  bool IsQueued(NodeId id) const;
  bool Steal(NodeId id);
  void EndStolen(NodeId id, const TurnResult& result);

  // A turn that runs alone: begins none besides, and waits, at most until `deadline`, until none is
  // under way but the caller's. False: others are, and the caller has to come again.
  class Alone {
   public:
    Alone(Outbox* outbox, NodeId id, Steady deadline)
        : outbox_(*outbox), got_(outbox_.BeginAlone(id, deadline)) {}
    ~Alone() {
      if (got_) outbox_.EndAlone();
    }
    Alone(const Alone&) = delete;
    Alone& operator=(const Alone&) = delete;
    explicit operator bool() const { return got_; }

   private:
    Outbox& outbox_;
    const bool got_;
  };
  bool IsAnyAlone() const;

  // While it lives nothing waits for a quiet moment, and what failed is tried again once.
  class Hurry {
   public:
    explicit Hurry(Outbox* outbox) : outbox_(*outbox) { outbox_.BeginHurry(); }
    ~Hurry() { outbox_.EndHurry(); }
    Hurry(const Hurry&) = delete;
    Hurry& operator=(const Hurry&) = delete;

   private:
    Outbox& outbox_;
  };
  // Until a turn ends, or the deadline.
  void WaitForProgress(Steady deadline);
  // If all that waits has been refused since then, and nothing but a person ends that: why one of
  // them was.
  std::optional<Error> RefusalOfAll(Steady since) const;

  // The store asked for it: half as many at once, none before `pause` is over; one more for each
  // ten turns that go well.
  void SlowDown(Duration pause);

  // Why a node waits.
  struct Delay {
    int tries = 0;  // turns in a row
    std::string why;
    std::optional<Duration> next_try;  // from now; nothing: when what it waits for has ended
  };
  Delay DelayOf(NodeId id) const;
  std::size_t Running() const;
  // Is one under way, and did no turn begin or end since?
  bool IsStuckSince(Steady since) const;

 private:
  struct Wait {
    int tries = 0;
    std::string why;
    std::optional<Error> refusal;
    Steady refused_at{};
  };
  void Run();
  NodeId NextTurn();
  void Finish(NodeId id, const TurnResult& result);
  void Schedule(NodeId id, std::int64_t order, Steady due) REQUIRES(mutex_);
  void WaitBehind(NodeId id, NodeId behind, int tries) REQUIRES(mutex_);
  void FreeAllWaiting(Steady due) REQUIRES(mutex_);
  Duration PauseAfter(const TurnResult& result, const Wait& wait) const REQUIRES(mutex_);
  bool BeginAlone(NodeId id, Steady deadline);
  void EndAlone();
  void BeginHurry();
  void EndHurry();

  const Options options_;
  Worker* worker_ = nullptr;
  std::vector<std::thread> threads_;
  mutable Mutex mutex_;
  CondVar changed_;
  std::set<std::tuple<Steady, std::int64_t, NodeId>> due_ GUARDED_BY(mutex_);
  std::unordered_map<NodeId, std::pair<Steady, std::int64_t>> queued_ GUARDED_BY(mutex_);
  std::unordered_set<NodeId> running_ GUARDED_BY(mutex_);
  std::unordered_set<NodeId> rerun_ GUARDED_BY(mutex_);  // pushed while running
  std::unordered_map<NodeId, std::vector<NodeId>> behind_
      GUARDED_BY(mutex_);  // who waits behind it
  std::unordered_map<NodeId, Wait> waits_ GUARDED_BY(mutex_);
  Steady last_turn_ GUARDED_BY(mutex_){};  // one began or ended
  NodeId running_alone_ GUARDED_BY(mutex_) = kNoNode;
  int hurry_ GUARDED_BY(mutex_) = 0;
  Steady slow_until_ GUARDED_BY(mutex_){};
  double at_once_ GUARDED_BY(mutex_);
};

}  // namespace pargeter
