// The simulated object store: what comes in, who answers it, and the log of requests.
#include "s3_server.h"

#include <fmt/format.h>

#include <cmath>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/digest.h"
#include "base/random.h"
#include "base/text.h"
#include "http_date.h"
#include "net/uri.h"
#include "s3_impl.h"

namespace pargeter::standin {

using Json = nlohmann::json;

std::string Iso(Nanos t) {
  const std::string s = Rfc3339(t);
  return s.substr(0, s.size() - 1) + fmt::format(".{:03}Z", (t / 1'000'000) % 1000);
}

std::string Xml(std::string_view text) {
  std::string out;
  for (const char c : text) {
    if (c == '&')
      out += "&amp;";
    else if (c == '<')
      out += "&lt;";
    else if (c == '>')
      out += "&gt;";
    else
      out += c;
  }
  return out;
}

namespace {

// The server's end of a connection is found by its peer's port, since httplib does not hand it out.
void ResetConnection(int peer_port) {
  std::error_code ec;
  for (const auto& entry : std::filesystem::directory_iterator("/proc/self/fd", ec)) {
    const int fd = std::atoi(entry.path().filename().c_str());
    sockaddr_storage peer{};
    socklen_t size = sizeof(peer);
    if (::getpeername(fd, reinterpret_cast<sockaddr*>(&peer), &size) != 0) continue;
    const int port = peer.ss_family == AF_INET
                         ? ntohs(reinterpret_cast<sockaddr_in*>(&peer)->sin_port)
                         : ntohs(reinterpret_cast<sockaddr_in6*>(&peer)->sin6_port);
    if (port != peer_port) continue;
    const linger hard{1, 0};
    ::setsockopt(fd, SOL_SOCKET, SO_LINGER, &hard, sizeof(hard));
    ::shutdown(fd, SHUT_RDWR);
  }
}

}  // namespace

S3Server::Impl::Impl(ServerOptions options, ObjectStore* store, Faults* faults)
    : options_(std::move(options)), store_(*store), faults_(*faults) {
  if (options_.tls_certificate.empty()) {
    server_ = std::make_unique<httplib::Server>();
  } else {
    server_ = std::make_unique<httplib::SSLServer>(options_.tls_certificate.c_str(),
                                                   options_.tls_key.c_str());
  }
  // one thread for each connection: a stalled one must not starve the others
  server_->new_task_queue = [] { return new httplib::ThreadPool(160); };
  server_->set_keep_alive_max_count(1000000);
  server_->set_keep_alive_timeout(60);
  server_->set_tcp_nodelay(true);
  server_->set_read_timeout(60, 0);
  server_->set_write_timeout(60, 0);
  const std::string any = R"(([\s\S]*))";
  server_->Get(any, [this](const Request& q, Response& r) { Answer(q, r, nullptr); });
  server_->Delete(any, [this](const Request& q, Response& r) { Answer(q, r, nullptr); });
  const auto with_body = [this](const Request& q, Response& r, const httplib::ContentReader& body) {
    Answer(q, r, &body);
  };
  server_->Put(any, with_body);
  server_->Post(any, with_body);
  if (!options_.request_log.empty()) {
    log_ = std::fopen(options_.request_log.c_str(), "a");
    if (log_ != nullptr) std::setvbuf(log_, nullptr, _IOLBF, 1u << 16);
  }
}

S3Server::Impl::~Impl() {
  if (log_ != nullptr) std::fclose(log_);
}

Result<int> S3Server::Impl::Bind() {
  if (!server_->is_valid())
    return Error(Code::kInvalid, "the TLS certificate or key cannot be used");
  const int port = options_.port == 0 ? server_->bind_to_any_port(options_.host.c_str())
                   : server_->bind_to_port(options_.host.c_str(), options_.port) ? options_.port
                                                                                 : -1;
  if (port < 0) {
    return Error(Code::kBusy, fmt::format("cannot listen on {}:{}", options_.host, options_.port),
                 "Choose another port, or 0 for any free one.");
  }
  return port;
}

void S3Server::Impl::Answer(const Request& request, Response& response,
                            const httplib::ContentReader* reader) {
  const auto start = std::chrono::steady_clock::now();
  // ranges are served here; httplib would cut error texts to them too
  const_cast<Request&>(request).ranges.clear();
  Ask ask = Understand(request);
  ObjectStore::Writer writer(&store_);
  Md5Stream md5;
  Status stored;
  if (reader != nullptr) {
    (*reader)([&](const char* data, std::size_t size) {
      Pace(size);
      ask.bytes_in += size;
      const std::string_view piece(data, size);
      md5.Update(piece);
      if (stored.ok()) stored = writer.Append(piece);
      return true;
    });
  }
  const bool control = ask.raw_path.compare(0, 3, "/-/") == 0;
  if (control) {
    Control(request, ask, &writer, response);
    return;
  }
  if (options_.latency.count() > 0) std::this_thread::sleep_for(options_.latency);
  ask.plan = faults_.Meet(request.method, ask.key);
  if (ask.plan.stall) std::this_thread::sleep_for(Duration(ask.plan.stall->amount));
  response.set_header("Date", HttpDate(Now()));
  response.set_header("x-amz-request-id", RandomName(6));
  if (ask.plan.reset || faults_.Away()) {
    ResetConnection(request.remote_port);
    response.status = 500;
    response.set_header("Connection", "close");
    Record(request, ask, response, start);
    return;
  }
  if (ask.plan.status) {
    if (ask.plan.status->retry_after >= 0) {
      response.set_header("Retry-After", std::to_string(ask.plan.status->retry_after));
    }
    const int status = ask.plan.status->status;
    Refuse(response, ask,
           {status, status == 503 ? "SlowDown" : "InternalError", "made on purpose"});
  } else if (auto refusal = CheckSignature(request, &ask)) {
    Refuse(response, ask, *refusal);
  } else if (options_.largest_body > 0 && request.method == "PUT" &&
             std::strtoull(request.get_header_value("Content-Length").c_str(), nullptr, 10) >
                 options_.largest_body) {
    Refuse(response, ask, {413, "EntityTooLarge", "that is too much at once"});
  } else if (!stored.ok()) {
    Refuse(response, ask, {500, "InternalError", stored.error().what});
  } else if (ask.plan.lie) {
    response.status = 200;
  } else {
    auto body = writer.Finish();
    Dispatch(request, ask, *body, md5.Finish(), response);
  }
  if (ask.plan.wrong_etag && response.has_header("ETag")) {
    response.headers.erase("ETag");
    response.set_header("ETag", "\"" + std::string(32, '0') + "\"");
  }
  Record(request, ask, response, start);
}

void S3Server::Impl::Pace(std::uint64_t size) const {
  if (options_.rate == 0) return;
  std::this_thread::sleep_for(std::chrono::microseconds(size * 1000000 / options_.rate));
}

Ask S3Server::Impl::Understand(const Request& request) const {
  Ask ask;
  const auto mark = request.target.find('?');
  ask.raw_path = request.target.substr(0, mark);
  if (mark != std::string::npos) {
    for (const std::string& pair : Split(request.target.substr(mark + 1), '&')) {
      const auto equals = pair.find('=');
      ask.query.emplace_back(
          PercentDecode(pair.substr(0, equals)),
          equals == std::string::npos ? "" : PercentDecode(pair.substr(equals + 1)));
    }
  }
  std::string path = ask.raw_path.substr(std::min<std::size_t>(1, ask.raw_path.size()));
  const std::string host = request.get_header_value("Host");
  const auto suffix = host.find(".localhost");
  if (suffix != std::string::npos && suffix > 0) {
    ask.bucket = host.substr(0, suffix);
    ask.key = PercentDecode(path);
  } else {
    const auto slash = path.find('/');
    ask.bucket = PercentDecode(path.substr(0, slash));
    if (slash != std::string::npos) ask.key = PercentDecode(path.substr(slash + 1));
  }
  return ask;
}

void S3Server::Impl::Refuse(Response& response, const Ask& ask, const Refusal& refusal) {
  response.status = refusal.status;
  response.set_content(
      fmt::format("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Error><Code>{}</Code>"
                  "<Message>{}</Message><Resource>{}</Resource></Error>",
                  refusal.code, Xml(refusal.message), Xml(Printable(ask.key))),
      "application/xml");
}

void S3Server::Impl::SendXml(Response& response, const std::string& xml) {
  response.status = 200;
  response.set_content("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n" + xml, "application/xml");
}

void S3Server::Impl::Dispatch(const Request& request, const Ask& ask,
                              const std::shared_ptr<const Body>& body, const std::string& md5,
                              Response& response) {
  const std::string& method = request.method;
  if (ask.bucket.empty()) {
    if (!ask.may_list_buckets)
      return Refuse(response, ask, {403, "AccessDenied", "may not list buckets"});
    return ListBuckets(response);
  }
  if (ask.key.empty() && method == "PUT") {
    store_.MakeBucket(ask.bucket);
    response.status = 200;
    return;
  }
  if (!store_.HasBucket(ask.bucket))
    return Refuse(response, ask, {404, "NoSuchBucket", "no such bucket"});
  const std::string& claimed = request.get_header_value("Content-MD5");
  if (!claimed.empty() && claimed != Base64(md5)) {
    return Refuse(response, ask, {400, "BadDigest", "the body has another digest"});
  }
  if (ask.key.size() > 1024)
    return Refuse(response, ask, {400, "KeyTooLongError", "over 1024 bytes"});
  if (ask.key.empty()) {
    if (method == "GET" && ask.Find("uploads")) return ListUploads(ask, response);
    if (method == "GET" && ask.Find("versions")) return ListVersions(ask, response);
    if (method == "GET" || method == "HEAD") return List(ask, response);
    if (method == "POST" && ask.Find("delete")) return DeleteMany(ask, body, response);
    return Refuse(response, ask, {405, "MethodNotAllowed", method});
  }
  if (method == "GET" && ask.Find("uploadId")) return ListParts(ask, response);
  if (method == "GET" || method == "HEAD") return GetObject(request, ask, response);
  if (method == "PUT" && ask.Find("partNumber")) return PutPart(request, ask, body, md5, response);
  if (method == "PUT" && request.has_header("x-amz-copy-source"))
    return CopyObject(request, ask, response);
  if (method == "PUT") return PutObject(request, ask, body, md5, response);
  if (method == "POST" && ask.Find("uploads")) {
    const std::string id = store_.BeginUpload({ask.bucket, ask.key, MetadataIn(request), {}});
    return SendXml(response, "<InitiateMultipartUploadResult><UploadId>" + id +
                                 "</UploadId></InitiateMultipartUploadResult>");
  }
  if (method == "POST" && ask.Find("uploadId")) return Complete(ask, body, response);
  if (method == "DELETE" && ask.Find("uploadId")) return DropUpload(ask, response);
  if (method == "DELETE") {
    if (!store_.Delete(ask.bucket, ask.key, ConditionIn(request)).ok())
      return Refuse(response, ask, {412, "PreconditionFailed", "the condition does not hold"});
    response.status = 204;
    return;
  }
  Refuse(response, ask, {405, "MethodNotAllowed", method});
}

void S3Server::Impl::Control(const Request& request, const Ask& ask, ObjectStore::Writer* writer,
                             Response& response) {
  const auto body = writer->Finish();
  const std::string text = (*body)->bytes;
  response.status = 200;
  if (ask.raw_path == "/-/faults" && request.method == "POST") {
    const auto fault = ParseFault(text);
    if (fault.ok()) faults_.Add(*fault);
    if (!fault.ok()) response.status = 400;
    response.set_content(fault.ok() ? "ok\n" : fault.error().what + "\n", "text/plain");
  } else if (ask.raw_path == "/-/faults" && request.method == "DELETE") {
    faults_.Clear();
    response.set_content("ok\n", "text/plain");
  } else if (ask.raw_path == "/-/fill" && request.method == "POST") {
    const Json spec = Json::parse(text, nullptr, false);
    if (!spec.is_object()) {
      response.status = 400;
      return;
    }
    store_.Fill(spec.value("bucket", "herbarium"), spec.value("prefix", ""),
                spec.value("count", 1000), spec.value("folders", 0),
                spec.value("size", std::uint64_t{0}));
    response.set_content("ok\n", "text/plain");
  } else {
    response.status = 404;
  }
}

void S3Server::Impl::Record(const Request& request, const Ask& ask, const Response& response,
                            std::chrono::steady_clock::time_point start) {
  if (log_ == nullptr) return;
  const double ms =
      std::chrono::duration<double, std::milli>(std::chrono::steady_clock::now() - start).count();
  Json line{{"time", Iso(SystemClock().Wall())},
            {"method", request.method},
            {"bucket", ask.bucket},
            {"key", ask.key},
            {"query", s3::CanonicalQuery(ask.query)},
            {"status", response.status},
            {"in", ask.bytes_in},
            {"ms", std::round(ms * 100) / 100}};
  const bool no_body = request.method == "HEAD";
  line["out"] = no_body                        ? 0
                : response.content_length_ > 0 ? response.content_length_
                                               : response.body.size();
  if (request.has_header("x-amz-copy-source")) line["copy"] = true;
  const std::string text = line.dump(-1, ' ', false, Json::error_handler_t::replace) + "\n";
  const Lock lock(log_mutex_);
  std::fwrite(text.data(), 1, text.size(), log_);
}
S3Server::S3Server(ServerOptions options, ObjectStore* store, Faults* faults)
    : impl_(std::make_unique<Impl>(std::move(options), store, faults)) {}
S3Server::~S3Server() = default;
Result<int> S3Server::Bind() { return impl_->Bind(); }
void S3Server::Serve() { impl_->Serve(); }
void S3Server::Stop() { impl_->Stop(); }

}  // namespace pargeter::standin
