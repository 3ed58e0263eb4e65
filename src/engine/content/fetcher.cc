// Fetcher: getting bytes from the store into block files.
#include "engine/content/fetcher.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/log.h"
#include "base/text.h"
#include "base/units.h"
#include "cache/eviction.h"
#include "engine/content/contents.h"

namespace pargeter {

using Place = BlockStore::Place;

namespace {
constexpr std::uint64_t kSmallest = 64 * kKiB;  // nobody asks the store for less

constexpr std::uint64_t kChunk = 4 * kMiB;  // one request of a larger fetch

constexpr std::size_t kManyUnsaved = 300;

constexpr Duration kLookWhether(50);
constexpr int kMostMoves = 4;  // of an object while it is asked for

// Writes what arrives into the block file, except where something is there already. A whole file is
// written when the store has sent all of it (Keep). With `checked`, the last missing piece of a
// file that came in pieces is written but not shown (`last`): first it is looked whether all of it
// is right (CheckArrived).
class BlockSink : public ReadSink {
 public:
  // `shown` is called with the content's lock when bytes have been added to it.
  BlockSink(Content* content, Range range, bool whole, bool checked, Disk* disk,
            std::function<void()> shown)
      : content_(*content),
        range_(range),
        whole_(whole),
        checked_(checked),
        disk_(*disk),
        shown_(std::move(shown)) {}
  Status Begin(const Entry& entry) override {
    entry_ = entry;
    at_ = range_.begin;
    whole_file_.clear();
    last_ = {};
    return {};
  }
  Status Write(std::string_view data) override {
    if (!whole_) return Put(data);
    whole_file_.append(data);
    return {};
  }
  // After the last byte.
  Status Keep() {
    if (whole_) PG_TRY(Put(whole_file_));
    if (at_ < range_.end)
      return Error(Code::kDamaged, "the store sent fewer bytes than it said that the file has");
    return {};
  }
  void Show(Range range) {
    const Lock lock(content_.mu);
    range.end = std::min({range.end, content_.size, content_.base.size});  // cut meanwhile?
    if (range.begin < range.end) Add(range);
    content_.unsaved = true;
    shown_();
    content_.changed.NotifyAll();
  }
  Range last() const { return last_; }
  std::uint64_t added() const { return added_; }
  const Entry& entry() const { return entry_; }

 private:
  Status Put(std::string_view data) {
    const Lock lock(content_.mu);
    // what was cut off meanwhile is not to come back
    const std::uint64_t end = std::min({at_ + data.size(), range_.end, content_.base.size});
    const auto gaps = at_ < end ? content_.present.Missing({at_, end}) : std::vector<Range>();
    for (const Range& gap : gaps) {
      PG_TRY(Fill(data.substr(gap.begin - at_, gap.size()), gap.begin));
      if (checked_ && content_.place == Place::kCache &&
          content_.present.Bytes() + gap.size() == content_.size)
        last_ = gap;
      else
        Add(gap);
    }
    at_ += data.size();
    content_.unsaved = true;
    shown_();
    content_.changed.NotifyAll();
    return {};
  }
  void Add(Range range) REQUIRES(content_.mu) {
    // another flight may have brought the same bytes meanwhile
    const std::uint64_t before = content_.present.Bytes();
    content_.present.Add(range);
    // what was evicted meanwhile is given back whole: these bytes are in no file with a name
    if (!content_.detached) added_ += content_.present.Bytes() - before;
  }
  // Readers must not wait for the disk, so the lock is let go meanwhile; a file that is written
  // here is guarded by it. The analysis cannot follow a lock that is given back.
  Status Fill(std::string_view piece, std::uint64_t at) REQUIRES(content_.mu) NO_TS_ANALYSIS {
    const int fd = content_.fd.get();
    if (content_.place == Place::kPending) return disk_.WriteAt(fd, piece, at);
    ++content_.filling;
    content_.mu.unlock();
    const Status wrote = disk_.WriteAt(fd, piece, at);
    content_.mu.lock();
    if (--content_.filling == 0) content_.changed.NotifyAll();
    return wrote;
  }
  Content& content_;
  const Range range_;
  const bool whole_, checked_;
  Disk& disk_;
  const std::function<void()> shown_;
  Entry entry_;
  std::string whole_file_;
  Range last_;
  std::uint64_t at_ = 0, added_ = 0;
};

class BufferSink : public ReadSink {
 public:
  BufferSink(char* data, std::size_t size) : data_(data), size_(size) {}
  Status Begin(const Entry&) override {
    filled_ = 0;
    return {};
  }
  Status Write(std::string_view piece) override {
    const std::size_t n = std::min(piece.size(), size_ - filled_);
    std::copy_n(piece.data(), n, data_ + filled_);
    filled_ += n;
    return {};
  }
  std::size_t filled() const { return filled_; }

