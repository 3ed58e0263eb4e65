#include "http_host.h"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <microhttpd.h>

#include <algorithm>
#include <cstring>
#include <thread>

#include "base/file.h"
#include "base/text.h"
#include "net/uri.h"

namespace pargeter::standin {

class HttpHost::Impl {
 public:
  Impl(Options options, ObjectStore* store, Handler handler)
      : options_(std::move(options)), store_(store), handler_(std::move(handler)) {}
  ~Impl() {
    if (daemon_ != nullptr) MHD_stop_daemon(daemon_);
  }
  Result<int> Start();

 private:
  struct Exchange {
    explicit Exchange(ObjectStore* store) : writer(store) {}
    HttpAsk ask;
    ObjectStore::Writer writer;
    Status stored;
  };
  // Gives an answer's body piece by piece, at the pace and with the faults that were asked for.
  struct Sending {
    HttpAnswer answer;
    std::uint64_t rate = 0;
  };
  static MHD_Result OnAsk(void* self, MHD_Connection* connection, const char* url,
                          const char* method, const char* version, const char* data,
                          std::size_t* size, void** state);
  static void OnEnd(void*, MHD_Connection*, void** state, MHD_RequestTerminationCode) {
    delete static_cast<Exchange*>(*state);
    *state = nullptr;
  }
  static MHD_Result OnHeader(void* user, MHD_ValueKind, const char* key, const char* value) {
    (*static_cast<std::map<std::string, std::string>*>(user))[Lower(key)] =
        value != nullptr ? value : "";
    return MHD_YES;
  }
  static MHD_Result OnQuery(void* user, MHD_ValueKind, const char* key, const char* value) {
    (*static_cast<std::map<std::string, std::string>*>(user))[PercentDecode(key)] =
        PercentDecode(value != nullptr ? value : "");
    return MHD_YES;
  }
  static ssize_t OnSend(void* user, std::uint64_t at, char* out, std::size_t room);
  MHD_Result Answer(MHD_Connection* connection, Exchange* exchange);

