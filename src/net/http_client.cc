#include "net/http_client.h"

#include <curl/curl.h>
#include <fmt/format.h>

#include <algorithm>
#include <deque>
#include <thread>

#include "base/log.h"
#include "base/mutex.h"
#include "base/text.h"

namespace pargeter {
namespace {

constexpr std::size_t kMaxHeaderBytes = 64u << 10;
constexpr std::size_t kMaxErrorBody = 64u << 10;
constexpr long kBufferSize = 512L << 10;

void InitCurlOnce() {
  static const bool done = curl_global_init(CURL_GLOBAL_DEFAULT) == CURLE_OK;
  (void)done;
}

// One transfer. Filled by the caller's thread before it is queued, touched only by the event
// thread until `done`, read by the caller afterwards.
struct Transfer {
  std::uint64_t id = 0;  // a cancellation may come after the end: it must not meet another
  const HttpRequest* request = nullptr;
  CURL* easy = nullptr;
  curl_slist* header_list = nullptr;
  HttpResponse response;
  std::size_t header_bytes = 0;
  std::uint64_t sent = 0;
  bool sink_begun = false;
  std::optional<Error> fault;  // ours, the source's or the sink's
  CURLcode outcome = CURLE_OK;
  char message[CURL_ERROR_SIZE] = {};
  bool cancel_asked = false;

  Mutex mutex;
  CondVar changed;
  bool done GUARDED_BY(mutex) = false;

  std::atomic<Steady::rep>* alive = nullptr;
  void SignOfLife() { alive->store(std::chrono::steady_clock::now().time_since_epoch().count()); }

