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
bool Provenance::MayBeElsewhere(View& view, const Node& node, Steady asked) {
  const Capabilities can = store_->Can();
  for (Node at = node;;) {
    const auto acked = acked_(view).find(at.id);
    if (acked != acked_(view).end() && acked->second >= asked) return true;
    if (MayHaveMoved(can, at)) return true;
    const NodeId up = at.remote_parent();
    const auto above = up == kNoNode || up == kRootId ? Result<Live*>(nullptr) : view.Get(up);
    if (!above.ok() || *above == nullptr) return false;
    at = (*above)->node;
  }
}

bool Provenance::Goes(const Node& node) {
  return !node.gone() && (node.there == There::kAbsent || node.there == There::kElsewhere);
}

std::string Provenance::AsideName(NodeId id) const {
  return fmt::format("{}{}{}", kScratchPrefix, kAside, OriginOf(id));
}

bool Provenance::IsAsideName(std::string_view name) {
  return IsOwnScratchName(name) && name.substr(kScratchPrefix.size(), kAside.size()) == kAside;
}

std::string Provenance::OriginOf(NodeId id) const { return fmt::format("{}.{}", own_id_, id); }

// The node of that origin; kNoNode: another machine's, or a program's that says nothing of it.
NodeId Provenance::WrittenBy(const std::string& origin) const {
  if (origin.compare(0, own_id_.size() + 1, own_id_ + ".") != 0) return kNoNode;
  return std::strtoll(origin.c_str() + own_id_.size() + 1, nullptr, 10);
}

bool Provenance::SignTells(const Node& node, const std::string& place) const {
  return WrittenBy(WriterOf(node)) > last_of_cut_ || HasParts(node.upload) ||
         AnythingSentTo(node.upload, place);
}

// Node::upload that lets our sign tell, wherever this node may have been sent.
std::string Provenance::WithAnything(const Node& node) {
  std::vector<std::string> places;
  if (node.there != There::kAbsent) places.push_back(PlaceThere(node));
  if (Goes(node)) places.push_back(PlaceIn(node.parent, KeyPart(node)));
  if (node.tried_parent != kNoNode) places.push_back(PlaceIn(node.tried_parent, node.tried_name));
  std::string upload = HasParts(node.upload) ? "" : node.upload;
  for (const std::string& place : places) upload = WithSent(upload, place, kAnything);
  return upload;
}

// What stands there is what we knew, with attributes that we sent, and nobody learnt that they
// came.
Result<bool> Provenance::OnlyAttributesDiffer(const Node& node, const std::string& path,
                                              const Entry& there, const Call& call) {
  // (that it is of this node is not enough: a power cut may have taken the memory of an upload)
  if (!(node.dirty & kAttributes) || there.size != node.there_size) return false;
  // other bytes, though as many and of the same second
  if (there.version != node.version && store_->TellsContent(node.version) &&
      store_->TellsContent(there.version))
    return false;
  PG_ASSIGN(const bool sent, WasSent(node, PlaceThere(node), path, there, call));
  if (!sent || !there.attributes.origin.empty()) return sent;
  // nobody says whose it is: compared, if all of it is here
  std::shared_ptr<Content> content;
  {
    View view(&tree_);
    const auto live = view.Get(node.id);
    if (!live.ok() || (*live)->node.kind != NodeKind::kFile) return sent;
    PG_ASSIGN(content, contents_.ContentOf(view, *live));
    const Lock lock(content->mu);
    const bool same = content->place == BlockStore::Place::kCache && !content->written &&
                      content->source.version == node.version;
    if (!same || !content->present.Missing({0, there.size}).empty()) return sent;
  }
  HereSource source(content, there.size, options_.disk);
  return store_->HoldsContent(path, there, &source, call);
}

// Its bytes are those that are here, and all that is to be sent still is.
Status Provenance::AdoptVersion(View& view, Live* live, const Entry& there) {
  live->node.version = there.version;
  if (live->content) {
    const Lock lock(live->content->mu);
    live->content->source.version = there.version;
  }
  acked_(view)[live->node.id] = options_.clock->Now();
  return view.Save(live);
}

// Something in it may have been sent by a request without an answer, and may come yet.
Result<bool> Provenance::WasTriedBelow(View& view, NodeId folder) {
  PG_ASSIGN(const std::vector<NodeId> above, view.index().TriedIn());
  for (NodeId up : above) {
    while (up != kNoNode && up != kRootId && up != folder) {
      const auto live = view.Get(up);
      up = live.ok() ? (*live)->node.parent : kNoNode;
    }
    if (up == folder) return true;
  }
  return false;
}

void Provenance::ForgetLeft(View& view, const Node& left) {
  const auto [first, end] = left_by_(view).equal_range(WrittenBy(left.target));
  for (auto it = first; it != end; ++it)
    if (it->second == left.id) {
      left_by_(view).erase(it);
      return;
    }
}

Status Provenance::LeaveThem(View& view, NodeId moved) {
  const auto [first, end] = left_by_(view).equal_range(moved);
  for (auto it = first; it != end; ++it) {
    const auto left = view.Get(it->second);
    if (!left.ok() || !IsLeftBehind((*left)->node) || WrittenBy((*left)->node.target) != moved)
      continue;
    (*left)->node.target = kStays;
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
  if (there.kind == Kind::kFolder || (node.dirty & kUnsure) || !SentTo(node.upload, place))
    return false;
  std::vector<std::string> marks;
  for (const SentMark& one : ParseSent(node.upload))
    if (one.place == place) marks.push_back(one.of);
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

std::string Provenance::PlaceThere(const Node& node) {
  return PlaceIn(node.remote_parent(), ThereName(node));
}

}  // namespace pargeter
