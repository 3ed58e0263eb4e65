// Notes what uploads have begun at the store, so that it is known again after a lost answer, or
// aborted.
#pragma once

#include "engine/context/context.h"
#include "engine/sync/job.h"

namespace pargeter {

class SendLog : public Component {
 public:
  explicit SendLog(Context* context) : Component(context) {}

  // Notes a mark before the last byte of an upload goes. kCancelled: the content was changed since
  // the job was planned. If that content was synced, the note is flushed: a power cut must not
  // leave a version at the store that the index does not know.
  Status JournalSent(const Job& job, const std::string& mark);
  Status JournalMultipart(NodeId id, const UploadLog& log);
  // Before a multipart upload is begun whose id may never be heard; flushed, so that not even a
  // power cut leaves one at the store that is never aborted. `path`: MultipartNote::path.
  Status JournalUnknownMultipart(NodeId id, const std::string& path);
  // Aborts the multipart upload of the log, if there is one.
  Status AbortMultipart(const UploadLog& log, const Call& call);
  bool CopiedInParts(std::uint64_t size) const;
};

}  // namespace pargeter
