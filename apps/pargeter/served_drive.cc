#include "served_drive.h"

#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>

#include "base/file.h"
#include "base/threads.h"
#include "drive_methods.h"
#include "stores.h"

namespace pargeter::app {

// For what else a drive does by itself, for commands, and for the kernel's requests at the least.
static constexpr std::size_t kOtherThreads = 24;

NamedControl::NamedControl(const World& world, const std::string& name,
                           ControlServer::Handler handler)
    : paths_(world.paths), name_(name), server_(std::move(handler)) {}

Status NamedControl::Start() {
  PG_TRY(server_.Start(paths_.OwnSocketOf(name_)));
  const std::string link = paths_.SocketLinkOf(name_), fresh = link + ".new";
  ::unlink(fresh.c_str());
  if (::symlink(paths_.OwnSocketOf(name_).c_str(), fresh.c_str()) != 0)
    return FromErrno(errno, "cannot say where the control socket is");
  return RealDisk().Rename(fresh, link);
}

void NamedControl::Stop() {
  ::unlink(paths_.SocketLinkOf(name_).c_str());
  server_.Stop();
}

ServedDrive::ServedDrive(const World& world, const DriveSettings& settings, MountControl* mount)
    : world_(world),
      mount_(mount),
      name_(settings.name),
      control_(world, settings.name,
               [this](const std::string& m, const Json& p, const ControlServer::Gone& gone) {
                 return Answer(m, p, gone);
               }),
      settings_(settings) {}

ServedDrive::~ServedDrive() { Stop(); }

Result<std::unique_ptr<ServedDrive>> ServedDrive::Open(const World& world,
                                                       const DriveSettings& settings,
                                                       MountControl* mount) {
  std::unique_ptr<ServedDrive> served(new ServedDrive(world, settings, mount));
  PG_ASSIGN(served->drive_, OpenDrive(world, settings, true));
  return served;
}

Status ServedDrive::Contact(ChangeListener* listener) {
  const auto workers = drive_->options().fetch_workers + drive_->options().upload_workers;
  PG_TRY(CheckThreads(static_cast<std::size_t>(workers) + kOtherThreads));
  drive_->Start(listener != nullptr ? listener : &listener_);
  return drive_->FirstContact();
}

Status ServedDrive::Listen() { return control_.Start(); }

void ServedDrive::Stop() {
  if (!drive_) return;
  control_.Stop();
  drive_->Stop();
}

DriveSettings ServedDrive::settings() const {
  const Lock lock(mutex_);
  return settings_;
}

Result<Json> ServedDrive::Refresh() {
  PG_ASSIGN(const DriveSettings now, LoadDrive(world_.paths, name_));
  Json applied = Json::array(), remount = Json::array();
  {
    const Lock lock(mutex_);
    for (const SettingDifference& differs : Differences(settings_, now))
      (differs.at_mount ? remount : applied).push_back(differs.what);
    TakeLive(&settings_, now);
    drive_->SetLimits(LimitsOf(now));
    // a key may have been renewed; a wrong one is met at the next request, and said there
    PG_ASSIGN(const bool renewed, RenewSecret(world_, settings_.account, &drive_->provider()));
    if (renewed) applied.push_back("key");
  }
  PG_TRY(drive_->Refresh());
  return Json{{"applied", applied}, {"needs_remount", remount}};
}

Result<Json> ServedDrive::Answer(const std::string& method, const Json& params,
                                 const ControlServer::Gone& gone) {
  const Duration patience(params.value("timeout_ms", 600000L));
  if (method == "flush") {
    PG_TRY(drive_->Flush(patience, gone));
    return Json{{"held", drive_->Summary().held}};
  }
  if (method == "refresh") return Refresh();
  const std::string joined = settings().part_of;
  if (method == "unmount") {
    if (!joined.empty())
      return Error(Code::kRefused,
                   fmt::format("{} is a part of the joined drive {}", name_, joined),
                   fmt::format("Unmount the joined drive: pargeter unmount {}", joined));
    return mount_->Unmount(params.value("now", false), patience);
  }
  PG_ASSIGN(Json answer, AnswerMethod(drive_.get(), method, params));
  if (method == "status") answer.update(mount_->About());
  return answer;
}

}  // namespace pargeter::app
