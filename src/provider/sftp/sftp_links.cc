// SftpProvider: symbolic links. A server may follow one when it is renamed, so that the file that
// it names moves instead, and may give back a relative target as an absolute one: both are tried.
#include <fmt/format.h>

#include <filesystem>

#include "base/digest.h"
#include "base/log.h"
#include "base/text.h"
#include "provider/paths.h"
#include "provider/sftp/sftp_provider.h"

namespace pargeter::sftp {

// Exclusively: nothing is replaced. kChanged: something is at `path`.
Status SftpProvider::MakeLink(Wire& wire, const std::string& target, const std::string& path) {
  // OpenSSH takes the two the other way round than the draft, and all others follow it
  Writer link;
  link.Text(target).Text(Full(path));
  const std::string what = What("make the symbolic link", path);
  Status made = wire.Do(Type::kSymlink, link.bytes(), what);
  if (!made.ok() && !wire.broken() && FolderOf(path) != "" &&
      !AttributesOf(wire, FolderOf(path)).ok()) {
    PG_TRY(MakeParents(wire, path));
    made = wire.Do(Type::kSymlink, link.bytes(), what);
  }
  if (made.ok() || wire.broken()) return made;
  return AttributesOf(wire, path).ok() ? Status(ChangedMeanwhile(path)) : made;
}

Result<Entry> SftpProvider::PutLink(Wire& wire, const std::string& target, const std::string& path,
                                    const Precondition& only_if) {
  const LinkManners manners = links();
  if (!manners.has)
    return Error(Code::kUnsupported,
                 fmt::format("this server cannot hold the symbolic link {}", Printable(path)));
  PG_ASSIGN(const bool there, CheckFirst(wire, path, only_if));
  if (there && !manners.followed) {
    const std::string scratch =
        FolderOf(path) + std::string(kScratchPrefix) + "link-" + Hex(Md5(path + "\n" + target));
    const auto remove = [&] {
      return wire.Do(Type::kRemove, Writer().Text(Full(scratch)).bytes(), "");
    };
    Ignore(remove());
    PG_TRY(MakeLink(wire, target, scratch));
    const Status moved = MoveOver(wire, scratch, path);
    if (!moved.ok() && !wire.broken()) Ignore(remove());
    PG_TRY(moved);
  } else {
    if (there)
      PG_TRY(wire.Do(Type::kRemove, Writer().Text(Full(path)).bytes(), What("replace", path)));
    PG_TRY(MakeLink(wire, target, path));
  }
  auto made = EntryAt(wire, path);
  if (!made.ok() && made.error().code == Code::kNotFound) return NotDone(path);
  if (!made.ok()) return made;
  if (made->kind != Kind::kSymlink) return NotDone(path);
  if (made->attributes.symlink != target)
    Log(LogLevel::kWarning, "the server gives the symbolic link {} back with another target: {}",
        Printable(path), Printable(made->attributes.symlink.value_or("")));
  return made;
}

// A link must not be made anew without its target.
Result<std::string> SftpProvider::TargetOf(const Entry& link, const std::string& path) {
  const std::string target = link.attributes.symlink.value_or(kUntold);
  if (target != kUntold) return target;
  return Error(
      Code::kStoreFault,
      fmt::format("the server does not tell the target of the symbolic link {}", Printable(path)),
      "Give the account the right to read the link.");
}

// A new link and the removal of the old one, where a rename would move what the link names.
Result<Entry> SftpProvider::MoveLink(Wire& wire, const std::string& from, const std::string& to,
                                     const Precondition& only_if) {
  bool followed = false;
  {
    const Lock lock(mutex_);
    followed = !probed_ || links_.followed;
  }
  PG_ASSIGN(const Entry link, EntryAt(wire, from));
  if (!followed) return Settle(wire, from, link.version, to, only_if);
  PG_ASSIGN(const std::string target, TargetOf(link, from));
  PG_ASSIGN(Entry made, PutLink(wire, target, to, only_if));
  PG_TRY(wire.Do(Type::kRemove, Writer().Text(Full(from)).bytes(), What("move", from)));
  return made;
}

// With a file and a link of its own, whose names begin with `name`. What is found is known at once:
// the steps after it depend on that.
Result<SftpProvider::LinkManners> SftpProvider::TryLinks(Wire& wire, const std::string& name) {
  const std::string file = name + "c", link = name + "d", moved = name + "e";
  LinkManners found;
  const auto know = [&] {
    const Lock lock(mutex_);
    links_ = found;
  };
  const auto listed_kind = [&]() -> Result<Kind> {
    PG_ASSIGN(const ListPage page, ListWith(wire, ""));
    for (const Entry& entry : page.entries)
      if (entry.name == link) return entry.kind;
    return Error(Code::kNotFound, "it is not listed");
  };
  const Status outcome = [&]() -> Status {
    know();
    PG_ASSIGN(const std::string handle, OpenScratch(wire, file));
    PG_TRY(FinishScratch(wire, handle, {}, What("try", name)));
    const Status made = MakeLink(wire, file, link);
    if (!made.ok()) {
      found.has = false;
      return wire.broken() ? made : Status();
    }
    auto entry = EntryAt(wire, link);
    if (entry.ok() && entry->kind != Kind::kSymlink) {
      found.hidden = true;
      know();
      entry = EntryAt(wire, link);
    }
    if (!entry.ok()) return entry.error();
    PG_ASSIGN(const Kind listed, listed_kind());
    found.has = entry->kind == Kind::kSymlink && listed == Kind::kSymlink;
    if (!found.has) return {};
    const std::string told = entry->attributes.symlink.value_or(""), end = "/" + file;
    found.absolute = told[0] == '/' && told.size() >= end.size() &&
                     told.compare(told.size() - end.size(), std::string::npos, end) == 0;
    if (found.absolute) found.base = told.substr(0, told.size() - file.size());
    const Status renamed = Rename(wire, link, moved);
    if (!renamed.ok() && wire.broken()) return renamed;
    const auto still = AttributesOf(wire, file), went = AttributesOf(wire, moved);
    if (wire.broken()) return Error(Code::kUnavailable, What("try", name));
    found.followed = !still.ok() || !went.ok() || !went->IsLink();
    return {};
  }();
  for (const std::string& each : {link, moved, file})
    if (!wire.broken()) Ignore(wire.Do(Type::kRemove, Writer().Text(Full(each)).bytes(), ""));
  PG_TRY(outcome);
  return found;
}

// The target that a link in `folder` was made with, where the server gives it back as an absolute
// one. (A target that was absolute, and below the drive's folder, looks the same.)
std::string SftpProvider::AsMade(const std::string& folder, std::string target) const {
  const LinkManners manners = links();
  const std::string& base = manners.base;
  if (!manners.absolute || target.compare(0, base.size(), base) != 0) return target;
  const std::filesystem::path inside("/" + target.substr(base.size()));
  return inside.lexically_relative("/" + FolderOf(folder)).string();
}

}  // namespace pargeter::sftp
