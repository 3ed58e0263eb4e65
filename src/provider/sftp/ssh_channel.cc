#include "provider/sftp/ssh_channel.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <libssh/libssh.h>
#include <netdb.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <functional>

#include "base/file.h"
#include "base/text.h"

namespace pargeter::sftp {

namespace {

std::string WordsOf(ssh_session session) { return Printable(ssh_get_error(session)); }

std::string Place(const SshOptions& o) {
  return o.port == 22 ? o.host : fmt::format("{}:{}", o.host, o.port);
}

struct KeyFree {
  void operator()(ssh_key key) const { ssh_key_free(key); }
};
using Key = std::unique_ptr<std::remove_pointer_t<ssh_key>, KeyFree>;

struct SessionFree {
  void operator()(ssh_session session) const {
    ssh_disconnect(session);
    ssh_free(session);
  }
};
using Session = std::unique_ptr<std::remove_pointer_t<ssh_session>, SessionFree>;

}  // namespace

// Cut off by shutting its socket down: whoever waits for it in the library wakes up with an error.
struct SshChannel::Parts {
  Session session;
  ssh_channel channel = nullptr;
  std::string place;
  Cancel watched;
  int hook = 0;

  void Forget() {
    if (watched && hook != 0) watched->Forget(hook);
    watched.reset();
    hook = 0;
  }
  void WatchFor(const Cancel& cancel) { WatchFor(cancel, ssh_get_fd(session.get())); }
  void WatchFor(const Cancel& cancel, int fd) {
    Forget();
    if (!cancel) return;
    watched = cancel;
    // a descriptor of its own: it may run when this connection is long closed
    const auto socket = std::make_shared<Fd>(::fcntl(fd, F_DUPFD_CLOEXEC, 3));
    hook = cancel->OnCancel([socket] { ::shutdown(socket->get(), SHUT_RDWR); });
  }
  ~Parts() {
    Forget();
    if (channel != nullptr) ssh_channel_free(channel);
  }
};

namespace {

// A connection, or nothing within `patience`; given up at once when cancelled.
Fd Reached(const std::string& host, int port, Duration patience, const Cancel& cancel) {
  addrinfo hints{}, *found = nullptr;
  hints.ai_socktype = SOCK_STREAM;
  if (::getaddrinfo(host.c_str(), std::to_string(port).c_str(), &hints, &found) != 0) return Fd();
  const std::unique_ptr<addrinfo, decltype(&::freeaddrinfo)> all(found, &::freeaddrinfo);
  const Steady until = std::chrono::steady_clock::now() + patience;
  for (const addrinfo* at = found; at != nullptr; at = at->ai_next) {
    Fd fd(::socket(at->ai_family, SOCK_STREAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0));
    if (!fd) continue;
    if (::connect(fd.get(), at->ai_addr, at->ai_addrlen) != 0 && errno != EINPROGRESS) continue;
    while (std::chrono::steady_clock::now() < until && !(cancel && cancel->cancelled())) {
      pollfd p{fd.get(), POLLOUT, 0};
      if (::poll(&p, 1, 100) != 1) continue;
      int failed = 0;
      socklen_t size = sizeof(failed);
      if (::getsockopt(fd.get(), SOL_SOCKET, SO_ERROR, &failed, &size) == 0 && failed == 0)
        return fd;
      break;
    }
  }
  return Fd();
}

// `watch` learns of the socket before anybody waits for it.
Result<Session> Connected(const SshOptions& o, const Cancel& cancel = nullptr,
                          const std::function<void(int)>& watch = nullptr) {
  Session session(ssh_new());
  if (!session) return Error(Code::kInternal, "no memory for a connection");
  ssh_session s = session.get();
  const long seconds = std::max<long>(1, o.patience.count() / 1000);
  const bool no = false;
  ssh_options_set(s, SSH_OPTIONS_PROCESS_CONFIG, &no);
  ssh_options_set(s, SSH_OPTIONS_HOST, o.host.c_str());
  ssh_options_set(s, SSH_OPTIONS_PORT, &o.port);
  ssh_options_set(s, SSH_OPTIONS_USER, o.user.c_str());
  ssh_options_set(s, SSH_OPTIONS_TIMEOUT, &seconds);
  ssh_options_set(s, SSH_OPTIONS_KNOWNHOSTS,
                  o.known_hosts.empty() ? "/dev/null" : o.known_hosts.c_str());
  ssh_options_set(s, SSH_OPTIONS_GLOBAL_KNOWNHOSTS,
                  o.own_known_hosts.empty() ? "/dev/null" : o.own_known_hosts.c_str());
  if (!o.agent.empty()) ssh_options_set(s, SSH_OPTIONS_IDENTITY_AGENT, o.agent.c_str());
  Fd socket = Reached(o.host, o.port, o.patience, cancel);
  if (cancel && cancel->cancelled()) return Error(Code::kCancelled, "the request was given up");
  if (socket) {
    const int fd = socket.Release();  // the session's from here on
    ::fcntl(fd, F_SETFL, ::fcntl(fd, F_GETFL) & ~O_NONBLOCK);
    const int at_once = 1;  // small questions do not wait for more to go with them
    ::setsockopt(fd, IPPROTO_TCP, TCP_NODELAY, &at_once, sizeof(at_once));
    ssh_options_set(s, SSH_OPTIONS_FD, &fd);
    if (watch) watch(fd);
  } else {
    return Error(Code::kUnavailable, fmt::format("cannot reach {}", Place(o)),
                 "Check the host's name and port, and that this machine is on the network.");
  }
  if (ssh_connect(s) != SSH_OK) {
    return Error(Code::kUnavailable, fmt::format("cannot reach {}: {}", Place(o), WordsOf(s)),
                 "Check the host's name and port, and that this machine is on the network.");
  }
  return session;
}

Result<std::string> Fingerprint(ssh_session session) {
  ssh_key raw = nullptr;
  if (ssh_get_server_publickey(session, &raw) != SSH_OK)
    return Error(Code::kDamaged, "the host shows no key");
  const Key key(raw);
  unsigned char* hash = nullptr;
  std::size_t length = 0;
  if (ssh_get_publickey_hash(key.get(), SSH_PUBLICKEY_HASH_SHA256, &hash, &length) != SSH_OK)
    return Error(Code::kDamaged, "the host's key cannot be read");
  char* text = ssh_get_fingerprint_hash(SSH_PUBLICKEY_HASH_SHA256, hash, length);
  std::string out = text != nullptr ? text : "";
  ssh_string_free_char(text);
  ssh_clean_pubkey_hash(&hash);
  return out;
}

Status CheckHost(const SshOptions& o, ssh_session session) {
  const ssh_known_hosts_e known = ssh_session_is_known_server(session);
  if (known == SSH_KNOWN_HOSTS_OK) return {};
  PG_ASSIGN(const std::string print, Fingerprint(session));
  if (known == SSH_KNOWN_HOSTS_CHANGED) {
    return Error(
        Code::kUntrusted,
        fmt::format("{} shows another key than the one it is known by: {}", Place(o), print),
        "Another machine may pretend to be the server. If its administrator says that the key is "
        "new, remove the old line from the file of known hosts.");
  }
  return Error(
      Code::kUntrusted, fmt::format("{} is not known here; its key is {}", Place(o), print),
      fmt::format(
          "If the server's administrator names the same key: pargeter account trust ACCOUNT {}",
          print));
}

Status SignIn(const SshOptions& o, ssh_session session) {
  const auto refused = [&](const std::string& why, std::string remedy) {
    return Error(Code::kSignIn, fmt::format("{} does not let {} in: {}", Place(o), o.user, why),
                 std::move(remedy));
  };
  // what the server lets try; some let in at once
  const int none = ssh_userauth_none(session, nullptr);
  if (none == SSH_AUTH_SUCCESS) return {};
  if (none == SSH_AUTH_ERROR)
    return Error(Code::kUnavailable, fmt::format("{}: {}", Place(o), WordsOf(session)));
  const int methods = ssh_userauth_list(session, nullptr);
  if (!o.private_key.empty()) {
    ssh_key raw = nullptr;
    const char* phrase = o.secret.empty() ? nullptr : o.secret.c_str();
    if (ssh_pki_import_privkey_file(o.private_key.c_str(), phrase, nullptr, nullptr, &raw) !=
        SSH_OK)
      return refused(fmt::format("the key in {} cannot be read", Printable(o.private_key)),
                     "Check the file and, if the key is under a passphrase, the account's secret.");
    const Key key(raw);
    const int in = ssh_userauth_publickey(session, nullptr, key.get());
    if (in == SSH_AUTH_SUCCESS) return {};
    if (in == SSH_AUTH_ERROR)
      return Error(Code::kUnavailable, fmt::format("{}: {}", Place(o), WordsOf(session)));
    return refused(fmt::format("the key in {} is refused", Printable(o.private_key)),
                   "Check the user's name, and that the server knows the key's public half.");
  }
  if (o.secret.empty()) {
    if (o.agent.empty())
      return refused("no key and no password is given, and no agent runs",
                     "Give the account one: pargeter account change ACCOUNT --secret-file FILE");
    const int in = ssh_userauth_agent(session, nullptr);
    if (in == SSH_AUTH_SUCCESS) return {};
    return refused("no key of the agent is taken", "See what it holds: ssh-add -l");
  }
  int in = SSH_AUTH_DENIED;
  if (methods & SSH_AUTH_METHOD_PASSWORD)
    in = ssh_userauth_password(session, nullptr, o.secret.c_str());
  if (in == SSH_AUTH_DENIED && (methods & SSH_AUTH_METHOD_INTERACTIVE)) {
    in = ssh_userauth_kbdint(session, nullptr, nullptr);
    for (int round = 0; in == SSH_AUTH_INFO && round < 5; ++round) {
      const int prompts = ssh_userauth_kbdint_getnprompts(session);
      for (int i = 0; i < prompts; ++i)
        ssh_userauth_kbdint_setanswer(session, static_cast<unsigned>(i), o.secret.c_str());
      in = ssh_userauth_kbdint(session, nullptr, nullptr);
    }
  }
  if (in == SSH_AUTH_SUCCESS) return {};
  if (in == SSH_AUTH_ERROR)
    return Error(Code::kUnavailable, fmt::format("{}: {}", Place(o), WordsOf(session)));
  return refused("the password is refused",
                 "Give it anew: pargeter account change ACCOUNT --secret-file FILE");
}

}  // namespace

SshChannel::SshChannel(std::unique_ptr<Parts> parts) : parts_(std::move(parts)) {}
SshChannel::~SshChannel() = default;

Result<std::unique_ptr<SshChannel>> SshChannel::Open(const SshOptions& options,
                                                     const Cancel& cancel) {
  if (cancel && cancel->cancelled()) return Error(Code::kCancelled, "the request was given up");
  auto channel = OpenNow(options, cancel);
  if (!channel.ok() && cancel && cancel->cancelled())
    return Error(Code::kCancelled, "the request was given up");
  if (!channel.ok()) return channel.error().For(options.account);
  return channel;
}

Result<std::unique_ptr<SshChannel>> SshChannel::OpenNow(const SshOptions& options,
                                                        const Cancel& cancel) {
  auto parts = std::make_unique<Parts>();
  parts->place = Place(options);
  const auto watch = [&](int fd) { parts->WatchFor(cancel, fd); };
  PG_ASSIGN(parts->session, Connected(options, cancel, watch));
  ssh_session session = parts->session.get();
  PG_TRY(CheckHost(options, session));
  PG_TRY(SignIn(options, session));
  parts->channel = ssh_channel_new(session);
  if (parts->channel == nullptr || ssh_channel_open_session(parts->channel) != SSH_OK)
    return Error(Code::kUnavailable, fmt::format("{}: {}", parts->place, WordsOf(session)));
  if (ssh_channel_request_sftp(parts->channel) != SSH_OK)
    return Error(Code::kUnsupported, fmt::format("{} offers no files over SFTP", parts->place),
                 "The server's administrator has to enable the sftp subsystem.");
  parts->WatchFor(nullptr);
  return std::unique_ptr<SshChannel>(new SshChannel(std::move(parts)));
}

void SshChannel::WatchFor(const Cancel& cancel) { parts_->WatchFor(cancel); }

Error SshChannel::Lost(std::string_view what) const {
  if (parts_->watched && parts_->watched->cancelled())
    return Error(Code::kCancelled, "the request was given up");
  return Error(Code::kUnavailable, fmt::format("{}: {}", parts_->place, what));
}

Status SshChannel::Send(std::string_view bytes) {
  while (!bytes.empty()) {
    const int n = ssh_channel_write(
        parts_->channel, bytes.data(),
        static_cast<std::uint32_t>(std::min<std::size_t>(bytes.size(), 1u << 20)));
    if (n <= 0) return Lost("the connection was lost");
    bytes.remove_prefix(static_cast<std::size_t>(n));
  }
  return {};
}

Status SshChannel::Receive(char* data, std::size_t size, Duration patience) {
  while (size > 0) {
    const int n = ssh_channel_read_timeout(parts_->channel, data, static_cast<std::uint32_t>(size),
                                           0, static_cast<int>(patience.count()));
    if (n <= 0) {
      const bool ended = n < 0 || ssh_channel_is_eof(parts_->channel) != 0;
      return Lost(ended ? "the connection was lost" : "no answer came in time");
    }
    data += n;
    size -= static_cast<std::size_t>(n);
  }
  return {};
}

Result<std::string> FingerprintOf(const SshOptions& options) {
  PG_ASSIGN(const Session session, Connected(options));
  return Fingerprint(session.get());
}

Status Trust(const SshOptions& options, const std::string& expected, const std::string& file) {
  SshOptions o = options;
  o.known_hosts = file;
  PG_ASSIGN(const Session session, Connected(o));
  PG_ASSIGN(const std::string print, Fingerprint(session.get()));
  if (print != expected)
    return Error(Code::kPermission,
                 fmt::format("{} shows {}, which is another key", Place(o), print),
                 "Ask the server's administrator which key is right, and do not connect before.");
  if (ssh_session_update_known_hosts(session.get()) != SSH_OK)
    return Error(Code::kIo,
                 fmt::format("cannot write {}: {}", Printable(file), WordsOf(session.get())));
  return {};
}

Status Greet(const std::string& host, int port, Duration patience) {
  const Steady until = std::chrono::steady_clock::now() + patience;
  if (const Fd fd = Reached(host, port, patience, nullptr)) {
    const auto left =
        std::chrono::duration_cast<Duration>(until - std::chrono::steady_clock::now());
    pollfd p{fd.get(), POLLIN, 0};
    char start[4] = {};
    if (left.count() > 0 && ::poll(&p, 1, static_cast<int>(left.count())) == 1 &&
        ::recv(fd.get(), start, sizeof(start), 0) == 4 && std::memcmp(start, "SSH-", 4) == 0)
      return {};
  }
  return Error(Code::kUnavailable, fmt::format("{}:{} does not answer", host, port));
}

}  // namespace pargeter::sftp
