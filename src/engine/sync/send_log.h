// What was begun to be sent is written down, so that it is known again, or ended.
#pragma once

#include "engine/context/context.h"
#include "engine/sync/job.h"

namespace pargeter {

class SendLog : public Component {
 public:
  explicit SendLog(Context* context) : Component(context) {}

  // Before the last of it goes. kCancelled: its content was changed since the job was planned. A
  // power cut after an fsync of that must not leave a version at the store that is not journalled.
  Status JournalSent(const Job& job, const std::string& mark);
  Status JournalParts(NodeId id, const std::string& upload);
  Status JournalUnknownParts(NodeId id, const std::string& path);
  Status EndParts(const std::string& journalled, const Call& call);
  bool CopiedInParts(std::uint64_t size) const;

 private:
};

}  // namespace pargeter
