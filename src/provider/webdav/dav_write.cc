// DavProvider: what changes something at the server.
#include <fmt/format.h>

#include <algorithm>

#include "base/digest.h"
#include "base/log.h"
#include "base/text.h"
#include "provider/attributes.h"
#include "provider/compare_sink.h"
#include "provider/paths.h"
#include "provider/webdav/dav_provider.h"

namespace pargeter::webdav {
namespace {

using Want = Precondition::Want;

// Long enough for a look and a move. A process that dies in between leaves it at the server, which
// refuses everybody until it lapses: the next start of the same drive, too.
constexpr const char* kLockFor = "Second-20";

class SourceBody : public BodySource {
 public:
  explicit SourceBody(WriteSource* source) : source_(source) {}
  std::uint64_t Size() const override { return source_->Size(); }
  Result<std::size_t> Read(char* data, std::size_t size, std::uint64_t offset) override {
    return source_->Read(data, size, offset);
  }

 private:
  WriteSource* source_;
};

std::string Quoted(const std::string& version) { return "\"" + version + "\""; }

Error ChangedMeanwhile(const std::string& path) {
  return Error(Code::kChanged,
               fmt::format("{} was changed at the store meanwhile", Printable(path)));
}

}  // namespace

// Says for which resource: without, servers take it for the folder above, too. RFC 4918 10.4.3.
std::string DavProvider::Tagged(const std::string& path, const std::string& etag) const {
  return fmt::format("<{}> ([{}])", wire_.UrlOf(options_.prefix + path), etag);
}

// Sends a call whose condition is that `version` is at `path`. A server that takes the condition
// for nonsense (400) gets the call once more without it, after a look.
Result<HttpResponse> DavProvider::SendIf(Call call, const std::string& path,
                                         const std::string& version) {
  int status = 0;
  if (call.status == nullptr) call.status = &status;
  auto answer = Send(call);
  if (answer.ok() || *call.status != 400) return answer;
  const auto conditions = std::erase_if(
      call.headers, [](const auto& h) { return h.first == "if" || h.first == "if-match"; });
  if (conditions == 0) return answer;
  PG_ASSIGN(const Item there, ItemAt(path, call.cancel));
  if (EntryOf(there, "").version != version) return ChangedMeanwhile(path);
  return Send(call);
}

// ---- whole files

Result<Entry> DavProvider::Write(const std::string& path, WriteSource* source,
                                 const Attributes& attributes, const Precondition& only_if,
                                 const Cancel& cancel) {
  if (!Sayable(path) || IsFolderPath(path))
    return Error(Code::kInvalid,
                 fmt::format("this server cannot hold a file called {}", Printable(path)),
                 "Give it another name.");
  return WritesDirectly(learnt()) ? WriteDirectly(path, source, attributes, only_if, cancel)
                                  : WriteAside(path, source, attributes, only_if, cancel);
}

Result<Entry> DavProvider::WriteDirectly(const std::string& path, WriteSource* source,
                                         const Attributes& attributes, const Precondition& only_if,
                                         const Cancel& cancel) {
  SourceBody body(source);
  Call call = NewCall("PUT", path, "write", cancel);
  call.source = &body;
  call.headers = {{"content-type", "application/octet-stream"}};
  if (only_if.want == Want::kNothingThere) call.headers.emplace_back("if-none-match", "*");
  if (only_if.want == Want::kThisVersion)
    call.headers.emplace_back("if-match", Quoted(only_if.version));
  auto response = SendMakingFolders(call, path);
  if (!response.ok() && response.error().code == Code::kInvalid &&
      only_if.want == Want::kThisVersion)
    response = SendIf(call, path, only_if.version);
  if (!response.ok() && response.error().code == Code::kChanged &&
      only_if.want == Want::kThisVersion) {
    // a fresh tag may be a weak one, which matches no such condition: named as it is, it does
    const auto there = ItemAt(path, cancel);
    if (there.ok() && PlainEtag(there->etag) == only_if.version &&
        there->etag != Quoted(only_if.version)) {
      call.headers.back() = {"if", Tagged(path, there->etag)};
      response = SendIf(call, path, only_if.version);
    }
  }
  if (!response.ok()) return response.error();
  Entry entry;
  entry.name = NameIn(path);
  entry.size = source->Size();
  entry.version = PlainEtag(response->head.Get("etag"));
  if (entry.version.empty()) {  // it names no version: that is looked up
    const auto there = ItemAt(path, cancel);
    if (!there.ok() && there.error().code == Code::kNotFound) return NotDone(path);
    if (!there.ok()) return there.error();
    if (there->size != entry.size) return NotDone(path);
    entry.version = EntryOf(*there, "").version;
  }
  entry.attributes = attributes;
  entry.attributes_known = true;
  PG_TRY(SetProperties(path, path, attributes, entry.version, cancel));
  return entry;
}

// The same for each attempt, so that an interrupted one leaves nothing.
std::string DavProvider::ScratchFor(const std::string& path, const std::string& origin) {
  return path.substr(0, path.rfind('/') + 1) + std::string(kScratchPrefix) + "put-" +
         Hex(Md5(path + "\n" + origin));
}

Status DavProvider::DropUnfinished(const std::string& path, const std::string& origin,
                                   const Cancel& cancel) {
  if (!Sayable(path) || IsFolderPath(path) || WritesDirectly(learnt())) return {};
  return RemoveNow(ScratchFor(path, origin), "", cancel);
}

// Under a name that nobody else uses first: what is there is known before it takes the place.
Result<Entry> DavProvider::WriteAside(const std::string& path, WriteSource* source,
                                      const Attributes& attributes, const Precondition& only_if,
                                      const Cancel& cancel) {
  const std::string scratch = ScratchFor(path, attributes.origin);
  SourceBody body(source);
  Call call = NewCall("PUT", scratch, "write", cancel);
  call.what = fmt::format("cannot write {}", Printable(path));
  call.source = &body;
  call.headers = {{"content-type", "application/octet-stream"}};
  auto entry = [&]() -> Result<Entry> {
    PG_TRY(SendMakingFolders(call, scratch));
    PG_TRY(SetProperties(scratch, path, attributes, "", cancel));
    const auto put = ItemAt(scratch, cancel);
    if (!put.ok() && put.error().code == Code::kNotFound) return NotDone(path);
    if (!put.ok()) return put.error();
    const Item& item = *put;
    if (item.size != source->Size())
      return Error(Code::kDamaged, fmt::format("the server took {} but holds {} of its {} bytes",
                                               Printable(path), item.size, source->Size()));
    return Settle(scratch, item, path, only_if, cancel);
  }();
  if (!entry.ok() && !MayRetry(entry.error().code))
    Ignore(Send(NewCall("DELETE", scratch, "clear away", cancel)));
  return entry;
}

Result<Entry> DavProvider::Settle(const std::string& scratch, const Item& ours,
                                  const std::string& path, const Precondition& only_if,
                                  const Cancel& cancel) {
  const Entry entry = EntryOf(ours, NameIn(path));
  const Status moved = MoveOver(scratch, path, only_if, cancel);
  if (!moved.ok() && moved.error().code != Code::kNotFound && moved.error().code != Code::kChanged)
    return moved.error();
  // The answer proves nothing: an acknowledged move may not have happened, and the answer to a move
  // that happened may have been lost.
  const auto there = ItemAt(path, cancel);
  if (!there.ok()) {
    if (!moved.ok()) return moved.error();
    return there.error().code == Code::kNotFound ? NotDone(path) : there.error();
  }
  const Entry now = EntryOf(*there, entry.name);
  const bool alike =
      now.size == entry.size && now.attributes.origin == entry.attributes.origin && !there->folder;
  const bool same = alike && now.version == entry.version;
  if (moved.ok() && same) return now;
  const auto left = ItemAt(scratch, cancel);
  if (!left.ok() && left.error().code != Code::kNotFound) return left.error();
  if (left.ok()) return moved.ok() ? NotDone(path) : moved.error();
  // (where a move makes another version, the writer's sign or the answer has to do)
  const bool renamed =
      alike && !learnt().move_keeps && (moved.ok() || !now.attributes.origin.empty());
  if (same || renamed) return now;
  return moved.ok() ? ChangedMeanwhile(path) : moved.error();
}

Result<std::optional<Item>> DavProvider::CheckFirst(const std::string& path,
                                                    const Precondition& only_if,
                                                    const Cancel& cancel) {
  auto there = ItemAt(path, cancel);
  if (!there.ok() && there.error().code != Code::kNotFound) return there.error();
  const bool is = there.ok();
  if (is && there->folder) return Error(Code::kChanged, Printable(path) + " is a folder there");
  if (only_if.want == Want::kNothingThere && is) return ChangedMeanwhile(path);
  if (only_if.want == Want::kThisVersion && (!is || EntryOf(*there, "").version != only_if.version))
    return ChangedMeanwhile(path);
  return is ? std::optional<Item>(std::move(*there)) : std::nullopt;
}

// Nothing but a file is ever moved over: onto a folder, the folder and all in it would go.
Status DavProvider::MoveOver(const std::string& scratch, const std::string& path,
                             const Precondition& only_if, const Cancel& cancel) {
  const Learnt l = learnt();
  Call call = NewCall("MOVE", scratch, "write", cancel);
  call.what = fmt::format("cannot write {}", Printable(path));
  call.to = options_.prefix + path;
  const auto send = [&](const char* overwrite, const std::string& tag) -> Status {
    call.headers = {{"overwrite", overwrite}};
    if (!tag.empty()) call.headers.emplace_back("if", Tagged(path, tag));
    PG_TRY(tag.empty() ? Send(call) : SendIf(call, path, only_if.version));
    return {};
  };
  if (only_if.want == Want::kNothingThere) {
    if (!l.move_absent) PG_TRY(CheckFirst(path, only_if, cancel));
    return send("F", "");
  }
  if (only_if.want == Want::kThisVersion && l.move_version) {
    const Status moved = send("T", Quoted(only_if.version));
    if (moved.ok() || moved.error().code != Code::kChanged) return moved;
  }
  // where no condition is heeded, a lock keeps others out from the look to the act
  std::string token;
  if (l.locks && !l.move_version && only_if.want == Want::kThisVersion) {
    PG_ASSIGN(token, TakeLock(path, cancel));
  }
  const Status moved = [&]() -> Status {
    PG_ASSIGN(const std::optional<Item> there, CheckFirst(path, only_if, cancel));
    if (!there) return send("F", "");
    if (token.empty()) return send("T", l.move_version ? there->etag : "");
    call.headers = {{"overwrite", "T"},
                    {"if", fmt::format("<{}> ({})", wire_.UrlOf(options_.prefix + path), token)}};
    PG_TRY(Send(call));
    return {};
  }();
  if (!token.empty()) {  // what was moved over took its lock along, at most servers
    Call unlock = NewCall("UNLOCK", path, "unlock", nullptr);
    unlock.headers = {{"lock-token", token}};
    Ignore(Send(unlock));
    if (!moved.ok() && moved.error().code == Code::kChanged) {
      // it changed, or this server refuses even a lock that is held: only a look tells
      PG_ASSIGN(const std::optional<Item> there, CheckFirst(path, only_if, cancel));
      return send(there ? "T" : "F", "");
    }
  }
  return moved;
}

// RFC 4918 section 9.10, for a file that is there. "" where the server gives none after all; kBusy:
// somebody else has one.
Result<std::string> DavProvider::TakeLock(const std::string& path, const Cancel& cancel) {
  Call call = NewCall("LOCK", path, "lock", cancel);
  call.headers = {{"depth", "0"}, {"timeout", kLockFor}};
  call.body = LockBody("pargeter");
  const auto taken = Send(call);
  if (!taken.ok()) {
    const Code code = taken.error().code;
    if (code == Code::kBusy || MayRetry(code) || code == Code::kCancelled || code == Code::kSignIn)
      return taken.error();
    return std::string();
  }
  const std::string& token = taken->head.Get("lock-token");
  const bool good = token.size() > 2 && token.size() < 200 && token.front() == '<' &&
                    token.find_first_of("<>()[] \t", 1) == token.size() - 1;
  return good ? token : std::string();
}

Status DavProvider::SetProperties(const std::string& path, const std::string& shown,
                                  const Attributes& attributes, const std::string& version,
                                  const Cancel& cancel) {
  const auto no_links = [&] {
    return Error(Code::kUnsupported,
                 fmt::format("this server cannot hold the symbolic link {}", Printable(shown)));
  };
  const Learnt l = learnt();
  const std::string packed = PackAttributes(attributes);
  const std::string link = attributes.symlink ? PackLink(*attributes.symlink) : "";
  if ((l.probed && !l.properties) || (packed.empty() && link.empty())) {
    return link.empty() ? Status() : no_links();
  }
  Call call = NewCall("PROPPATCH", path, "set the attributes of", cancel);
  call.what = fmt::format("cannot set the attributes of {}", Printable(shown));
  call.body = PropertiesBody(packed, link);
  if (!version.empty()) call.headers = {{"if-match", Quoted(version)}};
  const auto answer = version.empty() ? Send(call) : SendIf(call, path, version);
  // another's file by now; or the server named a version that it never was
  if (!answer.ok() && answer.error().code == Code::kChanged) return answer.error();
  if (!answer.ok()) {
    const Code code = answer.error().code;
    if (!link.empty() && (code == Code::kUnsupported || code == Code::kInvalid)) return no_links();
    if (MayRetry(code) || !link.empty()) return answer.error();
    Log(LogLevel::kDebug, "{}", answer.error().what);
    return {};
  }
  if (link.empty()) return {};
  const auto parsed = ParseMultistatus(answer->body);
  if (parsed.ok() && !parsed->items.empty()) {
    const bool kept = std::all_of(parsed->items.begin(), parsed->items.end(),
                                  [](const Item& i) { return i.status / 100 == 2; });
    return kept ? Status() : no_links();
  }
  // an answer without a word on the properties, as of a server that says 204
  PG_ASSIGN(const Item there, ItemAt(path, cancel));
  return there.link == link ? Status() : no_links();
}

// ---- folders

Status DavProvider::MakeParents(const std::string& path, const Cancel& cancel) {
  PG_TRY(ItemAt("", cancel));  // a drive whose own folder is gone does not make it anew
  for (auto slash = path.find('/'); slash != std::string::npos && slash + 1 < path.size();
       slash = path.find('/', slash + 1)) {
    PG_TRY(MakeOneFolder(path.substr(0, slash), cancel));
  }
  return {};
}

// Whose folder above is there. Success if it is there already.
Status DavProvider::MakeOneFolder(const std::string& path, const Cancel& cancel) {
  int status = 0;
  Call call = NewCall("MKCOL", path + "/", "make the folder", cancel);
  call.status = &status;
  const auto made = Send(call);
  if (made.ok() || (status != 405 && status != 403 && status != 409 && status != 500))
    return made.status();
  for (const char* slash : {"/", ""}) {  // by either name: some servers know a file by one only
    const auto there = ItemAt(path + slash, cancel);
    if (there.ok() && there->folder) return {};
    if (there.ok())
      return Error(Code::kChanged, Printable(path) + " is a file there, not a folder");
    if (MayRetry(there.error().code)) return there.error();
  }
  return made.error();
}

// After a refusal with `status`: makes the folders above `target` that are missing. False: none is,
// and the refusal has another reason.
Result<bool> DavProvider::MendParents(const std::string& target, int status, const Cancel& cancel) {
  const auto slash = target.rfind('/', target.size() - 2);  // (a folder's path ends in one)
  if (target.size() < 2 || slash == std::string::npos) return false;
  if (status != 409 && status != 404 && status != 403 && status != 500) return false;
  if (status != 409) {  // the only one that says so
    const auto above = ItemAt(target.substr(0, slash + 1), cancel);
    if (above.ok() && above->folder) return false;
    if (!above.ok() && MayRetry(above.error().code)) return above.error();
  }
  PG_TRY(MakeParents(target, cancel));
  return true;
}

Result<HttpResponse> DavProvider::SendMakingFolders(Call call, const std::string& target) {
  int status = 0;
  call.status = &status;
  auto response = Send(call);
  if (response.ok()) return response;
  PG_ASSIGN(const bool mended, MendParents(target, status, call.cancel));
  return mended ? Send(call) : std::move(response);
}

Status DavProvider::MakeFolder(const std::string& path, const Attributes& attributes,
                               const Cancel& cancel) {
  const std::string folder = IsFolderPath(path) ? path : path + "/";
  if (!Sayable(folder))
    return Error(Code::kInvalid,
                 fmt::format("this server cannot hold a folder called {}", Printable(path)),
                 "Give it another name.");
  const std::string plain = folder.substr(0, folder.size() - 1);
  Status made = MakeOneFolder(plain, cancel);
  if (!made.ok()) {
    // (409 is told as a change, as is a file in its place: then there are no parents to make)
    PG_ASSIGN(const bool mended, MendParents(folder, 404, cancel));
    if (mended) made = MakeOneFolder(plain, cancel);
  }
  PG_TRY(made);
  return SetProperties(folder, path, attributes, "", cancel);
}

// A request for it would delete all that is in it: only an empty one is asked for. What others put
// in it meanwhile keeps it, and shows here again.
Status DavProvider::RemoveFolder(const std::string& path, const Cancel& cancel) {
  const std::string folder = IsFolderPath(path) ? path : path + "/";
  if (!Sayable(folder)) return {};
  const auto there = ItemAt(folder, cancel);
  if (!there.ok()) return there.error().code == Code::kNotFound ? Status() : there.error();
  if (!there->folder) return {};
  PG_ASSIGN(const ListPage inside, List(folder, "", cancel));
  for (const Entry& entry : inside.entries)
    if (!IsOwnScratchName(entry.name)) return {};
  return RemoveNow(folder, "", cancel);
}

Status DavProvider::MoveFolder(const std::string& from, const std::string& to,
                               const Cancel& cancel) {
  Call call = NewCall("MOVE", from + "/", "move", cancel);
  call.to = options_.prefix + to + "/";
  call.headers = {{"overwrite", "F"}};
  int status = 0;
  call.status = &status;
  auto moved = Send(call);
  if (!moved.ok()) {  // the folder it goes into may be missing
    PG_ASSIGN(const bool mended, MendParents(to + "/", status, cancel));
    if (mended) moved = Send(call);
  }
  const auto folder_at = [&](const std::string& path) -> Result<bool> {
    const auto there = ItemAt(path + "/", cancel);
    if (!there.ok() && MayRetry(there.error().code)) return there.error();
    return there.ok() && there->folder;
  };
  if (!moved.ok()) {
    PG_ASSIGN(const bool still, folder_at(from));
    if (still) return moved.error();
  }
  // Acknowledged, or gone from its place since the answer to a move that succeeded was lost.
  PG_ASSIGN(const bool arrived, folder_at(to));
  if (arrived) return {};
  return moved.ok() ? NotDone(to)
                    : Error(Code::kNotFound, fmt::format("there is no folder {}", Printable(from)));
}

// ---- moves, copies and deletions

// Whoever changes the original just now changes what is moved: that is as good.
Result<Entry> DavProvider::MoveFile(const std::string& from, const std::string& version,
                                    const std::string& to, const Precondition& only_if,
                                    const Cancel& cancel) {
  if (!Sayable(to))
    return Error(Code::kInvalid,
                 fmt::format("this server cannot hold a file called {}", Printable(to)),
                 "Give it another name.");
  PG_ASSIGN(const Item original, ItemAt(from, cancel));
  if (original.folder || EntryOf(original, "").version != version) return ChangedMeanwhile(from);
  Status moved = MoveOver(from, to, only_if, cancel);
  // servers differ in what they answer where the folder is missing
  if (!moved.ok() &&
      (moved.error().code == Code::kChanged || moved.error().code == Code::kStoreFault ||
       moved.error().code == Code::kPermission)) {
    PG_ASSIGN(const bool mended, MendParents(to, 404, cancel));
    if (mended) moved = MoveOver(from, to, only_if, cancel);
  }
  PG_TRY(moved);
  const auto there = ItemAt(to, cancel);
  if (!there.ok() && there.error().code == Code::kNotFound) return NotDone(to);
  if (!there.ok()) return there.error();
  Entry entry = EntryOf(*there, NameIn(to));
  if (entry.version == version) return entry;
  const auto left = ItemAt(from, cancel);
  if (!left.ok() && left.error().code != Code::kNotFound) return left.error();
  return left.ok() ? NotDone(to) : ChangedMeanwhile(to);
}

Result<Entry> DavProvider::Copy(const std::string& from, const std::string& version, std::uint64_t,
                                const std::string& to, const Attributes* attributes,
                                const Precondition& only_if, const Cancel& cancel) {
  if (IsFolderPath(to)) {
    PG_TRY(MakeFolder(to, attributes ? *attributes : Attributes(), cancel));
    return Look(to, cancel);
  }
  if (!Sayable(to))
    return Error(Code::kInvalid,
                 fmt::format("this server cannot hold a file called {}", Printable(to)),
                 "Give it another name.");
  PG_ASSIGN(const Item original, ItemAt(from, cancel));
  if (original.folder || (!version.empty() && EntryOf(original, "").version != version))
    return ChangedMeanwhile(from);
  if (from == to) {
    if (attributes != nullptr) PG_TRY(SetProperties(to, to, *attributes, "", cancel));
    return Look(to, cancel);
  }
  const std::string scratch = to.substr(0, to.rfind('/') + 1) + std::string(kScratchPrefix) +
                              "copy-" + Hex(Md5(from + "\n" + to + "\n" + version));
  Call call = NewCall("COPY", from, "copy", cancel);
  call.to = options_.prefix + scratch;
  call.headers = {{"overwrite", "T"}};
  // named as it is spelled: fresh tags are weak on some servers
  if (learnt().delete_version && !original.etag.empty())
    call.headers.emplace_back("if", Tagged(from, original.etag));
  int status = 0;
  call.status = &status;
  auto copied = SendIf(call, from, EntryOf(original, "").version);
  if (!copied.ok()) {
    PG_ASSIGN(const bool mended, MendParents(scratch, status, cancel));
    if (mended) copied = SendIf(call, from, EntryOf(original, "").version);
  }
  if (!copied.ok()) return copied.error();
  auto entry = [&]() -> Result<Entry> {
    if (attributes != nullptr) PG_TRY(SetProperties(scratch, to, *attributes, "", cancel));
    const auto made = ItemAt(scratch, cancel);
    if (!made.ok() && made.error().code == Code::kNotFound) return NotDone(to);
    if (!made.ok()) return made.error();
    const Item& item = *made;
    if (item.size != original.size) return NotDone(to);
    return Settle(scratch, item, to, only_if, cancel);
  }();
  if (!entry.ok()) Ignore(Send(NewCall("DELETE", scratch, "clear away", cancel)));
  return entry;
}

Status DavProvider::RemoveNow(const std::string& path, const std::string& etag,
                              const Cancel& cancel) {
  Call call = NewCall("DELETE", path, "delete", cancel);
  if (!etag.empty()) call.headers = {{"if", Tagged(path, etag)}};
  const auto gone = etag.empty() ? Send(call) : SendIf(call, path, PlainEtag(etag));
  return gone.ok() || gone.error().code == Code::kNotFound ? Status() : Status(gone.error());
}

Status DavProvider::Remove(const std::string& path, const Precondition& only_if,
                           const Cancel& cancel) {
  if (!Sayable(path)) return {};
  if (IsFolderPath(path)) return RemoveFolder(path, cancel);
  const bool guarded = learnt().delete_version;
  if (only_if.want == Want::kThisVersion && guarded) {
    Call call = NewCall("DELETE", path, "delete", cancel);
    call.headers = {{"if-match", Quoted(only_if.version)}};
    const auto gone = SendIf(call, path, only_if.version);
    if (gone.ok() || gone.error().code == Code::kNotFound) return {};
    if (gone.error().code != Code::kChanged) return gone.error();
  }
  const auto there = ItemAt(path, cancel);
  if (!there.ok()) return there.error().code == Code::kNotFound ? Status() : there.error();
  if (there->folder) return Error(Code::kChanged, Printable(path) + " is a folder there");
  if (only_if.want == Want::kThisVersion && EntryOf(*there, "").version != only_if.version)
    return ChangedMeanwhile(path);
  return RemoveNow(path, guarded ? there->etag : "", cancel);
}

// One by one, folders last and the deepest of them first.
Result<std::vector<std::pair<std::string, Error>>> DavProvider::RemoveMany(
    const std::vector<Removal>& removals, const Cancel& cancel) {
  std::vector<const Removal*> order;
  for (const Removal& removal : removals) order.push_back(&removal);
  std::stable_sort(order.begin(), order.end(), [](const Removal* a, const Removal* b) {
    const bool a_folder = IsFolderPath(a->path), b_folder = IsFolderPath(b->path);
    if (a_folder != b_folder) return b_folder;
    return a_folder && a->path.size() > b->path.size();
  });
  std::vector<std::pair<std::string, Error>> failed;
  for (const Removal* removal : order) {
    const Status gone = Remove(removal->path,
                               removal->version.empty() ? Precondition::Anything()
                                                        : Precondition::StillIs(removal->version),
                               cancel);
    if (gone.ok()) continue;
    const Code code = gone.error().code;
    if (code == Code::kUnavailable || code == Code::kCancelled) return gone.error();
    failed.emplace_back(removal->path, gone.error());
  }
  return failed;
}

// ---- what others have

Result<bool> DavProvider::HoldsContent(const std::string& path, const Entry& entry,
                                       WriteSource* source, const Cancel& cancel) {
  if (entry.kind == Kind::kFolder || entry.size != source->Size()) return false;
  if (entry.size == 0) return true;
  CompareSink sink(source);
  const Status read = Read(path, entry.version, 0, entry.size, &sink, cancel);
  if (!read.ok() && (read.error().code == Code::kChanged || read.error().code == Code::kNotFound))
    return false;
  if (!read.ok()) return read.error();
  return sink.Same();
}

}  // namespace pargeter::webdav
