// Stores to test against: the stand-in, and real servers where the caller has started them.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "provider/s3/s3_provider.h"
#include "provider/sftp/sftp_provider.h"
#include "provider/webdav/dav_provider.h"
#include "support/process.h"

namespace pargeter::test {

struct Peer {
  std::string name, endpoint, key_id, secret, bucket;
  // "webdav": endpoint, user as key_id, password; "sftp": host, user as key_id, files of keys
  std::string kind = "s3";
  int port = 0;
  std::string key_file, known_hosts;
  std::shared_ptr<Background> process;      // of a stand-in
  std::shared_ptr<TemporaryFolder> folder;  // its secret file and request log
  std::vector<std::string> standin;         // what a stand-in is started with; empty: it is real
  std::string LogPath() const { return *folder / "requests.jsonl"; }
};

Peer StartStandin(const std::vector<std::string>& more = {});
// A simulated cloud drive; its user's name is in key_id.
Peer StartDriveStandin(const std::string& name, const std::vector<std::string>& more = {});
// Starts a stand-in that does not run yet.
void EnsureStarted(Peer* peer);
// Stand-ins, not started yet; and the peers named in PARGETER_PEERS ("name=FILE,..."; each file has
// the KEY=VALUE lines of tests/servers),.
std::vector<Peer> AllPeers();
sftp::SftpOptions SftpOptionsFor(const Peer& peer, const std::string& prefix);

s3::S3Options OptionsFor(const Peer& peer, const std::string& prefix);
webdav::DavOptions DavOptionsFor(const Peer& peer, const std::string& prefix);
// Of the peer's kind; what can go up in parts does so above 5 MiB.
std::unique_ptr<Provider> OpenPeer(const Peer& peer, const std::string& prefix);
// Sets a fault at a stand-in, or clears them all with "".
void SetFault(const Peer& peer, const std::string& fault);

// The stand-in's request log since the last call.
struct Logged {
  std::string method, key, query;
  int status = 0;
  std::uint64_t in = 0, out = 0;
  bool copy = false;
};
std::vector<Logged> ReadLog(const Peer& peer);

}  // namespace pargeter::test
