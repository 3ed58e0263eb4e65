// The one door to the store: every request of a drive passes here, with the kind of work that it is
// made for. Thread-safe. Calls block, with deadlines of the provider's; no lock of the engine is
// held meanwhile but the probe's, which is here.
#pragma once

#include <array>
#include <atomic>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "base/clock.h"
#include "base/error.h"
#include "base/mutex.h"
#include "engine/store/link_state.h"
#include "net/cancel.h"
#include "provider/provider.h"

namespace pargeter {

// What a request is made for, the most urgent first.
enum class Traffic {
  kForeground,    // a program or a command waits for the answer
  kUpload,        // a step of a local change
  kPrefetch,      // pins, fetches, and what a reader is likely to want next
  kHousekeeping,  // listings of visited folders, the feed, leftovers
};
constexpr std::size_t kTrafficKinds = 4;

// Who asks: how the request is ended early (may be null), and for which kind of work it is.
struct Call {
  Cancel cancel;
  Traffic traffic = Traffic::kForeground;
};

class StoreClient {
 public:
  // `stop`: cancelled when the drive is closed. `back` runs when the store answers again after it
  // was lost; it may be called until Stop has returned.
  struct Options {
    const Clock* clock;
    Duration trial_pause;
    Cancel stop;
    std::function<void()> back;
  };
  StoreClient(std::unique_ptr<Provider> provider, Options options)
      : provider_(std::move(provider)),
        stop_(options.stop),
        link_(options.clock,
              {[this](Duration patience) { return provider_->Ping(patience, stop_); },
               [this] { return provider_->LastSign(); }, std::move(options.back)},
              options.trial_pause) {}
  void Start() { link_.Start(); }
  void Stop() { link_.Stop(); }
  // For a renewed secret only: requests of the drive go through this class.
  Provider& provider() { return *provider_; }

  // -- is the store reachable?
  Status Check() const { return link_.Check(); }               // kUnavailable while it is not
  Status TryNow() { return link_.TryNow(); }                   // asks it, if it is not
  Nanos OfflineSince() const { return link_.OfflineSince(); }  // 0: online
  std::string LastFault() const { return link_.LastFault(); }
  Steady LastSign() const { return provider_->LastSign(); }
  // The outcome of a request that was not made through Ask.
  void Report(const Status& outcome) { link_.Tell(outcome); }

  // A request that somebody waits for: not made while offline, and given up when the store is lost.
  // `ask` gets the Call to make it with.
  template <typename Request>
  auto Ask(Traffic traffic, Request ask) -> decltype(ask(Call())) {
    PG_TRY(link_.Check());
    const LinkState::Waiting waiting(&link_);
    auto outcome = ask(Call{waiting.token(), traffic});
    if (outcome.ok()) return outcome;
    if (outcome.error().code == Code::kCancelled && !stop_->cancelled()) PG_TRY(link_.Check());
    link_.Tell(outcome.error());
    return outcome;
  }

  // Requests made so far for one kind of work.
  std::uint64_t Requests(Traffic traffic) const {
    return requests_[static_cast<std::size_t>(traffic)];
  }

  // -- what the store can do, and what its versions say; no requests
  Capabilities Can() const { return provider_->Can(); }
  bool TellsContent(const std::string& version) const { return provider_->TellsContent(version); }
  std::unique_ptr<ContentCheck> CheckOf(const std::string& version, std::uint64_t size) {
    return provider_->CheckOf(version, size);
  }
  // Once for each store: how far it guards conditions. Others wait for the first. Returns what is
  // to be remembered for the next start (AdoptProbeResult), nothing if it was known.
  Result<std::optional<std::string>> EnsureProbed(const Call& call) {
    const Lock one(probe_mutex_);
    if (provider_->Can().create != Guard::kUnknown) return std::optional<std::string>();
    PG_TRY(With(call).Probe(call.cancel));
    return std::optional<std::string>(provider_->ProbeResult());
  }
  std::string ProbeResult() const { return provider_->ProbeResult(); }
  void AdoptProbeResult(const std::string& result) { provider_->AdoptProbeResult(result); }

