#include "system/machine.h"

#include <signal.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "support/text_body.h"

namespace pargeter::test {
bool OtherClient::Put(const std::string& path, const std::string& text) {
  TextSource source(text);
  return store_->Write(path, &source, {}, Precondition::Anything(), nullptr).ok();
}
std::string OtherClient::Get(const std::string& path) {
  const auto there = store_->Look(path, nullptr);
  if (!there.ok() || there->kind == Kind::kFolder) return "(none)";
  TextSink sink;
  return store_->Read(path, "", 0, there->size, &sink, nullptr).ok() ? sink.text : "(failed)";
}
std::vector<std::string> OtherClient::All() {
  std::vector<std::string> names;
  for (std::string next;;) {
    const auto page = store_->ListDeep("", next, nullptr);
    if (!page.ok()) return {"(failed)"};
    for (const Entry& e : page->entries) names.push_back(e.name);
    next = page->next;
    if (next.empty()) return names;
  }
}
void OtherClient::Delete(const std::vector<std::string>& paths) {
  std::vector<Provider::Removal> removals;
  for (const std::string& path : paths) removals.push_back({path, ""});
  const auto failed = store_->RemoveMany(removals, nullptr);
  EXPECT_TRUE(failed.ok() && failed->empty());
}

Machine::Machine(Peer peer, const std::string& state) : peer_(std::move(peer)) {
  environment_ = {{"XDG_CONFIG_HOME", home_ / "config"},
                  {"XDG_STATE_HOME", state.empty() ? home_ / "state" : state},
                  {"XDG_RUNTIME_DIR", home_ / "run"},
                  {"HOME", home_.path()}};
  for (const char* folder : {"config", "state", "run"})
    std::filesystem::create_directory(home_ / folder);
  WriteAll(home_ / "key.txt", peer_.secret + "\n");
}

Machine::~Machine() {
  Pargeter({"unmount", "sheets", "--now"}, 30);
  RunCommand({"umount", "-l", At()}, "", 10);
  if (::getenv("PARGETER_SHOW_LOG"))
    std::printf("%s\n", ReadAll(home_ / "state/pargeter/drives/sheets/mount.log").c_str());
}

Outcome Machine::Pargeter(std::vector<std::string> words, int seconds) {
  words.insert(words.begin(), ProgramFolder() + "/pargeter");
  return RunCommand(words, "", seconds, environment_);
}

void Machine::AddAccount(const std::string& name, const Peer& peer) {
  std::vector<std::string> words = {"account", "add", name, "--kind", peer.kind};
  const auto with = [&](const std::vector<std::string>& some) {
    words.insert(words.end(), some.begin(), some.end());
  };
  if (peer.kind == "s3")
    with({"--endpoint", peer.endpoint, "--key-id", peer.key_id});
  else if (peer.kind == "sftp")
    with({"--host", peer.endpoint, "--port", std::to_string(peer.port), "--user", peer.key_id,
          "--private-key", peer.key_file, "--known-hosts", peer.known_hosts});
  else
    with({"--url", peer.endpoint});
  if (peer.kind == "webdav" && grants_)
    with({"--sign-in"});
  else if (peer.kind == "webdav")
    with({"--user", peer.key_id});
  if (peer.kind != "sftp" && !grants_) {
    WriteAll(Home(name + ".key"), peer.secret + "\n");
    with({"--secret-file", Home(name + ".key")});
  }
  const Outcome added = Pargeter(words);
  ASSERT_EQ(added.exit_code, 0) << added.err;
}

void Machine::AddDrive(const std::string& folder, const std::vector<std::string>& more) {
  AddAccount("museum", peer_);
  std::vector<std::string> words = {"drive", "add",  "sheets", "--account",   "museum", "--folder",
                                    folder,  "--at", At(),     "--keep-free", "0"};
  words.insert(words.end(), more.begin(), more.end());
  const Outcome added = Pargeter(words);
  ASSERT_EQ(added.exit_code, 0) << added.err;
}

// The person at the browser: grants what the code that a command shows is for.
Outcome Machine::SignIn(const std::string& person, const std::string& answer) {
  WriteAll(Home("sign-in.txt"), "");
  Background command({ProgramFolder() + "/pargeter", "account", "sign-in", "museum", "--device"},
                     environment_, Home("sign-in.txt"));
  std::string said;
  Eventually([&] {
    said = ReadAll(Home("sign-in.txt"));
    return said.find("user_code=") != std::string::npos && said.back() == '\n';
  });
  const auto at = said.rfind("user_code=");
  const std::string code = at == std::string::npos ? "" : said.substr(at + 10, 9);
  RunCommand({"/usr/bin/curl", "-s", "-d",
              "user_code=" + code + "&person=" + person + "&answer=" + answer,
              peer_.endpoint + "/-/oauth/code"});
  Outcome out;
  out.exit_code = command.Wait(30);
  out.err = ReadAll(Home("sign-in.txt"));
  return out;
}

void Machine::Mount() {
  const Outcome mounted = Pargeter({"mount", "sheets", "--detach"});
  ASSERT_EQ(mounted.exit_code, 0) << mounted.err;
}

pid_t Machine::DaemonPid() {
  const Outcome status = Pargeter({"status", "--json"});
  const auto json = nlohmann::json::parse(status.out, nullptr, false);
  if (!json.is_object() || json["drives"].empty() || !json["drives"][0]["pid"].is_number())
    return -1;
  return json["drives"][0]["pid"];
}

bool Machine::KillDaemon() {
  const pid_t pid = DaemonPid();
  return pid > 1 && ::kill(pid, SIGKILL) == 0;
}

Outcome Machine::Shell(const std::string& line, int seconds) {
  return RunCommand({"/bin/sh", "-c", "cd '" + At() + "' && " + line}, "", seconds, environment_);
}

}  // namespace pargeter::test
