#include "provider/sftp/sftp_provider.h"

#include <fmt/format.h>

#include <algorithm>
#include <deque>

#include "base/log.h"
#include "base/random.h"
#include "base/text.h"
#include "base/units.h"
#include "net/uri.h"
#include "provider/compare_sink.h"
#include "provider/paths.h"
#include "provider/trial.h"

namespace pargeter::sftp {
namespace {

constexpr const char* kFolderVersion = "folder";
constexpr Nanos kSecond = 1'000'000'000;
constexpr std::size_t kReadsAtOnce = 16;
constexpr Duration kIdleFor(240000);  // a connection that rested longer may be gone in silence
constexpr Duration kBorrowWithin(60000);

}  // namespace

SftpProvider::SftpProvider(SftpOptions options)
    : options_(std::move(options)), secret_(options_.ssh.secret) {}

bool SftpProvider::SetSecret(std::string secret) {
  const Lock lock(mutex_);
  const bool differs = secret != secret_;
  secret_ = std::move(secret);
  return differs;
}

Capabilities SftpProvider::Can() const {
  const Lock lock(mutex_);
  Capabilities can;
  can.real_folders = can.moves_folders = can.moves_files = true;
  can.exact_times = can.carries_owners = false;
  can.server_copy = copies_;
  if (!probed_) return can;
  can.holds_links = links_.has;
  can.create = rename_keeps_ ? Guard::kAtomic : Guard::kCheckFirst;
  can.replace = Guard::kCheckFirst;
  return can;
}

SftpProvider::LinkManners SftpProvider::links() const {
  const Lock lock(mutex_);
  return links_;
}

// ---- connections

Result<std::unique_ptr<Wire>> SftpProvider::Borrow(const Cancel& cancel) {
  const Steady until = std::chrono::steady_clock::now() + kBorrowWithin;
  SshOptions ssh = options_.ssh;
  {
    Lock lock(mutex_);
    for (;;) {
      while (!idle_.empty()) {
        std::unique_ptr<Wire> wire = std::move(idle_.back());
        idle_.pop_back();
        if (std::chrono::steady_clock::now() - wire->last_sign() < kIdleFor) return wire;
        --open_;
      }
      if (open_ < options_.connections) break;
      if (cancel && cancel->cancelled()) return Error(Code::kCancelled, "the request was given up");
      const Steady now = std::chrono::steady_clock::now();
      if (now >= until) return Error(Code::kTimeout, "all connections to the server are busy");
      returned_.WaitUntil(mutex_, std::min(until, now + Duration(200)));
    }
    // one at a time: servers shed those who come in crowds
    while (opening_) {
      if (cancel && cancel->cancelled()) return Error(Code::kCancelled, "the request was given up");
      const Steady now = std::chrono::steady_clock::now();
      if (now >= until) return Error(Code::kTimeout, "the server is slow to let us in");
      returned_.WaitUntil(mutex_, std::min(until, now + Duration(200)));
    }
    opening_ = true;
    ++open_;
    ssh.secret = secret_;
  }
  auto wire = Wire::Open(ssh, heard_, cancel);
  const Lock lock(mutex_);
  opening_ = false;
  returned_.NotifyAll();
  if (wire.ok()) {
    copies_ = (*wire)->Offers("copy-data");
  } else {
    --open_;
    returned_.NotifyOne();
  }
  return wire;
}

void SftpProvider::GiveBack(std::unique_ptr<Wire> wire) {
  const Lock lock(mutex_);
  if (wire->broken())
    --open_;
  else
    idle_.push_back(std::move(wire));
  returned_.NotifyOne();
}

Status SftpProvider::Ping(Duration patience, const Cancel&) {
  return Greet(options_.ssh.host, options_.ssh.port, patience);
}

// ---- looking

std::string SftpProvider::Full(const std::string& path) const {
  std::string full = options_.prefix + path;
  while (full.size() > 1 && full.back() == '/') full.pop_back();
  return full.empty() ? "." : full;
}

namespace {

Entry EntryOf(const FileAttributes& a, std::string name) {
  Entry entry;
  entry.name = std::move(name);
  entry.modified = static_cast<Nanos>(a.mtime.value_or(0)) * kSecond;
  entry.attributes_known = true;
  if (a.permissions) entry.attributes.mode = *a.permissions & 07777;
  entry.attributes.mtime = entry.modified;
  if (a.IsFolder()) {
    entry.kind = Kind::kFolder;
    entry.marker = true;
    entry.version = kFolderVersion;
    return entry;
  }
  entry.kind = a.IsLink() ? Kind::kSymlink : Kind::kFile;
  if (a.IsFile()) entry.size = a.size.value_or(0);
  entry.version = VersionOf(a);
  return entry;
}

}  // namespace

std::string What(std::string_view doing, const std::string& path) {
  return fmt::format("cannot {} {}", doing, path.empty() ? "the folder" : Printable(path));
}

Result<FileAttributes> SftpProvider::AttributesOf(Wire& wire, const std::string& path) {
  const auto lstat = [&](const std::string& at) {
    return wire.Ask(Type::kLstat, Writer().Text(Full(at)).bytes(), Type::kAttrs,
                    What("look at", path));
  };
  const bool hidden = links().hidden;
  Wire::Number target = 0;
  if (hidden) {  // asked along with the other
    PG_ASSIGN(target, wire.Post(Type::kReadlink, Writer().Text(Full(path)).bytes()));
  }
  const auto body = lstat(path);
  if (hidden) {
    const auto link = wire.AwaitBody(target, Type::kName, What("look at", path));
    if (!link.ok() && wire.broken()) return link.error();
    const auto names = link.ok() ? ReadNames(*link) : Result<std::vector<NamedFile>>(link.error());
    if (names.ok() && names->size() == 1) {
      FileAttributes a;
      a.permissions = 0120777;
      a.link = (*names)[0].name;
      return a;
    }
  }
  if (!body.ok() && body.error().code == Code::kStoreFault) {
    // some servers call it a mere failure when a path leads through a file: nothing is there
    for (auto slash = path.find('/'); slash != std::string::npos;
         slash = path.find('/', slash + 1)) {
      const auto above = lstat(path.substr(0, slash));
      if (!above.ok()) break;
      Reader in(*above);
      if (ReadAttributes(&in).IsFile())
        return Error(Code::kNotFound, What("look at", path) + ": a file is on the way to it");
    }
  }
  if (!body.ok()) return body.error();
  Reader in(*body);
  FileAttributes a = ReadAttributes(&in);
  if (!in.good() || !a.permissions)
    return Error(Code::kDamaged, What("look at", path) + ": the server does not say what it is");
  return a;
}

Result<Entry> SftpProvider::EntryAt(Wire& wire, const std::string& path) {
  PG_ASSIGN(const FileAttributes a, AttributesOf(wire, path));
  std::vector<Entry> one = {EntryOf(a, NameIn(path))};
  if (!a.IsFolder() && !a.IsLink() && !a.IsFile())
    return Error(Code::kNotFound, What("look at", path) + ": it is neither file nor folder");
  const std::string plain = IsFolderPath(path) ? path.substr(0, path.size() - 1) : path;
  PG_TRY(ReadLinks(wire, plain.substr(0, plain.rfind('/') + 1), &one));
  return std::move(one[0]);
}

// What the symbolic links among them name.
Status SftpProvider::ReadLinks(Wire& wire, const std::string& folder, std::vector<Entry>* entries) {
  std::vector<std::pair<Entry*, Wire::Number>> asked;
  for (Entry& entry : *entries) {
    if (entry.kind != Kind::kSymlink) continue;
    PG_ASSIGN(const Wire::Number number,
              wire.Post(Type::kReadlink, Writer().Text(Full(folder + entry.name)).bytes()));
    asked.emplace_back(&entry, number);
  }
  const bool hidden = links().hidden;
  for (const auto& [entry, number] : asked) {
    const auto body = wire.AwaitBody(number, Type::kName, What("read the link", entry->name));
    if (!body.ok() && wire.broken()) return body.error();
    const auto names = body.ok() ? ReadNames(*body) : Result<std::vector<NamedFile>>(body.error());
    const bool told = names.ok() && names->size() == 1 && !(*names)[0].name.empty() &&
                      (*names)[0].name.find('\0') == std::string::npos;
    if (told && hidden) {
      FileAttributes a;
      a.link = (*names)[0].name;
      entry->version = VersionOf(a);
    }
    entry->attributes.symlink = told ? AsMade(folder, (*names)[0].name) : kUntold;
    entry->size = 0;
  }
  return {};
}

Result<ListPage> SftpProvider::ListWith(Wire& wire, const std::string& folder) {
  const std::string what = What("list", folder);
  const auto opened =
      wire.Ask(Type::kOpendir, Writer().Text(Full(folder)).bytes(), Type::kHandle, what);
  if (!opened.ok()) {
    const auto there = opened.error().code == Code::kStoreFault
                           ? AttributesOf(wire, folder)
                           : Result<FileAttributes>(opened.error());
    if (wire.broken()) return opened.error();
    if (there.ok() && !there->IsFolder())
      return Error(Code::kNotFolder, Printable(folder) + " is a file there");
    return there.ok() ? opened.error() : there.error();
  }
  const std::string handle(Reader(*opened).Text());
  ListPage page;
  Status outcome;
  for (;;) {
    auto body = wire.Ask(Type::kReaddir, Writer().Text(handle).bytes(), Type::kName, what);
    if (!body.ok()) {
      if (body.error().code != Code::kDamaged) outcome = body.error();  // else that was all
      break;
    }
    auto names = ReadNames(*body);
    if (!names.ok() || names->empty()) {
      outcome =
          names.ok() ? Error(Code::kDamaged, what + ": the server says nothing") : names.error();
      break;
    }
    for (NamedFile& file : *names) {
      if (file.name == "." || file.name == "..") continue;
      const FileAttributes& a = file.attributes;
      if (!Sayable(file.name) || file.name.empty() || file.name.find('/') != std::string::npos) {
        Log(LogLevel::kWarning, "the server listed {}, which no folder can hold: left out",
            Printable(file.name));
      } else if (a.IsFolder() || a.IsFile() || a.IsLink()) {
        page.entries.push_back(EntryOf(a, std::move(file.name)));
      }  // devices and the like are left out
    }
  }
  if (!wire.broken()) Ignore(wire.Do(Type::kClose, Writer().Text(handle).bytes(), what));
  PG_TRY(outcome);
  PG_TRY(ReadLinks(wire, folder, &page.entries));
  return page;
}

Result<ListPage> SftpProvider::List(const std::string& folder, const std::string&,
                                    const Cancel& cancel) {
  if (!Sayable(folder)) return Error(Code::kNotFound, "there can be no " + Printable(folder));
  auto page = With(cancel, [&](Wire& wire) { return ListWith(wire, folder); });
  // the drive's own folder must not seem to have become empty
  if (!page.ok() && page.error().code == Code::kNotFound && !folder.empty()) return ListPage();
  if (!page.ok() || !LinksLookTurned(*page)) return page;
  // whether the server has made those targets absolute is found out by a link of our own
  if (!Probe(cancel).ok()) return page;
  return With(cancel, [&](Wire& wire) { return ListWith(wire, folder); });
}

// Is there a link to an absolute place, and nobody has tried yet how the server treats them?
bool SftpProvider::LinksLookTurned(const ListPage& page) {
  const bool any = std::any_of(page.entries.begin(), page.entries.end(), [](const Entry& entry) {
    return entry.kind == Kind::kSymlink && entry.attributes.symlink.value_or("").rfind('/', 0) == 0;
  });
  const Lock lock(mutex_);
  return any && !probed_ && !std::exchange(links_asked_, true);
}

// `next` is the folders that are still to be listed, relative to `folder`, each after a NUL.
Result<ListPage> SftpProvider::ListDeep(const std::string& folder, const std::string& next,
                                        const Cancel& cancel) {
  const auto cut = next.rfind('\0');
  const std::string below = next.empty() ? "" : next.substr(cut + 1);
  ListPage page;
  page.next = next.empty() ? "" : next.substr(0, cut);
  auto listed = With(cancel, [&](Wire& wire) { return ListWith(wire, folder + below); });
  if (!listed.ok())
    return listed.error().code == Code::kNotFound || listed.error().code == Code::kNotFolder
               ? Result<ListPage>(std::move(page))
               : listed.error();
  if (below.empty() && !folder.empty()) {
    Entry self;  // as a store of flat keys has it
    self.version = kFolderVersion;
    page.entries.push_back(std::move(self));
  }
  for (Entry& entry : listed->entries) {
    entry.name.insert(0, below);
    if (entry.kind == Kind::kFolder) {
      entry.name += "/";
      page.next += std::string(1, '\0') + entry.name;
      entry.kind = Kind::kFile;
    }
    page.entries.push_back(std::move(entry));
  }
  return page;
}

Result<Entry> SftpProvider::Look(const std::string& path, const Cancel& cancel) {
  if (!Sayable(path)) return Error(Code::kNotFound, "there can be no " + Printable(path));
  return With(cancel, [&](Wire& wire) { return EntryAt(wire, path); });
}

Result<std::vector<Entry>> SftpProvider::Browse(const std::string& folder, const Cancel& cancel) {
  std::string at = folder;
  if (!at.empty() && at.back() != '/') at += "/";
  PG_ASSIGN(ListPage page, List(at == options_.prefix ? "" : at, "", cancel));
  return std::move(page.entries);
}

// ---- reading

// An open handle reads one file to the end, whatever takes its name meanwhile. Who writes into it
// in place is found out by looking at it again afterwards.
Status SftpProvider::Read(const std::string& path, const std::string& version, std::uint64_t offset,
                          std::uint64_t size, ReadSink* sink, const Cancel& cancel) {
  if (size == 0) return {};
  if (!Sayable(path)) return Error(Code::kNotFound, "there can be no " + Printable(path));
  const std::string what = What("read", path);
  return With(cancel, [&](Wire& wire) -> Status {
    Writer open;
    open.Text(Full(path)).U32(kOpenRead).U32(0);
    PG_ASSIGN(const std::string opened, wire.Ask(Type::kOpen, open.bytes(), Type::kHandle, what));
    const std::string handle(Reader(opened).Text());
    const auto look = [&]() -> Result<Entry> {
      PG_ASSIGN(const std::string body,
                wire.Ask(Type::kFstat, Writer().Text(handle).bytes(), Type::kAttrs, what));
      Reader in(body);
      return EntryOf(ReadAttributes(&in), NameIn(path));
    };
    const Status outcome = [&]() -> Status {
      PG_ASSIGN(const Entry before, look());
      const Error changed(Code::kChanged, what + ": another version is there");
      if (!version.empty() && before.version != version) return changed;
      if (offset >= before.size) return Error(Code::kChanged, what + ": it is shorter than it was");
      PG_TRY(sink->Begin(before));
      const std::uint64_t end = std::min(before.size, offset + size);
      std::deque<std::pair<Wire::Number, std::uint64_t>> asked;  // and how many bytes
      std::uint64_t next = offset, got = offset;
      const auto ask = [&](std::uint64_t at, std::uint64_t bytes) -> Result<Wire::Number> {
        return wire.Post(
            Type::kRead,
            Writer().Text(handle).U64(at).U32(static_cast<std::uint32_t>(bytes)).bytes());
      };
      while (got < end) {
        while (next < end && asked.size() < kReadsAtOnce) {
          const std::uint64_t bytes = std::min<std::uint64_t>(wire.read_size(), end - next);
          PG_ASSIGN(const Wire::Number number, ask(next, bytes));
          asked.emplace_back(number, bytes);
          next += bytes;
        }
        auto [number, left] = asked.front();
        asked.pop_front();
        while (left > 0) {
          const auto body = wire.AwaitBody(number, Type::kData, what);
          Status bad = body.status();
          const std::string_view data = body.ok() ? Reader(*body).Text() : std::string_view();
          if (bad.ok() && (data.empty() || data.size() > left))
            bad = Error(Code::kDamaged, what + ": the server sends something else");
          if (bad.ok()) bad = sink->Write(data);
          if (!bad.ok()) {  // what was asked is answered yet
            for (const auto& [other, bytes] : asked)
              if (!wire.broken()) Ignore(wire.Await(other));
            return bad;
          }
          got += data.size();
          left -= data.size();
          if (left > 0) {  // less than was asked for: the rest once more
            PG_ASSIGN(number, ask(got, left));
          }
        }
      }
      PG_ASSIGN(const Entry after, look());
      return after.version == before.version ? Status() : Status(changed);
    }();
    if (!wire.broken()) Ignore(wire.Do(Type::kClose, Writer().Text(handle).bytes(), what));
    return outcome;
  });
}

Result<bool> SftpProvider::HoldsContent(const std::string& path, const Entry& entry,
                                        WriteSource* source, const Cancel& cancel) {
  if (entry.kind != Kind::kFile || entry.size != source->Size()) return false;
  if (entry.size == 0) return true;
  CompareSink sink(source);
  const Status read = Read(path, entry.version, 0, entry.size, &sink, cancel);
  if (!read.ok() && (read.error().code == Code::kChanged || read.error().code == Code::kNotFound))
    return false;
  if (!read.ok()) return read.error();
  return sink.Same();
}

Result<std::optional<Quota>> SftpProvider::SpaceOfAccount(const Cancel& cancel) {
  return With(cancel, [&](Wire& wire) -> Result<std::optional<Quota>> {
    if (!wire.Offers("statvfs@openssh.com")) return std::optional<Quota>();
    const auto body =
        wire.Ask(Type::kExtended, Writer().Text("statvfs@openssh.com").Text(Full("")).bytes(),
                 Type::kExtendedReply, What("see how much room is in", ""));
    if (!body.ok()) return body.error();
    Reader in(*body);
    in.U64();
    const std::uint64_t unit = in.U64(), blocks = in.U64(), free = in.U64(), available = in.U64();
    if (!in.good()) return std::optional<Quota>();
    return std::optional(Quota{(blocks - std::min(blocks, free)) * unit, available * unit});
  });
}

Result<Provider::Address> SftpProvider::Link(const std::string& path, Duration lasts) {
  if (lasts.count() > 0)
    return Error(Code::kUnsupported, "links to this server cannot be limited in time",
                 "Without --for the file's own address is printed, for users of the server.");
  const std::string full = Full(path);
  const std::string port = options_.ssh.port == 22 ? "" : fmt::format(":{}", options_.ssh.port);
  return Address{
      fmt::format("sftp://{}@{}{}{}{}", PercentEncode(options_.ssh.user), options_.ssh.host, port,
                  full[0] == '/' ? "" : "/~/", PercentEncode(full, KeepSlash::kYes)),
      Duration(0), false};
}

// ---- what the server does

// Does its plain RENAME leave alone what is there?
Status SftpProvider::Probe(const Cancel& cancel) {
  const std::string name = std::string(kScratchPrefix) + RandomName();
  return With(cancel, [&](Wire& wire) -> Status {
    Status outcome;
    for (const char* each : {"a", "b"}) {
      auto handle = OpenScratch(wire, name + each);
      if (!handle.ok()) return handle.error().Within("cannot write to the folder");
      outcome = FinishScratch(wire, *handle, {}, What("try", name));
    }
    Writer plain;
    plain.Text(Full(name + "a")).Text(Full(name + "b"));
    const Status moved = wire.Do(Type::kRename, plain.bytes(), "");
    for (const char* each : {"a", "b"})
      if (!wire.broken())
        Ignore(wire.Do(Type::kRemove, Writer().Text(Full(name + each)).bytes(), ""));
    PG_TRY(outcome);
    if (wire.broken()) return moved;
    PG_ASSIGN(const LinkManners links, TryLinks(wire, name));
    const Lock lock(mutex_);
    probed_ = true;
    rename_keeps_ = !moved.ok();
    links_ = links;
    return {};
  });
}

std::string SftpProvider::ProbeResult() const {
  const Lock lock(mutex_);
  if (!probed_) return "";
  std::string words = "sftp links-tried";
  if (rename_keeps_) words += " rename-keeps";
  if (!links_.has) words += " no-links";
  if (links_.followed) words += " links-followed";
  if (links_.hidden) words += " links-hidden";
  if (links_.absolute) words += " links-below=" + PercentEncode(links_.base, KeepSlash::kYes);
  return words;
}

void SftpProvider::AdoptProbeResult(const std::string& result) {
  const std::vector<std::string> words = Split(result, ' ');
  const auto has = [&](std::string_view word) {
    return std::find(words.begin(), words.end(), word) != words.end();
  };
  // (a former result that says nothing of links is found out anew)
  if (words.empty() || words[0] != "sftp" || !has("links-tried")) return;
  const Lock lock(mutex_);
  probed_ = true;
  rename_keeps_ = has("rename-keeps");
  links_ = {!has("no-links"), has("links-followed"), has("links-hidden"), false, ""};
  constexpr std::string_view kBelow = "links-below=";
  for (const std::string& word : words) {
    if (word.compare(0, kBelow.size(), kBelow) != 0) continue;
    links_.absolute = true;
    links_.base = PercentDecode(word.substr(kBelow.size()));
  }
}

TestReport SftpProvider::Test(bool may_write, const Cancel& cancel) {
  TestReport report;
  if (!report.Add("reach", Ping(options_.ssh.patience, cancel), "the host answers")) return report;
  if (!report.Add("sign in", With(cancel, [](Wire&) -> Status { return {}; }),
                  "the host is known, and lets us in"))
    return report;
  const auto listed = List("", "", cancel);
  if (!report.Add("list", listed.status(), "the folder can be listed")) return report;
  if (!may_write) return report;
  if (const Status probed = Probe(cancel); !probed.ok()) {
    report.Add("write", probed, "");
    return report;
  }
  TryFile(this, kNotGuarded, cancel, &report);
  const LinkManners manners = links();
  if (report.failure) return report;
  if (!manners.has) report.Add("links", {}, "the server holds no symbolic links");
  if (manners.followed)
    report.Add("links", {},
               "the server follows a symbolic link that is renamed: a new one is made instead");
  if (manners.absolute)
    report.Add("links", {},
               "the server gives relative targets back as absolute ones: they are turned back");
  return report;
}

}  // namespace pargeter::sftp
