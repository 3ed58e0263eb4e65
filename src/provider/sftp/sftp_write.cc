// SftpProvider: what changes something at the server.
#include <fmt/format.h>

#include <algorithm>
#include <deque>

#include "base/digest.h"
#include "base/text.h"
#include "provider/paths.h"
#include "provider/sftp/sftp_provider.h"

namespace pargeter::sftp {
namespace {

using Want = Precondition::Want;
constexpr std::size_t kWritesAtOnce = 32;
constexpr std::size_t kRemovalsAtOnce = 64;

Error FolderThere(const std::string& path) {
  return Error(Code::kChanged, Printable(path) + " is a folder there");
}
Error NoSuchName(const std::string& path) {
  return Error(Code::kInvalid,
               fmt::format("this server cannot hold anything called {}", Printable(path)),
               "Give it another name.");
}

// A folder on the way is missing, or is a file; some servers call the latter a mere failure.
bool MayLackFolder(const Error& error) {
  return error.code == Code::kNotFound || error.code == Code::kStoreFault;
}

FileAttributes ToSet(const Attributes& a) {
  FileAttributes out;
  if (a.mode) out.permissions = *a.mode & 0777;
  if (a.mtime && *a.mtime >= 0) out.mtime = static_cast<std::uint32_t>(*a.mtime / 1'000'000'000);
  return out;
}

}  // namespace

Error ChangedMeanwhile(const std::string& path) {
  return Error(Code::kChanged,
               fmt::format("{} was changed at the store meanwhile", Printable(path)));
}

std::string VersionOf(const FileAttributes& a) {
  if (a.link) return "to-" + Hex(Md5(*a.link));
  return fmt::format("{}-{}", a.mtime.value_or(0), a.size.value_or(0));
}

std::string FolderOf(const std::string& path) { return path.substr(0, path.rfind('/') + 1); }

// ---- whole files

Result<std::string> SftpProvider::OpenScratch(Wire& wire, const std::string& scratch) {
  Writer open;
  open.Text(Full(scratch)).U32(kOpenWrite | kOpenCreate | kOpenTruncate);
  WriteAttributes({}, &open);
  const std::string what = What("write", scratch);
  auto opened = wire.Ask(Type::kOpen, open.bytes(), Type::kHandle, what);
  if (!opened.ok() && MayLackFolder(opened.error()) && FolderOf(scratch) != "") {
    PG_TRY(MakeParents(wire, scratch));
    opened = wire.Ask(Type::kOpen, open.bytes(), Type::kHandle, what);
  }
  if (!opened.ok()) return Explained(wire, scratch, opened.error());
  return std::string(Reader(*opened).Text());
}

Status SftpProvider::SendBytes(Wire& wire, const std::string& handle, WriteSource* source,
                               const std::string& what) {
  std::deque<Wire::Number> asked;
  Status outcome;
  std::string data(wire.write_size(), '\0');
  for (std::uint64_t at = 0; at < source->Size() || !asked.empty();) {
    while (outcome.ok() && at < source->Size() && asked.size() < kWritesAtOnce) {
      const auto n = source->Read(
          data.data(),
          static_cast<std::size_t>(std::min<std::uint64_t>(data.size(), source->Size() - at)), at);
      if (!n.ok() || *n == 0) {
        outcome = n.ok() ? Error(Code::kCancelled, "the file became shorter while it went up")
                         : n.error();
        break;
      }
      const auto number =
          wire.Post(Type::kWrite,
                    Writer().Text(handle).U64(at).Text(std::string_view(data.data(), *n)).bytes());
      if (!number.ok()) return number.error();
      asked.push_back(*number);
      at += *n;
    }
    if (asked.empty()) break;
    const Status done = wire.AwaitDone(asked.front(), what);
    asked.pop_front();
    if (wire.broken()) return done;
    if (outcome.ok()) outcome = done;
  }
  return outcome;
}

// Mode, time, to the disk, closed.
Status SftpProvider::FinishScratch(Wire& wire, const std::string& handle,
                                   const Attributes& attributes, const std::string& what) {
  const FileAttributes set = ToSet(attributes);
  Status synced;
  if (wire.Offers("fsync@openssh.com"))
    synced =
        wire.Do(Type::kExtended, Writer().Text("fsync@openssh.com").Text(handle).bytes(), what);
  if (wire.broken()) return synced;
  if (set.permissions || set.mtime) {
    Writer body;
    body.Text(handle);
    WriteAttributes(set, &body);
    const Status done = wire.Do(Type::kFsetstat, body.bytes(), what);
    // bytes matter more than a mode that the server does not let us set
    if (!done.ok() && wire.broken()) return done;
  }
  const Status closed = wire.Do(Type::kClose, Writer().Text(handle).bytes(), what);
  return synced.ok() ? closed : synced;
}

// The same for each attempt, so that an interrupted one leaves nothing.
std::string SftpProvider::ScratchFor(const std::string& path, const std::string& origin) {
  return FolderOf(path) + std::string(kScratchPrefix) + "put-" + Hex(Md5(path + "\n" + origin));
}

Status SftpProvider::DropUnfinished(const std::string& path, const std::string& origin,
                                    const Cancel& cancel) {
  if (!Sayable(path) || IsFolderPath(path)) return {};
  return Remove(ScratchFor(path, origin), Precondition::Anything(), cancel);
}

Result<Entry> SftpProvider::Write(const std::string& path, WriteSource* source,
                                  const Attributes& attributes, const Precondition& only_if,
                                  const Cancel& cancel) {
  if (!Sayable(path) || IsFolderPath(path)) return NoSuchName(path);
  const std::string scratch = ScratchFor(path, attributes.origin);
  const std::string what = What("write", path);
  return With(cancel, [&](Wire& wire) -> Result<Entry> {
    if (attributes.symlink) return PutLink(wire, *attributes.symlink, path, only_if);
    PG_TRY(CheckFirst(wire, path, only_if));  // before all the bytes go there for nothing
    auto entry = [&]() -> Result<Entry> {
      PG_ASSIGN(const std::string handle, OpenScratch(wire, scratch));
      const Status sent = SendBytes(wire, handle, source, what);
      if (!sent.ok()) {
        if (!wire.broken()) Ignore(wire.Do(Type::kClose, Writer().Text(handle).bytes(), what));
        return Explained(wire, scratch, sent.error());
      }
      PG_TRY(FinishScratch(wire, handle, attributes, what));
      PG_ASSIGN(const FileAttributes made, AttributesOf(wire, scratch));
      if (made.size.value_or(0) != source->Size())
        return Error(Code::kDamaged,
                     fmt::format("the server took {} but holds {} of its {} bytes", Printable(path),
                                 made.size.value_or(0), source->Size()));
      return Settle(wire, scratch, VersionOf(made), path, only_if);
    }();
    if (!entry.ok() && !wire.broken())
      Ignore(wire.Do(Type::kRemove, Writer().Text(Full(scratch)).bytes(), what));
    return entry;
  });
}

Result<bool> SftpProvider::CheckFirst(Wire& wire, const std::string& path,
                                      const Precondition& only_if) {
  const auto there = AttributesOf(wire, path);
  if (!there.ok() && there.error().code != Code::kNotFound) return there.error();
  if (there.ok() && there->IsFolder()) return FolderThere(path);
  if (only_if.want == Want::kNothingThere && there.ok()) return ChangedMeanwhile(path);
  if (only_if.want == Want::kThisVersion && (!there.ok() || VersionOf(*there) != only_if.version))
    return ChangedMeanwhile(path);
  return there.ok();
}

Result<Entry> SftpProvider::Settle(Wire& wire, const std::string& scratch, const std::string& ours,
                                   const std::string& path, const Precondition& only_if) {
  PG_ASSIGN(const bool there, CheckFirst(wire, path, only_if));
  PG_TRY(there ? MoveOver(wire, scratch, path) : Rename(wire, scratch, path));
  const auto now = EntryAt(wire, path);
  if (now.ok() && now->version == ours) return now;
  if (!now.ok() && now.error().code != Code::kNotFound) return now.error();
  const auto left = AttributesOf(wire, scratch);
  if (!left.ok() && left.error().code != Code::kNotFound) return left.error();
  return left.ok() || !now.ok() ? NotDone(path) : ChangedMeanwhile(path);
}

// Onto a file that is there: in one step where the server can.
Status SftpProvider::MoveOver(Wire& wire, const std::string& from, const std::string& to) {
  Writer names;
  const std::string what = What("write", to);
  if (wire.Offers("posix-rename@openssh.com"))
    return wire.Do(Type::kExtended,
                   names.Text("posix-rename@openssh.com").Text(Full(from)).Text(Full(to)).bytes(),
                   what);
  PG_TRY(wire.Do(Type::kRemove, Writer().Text(Full(to)).bytes(), what));
  return Rename(wire, from, to);
}

// To where nothing is: kChanged if something came there.
Status SftpProvider::Rename(Wire& wire, const std::string& from, const std::string& to) {
  Writer names;
  names.Text(Full(from)).Text(Full(to));
  const std::string what = What("move", from);
  Status moved = wire.Do(Type::kRename, names.bytes(), what);
  if (moved.ok() || wire.broken()) return moved;
  if (MayLackFolder(moved.error()) && FolderOf(to) != "") {
    PG_TRY(AttributesOf(wire, from));
    PG_TRY(MakeParents(wire, to));
    moved = wire.Do(Type::kRename, names.bytes(), what);
    if (moved.ok() || wire.broken()) return moved;
  }
  const auto there = AttributesOf(wire, to);
  return there.ok() ? Status(ChangedMeanwhile(to)) : moved;
}

// A bare "failure" often means that the disk there, or the user's share of it, is full.
Error SftpProvider::Explained(Wire& wire, const std::string& path, Error error) {
  if (error.code != Code::kStoreFault || wire.broken() || !wire.Offers("statvfs@openssh.com"))
    return error;
  const auto body = wire.Ask(
      Type::kExtended, Writer().Text("statvfs@openssh.com").Text(Full(FolderOf(path))).bytes(),
      Type::kExtendedReply, "");
  if (!body.ok()) return error;
  Reader in(*body);
  for (int i = 0; i < 4; ++i) in.U64();
  if (in.U64() > 0 || !in.good()) return error;
  return Error(Code::kOverQuota, error.what + ": the disk there is full",
               "Free space there; what waits here is kept and tried again.");
}

// ---- folders

Status SftpProvider::MakeParents(Wire& wire, const std::string& path) {
  PG_TRY(AttributesOf(wire, ""));  // a drive whose own folder is gone does not make it anew
  for (auto slash = path.find('/'); slash != std::string::npos && slash + 1 < path.size();
       slash = path.find('/', slash + 1)) {
    const std::string folder = path.substr(0, slash);
    Writer make;
    make.Text(Full(folder));
    WriteAttributes({}, &make);
    const Status made = wire.Do(Type::kMkdir, make.bytes(), What("make the folder", folder));
    if (made.ok()) continue;
    if (wire.broken()) return made;
    const auto there = AttributesOf(wire, folder);
    if (!there.ok()) return made;
    if (!there->IsFolder() && !there->IsLink())
      return Error(Code::kChanged, Printable(folder) + " is a file there, not a folder");
  }
  return {};
}

Status SftpProvider::MakeFolder(const std::string& path, const Attributes& attributes,
                                const Cancel& cancel) {
  const std::string folder = IsFolderPath(path) ? path : path + "/";
  if (!Sayable(folder)) return NoSuchName(path);
  return With(cancel, [&](Wire& wire) -> Status {
    PG_TRY(MakeParents(wire, folder + "x"));
    FileAttributes set = ToSet(attributes);
    if (!set.permissions && !set.mtime) return {};
    if (set.permissions) *set.permissions |= 0700;  // else nobody of us could use it
    Writer body;
    body.Text(Full(folder));
    WriteAttributes(set, &body);
    const Status done = wire.Do(Type::kSetstat, body.bytes(), What("set the attributes of", path));
    return wire.broken() ? done : Status();
  });
}

Status SftpProvider::RemoveFolderWith(Wire& wire, const std::string& path) {
  const auto there = AttributesOf(wire, path);
  if (!there.ok()) return there.error().code == Code::kNotFound ? Status() : Status(there.error());
  if (!there->IsFolder()) return {};
  Writer name;
  name.Text(Full(path));
  Status gone = wire.Do(Type::kRmdir, name.bytes(), What("delete the folder", path));
  if (gone.ok() || wire.broken() || gone.error().code == Code::kNotFound)
    return wire.broken() ? gone : Status();
  const auto inside = ListWith(wire, path);
  if (!inside.ok()) return inside.error().code == Code::kNotFound ? Status() : inside.error();
  for (const Entry& entry : inside->entries)
    if (!IsOwnScratchName(entry.name)) return {};  // what others put in keeps it
  if (inside->entries.empty()) return gone;
  for (const Entry& entry : inside->entries)
    Ignore(wire.Do(Type::kRemove, Writer().Text(Full(path + entry.name)).bytes(), ""));
  return wire.Do(Type::kRmdir, name.bytes(), What("delete the folder", path));
}

Status SftpProvider::RemoveFolder(const std::string& path, const Cancel& cancel) {
  const std::string folder = IsFolderPath(path) ? path : path + "/";
  if (!Sayable(folder)) return {};
  return With(cancel, [&](Wire& wire) { return RemoveFolderWith(wire, folder); });
}

Status SftpProvider::MoveFolder(const std::string& from, const std::string& to,
                                const Cancel& cancel) {
  return With(cancel, [&](Wire& wire) -> Status {
    const auto taken = AttributesOf(wire, to);
    if (!taken.ok() && taken.error().code != Code::kNotFound) return taken.error();
    const auto source = AttributesOf(wire, from);
    if (!source.ok() && source.error().code != Code::kNotFound) return source.error();
    if (!source.ok() || !source->IsFolder()) {
      // the answer to a move that succeeded may have been lost
      if (taken.ok() && taken->IsFolder()) return {};
      return Error(Code::kNotFound, fmt::format("there is no folder {}", Printable(from)));
    }
    if (taken.ok()) return ChangedMeanwhile(to);
    PG_TRY(Rename(wire, from, to));
    const auto arrived = AttributesOf(wire, to);
    if (arrived.ok() && arrived->IsFolder()) return {};
    return arrived.ok() || arrived.error().code == Code::kNotFound ? NotDone(to) : arrived.error();
  });
}

// ---- copies, moves and deletions

Result<Entry> SftpProvider::MoveFile(const std::string& from, const std::string& version,
                                     const std::string& to, const Precondition& only_if,
                                     const Cancel& cancel) {
  if (!Sayable(to)) return NoSuchName(to);
  return With(cancel, [&](Wire& wire) -> Result<Entry> {
    PG_ASSIGN(const FileAttributes original, AttributesOf(wire, from));
    if (original.IsFolder() || VersionOf(original) != version) return ChangedMeanwhile(from);
    if (original.IsLink()) return MoveLink(wire, from, to, only_if);
    return Settle(wire, from, version, to, only_if);
  });
}

Status SftpProvider::CopyBytes(Wire& wire, const std::string& from, const std::string& to,
                               std::uint64_t size, const std::string& what) {
  constexpr std::uint64_t kPiece = 64ull << 20;
  if (!wire.Offers("copy-data")) {  // through this machine, then
    std::string data;
    for (std::uint64_t at = 0; at < size;) {
      Writer read;
      read.Text(from).U64(at).U32(wire.read_size());
      PG_ASSIGN(const std::string body, wire.Ask(Type::kRead, read.bytes(), Type::kData, what));
      const std::string_view piece = Reader(body).Text();
      if (piece.empty()) return Error(Code::kChanged, what + ": it is shorter than it was");
      PG_TRY(wire.Do(Type::kWrite, Writer().Text(to).U64(at).Text(piece).bytes(), what));
      at += piece.size();
    }
    return {};
  }
  for (std::uint64_t at = 0; at < size; at += kPiece) {  // piece by piece: each is answered in time
    Writer copy;
    copy.Text("copy-data").Text(from).U64(at).U64(std::min(kPiece, size - at)).Text(to).U64(at);
    PG_TRY(wire.Do(Type::kExtended, copy.bytes(), what));
  }
  return {};
}

Result<Entry> SftpProvider::Copy(const std::string& from, const std::string& version, std::uint64_t,
                                 const std::string& to, const Attributes* attributes,
                                 const Precondition& only_if, const Cancel& cancel) {
  if (IsFolderPath(to)) {
    PG_TRY(MakeFolder(to, attributes ? *attributes : Attributes(), cancel));
    return Look(to, cancel);
  }
  if (!Sayable(to)) return NoSuchName(to);
  const std::string what = What("copy", from);
  const std::string scratch = FolderOf(to) + std::string(kScratchPrefix) + "copy-" +
                              Hex(Md5(from + "\n" + to + "\n" + version));
  return With(cancel, [&](Wire& wire) -> Result<Entry> {
    PG_ASSIGN(const Entry original, EntryAt(wire, from));
    if (original.kind == Kind::kFolder || (!version.empty() && original.version != version))
      return ChangedMeanwhile(from);
    Attributes set = attributes != nullptr ? *attributes : original.attributes;
    if (from == to) {
      const FileAttributes plain = ToSet(set);
      if (attributes != nullptr && original.kind == Kind::kFile &&
          (plain.permissions || plain.mtime)) {
        Writer body;
        body.Text(Full(to));
        WriteAttributes(plain, &body);
        PG_TRY(wire.Do(Type::kSetstat, body.bytes(), What("set the attributes of", to)));
      }
      return EntryAt(wire, to);
    }
    if (original.kind == Kind::kSymlink) {
      PG_ASSIGN(const std::string link_target, TargetOf(original, from));
      return PutLink(wire, link_target, to, only_if);
    }
    PG_TRY(CheckFirst(wire, to, only_if));
    auto entry = [&]() -> Result<Entry> {
      Writer open;
      open.Text(Full(from)).U32(kOpenRead).U32(0);
      PG_ASSIGN(const std::string opened, wire.Ask(Type::kOpen, open.bytes(), Type::kHandle, what));
      const std::string source(Reader(opened).Text());
      Status copied;
      auto target = OpenScratch(wire, scratch);
      if (!target.ok()) {
        copied = target.error();
      } else {
        copied = CopyBytes(wire, source, *target, original.size, what);
        if (wire.broken()) return copied.error();
        const Status finished = FinishScratch(wire, *target, set, what);
        if (copied.ok()) copied = finished;
      }
      if (!wire.broken()) Ignore(wire.Do(Type::kClose, Writer().Text(source).bytes(), what));
      PG_TRY(copied);
      PG_ASSIGN(const FileAttributes still, AttributesOf(wire, from));
      if (VersionOf(still) != original.version) return ChangedMeanwhile(from);
      PG_ASSIGN(const FileAttributes made, AttributesOf(wire, scratch));
      if (made.size.value_or(0) != original.size) return NotDone(to);
      return Settle(wire, scratch, VersionOf(made), to, only_if);
    }();
    if (!entry.ok() && !wire.broken())
      Ignore(wire.Do(Type::kRemove, Writer().Text(Full(scratch)).bytes(), what));
    return entry;
  });
}

Status SftpProvider::Remove(const std::string& path, const Precondition& only_if,
                            const Cancel& cancel) {
  PG_ASSIGN(
      const auto failed,
      RemoveMany({{path, only_if.want == Want::kThisVersion ? only_if.version : ""}}, cancel));
  return failed.empty() ? Status() : Status(failed.front().second);
}

// Files: all are looked at, then all that are still what they were go; many questions under way at
// once. Then folders, the deepest first.
Result<std::vector<std::pair<std::string, Error>>> SftpProvider::RemoveMany(
    const std::vector<Removal>& removals, const Cancel& cancel) {
  using Failed = std::vector<std::pair<std::string, Error>>;
  std::vector<Removal> files, folders;
  for (const Removal& removal : removals) {
    if (Sayable(removal.path)) (IsFolderPath(removal.path) ? folders : files).push_back(removal);
  }
  std::stable_sort(folders.begin(), folders.end(), [](const Removal& a, const Removal& b) {
    return a.path.size() > b.path.size();
  });
  return With(cancel, [&](Wire& wire) -> Result<Failed> {
    Failed failed;
    for (std::size_t from = 0; from < files.size(); from += kRemovalsAtOnce) {
      const std::size_t to = std::min(files.size(), from + kRemovalsAtOnce);
      std::vector<Wire::Number> looks;
      for (std::size_t i = from; i < to; ++i) {
        PG_ASSIGN(const Wire::Number number,
                  wire.Post(Type::kLstat, Writer().Text(Full(files[i].path)).bytes()));
        looks.push_back(number);
      }
      std::vector<std::pair<std::size_t, Wire::Number>> going;
      for (std::size_t i = from; i < to; ++i) {
        const std::string& path = files[i].path;
        const auto body = wire.AwaitBody(looks[i - from], Type::kAttrs, What("look at", path));
        if (!body.ok() && wire.broken()) return body.error();
        if (!body.ok()) {
          if (body.error().code != Code::kNotFound) failed.emplace_back(path, body.error());
          continue;
        }
        Reader in(*body);
        FileAttributes a = ReadAttributes(&in);
        if (links().hidden && !files[i].version.empty() && VersionOf(a) != files[i].version) {
          PG_ASSIGN(a, AttributesOf(wire, path));  // a link, perhaps
        }
        if (a.IsFolder()) {
          failed.emplace_back(path, FolderThere(path));
        } else if (!files[i].version.empty() && VersionOf(a) != files[i].version) {
          failed.emplace_back(path, ChangedMeanwhile(path));
        } else {
          PG_ASSIGN(const Wire::Number number,
                    wire.Post(Type::kRemove, Writer().Text(Full(path)).bytes()));
          going.emplace_back(i, number);
        }
      }
      for (const auto& [i, number] : going) {
        const Status gone = wire.AwaitDone(number, What("delete", files[i].path));
        if (!gone.ok() && wire.broken()) return gone.error();
        if (!gone.ok() && gone.error().code != Code::kNotFound)
          failed.emplace_back(files[i].path, gone.error());
      }
    }
    for (const Removal& folder : folders) {
      const Status gone = RemoveFolderWith(wire, folder.path);
      if (!gone.ok() && wire.broken()) return gone.error();
      if (!gone.ok()) failed.emplace_back(folder.path, gone.error());
    }
    return failed;
  });
}

}  // namespace pargeter::sftp
