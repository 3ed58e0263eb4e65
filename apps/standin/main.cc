// pargeter-standin: simulated stores for trying and testing.
#include <fmt/format.h>
#include <signal.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <cstdio>
#include <thread>

#include "base/units.h"
#include "config/secrets.h"
#include "drive_server.h"
#include "s3_server.h"

namespace {

using namespace pargeter;
using namespace pargeter::standin;

struct Options {
  std::string listen = "127.0.0.1:9400";
  std::string data, secret_file, narrow_secret_file, latency, rate, quota, token_life, largest_body;
  std::vector<std::string> buckets, faults;
  ServerOptions server;
  DriveServerOptions drive;
};

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

// What both kinds have.
void AddCommonOptions(CLI::App* to, Options* o) {
  to->add_option("--listen", o->listen, "HOST:PORT to serve; port 0 is any free one")
      ->capture_default_str();
  to->add_option("--data", o->data, "folder to keep the data in (default: forget it at the end)");
  to->add_option("--secret-file", o->secret_file, "file that holds the secret or password")
      ->required();
  to->add_option("--request-log", o->server.request_log, "write a JSON line for each request here");
  to->add_option("--latency", o->latency, "wait so long before each answer, such as 20ms");
  to->add_option("--rate", o->rate, "bytes a second for each connection, such as 50MiB");
  to->add_option("--fault", o->faults,
                 "a fault to make, such as status=503,share=0.05; may be repeated");
  to->add_option("--tls-certificate", o->server.tls_certificate, "PEM file: serve https");
  to->add_option("--tls-key", o->server.tls_key, "PEM file of the certificate's key");
}

}  // namespace

int main(int argc, char** argv) {
  CLI::App app("Simulated stores for trying and testing Pargeter.", "pargeter-standin");
  app.require_subcommand(1);
  Options o;
  CLI::App* objects = app.add_subcommand("objects", "an S3-compatible object store");
  AddCommonOptions(objects, &o);
  objects->add_option("--bucket", o.buckets,
                      "make this bucket if it is not there; may be repeated");
  objects->add_option("--key-id", o.server.key_id, "the key that is accepted")
      ->capture_default_str();
  objects->add_flag("--versions", o.server.versions, "keep what is written over");
  objects->add_option("--etags", o.server.etags, "what entity tags are: digest, opaque or sealed")
      ->check(CLI::IsMember({"digest", "opaque", "sealed"}));
  objects->add_option("--session-token", o.server.session_token,
                      "the session token that requests must carry with the key");
  objects->add_option("--public-bucket", o.server.public_bucket, "a bucket that anybody may read");
  objects->add_option("--largest-body", o.largest_body, "bytes in one request, such as 8MiB");
  objects->add_option("--narrow-key-id", o.server.narrow_key_id,
                      "a key that may not list the buckets");
  objects->add_option("--narrow-secret-file", o.narrow_secret_file,
                      "file that holds that key's secret");
  CLI::App* drive = app.add_subcommand("drive", "a cloud drive with real folders, over WebDAV");
  AddCommonOptions(drive, &o);
  drive->add_option("--user", o.drive.user, "who may sign in")->capture_default_str();
  drive->add_option("--guest", o.drive.guest_user, "who may sign in, and only read");
  drive->add_option("--guest-secret-file", o.narrow_secret_file,
                    "file that holds that one's password");
  drive->add_option("--quota", o.quota, "bytes that fit in, such as 10MiB (default: no limit)");
  drive->add_flag("--libraries", o.drive.libraries,
                  "three people (curator, keeper, visitor) with libraries and roles of their own");
  drive->add_flag("--grants-only", o.drive.grants_only,
                  "let in by tokens of its own sign-in server, not by passwords");
  drive->add_option("--token-life", o.token_life,
                    "how long its access tokens are good, such as 60s");
  drive->add_flag("--no-changes", o.drive.no_changes, "do not tell what has changed");
  drive->add_flag("--silent-put", o.drive.silent_put, "do not say which version a PUT made");
  drive->add_flag("--strict-paths", o.drive.strict_paths,
                  "call a path nonsense that leads through a file");
  drive->add_flag("--fold-names", o.drive.fold_names,
                  "take names for one that differ only in case or in Unicode form");
  drive->add_flag("--tagless", o.drive.tagless, "have no entity tags, and heed none");
  drive->add_flag("--untagged-listings", o.drive.untagged_listings,
                  "list no entity tags, though a GET tells them, and heed no conditions");
  drive->add_option("--bare-reads-of", o.drive.bare_reads_of,
                    "tell neither tag nor time in a GET of files whose name ends so, as in .csv");
  drive->add_flag("--bare-reads", o.drive.bare_reads,
                  "tell neither tag nor time in any GET, nor the size of the whole file");
  drive->add_flag("--unquoted-tags", o.drive.unquoted_tags, "list entity tags without quotes");
  drive->add_flag("--refuse-conditions", o.drive.refuse_conditions,
                  "answer 400 to a condition (If) with the right entity tag");
  drive->add_option("--largest-body", o.largest_body, "bytes in one request, such as 8MiB");
  drive->add_flag("--no-properties", o.drive.no_properties, "keep no properties of others");
  drive->add_flag("--terse-properties", o.drive.terse_properties,
                  "answer a change of properties without a body");
  CLI11_PARSE(app, argc, argv);
  return drive->parsed() ? RunDrive(std::move(o)) : RunObjects(std::move(o));
}
