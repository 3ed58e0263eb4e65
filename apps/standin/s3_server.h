// The simulated object store's face: the S3 protocol over HTTP, checking signatures for real.
#pragma once

#include <memory>
#include <string>

#include "base/error.h"
#include "faults.h"
#include "object_store.h"

namespace pargeter::standin {

struct ServerOptions {
  std::string host = "127.0.0.1";
  int port = 0;
  std::string key_id = "fieldkey";
  std::string secret;
  // A second key that may use buckets but not list them; "" = none.
  std::string narrow_key_id, narrow_secret;
  std::string request_log;  // file for JSON lines, "" = none
  Duration latency{0};
  std::uint64_t rate = 0;                // bytes a second for each connection, 0: unlimited
  std::string tls_certificate, tls_key;  // PEM files; both: https
  bool versions = false;                 // what is written over is kept
  // "opaque": entity tags look like digests and are none; "sealed": all is encrypted with a key
  // service, so they are none either, and the headers say so.
  std::string etags = "digest";
  std::string session_token;       // what requests must carry with the key; "": the key is lasting
  std::string public_bucket;       // may be read by anybody; "": none may
  std::uint64_t largest_body = 0;  // bytes in one request, else 413; 0: any
};

class S3Server {
 public:
  S3Server(ServerOptions options, ObjectStore* store, Faults* faults);
  ~S3Server();
  Result<int> Bind();  // the port
  void Serve();        // until Stop
  void Stop();         // may be called from a signal-handling thread

 private:
  class Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace pargeter::standin
