// The simulated cloud drive: folders over WebDAV (RFC 4918), with quota (RFC 4331), privileges
// (RFC 3744), locks, entity tags and all the ways in which real servers do without them.
#pragma once

#include <memory>
#include <string>

#include "base/error.h"
#include "faults.h"
#include "http_host.h"
#include "libraries.h"
#include "oauth_server.h"
#include "object_store.h"
#include "shares.h"
#include "spelling.h"

namespace pargeter::standin {

struct DriveServerOptions {
  HttpHost::Options http;
  std::string user = "curator", password;
  std::string guest_user, guest_password;  // may only read; "" = none
  std::string request_log;                 // file for JSON lines, "" = none
  Duration latency{0};
  std::uint64_t quota = 0;       // bytes, 0: without
  bool libraries = false;        // three people with libraries and roles of their own
  bool grants_only = false;      // tokens of its own sign-in server, no passwords
  Duration token_life{3600000};  // of access tokens
  bool no_changes = false;       // it does not tell what changed (RFC 6578)
  bool silent_put = false;       // PUT does not say which version it made
  bool fold_names = false;       // names that differ in case or Unicode form only are one
  bool strict_paths = false;     // a path that leads through a file is nonsense
  bool tagless = false;          // no entity tags at all, and conditions on them are not heeded
  // Manners of real servers, in which a listing and a GET tell different things of one version.
  bool untagged_listings = false;  // PROPFIND has no getetag, GET an ETag; conditions not heeded
  std::string bare_reads_of;       // files whose name ends so: GET tells neither tag nor time
  bool bare_reads = false;         // so for all files, and the total of a range is "*"
  bool unquoted_tags = false;      // getetag without its quotes; a tag in If needs them (400)
  bool refuse_conditions = false;  // 400 to an If with the right tag; one that is wrong is heeded
  std::uint64_t largest_body = 0;  // bytes in one request, else 413; 0: any
  bool no_properties = false;      // keeps no properties of others
  bool terse_properties = false;   // PROPPATCH is answered 204, without a body
};

class DriveServer {
 public:
  DriveServer(DriveServerOptions options, ObjectStore* store, Faults* faults);
  ~DriveServer();
  Result<int> Start();  // the port

 private:
  class Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace pargeter::standin
