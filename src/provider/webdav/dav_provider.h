// The Provider for WebDAV servers, RFC 4918. What a server can do is probed, never assumed from its
// name: servers differ most in what they do with preconditions and entity tags.
//
// A version is what a listing tells: the entity tag without its weak mark, or where a listing has
// none the time of change and the size. (Then two changes within a second that leave the size as it
// was look alike.) A GET that tells neither is guarded by a look after its bytes (dav_read.cc).
// Folders are real; a path that ends in "/" names one, as in a store of flat keys, so that a folder
// is copied, looked at and removed like any other object (removed only if empty). Attributes are a
// property of our own (urn:pargeter pargeter-attributes), which listings carry.
#pragma once

#include <atomic>
#include <functional>
#include <string>

#include "base/mutex.h"
#include "provider/provider.h"
#include "provider/webdav/dav_wire.h"
#include "provider/webdav/dav_xml.h"

namespace pargeter::webdav {

struct DavOptions {
  WireOptions wire;
  std::string prefix;  // below the base: "" or ending in "/"
};

// The version of a file without an entity tag.
std::string DatedVersion(Nanos modified, std::uint64_t size);

class DavProvider : public Provider, public Browser {
 public:
  explicit DavProvider(DavOptions options);

  bool SetLogin(Login login) { return wire_.SetLogin(std::move(login)); }

  bool TellsContent(const std::string&) const override { return false; }
  Capabilities Can() const override;
  Result<ListPage> List(const std::string& folder, const std::string& next,
                        const Cancel& cancel) override;
  // A page is a folder.
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
  Status Ping(Duration patience, const Cancel& cancel) override;
  Steady LastSign() const override { return wire_.LastSign(); }
  Result<std::vector<Kept>> Versions(const std::string& path, const Cancel& cancel) override;
  Status ReadKept(const std::string& path, const std::string& id, ReadSink* sink,
                  const Cancel& cancel) override;
  Result<Address> Link(const std::string& path, Duration lasts) override;
  Result<std::string> FeedStart(const Cancel& cancel) override;
  Result<Changes> ChangesSince(const std::string& moment, const Cancel& cancel) override;
  Result<std::optional<Quota>> SpaceOfAccount(const Cancel& cancel) override;
  TestReport Test(bool may_write, const Cancel& cancel) override;
  // Reads back what is there: no version of this protocol tells.
  Result<bool> HoldsContent(const std::string& path, const Entry& entry, WriteSource* source,
                            const Cancel& cancel) override;
  Status DropUnfinished(const std::string& path, const std::string& origin,
                        const Cancel& cancel) override;

  Result<std::vector<Entry>> Browse(const std::string& folder, const Cancel& cancel) override;

 private:
  Result<Address> AskForShare(const std::string& target, const std::string& path, Duration lasts);
  // What probing taught us of this server.
  struct Learnt {
    bool probed = false;
    bool put_absent = false;       // PUT heeds If-None-Match: *
    bool put_version = false;      // PUT heeds If-Match
    bool put_tells = false;        // PUT answers with the entity tag that listings show
    bool move_absent = false;      // MOVE heeds Overwrite: F
    bool move_version = false;     // MOVE heeds an If header for its destination
    bool move_keeps = false;       // MOVE leaves the entity tag as it is
    bool delete_version = false;   // DELETE heeds If-Match
    bool properties = false;       // properties of our own are kept
    bool properties_keep = false;  // and change no entity tag
    bool locks = false;
  };
  // The flags and their names, in the order in which they are kept.
  static const std::vector<std::pair<const char*, bool Learnt::*>>& Flags();
  Learnt learnt() const EXCLUDES(mutex_);
  // A PUT of its own says what came of it; else what goes up stands aside until it is known.
  static bool WritesDirectly(const Learnt& l) {
    return l.put_absent && l.put_version && l.put_tells && (l.properties_keep || !l.properties);
  }

  Call NewCall(std::string method, const std::string& path, std::string_view what,
               const Cancel& cancel) const;
  Result<HttpResponse> Send(const Call& call);
  Result<std::string> FileOnTheWay(const std::string& path, const Cancel& cancel);
  Result<ListPage> ListOnly(const std::string& folder, const Cancel& cancel);  // kNotFound too
  Result<Multistatus> Propfind(const std::string& path, int depth, bool deep, const Cancel& cancel);
  Result<Item> ItemAt(const std::string& path, const Cancel& cancel, bool deep = false);
  std::string Tagged(const std::string& path, const std::string& etag) const;
  Entry EntryOf(const Item& item, const std::string& name) const;
  Entry EntryOfHead(const HttpHead& head, const std::string& path, const std::string& wanted) const;
  Status ReadInPieces(const std::string& path, const std::string& version, std::uint64_t offset,
                      std::uint64_t size, ReadSink* sink, const Cancel& cancel);
  Result<HttpResponse> SendIf(Call call, const std::string& path, const std::string& version);
  // `shown`: what the file is called in errors. kUnsupported: a link that the server cannot hold.
  Status SetProperties(const std::string& path, const std::string& shown,
                       const Attributes& attributes, const std::string& version,
                       const Cancel& cancel);
  // kChanged unless `only_if` holds at `path` now; the item that is there, if there is one.
  Result<std::optional<Item>> CheckFirst(const std::string& path, const Precondition& only_if,
                                         const Cancel& cancel);
  Result<Entry> WriteDirectly(const std::string& path, WriteSource* source,
                              const Attributes& attributes, const Precondition& only_if,
                              const Cancel& cancel);
  Result<Entry> WriteAside(const std::string& path, WriteSource* source,
                           const Attributes& attributes, const Precondition& only_if,
                           const Cancel& cancel);
  // Sends `call`; when a folder above its target is missing, makes it and sends it again.
  Result<HttpResponse> SendMakingFolders(Call call, const std::string& target);
  Status MakeParents(const std::string& path, const Cancel& cancel);
  Status MakeOneFolder(const std::string& path, const Cancel& cancel);
  Result<bool> MendParents(const std::string& target, int status, const Cancel& cancel);
  // The scratch file becomes the file at `path`; says what is there then.
  Result<Entry> Settle(const std::string& scratch, const Item& ours, const std::string& path,
                       const Precondition& only_if, const Cancel& cancel);
  Status MoveOver(const std::string& scratch, const std::string& path, const Precondition& only_if,
                  const Cancel& cancel);
  Result<std::string> TakeLock(const std::string& path, const Cancel& cancel);
  Status RemoveNow(const std::string& path, const std::string& etag, const Cancel& cancel);
  static std::string ScratchFor(const std::string& path, const std::string& origin);
  Status Try(const std::string& a, const std::string& b, Learnt* found, const Cancel& cancel);

  const DavOptions options_;
  Wire wire_;
  // The server names one version differently in a listing and in a GET.
  std::atomic<bool> reads_tell_otherwise_{false};
  mutable Mutex mutex_;
  Learnt learnt_ GUARDED_BY(mutex_);
};

}  // namespace pargeter::webdav