  ~Transfer() { curl_slist_free_all(header_list); }
};

std::size_t OnHeader(char* data, std::size_t, std::size_t size, void* user) {
  auto& t = *static_cast<Transfer*>(user);
  t.header_bytes += size;
  t.SignOfLife();
  if (t.header_bytes > kMaxHeaderBytes) {
    t.fault = Error(Code::kDamaged, "the store's answer has more than 64 KiB of headers");
    return 0;
  }
  const std::string_view line(data, size);
  if (line.substr(0, 5) == "HTTP/") {  // also after a 100 Continue: start anew
    t.response.head = HttpHead();
    const auto space = line.find(' ');
    if (space != std::string_view::npos) t.response.head.status = std::atoi(data + space + 1);
    return size;
  }
  const auto colon = line.find(':');
  if (colon != std::string_view::npos) {
    t.response.head.headers.emplace_back(Lower(Trim(line.substr(0, colon))),
                                         std::string(Trim(line.substr(colon + 1))));
  }
  return size;
}

std::size_t OnBody(char* data, std::size_t, std::size_t size, void* user) {
  auto& t = *static_cast<Transfer*>(user);
  const HttpRequest& request = *t.request;
  t.response.received += size;
  t.SignOfLife();
  const bool good = t.response.head.status / 100 == 2;
  if (request.sink != nullptr && good) {
    Status status;
    if (!t.sink_begun) {
      t.sink_begun = true;
      status = request.sink->Begin(t.response.head);
    }
    if (status.ok()) status = request.sink->Write(std::string_view(data, size));
    if (status.ok()) return size;
    t.fault = status.error();
    return 0;
  }
  const std::size_t limit = good ? request.max_body : kMaxErrorBody;
  if (t.response.body.size() + size > limit) {
    if (!good) return size;  // the start of an error text is enough
    t.fault =
        Error(Code::kDamaged, fmt::format("the store's answer is longer than {} bytes", limit));
    return 0;
  }
  t.response.body.append(data, size);
  return size;
}

std::size_t OnUpload(char* data, std::size_t, std::size_t size, void* user) {
  auto& t = *static_cast<Transfer*>(user);
  if (t.sent > 0) t.SignOfLife();  // what was sent before has gone, so somebody takes it
  if (t.request->source != nullptr) {
    const Result<std::size_t> n = t.request->source->Read(data, size, t.sent);
    if (!n.ok()) {
      t.fault = n.error();
      return CURL_READFUNC_ABORT;
    }
    t.sent += *n;
    return *n;
  }
  const std::size_t n = std::min<std::size_t>(size, t.request->body.size() - t.sent);
  std::copy_n(t.request->body.data() + t.sent, n, data);
  t.sent += n;
  return n;
}

int OnSeek(void* user, curl_off_t offset, int origin) {
  if (origin != SEEK_SET) return CURL_SEEKFUNC_FAIL;
  static_cast<Transfer*>(user)->sent = static_cast<std::uint64_t>(offset);
  return CURL_SEEKFUNC_OK;
}

void Configure(Transfer& t, const HttpOptions& options) {
  const HttpRequest& request = *t.request;
  CURL* e = t.easy;
  curl_easy_setopt(e, CURLOPT_URL, request.url.c_str());
  curl_easy_setopt(e, CURLOPT_PROTOCOLS_STR, "http,https");
  curl_easy_setopt(e, CURLOPT_FOLLOWLOCATION, 0L);
  curl_easy_setopt(e, CURLOPT_PATH_AS_IS, 1L);  // a key may hold "." and ".." parts
  curl_easy_setopt(e, CURLOPT_HTTP_VERSION, static_cast<long>(CURL_HTTP_VERSION_1_1));
  curl_easy_setopt(e, CURLOPT_NOSIGNAL, 1L);
  if (!options.proxy.empty()) curl_easy_setopt(e, CURLOPT_PROXY, options.proxy.c_str());
  // (a proxy that is named for the account is used for this machine's own addresses, too)
  const std::string around =
      options.proxy.empty()
          ? "127.0.0.1,localhost,::1" + (options.no_proxy.empty() ? "" : "," + options.no_proxy)
          : options.no_proxy;
  curl_easy_setopt(e, CURLOPT_NOPROXY, around.c_str());
  if (!options.certificate.empty()) {
    curl_easy_setopt(e, CURLOPT_SSLCERT, options.certificate.c_str());
    const std::string& key = options.certificate_key;
    curl_easy_setopt(e, CURLOPT_SSLKEY, (key.empty() ? options.certificate : key).c_str());
  }
  curl_easy_setopt(e, CURLOPT_ERRORBUFFER, t.message);
  curl_easy_setopt(e, CURLOPT_USERAGENT, options.user_agent.c_str());
  if (!options.ca_file.empty()) curl_easy_setopt(e, CURLOPT_CAINFO, options.ca_file.c_str());
  curl_easy_setopt(e, CURLOPT_BUFFERSIZE, kBufferSize);
  curl_easy_setopt(e, CURLOPT_UPLOAD_BUFFERSIZE, kBufferSize);
  curl_easy_setopt(e, CURLOPT_MAXAGE_CONN, 50L);  // servers drop idle ones silently after 60 s
  curl_easy_setopt(e, CURLOPT_CONNECTTIMEOUT_MS,
                   static_cast<long>(request.deadlines.connect.count()));
  curl_easy_setopt(e, CURLOPT_LOW_SPEED_LIMIT, 1L);
  curl_easy_setopt(e, CURLOPT_LOW_SPEED_TIME,
                   std::max(1L, static_cast<long>(request.deadlines.stall.count() / 1000)));
  curl_easy_setopt(e, CURLOPT_TIMEOUT_MS, static_cast<long>(request.deadlines.overall.count()));
  curl_easy_setopt(e, CURLOPT_HEADERFUNCTION, OnHeader);
  curl_easy_setopt(e, CURLOPT_HEADERDATA, &t);
  curl_easy_setopt(e, CURLOPT_WRITEFUNCTION, OnBody);
  curl_easy_setopt(e, CURLOPT_WRITEDATA, &t);
  curl_easy_setopt(e, CURLOPT_PRIVATE, &t);
  const bool has_body = request.source != nullptr || !request.body.empty() ||
                        request.method == "PUT" || request.method == "POST";
  if (request.method == "HEAD") {
    curl_easy_setopt(e, CURLOPT_NOBODY, 1L);
  } else if (has_body) {
    const std::uint64_t size = request.source ? request.source->Size() : request.body.size();
    curl_easy_setopt(e, CURLOPT_UPLOAD, 1L);
    curl_easy_setopt(e, CURLOPT_READFUNCTION, OnUpload);
    curl_easy_setopt(e, CURLOPT_READDATA, &t);
    curl_easy_setopt(e, CURLOPT_SEEKFUNCTION, OnSeek);
    curl_easy_setopt(e, CURLOPT_SEEKDATA, &t);
    curl_easy_setopt(e, CURLOPT_INFILESIZE_LARGE, static_cast<curl_off_t>(size));
    curl_easy_setopt(e, CURLOPT_CUSTOMREQUEST, request.method.c_str());
    t.header_list = curl_slist_append(t.header_list, "Expect:");
  } else {
    curl_easy_setopt(e, CURLOPT_HTTPGET, 1L);
    curl_easy_setopt(e, CURLOPT_CUSTOMREQUEST, request.method.c_str());
  }
  for (const auto& [name, value] : request.headers) {
    // "Name;" is libcurl's spelling of a header that is sent with an empty value
    const std::string line = value.empty() ? name + ";" : name + ": " + value;
    t.header_list = curl_slist_append(t.header_list, line.c_str());
  }
  curl_easy_setopt(e, CURLOPT_HTTPHEADER, t.header_list);
}

Error FaultOf(const Transfer& t) {
  if (t.fault) return *t.fault;
  if (t.cancel_asked) return Error(Code::kCancelled, "the transfer was given up");
  const char* words = t.message[0] != 0 ? t.message : curl_easy_strerror(t.outcome);
  const std::string text = Printable(words);
  switch (t.outcome) {
    case CURLE_COULDNT_RESOLVE_HOST:
      return Error(Code::kUnavailable, "the store's name is not found: " + text,
                   "Check the endpoint's spelling, and this machine's DNS.");
    case CURLE_COULDNT_CONNECT:
      return Error(Code::kUnavailable, "the store does not answer: " + text,
                   "Check that it runs and that this machine reaches it.");
    case CURLE_OPERATION_TIMEDOUT:
      return Error(Code::kTimeout, "the store did not answer in time: " + text);
    case CURLE_PARTIAL_FILE:
      return Error(Code::kDamaged, "the store's answer was cut short");
    case CURLE_PEER_FAILED_VERIFICATION:
    case CURLE_SSL_CACERT_BADFILE:
    case CURLE_SSL_ISSUER_ERROR:
      return Error(
          Code::kUntrusted, "the store's certificate is not trusted: " + text,
          "If the store has an authority of its own, give its certificate with --ca-file.");
    case CURLE_SSL_CERTPROBLEM:
      return Error(Code::kInvalid, "this machine's certificate cannot be used: " + text,
                   "Check --certificate and --certificate-key of the account.");
    case CURLE_COULDNT_RESOLVE_PROXY:
      return Error(Code::kUnavailable, "the proxy's name is not found: " + text,
                   "Check --proxy of the account, or the environment's https_proxy.");
    case CURLE_SSL_CONNECT_ERROR:
      return Error(Code::kUnavailable, "no secure connection to the store: " + text,
                   "Check whether the endpoint is http or https.");
    case CURLE_URL_MALFORMAT:
    case CURLE_UNSUPPORTED_PROTOCOL:
      return Error(Code::kInvalid, "no usable address: " + text);
    case CURLE_WEIRD_SERVER_REPLY:
    case CURLE_HTTP2:
      return Error(Code::kUnavailable, "what answers there does not speak HTTP/1.1");
    default:
      return Error(Code::kUnavailable, "the connection to the store was lost: " + text);
  }
}

}  // namespace

std::string PlainEtag(std::string_view etag) {
  etag = Trim(etag);
  if (etag.substr(0, 2) == "W/") etag.remove_prefix(2);
  if (etag.size() >= 2 && etag.front() == '"' && etag.back() == '"') {
    etag = etag.substr(1, etag.size() - 2);
  }
  return std::string(etag);
}

const std::string& HttpHead::Get(std::string_view name) const {
  static const std::string none;
  for (const auto& [key, value] : headers) {
    if (key == name) return value;
  }
  return none;
}

// The event thread and its queue.
class HttpClient::Loop {
 public:
  explicit Loop(HttpOptions options) : options_(std::move(options)) {
    InitCurlOnce();
    multi_ = curl_multi_init();
    curl_multi_setopt(multi_, CURLMOPT_MAX_TOTAL_CONNECTIONS,
                      static_cast<long>(options_.max_connections));
    curl_multi_setopt(multi_, CURLMOPT_MAXCONNECTS, static_cast<long>(options_.max_connections));
    thread_ = std::thread([this] { Run(); });
  }

