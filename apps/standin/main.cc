// pargeter-standin: simulated stores for trying and testing.
#include <fmt/format.h>
#include <signal.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <cstdio>
#include <thread>

#include "base/units.h"
#include "config/secrets.h"
#include "s3_server.h"

namespace {

using namespace pargeter;
using namespace pargeter::standin;

struct Options {
  std::string listen = "127.0.0.1:9400";
  std::string data, secret_file, narrow_secret_file, latency, rate;
  std::vector<std::string> buckets, faults;
  ServerOptions server;
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
  if (!o->rate.empty()) {
    PG_ASSIGN(o->server.rate, ParseSize(o->rate));
  }
  return {};
}

int Run(Options o) {
  if (const Status complete = Complete(&o); !complete.ok()) return Fail(complete.error());
  Faults faults;
  for (const std::string& text : o.faults) {
    const auto fault = ParseFault(text);
    if (!fault.ok()) return Fail(fault.error());
    faults.Add(*fault);
  }
  ObjectStore store(o.data);
  if (const Status loaded = store.Load(); !loaded.ok()) return Fail(loaded.error());
  for (const std::string& bucket : o.buckets) store.MakeBucket(bucket);

  // signals are taken by one thread that may call anything; all others inherit the block
  sigset_t set;
  sigemptyset(&set);
  sigaddset(&set, SIGINT);
  sigaddset(&set, SIGTERM);
  pthread_sigmask(SIG_BLOCK, &set, nullptr);
  signal(SIGPIPE, SIG_IGN);

  S3Server server(o.server, &store, &faults);
  const auto port = server.Bind();
  if (!port.ok()) return Fail(port.error());
  const char* scheme = o.server.tls_certificate.empty() ? "http" : "https";
  fmt::print("listening on {}://{}:{}\n", scheme, o.server.host, *port);
  std::fflush(stdout);
  std::thread stopper([&] {
    int signal_number = 0;
    sigwait(&set, &signal_number);
    // what was answered is on the disk; connections that idle would be waited for, for a minute
    ::_exit(0);
  });
  stopper.detach();
  server.Serve();
  return 0;
}

}  // namespace

int main(int argc, char** argv) {
  CLI::App app("Simulated stores for trying and testing Pargeter.", "pargeter-standin");
  app.require_subcommand(1);
  Options o;
  CLI::App* objects = app.add_subcommand("objects", "an S3-compatible object store");
  objects->add_option("--listen", o.listen, "HOST:PORT to serve; port 0 is any free one")
      ->capture_default_str();
  objects->add_option("--data", o.data,
                      "folder to keep the data in (default: forget it at the end)");
  objects->add_option("--bucket", o.buckets,
                      "make this bucket if it is not there; may be repeated");
  objects->add_option("--key-id", o.server.key_id, "the key that is accepted")
      ->capture_default_str();
  objects->add_option("--secret-file", o.secret_file, "file that holds its secret")->required();
  objects->add_option("--narrow-key-id", o.server.narrow_key_id,
                      "a key that may not list the buckets");
  objects->add_option("--narrow-secret-file", o.narrow_secret_file,
                      "file that holds that key's secret");
  objects->add_option("--request-log", o.server.request_log,
                      "write a JSON line for each request here");
  objects->add_option("--latency", o.latency, "wait so long before each answer, such as 20ms");
  objects->add_option("--rate", o.rate, "bytes a second for each connection, such as 50MiB");
  objects->add_option("--fault", o.faults,
                      "a fault to make, such as status=503,share=0.05; may be repeated");
  objects->add_option("--tls-certificate", o.server.tls_certificate, "PEM file: serve https");
  objects->add_option("--tls-key", o.server.tls_key, "PEM file of the certificate's key");
  CLI11_PARSE(app, argc, argv);
  return Run(std::move(o));
}
