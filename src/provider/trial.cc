#include "provider/trial.h"

#include <fmt/format.h>

#include "base/random.h"

namespace pargeter {
namespace {

class Text : public WriteSource, public ReadSink {
 public:
  explicit Text(std::string bytes = "") : text(std::move(bytes)) {}
  std::uint64_t Size() const override { return text.size(); }
  Result<std::size_t> Read(char* data, std::size_t size, std::uint64_t offset) override {
    return offset < text.size() ? text.copy(data, size, offset) : 0;
  }
  Status Begin(const Entry&) override {
    text.clear();
    return {};
  }
  Status Write(std::string_view data) override {
    text += data;
    return {};
  }
  std::string text;
};

// The version that a listing of the top names, which a drive knows a file by.
Result<std::string> ListedVersion(Provider* provider, const std::string& name,
                                  const Cancel& cancel) {
  for (std::string next;;) {
    PG_ASSIGN(const ListPage page, provider->List("", next, cancel));
    for (const Entry& entry : page.entries)
      if (entry.name == name) return entry.version;
    next = page.next;
    if (next.empty()) return Error(Code::kStoreFault, "the trial file is not in the listing");
  }
}

}  // namespace

void TryFile(Provider* provider, const std::string& guarded, const Cancel& cancel,
             TestReport* report) {
  const std::string name = std::string(kScratchPrefix) + "trial-" + RandomName();
  const std::string moved = name + "-renamed";
  const std::string bytes = "a trial file of pargeter " + RandomName(32) + "\n";
  const auto read = [&](const std::string& version, std::uint64_t from,
                        std::uint64_t size) -> Status {
    Text got;
    PG_TRY(provider->Read(name, version, from, size, &got, cancel));
    if (got.text == bytes.substr(from, size)) return {};
    return Error(Code::kDamaged, "the store gave back other bytes than were written");
  };
  std::string version;
  const bool works =
      report->Add(
          "write",
          [&]() -> Status {
            Text source(bytes);
            PG_TRY(provider->Write(name, &source, {}, Precondition::Absent(), cancel));
            return {};
          }(),
          "a trial file was written; " + guarded) &&
      report->Add(
          "read",
          [&]() -> Status {
            PG_ASSIGN(version, ListedVersion(provider, name, cancel));
            PG_TRY(read(version, 0, bytes.size()));
            return read(version, 7, 9);
          }(),
          "it was read back, whole and in part") &&
      report->Add(
          "rename",
          [&]() -> Status {
            if (provider->Can().moves_files) {
              PG_TRY(provider->MoveFile(name, version, moved, Precondition::Absent(), cancel));
              return {};
            }
            PG_TRY(provider->Copy(name, version, bytes.size(), moved, nullptr,
                                  Precondition::Absent(), cancel));
            return provider->Remove(name, Precondition::Is(version), cancel);
          }(),
          provider->Can().moves_files ? "the store renames it" : "by a copy and a removal");
  Status gone;
  for (const std::string& each : {name, moved}) {
    const Status one = provider->Remove(each, Precondition::Anything(), cancel);
    if (gone.ok()) gone = one;
  }
  if (works) report->Add("delete", gone, "nothing is left of it");
}

}  // namespace pargeter