  const Options options_;
  ObjectStore* const store_;
  const Handler handler_;
  std::string certificate_, key_;
  MHD_Daemon* daemon_ = nullptr;
};

Result<int> HttpHost::Impl::Start() {
  sockaddr_in at{};
  at.sin_family = AF_INET;
  at.sin_port = htons(static_cast<std::uint16_t>(options_.port));
  if (::inet_pton(AF_INET, options_.host.c_str(), &at.sin_addr) != 1)
    return Error(Code::kInvalid, "--listen wants an address such as 127.0.0.1:0");
  unsigned flags = MHD_USE_THREAD_PER_CONNECTION | MHD_USE_INTERNAL_POLLING_THREAD | MHD_USE_POLL;
  std::vector<MHD_OptionItem> more;
  if (!options_.tls_certificate.empty()) {
    PG_ASSIGN(certificate_, ReadFile(options_.tls_certificate, 1 << 20));
    PG_ASSIGN(key_, ReadFile(options_.tls_key, 1 << 20));
    flags |= MHD_USE_TLS;
    more.push_back({MHD_OPTION_HTTPS_MEM_CERT, 0, certificate_.data()});
    more.push_back({MHD_OPTION_HTTPS_MEM_KEY, 0, key_.data()});
  }
  more.push_back({MHD_OPTION_END, 0, nullptr});
  // paths are taken apart before they are decoded
  const auto as_it_is = +[](void*, MHD_Connection*, char* text) { return std::strlen(text); };
  daemon_ = MHD_start_daemon(
      flags, 0, nullptr, nullptr, &Impl::OnAsk, this, MHD_OPTION_SOCK_ADDR, &at,
      MHD_OPTION_NOTIFY_COMPLETED, &Impl::OnEnd, nullptr, MHD_OPTION_UNESCAPE_CALLBACK, as_it_is,
      nullptr, MHD_OPTION_CONNECTION_TIMEOUT, 60u, MHD_OPTION_ARRAY, more.data(), MHD_OPTION_END);
  if (daemon_ == nullptr)
    return Error(Code::kBusy, fmt::format("cannot listen on {}:{}", options_.host, options_.port),
                 "Choose another port, or 0 for any free one.");
  const MHD_DaemonInfo* info = MHD_get_daemon_info(daemon_, MHD_DAEMON_INFO_BIND_PORT);
  return info != nullptr && info->port != 0 ? info->port : options_.port;
}

MHD_Result HttpHost::Impl::OnAsk(void* self, MHD_Connection* connection, const char* url,
                                 const char* method, const char*, const char* data,
                                 std::size_t* size, void** state) {
  auto* host = static_cast<Impl*>(self);
  auto* exchange = static_cast<Exchange*>(*state);
  if (exchange == nullptr) {
    exchange = new Exchange(host->store_);
    *state = exchange;
    exchange->ask.method = method;
    exchange->ask.raw_path = url;
    MHD_get_connection_values(connection, MHD_HEADER_KIND, &Impl::OnHeader, &exchange->ask.headers);
    MHD_get_connection_values(connection, MHD_GET_ARGUMENT_KIND, &Impl::OnQuery,
                              &exchange->ask.query);
    return MHD_YES;
  }
  if (*size > 0) {
    if (host->options_.rate > 0)
      std::this_thread::sleep_for(std::chrono::microseconds(*size * 1000000 / host->options_.rate));
    exchange->ask.bytes_in += *size;
    if (exchange->stored.ok()) exchange->stored = exchange->writer.Append({data, *size});
    *size = 0;
    return MHD_YES;
  }
  return host->Answer(connection, exchange);
}

MHD_Result HttpHost::Impl::Answer(MHD_Connection* connection, Exchange* exchange) {
  auto body = exchange->stored.ok() ? exchange->writer.Finish()
                                    : Result<std::shared_ptr<const Body>>(exchange->stored.error());
  HttpAnswer answer;
  if (body.ok()) {
    exchange->ask.body = std::move(*body);
    answer = handler_(exchange->ask);
  } else {
    answer.status = 500;
  }
  if (answer.drop) return MHD_NO;
  const bool head = exchange->ask.method == "HEAD";
  auto* sending = new Sending{std::move(answer), options_.rate};
  const HttpAnswer& out = sending->answer;
  MHD_Response* response = MHD_create_response_from_callback(
      out.Length(), 64 << 10, &Impl::OnSend, sending,
      +[](void* user) { delete static_cast<Sending*>(user); });
  for (const auto& [name, value] : out.headers)
    MHD_add_response_header(response, name.c_str(), value.c_str());
  const auto status = static_cast<unsigned>(out.status);
  (void)head;
  const MHD_Result queued = MHD_queue_response(connection, status, response);
  MHD_destroy_response(response);
  return queued;
}

ssize_t HttpHost::Impl::OnSend(void* user, std::uint64_t at, char* out, std::size_t room) {
  const auto& [answer, rate] = *static_cast<Sending*>(user);
  const std::uint64_t length = answer.Length();
  const std::uint64_t end = answer.cut ? length / 2 : length;
  if (at >= end)
    return answer.cut ? MHD_CONTENT_READER_END_WITH_ERROR : MHD_CONTENT_READER_END_OF_STREAM;
  std::size_t n = std::min<std::uint64_t>(room, end - at);
  if (answer.file) {
    const auto piece = ReadBody(*answer.file, answer.begin + at, n);
    if (!piece.ok() || piece->empty()) return MHD_CONTENT_READER_END_WITH_ERROR;
    n = piece->size();
    std::memcpy(out, piece->data(), n);
  } else {
    std::memcpy(out, answer.text.data() + at, n);
  }
  if (answer.corrupt && at == 0) out[0] = static_cast<char>(out[0] ^ 1);
  if (rate > 0) std::this_thread::sleep_for(std::chrono::microseconds(n * 1000000 / rate));
  return static_cast<ssize_t>(n);
}

HttpHost::HttpHost(Options options, ObjectStore* store, Handler handler)
    : impl_(std::make_unique<Impl>(std::move(options), store, std::move(handler))) {}
HttpHost::~HttpHost() = default;
Result<int> HttpHost::Start() { return impl_->Start(); }

}  // namespace pargeter::standin
