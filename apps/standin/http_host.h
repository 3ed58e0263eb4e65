// An HTTP/1.1 server that takes any method, over libmicrohttpd: what the simulated cloud drive
// stands on. One thread for each connection, so that a stalled one does not starve the others.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "base/error.h"
#include "object_store.h"

namespace pargeter::standin {

struct HttpAsk {
  std::string method;
  std::string raw_path;                        // as it was sent, without the query
  std::map<std::string, std::string> headers;  // names in lower case
  std::map<std::string, std::string> query;    // decoded
  std::shared_ptr<const Body> body;
  std::uint64_t bytes_in = 0;
  std::string Header(const std::string& name) const {
    const auto it = headers.find(name);
    return it == headers.end() ? "" : it->second;
  }
};

struct HttpAnswer {
  int status = 200;
  std::vector<std::pair<std::string, std::string>> headers;
  std::string text;                  // the body, unless there is a file
  std::shared_ptr<const Body> file;  // [begin, begin + size) of it
  std::uint64_t begin = 0, size = 0;
  bool drop = false;     // close without an answer
  bool cut = false;      // close after half of the body
  bool corrupt = false;  // change a byte
  std::uint64_t Length() const { return file ? size : text.size(); }
};

class HttpHost {
 public:
  using Handler = std::function<HttpAnswer(const HttpAsk&)>;
  struct Options {
    std::string host = "127.0.0.1";
    int port = 0;
    std::string tls_certificate, tls_key;  // PEM files; both: https
    std::uint64_t rate = 0;                // bytes a second for each connection, 0: unlimited
  };
  // `store` takes the bodies as they arrive; handlers run on many threads at once.
  HttpHost(Options options, ObjectStore* store, Handler handler);
  ~HttpHost();
  Result<int> Start();  // the port

  class Impl;

 private:
  std::unique_ptr<Impl> impl_;
};

}  // namespace pargeter::standin
