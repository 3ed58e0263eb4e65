// A store in memory that can lie: fail, vanish, lose answers, change under the drive. It records
// what it was asked.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "base/digest.h"
#include "base/mutex.h"
#include "base/text.h"
#include "provider/provider.h"

namespace pargeter::test {

struct FakeWorld {
  struct Object {
    std::string body;
    Attributes attributes;
    Nanos modified = 1;
  };
  Mutex mutex;
  std::map<std::string, Object> objects GUARDED_BY(mutex);
  std::vector<std::string> asked GUARDED_BY(mutex);  // "write a/b" and so on
  bool offline GUARDED_BY(mutex) = false;
  int lose_answers GUARDED_BY(mutex) = 0;  // so many writes are done and then said to have failed
  std::string forbid GUARDED_BY(mutex);    // writes and copies to this path are not allowed

  void Put(const std::string& path, const std::string& body) {
    const Lock lock(mutex);
    objects[path] = {body, {}, 1};
  }
  void Erase(const std::string& path) {
    const Lock lock(mutex);
    objects.erase(path);
  }
  std::map<std::string, std::string> All() {
    const Lock lock(mutex);
    std::map<std::string, std::string> out;
    for (const auto& [path, object] : objects) out[path] = object.body;
    return out;
  }
  void SetOffline(bool value) {
    const Lock lock(mutex);
    offline = value;
  }
  void LoseAnswers(int n) {
    const Lock lock(mutex);
    lose_answers = n;
  }
  std::vector<std::string> TakeAsked() {
    const Lock lock(mutex);
    return std::exchange(asked, {});
  }
};

class FakeStore : public Provider {
 public:
  explicit FakeStore(FakeWorld* world) : w_(*world) {}

