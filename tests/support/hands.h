// A drive used by paths, as a person would: what a face does, without a face.
#pragma once

#include <linux/falloc.h>

#include <algorithm>
#include <map>
#include <string>
#include <utility>
#include <vector>

#include "base/text.h"
#include "engine/drive.h"

namespace pargeter::test {

class Hands {
 public:
  explicit Hands(Drive* drive) : drive_(*drive) {}

  static std::pair<std::string, std::string> Parted(const std::string& path) {
    const auto slash = path.rfind('/');
    return slash == std::string::npos
               ? std::make_pair(std::string(), path)
               : std::make_pair(path.substr(0, slash), path.substr(slash + 1));
  }
  Result<NodeId> Find(const std::string& path) {
    NodeId at = kRootId;
    for (const std::string& part : Split(path, '/')) {
      if (part.empty()) continue;
      PG_ASSIGN(const Attr attr, drive_.Lookup(at, part));
      drive_.Forget(attr.id, 1);
      at = attr.id;
    }
    return at;
  }
  // As open with O_CREAT and O_TRUNC, write, close. `sync`: with fsync before the close.
  Status Write(const std::string& path, const std::string& text, bool sync = false) {
    const auto [folder, name] = Parted(path);
    PG_ASSIGN(const NodeId parent, Find(folder));
    PG_ASSIGN(auto opened, drive_.Create(parent, name, 0644, 0, 0, false));
    const auto emptied = drive_.SetAttr(opened.attr.id, AttrChange{.size = 0}, opened.file);
    Status s = emptied.status();
    if (s.ok()) s = Put(opened.file, text, 0);
    if (s.ok() && sync) s = drive_.Fsync(opened.file);
    return Close(opened, s);
  }
  // Writes into a file that is there.
  Status Patch(const std::string& path, const std::string& text, std::uint64_t offset,
               bool sync = false) {
    PG_ASSIGN(const NodeId id, Find(path));
    PG_ASSIGN(auto opened, drive_.OpenNode(id, Drive::Intent::kWrite));
    Status s = Put(opened.file, text, offset);
    if (s.ok() && sync) s = drive_.Fsync(opened.file);
    return Close(opened, s);
  }
  Status Punch(const std::string& path, std::uint64_t offset, std::uint64_t size) {
    PG_ASSIGN(const NodeId id, Find(path));
    PG_ASSIGN(auto opened, drive_.OpenNode(id, Drive::Intent::kWrite));
    return Close(opened, drive_.Allocate(opened.file, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE,
                                         offset, size));
  }
  // As cp does it: by the store, or else by reading and writing.
  Status Copy(const std::string& from, const std::string& to) {
    const auto [folder, name] = Parted(to);
    PG_ASSIGN(const NodeId parent, Find(folder));
    PG_ASSIGN(const NodeId id, Find(from));
    PG_ASSIGN(const auto source, drive_.OpenNode(id, Drive::Intent::kRead));
    const Status done = from == to ? Status() : CopyInto(source, parent, name);
    drive_.Release(source.file);
    return done;
  }
  Status Resize(const std::string& path, std::uint64_t size) {
    PG_ASSIGN(const NodeId id, Find(path));
    const auto done = drive_.SetAttr(id, AttrChange{.size = size}, nullptr);
    return done.status();
  }
  Status SetMode(const std::string& path, std::uint32_t mode) {
    PG_ASSIGN(const NodeId id, Find(path));
    PG_ASSIGN(const Attr attr, drive_.GetAttr(id));
    if (attr.kind == NodeKind::kFolder) return Error(Code::kIsFolder, "a folder");
    const auto done = drive_.SetAttr(id, AttrChange{.mode = mode}, nullptr);
    return done.status();
  }
  Result<std::string> Read(const std::string& path) {
    PG_ASSIGN(const NodeId id, Find(path));
    PG_ASSIGN(auto opened, drive_.OpenNode(id, Drive::Intent::kRead));
    std::string out, piece(128 << 10, '\0');
    for (;;) {
      const auto n = drive_.Read(opened.file, piece.data(), piece.size(), out.size());
      if (!n.ok()) {
        drive_.Release(opened.file);
        return n.error();
      }
      out.append(piece, 0, *n);
      if (*n == 0) break;
    }
    drive_.Release(opened.file);
    return out;
  }
  Status MakeFolder(const std::string& path, std::uint32_t mode = 0755) {
    const auto [folder, name] = Parted(path);
    PG_ASSIGN(const NodeId parent, Find(folder));
    PG_ASSIGN(const Attr made, drive_.MakeFolder(parent, name, mode, 0, 0));
    drive_.Forget(made.id, 1);
    return {};
  }
  Status Remove(const std::string& path) {
    const auto [folder, name] = Parted(path);
    PG_ASSIGN(const NodeId parent, Find(folder));
    return drive_.Unlink(parent, name);
  }
  Status RemoveFolder(const std::string& path) {
    const auto [folder, name] = Parted(path);
    PG_ASSIGN(const NodeId parent, Find(folder));
    return drive_.RemoveFolder(parent, name);
  }
  Status Move(const std::string& from, const std::string& to) {
    const auto [folder, name] = Parted(from);
    const auto [new_folder, new_name] = Parted(to);
    PG_ASSIGN(const NodeId parent, Find(folder));
    PG_ASSIGN(const NodeId new_parent, Find(new_folder));
    return drive_.Rename(parent, name, new_parent, new_name, Drive::Replace::kYes);
  }
  Result<std::vector<DirEntry>> List(const std::string& path) {
    PG_ASSIGN(const NodeId id, Find(path));
    PG_TRY(drive_.OpenFolder(id));
    std::vector<DirEntry> out;
    for (NodeId after = 0;;) {
      PG_ASSIGN(auto some, drive_.ReadFolder(id, after, 100, false));
      if (some.empty()) break;
      after = some.back().attr.id;
      for (DirEntry& entry : some) out.push_back(std::move(entry));
    }
    std::sort(out.begin(), out.end(),
              [](const DirEntry& a, const DirEntry& b) { return a.name < b.name; });
    return out;
  }
  // Everything: folders end in "/" and have no content.
  Result<std::map<std::string, std::string>> Tree(const std::string& below = "") {
    std::map<std::string, std::string> out;
    PG_ASSIGN(const auto entries, List(below));
    for (const DirEntry& entry : entries) {
      const std::string path = below.empty() ? entry.name : below + "/" + entry.name;
      if (entry.attr.kind == NodeKind::kFolder) {
        out[path + "/"] = "";
        PG_ASSIGN(auto inner, Tree(path));
        out.merge(inner);
      } else {
        auto text = Read(path);
        if (!text.ok()) return text.error().Within("reading " + path);
        out[path] = std::move(*text);
      }
    }
    return out;
  }
  Status Put(const OpenFilePtr& file, const std::string& text, std::uint64_t offset) {
    for (std::size_t at = 0; at < text.size(); at += 100000)
      PG_TRY(drive_.Write(file, std::string_view(text).substr(at, 100000), offset + at, false));
    return {};
  }

 private:
  Status CopyInto(const Drive::Opened& source, NodeId parent, const std::string& name) {
    PG_ASSIGN(const auto target,
              drive_.Create(parent, name, 0644, 0, 0, false, Drive::Intent::kTruncate));
    const auto copied = drive_.CopyWhole(source.file, 0, target.file, 0, 1u << 30);
    const bool by_bytes = !copied.ok() && copied.error().code == Code::kUnsupported;
    return Close(target, copied.ok() ? Status()
                         : !by_bytes ? Status(copied.error())
                                     : CopyBytes(source.file, target.file));
  }
  Status CopyBytes(const OpenFilePtr& from, const OpenFilePtr& to) {
    std::string piece(128 << 10, '\0');
    for (std::uint64_t at = 0;;) {
      PG_ASSIGN(const std::size_t n, drive_.Read(from, piece.data(), piece.size(), at));
      if (n == 0) return {};
      PG_TRY(drive_.Write(to, std::string_view(piece).substr(0, n), at, false));
      at += n;
    }
  }
  Status Close(const Drive::Opened& opened, Status s) {
    if (s.ok()) s = drive_.Flush(opened.file);
    drive_.Release(opened.file);
    return s;
  }
  Drive& drive_;
};

}  // namespace pargeter::test
