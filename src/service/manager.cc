#include "service/manager.h"

#include <fmt/format.h>
#include <signal.h>
#include <sys/stat.h>
#include <systemd/sd-bus.h>
#include <systemd/sd-daemon.h>

#include <cerrno>
#include <cstdlib>
#include <cstring>

#include "base/file.h"
#include "base/text.h"
#include "base/units.h"

namespace pargeter {
namespace {

constexpr const char* kBusName = "org.freedesktop.systemd1";
constexpr const char* kObject = "/org/freedesktop/systemd1";
constexpr const char* kInterface = "org.freedesktop.systemd1.Manager";
constexpr std::uint64_t kCallMicros = 30'000'000;

struct BusError {
  sd_bus_error e = SD_BUS_ERROR_NULL;
  ~BusError() { sd_bus_error_free(&e); }
};
struct Message {
  sd_bus_message* m = nullptr;
  ~Message() { sd_bus_message_unref(m); }
};

Error Failed(const char* what, int result, const BusError& error) {
  const std::string why = error.e.message ? error.e.message : std::strerror(-result);
  const bool denied =
      result == -EACCES || result == -EPERM ||
      (error.e.name && std::string(error.e.name).find("AccessDenied") != std::string::npos);
  return Error(denied ? Code::kPermission : Code::kInternal,
               fmt::format("systemd did not {}: {}", what, Printable(why)),
               denied ? "For services of the machine, run it as root." : "");
}

}  // namespace

struct Manager::Impl {
  sd_bus* bus = nullptr;
  bool subscribed = false;      // to signals, once for the connection
  std::string job, job_result;  // the one that is waited for
  ~Impl() { sd_bus_flush_close_unref(bus); }

