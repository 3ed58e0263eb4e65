// pargeter-standin: simulated stores for trying and testing.
#include <fmt/format.h>
#include <signal.h>
#include <unistd.h>

#include <cstdio>
#include <thread>

#include "base/units.h"
#include "base/version.h"
#include "command_line/command.h"
#include "commands.h"
#include "config/secrets.h"
#include "drive_server.h"
#include "s3_server.h"

namespace {

using namespace pargeter;
using namespace pargeter::standin;

int Fail(const Error& error) {
  fmt::print(stderr, "pargeter-standin: {}\n", error.what);
  if (!error.remedy.empty()) fmt::print(stderr, "{}\n", error.remedy);
  return ExitCodeOf(error.code);
}

Status Complete(Options* o) {
  const auto colon = o->listen.rfind(':');
  if (colon == std::string::npos) return Error(Code::kInvalid, "--listen wants HOST:PORT");
  o->server.host = o->listen.substr(0, colon);
  o->server.port = std::atoi(o->listen.c_str() + colon + 1);
  if (o->secret_file.empty()) {
    return Error(Code::kInvalid, "no secret is given",
                 "Give the file that holds it with --secret-file.");
  }
  PG_ASSIGN(o->server.secret, ReadSecretFile(o->secret_file));
  if (!o->narrow_secret_file.empty()) {
    PG_ASSIGN(o->server.narrow_secret, ReadSecretFile(o->narrow_secret_file));
  }
  if (!o->latency.empty()) {
    PG_ASSIGN(o->server.latency, ParseDuration(o->latency));
  }
  if (!o->largest_body.empty()) {
    PG_ASSIGN(o->server.largest_body, ParseSize(o->largest_body));
    o->drive.largest_body = o->server.largest_body;
  }
  if (!o->rate.empty()) {
    PG_ASSIGN(o->server.rate, ParseSize(o->rate));
  }
  return {};
}

// Signals are taken by one thread that may call anything; all others inherit the block.
void EndOnSignals() {
  static sigset_t set;
  sigemptyset(&set);
  sigaddset(&set, SIGINT);
  sigaddset(&set, SIGTERM);
  pthread_sigmask(SIG_BLOCK, &set, nullptr);
  signal(SIGPIPE, SIG_IGN);
  std::thread([] {
    int signal_number = 0;
    sigwait(&set, &signal_number);
    // what was answered is on the disk; connections that idle would be waited for, for a minute
    ::_exit(0);
  }).detach();
}

void SayWhere(const std::string& certificate, const std::string& host, int port) {
  fmt::print("listening on {}://{}:{}\n", certificate.empty() ? "http" : "https", host, port);
  std::fflush(stdout);
}

Status AddFaults(const std::vector<std::string>& texts, Faults* faults) {
  for (const std::string& text : texts) {
    PG_ASSIGN(const Fault fault, ParseFault(text));
    faults->Add(fault);
  }
  return {};
}

int RunObjects(Options o) {
  if (const Status complete = Complete(&o); !complete.ok()) return Fail(complete.error());
  Faults faults;
  if (const Status added = AddFaults(o.faults, &faults); !added.ok()) return Fail(added.error());
  ObjectStore store(o.data);
  if (const Status loaded = store.Load(); !loaded.ok()) return Fail(loaded.error());
  for (const std::string& bucket : o.buckets) store.MakeBucket(bucket);

  EndOnSignals();
  S3Server server(o.server, &store, &faults);
  const auto port = server.Bind();
  if (!port.ok()) return Fail(port.error());
  SayWhere(o.server.tls_certificate, o.server.host, *port);
  server.Serve();
  return 0;
}

// The same settings as far as they are common, a person's name and password for the key.
int RunDrive(Options o) {
  if (const Status complete = Complete(&o); !complete.ok()) return Fail(complete.error());
  DriveServerOptions& d = o.drive;
  d.password = o.server.secret;
  d.guest_password = o.server.narrow_secret;
  d.http = {o.server.host, o.server.port, o.server.tls_certificate, o.server.tls_key,
            o.server.rate};
  d.request_log = o.server.request_log;
  d.latency = o.server.latency;
  if (!o.token_life.empty()) {
    const auto life = ParseDuration(o.token_life);
    if (!life.ok()) return Fail(life.error());
    d.token_life = *life;
  }
  if (!o.quota.empty()) {
    const auto quota = ParseSize(o.quota);
    if (!quota.ok()) return Fail(quota.error());
    d.quota = *quota;
  }
  Faults faults;
  if (const Status added = AddFaults(o.faults, &faults); !added.ok()) return Fail(added.error());
  ObjectStore store(o.data);
  if (const Status loaded = store.Load(); !loaded.ok()) return Fail(loaded.error());
  EndOnSignals();
  DriveServer server(d, &store, &faults);
  const auto port = server.Start();
  if (!port.ok()) return Fail(port.error());
  SayWhere(d.http.tls_certificate, d.http.host, *port);
  for (;;) ::pause();
}

}  // namespace

int main(int argc, char** argv) {
  Options options;
  std::function<int(Options)> run;
  const auto commands =
      DescribeCommands(&options, [&](bool drive) { run = drive ? RunDrive : RunObjects; });
  const auto printed = commands->Read(argc, argv, fmt::format("pargeter-standin {}", kVersion));
  if (!printed.ok()) return Fail(printed.error());
  if (!printed->empty()) {
    fmt::print("{}", *printed);
    return 0;
  }
  return run(std::move(options));
}
