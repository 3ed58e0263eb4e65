// Without the tree's lock: did a former attempt of ours make what stands at the store?
#pragma once

#include "engine/context/context.h"
#include "engine/sync/job.h"

namespace pargeter {

class Facts;
class Planner;
class Provenance;
class SendLog;

class Evidence : public Component {
 public:
  Evidence(Context* context, Facts* facts, Provenance* provenance, Planner* planner,
           SendLog* send_log)
      : Component(context),
        facts_(*facts),
        provenance_(*provenance),
        planner_(*planner),
        send_log_(*send_log) {}

  Result<bool> MadeBefore(const Job& job, const std::string& from, Code refused,
                          const Entry& target);
  Result<bool> IsWhatIsKnown(const Job& job, const Entry& made);
  Result<bool> MadeBy(const Job& job, const Entry& made);
  bool MayBeLate(Job* job);
  bool MayBeAnothers(NodeId id);
  Result<bool> WentThere(const Job& job, const Entry& made);
  // Some stores take names for one that differ only in case or in Unicode form: what stands at
  // `path` is then the file, or folder, itself.
  Result<bool> IsItself(const Job& job, const std::string& path);
  Result<bool> AreOne(const std::string& a, const std::string& b, const Call& call);
  Result<bool> IsLate(const Job& job, const Entry& there);
  Result<bool> IsAllThereIs(const Job& job, const Entry& made);
  Result<bool> IsAllTheStoreHas(const Job& job);
  Result<bool> IsFolderAt(const std::string& path, const Call& call);
  Result<std::optional<Node>> FileThere(View& view, NodeId folder, const std::string& path);
  Result<std::vector<Entry>> AllBelow(const std::string& folder, const Call& call);
  // Without the lock. Did the store make it of that version of `from`? False if that is not there
  // any more. To find out it may be copied once more to a folder `below`, below which unfinished
  // uploads are journalled; "": to the drive's own.
  Result<bool> IsCopy(const Job& job, const std::string& below, const std::string& from,
                      const std::string& version, std::uint64_t size, const Entry& copy);
  Result<bool> WentAlong(const Job& job);

  UnderLock<std::unordered_map<NodeId, Copies>> copied_below_;  // originals are left
  // By an attempt that failed half-way.
  UnderLock<std::unordered_map<NodeId, std::vector<Kept>>> kept_below_;

 private:
  Result<std::pair<bool, bool>> ListsNames(const std::string& folder, const std::string& a,
                                           const std::string& b, const Call& call);
  bool MayBeCopy(const std::string& version, std::uint64_t size, const Entry& copy) const;

  Facts& facts_;
  Provenance& provenance_;
  Planner& planner_;
  SendLog& send_log_;
};

}  // namespace pargeter
