// Provenance: origins, and what is known better than an older answer.
#include "engine/provenance/provenance.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>
#include <cstdlib>
#include <map>
#include <utility>
#include <vector>

#include "base/log.h"
#include "base/random.h"
#include "base/text.h"
#include "base/units.h"
#include "engine/api/naming.h"
#include "engine/bytes/sources.h"
#include "engine/content/contents.h"
#include "engine/provenance/marks.h"
#include "engine/provenance/sent.h"

namespace pargeter {

namespace {
constexpr std::string_view kAside = "aside-";

class DigestSink : public ReadSink {
 public:
  Status Begin(const Entry&) override {
    md5_.Reset();
    return {};
  }
  Status Write(std::string_view data) override {
    md5_.Update(data);
    return {};
  }
  std::string Finish() { return md5_.Finish(); }

 private:
  Md5Stream md5_;
};
}  // namespace

// That the store did not have it where it was asked for, since `asked`, means nothing: it, or a
// folder that it is in there, may have been moved by a step of ours, or was just then.
bool Provenance::AbsenceIsInconclusive(View& view, const Node& node, Steady asked) {
  const Capabilities can = store_->Can();
  for (Node at = node;;) {
    if (recent(view).WasChangedSince(at.id, asked)) return true;
    if (MayHaveMovedInOneRequest(can, at)) return true;
    const NodeId up = at.remote_parent();
    const auto above = up == kNoNode || up == kRootId ? Result<Inode*>(nullptr) : view.Get(up);
    if (!above.ok() || *above == nullptr) return false;
    at = (*above)->node;
  }
}

bool Provenance::NeedsRemotePlace(const Node& node) {
  return !node.gone() &&
         (node.remote.place == RemotePlace::kNone || node.remote.place == RemotePlace::kMoved);
}

std::string Provenance::TempName(NodeId id) const {
  return fmt::format("{}{}{}", kScratchPrefix, kAside, OriginOf(id));
}

bool Provenance::IsTempName(std::string_view name) {
  return IsOwnScratchName(name) && name.substr(kScratchPrefix.size(), kAside.size()) == kAside;
}

std::string Provenance::OriginOf(NodeId id) const { return fmt::format("{}.{}", own_id_, id); }

// The node of that origin; kNoNode: another machine's, or a program's that says nothing of it.
NodeId Provenance::WrittenBy(const std::string& origin) const {
  if (origin.compare(0, own_id_.size() + 1, own_id_ + ".") != 0) return kNoNode;
  return std::strtoll(origin.c_str() + own_id_.size() + 1, nullptr, 10);
}

bool Provenance::OriginIsConclusive(const Node& node, const std::string& place) const {
  return WrittenBy(WriterOf(node)) > last_id_before_cut_ || node.upload_log.multipart() ||
         node.upload_log.Contains({kTrustOrigin, place});
}

// The upload log that lets our origin mark tell, wherever this node may have been sent.
UploadLog Provenance::TrustOriginEverywhere(const Node& node) {
  std::vector<std::string> places;
  if (node.remote.place != RemotePlace::kNone) places.push_back(RemotePlaceId(node));
  if (NeedsRemotePlace(node)) places.push_back(PlaceIdIn(node.parent, KeyPart(node)));
  if (node.attempt.parent != kNoNode)
    places.push_back(PlaceIdIn(node.attempt.parent, node.attempt.name));
  UploadLog log = node.upload_log;
  if (log.multipart()) log.Clear();
  for (const std::string& place : places) log.AddSent(kTrustOrigin, place);
  return log;
}

// What stands there is what we knew, with attributes that we sent, and nobody learnt that they
// came.
Result<bool> Provenance::OnlyAttributesDiffer(const Node& node, const std::string& path,
                                              const Entry& there, const Call& call) {
  // (that it is of this node is not enough: a power cut may have taken the memory of an upload)
  if (!(node.dirty & kAttributes) || there.size != node.remote.size) return false;
  // other bytes, though as many and of the same second
  if (there.version != node.remote.version && store_->TellsContent(node.remote.version) &&
      store_->TellsContent(there.version))
    return false;
  PG_ASSIGN(const bool sent, WasSent(node, RemotePlaceId(node), path, there, call));
  if (!sent || !there.attributes.origin.empty()) return sent;
  // nobody says whose it is: compared, if all of it is here
  std::shared_ptr<Content> content;
  {
    View view(&tree_);
    const auto inode = view.Get(node.id);
    if (!inode.ok() || (*inode)->node.kind != NodeKind::kFile) return sent;
    PG_ASSIGN(content, contents_.OpenContent(view, *inode));
    const Lock lock(content->mu);
    const bool same = content->place == BlockStore::Place::kCache && !content->written &&
                      content->base.version == node.remote.version;
    if (!same || !content->present.Missing({0, there.size}).empty()) return sent;
  }
  HereSource source(content, there.size, options_.disk);
  return store_->HoldsContent(path, there, &source, call);
}

// Its bytes are those that are here, and all that is to be sent still is.
Status Provenance::AdoptVersion(View& view, Inode* inode, const Entry& there) {
  inode->node.remote.version = there.version;
  if (inode->content) {
    const Lock lock(inode->content->mu);
    inode->content->base.version = there.version;
  }
  recent(view).NoteChanged(inode->node.id);
  return view.Save(inode);
}

// Something in it may have been sent by a request without an answer, and may come yet.
Result<bool> Provenance::HasAttemptBelow(View& view, NodeId folder) {
  PG_ASSIGN(const std::vector<NodeId> above, view.index().FoldersWithAttempts());
  for (NodeId up : above) {
    while (up != kNoNode && up != kRootId && up != folder) {
      const auto inode = view.Get(up);
      up = inode.ok() ? (*inode)->node.parent : kNoNode;
    }
    if (up == folder) return true;
  }
  return false;
}

void Provenance::ForgetTombstone(View& view, const Node& left) {
  recent(view).ForgetTombstone(WrittenBy(left.target), left.id);
}

Status Provenance::DisownTombstones(View& view, NodeId moved) {
  for (const NodeId id : recent(view).TombstonesOf(moved)) {
    const auto left = view.Get(id);
    if (!left.ok() || !IsTombstone((*left)->node) || WrittenBy((*left)->node.target) != moved)
      continue;
    (*left)->node.target = kDisowned;
    PG_TRY(view.Save(*left));
  }
  return {};
}

// Who sent what is at its place: of what a move left behind, that which moved.
std::string Provenance::WriterOf(const Node& node) const {
  return node.name.empty() && !node.target.empty() ? node.target : OriginOf(node.id);
}

Result<bool> Provenance::WasSent(const Node& node, const std::string& place,
                                 const std::string& path, const Entry& there, const Call& call) {
  if (there.kind == Kind::kFolder || (node.dirty & kMaybeStale) ||
      !node.upload_log.WasSentTo(place))
    return false;
  std::vector<std::string> marks;
  for (const SentMark& one : node.upload_log.sent())
    if (one.place == place) marks.push_back(one.mark);
  const auto among = [&marks](const std::string& mark) {
    return std::find(marks.begin(), marks.end(), mark) != marks.end();
  };
  // (another machine may have sent as many in the same second)
  const std::string& origin = there.attributes.origin;
  if (there.attributes.mtime && (origin.empty() || origin == WriterOf(node)) &&
      among(TimeMark(there.size, *there.attributes.mtime)))
    return true;
  const std::string so_long = std::to_string(there.size) + ":";
  if (std::none_of(marks.begin(), marks.end(),
                   [&](const std::string& mark) { return mark.rfind(so_long, 0) == 0; }))
    return false;
  DigestSink sink;
  if (there.size > 0) {
    const Status read = store_->Read(path, there.version, 0, there.size, &sink, call);
    if (!read.ok() && (read.error().code == Code::kChanged || read.error().code == Code::kNotFound))
      return false;
    if (!read.ok()) return read.error();
  } else {
    PG_TRY(sink.Begin(there));
  }
  return among(BytesMark(there.size, sink.Finish()));
}

std::string Provenance::RemotePlaceId(const Node& node) {
  return PlaceIdIn(node.remote_parent(), RemoteName(node));
}

}  // namespace pargeter
