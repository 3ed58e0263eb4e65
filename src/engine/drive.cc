// Drive: each call goes to the engine.
#include "engine/drive.h"

#include "engine/engine.h"

namespace pargeter {

Drive::Drive(std::unique_ptr<Engine> engine) : engine_(std::move(engine)) {}
Drive::~Drive() = default;

Result<std::unique_ptr<Drive>> Drive::Open(DriveOptions options,
                                           std::unique_ptr<Provider> provider) {
  PG_ASSIGN(std::unique_ptr<Engine> engine, Engine::Open(std::move(options), std::move(provider)));
  return std::unique_ptr<Drive>(new Drive(std::move(engine)));
}

void Drive::Start(ChangeListener* listener) { engine_->Start(listener); }
Status Drive::FirstContact() { return engine_->FirstContact(); }
Status Drive::Flush(Duration patience, const std::function<bool()>& given_up) {
  return engine_->Flush(patience, given_up);
}
void Drive::Stop() { engine_->Stop(); }
Result<Attr> Drive::Lookup(NodeId parent, const std::string& name) {
  return engine_->names().Lookup(parent, name);
}
void Drive::Forget(NodeId id, std::uint64_t uses) { engine_->names().Forget(id, uses); }
Result<Attr> Drive::GetAttr(NodeId id, std::optional<std::uint32_t> user) {
  return engine_->names().GetAttr(id, user);
}
Result<Attr> Drive::SetAttr(NodeId id, const AttrChange& change, const OpenFilePtr& file) {
  return engine_->files().SetAttr(id, change, file);
}
Result<Attr> Drive::MakeFolder(NodeId parent, const std::string& name, std::uint32_t mode,
                               std::uint32_t uid, std::uint32_t gid) {
  return engine_->names().MakeFolder(parent, name, mode, uid, gid);
}
Result<Attr> Drive::MakeSymlink(NodeId parent, const std::string& name, const std::string& target,
                                std::uint32_t uid, std::uint32_t gid) {
  return engine_->names().MakeSymlink(parent, name, target, uid, gid);
}
Result<std::string> Drive::ReadSymlink(NodeId id) { return engine_->names().ReadSymlink(id); }
Status Drive::Unlink(NodeId parent, const std::string& name) {
  return engine_->names().Unlink(parent, name);
}
Status Drive::RemoveFolder(NodeId parent, const std::string& name) {
  return engine_->names().RemoveFolder(parent, name);
}
Status Drive::Rename(NodeId parent, const std::string& name, NodeId new_parent,
                     const std::string& new_name, Replace replace) {
  return engine_->names().Rename(parent, name, new_parent, new_name, replace);
}
Status Drive::OpenFolder(NodeId id) { return engine_->names().OpenFolder(id); }
Result<std::vector<DirEntry>> Drive::ReadFolder(NodeId id, NodeId after, int limit, bool use) {
  return engine_->names().ReadFolder(id, after, limit, use);
}
Result<Drive::Opened> Drive::OpenNode(NodeId id, Intent intent) {
  return engine_->files().OpenNode(id, intent);
}
Result<Drive::Opened> Drive::Create(NodeId parent, const std::string& name, std::uint32_t mode,
                                    std::uint32_t uid, std::uint32_t gid, bool exclusive,
                                    Intent intent) {
  return engine_->files().Create(parent, name, mode, uid, gid, exclusive, intent);
}
Result<std::size_t> Drive::Read(const OpenFilePtr& file, char* data, std::size_t size,
                                std::uint64_t offset) {
  return engine_->files().Read(file, data, size, offset);
}
bool Drive::IsCrawler(const std::string& program) { return engine_->files().IsCrawler(program); }
void Drive::LimitCrawler(const OpenFilePtr& file, const std::string& program) {
  engine_->files().LimitCrawler(file, program);
}
Status Drive::Write(const OpenFilePtr& file, std::string_view data, std::uint64_t offset,
                    bool append) {
  return engine_->files().Write(file, data, offset, append);
}
Status Drive::Flush(const OpenFilePtr& file) { return engine_->files().Flush(file); }
Status Drive::Fsync(const OpenFilePtr& file) { return engine_->files().Fsync(file); }
Status Drive::FsyncFolder() { return engine_->files().FsyncFolder(); }
void Drive::Release(const OpenFilePtr& file) { engine_->files().Release(file); }
Status Drive::Allocate(const OpenFilePtr& file, int mode, std::uint64_t offset,
                       std::uint64_t size) {
  return engine_->files().Allocate(file, mode, offset, size);
}
Result<std::uint64_t> Drive::Seek(const OpenFilePtr& file, std::uint64_t offset, bool hole) {
  return engine_->files().Seek(file, offset, hole);
}
Result<std::uint64_t> Drive::CopyWhole(const OpenFilePtr& from, std::uint64_t from_offset,
                                       const OpenFilePtr& to, std::uint64_t to_offset,
                                       std::uint64_t size) {
  return engine_->files().CopyWhole(from, from_offset, to, to_offset, size);
}
Result<Drive::Opened> Drive::OpenKnown(NodeId id) { return engine_->files().OpenKnown(id, false); }
Result<std::uint64_t> Drive::ReplaceContent(NodeId id, std::uint64_t known,
                                            const StagedFile& staged) {
  return engine_->intake().Replace(id, known, staged);
}
Result<NodeState> Drive::CreateFrom(NodeId parent, const std::string& name,
                                    const StagedFile& staged, const std::string& conflicts_with) {
  return engine_->intake().Create(parent, name, staged, conflicts_with);
}
Result<std::string> Drive::ConflictName(NodeId parent, const std::string& name) {
  return engine_->intake().ConflictName(parent, name);
}
Result<std::optional<bool>> Drive::CompareWithVersion(NodeId id, int fd) {
  return engine_->intake().CompareWithVersion(id, fd);
}
Status Drive::CatchUp(const Cancel& cancel) { return engine_->refresher().CatchUp(cancel); }
DriveStatus Drive::Summary() { return engine_->Summary(); }
Result<Drive::StateOf> Drive::State(NodeId id) { return engine_->State(id); }
Result<Node> Drive::NodeAt(const std::string& path) { return engine_->facts().NodeAt(path); }
Result<std::vector<Drive::StateOf>> Drive::ListStates(NodeId folder) {
  return engine_->ListStates(folder);
}
Result<std::vector<std::pair<std::string, Node>>> Drive::Queue(int limit) {
  return engine_->Queue(limit);
}
Drive::Delay Drive::DelayOf(const Node& node) { return engine_->DelayOf(node); }
Result<std::vector<std::pair<std::string, Node>>> Drive::Conflicts() {
  return engine_->choices().Conflicts();
}
Status Drive::SettleConflict(const std::string& path, Keep keep) {
  return engine_->choices().SettleConflict(path, keep);
}
Status Drive::ReleaseDeletions() { return engine_->guard().ReleaseDeletions(); }
Result<std::uint64_t> Drive::DropDeletions() { return engine_->guard().DropDeletions(); }
Result<std::string> Drive::PathOf(NodeId id) { return engine_->facts().PathOf(id); }
Status Drive::Refresh() { return engine_->refresher().Refresh(); }
Result<Sums> Drive::SumsOf(NodeId folder) { return engine_->SumsOf(folder); }
Result<Evicted> Drive::Evict(const std::vector<NodeId>& ids, const EvictWish& wish) {
  return engine_->contents().Evict(ids, wish);
}
Result<std::int64_t> Drive::BeginFetch(std::vector<NodeId> roots) {
  return engine_->prefetcher().BeginFetch(std::move(roots));
}
std::shared_ptr<Fetch> Drive::FetchOf(std::int64_t number) {
  return engine_->prefetcher().FetchOf(number);
}
Status Drive::Pin(NodeId id) { return engine_->prefetcher().Pin(id); }
Status Drive::Unpin(NodeId id) { return engine_->prefetcher().Unpin(id); }
Result<Checked> Drive::Verify(NodeId id, bool with_store) {
  return engine_->verifier().Verify(id, with_store);
}
Status Drive::CheckIndex() { return engine_->CheckIndex(); }
Status Drive::Place(NodeId id, Placement placement) {
  return engine_->prefetcher().Place(id, placement);
}
Status Drive::PlaceEverywhere(const std::string& key, bool is_pattern, Placement placement) {
  return engine_->placement().PlaceEverywhere(key, is_pattern, placement);
}
Status Drive::SetPattern(const std::string& pattern, Placement placement) {
  return engine_->placement().SetPattern(pattern, placement);
}
Result<std::vector<PlacedRule>> Drive::Rules() { return engine_->placement().Rules(); }
Result<Explanation> Drive::Explain(NodeId id) { return engine_->Explain(id); }
Result<Attr> Drive::SpaceOf() { return engine_->SpaceOf(); }
Result<std::optional<Quota>> Drive::AccountSpace(Duration max_age) {
  return engine_->room().AccountSpace(max_age);
}
Result<std::vector<Provider::Kept>> Drive::Versions(NodeId id) {
  return engine_->files().Versions(id);
}
Result<std::uint64_t> Drive::Restore(NodeId id, const std::string& version) {
  return engine_->files().Restore(id, version);
}
Result<Provider::Address> Drive::LinkTo(NodeId id, Duration lasts) {
  return engine_->files().LinkTo(id, lasts);
}
std::vector<Happening> Drive::Happened(std::int64_t after, std::size_t limit) {
  return engine_->Happened(after, limit);
}
void Drive::SetLimits(const DriveLimits& limits) { engine_->SetLimits(limits); }
bool Drive::IsAlive() { return engine_->IsAlive(); }
const DriveOptions& Drive::options() const { return engine_->options(); }
Provider& Drive::provider() { return engine_->provider(); }

}  // namespace pargeter
