// Evidence: looks at the store that tell our own work from others'.
#include "engine/sync/evidence.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cstdlib>
#include <ctime>
#include <utility>

#include "base/digest.h"
#include "base/log.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"
#include "engine/api/naming.h"
#include "engine/context/facts.h"
#include "engine/provenance/provenance.h"
#include "engine/provenance/sent.h"
#include "engine/sync/job.h"
#include "engine/sync/send_log.h"
#include "provider/attributes.h"

namespace pargeter {

using Place = BlockStore::Place;

namespace {
constexpr int kAnothers = 11;  // times as long as a request may be late: half a minute, and some

std::pair<std::string, std::string> Parted(const std::string& path) {
  const auto slash = path.rfind('/') + 1;  // 0 where there is none
  return {path.substr(0, slash), path.substr(slash)};
}

constexpr int kCalledOff = 10;  // times as long as one without an answer
}  // namespace

// Without the lock: did a former attempt of this node make what stands there? An upload says so; a
// copy by the store looks like its original.
Result<bool> Evidence::IsMadeByAttempt(const Job& job, const Entry& made) {
  if (job.node.dirty & kMaybeStale) return false;  // the better one, perhaps
  const bool tried = !job.tried_path.empty();
  const std::string place =
      tried ? PlaceIdIn(job.node.attempt.parent, job.node.attempt.name) : job.Place();
  bool sent = made.attributes.origin == provenance_.OriginOf(job.id) &&
              provenance_.OriginIsConclusive(job.node, place);
  if (!sent) {
    PG_ASSIGN(sent, provenance_.WasSent(job.node, place, tried ? job.tried_path : job.path, made,
                                        job.call));
  }
  if (sent) return MatchesKnownVersion(job, made);
  if (job.there_path.empty() || !MayBeCopy(job.node.remote.version, job.node.remote.size, made))
    return false;
  PG_ASSIGN(const std::optional<Entry> original, store_->LookIfThere(job.there_path, job.call));
  if (!original || original->version != job.node.remote.version) return false;
  return IsCopy(job, "", job.there_path, original->version, original->size, made);
}

// What only moves has the version that is known, wherever it is. Where it was sent and another one
// stands, a power cut has taken the memory of that: neither is to go for the other.
Result<bool> Evidence::MatchesKnownVersion(const Job& job, const Entry& made) {
  const Node& node = job.node;
  const bool moves = node.remote.place == RemotePlace::kMoved &&
                     !(node.dirty & (kData | kAttemptHadData)) && node.copy.path.empty();
  if (!moves || made.version == node.remote.version) return true;
  return IsCopy(job, "", job.there_path, node.remote.version, node.remote.size, made);
}

// Without the lock. The sign of it: the store answers for a name that it does not list, beside the
// one that it does.
Result<bool> Evidence::IsAliasOfSelf(const Job& job, const std::string& path) {
  const auto [folder, name] = Parted(path);
  const auto [old_folder, old_name] = Parted(job.there_path);
  if (job.there_path.empty() || folder != old_folder || name == old_name) return false;
  if (job.node.kind == NodeKind::kFolder && !store_->Can().moves_folders) return false;
  PG_ASSIGN(const std::optional<Entry> answers, store_->LookIfThere(path, job.call));
  if (!answers) return false;
  PG_ASSIGN(const auto listed, ListsNames(folder, name, old_name, job.call));
  return !listed.first && listed.second;
}

Result<std::pair<bool, bool>> Evidence::ListsNames(const std::string& folder, const std::string& a,
                                                   const std::string& b, const Call& call) {
  std::pair<bool, bool> found{false, false};
  for (std::string next;;) {
    PG_ASSIGN(const ListPage page, store_->List(folder, next, call));
    for (const Entry& entry : page.entries) {
      found.first = found.first || entry.name == a;
      found.second = found.second || entry.name == b;
    }
    next = page.next;
    if (next.empty()) return found;
  }
}

// Two names in one folder: it answers for both, and lists one of them.
Result<bool> Evidence::AreAliases(const std::string& a, const std::string& b, const Call& call) {
  for (const std::string& path : {a, b}) {
    PG_ASSIGN(const std::optional<Entry> answers, store_->LookIfThere(path, call));
    if (!answers) return false;
  }
  const auto [folder, name] = Parted(a);
  PG_ASSIGN(const auto listed, ListsNames(folder, name, Parted(b).second, call));
  return listed.first != listed.second;
}

// Without the lock: was the file itself moved there, and nobody learnt of it? Then it is all that
// the store has of it, and goes back the same way.
Result<bool> Evidence::HasMovedTo(const Job& job, const Entry& made) {
  if (!store_->Can().moves_files || job.there_path.empty() || job.there_path == job.tried_path)
    return false;
  if (made.version != job.node.remote.version || made.size != job.node.remote.size) return false;
  PG_ASSIGN(const std::optional<Entry> original, store_->LookIfThere(job.there_path, job.call));
  // (others may have put another there since)
  return !original || original->version != job.node.remote.version;
}

std::optional<Outcome> Evidence::WaitForAttempt(NodeId id) {
  View view(&tree_);
  const Steady now = options_.clock->Now();
  const Steady end = provenance_.recent(view).MissingSince(id) + options_.may_be_late;
  if (now >= end) return std::nullopt;
  return Outcome::Again(std::chrono::ceil<Duration>(end - now),
                        "an earlier request without an answer may still arrive at the store");
}

// A copy tells nobody who had it made. If that was another machine, which moves the same file to
// the same place, the original will be gone in a moment, and the copy is all that there is then. A
// machine that takes longer looks for its copy before it removes the original
// (TombstoneNeedsCheck).
bool Evidence::CopyMayBeForeign(NodeId id) {
  View view(&tree_);
  const Steady now = options_.clock->Now();
  const Steady seen = provenance_.recent(view).CopySeenSince(id);
  const bool may = now < seen + kAnothers * options_.may_be_late;
  if (may) provenance_.recent(view).ForgetMissing(id);  // looked at again as long as that
  return may;
}

// Without the lock: is the file that a former attempt was to copy not at its old place any more?
// Then others may have moved it to the new one, and what stands there is no copy.
Result<bool> Evidence::IsOnlyCopy(const Job& job, const Entry& made) {
  const Node& node = job.node;
  const bool needed =
      !(node.dirty & (kData | kAttemptHadData)) || made.version == node.remote.version;
  if (!needed || job.there_path.empty() || job.there_path == job.tried_path) return false;
  PG_ASSIGN(const std::optional<Entry> original, store_->LookIfThere(job.there_path, job.call));
  return !original || original->version != node.remote.version;
}

// It may have replaced a whole file: it leaves from there as any other, when what comes to its
// place has come, and is not deleted before.
Result<bool> Evidence::IsOnlyVersionAtStore(const Job& job) {
  if (!job.there_path.empty() || !job.node.copy.path.empty()) return false;
  if (job.node.effective == Placement::kLocal) return false;
  View view(&tree_);
  PG_ASSIGN(const auto other,
            view.index().FindRemote(job.node.attempt.parent, job.node.attempt.name, false));
  return !other || other->gone();
}

// Without the lock: was it sent there for a file that has left this place meanwhile? A request that
// was called off can still arrive at the store, after all that is known of it was dropped. But
// others may have moved that file there, and this be all there is of it.
Result<bool> Evidence::IsAbandonedWrite(const Job& job, const Entry& there) {
  std::string original, version;
  {
    View view(&tree_);
    const NodeId writer = provenance_.WrittenBy(there.attributes.origin);
    if (!provenance_.recent(view).IsAbandonedWrite(writer, job.path,
                                                   kCalledOff * options_.may_be_late))
      return false;
    const auto inode = view.Get(writer);
    if (!inode.ok() || (*inode)->node.remote.place == RemotePlace::kNone) return true;
    PG_ASSIGN(original, view.RemotePath((*inode)->node));
    version = (*inode)->node.remote.version;
  }
  PG_ASSIGN(const std::optional<Entry> still, store_->LookIfThere(original, job.call));
  return still && still->version == version;
}

// Was what stands at the new place brought there by a former attempt? Others may have put another
// file at the old one since.
Result<bool> Evidence::IsEarlierCopy(const Job& job, const std::string& from, Code refused,
                                     const Entry& target) {
  const std::string& version = job.node.remote.version;
  if (store_->Can().moves_files && refused != Code::kNotFound) {
    if (target.version != version) return false;
    PG_ASSIGN(const std::optional<Entry> source, store_->LookIfThere(from, job.call));
    if (source && source->version == version) return false;  // it is still there
  }
  return IsCopy(job, "", from, version, job.node.remote.size, target);
}

// ---- copies

bool Evidence::MayBeCopy(const std::string& version, std::uint64_t size, const Entry& copy) const {
  if (copy.kind == Kind::kFolder || copy.size != size) return false;
  return copy.version == version || !store_->TellsContent(version);
}

// Most versions are digests of the content, and a copy has its original's. Of the others only the
// store knows: it copies it once more, and the copies are compared.
Result<bool> Evidence::IsCopy(const Job& job, const std::string& below, const std::string& from,
                              const std::string& version, std::uint64_t size, const Entry& copy) {
  if (!MayBeCopy(version, size, copy)) return false;
  if (copy.version == version) return true;
  if (store_->Can().moves_files) return false;  // each copy is a version of its own
  const Call& call = job.call;
  const std::string scratch = below + std::string(kScratchPrefix) + "same-" +
                              Hex(Md5(from + "\n" + version + "\n" + provenance_.own_id()));
  if (send_log_.CopiedInParts(size) && below.empty()) {
    PG_TRY(send_log_.AbortMultipart(job.node.upload_log, call));
    PG_TRY(send_log_.JournalUnknownMultipart(job.id, scratch));
  }
  const auto again =
      store_->Copy(from, version, size, scratch, nullptr, Precondition::Anything(), call);
  if (!again.ok()) {
    if (IsGone(again.error().code)) return false;
    return again.error();
  }
  PG_TRY(store_->Remove(scratch, Precondition::Anything(), call));
  return again->version == copy.version && again->size == copy.size;
}

Result<std::vector<Entry>> Evidence::AllBelow(const std::string& folder, const Call& call) {
  std::vector<Entry> all;
  for (std::string next;;) {
    PG_ASSIGN(const ListPage page, store_->ListDeep(folder + "/", next, call));
    all.insert(all.end(), page.entries.begin(), page.entries.end());
    next = page.next;
    if (next.empty()) return all;
  }
}

// The file that the store has there below the folder, if that is known.
Result<std::optional<Node>> Evidence::FindRemoteFile(View& view, NodeId folder,
                                                     const std::string& path) {
  std::vector<std::string> parts = Split(path, '/');
  const std::string name = std::move(parts.back());
  parts.pop_back();
  for (const std::string& part : parts) {
    PG_ASSIGN(const auto next, facts_.NodeThere(view, folder, part, true));
    if (!next) return std::optional<Node>();
    folder = next->id;
  }
  return facts_.NodeThere(view, folder, name, false);
}

// ---- back

// A file may have the name as well, or instead.
Result<bool> Evidence::IsFolderAt(const std::string& path, const Call& call) {
  PG_ASSIGN(const std::optional<Entry> there, store_->LookIfThere(path, call));
  if (!there) return false;
  if (there->kind == Kind::kFolder) return true;
  if (store_->Can().real_folders) return false;
  PG_ASSIGN(const std::vector<Entry> below, AllBelow(path, call));
  return !below.empty();
}

}  // namespace pargeter
