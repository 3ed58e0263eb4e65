// One connection to an SSH server, signed in, with its sftp subsystem at the other end of a stream
// of bytes. Not thread-safe: one user at a time. Every call has a deadline, and ends at once when
// the Cancel that was given to it is cancelled; after an error the connection is of no more use.
#pragma once

#include <memory>
#include <string>
#include <string_view>

#include "base/clock.h"
#include "base/error.h"
#include "net/cancel.h"

namespace pargeter::sftp {

struct SshOptions {
  std::string account = {};  // for remedies
  std::string host;
  int port = 22;
  std::string user;
  std::string private_key;  // file; "": none
  std::string secret;       // the password, or the key's passphrase
  std::string agent;        // an agent's socket, asked if there is no key file and no password; ""
  // Files of hosts' keys: of the account or the person, and of Pargeter's own; each may be missing.
  std::string known_hosts, own_known_hosts;
  Duration patience{15000};  // for each answer on the way in
};

class SshChannel {
 public:
  // kUnavailable: nobody there; kUntrusted: it is not the host that is known by that name, or none
  // is (with its fingerprint); kSignIn: user, key or password refused.
  static Result<std::unique_ptr<SshChannel>> Open(const SshOptions& options, const Cancel& cancel);
  ~SshChannel();
  SshChannel(const SshChannel&) = delete;
  SshChannel& operator=(const SshChannel&) = delete;

  Status Send(std::string_view bytes);
  // Exactly `size` bytes; kUnavailable if none came for `patience`, or the connection ended.
  Status Receive(char* data, std::size_t size, Duration patience);
  void WatchFor(const Cancel& cancel);  // from now on; null: nobody gives up

 private:
  struct Parts;
  explicit SshChannel(std::unique_ptr<Parts> parts);
  static Result<std::unique_ptr<SshChannel>> OpenNow(const SshOptions& options,
                                                     const Cancel& cancel);
  Error Lost(std::string_view what) const;
  std::unique_ptr<Parts> parts_;
};

// The host's key as "SHA256:...", and, if it is the one that is expected, kept in `file`.
Result<std::string> FingerprintOf(const SshOptions& options);
Status Trust(const SshOptions& options, const std::string& expected, const std::string& file);

// Is anybody there who speaks SSH? A connection and the first line of an answer, no more.
Status Greet(const std::string& host, int port, Duration patience);

}  // namespace pargeter::sftp
