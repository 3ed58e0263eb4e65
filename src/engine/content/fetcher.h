// Bytes on their way here: ranges of contents, fetched from the store by a few threads.
#pragma once

#include "engine/bytes/content.h"
#include "engine/context/context.h"

namespace pargeter {

class Contents;

class Fetcher : public Component {
 public:
  // The owner of facts about nodes. Outlives the fetcher.
  class Observer {
   public:
    virtual ~Observer() = default;
    // The store said this of the node, along with its bytes.
    virtual void Learn(NodeId id, const Entry& entry) = 0;
    // A step of ours may just be moving the node at the store.
    virtual bool AbsenceIsInconclusive(Tree::View& view, const Node& node) = 0;
    // Where the store has the node if a folder above it has moved and the answer was lost.
    virtual Result<std::optional<std::string>> PathInDoubt(Tree::View& view, const Node& node) = 0;
  };
  Fetcher(Context* context, Contents* contents, Observer* observer)
      : Component(context), contents_(*contents), observer_(*observer) {}

  // Waits until `range` is here, at most until `deadline`, and begins to fetch `ahead` without
  // waiting. kTimeout, kStale, kNoSpace, kUnavailable.
  Status EnsurePresent(const std::shared_ptr<Content>& content, Range range, Range ahead,
                       Steady deadline, Traffic traffic);
  // The object whose bytes are missing here, at the place where the store has it now.
  struct Source {
    std::string path, version;
    std::uint64_t size = 0;
    bool operator==(const Source&) const = default;
  };
  // Asks the store for bytes of the content's base; again if a step of ours has moved the object
  // meanwhile. kStale: the store does not have that version any more, or not there. Without locks.
  Status AskSource(const std::shared_ptr<Content>& content,
                   const std::function<Status(const Source&)>& ask);
  // After kStale: true if a step of ours was moving the object, and has ended. Waits for that until
  // `deadline`.
  bool MoveHasEnded(const std::shared_ptr<Content>& content, Steady deadline);
  // Reads from the store into memory, past the cache. Returns the bytes read.
  Result<std::size_t> ReadThrough(const std::shared_ptr<Content>& content, char* data,
                                  std::size_t size, std::uint64_t offset);
  void FetchLoop();  // until Stop
  void Stop();
  // Compares bytes here with the bytes that the store sends, `piece` bytes at a time.
  Result<bool> SameAsStore(const std::shared_ptr<Content>& content,
                           const std::vector<Range>& ranges, std::uint64_t piece);

 private:
  Result<std::vector<Source>> FindSources(const std::shared_ptr<Content>& content);
  // Begins one request for the range, unless one is under way.
  Status StartFlight(const std::shared_ptr<Content>& content, Range range, Traffic traffic)
      REQUIRES(content->mu);
  // Fetches, checks, and tells who waits.
  void RunFlight(const std::shared_ptr<Content>& content, const std::shared_ptr<Flight>& flight);
  Status FetchRange(const std::shared_ptr<Content>& content, const Source& source,
                    const Flight& flight, std::uint64_t* added, Entry* entry);
  bool IsCheckedOnArrival(const Source& source) const;
  // All of the file is here but `last`: is the digest that of the version? If not, the bytes are
  // dropped.
  Status CheckArrived(const std::shared_ptr<Content>& content, const Source& source, Range last);
  Status DropWrong(const std::shared_ptr<Content>& content);

  Contents& contents_;
  Observer& observer_;
  Mutex fetch_mutex_;
  CondVar fetch_changed_;
  std::vector<std::pair<std::shared_ptr<Content>, std::shared_ptr<Flight>>> to_fetch_
      GUARDED_BY(fetch_mutex_);
  bool fetch_stopped_ GUARDED_BY(fetch_mutex_) = false;
};

}  // namespace pargeter
