// A user's machine for system tests: a home of its own, the built program, a store.
#pragma once

#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "provider/s3/s3_provider.h"
#include "support/peers.h"

namespace pargeter::test {

inline std::uint64_t FromEnvironment(const char* name, std::uint64_t otherwise) {
  const char* given = std::getenv(name);
  return given ? std::strtoull(given, nullptr, 10) : otherwise;
}
inline bool FuseWorks() { return ::access("/dev/fuse", R_OK | W_OK) == 0; }

// Text in, text out, past any mount: the other client.
class OtherClient {
 public:
  explicit OtherClient(const Peer& peer, const std::string& prefix = "")
      : store_(OpenPeer(peer, prefix)) {}
  bool Put(const std::string& path, const std::string& text);
  std::string Get(const std::string& path);  // "(none)" if it is not there
  std::vector<std::string> All();            // every key, sorted by the store
  void Delete(const std::vector<std::string>& paths);
  Provider& store() { return *store_; }

 private:
  std::unique_ptr<Provider> store_;
};

class Machine {
 public:
  // `state`: a folder of its own for it, as on a disk that the test takes away.
  explicit Machine(Peer peer, const std::string& state = "");
  ~Machine();  // takes its mounts away, whatever happened
  Outcome Pargeter(std::vector<std::string> words, int seconds = 60);
  void AddAccount(const std::string& name, const Peer& peer);
  // Adds the account "museum" and the drive "sheets" at At(), and mounts it.
  void AddDrive(const std::string& folder, const std::vector<std::string>& more = {});
  void Mount();
  void UseGrants() { grants_ = true; }  // before AddDrive: tokens instead of a password
  Outcome SignIn(const std::string& person, const std::string& answer = "grant");
  std::string At(const std::string& path = "") const {
    return home_.path() + "/sheets" + (path.empty() ? "" : "/" + path);
  }
  std::string Home(const std::string& path) const { return home_.path() + "/" + path; }
  pid_t DaemonPid();  // -1 if none is known, and nothing may be sent to that
  bool KillDaemon();
  // Runs a shell line in the mount, at most `seconds`.
  Outcome Shell(const std::string& line, int seconds = 60);
  const Peer& peer() const { return peer_; }
  const std::map<std::string, std::string>& environment() const { return environment_; }

 private:
  Peer peer_;
  bool grants_ = false;
  TemporaryFolder home_;
  std::map<std::string, std::string> environment_;
};

// A stand-in, a machine that mounts it, and another client of the same bucket.
class OnAMount : public testing::Test {
 protected:
  void SetUp() override {
    if (!FuseWorks()) GTEST_SKIP() << "no access to /dev/fuse";
    machine_ = std::make_unique<Machine>(StartStandin());
    other_ = std::make_unique<OtherClient>(machine_->peer(), "sheets/");
  }
  void MountAll(const std::vector<std::string>& more = {}) {
    machine_->AddDrive("herbarium/sheets", more);
    machine_->Mount();
  }
  void Flush() {
    const Outcome flushed = machine_->Pargeter({"flush", "sheets", "--timeout", "40s"});
    ASSERT_EQ(flushed.exit_code, 0) << flushed.err;
  }
  // The log's requests that are not the drive's own trials.
  std::vector<Logged> Requests() {
    std::vector<Logged> out;
    for (const Logged& line : ReadLog(machine_->peer())) {
      if (line.key.find(".pargeter-scratch-") == std::string::npos) out.push_back(line);
    }
    return out;
  }
  std::string At(const std::string& path = "") const { return machine_->At(path); }
  std::unique_ptr<Machine> machine_;
  std::unique_ptr<OtherClient> other_;
};

}  // namespace pargeter::test