 private:
  char* data_;
  const std::size_t size_;
  std::size_t filled_ = 0;
};

}  // namespace

Status Fetcher::StartFlight(const std::shared_ptr<Content>& content, Range range, Traffic traffic) {
  auto flight = std::make_shared<Flight>();
  flight->range = range;
  flight->traffic = traffic;
  const Lock lock(fetch_mutex_);
  if (fetch_stopped_) return Error(Code::kUnavailable, "the drive is being unmounted");
  content->flights.push_back(flight);
  to_fetch_.emplace_back(content, flight);
  fetch_changed_.NotifyOne();
  return {};
}

// Starts what is missing of `ahead` and of `range`, and waits for `range` (nothing, if it is
// empty), which is `traffic`; the rest is prefetch.
Status Fetcher::EnsurePresent(const std::shared_ptr<Content>& content, Range range, Range ahead,
                              Steady deadline, Traffic traffic) {
  Lock lock(content->mu);
  RangeSet wanted;
  const std::uint64_t end = std::min(content->size, std::max(content->base.size, range.end));
  const auto want = [&](Range r, bool round) REQUIRES(content->mu) {
    if (round)
      r = {r.begin / kSmallest * kSmallest, (r.end + kSmallest - 1) / kSmallest * kSmallest};
    r.end = std::min(r.end, end);
    for (const Range& gap : content->present.Missing(r)) wanted.Add(gap);
  };
  if (range.end > range.begin) want(range, true);
  if (ahead.end > ahead.begin) want(ahead, true);
  for (const auto& flight : content->flights) wanted.Remove(flight->range);
  std::vector<std::shared_ptr<Flight>> mine;
  if (!wanted.empty()) {
    PG_TRY(store_->Check());
    if (!content->base.any()) return Error(Code::kIo, "bytes are missing that no store has");
    const std::vector<Range> gaps = wanted.All();
    for (std::size_t i = 0, next = 0; i < gaps.size(); i = next) {
      // what is here between two of them comes along, and is not used
      for (next = i + 1; next < gaps.size(); ++next)
        if (gaps[next].begin - gaps[next - 1].end > kSmallest) break;
      const std::uint64_t last = gaps[next - 1].end;
      for (std::uint64_t at = gaps[i].begin; at < last;) {
        const std::uint64_t stop = std::min(last, (at / kChunk + 1) * kChunk);
        const bool is_wanted = at < range.end && range.begin < stop;
        PG_TRY(StartFlight(content, {at, stop}, is_wanted ? traffic : Traffic::kPrefetch));
        at = stop;
      }
    }
  }
  if (range.end <= range.begin) return {};
  for (const auto& flight : content->flights) {
    if (flight->range.begin < range.end && range.begin < flight->range.end) mine.push_back(flight);
  }
  while (!content->present.Covers(range)) {
    if (content->wrong) return NotWhatItSaid();
    bool pending = false;
    for (const auto& flight : mine) {
      if (flight->error) return *flight->error;
      pending = pending || !flight->done;
    }
    if (!pending) return {};  // done, and perhaps evicted again: the caller looks
    if (!content->changed.WaitUntil(content->mu, deadline) && options_.clock->Now() >= deadline) {
      return Error(Code::kTimeout, "the store did not send the bytes in time");
    }
  }
  return {};
}

void Fetcher::Stop() {
  const Lock lock(fetch_mutex_);
  fetch_stopped_ = true;
  fetch_changed_.NotifyAll();
}

void Fetcher::FetchLoop() {
  for (;;) {
    std::pair<std::shared_ptr<Content>, std::shared_ptr<Flight>> next;
    {
      Lock lock(fetch_mutex_);
      while (to_fetch_.empty() && !fetch_stopped_) {
        fetch_changed_.WaitUntil(fetch_mutex_,
                                 std::chrono::steady_clock::now() + std::chrono::hours(1));
      }
      if (to_fetch_.empty()) return;
      next = std::move(to_fetch_.front());
      to_fetch_.erase(to_fetch_.begin());
    }
    RunFlight(next.first, next.second);
  }
}

// The object is at the node's place in the remote tree; or, if the move of a folder above is in
// doubt, where that was to bring it.
Result<std::vector<Fetcher::Source>> Fetcher::FindSources(const std::shared_ptr<Content>& content) {
  View view(&tree_);
  PG_ASSIGN(const Inode* inode, view.Get(content->id));
  const Node& node = inode->node;
  std::vector<Source> sources;
  if (!node.copy.path.empty()) {
    sources.push_back({node.copy.path, "", 0});
  } else if (node.remote.place != RemotePlace::kNone) {
    PG_ASSIGN(std::string path, view.RemotePath(node));
    sources.push_back({std::move(path), "", 0});
    PG_ASSIGN(std::optional<std::string> doubt, observer_.PathInDoubt(view, node));
    if (doubt) sources.push_back({std::move(*doubt), "", 0});
  }
  const Lock lock(content->mu);
  for (Source& source : sources) {
    source.version = content->base.version;
    source.size = content->base.size;
  }
  return sources;
}

Status Fetcher::AskSource(const std::shared_ptr<Content>& content,
                          const std::function<Status(const Source&)>& ask) {
  std::vector<Source> asked;
  for (int round = 0; round < kMostMoves; ++round) {
    auto sources = FindSources(content);
    if (!sources.ok() || *sources == asked) break;
    asked = std::move(*sources);
    for (const Source& source : asked) {
      const Status got = ask(source);
      if (got.ok() || (got.error().code != Code::kChanged && got.error().code != Code::kNotFound))
        return got;
    }
  }
  return Error(Code::kStale, "the version that was opened is no longer at the store");
}

// For who did not find it at the store: true if a step of ours was moving it, and has ended.
bool Fetcher::MoveHasEnded(const std::shared_ptr<Content>& content, Steady deadline) {
  bool moved = false;
  View view(&tree_);
  for (;;) {
    const auto it = view.inodes().find(content->id);
    if (it == view.inodes().end() || it->second->content != content) return false;
    if (!observer_.AbsenceIsInconclusive(view, it->second->node)) return moved;
    moved = true;
    const Steady now = options_.clock->Now();
    if (now >= deadline || stop_->cancelled()) return false;
    view.WaitUntil(std::min(deadline, now + kLookWhether));
  }
}

void Fetcher::RunFlight(const std::shared_ptr<Content>& content,
                        const std::shared_ptr<Flight>& flight) {
  const Range range = flight->range;
  Status outcome;
  Entry entry;
  if (stop_->cancelled()) {
    outcome = Error(Code::kUnavailable, "the drive is being unmounted");
  } else if (outcome = store_->Check(); outcome.ok()) {
    if (!contents_.MakeRoom(range.size())) {
      outcome = Error(Code::kNoSpace, "the cache is full of what may not be evicted");
    } else {
      std::uint64_t added = 0;
      outcome = AskSource(content, [&](const Source& source) {
        return FetchRange(content, source, *flight, &added, &entry);
      });
      budget_->Arrived(range.size(), added);
    }
  }
  bool many = false;
  if (outcome.ok()) {
    many = contents_.CountUnsaved() >= kManyUnsaved;
  }
  bool inode = false;
  {
    const Lock lock(content->mu);
    flight->done = true;
    if (!outcome.ok()) flight->error = outcome.error();
    content->flights.remove(flight);
    content->changed.NotifyAll();
    inode = !content->detached;
  }
  if (many) contents_.SavePresenceOfAll();  // each of them is held open until then
  if (outcome.ok()) {
    View view(&tree_);
    health_.ClearFault(content->id);
  }
  if (outcome.ok() && inode) {
    if (entry.attributes_known) observer_.Learn(content->id, entry);
  } else if (!outcome.ok() && outcome.error().code != Code::kNoSpace &&
             outcome.error().code != Code::kStale) {
    View view(&tree_);
    health_.NoteFault(content->id, outcome.error());
  }
}

Status Fetcher::FetchRange(const std::shared_ptr<Content>& content, const Source& source,
                           const Flight& flight, std::uint64_t* added, Entry* entry) {
  const Range range = flight.range;
  const bool whole = range.begin == 0 && range.end == source.size;
  const bool checked =
      !(whole && store_->TellsContent(source.version)) && IsCheckedOnArrival(source);
  // noted before anybody who waits for it goes on: what he saves then is all of it
  BlockSink sink(content.get(), range, whole, checked, options_.disk,
                 [this, id = content->id] { contents_.NoteUnsaved(id); });
  Status outcome = store_->Ask(flight.traffic, [&](const Call& c) {
    return store_->Read(source.path, source.version, range.begin, range.size(), &sink, c);
  });
  if (outcome.ok()) outcome = sink.Keep();
  if (outcome.ok() && checked) outcome = CheckArrived(content, source, sink.last());
  if (outcome.ok() && sink.last().size() > 0) sink.Show(sink.last());
  *added += sink.added();
  *entry = sink.entry();
  return outcome;
}

// For when no room can be made: straight to the reader, and not kept.
Result<std::size_t> Fetcher::ReadThrough(const std::shared_ptr<Content>& content, char* data,
                                         std::size_t size, std::uint64_t offset) {
  {
    const Lock lock(content->mu);
    if (content->place == Place::kPending) return Error(Code::kNoSpace, "the cache disk is full");
  }
  BufferSink sink(data, size);
  PG_TRY(AskSource(content, [&](const Source& source) {
    return store_->Ask(Traffic::kForeground, [&](const Call& c) {
      return store_->Read(source.path, source.version, offset, size, &sink, c);
    });
  }));
  return sink.filled();
}

// Compares the bytes here with the bytes that the store sends, piece by piece.
Result<bool> Fetcher::SameAsStore(const std::shared_ptr<Content>& content,
                                  const std::vector<Range>& ranges, std::uint64_t piece) {
  for (const Range& range : ranges) {
    for (std::uint64_t at = range.begin; at < range.end; at += piece) {
      const std::uint64_t size = std::min(piece, range.end - at);
      std::string here(size, '\0'), there(size, '\0');
      int fd = -1;
      {
        const Lock lock(content->mu);
        fd = content->BeginUse();
      }
      const auto n = options_.disk->ReadAt(fd, here.data(), size, at);
      {
        const Lock lock(content->mu);
        content->EndUse();
      }
      if (!n.ok() || *n != size) return false;
      PG_ASSIGN(const std::size_t sent, ReadThrough(content, there.data(), size, at));
      if (sent != size || here != there) return false;
    }
  }
  return true;
}

}  // namespace pargeter
