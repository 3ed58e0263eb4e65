// Verifier: is what is on this disk what the store gave?
#include "engine/prefetch/verifier.h"

#include <algorithm>

#include "base/log.h"
#include "base/text.h"
#include "base/units.h"
#include "engine/bytes/sources.h"
#include "engine/content/contents.h"
#include "engine/content/fetcher.h"
#include "engine/context/facts.h"

namespace pargeter {

using Verdict = ContentCheck::Verdict;

namespace {
constexpr std::uint64_t kCompared = 8 * kMiB;  // at once, with the store
}  // namespace

// Whole clean files against the digest that the store gave. What is rotten goes, and is fetched
// again when it is needed.
Result<Checked> Verifier::Verify(NodeId id, bool with_store) {
  contents_.SavePresenceOfAll();
  {
    View view(&tree_);
    PG_TRY(view.index().CheckPlaces());
  }
  Checked out;
  std::vector<NodeId> files;
  PG_TRY(facts_.Walk(
      id,
      [&](View& view, const Node& folder) -> Result<bool> {
        PG_ASSIGN(const Sums sums, view.index().SumsOf(folder.id));
        return sums.on_disk > 0;
      },
      [&](View&, const Node& row) {
        if (row.kind == NodeKind::kFile && row.cached.bytes > 0) files.push_back(row.id);
      }));
  for (const NodeId file : files) {
    if (stop_->cancelled()) return Error(Code::kCancelled, "the drive is being unmounted");
    PG_TRY(VerifyFile(file, with_store, &out));
  }
  if (!out.rotten.empty()) pins_.Wake();
  return out;
}

ContentCheck::Verdict Verifier::JudgeByDigest(const std::shared_ptr<Content>& content,
                                              const Node& node) {
  const auto check = store_->CheckOf(node.remote.version, node.size);
  if (!check) return Verdict::kUnknown;
  HereSource source(content, node.size, options_.disk);
  const Verdict verdict = JudgeAll(check.get(), &source);
  if (verdict != Verdict::kUnknown) return verdict;
  const Status looked = fetcher_.AskSource(content, [&](const Fetcher::Source& s) -> Status {
    PG_TRY(
        store_->Ask(Traffic::kForeground, [&](const Call& c) { return store_->Look(s.path, c); }));
    return {};
  });
  return looked.ok() ? check->Judge() : verdict;
}

// All that is here of it; what is being written just now is in use, and not looked at.
bool Verifier::CanBeRead(const std::shared_ptr<Content>& content, std::uint64_t size) {
  std::vector<Range> here;
  {
    const Lock lock(content->mu);
    here = content->present.All();
  }
  HereSource source(content, size, options_.disk);
  std::string piece(kMiB, '\0');
  for (const Range& range : here) {
    for (std::uint64_t at = range.begin; at < range.end; at += piece.size()) {
      const auto n = source.Read(piece.data(), std::min(piece.size(), range.end - at), at);
      if (!n.ok()) return n.error().code == Code::kCancelled;
    }
  }
  return true;
}

Status Verifier::VerifyFile(NodeId id, bool with_store, Checked* out) {
  std::shared_ptr<Content> content;
  Node node;
  {
    View view(&tree_);
    auto inode = view.Get(id);
    if (!inode.ok()) return {};
    auto opened = contents_.OpenContent(view, *inode);
    if (!opened.ok()) {
      out->unreadable.push_back(Printable((*inode)->node.name));
      return {};
    }
    content = *opened;
    node = (*inode)->node;
  }
  PG_ASSIGN(const std::string path, facts_.PathOf(id));
  if (node.dirty & kData) {
    ++out->pending;
    if (!CanBeRead(content, node.size)) out->unreadable.push_back(path);
    return {};
  }
  bool whole = false;
  {
    const Lock lock(content->mu);
    whole = content->present.Covers({0, content->size});
  }
  const auto digest = whole ? JudgeByDigest(content, node) : Verdict::kUnknown;
  bool good = digest == Verdict::kRight, known = good;
  // a digest that does not fit may also be none of the content's: the store's own bytes decide
  if (!good && (with_store || digest == Verdict::kWrong)) {
    std::vector<Range> here;
    {
      const Lock lock(content->mu);
      here = content->present.All();
    }
    const auto same = fetcher_.SameAsStore(content, here, kCompared);
    if (!same.ok() && with_store) return same.error();
    known = same.ok();
    good = same.ok() && *same;
  }
  if (!known) {
    ++out->unknown;
    return {};
  }
  if (good) {
    ++out->files;
    out->bytes += node.size;
    return {};
  }
  content.reset();
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(id));
  if (inode->node.remote.version != node.remote.version || (inode->node.dirty & kData)) return {};
  Change change(&view);
  out->rotten.push_back(path);
  view.EmitHappened("here", "rotten", path);
  contents_.DetachContent(view, inode);
  inode->kernel_pages_valid = false;
  PG_TRY(view.Save(inode));
  PG_TRY(change.Commit());
  view.Emit(Event::ContentChanged(id));
  LogAbout(LogLevel::kWarning, {path, "rotten"},
           "the cached bytes of {} are not what the store gave: they are fetched again", path);
  return {};
}

}  // namespace pargeter