  // -- requests, as in provider/provider.h
  Result<ListPage> List(const std::string& folder, const std::string& next, const Call& call) {
    return With(call).List(folder, next, call.cancel);
  }
  Result<ListPage> ListDeep(const std::string& folder, const std::string& next, const Call& call) {
    return With(call).ListDeep(folder, next, call.cancel);
  }
  Result<Entry> Look(const std::string& path, const Call& call) {
    return With(call).Look(path, call.cancel);
  }
  Result<std::optional<Entry>> LookIfThere(const std::string& path, const Call& call) {
    return With(call).LookIfThere(path, call.cancel);
  }
  Result<Entry> LookFolder(const std::string& path, const Call& call) {
    return With(call).LookFolder(path, call.cancel);
  }
  Status Read(const std::string& path, const std::string& version, std::uint64_t offset,
              std::uint64_t size, ReadSink* sink, const Call& call) {
    return With(call).Read(path, version, offset, size, sink, call.cancel);
  }
  Result<Entry> Write(const std::string& path, WriteSource* source, const Attributes& attributes,
                      const Precondition& only_if, const Call& call) {
    return With(call).Write(path, source, attributes, only_if, call.cancel);
  }
  Result<PartedUpload> BeginParts(const std::string& path, const Attributes& attributes,
                                  const Call& call) {
    return With(call).BeginParts(path, attributes, call.cancel);
  }
  Result<UploadedPart> WritePart(const PartedUpload& upload, int number, WriteSource* part,
                                 const Call& call) {
    return With(call).WritePart(upload, number, part, call.cancel);
  }
  Result<std::vector<UploadedPart>> ListParts(const PartedUpload& upload, const Call& call) {
    return With(call).ListParts(upload, call.cancel);
  }
  Result<Entry> CompleteParts(const PartedUpload& upload, const std::vector<UploadedPart>& parts,
                              const Precondition& only_if, const Call& call) {
    return With(call).CompleteParts(upload, parts, only_if, call.cancel);
  }
  Status AbortParts(const PartedUpload& upload, const Call& call) {
    return With(call).AbortParts(upload, call.cancel);
  }
  Result<std::vector<PartedUpload>> ListUploads(const Call& call) {
    return With(call).ListUploads(call.cancel);
  }
  Result<Entry> Copy(const std::string& from, const std::string& version, std::uint64_t size,
                     const std::string& to, const Attributes* attributes,
                     const Precondition& only_if, const Call& call) {
    return With(call).Copy(from, version, size, to, attributes, only_if, call.cancel);
  }
  Status Remove(const std::string& path, const Precondition& only_if, const Call& call) {
    return With(call).Remove(path, only_if, call.cancel);
  }
  Result<std::vector<std::pair<std::string, Error>>> RemoveMany(
      const std::vector<Provider::Removal>& removals, const Call& call) {
    return With(call).RemoveMany(removals, call.cancel);
  }
  Status MakeFolder(const std::string& path, const Attributes& attributes, const Call& call) {
    return With(call).MakeFolder(path, attributes, call.cancel);
  }
  Status RemoveFolder(const std::string& path, const Call& call) {
    return With(call).RemoveFolder(path, call.cancel);
  }
  Status MoveFolder(const std::string& from, const std::string& to, const Call& call) {
    return With(call).MoveFolder(from, to, call.cancel);
  }
  Result<Entry> MoveFile(const std::string& from, const std::string& version, const std::string& to,
                         const Precondition& only_if, const Call& call) {
    return With(call).MoveFile(from, version, to, only_if, call.cancel);
  }
  Result<bool> HoldsContent(const std::string& path, const Entry& entry, WriteSource* source,
                            const Call& call) {
    return With(call).HoldsContent(path, entry, source, call.cancel);
  }
  Status DropUnfinished(const std::string& path, const std::string& origin, const Call& call) {
    return With(call).DropUnfinished(path, origin, call.cancel);
  }
  Result<std::vector<Provider::Kept>> Versions(const std::string& path, const Call& call) {
    return With(call).Versions(path, call.cancel);
  }
  Status ReadKept(const std::string& path, const std::string& id, ReadSink* sink,
                  const Call& call) {
    return With(call).ReadKept(path, id, sink, call.cancel);
  }
  Result<Provider::Address> Link(const std::string& path, Duration lasts) {
    return provider_->Link(path, lasts);
  }
  Result<std::string> FeedStart(const Call& call) { return With(call).FeedStart(call.cancel); }
  Result<Changes> ChangesSince(const std::string& moment, const Call& call) {
    return With(call).ChangesSince(moment, call.cancel);
  }
  Result<std::optional<Quota>> SpaceOfAccount(const Call& call) {
    return With(call).SpaceOfAccount(call.cancel);
  }

 private:
  Provider& With(const Call& call) {
    ++requests_[static_cast<std::size_t>(call.traffic)];
    return *provider_;
  }
  const std::unique_ptr<Provider> provider_;
  const Cancel stop_;
  LinkState link_;
  Mutex probe_mutex_;  // held while the store is tried
  std::array<std::atomic<std::uint64_t>, kTrafficKinds> requests_{};
};

}  // namespace pargeter
