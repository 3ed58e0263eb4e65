// Fetcher: is what came from the store, piece by piece, what the store said that it is? Pieces have
// no digests of their own, so it shows only when the file is whole; a file that comes in one piece
// was looked at on its way, where its version is the digest of all of it.
#include <fmt/format.h>

#include <algorithm>

#include "base/log.h"
#include "base/text.h"
#include "base/units.h"
#include "engine/content/contents.h"
#include "engine/content/fetcher.h"

namespace pargeter {

using Place = BlockStore::Place;

namespace {
// A digest costs about two seconds of a core for each GiB: of larger files the network's speed
// counts for more, and `verify` looks at them.
constexpr std::uint64_t kLargest = 256 * kMiB;
}  // namespace

bool Fetcher::IsCheckedOnArrival(const Source& source) const {
  return source.size <= kLargest && store_->CheckOf(source.version, source.size) != nullptr;
}

// Takes the digest of what is here from the first byte on, as it comes. `last`: the one missing
// piece, which has come; the file is whole with it, and it waits for the end of this. kDamaged: it
// is not right, and nothing of it is kept.
Status Fetcher::CheckArrived(const std::shared_ptr<Content>& content, const Source& source,
                             Range last) {
  std::string piece;
  Content& c = *content;
  Lock lock(c.mu);
  for (;;) {
    const bool only_fetched = c.place == Place::kCache && !c.written && c.about_to_change == 0 &&
                              c.base.version == source.version && c.size == source.size;
    if (!only_fetched || c.wrong) {
      c.check.reset();
      return c.wrong ? Status(NotWhatItSaid()) : Status();
    }
    if (c.checking) {
      if (last.size() == 0) return {};  // whoever is at it takes this as well
      c.changed.WaitUntil(c.mu, std::chrono::steady_clock::now() + std::chrono::seconds(1));
      continue;
    }
    if (!c.check || c.checked_since != c.removals) {
      c.check = store_->CheckOf(source.version, source.size);
      c.checked_to = 0;
      c.checked_since = c.removals;
      if (!c.check) return {};
    }
    const auto gaps = c.present.Missing({c.checked_to, c.size});
    const bool to_the_end =
        gaps.empty() || (gaps[0].begin >= last.begin && gaps[0].end == last.end);
    std::uint64_t end = to_the_end ? c.size : gaps[0].begin;
    if (end == c.checked_to) break;
    end = std::min(end, c.checked_to + kMiB);
    const auto check = c.check;
    const std::uint64_t from = c.checked_to;
    const int fd = c.BeginUse();
    c.checking = true;
    lock.Unlock();
    piece.resize(end - from);
    const auto n = options_.disk->ReadAt(fd, piece.data(), piece.size(), from);
    const bool read = n.ok() && *n == piece.size();
    if (read) check->Add(piece);
    lock.Relock();
    c.EndUse();
    c.checking = false;
    c.checked_to = end;
    c.changed.NotifyAll();
    if (!read) {
      c.check.reset();
      return {};  // whoever reads it will hear of it
    }
  }
  if (c.checked_to < c.size) return {};
  const bool wrong = c.check->Judge() == ContentCheck::Verdict::kWrong;
  c.check.reset();
  lock.Unlock();
  if (!wrong) return {};
  // A copy that a store made of what went up in parts may have a version that only looks like a
  // digest. Then the same bytes come again, also in other pieces.
  const auto same =
      SameAsStore(content, {{0, source.size}}, std::min(4 * kMiB, source.size / 2 + 1));
  if (same.ok() && *same) return {};
  return DropWrong(content);
}

// Whoever has it open has been given wrong bytes, and gets no more of them. Written here meanwhile,
// it is somebody's work, and stays.
Status Fetcher::DropWrong(const std::shared_ptr<Content>& content) {
  const NodeId id = content->id;
  View view(&tree_);
  const auto it = view.inodes().find(id);
  const bool current = it != view.inodes().end() && it->second->content == content;
  if (current && (it->second->node.dirty & kData)) {
    LogAbout(LogLevel::kWarning, {"", "rotten"}, "{} (a file that was changed here since)",
             NotWhatItSaid().what);
    return {};
  }
  {
    const Lock lock(content->mu);
    content->wrong = true;
    content->changed.NotifyAll();
  }
  if (current) {
    Inode* inode = it->second.get();
    const auto path = view.PathHere(id);
    const std::string named = path.ok() ? Printable(*path) : "a file";
    Change change(&view);
    view.EmitHappened("here", "rotten", named);
    contents_.DetachContent(view, inode);
    inode->kernel_pages_valid = false;
    PG_TRY(view.Save(inode));
    PG_TRY(change.Commit());
    LogAbout(LogLevel::kWarning, {named, "rotten"}, "{}: {}", named, NotWhatItSaid().what);
  }
  view.Emit(Event::ContentChanged(id));
  return NotWhatItSaid();
}

}  // namespace pargeter
