// SendLog: Node::upload and uploads in parts.
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
    PG_ASSIGN(Live * live, view.Get(job.id));
    const std::uint64_t now = live->node.generation;
    if (now != job.node.generation && now != live->upload_of)
      return Error(Code::kCancelled, "it was changed while it went up");
    live->node.upload = WithSent(job.node.upload, job.Place(), mark);
    PG_TRY(view.Save(live));
    if (!(live->node.dirty & kSynced)) return {};
  }
  return tree_.Sync();
}

Status SendLog::JournalParts(NodeId id, const std::string& upload) {
  View view(&tree_);
  PG_ASSIGN(Live * live, view.Get(id));
  live->node.upload = upload;
  return view.Save(live);
}

// Before one is begun whose id may never be heard: not even a power cut leaves one at the store
// that nobody ends. `path` as for EndParts.
Status SendLog::JournalUnknownParts(NodeId id, const std::string& path) {
  PG_TRY(JournalParts(id, "?\n" + path));
  return tree_.Sync();
}

// Ends what is journalled of an upload in parts: "MARK:SIZE:ID" and its path in two lines, or "?"
// and the path where it is not known whether it was begun, nor under which id; all below a path
// that ends in "/".
Status SendLog::EndParts(const std::string& journalled, const Call& call) {
  if (!HasParts(journalled)) return {};
  const auto end = journalled.find('\n');
  const std::string path = journalled.substr(end + 1);
  if (journalled[0] != '?') {
    const auto colon = journalled.find(':', journalled.find(':') + 1);
    return store_->AbortParts({path, journalled.substr(colon + 1, end - colon - 1)}, call);
  }
  PG_ASSIGN(const std::vector<PartedUpload> uploads, store_->ListUploads(call));
  const bool below = path.back() == '/';
  for (const PartedUpload& upload : uploads) {
    if (below ? upload.path.compare(0, path.size(), path) == 0 : upload.path == path)
      PG_TRY(store_->AbortParts(upload, call));
  }
  return {};
}

bool SendLog::CopiedInParts(std::uint64_t size) const {
  const std::uint64_t above = store_->Can().copies_in_parts_above;
  return above > 0 && size > above;
}

}  // namespace pargeter
