#include "joined_drive.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>

#include "base/log.h"
#include "base/text.h"
#include "base/threads.h"
#include "stores.h"

namespace pargeter::app {
namespace {

constexpr std::size_t kAtOnce = 8;  // stores are asked, and parts started, so many at a time
constexpr int kLookEvery = 12;      // in terms of how old a listing may be

void InParallel(std::size_t count, const std::function<void(std::size_t)>& work) {
  std::atomic<std::size_t> next{0};
  WorkTogether(std::min(count, kAtOnce), [&] {
    for (std::size_t mine; (mine = next++) < count;) work(mine);
  });
}

template <typename T>
bool Has(const std::vector<T>& list, const T& one) {
  return std::find(list.begin(), list.end(), one) != list.end();
}

JoinSource SourceOf(const DriveSettings& part) { return {part.account, part.folder}; }

// Folders of a store, each asked for once.
ListFolders Lister(const World& world, const std::string& account) {
  return [&world, account](const std::string& folder) -> Result<std::vector<std::string>> {
    PG_ASSIGN(const Store store, OpenStore(world, account, folder));
    PG_ASSIGN(const std::vector<Entry> entries, store.browser->Browse(folder, nullptr));
    std::vector<std::string> names;
    for (const Entry& entry : entries)
      if (entry.kind == Kind::kFolder && !entry.name.empty()) names.push_back(entry.name);
    return names;
  };
}

}  // namespace

JoinedDrive::JoinedDrive(const World& world, const DriveSettings& settings, MountControl* mount)
    : world_(world),
      mount_(mount),
      name_(settings.name),
      control_(world, settings.name,
               [this](const std::string& m, const Json& p, const ControlServer::Gone& gone) {
                 return Answer(m, p, gone);
               }),
      settings_(settings) {}

JoinedDrive::~JoinedDrive() { Stop(); }

Result<std::unique_ptr<JoinedDrive>> JoinedDrive::Open(const World& world,
                                                       const DriveSettings& settings,
                                                       MountControl* mount) {
  std::unique_ptr<JoinedDrive> joined(new JoinedDrive(world, settings, mount));
  PG_TRY(MakeFolders(world.paths.DriveState(settings.name)));
  auto lock = LockFile(world.paths.DriveState(settings.name) + "/lock");
  if (!lock.ok()) return lock.error();
  joined->lock_ = std::move(*lock);
  return joined;
}

Status JoinedDrive::Begin() {
  {
    const Lock one(look_mutex_);
    Found nothing;  // not asked yet: whatever is known is taken for being there
    for (const std::string& text : settings().join) {
      PG_ASSIGN(const JoinPattern pattern, ParseJoin(text));
      nothing.silent.push_back(pattern.account);
    }
    Ignore(Adopt(nothing));  // finds the same fault when it looks
    StartParts();
    ShowAndHide(nothing);
  }
  if (shown_.After(0).empty()) Look();
  const Lock lock(mutex_);
  if (!shown_.After(0).empty() || trouble_.empty()) return {};
  return Error(Code::kUnavailable, fmt::format("nothing of {} can be shown: {}", name_, trouble_),
               "Look at each account with: pargeter account test");
}

void JoinedDrive::ShownBy(StreamFace* face) {
  {
    const Lock lock(mutex_);
    face_ = face;
    for (const auto& part : parts_)
      if (part->served) part->served->ShownBy(face, part->base);
  }
  looker_ = std::thread([this] { LookLoop(); });
}

void JoinedDrive::LookLoop() {
  for (bool looked = looked_;; looked = false) {
    if (!looked) Look();
    const Lock lock(mutex_);
    const Steady next = SystemClock().Now() + settings_.fresh_for * kLookEvery;
    while (!ending_ && SystemClock().Now() < next) changed_.WaitUntil(mutex_, next);
    if (ending_) return;
  }
}

void JoinedDrive::Look() {
  const Lock one(look_mutex_);
  const Found found = FindAll(settings());
  const Status adopted = Adopt(found);
  StartParts();
  ShowAndHide(found);
  std::string trouble = found.error ? found.error->what : "";
  if (trouble.empty() && !adopted.ok()) trouble = adopted.error().what;
  for (const Part* part : parts()) {
    const Lock lock(mutex_);
    if (trouble.empty() && !part->error.empty())
      trouble = fmt::format("{}: {}", part->settings.name, part->error);
  }
  NoteOnce(trouble);
  looked_ = true;
}

JoinedDrive::Found JoinedDrive::FindAll(const DriveSettings& settings) const {
  std::vector<Result<std::vector<JoinSource>>> answers(settings.join.size(),
                                                       Error(Code::kInternal, "was not asked"));
  std::vector<std::string> accounts(settings.join.size());
  InParallel(settings.join.size(), [&](std::size_t i) {
    const auto pattern = ParseJoin(settings.join[i]);
    if (!pattern.ok()) {
      answers[i] = pattern.error();
      return;
    }
    accounts[i] = pattern->account;
    answers[i] = FindSources(*pattern, Lister(world_, pattern->account));
  });
  Found found;
  for (std::size_t i = 0; i < answers.size(); ++i) {
    if (!answers[i].ok()) {
      found.silent.push_back(accounts[i]);
      if (!found.error) found.error = answers[i].error().Within(settings.join[i]);
      continue;
    }
    for (JoinSource& source : *answers[i])
      if (!Has(found.sources, source) && !IsLeftOut(source, settings.except))
        found.sources.push_back(std::move(source));
  }
  return found;
}

// Takes up what the configuration has of it, and what is new at the stores.
Status JoinedDrive::Adopt(const Found& found) {
  std::vector<DriveSettings> known = PartsOf(world_.paths, name_);
  const Status added = AddNew(found, &known);
  const Lock lock(mutex_);
  for (DriveSettings& settings : known) {
    if (std::any_of(parts_.begin(), parts_.end(),
                    [&](const auto& part) { return part->settings.name == settings.name; }))
      continue;
    parts_.push_back(std::make_unique<Part>());
    parts_.back()->settings = std::move(settings);
  }
  return added;
}

// Nothing is added while a part's file cannot be read: it may be the very one.
Status JoinedDrive::AddNew(const Found& found, std::vector<DriveSettings>* known) {
  const DriveSettings joined = settings();
  for (const std::string& name : DriveNames(world_.paths))
    if (name.compare(0, name_.size() + 1, name_ + ".") == 0) PG_TRY(LoadDrive(world_.paths, name));
  for (const JoinSource& source : found.sources) {
    if (std::any_of(known->begin(), known->end(),
                    [&](const DriveSettings& part) { return SourceOf(part) == source; }))
      continue;
    if (known->size() >= Shown::kMostDrives)
      return Error(Code::kNoSpace,
                   fmt::format("there are more than {} folders to show", Shown::kMostDrives));
    DriveSettings part = NewPart(joined, source, *known, DriveNames(world_.paths));
    PG_TRY(SaveDrive(world_.paths, part));
    Log(LogLevel::kInfo, "{} shows {}:{} as {}", name_, part.account, part.folder, part.shown_as);
    known->push_back(std::move(part));
  }
  return {};
}

void JoinedDrive::StartParts() {
  const DriveSettings joined = settings();
  std::vector<Part*> waiting;
  for (Part* part : parts()) {
    const Lock lock(mutex_);
    const JoinSource source = SourceOf(part->settings);
    if (!part->served && IsJoined(source, joined.join) && !IsLeftOut(source, joined.except))
      waiting.push_back(part);
  }
  InParallel(waiting.size(), [&](std::size_t i) { StartOne(waiting[i]); });
}

void JoinedDrive::StartOne(Part* part) {
  auto served = [&]() -> Result<std::unique_ptr<ServedDrive>> {
    // it may have been changed since
    PG_ASSIGN(const DriveSettings settings, LoadDrive(world_.paths, part->settings.name));
    PG_ASSIGN(auto started, ServedDrive::Open(world_, settings, mount_));
    PG_TRY(started->Contact());
    PG_TRY(started->Listen());
    return started;
  }();
  auto base = served.ok() ? shown_.Add(part->settings.shown_as, &(*served)->drive())
                          : Result<InodeNumber>(served.error());
  const Lock lock(mutex_);
  part->error = base.ok() ? "" : base.error().what;
  if (!base.ok()) return;
  part->served = std::move(*served);
  part->base = *base;
  part->visible = true;
  if (face_ == nullptr) return;
  part->served->ShownBy(face_, part->base);
  face_->NameChanged(Shown::kTop, part->settings.shown_as);
}

void JoinedDrive::ShowAndHide(const Found& found) {
  const DriveSettings joined = settings();
  for (Part* part : parts()) {
    const Lock lock(mutex_);
    if (!part->served) continue;
    const JoinSource source = SourceOf(part->settings);
    const bool wanted = IsJoined(source, joined.join) && !IsLeftOut(source, joined.except) &&
                        (Has(found.sources, source) || Has(found.silent, source.account));
    const bool visible = wanted || part->served->drive().Summary().pending.files > 0;
    if (visible == part->visible) continue;
    part->visible = visible;
    shown_.SetVisible(part->base, visible);
    if (face_ != nullptr) face_->NameChanged(Shown::kTop, part->settings.shown_as);
  }
}

void JoinedDrive::NoteOnce(const std::string& trouble) {
  const Lock lock(mutex_);
  if (trouble != trouble_ && !trouble.empty())
    world_.Note(fmt::format("{}: not all is shown: {}", name_, trouble));
  trouble_ = trouble;
}

std::vector<JoinedDrive::Part*> JoinedDrive::parts() const {
  const Lock lock(mutex_);
  std::vector<Part*> out;
  for (const auto& part : parts_) out.push_back(part.get());
  return out;
}

std::vector<Drive*> JoinedDrive::drives() const {
  const Lock lock(mutex_);
  std::vector<Drive*> out;
  for (const auto& part : parts_)
    if (part->served) out.push_back(&part->served->drive());
  return out;
}

DriveSettings JoinedDrive::settings() const {
  const Lock lock(mutex_);
  return settings_;
}

Result<Json> JoinedDrive::Refresh() {
  PG_ASSIGN(const DriveSettings now, LoadDrive(world_.paths, name_));
  if (now.join.empty())
    return Error(Code::kInvalid, fmt::format("{} is no joined drive any more", name_),
                 fmt::format("Mount it again: pargeter unmount {}", name_));
  Json applied = Json::array(), remount = Json::array();
  {
    const Lock lock(mutex_);
    for (const SettingDifference& differs : Differences(settings_, now))
      (differs.at_mount ? remount : applied).push_back(differs.what);
    TakeLive(&settings_, now);
  }
  Look();
  return Json{{"applied", applied}, {"needs_remount", remount}};
}

Json JoinedDrive::Report() const {
  Json parts = Json::array();
  const Lock lock(mutex_);
  for (const auto& part : parts_)
    parts.push_back({{"name", part->settings.name},
                     {"shown_as", JsonText(part->settings.shown_as)},
                     {"visible", part->visible},
                     {"error", JsonText(part->error)}});
  Json report{{"parts", parts}, {"last_error", JsonText(trouble_)}};
  report.update(mount_->About());
  return report;
}

Result<Json> JoinedDrive::Answer(const std::string& method, const Json& params,
                                 const ControlServer::Gone&) {
  const Duration patience(params.value("timeout_ms", 600000L));
  if (method == "status") return Report();
  if (method == "refresh") return Refresh();
  if (method == "unmount") return mount_->Unmount(params.value("now", false), patience);
  return Error(Code::kInvalid, fmt::format("{} is a joined drive: its parts are asked", name_));
}

void JoinedDrive::Stop() {
  control_.Stop();
  {
    const Lock lock(mutex_);
    ending_ = true;
    changed_.NotifyAll();
  }
  if (looker_.joinable()) looker_.join();
  for (Part* part : parts())
    if (part->served) part->served->Stop();
}

}  // namespace pargeter::app
