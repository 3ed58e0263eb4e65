// The Provider for SFTP servers (version 3, with OpenSSH's extensions where they are offered), over
// a few SSH connections that are opened one after another when they are needed.
//
// A version is a file's time of change, to a second, and its size: the protocol knows no more. Two
// changes within one second that leave the size as it was look alike. New bytes go up under a name
// of our own, are synced where the server can, and are then moved into place: nobody sees half a
// file. Mode and time are the server's own, so every client sees them; names of symbolic links too.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "base/mutex.h"
#include "net/retry.h"
#include "provider/provider.h"
#include "provider/sftp/sftp_wire.h"

namespace pargeter::sftp {

struct SftpOptions {
  SshOptions ssh;
  std::string prefix;  // "" (where the server lets us begin), or a path that ends in "/"
  int connections = 6;
  RetryPolicy retry;
  const Clock* clock = &SystemClock();
};

class SftpProvider : public Provider, public Browser {
 public:
  explicit SftpProvider(SftpOptions options);

  bool SetSecret(std::string secret) EXCLUDES(mutex_);  // false if it is the same

  bool TellsContent(const std::string&) const override { return false; }
  Capabilities Can() const override;
  Result<ListPage> List(const std::string& folder, const std::string& next,
                        const Cancel& cancel) override;
  Result<ListPage> ListDeep(const std::string& folder, const std::string& next,
                            const Cancel& cancel) override;
  Result<Entry> Look(const std::string& path, const Cancel& cancel) override;
  Status Read(const std::string& path, const std::string& version, std::uint64_t offset,
              std::uint64_t size, ReadSink* sink, const Cancel& cancel) override;
  Result<Entry> Write(const std::string& path, WriteSource* source, const Attributes& attributes,
                      const Precondition& only_if, const Cancel& cancel) override;
  Result<Entry> Copy(const std::string& from, const std::string& version, std::uint64_t size,
                     const std::string& to, const Attributes* attributes,
                     const Precondition& only_if, const Cancel& cancel) override;
  Status MoveFolder(const std::string& from, const std::string& to, const Cancel& cancel) override;
  Result<Entry> MoveFile(const std::string& from, const std::string& version, const std::string& to,
                         const Precondition& only_if, const Cancel& cancel) override;
  Status Remove(const std::string& path, const Precondition& only_if,
                const Cancel& cancel) override;
  Result<std::vector<std::pair<std::string, Error>>> RemoveMany(
      const std::vector<Removal>& removals, const Cancel& cancel) override;
  Status MakeFolder(const std::string& path, const Attributes& attributes,
                    const Cancel& cancel) override;
  Status RemoveFolder(const std::string& path, const Cancel& cancel) override;
  Status Probe(const Cancel& cancel) override;
  std::string ProbeResult() const override;
  void AdoptProbeResult(const std::string& result) override;
  Result<bool> HoldsContent(const std::string& path, const Entry& entry, WriteSource* source,
                            const Cancel& cancel) override;
  Status DropUnfinished(const std::string& path, const std::string& origin,
                        const Cancel& cancel) override;
  Status Ping(Duration patience, const Cancel& cancel) override;
  Steady LastSign() const override { return heard_->load(); }
  Result<std::optional<Quota>> SpaceOfAccount(const Cancel& cancel) override;
  Result<Address> Link(const std::string& path, Duration lasts) override;
  TestReport Test(bool may_write, const Cancel& cancel) override;
  Result<std::vector<Entry>> Browse(const std::string& folder, const Cancel& cancel) override;

 private:
  // How the server treats symbolic links, as far as it has been tried.
  struct LinkManners {
    bool has = true;        // it can make them
    bool followed = false;  // RENAME of a link moves the file that it names
    bool hidden = false;    // LSTAT tells of a link what it names
    bool absolute = false;  // a relative target is given back as an absolute one
    std::string base;       // that names the drive's folder so; ends in "/"
  };

  // Runs `job` with a connection of its own for as long, once more on a new one if it was lost.
  template <typename Job>
  auto With(const Cancel& cancel, Job job) -> decltype(job(std::declval<Wire&>()));
  Result<std::unique_ptr<Wire>> Borrow(const Cancel& cancel) EXCLUDES(mutex_);
  void GiveBack(std::unique_ptr<Wire> wire) EXCLUDES(mutex_);