  ~Loop() {
    {
      const Lock lock(mutex_);
      stopping_ = true;
    }
    curl_multi_wakeup(multi_);
    thread_.join();
    for (CURL* easy : spare_) curl_easy_cleanup(easy);
    curl_multi_cleanup(multi_);
  }

  void Enqueue(Transfer* t) EXCLUDES(mutex_) {
    {
      const Lock lock(mutex_);
      incoming_.push_back(t);
    }
    curl_multi_wakeup(multi_);
  }
  std::uint64_t NextId() { return ++last_id_; }
  Steady LastSign() const { return Steady(Steady::duration(alive_.load())); }
  void AskCancel(std::uint64_t id) EXCLUDES(mutex_) {
    {
      const Lock lock(mutex_);
      to_cancel_.push_back(id);
    }
    curl_multi_wakeup(multi_);
  }

 private:
  void Run() {
    for (;;) {
      bool stopping = false;
      std::deque<Transfer*> incoming;
      std::deque<std::uint64_t> to_cancel;
      {
        const Lock lock(mutex_);
        incoming.swap(incoming_);
        to_cancel.swap(to_cancel_);
        stopping = stopping_;
      }
      for (Transfer* t : incoming) Begin(t);
      if (stopping) {
        for (const Transfer* t : active_) to_cancel.push_back(t->id);
      }
      for (const std::uint64_t id : to_cancel) GiveUp(id);
      if (stopping) return;
      int running = 0;
      curl_multi_perform(multi_, &running);
      Reap();
      // idle, it sleeps until woken: a mount that does nothing costs nothing
      curl_multi_poll(multi_, nullptr, 0, running > 0 ? 1000 : 60000, nullptr);
    }
  }

