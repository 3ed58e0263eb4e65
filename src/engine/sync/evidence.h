// Without the tree's lock: did a former attempt of ours make what stands at the store?
#pragma once

#include "engine/context/context.h"
#include "engine/sync/job.h"

namespace pargeter {

class Facts;
class Provenance;
class SendLog;

class Evidence : public Component {
 public:
  Evidence(Context* context, Facts* facts, Provenance* provenance, SendLog* send_log)
      : Component(context), facts_(*facts), provenance_(*provenance), send_log_(*send_log) {}

  Result<bool> IsEarlierCopy(const Job& job, const std::string& from, Code refused,
                             const Entry& target);
  Result<bool> MatchesKnownVersion(const Job& job, const Entry& made);
  Result<bool> IsMadeByAttempt(const Job& job, const Entry& made);
  // The object that an attempt was to make is not there. The request may still be on its way,
  // though it was called off, or its process has died: then the step waits, and looks once more.
  std::optional<Outcome> WaitForAttempt(NodeId id);
  bool CopyMayBeForeign(NodeId id);
  Result<bool> HasMovedTo(const Job& job, const Entry& made);
  // Some stores take names for one that differ only in case or in Unicode form: what stands at
  // `path` is then the file, or folder, itself.
  Result<bool> IsAliasOfSelf(const Job& job, const std::string& path);
  Result<bool> AreAliases(const std::string& a, const std::string& b, const Call& call);
  Result<bool> IsAbandonedWrite(const Job& job, const Entry& there);
  Result<bool> IsOnlyCopy(const Job& job, const Entry& made);
  Result<bool> IsOnlyVersionAtStore(const Job& job);
  Result<bool> IsFolderAt(const std::string& path, const Call& call);
  Result<std::optional<Node>> FindRemoteFile(View& view, NodeId folder, const std::string& path);
  Result<std::vector<Entry>> AllBelow(const std::string& folder, const Call& call);
  // Without the lock. Did the store make it of that version of `from`? False if that is not there
  // any more. To find out it may be copied once more to a folder `below`, below which unfinished
  // uploads are journalled; "": to the drive's own.
  Result<bool> IsCopy(const Job& job, const std::string& below, const std::string& from,
                      const std::string& version, std::uint64_t size, const Entry& copy);

  UnderLock<std::unordered_map<NodeId, Copies>> copied_objects_;  // originals are left
  // By an attempt that failed half-way.
  UnderLock<std::unordered_map<NodeId, std::vector<Kept>>> conflict_copies_;

 private:
  Result<std::pair<bool, bool>> ListsNames(const std::string& folder, const std::string& a,
                                           const std::string& b, const Call& call);
  bool MayBeCopy(const std::string& version, std::uint64_t size, const Entry& copy) const;

  Facts& facts_;
  Provenance& provenance_;
  SendLog& send_log_;
};

}  // namespace pargeter
