#include "s3_server.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <httplib.h>
#include <sys/mman.h>

#include <algorithm>
#include <cmath>
#include <ctime>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <pugixml.hpp>
#include <thread>

#include "base/digest.h"
#include "base/random.h"
#include "base/text.h"
#include "net/uri.h"
#include "provider/s3/s3_xml.h"
#include "provider/s3/sigv4.h"

namespace pargeter::standin {
namespace {

constexpr const char* kEncryption = "x-amz-server-side-encryption";

using httplib::Request;
using httplib::Response;
using Json = nlohmann::json;

std::string Iso(Nanos t) {
  const std::string s = Rfc3339(t);
  return s.substr(0, s.size() - 1) + fmt::format(".{:03}Z", (t / 1'000'000) % 1000);
}

std::string HttpDate(Nanos t) {
  const time_t seconds = static_cast<time_t>(t / 1'000'000'000);
  tm parts{};
  gmtime_r(&seconds, &parts);
  char buffer[64];
  std::strftime(buffer, sizeof(buffer), "%a, %d %b %Y %H:%M:%S GMT", &parts);
  return buffer;
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

// A mapped file for as long as an answer needs it.
struct Mapping {
  const char* data = nullptr;
  std::size_t size = 0;
  std::shared_ptr<const Body> body;
  ~Mapping() {
    if (data != nullptr) ::munmap(const_cast<char*>(data), size);
  }
};

}  // namespace

class S3Server::Impl {
 public:
  Impl(ServerOptions options, ObjectStore* store, Faults* faults)
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
    const auto with_body = [this](const Request& q, Response& r,
                                  const httplib::ContentReader& body) { Answer(q, r, &body); };
    server_->Put(any, with_body);
    server_->Post(any, with_body);
    if (!options_.request_log.empty()) {
      log_ = std::fopen(options_.request_log.c_str(), "a");
      if (log_ != nullptr) std::setvbuf(log_, nullptr, _IOLBF, 1u << 16);
    }
  }
  ~Impl() {
    if (log_ != nullptr) std::fclose(log_);
  }

  Result<int> Bind() {
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
  void Serve() { server_->listen_after_bind(); }
  void Stop() { server_->stop(); }

 private:
  void Answer(const Request& request, Response& response, const httplib::ContentReader* reader) {
    const auto start = std::chrono::steady_clock::now();
    // ranges are served here; httplib would cut error texts to them too
    const_cast<Request&>(request).ranges.clear();
    Ask ask = Understand(request);
    ObjectStore::Writer writer(&store_);
    Md5Stream md5;
    Status stored;
    if (reader != nullptr) {
      (*reader)([&](const char* data, std::size_t size) {
        Pace(ask.bytes_in, size);
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
    } else if (!stored.ok()) {
      Refuse(response, ask, {500, "InternalError", stored.error().what});
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

  Nanos Now() const { return SystemClock().Wall() + faults_.Skew(); }

  void Pace(std::uint64_t before, std::uint64_t size) const {
    if (options_.rate == 0) return;
    (void)before;
    std::this_thread::sleep_for(std::chrono::microseconds(size * 1000000 / options_.rate));
  }

  Ask Understand(const Request& request) const {
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

  std::optional<Refusal> CheckSignature(const Request& request, Ask* ask) const {
    if (ask->Find("X-Amz-Signature")) return CheckPresigned(request, ask);
    const std::string header = request.get_header_value("Authorization");
    const auto field = [&](const std::string& name) -> std::string {
      const auto at = header.find(name + "=");
      if (at == std::string::npos) return "";
      const auto from = at + name.size() + 1;
      return std::string(Trim(header.substr(from, header.find(',', from) - from)));
    };
    if (header.compare(0, 16, "AWS4-HMAC-SHA256") != 0) {
      return Refusal{403, "AccessDenied", "the request is not signed"};
    }
    // a key id may itself hold slashes; the scope's four parts do not
    std::vector<std::string> scope = Split(field("Credential"), '/');
    if (scope.size() < 5) return Refusal{400, "AuthorizationHeaderMalformed", "bad Credential"};
    const std::string region = scope[scope.size() - 3];
    scope.resize(scope.size() - 4);
    const std::string key_id = fmt::format("{}", fmt::join(scope, "/"));
    std::string secret;
    if (key_id == options_.key_id) {
      secret = options_.secret;
    } else if (!options_.narrow_key_id.empty() && key_id == options_.narrow_key_id) {
      secret = options_.narrow_secret;
      ask->may_list_buckets = false;
    } else {
      return Refusal{403, "InvalidAccessKeyId", "no such key"};
    }
    const std::string date = request.get_header_value("x-amz-date");
    tm parts{};
    if (::strptime(date.c_str(), "%Y%m%dT%H%M%SZ", &parts) == nullptr) {
      return Refusal{403, "AccessDenied", "no date"};
    }
    if (std::abs(Now() / 1'000'000'000 - timegm(&parts)) > 900) {
      return Refusal{403, "RequestTimeTooSkewed", "the clocks differ too much"};
    }
    s3::Fields headers;
    for (const std::string& name : Split(field("SignedHeaders"), ';')) {
      // httplib hands header values out percent-decoded
      std::string value = request.get_header_value(name);
      if (name == "x-amz-copy-source") value = PercentEncode(value, KeepSlash::kYes);
      headers.emplace_back(name, std::move(value));
    }
    // a client that sends no body may leave its digest out
    std::string payload = request.get_header_value("x-amz-content-sha256");
    if (payload.empty()) payload = s3::kEmptySha256;
    const std::string expected =
        s3::Authorization({key_id, secret, region}, request.method, ask->raw_path, ask->query,
                          headers, payload, date);
    if (expected.substr(expected.rfind('=') + 1) != field("Signature")) {
      return Refusal{403, "SignatureDoesNotMatch", "the signature is wrong"};
    }
    return std::nullopt;
  }

  // An address that is signed by itself.
  std::optional<Refusal> CheckPresigned(const Request& request, Ask* ask) const {
    const std::vector<std::string> scope = Split(ask->Value("X-Amz-Credential"), '/');
    const std::string date = ask->Value("X-Amz-Date");
    tm parts{};
    if (scope.size() != 5 || scope[0] != options_.key_id ||
        ask->Value("X-Amz-SignedHeaders") != "host" ||
        ::strptime(date.c_str(), "%Y%m%dT%H%M%SZ", &parts) == nullptr)
      return Refusal{403, "AccessDenied", "bad address"};
    const std::int64_t seconds = std::atoll(ask->Value("X-Amz-Expires").c_str());
    if (seconds < 1 || seconds > 604800 || Now() / 1'000'000'000 > timegm(&parts) + seconds)
      return Refusal{403, "AccessDenied", "the address has lapsed"};
    const s3::Fields query =
        s3::PresignedQuery({options_.key_id, options_.secret, scope[2]}, request.method,
                           ask->raw_path, request.get_header_value("Host"), seconds, date);
    if (query.back().second != ask->Value("X-Amz-Signature"))
      return Refusal{403, "SignatureDoesNotMatch", "the signature is wrong"};
    return std::nullopt;
  }

  // Before something is written over.
  void KeepFormer(const std::string& bucket, const std::string& key) {
    if (!options_.versions) return;
    const auto before = store_.Get(bucket, key);
    const Lock lock(former_mutex_);
    if (before) former_[bucket + "/" + key].push_back(*before);
  }
  std::vector<Object> FormerOf(const std::string& bucket, const std::string& key) {
    const Lock lock(former_mutex_);
    const auto it = former_.find(bucket + "/" + key);
    return it == former_.end() ? std::vector<Object>() : it->second;
  }
  void ListVersions(const Ask& ask, Response& response) {
    ListRequest list;
    list.prefix = ask.Value("prefix");
    std::string xml = "<ListVersionsResult><EncodingType>url</EncodingType>";
    for (const auto& [key, object] : store_.List(ask.bucket, list).keys) {
      std::vector<Object> all = FormerOf(ask.bucket, key);
      all.push_back(object);
      for (std::size_t i = all.size(); i > 0; --i)
        xml += fmt::format(
            "<Version><Key>{}</Key><VersionId>{}</VersionId><IsLatest>{}</IsLatest>"
            "<LastModified>{}</LastModified><Size>{}</Size></Version>",
            PercentEncode(key), options_.versions ? fmt::format("v{}", i) : "null",
            i == all.size() ? "true" : "false", Iso(all[i - 1].modified), all[i - 1].body->size);
    }
    SendXml(response, xml + "<IsTruncated>false</IsTruncated></ListVersionsResult>");
  }

  static void Refuse(Response& response, const Ask& ask, const Refusal& refusal) {
    response.status = refusal.status;
    response.set_content(
        fmt::format("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Error><Code>{}</Code>"
                    "<Message>{}</Message><Resource>{}</Resource></Error>",
                    refusal.code, Xml(refusal.message), Xml(Printable(ask.key))),
        "application/xml");
  }

  static Object Stored(std::shared_ptr<const Body> body, std::string etag, Nanos now,
                       std::map<std::string, std::string> metadata) {
    return Object{std::move(body), std::move(etag), now, std::move(metadata)};
  }

  // kept with an object as its writer gave it
  static bool IsSaidOfContent(const std::string& header) {
    static const std::set<std::string> all = {"cache-control",    "content-disposition",
                                              "content-encoding", "content-language",
                                              "content-type",     "expires",
                                              kEncryption};
    return all.count(header) > 0;
  }

  static std::map<std::string, std::string> MetadataIn(const Request& request) {
    std::map<std::string, std::string> metadata;
    for (const auto& [name, value] : request.headers) {
      const std::string lower = Lower(name);
      if (lower.compare(0, 11, "x-amz-meta-") == 0 || IsSaidOfContent(lower))
        metadata[lower] = value;
    }
    return metadata;
  }

  static Condition ConditionIn(const Request& request) {
    Condition condition;
    condition.if_none_match = request.get_header_value("If-None-Match") == "*";
    if (request.has_header("If-Match")) {
      condition.if_match = PlainEtag(request.get_header_value("If-Match"));
    }
    return condition;
  }

  static void SendXml(Response& response, const std::string& xml) {
    response.status = 200;
    response.set_content("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n" + xml, "application/xml");
  }

  void Dispatch(const Request& request, const Ask& ask, const std::shared_ptr<const Body>& body,
                const std::string& md5, Response& response) {
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
    if (method == "PUT" && ask.Find("partNumber"))
      return PutPart(request, ask, body, md5, response);
    if (method == "PUT" && request.has_header("x-amz-copy-source"))
      return CopyObject(request, ask, response);
    if (method == "PUT") {
      Object object = Stored(body, Hex(md5), Now(), MetadataIn(request));
      if (options_.etags == "sealed") object.metadata[kEncryption] = "aws:kms";
      const bool sealed = object.metadata.count(kEncryption) > 0;
      if (sealed) response.set_header(kEncryption, object.metadata[kEncryption]);
      if (sealed || options_.etags == "opaque") object.etag = Hex(Md5("sealed" + object.etag));
      KeepFormer(ask.bucket, ask.key);
      const Status put = store_.Put(ask.bucket, ask.key, object, ConditionIn(request));
      if (!put.ok())
        return Refuse(response, ask, {412, "PreconditionFailed", "the condition does not hold"});
      response.set_header("ETag", "\"" + object.etag + "\"");
      response.status = 200;
      return;
    }
    if (method == "POST" && ask.Find("uploads")) {
      const std::string id = store_.BeginUpload({ask.bucket, ask.key, MetadataIn(request), {}});
      return SendXml(response, "<InitiateMultipartUploadResult><UploadId>" + id +
                                   "</UploadId></InitiateMultipartUploadResult>");
    }
    if (method == "POST" && ask.Find("uploadId")) return Complete(ask, body, response);
    if (method == "DELETE" && ask.Find("uploadId")) {
      const bool known = store_.FindUpload(ask.Value("uploadId")).has_value();
      store_.DropUpload(ask.Value("uploadId"));
      if (!known) return Refuse(response, ask, {404, "NoSuchUpload", "no such upload"});
      response.status = 204;
      return;
    }
    if (method == "DELETE") {
      if (!store_.Delete(ask.bucket, ask.key, ConditionIn(request)).ok())
        return Refuse(response, ask, {412, "PreconditionFailed", "the condition does not hold"});
      response.status = 204;
      return;
    }
    Refuse(response, ask, {405, "MethodNotAllowed", method});
  }

  void ListBuckets(Response& response) {
    std::string xml = "<ListAllMyBucketsResult><Buckets>";
    for (const std::string& name : store_.Buckets())
      xml += "<Bucket><Name>" + Xml(name) + "</Name></Bucket>";
    SendXml(response, xml + "</Buckets></ListAllMyBucketsResult>");
  }

  void List(const Ask& ask, Response& response) {
    ListRequest list;
    list.prefix = ask.Value("prefix");
    list.delimiter = ask.Value("delimiter");
    const std::string token = ask.Value("continuation-token");
    list.after = token.empty() ? ask.Value("start-after") : PercentDecode(token);
    const std::string max = ask.Value("max-keys");
    if (!max.empty()) list.max_keys = std::clamp(std::atoi(max.c_str()), 0, 1000);
    const bool encode = ask.Value("encoding-type") == "url";
    const auto spell = [&](const std::string& key) {
      return encode ? PercentEncode(key) : Xml(key);
    };
    const ListAnswer answer = store_.List(ask.bucket, list);
    std::string xml = "<ListBucketResult xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\"><Name>" +
                      Xml(ask.bucket) + "</Name>";
    if (encode) xml += "<EncodingType>url</EncodingType>";
    xml += fmt::format("<KeyCount>{}</KeyCount><MaxKeys>{}</MaxKeys>",
                       answer.keys.size() + answer.prefixes.size(), list.max_keys);
    for (const auto& [key, object] : answer.keys) {
      xml += "<Contents><Key>" + spell(key) + "</Key><LastModified>" + Iso(object.modified) +
             "</LastModified><ETag>&quot;" + object.etag + "&quot;</ETag><Size>" +
             std::to_string(object.body->size) + "</Size></Contents>";
    }
    for (const std::string& prefix : answer.prefixes) {
      xml += "<CommonPrefixes><Prefix>" + spell(prefix) + "</Prefix></CommonPrefixes>";
    }
    xml +=
        fmt::format("<IsTruncated>{}</IsTruncated>", answer.next_after.empty() ? "false" : "true");
    if (!answer.next_after.empty()) {
      xml +=
          "<NextContinuationToken>" + PercentEncode(answer.next_after) + "</NextContinuationToken>";
    }
    SendXml(response, xml + "</ListBucketResult>");
  }

  void GetObject(const Request& request, const Ask& ask, Response& response) {
    auto object = store_.Get(ask.bucket, ask.key);
    if (const std::string id = ask.Value("versionId"); object && !id.empty() && id != "null") {
      const std::vector<Object> former = FormerOf(ask.bucket, ask.key);
      const std::size_t number = std::strtoull(id.c_str() + 1, nullptr, 10);
      if (number == 0 || number > former.size() + 1)
        object.reset();
      else if (number <= former.size())
        object = former[number - 1];
    }
    if (!object) return Refuse(response, ask, {404, "NoSuchKey", "no such key"});
    const std::string if_match = PlainEtag(request.get_header_value("If-Match"));
    if (!if_match.empty() && if_match != "*" && if_match != object->etag) {
      return Refuse(response, ask, {412, "PreconditionFailed", "another version is there"});
    }
    if (PlainEtag(request.get_header_value("If-None-Match")) == object->etag) {
      response.status = 304;
      return;
    }
    std::uint64_t offset = 0, size = object->body->size;
    response.status = 200;
    const std::string range = request.get_header_value("Range");
    std::uint64_t first = 0, last = 0;
    const int found = std::sscanf(range.c_str(), "bytes=%lu-%lu", &first, &last);
    if (found >= 1) {
      if (first >= size) return Refuse(response, ask, {416, "InvalidRange", "past the end"});
      if (found == 1 || last >= size) last = size - 1;
      offset = first;
      response.set_header("Content-Range", fmt::format("bytes {}-{}/{}", first, last, size));
      size = last - first + 1;
      response.status = 206;
    }
    for (const auto& [name, value] : object->metadata) {
      if (name != "content-type") response.set_header(name, value);
    }
    response.set_header("ETag", "\"" + object->etag + "\"");
    response.set_header("Last-Modified", HttpDate(object->modified));
    response.set_header("Accept-Ranges", "bytes");
    SendBody(*object, offset, size, ask, response);
  }

  // Streams [offset, offset + size) of a body, with the plan's damage to it.
  void SendBody(const Object& object, std::uint64_t offset, std::uint64_t size, const Ask& ask,
                Response& response) {
    const auto said = object.metadata.find("content-type");
    const std::string type =
        said == object.metadata.end() ? "application/octet-stream" : said->second;
    if (size == 0) {
      response.set_content("", type);
      return;
    }
    auto mapping = std::make_shared<Mapping>();
    mapping->body = object.body;
    if (!object.body->file.empty()) {
      const Fd fd(::open(object.body->file.c_str(), O_RDONLY | O_CLOEXEC));
      void* at =
          fd ? ::mmap(nullptr, object.body->size, PROT_READ, MAP_SHARED, fd.get(), 0) : MAP_FAILED;
      if (at == MAP_FAILED) return Refuse(response, ask, {500, "InternalError", "body lost"});
      mapping->data = static_cast<const char*>(at);
      mapping->size = object.body->size;
    }
    const bool cut = ask.plan.cut.has_value(), corrupt = ask.plan.corrupt.has_value();
    response.set_content_provider(size, type,
                                  [this, mapping, offset, size, cut, corrupt](
                                      std::size_t at, std::size_t length, httplib::DataSink& sink) {
                                    length = std::min<std::size_t>(length, 1u << 20);
                                    if (cut && at + length > size / 2) return false;
                                    Pace(at, length);
                                    if (mapping->data != nullptr && !corrupt)
                                      return sink.write(mapping->data + offset + at, length);
                                    auto piece = ReadBody(*mapping->body, offset + at, length);
                                    if (!piece.ok()) return false;
                                    if (corrupt && at == 0) (*piece)[piece->size() / 2] ^= 0x20;
                                    return sink.write(piece->data(), piece->size());
                                  });
  }

  void CopyObject(const Request& request, const Ask& ask, Response& response) {
    std::string source = request.get_header_value("x-amz-copy-source");
    if (!source.empty() && source[0] == '/') source.erase(0, 1);
    const auto slash = source.find('/');
    const auto object = store_.Get(source.substr(0, slash),
                                   slash == std::string::npos ? "" : source.substr(slash + 1));
    if (!object) return Refuse(response, ask, {404, "NoSuchKey", "no such source"});
    const std::string want = PlainEtag(request.get_header_value("x-amz-copy-source-if-match"));
    if (!want.empty() && want != object->etag) {
      return Refuse(response, ask, {412, "PreconditionFailed", "the source was changed"});
    }
    Object copy = *object;
    copy.modified = Now();
    if (copy.etag.find('-') != std::string::npos) copy.etag = Hex(Md5(copy.etag + source));
    if (request.get_header_value("x-amz-metadata-directive") == "REPLACE")
      copy.metadata = MetadataIn(request);
    copy.metadata.erase(kEncryption);  // as the bucket has it now
    const bool sealed = options_.etags == "sealed";
    if (sealed) copy.metadata[kEncryption] = "aws:kms";
    if (sealed) response.set_header(kEncryption, "aws:kms");
    if (sealed || object->metadata.count(kEncryption) > 0) {
      const auto all = ReadBody(*object->body, 0, object->body->size);
      if (!all.ok()) return Refuse(response, ask, {500, "InternalError", "disk"});
      copy.etag = Hex(Md5(sealed ? "sealed" + Hex(Md5(*all)) + ask.key : *all));
    }
    if (!store_.Put(ask.bucket, ask.key, copy, ConditionIn(request)).ok()) {
      return Refuse(response, ask, {412, "PreconditionFailed", "the target is there"});
    }
    SendXml(response, "<CopyObjectResult><ETag>\"" + copy.etag + "\"</ETag><LastModified>" +
                          Iso(copy.modified) + "</LastModified></CopyObjectResult>");
  }

  void PutPart(const Request& request, const Ask& ask, std::shared_ptr<const Body> body,
               std::string md5, Response& response) {
    const int number = std::atoi(ask.Value("partNumber").c_str());
    if (number < 1 || number > 10000)
      return Refuse(response, ask, {400, "InvalidArgument", "part number"});
    const bool copy = request.has_header("x-amz-copy-source");
    if (copy) {
      std::string source = request.get_header_value("x-amz-copy-source");
      if (!source.empty() && source[0] == '/') source.erase(0, 1);
      const auto slash = source.find('/');
      const auto object = store_.Get(source.substr(0, slash), source.substr(slash + 1));
      if (!object) return Refuse(response, ask, {404, "NoSuchKey", "no such source"});
      std::uint64_t first = 0, last = object->body->size - 1;
      std::sscanf(request.get_header_value("x-amz-copy-source-range").c_str(), "bytes=%lu-%lu",
                  &first, &last);
      ObjectStore::Writer writer(&store_);
      Md5Stream digest;
      for (std::uint64_t at = first; at <= last; at += 4u << 20) {
        auto piece = ReadBody(*object->body, at, std::min<std::uint64_t>(4u << 20, last - at + 1));
        if (!piece.ok() || !writer.Append(*piece).ok())
          return Refuse(response, ask, {500, "InternalError", "disk"});
        digest.Update(*piece);
      }
      body = *writer.Finish();
      md5 = digest.Finish();
    }
    if (!store_.PutPart(ask.Value("uploadId"), number, {body, md5})) {
      return Refuse(response, ask, {404, "NoSuchUpload", "no such upload"});
    }
    if (copy) {
      return SendXml(response,
                     "<CopyPartResult><ETag>\"" + Hex(md5) + "\"</ETag></CopyPartResult>");
    }
    response.set_header("ETag", "\"" + Hex(md5) + "\"");
    response.status = 200;
  }

  void ListParts(const Ask& ask, Response& response) {
    const auto upload = store_.FindUpload(ask.Value("uploadId"));
    if (!upload) return Refuse(response, ask, {404, "NoSuchUpload", "no such upload"});
    std::string xml = "<ListPartsResult>";
    for (const auto& [number, part] : upload->parts) {
      xml +=
          fmt::format("<Part><PartNumber>{}</PartNumber><ETag>\"{}\"</ETag><Size>{}</Size></Part>",
                      number, Hex(part.md5), part.body->size);
    }
    SendXml(response, xml + "<IsTruncated>false</IsTruncated></ListPartsResult>");
  }

  void ListUploads(const Ask& ask, Response& response) {
    std::string xml = "<ListMultipartUploadsResult>";
    const std::string prefix = ask.Value("prefix");
    for (const auto& [id, upload] : store_.Uploads()) {
      if (upload.bucket != ask.bucket || upload.key.compare(0, prefix.size(), prefix) != 0)
        continue;
      xml += "<Upload><Key>" + Xml(upload.key) + "</Key><UploadId>" + id + "</UploadId></Upload>";
    }
    SendXml(response, xml + "<IsTruncated>false</IsTruncated></ListMultipartUploadsResult>");
  }

  void Complete(const Ask& ask, const std::shared_ptr<const Body>& body, Response& response) {
    const std::string id = ask.Value("uploadId");
    const auto upload = store_.FindUpload(id);
    if (!upload) return Refuse(response, ask, {404, "NoSuchUpload", "no such upload"});
    pugi::xml_document document;
    if (!document.load_buffer(body->bytes.data(), body->bytes.size())) {
      return Refuse(response, ask, {400, "MalformedXML", "no XML"});
    }
    std::vector<std::shared_ptr<const Body>> bodies;
    std::string digests;
    int last = 0;
    for (const auto& node : document.document_element().children("Part")) {
      const int number = node.child("PartNumber").text().as_int();
      const auto part = upload->parts.find(number);
      if (number <= last) return Refuse(response, ask, {400, "InvalidPartOrder", "out of order"});
      if (part == upload->parts.end() ||
          PlainEtag(node.child_value("ETag")) != Hex(part->second.md5)) {
        return Refuse(response, ask, {400, "InvalidPart", "no such part"});
      }
      last = number;
      bodies.push_back(part->second.body);
      digests += part->second.md5;
    }
    if (bodies.empty()) return Refuse(response, ask, {400, "MalformedXML", "no parts"});
    auto joined = store_.Join(bodies);
    if (!joined.ok()) return Refuse(response, ask, {500, "InternalError", joined.error().what});
    const std::string etag = fmt::format("{}-{}", Hex(Md5(digests)), bodies.size());
    KeepFormer(ask.bucket, ask.key);
    Ignore(store_.Put(ask.bucket, ask.key, Stored(*joined, etag, Now(), upload->metadata), {}));
    store_.DropUpload(id);
    SendXml(response, "<CompleteMultipartUploadResult><ETag>\"" + etag +
                          "\"</ETag></CompleteMultipartUploadResult>");
  }

  void DeleteMany(const Ask& ask, const std::shared_ptr<const Body>& body, Response& response) {
    const auto text = ReadBody(*body, 0, body->size);
    pugi::xml_document document;
    if (!text.ok() || !document.load_buffer(text->data(), text->size(),
                                            pugi::parse_default | pugi::parse_ws_pcdata_single)) {
      return Refuse(response, ask, {400, "MalformedXML", "no XML"});
    }
    int count = 0;
    for (const auto& node : document.document_element().children("Object")) {
      if (++count > 1000) return Refuse(response, ask, {400, "MalformedXML", "over 1000 keys"});
      Ignore(store_.Delete(ask.bucket, node.child_value("Key"), {}));
    }
    SendXml(response, "<DeleteResult></DeleteResult>");
  }

  // POST /-/faults adds a rule, DELETE clears all; POST /-/fill makes many objects at once.
  void Control(const Request& request, const Ask& ask, ObjectStore::Writer* writer,
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

  void Record(const Request& request, const Ask& ask, const Response& response,
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

  const ServerOptions options_;
  ObjectStore& store_;
  Faults& faults_;
  std::unique_ptr<httplib::Server> server_;
  Mutex log_mutex_;
  Mutex former_mutex_;
  std::map<std::string, std::vector<Object>> former_ GUARDED_BY(former_mutex_);  // by bucket/key
  std::FILE* log_ = nullptr;
};

S3Server::S3Server(ServerOptions options, ObjectStore* store, Faults* faults)
    : impl_(std::make_unique<Impl>(std::move(options), store, faults)) {}
S3Server::~S3Server() = default;
Result<int> S3Server::Bind() { return impl_->Bind(); }
void S3Server::Serve() { impl_->Serve(); }
void S3Server::Stop() { impl_->Stop(); }

}  // namespace pargeter::standin
