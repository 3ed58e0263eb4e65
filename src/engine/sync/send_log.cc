// SendLog: the upload log of a node, and multipart uploads.
#include "engine/sync/send_log.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <ctime>

#include "base/digest.h"
#include "base/log.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"
#include "engine/api/naming.h"
#include "engine/provenance/sent.h"
#include "engine/sync/job.h"
#include "provider/attributes.h"

namespace pargeter {

using Place = BlockStore::Place;

Status SendLog::JournalSent(const Job& job, const std::string& mark) {
  {
    View view(&tree_);
    PG_ASSIGN(Inode * inode, view.Get(job.id));
    const std::uint64_t now = inode->node.generation;
    if (now != job.node.generation && now != inode->sent_generation)
      return Error(Code::kCancelled, "it was changed while it went up");
    inode->node.upload_log = job.node.upload_log;
    inode->node.upload_log.AddSent(mark, job.Place());
    PG_TRY(view.Save(inode));
    if (!(inode->node.dirty & kSynced)) return {};
  }
  return tree_.Sync();
}

Status SendLog::JournalMultipart(NodeId id, const UploadLog& log) {
  View view(&tree_);
  PG_ASSIGN(Inode * inode, view.Get(id));
  inode->node.upload_log = log;
  return view.Save(inode);
}

Status SendLog::JournalUnknownMultipart(NodeId id, const std::string& path) {
  PG_TRY(JournalMultipart(id, UploadLog(MultipartNote{.path = path})));
  return tree_.Sync();
}

Status SendLog::AbortMultipart(const UploadLog& log, const Call& call) {
  const MultipartNote* note = log.multipart();
  if (note == nullptr) return {};
  if (!note->id.empty()) return store_->AbortParts({note->path, note->id}, call);
  PG_ASSIGN(const std::vector<PartedUpload> uploads, store_->ListUploads(call));
  const bool below = note->path.back() == '/';
  for (const PartedUpload& upload : uploads) {
    if (below ? upload.path.compare(0, note->path.size(), note->path) == 0
              : upload.path == note->path)
      PG_TRY(store_->AbortParts(upload, call));
  }
  return {};
}

bool SendLog::CopiedInParts(std::uint64_t size) const {
  const std::uint64_t above = store_->Can().copies_in_parts_above;
  return above > 0 && size > above;
}

}  // namespace pargeter