  static int OnJobRemoved(sd_bus_message* m, void* userdata, sd_bus_error*) {
    auto* self = static_cast<Impl*>(userdata);
    std::uint32_t id = 0;
    const char *path = nullptr, *unit = nullptr, *result = nullptr;
    if (sd_bus_message_read(m, "uoss", &id, &path, &unit, &result) >= 0 && self->job == path)
      self->job_result = result;
    return 0;
  }
  Status Call(const char* method, const char* what, Message* reply, const char* types,
              const char* argument) {
    BusError error;
    const int r = argument == nullptr
                      ? sd_bus_call_method(bus, kBusName, kObject, kInterface, method, &error.e,
                                           &reply->m, nullptr)
                      : sd_bus_call_method(bus, kBusName, kObject, kInterface, method, &error.e,
                                           &reply->m, types, argument);
    return r < 0 ? Status(Failed(what, r, error)) : Status();
  }
};

Manager::Manager(std::unique_ptr<Impl> impl) : impl_(std::move(impl)) {}
Manager::Manager(Manager&&) noexcept = default;
Manager& Manager::operator=(Manager&&) noexcept = default;
Manager::~Manager() = default;

Status Manager::Running() {
  if (sd_booted() > 0) return {};
  const auto first = ReadFile("/proc/1/comm", 64);
  return Error(Code::kUnsupported,
               fmt::format("this machine is not run by systemd but by {}, and services are its "
                           "units",
                           first.ok() ? Printable(Trim(*first)) : std::string("something else")),
               "Mount with: pargeter mount NAME --detach; or give \"pargeter mount NAME\" to your "
               "own supervisor (docs/services.md).");
}

Result<Manager> Manager::Connect(Scope scope, const std::string& runtime_dir) {
  PG_TRY(Running());
  auto impl = std::make_unique<Impl>();
  int r = 0;
  if (scope == Scope::kSystem) {
    r = sd_bus_open_system(&impl->bus);
  } else {
    r = sd_bus_new(&impl->bus);
    const std::string address = "unix:path=" + runtime_dir + "/bus";
    if (r >= 0) r = sd_bus_set_address(impl->bus, address.c_str());
    if (r >= 0) r = sd_bus_set_bus_client(impl->bus, 1);
    if (r >= 0) r = sd_bus_start(impl->bus);
  }
  if (r < 0) {
    return Error(
        r == -EACCES || r == -EPERM ? Code::kPermission : Code::kUnsupported,
        fmt::format("{} service manager cannot be reached: {}",
                    scope == Scope::kSystem ? "the system's" : "your", std::strerror(-r)),
        scope == Scope::kSystem
            ? "Install and start dbus."
            : "It runs while you are signed in, or always with: sudo loginctl enable-linger USER; "
              "and it needs the package dbus-user-session.");
  }
  sd_bus_set_method_call_timeout(impl->bus, kCallMicros);
  return Manager(std::move(impl));
}

Result<int> Manager::Version() {
  BusError error;
  char* text = nullptr;
  const int r = sd_bus_get_property_string(impl_->bus, kBusName, kObject, kInterface, "Version",
                                           &error.e, &text);
  if (r < 0) return Failed("say its version", r, error);
  const int version = std::atoi(text);
  std::free(text);
  return version;
}

Status Manager::Reload() {
  Message reply;
  return impl_->Call("Reload", "read the units again", &reply, nullptr, nullptr);
}

Status Manager::Enable(const std::string& unit) {
  BusError error;
  Message reply;
  const int r = sd_bus_call_method(impl_->bus, kBusName, kObject, kInterface, "EnableUnitFiles",
                                   &error.e, &reply.m, "asbb", 1, unit.c_str(), 0, 1);
  if (r < 0) return Failed("enable the service", r, error);
  return Reload();
}

Status Manager::Disable(const std::string& unit) {
  BusError error;
  Message reply;
  const int r = sd_bus_call_method(impl_->bus, kBusName, kObject, kInterface, "DisableUnitFiles",
                                   &error.e, &reply.m, "asb", 1, unit.c_str(), 0);
  if (r < 0) return Failed("disable the service", r, error);
  return Reload();
}

Status Manager::Forget(const std::string& unit) {
  Message reply;
  return impl_->Call("ResetFailedUnit", "forget a failure", &reply, "s", unit.c_str());
}

Status Manager::Run(const char* method, const std::string& unit, Duration patience) {
  BusError error;
  if (!impl_->subscribed) {
    Message reply;
    PG_TRY(impl_->Call("Subscribe", "listen", &reply, nullptr, nullptr));
    impl_->subscribed = true;
  }
  sd_bus_slot* slot = nullptr;
  int r = sd_bus_match_signal(impl_->bus, &slot, kBusName, kObject, kInterface, "JobRemoved",
                              Impl::OnJobRemoved, impl_.get());
  if (r < 0) return Failed("listen", r, error);
  struct Slot {
    sd_bus_slot* s;
    ~Slot() { sd_bus_slot_unref(s); }
  } guard{slot};
  impl_->job.clear();
  impl_->job_result.clear();
  Message reply;
  r = sd_bus_call_method(impl_->bus, kBusName, kObject, kInterface, method, &error.e, &reply.m,
                         "ss", unit.c_str(), "replace");
  if (r < 0) return Failed("take the order", r, error);
  const char* job = nullptr;
  if (sd_bus_message_read(reply.m, "o", &job) < 0)
    return Error(Code::kInternal, "systemd's answer cannot be understood");
  impl_->job = job;
  const Steady deadline = SystemClock().Now() + patience;
  while (impl_->job_result.empty()) {
    r = sd_bus_process(impl_->bus, nullptr);
    if (r < 0) return Failed("finish the order", r, error);
    if (r > 0) continue;
    const Steady now = SystemClock().Now();
    if (now >= deadline)
      return Error(Code::kTimeout,
                   fmt::format("{} is still at it after {}", unit, FormatAge(patience)),
                   "See: pargeter service status");
    const auto span = std::chrono::duration_cast<std::chrono::microseconds>(
        std::min<Steady::duration>(deadline - now, Duration(1000)));
    r = sd_bus_wait(impl_->bus, static_cast<std::uint64_t>(span.count()));
    if (r < 0 && r != -EINTR) return Failed("finish the order", r, error);
  }
  if (impl_->job_result == "done" || impl_->job_result == "skipped") return {};
  return Error(Code::kInternal, fmt::format("{}: {}", unit, impl_->job_result));
}

Result<UnitState> Manager::StateOf(const std::string& unit) {
  Message reply;
  PG_TRY(impl_->Call("LoadUnit", "find the service", &reply, "s", unit.c_str()));
  const char* path = nullptr;
  if (sd_bus_message_read(reply.m, "o", &path) < 0)
    return Error(Code::kInternal, "systemd's answer cannot be understood");
  UnitState state;
  const std::string unit_interface = "org.freedesktop.systemd1.Unit",
                    service_interface = "org.freedesktop.systemd1.Service";
  const auto text = [&](const std::string& interface, const char* name) {
    BusError error;
    char* value = nullptr;
    if (sd_bus_get_property_string(impl_->bus, kBusName, path, interface.c_str(), name, &error.e,
                                   &value) < 0)
      return std::string();
    std::string out = value;
    std::free(value);
    return out;
  };
  const auto number = [&](const std::string& interface, const char* name, char type, void* out) {
    BusError error;
    sd_bus_get_property_trivial(impl_->bus, kBusName, path, interface.c_str(), name, &error.e, type,
                                out);
  };
  state.active = text(unit_interface, "ActiveState");
  state.sub = text(unit_interface, "SubState");
  state.result = text(service_interface, "Result");
  state.status = text(service_interface, "StatusText");
  number(service_interface, "MainPID", 'u', &state.main_pid);
  number(service_interface, "ExecMainStatus", 'i', &state.exit_status);
  std::int32_t how = 0;
  number(service_interface, "ExecMainCode", 'i', &how);
  state.killed = how == CLD_KILLED || how == CLD_DUMPED;
  number(service_interface, "NRestarts", 'u', &state.restarts);
  std::uint64_t micros = 0;
  number(unit_interface, "StateChangeTimestamp", 't', &micros);
  state.since = static_cast<Nanos>(micros * 1000);
  return state;
}

bool Lingers(const std::string& user) {
  struct stat info {};
  return ::stat(("/var/lib/systemd/linger/" + user).c_str(), &info) == 0;
}

}  // namespace pargeter