  Capabilities Can() const override {
    Capabilities can;
    can.create = can.replace = Guard::kAtomic;
    return can;
  }
  Result<ListPage> List(const std::string& folder, const std::string& next,
                        const Cancel&) override {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("list " + folder));
    const std::string& prefix = folder;
    ListPage page;
    std::string last_folder = next;
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
        entry.kind = Kind::kFolder;
        entry.marker = true;
      }
      page.entries.push_back(std::move(entry));
    }
    return page;
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
    const Lock lock(w_.mutex);
    PG_TRY(Ask("look " + path));
    const auto it = w_.objects.find(path);
    if (it != w_.objects.end()) return EntryOf(path, it->second);
    const auto below = w_.objects.lower_bound(path + "/");
    if (path.empty() ||
        (below != w_.objects.end() && below->first.compare(0, path.size() + 1, path + "/") == 0)) {
      Entry entry;
      entry.kind = Kind::kFolder;
      return entry;
    }
    return Error(Code::kNotFound, "no " + path);
  }
  Status Read(const std::string& path, const std::string& version, std::uint64_t offset,
              std::uint64_t size, ReadSink* sink, const Cancel&) override {
    Entry entry;
    std::string piece;
    {
      const Lock lock(w_.mutex);
      PG_TRY(Ask("read " + path));
      const auto it = w_.objects.find(path);
      if (it == w_.objects.end()) return Error(Code::kNotFound, "no " + path);
      entry = EntryOf(path, it->second);
      if (entry.version != version) return Error(Code::kChanged, "changed");
      piece = it->second.body.substr(offset, size);
    }
    PG_TRY(sink->Begin(entry));
    return sink->Write(piece);
  }
  Result<Entry> Write(const std::string& path, WriteSource* source, const Attributes& attributes,
                      const Precondition& only_if, const Cancel&) override {
    std::string body(source->Size(), '\0');
    PG_ASSIGN(const std::size_t n, source->Read(body.data(), body.size(), 0));
    body.resize(n);
    const Lock lock(w_.mutex);
    PG_TRY(Ask("write " + path));
    if (path == w_.forbid) return Error(Code::kPermission, "not allowed");
    PG_TRY(Holds(path, only_if));
    w_.objects[path] = {body, attributes, 1};
    if (w_.lose_answers > 0) {
      --w_.lose_answers;
      return Error(Code::kDamaged, "the answer was lost");
    }
    return EntryOf(path, w_.objects[path]);
  }
  Result<PartedUpload> BeginParts(const std::string&, const Attributes&, const Cancel&) override {
    return None();
  }
  Result<UploadedPart> WritePart(const PartedUpload&, int, WriteSource*, const Cancel&) override {
    return None();
  }
  Result<std::vector<UploadedPart>> ListParts(const PartedUpload&, const Cancel&) override {
    return None();
  }
  Result<Entry> CompleteParts(const PartedUpload&, const std::vector<UploadedPart>&,
                              const Precondition&, const Cancel&) override {
    return None();
  }
  Status AbortParts(const PartedUpload&, const Cancel&) override { return {}; }
  Result<std::vector<PartedUpload>> ListUploads(const Cancel&) override {
    return std::vector<PartedUpload>();
  }
  Result<Entry> Copy(const std::string& from, const std::string& version, std::uint64_t,
                     const std::string& to, const Attributes* attributes,
                     const Precondition& only_if, const Cancel&) override {
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
    w_.objects[to] = copy;
    return EntryOf(to, copy);
  }
  Status Remove(const std::string& path, const Precondition& only_if, const Cancel&) override {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("remove " + path));
    if (w_.objects.count(path) == 0) return {};
    PG_TRY(Holds(path, only_if));
    w_.objects.erase(path);
    return {};
  }
  Result<std::vector<std::pair<std::string, Error>>> RemoveMany(
      const std::vector<std::string>& paths, const Cancel&) override {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("remove-many"));
    for (const std::string& path : paths) w_.objects.erase(path);
    return std::vector<std::pair<std::string, Error>>();
  }
  Status MakeFolder(const std::string& path, const Attributes& attributes, const Cancel&) override {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("folder " + path));
    w_.objects[path + "/"] = {"", attributes, 1};
    return {};
  }
  Status RemoveFolder(const std::string& path, const Cancel&) override {
    const Lock lock(w_.mutex);
    PG_TRY(Ask("remove-folder " + path));
    w_.objects.erase(path + "/");
    return {};
  }
  Status Probe(const Cancel&) override { return {}; }
  std::string ProbeResult() const override { return ""; }
  void AdoptProbeResult(const std::string&) override {}
  TestReport Test(bool, const Cancel&) override { return {}; }
  bool HoldsContent(const Entry& entry, WriteSource* source) override {
    std::string body(source->Size(), '\0');
    return source->Read(body.data(), body.size(), 0).ok() && Hex(Md5(body)) == entry.version;
  }

 private:
  static Error None() { return Error(Code::kUnsupported, "no parts here"); }
  Status Ask(const std::string& what) REQUIRES(w_.mutex) {
    w_.asked.push_back(what);
    if (w_.offline) return Error(Code::kUnavailable, "the store does not answer");
    return {};
  }
  Entry EntryOf(const std::string& path, const FakeWorld::Object& object) const {
    Entry entry;
    entry.name = path.substr(path.rfind('/') + 1);
    entry.size = object.body.size();
    entry.version = Hex(Md5(object.body));
    entry.modified = object.modified;
    entry.attributes = object.attributes;
    entry.attributes_known = true;
    if (object.attributes.symlink) entry.kind = Kind::kSymlink;
    return entry;
  }
  Status Holds(const std::string& path, const Precondition& only_if) REQUIRES(w_.mutex) {
    const auto it = w_.objects.find(path);
    using Want = Precondition::Want;
    const bool good = only_if.want == Want::kAnything ||
                      (only_if.want == Want::kNothingThere && it == w_.objects.end()) ||
                      (only_if.want == Want::kThisVersion && it != w_.objects.end() &&
                       Hex(Md5(it->second.body)) == only_if.version);
    return good ? Status() : Status(Error(Code::kChanged, path + " was changed"));
  }
  FakeWorld& w_;
};

}  // namespace pargeter::test
