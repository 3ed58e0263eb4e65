// Inside the simulated object store's face: one file for each part of the protocol.
#pragma once

#include <httplib.h>

#include <chrono>
#include <cstdio>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/mutex.h"
#include "provider/s3/sigv4.h"
#include "s3_server.h"

namespace pargeter::standin {

using httplib::Request;
using httplib::Response;

inline constexpr const char* kEncryption = "x-amz-server-side-encryption";

std::string Iso(Nanos t);
std::string Xml(std::string_view text);  // escaped

// One request, understood.
struct Ask {
  std::string bucket, key;
  s3::Fields query;
  std::string raw_path;
  Plan plan;
  bool may_list_buckets = true;
  std::uint64_t bytes_in = 0;
  const std::string* Find(std::string_view name) const {
    for (const auto& [k, v] : query) {
      if (k == name) return &v;
    }
    return nullptr;
  }
  std::string Value(std::string_view name) const {
    const std::string* v = Find(name);
    return v ? *v : "";
  }
};

struct Refusal {
  int status;
  std::string code, message;
};

class S3Server::Impl {
 public:
  Impl(ServerOptions options, ObjectStore* store, Faults* faults);
  ~Impl();
  Result<int> Bind();
  void Serve() { server_->listen_after_bind(); }
  void Stop() { server_->stop(); }

 private:
  void Answer(const Request& request, Response& response, const httplib::ContentReader* reader);
  Nanos Now() const { return SystemClock().Wall() + faults_.Skew(); }
  void Pace(std::uint64_t size) const;
  Ask Understand(const Request& request) const;
  static void Refuse(Response& response, const Ask& ask, const Refusal& refusal);
  static void SendXml(Response& response, const std::string& xml);
  void Dispatch(const Request& request, const Ask& ask, const std::shared_ptr<const Body>& body,
                const std::string& md5, Response& response);
  // POST /-/faults adds a rule, DELETE clears all; POST /-/fill makes many objects at once.
  void Control(const Request& request, const Ask& ask, ObjectStore::Writer* writer,
               Response& response);
  void Record(const Request& request, const Ask& ask, const Response& response,
              std::chrono::steady_clock::time_point start);

  // s3_signature.cc: what is wrong with it, if anything
  std::optional<Refusal> CheckSignature(const Request& request, Ask* ask) const;
  // An address that is signed by itself.
  std::optional<Refusal> CheckPresigned(const Request& request, Ask* ask) const;

  // s3_objects.cc
  // Before something is written over.
  void KeepFormer(const std::string& bucket, const std::string& key);
  std::vector<Object> FormerOf(const std::string& bucket, const std::string& key);
  void ListVersions(const Ask& ask, Response& response);
  static Object Stored(std::shared_ptr<const Body> body, std::string etag, Nanos now,
                       std::map<std::string, std::string> metadata);
  // kept with an object as its writer gave it
  static bool IsSaidOfContent(const std::string& header);
  static std::map<std::string, std::string> MetadataIn(const Request& request);
  static Condition ConditionIn(const Request& request);
  void ListBuckets(Response& response);
  void List(const Ask& ask, Response& response);
  void GetObject(const Request& request, const Ask& ask, Response& response);
  // Streams [offset, offset + size) of a body, with the plan's damage to it.
  void SendBody(const Object& object, std::uint64_t offset, std::uint64_t size, const Ask& ask,
                Response& response);
  void CopyObject(const Request& request, const Ask& ask, Response& response);
  void DeleteMany(const Ask& ask, const std::shared_ptr<const Body>& body, Response& response);
  void PutObject(const Request& request, const Ask& ask, const std::shared_ptr<const Body>& body,
                 const std::string& md5, Response& response);

  // s3_parts.cc
  void PutPart(const Request& request, const Ask& ask, std::shared_ptr<const Body> body,
               std::string md5, Response& response);
  void ListParts(const Ask& ask, Response& response);
  void ListUploads(const Ask& ask, Response& response);
  void Complete(const Ask& ask, const std::shared_ptr<const Body>& body, Response& response);
  void DropUpload(const Ask& ask, Response& response);

  const ServerOptions options_;
  ObjectStore& store_;
  Faults& faults_;
  std::unique_ptr<httplib::Server> server_;
  Mutex log_mutex_;
  Mutex former_mutex_;
  std::map<std::string, std::vector<Object>> former_ GUARDED_BY(former_mutex_);  // by bucket/key
  std::FILE* log_ = nullptr;
};

}  // namespace pargeter::standin