  std::string Full(const std::string& path) const;
  Result<FileAttributes> AttributesOf(Wire& wire, const std::string& path);  // of itself, no target
  Result<Entry> EntryAt(Wire& wire, const std::string& path);
  Status ReadLinks(Wire& wire, const std::string& folder, std::vector<Entry>* entries);
  Result<ListPage> ListWith(Wire& wire, const std::string& folder);
  // kChanged unless `only_if` holds at `path` now; true: a file is there.
  Result<bool> CheckFirst(Wire& wire, const std::string& path, const Precondition& only_if);
  Result<std::string> OpenScratch(Wire& wire, const std::string& scratch);
  Status SendBytes(Wire& wire, const std::string& handle, WriteSource* source,
                   const std::string& what);
  static std::string ScratchFor(const std::string& path, const std::string& origin);
  Status FinishScratch(Wire& wire, const std::string& handle, const Attributes& attributes,
                       const std::string& what);
  Status CopyBytes(Wire& wire, const std::string& from, const std::string& to, std::uint64_t size,
                   const std::string& what);
  // The scratch file, whose version is `ours`, takes its place.
  Result<Entry> Settle(Wire& wire, const std::string& scratch, const std::string& ours,
                       const std::string& path, const Precondition& only_if);
  // -- symbolic links (sftp_links.cc)
  static constexpr const char* kUntold = "?";  // shown for a target that the server does not tell
  static Result<std::string> TargetOf(const Entry& link, const std::string& path);
  Status MakeLink(Wire& wire, const std::string& target, const std::string& path);
  Result<Entry> PutLink(Wire& wire, const std::string& target, const std::string& path,
                        const Precondition& only_if);
  Result<Entry> MoveLink(Wire& wire, const std::string& from, const std::string& to,
                         const Precondition& only_if);
  Result<LinkManners> TryLinks(Wire& wire, const std::string& name) EXCLUDES(mutex_);
  LinkManners links() const EXCLUDES(mutex_);
  bool LinksLookTurned(const ListPage& page) EXCLUDES(mutex_);
  std::string AsMade(const std::string& folder, std::string target) const EXCLUDES(mutex_);
  Status MoveOver(Wire& wire, const std::string& from, const std::string& to);
  Status Rename(Wire& wire, const std::string& from, const std::string& to);
  Status MakeParents(Wire& wire, const std::string& path);
  Status RemoveFolderWith(Wire& wire, const std::string& path);
  Error Explained(Wire& wire, const std::string& path, Error error);  // is the disk there full?

  const SftpOptions options_;
  const Wire::Heard heard_ =
      std::make_shared<std::atomic<Steady>>(std::chrono::steady_clock::now());
  mutable Mutex mutex_;
  CondVar returned_;
  std::vector<std::unique_ptr<Wire>> idle_ GUARDED_BY(mutex_);
  int open_ GUARDED_BY(mutex_) = 0;
  bool opening_ GUARDED_BY(mutex_) = false;  // one is on its way in
  std::string secret_ GUARDED_BY(mutex_);
  bool copies_ GUARDED_BY(mutex_) = false;  // it copies by itself
  bool probed_ GUARDED_BY(mutex_) = false;
  bool rename_keeps_ GUARDED_BY(mutex_) = false;  // plain RENAME replaces nothing
  LinkManners links_ GUARDED_BY(mutex_);
  bool links_asked_ GUARDED_BY(mutex_) = false;  // a listing has had them tried
};

template <typename Job>
auto SftpProvider::With(const Cancel& cancel, Job job) -> decltype(job(std::declval<Wire&>())) {
  for (int attempt = 1;; ++attempt) {
    auto borrowed = Borrow(cancel);
    if (!borrowed.ok()) return borrowed.error();
    std::unique_ptr<Wire> wire = std::move(*borrowed);
    wire->WatchFor(cancel);
    auto outcome = job(*wire);
    wire->WatchFor(nullptr);
    // given up in the middle: answers are under way that nobody waits for
    if (!outcome.ok() && outcome.error().code == Code::kCancelled) {
      const Lock lock(mutex_);
      --open_;
      returned_.NotifyOne();
      return outcome;
    }
    const bool lost = wire->broken();
    GiveBack(std::move(wire));
    if (outcome.ok() || !lost || attempt >= 3 || outcome.error().code != Code::kUnavailable)
      return outcome;
  }
}

// "cannot DOING PATH", for errors.
std::string What(std::string_view doing, const std::string& path);
std::string VersionOf(const FileAttributes& attributes);
std::string FolderOf(const std::string& path);  // "" or ending in "/"
Error ChangedMeanwhile(const std::string& path);

}  // namespace pargeter::sftp
