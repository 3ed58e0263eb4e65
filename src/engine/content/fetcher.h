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
    virtual bool MayBeElsewhere(Tree::View& view, const Node& node) = 0;
  };
  Fetcher(Context* context, Contents* contents, Observer* observer)
      : Component(context), contents_(*contents), observer_(*observer) {}

  Status EnsurePresent(const std::shared_ptr<Content>& content, Range range, Range ahead,
                       Steady deadline, Traffic traffic);
  static Status AskSource(const std::shared_ptr<Content>& content,
                          const std::function<Status(const Source&)>& ask);
  bool MoveHasEnded(const std::shared_ptr<Content>& content, Steady deadline);
  Result<std::size_t> ReadThrough(const std::shared_ptr<Content>& content, char* data,
                                  std::size_t size, std::uint64_t offset);
  void FetchLoop();  // until Stop
  void Stop();
  Result<bool> SameAsStore(const std::shared_ptr<Content>& content,
                           const std::vector<Range>& ranges, std::uint64_t piece);

 private:
  Status StartFlight(const std::shared_ptr<Content>& content, Range range, Traffic traffic)
      REQUIRES(content->mu);
  void RunFlight(const std::shared_ptr<Content>& content, const std::shared_ptr<Flight>& flight);
  Status FetchRange(const std::shared_ptr<Content>& content, const Source& source,
                    const Flight& flight, std::uint64_t* added, Entry* entry);
  bool IsCheckedOnArrival(const Source& source) const;
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