  void Begin(Transfer* t) {
    if (spare_.empty()) {
      t->easy = curl_easy_init();
    } else {
      t->easy = spare_.back();
      spare_.pop_back();
      curl_easy_reset(t->easy);
    }
    Configure(*t, options_);
    t->alive = &alive_;
    active_.push_back(t);
    curl_multi_add_handle(multi_, t->easy);
  }

  void GiveUp(std::uint64_t id) {
    const auto it = std::find_if(active_.begin(), active_.end(),
                                 [id](const Transfer* t) { return t->id == id; });
    if (it == active_.end()) return;  // done already
    Transfer* t = *it;
    t->cancel_asked = true;
    Finish(t, CURLE_ABORTED_BY_CALLBACK);
  }

  void Reap() {
    int left = 0;
    while (CURLMsg* message = curl_multi_info_read(multi_, &left)) {
      if (message->msg != CURLMSG_DONE) continue;
      Transfer* t = nullptr;
      curl_easy_getinfo(message->easy_handle, CURLINFO_PRIVATE, &t);
      Finish(t, message->data.result);
    }
  }

  void Finish(Transfer* t, CURLcode outcome) {
    t->outcome = outcome;
    curl_multi_remove_handle(multi_, t->easy);
    active_.erase(std::find(active_.begin(), active_.end(), t));
    spare_.push_back(t->easy);
    t->easy = nullptr;
    // a 2xx answer without a body begins its sink too
    const HttpRequest& request = *t->request;
    if (outcome == CURLE_OK && request.sink != nullptr && !t->sink_begun &&
        t->response.head.status / 100 == 2) {
      const Status begun = request.sink->Begin(t->response.head);
      if (!begun.ok()) t->fault = begun.error();
    }
    const Lock lock(t->mutex);
    t->done = true;
    t->changed.NotifyAll();
  }

  const HttpOptions options_;
  CURLM* multi_ = nullptr;
  std::thread thread_;
  std::vector<Transfer*> active_;  // event thread only
  std::vector<CURL*> spare_;       // event thread only
  Mutex mutex_;
  std::deque<Transfer*> incoming_ GUARDED_BY(mutex_);
  std::deque<std::uint64_t> to_cancel_ GUARDED_BY(mutex_);
  std::atomic<std::uint64_t> last_id_{0};
  std::atomic<Steady::rep> alive_{0};
  bool stopping_ GUARDED_BY(mutex_) = false;
};

HttpClient::HttpClient(HttpOptions options) : loop_(std::make_unique<Loop>(std::move(options))) {}
HttpClient::~HttpClient() = default;
Steady HttpClient::LastSign() const { return loop_->LastSign(); }

Result<HttpResponse> HttpClient::Do(const HttpRequest& request) {
  Transfer t;
  t.id = loop_->NextId();
  t.request = &request;
  int hook = 0;
  if (request.cancel && request.cancel->cancelled())
    return Error(Code::kCancelled, "the transfer was given up");
  loop_->Enqueue(&t);
  // The hook runs on the canceller's thread and only queues; the loop checks that it still runs.
  // In this order: a cancellation of what is not queued yet would be taken for one of what is done.
  if (request.cancel) hook = request.cancel->OnCancel([this, id = t.id] { loop_->AskCancel(id); });
  {
    // libcurl's own time-outs end every transfer (Configure); the wait is only divided into hours
    Lock lock(t.mutex);
    while (!t.done) {
      t.changed.WaitUntil(t.mutex, std::chrono::steady_clock::now() + std::chrono::hours(1));
    }
  }
  if (request.cancel) request.cancel->Forget(hook);
  if (t.fault || t.outcome != CURLE_OK) return FaultOf(t);
  return std::move(t.response);
}

}  // namespace pargeter
