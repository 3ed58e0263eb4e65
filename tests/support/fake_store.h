// A store in memory that can lie: fail, vanish, lose answers, change under the drive. It records
// what it was asked.
#pragma once

#include <algorithm>
#include <cctype>
#include <deque>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "base/digest.h"
#include "base/text.h"
#include "net/cancel.h"
#include "provider/provider.h"
#include "support/fake_world.h"

namespace pargeter::test {

class FakeStore : public Provider {
 public:
  // `who`: before each request in what was asked.
  explicit FakeStore(FakeWorld* world, std::string who = "") : w_(*world), who_(std::move(who)) {}

  bool TellsContent(const std::string& version) const override { return version.size() == 32; }
  std::unique_ptr<ContentCheck> CheckOf(const std::string& version, std::uint64_t) override {
    struct Check : ContentCheck {
      std::string version, all;
      void Add(std::string_view piece) override { all += piece; }
      Verdict Judge() override {
        return Hex(Md5(all)) == version ? Verdict::kRight : Verdict::kWrong;
      }
    };
    if (!TellsContent(version)) return nullptr;
    auto check = std::make_unique<Check>();
    check->version = version;
    return check;
  }
  Capabilities Can() const override {
    Capabilities can;
    can.create = can.replace = Guard::kAtomic;
    can.tells_writer = !w_.serial_versions;
    can.multipart_above = w_.multipart_above;
    can.part_size = w_.multipart_above / 2;
    can.copies_in_parts_above = w_.copies_in_parts_above;
    can.real_folders = w_.real_folders;
    can.moves_folders = w_.moves_folders;
    can.moves_files = w_.moves_files;
    return can;
  }
  Result<ListPage> List(const std::string& folder, const std::string& next,
                        const Cancel& cancel) override {
    if (w_.on_listing) w_.on_listing(folder);
    auto page = ListNow(folder, next, cancel);
    if (w_.on_listed) w_.on_listed();
    return page;
  }
  Result<ListPage> ListNow(const std::string& folder, const std::string& next, const Cancel&) {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("list " + folder));
    if (!folder.empty() && folder == w_.unlistable) return Error(Code::kPermission, "not allowed");
    const std::string& prefix = folder;
    ListPage page;
    for (const auto& [path, object] : w_.objects) {
      if (path.compare(0, prefix.size(), prefix) != 0) continue;
      const auto slash = path.find('/', prefix.size());
      Entry entry = EntryOf(path, object);
      entry.attributes = {};
      entry.attributes_known = false;
      entry.name =
          path.substr(prefix.size(), slash == std::string::npos ? slash : slash - prefix.size());
      if (slash != std::string::npos) {
        entry = Entry();
        entry.kind = Kind::kFolder;
        entry.name = path.substr(prefix.size(), slash - prefix.size());
        if (!page.entries.empty() && page.entries.back().kind == Kind::kFolder &&
            page.entries.back().name == entry.name)
          continue;
      } else if (entry.name.empty()) {
        if (w_.real_folders) continue;
        entry.kind = Kind::kFolder;
        entry.marker = true;
      }
      entry.may_write = !IsSealed(prefix + entry.name);
      page.entries.push_back(std::move(entry));
    }
    page.may_write = !IsSealed(prefix);
    const auto place = [](const Entry& entry) {  // in the order of the keys
      return entry.name + (entry.kind == Kind::kFolder && !entry.marker ? "/" : "");
    };
    if (!next.empty())
      std::erase_if(page.entries, [&](const Entry& entry) { return place(entry) <= next; });
    if (page.entries.size() > w_.page_size) {
      page.entries.resize(w_.page_size);
      page.next = place(page.entries.back());
    }
    return page;
  }
  Result<std::string> FeedStart(const Cancel&) override {
    const Lock lock(w_.mutex);
    if (!w_.has_feed) return Error(Code::kUnsupported, "no feed");
    PG_TRY(Ask("feed-start"));
    return w_.feed_run + std::to_string(w_.changes.size());
  }
  Result<Changes> ChangesSince(const std::string& moment, const Cancel&) override {
    auto changes = ChangesNow(moment);
    if (w_.on_feed) w_.on_feed();
    return changes;
  }
  Result<Changes> ChangesNow(const std::string& moment) {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("feed " + moment));
    if (moment.substr(0, 1) != w_.feed_run) return Error(Code::kStale, "of another time");
    Changes out;
    std::set<std::string> told;
    for (std::size_t i = std::stoull(moment.substr(1)); i < w_.changes.size(); ++i) {
      Changes::One one;
      one.path = w_.changes[i];
      const bool folder = one.path.back() == '/';
      if (folder) one.path.pop_back();
      // such stores have one thing at a path (where this one has two, each is told)
      const auto it = w_.objects.find(one.path);
      const bool file = it != w_.objects.end();
      if (file && !folder) one.entry = EntryOf(one.path, it->second);
      if (!one.entry) one.entry = FolderAt(one.path);
      if (!one.entry && file) one.entry = EntryOf(one.path, it->second);
      const bool both = file && FolderAt(one.path).has_value();
      if (told.insert(both ? w_.changes[i] : one.path).second) out.all.push_back(std::move(one));
    }
    out.next = w_.feed_run + std::to_string(w_.changes.size());
    return out;
  }
  Result<ListPage> ListDeep(const std::string& folder, const std::string&, const Cancel&) override {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("deep " + folder));
    ListPage page;
    for (const auto& [path, object] : w_.objects) {
      if (path.compare(0, folder.size(), folder) != 0) continue;
      Entry entry = EntryOf(path, object);
      entry.name = path.substr(folder.size());
      page.entries.push_back(std::move(entry));
    }
    return page;
  }
  Result<Entry> Look(const std::string& path, const Cancel&) override {
    if (w_.on_look) w_.on_look(path);
    auto found = LookNow(path);
    if (w_.on_looked) w_.on_looked();
    return found;
  }
  Result<Entry> LookNow(const std::string& path) {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("look " + path));
    const auto it = w_.objects.find(Spelled(path));
    if (it != w_.objects.end()) return EntryOf(path, it->second);
    const auto folder = FolderAt(path);
    return folder ? Result<Entry>(*folder) : Error(Code::kNotFound, "no " + path);
  }
  Result<Entry> LookFolder(const std::string& path, const Cancel&) override {
    if (w_.on_look) w_.on_look(path);
    const Lock lock(w_.mutex);
    PG_TRY(Ask("look-folder " + path));
    const auto it = w_.objects.find(path + "/");
    if (it == w_.objects.end()) return Error(Code::kNotFound, "no " + path + "/");
    Entry entry = EntryOf(path, it->second);
    entry.kind = Kind::kFolder;
    entry.marker = true;
    return entry;
  }
  Status Read(const std::string& path, const std::string& version, std::uint64_t offset,
              std::uint64_t size, ReadSink* sink, const Cancel&) override {
    Entry entry;
    std::string piece;
    bool spoilt = false;
    {
      const Lock lock(w_.mutex);
      PG_TRY(Ask("read " + path));
      if (path == w_.withheld) return Error(Code::kChanged, "another version is there");
      if (path == w_.unreadable) return Error(Code::kPermission, "not allowed");
      const auto it = w_.objects.find(path);
      if (it == w_.objects.end()) return Error(Code::kNotFound, "no " + path);
      entry = EntryOf(path, it->second);
      if (!version.empty() && entry.version != version) return Error(Code::kChanged, "changed");
      if (offset > 0 && offset >= it->second.body.size()) return Error(Code::kChanged, "shorter");
      piece = it->second.body.substr(offset, size);
      const bool whole = piece.size() == it->second.body.size();
      if (!piece.empty() && (Told(&w_.spoils) || (whole && Unlucky()))) {
        piece[piece.size() / 2] ^= 1;
        spoilt = whole;  // its digest tells; a piece has none
      }
    }
    if (w_.on_read) w_.on_read(path);
    PG_TRY(sink->Begin(entry));
    PG_TRY(sink->Write(piece));
    return spoilt ? Status(Error(Code::kDamaged, "not its digest")) : Status();
  }
  Result<Entry> Write(const std::string& path, WriteSource* source, const Attributes& attributes,
                      const Precondition& only_if, const Cancel& cancel) override {
    std::string body(source->Size(), '\0');
    PG_ASSIGN(const std::size_t n, source->Read(body.data(), body.size(), 0));
    body.resize(n);
    if (w_.on_write) {
      w_.on_write(path);
      // (who calls off without that may be too late)
      if (cancel && cancel->cancelled()) return Error(Code::kCancelled, "called off");
    }
    const Lock lock(w_.mutex);
    PG_TRY(Ask("write " + path));
    if (path == w_.forbid) return Error(Code::kPermission, "not allowed");
    if (std::exchange(w_.next_write_is_late, false)) {
      w_.arrive_late = [&world = w_, path, body, attributes] {
        const Lock late(world.mutex);
        world.Set(path, {body, attributes});
      };
      return Error(Code::kTimeout, "no answer came");
    }
    PG_TRY(Holds(path, only_if));
    if (!w_.serial_versions) {
      w_.Set(path, {body, attributes});
      PG_TRY(Answer());
      return EntryOf(path, w_.objects[path]);
    }
    // such stores take attributes by a request of their own
    w_.Set(path, {body, {}});
    if (w_.die_after_write) w_.die_after_write();
    PG_TRY(Answer());
    PG_TRY(Ask("attributes " + path));
    w_.objects[path].attributes = attributes;
    if (w_.forgets_origins) w_.objects[path].attributes.origin.clear();
    PG_TRY(Answer());
    return EntryOf(path, w_.objects[path]);
  }
  Result<PartedUpload> BeginParts(const std::string& path, const Attributes& attributes,
                                  const Cancel&) override {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("begin-parts " + path));
    const std::string id = "upload-" + std::to_string(w_.asked.size());
    w_.uploads[id] = {path, attributes, {}};
    PG_TRY(Answer());
    return PartedUpload{path, id};
  }
  Result<UploadedPart> WritePart(const PartedUpload& upload, int number, WriteSource* part,
                                 const Cancel&) override {
    std::string body(part->Size(), '\0');
    PG_ASSIGN(const std::size_t n, part->Read(body.data(), body.size(), 0));
    body.resize(n);
    if (w_.on_part) w_.on_part(upload.path);
    const Lock lock(w_.mutex);
    PG_TRY(Ask("write-part " + upload.path));
    const auto it = w_.uploads.find(upload.id);
    if (it == w_.uploads.end()) return Error(Code::kNotFound, "no such upload");
    it->second.parts[number] = body;
    PG_TRY(Answer());
    return UploadedPart{number, body.size(), Hex(Md5(body))};
  }
  Result<std::vector<UploadedPart>> ListParts(const PartedUpload& upload, const Cancel&) override {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("list-parts " + upload.path));
    const auto it = w_.uploads.find(upload.id);
    if (it == w_.uploads.end()) return Error(Code::kNotFound, "no such upload");
    std::vector<UploadedPart> parts;
    for (const auto& [number, body] : it->second.parts)
      parts.push_back({number, body.size(), Hex(Md5(body))});
    return parts;
  }
  Result<Entry> CompleteParts(const PartedUpload& upload, const std::vector<UploadedPart>& parts,
                              const Precondition& only_if, const Cancel&) override {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("complete-parts " + upload.path));
    const auto it = w_.uploads.find(upload.id);
    if (it == w_.uploads.end()) return Error(Code::kNotFound, "no such upload");
    PG_TRY(Holds(upload.path, only_if));
    std::string body;
    for (const UploadedPart& part : parts) {
      const std::string& held = it->second.parts[part.number];
      if (Hex(Md5(held)) != part.tag) return Error(Code::kInvalid, "a part is not what it was");
      body += held;
    }
    w_.Set(upload.path, {body, it->second.attributes, 1, 0, true});
    w_.uploads.erase(it);
    PG_TRY(Answer());
    return EntryOf(upload.path, w_.objects[upload.path]);
  }
  Status AbortParts(const PartedUpload& upload, const Cancel&) override {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("abort-parts " + upload.path));
    w_.uploads.erase(upload.id);
    return {};
  }
  Result<std::vector<PartedUpload>> ListUploads(const Cancel&) override {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("list-uploads"));
    std::vector<PartedUpload> out;
    for (const auto& [id, upload] : w_.uploads) out.push_back({upload.path, id});
    return out;
  }
  Result<Entry> Copy(const std::string& from, const std::string& version, std::uint64_t size,
                     const std::string& to, const Attributes* attributes,
                     const Precondition& only_if, const Cancel& cancel) override {
    if (w_.on_send) w_.on_send(from);
    if (w_.copies_in_parts_above == 0 || size <= w_.copies_in_parts_above) {
      auto done = CopyInOne(from, version, to, attributes, only_if);
      if (w_.on_copied) w_.on_copied();
      return done;
    }
    PG_ASSIGN(const PartedUpload upload, BeginParts(to, {}, cancel));
    auto done = CopyInOne(from, version, to, attributes, only_if);
    if (!done.ok()) {
      Ignore(AbortParts(upload, cancel));
      return done;
    }
    const Lock lock(w_.mutex);
    w_.uploads.erase(upload.id);
    return done;
  }
  Result<Entry> CopyInOne(const std::string& from, const std::string& version,
                          const std::string& to, const Attributes* attributes,
                          const Precondition& only_if) {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("copy " + from + " " + to));
    if (to == w_.forbid) return Error(Code::kPermission, "not allowed");
    const auto it = w_.objects.find(from);
    if (it == w_.objects.end()) return Error(Code::kNotFound, "no " + from);
    if (!version.empty() && EntryOf(from, it->second).version != version)
      return Error(Code::kChanged, "changed");
    PG_TRY(Holds(to, only_if));
    FakeWorld::Object copy = it->second;
    if (attributes != nullptr) copy.attributes = *attributes;
    if (w_.forgets_origins) copy.attributes.origin.clear();
    copy.in_parts = false;
    w_.Set(to, std::move(copy));
    PG_TRY(Answer());
    return EntryOf(to, w_.objects[to]);
  }
  Status Remove(const std::string& path, const Precondition& only_if, const Cancel&) override {
    if (w_.on_remove) w_.on_remove(path);
    const Lock lock(w_.mutex);
    PG_TRY(Ask("remove " + path));
    const std::string spelled = Spelled(path);
    if (w_.objects.count(spelled) == 0) return {};
    if (spelled.back() == '/' && w_.real_folders && w_.HasBelow(spelled)) return {};
    PG_TRY(Holds(spelled, only_if));
    w_.Drop(spelled);
    return Answer();
  }
  Result<std::vector<std::pair<std::string, Error>>> RemoveMany(
      const std::vector<Removal>& removals, const Cancel&) override {
    const Lock lock(w_.mutex);
    std::string all = "remove-many";
    for (const Removal& one : removals) all += " " + one.path;
    PG_TRY(Ask(all));
    std::vector<std::pair<std::string, Error>> left;
    for (const auto& [path, version] : InOrder(removals)) {
      if (w_.objects.count(path) == 0) continue;
      if (path.back() == '/' && w_.real_folders && w_.HasBelow(path)) continue;
      const Status good =
          Holds(path, version.empty() ? Precondition::Anything() : Precondition::Is(version));
      if (good.ok())
        w_.Drop(path);
      else
        left.emplace_back(path, good.error());
    }
    PG_TRY(Answer());
    return left;
  }
  Status MakeFolder(const std::string& path, const Attributes& attributes, const Cancel&) override {
    if (w_.on_folder) w_.on_folder(path);
    const Lock lock(w_.mutex);
    PG_TRY(Ask("folder " + path));
    if (w_.refuses_folders) return Error(Code::kStoreFault, "no folders now");
    if (w_.IsBarred(path + "/")) return Error(Code::kChanged, "a file is there");
    w_.Set(path + "/", {"", attributes});
    return Answer();
  }
  Status RemoveFolder(const std::string& path, const Cancel&) override {
    if (w_.on_remove) w_.on_remove(path + "/");
    const Lock lock(w_.mutex);
    PG_TRY(Ask("remove-folder " + path));
    if (w_.real_folders && w_.HasBelow(path + "/")) return {};
    w_.Drop(path + "/");
    return Answer();
  }
  Status MoveFolder(const std::string& from, const std::string& to, const Cancel&) override {
    const Status moved = MoveNow(from, to);
    if (w_.on_moved) w_.on_moved();
    return moved;
  }
  Status MoveNow(const std::string& from, const std::string& to) {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("move-folder " + from + " " + to));
    const auto below = [this](const std::string& path) NO_TS_ANALYSIS {
      std::vector<std::string> out;
      for (auto it = w_.objects.lower_bound(path + "/");
           it != w_.objects.end() && it->first.compare(0, path.size() + 1, path + "/") == 0; ++it)
        out.push_back(it->first);
      return out;
    };
    const std::vector<std::string> moving = below(from);
    const bool taken = !below(to).empty() || w_.objects.count(to) > 0;
    if (moving.empty()) {
      if (taken) return {};  // done before, and the answer was lost
      return Error(Code::kNotFound, "no " + from);
    }
    if (taken || w_.IsBarred(to)) return Error(Code::kChanged, "something is there");
    w_.MakeAbove(to);
    for (const std::string& path : moving) {
      auto moved = w_.objects.extract(path);
      moved.key() = to + path.substr(from.size());
      w_.changes.push_back(path);
      w_.changes.push_back(moved.key());
      w_.objects.insert(std::move(moved));
    }
    return Answer();
  }
  Result<Entry> MoveFile(const std::string& from, const std::string& version, const std::string& to,
                         const Precondition& only_if, const Cancel&) override {
    if (w_.on_send) w_.on_send(from);
    auto moved = MoveFileNow(from, version, to, only_if);
    if (w_.on_moved) w_.on_moved();
    return moved;
  }
  Result<Entry> MoveFileNow(const std::string& from, const std::string& version,
                            const std::string& to, const Precondition& only_if) {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("move " + from + " " + to));
    if (to == w_.forbid) return Error(Code::kPermission, "not allowed");
    if (w_.objects.count(from) == 0) return Error(Code::kNotFound, "no " + from);
    PG_TRY(Holds(from, Precondition::Is(version)));
    PG_TRY(Holds(to, only_if));
    FakeWorld::Object moved = std::move(w_.objects.extract(from).mapped());
    w_.objects[to] = std::move(moved);
    w_.MakeAbove(to);
    w_.Changed(from);
    w_.Changed(to);
    PG_TRY(Answer());
    return EntryOf(to, w_.objects[to]);
  }
  Result<std::vector<Kept>> Versions(const std::string& path, const Cancel&) override {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("versions " + path));
    std::vector<Kept> out;
    for (std::size_t i = 0; i < w_.former.size(); ++i)
      if (w_.former[i].first == path)
        out.push_back({std::to_string(i), w_.former[i].second.size(), 1, false});
    return out;
  }
  Status ReadKept(const std::string& path, const std::string& id, ReadSink* sink,
                  const Cancel&) override {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("read-kept " + path));
    Entry entry;
    const std::string& body = w_.former[std::stoull(id)].second;
    entry.size = body.size();
    PG_TRY(sink->Begin(entry));
    PG_TRY(sink->Write(std::string_view(body).substr(0, body.size() / 2)));
    PG_TRY(Answer());
    return sink->Write(std::string_view(body).substr(body.size() / 2));
  }
  Status Probe(const Cancel&) override { return {}; }
  std::string ProbeResult() const override { return ""; }
  void AdoptProbeResult(const std::string&) override {}
  TestReport Test(bool, const Cancel&) override { return {}; }
  Result<bool> HoldsContent(const std::string& path, const Entry& entry, WriteSource* source,
                            const Cancel&) override {
    std::string body(source->Size(), '\0');
    if (!source->Read(body.data(), body.size(), 0).ok()) return false;  // it is being changed
    if (!w_.serial_versions) return Hex(Md5(body)) == entry.version.substr(0, 32);
    const Lock lock(w_.mutex);  // compared with what is there, byte for byte
    PG_TRY(Ask("read " + path));
    const auto it = w_.objects.find(path);
    return it != w_.objects.end() && VersionOf(it->second) == entry.version &&
           it->second.body == body;
  }
  Status DropUnfinished(const std::string& path, const std::string&, const Cancel&) override {
    const Lock lock(w_.mutex);
    w_.given_up.push_back(path);
    return {};
  }

 private:
  bool IsSealed(const std::string& path) const REQUIRES(w_.mutex) {
    return !w_.sealed.empty() && path.compare(0, w_.sealed.size(), w_.sealed) == 0;
  }
  Status Ask(const std::string& what) REQUIRES(w_.mutex) {
    if (w_.cut_off && w_.cut_off()) return Error(Code::kCancelled, "nobody asks");
    w_.asked.push_back(who_ + what);
    w_.story.push_back(who_ + what);
    const std::uint64_t n = ++w_.count;
    if (w_.offline) return Error(w_.offline_as, "the store does not answer");
    kind_ = what.substr(0, what.find(' '));
    if (n == w_.fail_at || Told(&w_.fails[kind_]) || Unlucky()) {
      static constexpr Code kFaults[] = {Code::kStoreFault, Code::kThrottled, Code::kDamaged,
                                         Code::kUnavailable, Code::kTimeout};
      Error fault(kFaults[w_.dice() % 5], "the store failed (on purpose)");
      fault.retry_after_ms = 1;
      w_.story.back() += " (failed)";
      return fault;
    }
    return {};
  }
  // After an effect: is it told?
  Status Answer() REQUIRES(w_.mutex) {
    const bool dead = w_.cut_off && w_.cut_off();
    if (w_.lose_answers > 0) {
      --w_.lose_answers;
    } else if (!dead && w_.count != w_.lose_at && !Told(&w_.loses[kind_]) && !Unlucky() &&
               !Unlucky(w_.lost_share)) {
      return {};
    }
    w_.story.back() += " (done, its answer lost)";
    return Error(Code::kDamaged, "the answer was lost (on purpose)");
  }
  static bool Told(std::deque<bool>* next) {
    if (next->empty()) return false;
    const bool told = next->front();
    next->pop_front();
    return told;
  }
  bool Unlucky() REQUIRES(w_.mutex) { return Unlucky(w_.fault_share); }
  bool Unlucky(double share) REQUIRES(w_.mutex) {
    return share > 0 && std::uniform_real_distribution<>()(w_.dice) < share;
  }
  std::string VersionOf(const FakeWorld::Object& object) const {
    if (w_.serial_versions) return "v" + std::to_string(object.serial);
    return Hex(Md5(object.body)) + (object.in_parts ? "-parts" : "");
  }
  Entry EntryOf(const std::string& path, const FakeWorld::Object& object) const {
    Entry entry;
    entry.name = path.substr(path.rfind('/') + 1);
    entry.size = object.body.size();
    entry.version = VersionOf(object);
    entry.modified = object.modified;
    entry.attributes = object.attributes;
    entry.attributes_known = true;
    if (object.attributes.symlink) entry.kind = Kind::kSymlink;
    return entry;
  }
  std::optional<Entry> FolderAt(const std::string& path) const REQUIRES(w_.mutex) {
    const auto below = w_.objects.lower_bound(path + "/");
    if (!path.empty() &&
        (below == w_.objects.end() || below->first.compare(0, path.size() + 1, path + "/") != 0))
      return std::nullopt;
    Entry entry;
    entry.name = path.substr(path.rfind('/') + 1);
    entry.kind = Kind::kFolder;
    return entry;
  }
  // What is in a folder goes before it.
  static std::vector<Removal> InOrder(std::vector<Removal> all) {
    std::stable_sort(all.begin(), all.end(), [](const Removal& a, const Removal& b) {
      const bool a_folder = a.path.back() == '/', b_folder = b.path.back() == '/';
      return a_folder != b_folder ? b_folder : a_folder && a.path.size() > b.path.size();
    });
    return all;
  }
  // What it calls the path.
  std::string Spelled(const std::string& path) const REQUIRES(w_.mutex) {
    if (!w_.folds_names || w_.objects.count(path) > 0) return path;
    const auto low = [](std::string text) {
      for (char& c : text) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
      return text;
    };
    for (const auto& [other, object] : w_.objects)
      if (low(other) == low(path)) return other;
    return path;
  }
  Status Holds(const std::string& path, const Precondition& only_if) REQUIRES(w_.mutex) {
    const auto it = w_.objects.find(path);
    if (w_.IsBarred(path)) return Error(Code::kChanged, path + " cannot be there");
    using Want = Precondition::Want;
    const bool good = only_if.want == Want::kAnything ||
                      (only_if.want == Want::kNothingThere && it == w_.objects.end()) ||
                      (only_if.want == Want::kThisVersion && it != w_.objects.end() &&
                       VersionOf(it->second) == only_if.version);
    if (good && !Told(&w_.denies)) return {};
    w_.story.back() += " (refused)";
    return Error(Code::kChanged, path + " was changed");
  }
  FakeWorld& w_;
  const std::string who_;
  std::string kind_ GUARDED_BY(w_.mutex);  // of the request that is answered
};

}  // namespace pargeter::test
