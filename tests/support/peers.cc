#include "support/peers.h"

#include <cstdlib>
#include <nlohmann/json.hpp>
#include <sstream>

#include "base/text.h"
#include "net/http_client.h"

namespace pargeter::test {

void EnsureStarted(Peer* peer) {
  if (peer->standin.empty() || peer->process) return;
  peer->folder = std::make_shared<TemporaryFolder>();
  WriteAll(*peer->folder / "secret", peer->secret + "\n");
  std::vector<std::string> command = {ProgramFolder() + "/pargeter-standin"};
  command.insert(command.end(), peer->standin.begin(), peer->standin.end());
  command.insert(command.end(), {"--listen", "127.0.0.1:0", "--secret-file",
                                 *peer->folder / "secret", "--request-log", peer->LogPath()});
  peer->process = std::make_shared<Background>(command);
  const std::string line = peer->process->ReadLine();
  const std::string words = "listening on ";
  if (line.compare(0, words.size(), words) == 0) peer->endpoint = line.substr(words.size());
}

namespace {

Peer ObjectStandin(const std::vector<std::string>& more) {
  Peer peer;
  peer.name = "standin";
  peer.key_id = "fieldkey";
  peer.secret = "fieldsecret";
  peer.bucket = "herbarium";
  peer.standin = {"objects", "--bucket", peer.bucket};
  peer.standin.insert(peer.standin.end(), more.begin(), more.end());
  return peer;
}

Peer DriveStandin(const std::string& name, const std::vector<std::string>& more) {
  Peer peer;
  peer.name = name;
  peer.kind = "webdav";
  peer.key_id = "curator";
  peer.secret = "pressedflowers";
  peer.standin = {"drive"};
  peer.standin.insert(peer.standin.end(), more.begin(), more.end());
  return peer;
}

}  // namespace

Peer StartStandin(const std::vector<std::string>& more) {
  Peer peer = ObjectStandin(more);
  EnsureStarted(&peer);
  return peer;
}

Peer StartDriveStandin(const std::string& name, const std::vector<std::string>& more) {
  Peer peer = DriveStandin(name, more);
  EnsureStarted(&peer);
  return peer;
}

std::vector<Peer> AllPeers() {
  std::vector<Peer> peers = {ObjectStandin({}),
                             DriveStandin("drive", {}),
                             DriveStandin("drive_silent", {"--silent-put", "--strict-paths"}),
                             DriveStandin("drive_tagless", {"--tagless"}),
                             DriveStandin("drive_untagged_listings", {"--untagged-listings"}),
                             DriveStandin("drive_bare_some", {"--bare-reads-of", ".h"}),
                             DriveStandin("drive_bare", {"--bare-reads"}),
                             DriveStandin("drive_unquoted", {"--unquoted-tags"}),
                             DriveStandin("drive_no_conditions", {"--refuse-conditions"}),
                             DriveStandin("drive_terse", {"--terse-properties"}),
                             DriveStandin("drive_no_properties", {"--no-properties"})};
  const char* given = std::getenv("PARGETER_PEERS");
  for (const std::string& item : Split(given ? given : "", ',')) {
    const auto equals = item.find('=');
    if (equals == std::string::npos) continue;
    Peer peer;
    peer.name = item.substr(0, equals);
    for (const std::string& line : Split(ReadAll(item.substr(equals + 1)), '\n')) {
      const auto at = line.find('=');
      const std::string key = line.substr(0, at),
                        value = at == std::string::npos ? "" : line.substr(at + 1);
      if (key == "S3_ENDPOINT") peer.endpoint = value;
      if (key == "S3_ACCESS_KEY") peer.key_id = value;
      if (key == "S3_SECRET_KEY") peer.secret = value;
      if (key == "S3_BUCKET") peer.bucket = value;
      if (key == "WEBDAV_URL") {
        peer.endpoint = value;
        peer.kind = "webdav";
      }
      if (key == "SFTP_HOST") {
        peer.endpoint = value;
        peer.kind = "sftp";
      }
      if (key == "SFTP_PORT") peer.port = std::atoi(value.c_str());
      if (key == "SFTP_KEY_FILE") peer.key_file = value;
      if (key == "SFTP_KNOWN_HOSTS") peer.known_hosts = value;
      if (key == "WEBDAV_USER" || key == "SFTP_USER") peer.key_id = value;
      if (key == "WEBDAV_PASSWORD") peer.secret = value;
    }
    peers.push_back(peer);
  }
  return peers;
}

s3::S3Options OptionsFor(const Peer& peer, const std::string& prefix) {
  s3::S3Options options;
  options.wire.endpoint = *ParseEndpoint(peer.endpoint);
  options.wire.credentials = {peer.key_id, peer.secret, "us-east-1"};
  options.bucket = peer.bucket;
  options.prefix = prefix;
  return options;
}

webdav::DavOptions DavOptionsFor(const Peer& peer, const std::string& prefix) {
  webdav::DavOptions options;
  options.wire.base = *ParseEndpoint(peer.endpoint);
  options.wire.login = {peer.key_id, peer.secret};
  options.prefix = prefix;
  return options;
}

sftp::SftpOptions SftpOptionsFor(const Peer& peer, const std::string& prefix) {
  sftp::SftpOptions options;
  options.ssh.host = peer.endpoint;
  options.ssh.port = peer.port;
  options.ssh.user = peer.key_id;
  options.ssh.private_key = peer.key_file;
  options.ssh.known_hosts = peer.known_hosts;
  options.prefix = prefix;
  return options;
}

std::unique_ptr<Provider> OpenPeer(const Peer& peer, const std::string& prefix) {
  if (peer.kind == "sftp")
    return std::make_unique<sftp::SftpProvider>(SftpOptionsFor(peer, prefix));
  if (peer.kind == "webdav")
    return std::make_unique<webdav::DavProvider>(DavOptionsFor(peer, prefix));
  s3::S3Options options = OptionsFor(peer, prefix);
  options.part_size = 5u << 20;
  options.multipart_above = 5u << 20;
  return std::make_unique<s3::S3Provider>(options);
}

void SetFault(const Peer& peer, const std::string& fault) {
  HttpClient client({});
  HttpRequest request;
  request.method = fault.empty() ? "DELETE" : "POST";
  request.url = peer.endpoint + "/-/faults";
  request.body = fault;
  Ignore(client.Do(request));
}

std::vector<Logged> ReadLog(const Peer& peer) {
  std::vector<Logged> out;
  std::istringstream lines(ReadAll(peer.LogPath()));
  for (std::string line; std::getline(lines, line);) {
    const auto j = nlohmann::json::parse(line, nullptr, false);
    if (j.is_discarded()) continue;
    out.push_back({j.value("method", ""), j.value("key", ""), j.value("query", ""),
                   j.value("status", 0), j.value("in", std::uint64_t{0}),
                   j.value("out", std::uint64_t{0}), j.value("copy", false)});
  }
  WriteAll(peer.LogPath(), "");
  return out;
}

}  // namespace pargeter::test
