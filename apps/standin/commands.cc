#include "commands.h"

namespace pargeter::standin {
namespace {

void AddCommonOptions(app::Command* to, Options* o) {
  to->Option("--secret-file", "FILE", &o->secret_file, "file with the secret key or password")
      .Required();
  to->Option("--listen", "HOST:PORT", &o->listen, "address to serve; port 0 is any free one")
      .ShowDefault();
  to->Option("--data", "DIR", &o->data, "folder for the data (default: memory only)");
  to->Option("--request-log", "FILE", &o->server.request_log, "write a JSON line for each request");
  to->Option("--latency", "SPAN", &o->latency, "delay of each answer, such as 20ms");
  to->Option("--rate", "SIZE", &o->rate, "bytes a second for each connection, such as 50MiB");
  to->Option("--fault", "RULE", &o->faults,
             "a fault to make, such as status=503,share=0.05; can be repeated");
  to->Option("--largest-body", "SIZE", &o->largest_body,
             "largest request that is accepted, such as 8MiB");
  to->Option("--tls-certificate", "FILE", &o->server.tls_certificate,
             "certificate, a PEM file: serve https");
  to->Option("--tls-key", "FILE", &o->server.tls_key, "key of the certificate, a PEM file");
}

void AddObjects(app::Command* root, Options* o, const std::function<void(bool)>& chosen) {
  app::Command* cmd = root->Add(
      {.name = "objects",
       .summary = "serve an object store with the S3 protocol",
       .examples = {{"a store with one bucket",
                     "pargeter-standin objects --secret-file key.txt --bucket herbarium"}}});
  AddCommonOptions(cmd, o);
  cmd->Option("--bucket", "BUCKET", &o->buckets,
              "make this bucket if it is missing; can be repeated");
  cmd->Option("--key-id", "ID", &o->server.key_id, "key id that is accepted").ShowDefault();
  cmd->Flag("--versions", &o->server.versions, "keep former versions of objects");
  cmd->Option("--etags", "KIND", &o->server.etags, "kind of ETag")
      .OneOf({"digest", "opaque", "sealed"});
  cmd->Option("--session-token", "TOKEN", &o->server.session_token,
              "session token that is required beside the key");
  cmd->Option("--public-bucket", "BUCKET", &o->server.public_bucket,
              "a bucket that can be read without a key");
  cmd->Option("--narrow-key-id", "ID", &o->server.narrow_key_id,
              "a second key, which cannot list the buckets");
  cmd->Option("--narrow-secret-file", "FILE", &o->narrow_secret_file,
              "file with the secret of that key");
  cmd->Does([=] { chosen(false); });
}

void AddDrive(app::Command* root, Options* o, const std::function<void(bool)>& chosen) {
  app::Command* cmd = root->Add(
      {.name = "drive",
       .summary = "serve a cloud drive with folders over WebDAV",
       .examples = {{"a drive with passwords", "pargeter-standin drive --secret-file pw.txt"},
                    {"a drive with sign-in in a browser",
                     "pargeter-standin drive --secret-file pw.txt --libraries --grants-only"}}});
  DriveServerOptions& d = o->drive;
  AddCommonOptions(cmd, o);
  cmd->Option("--user", "USER", &d.user, "user name that is accepted").ShowDefault();
  cmd->Option("--guest", "USER", &d.guest_user, "user name of a second user, who can only read");
  cmd->Option("--guest-secret-file", "FILE", &o->narrow_secret_file,
              "file with the second user's password");
  cmd->Option("--quota", "SIZE", &o->quota, "room for files, such as 10MiB (default: no limit)");
  cmd->Flag("--libraries", &d.libraries,
            "three users (curator, keeper, visitor) with libraries and roles");
  cmd->Flag("--grants-only", &d.grants_only,
            "accept tokens of its own sign-in server, and no passwords");
  cmd->Option("--token-life", "SPAN", &o->token_life, "lifetime of access tokens, such as 60s");
  cmd->Flag("--no-changes", &d.no_changes, "offer no sync-collection");
  cmd->Flag("--silent-put", &d.silent_put, "answer a PUT without an ETag");
  cmd->Flag("--strict-paths", &d.strict_paths, "answer 400 for a path that leads through a file");
  cmd->Flag("--fold-names", &d.fold_names,
            "treat names as one that differ only in case or Unicode form");
  cmd->Flag("--tagless", &d.tagless, "have no ETags, and ignore conditions");
  cmd->Flag("--untagged-listings", &d.untagged_listings,
            "tell ETags in a GET only, and ignore conditions");
  cmd->Option("--bare-reads-of", "SUFFIX", &d.bare_reads_of,
              "tell neither ETag nor time in a GET of files with this suffix, such as .csv");
  cmd->Flag("--bare-reads", &d.bare_reads, "tell neither ETag, time nor full size in any GET");
  cmd->Flag("--unquoted-tags", &d.unquoted_tags, "list ETags without quotes");
  cmd->Flag("--refuse-conditions", &d.refuse_conditions,
            "answer 400 to an If header with the right ETag");
  cmd->Flag("--no-properties", &d.no_properties, "keep no dead properties");
  cmd->Flag("--terse-properties", &d.terse_properties, "answer PROPPATCH without a body");
  cmd->Does([=] { chosen(true); });
}

}  // namespace

std::unique_ptr<app::Command> DescribeCommands(Options* options,
                                               std::function<void(bool drive)> chosen) {
  auto root = std::make_unique<app::Command>(app::Texts{
      .name = "pargeter-standin", .summary = "serve a simulated store, to try and test Pargeter"});
  AddObjects(root.get(), options, chosen);
  AddDrive(root.get(), options, chosen);
  return root;
}

}  // namespace pargeter::standin
