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

Machine::Machine(Peer peer) : peer_(std::move(peer)) {
  environment_ = {{"XDG_CONFIG_HOME", home_ / "config"},
                  {"XDG_STATE_HOME", home_ / "state"},
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

void Machine::AddDrive(const std::string& folder, const std::vector<std::string>& more) {
  const bool s3 = peer_.kind == "s3";
  Outcome added = Pargeter({"account", "add", "museum", "--kind", peer_.kind,
                            s3 ? "--endpoint" : "--url", peer_.endpoint, s3 ? "--key-id" : "--user",
                            peer_.key_id, "--secret-file", Home("key.txt")});
  ASSERT_EQ(added.exit_code, 0) << added.err;
  std::vector<std::string> words = {"drive", "add",  "sheets", "--account",   "museum", "--folder",
                                    folder,  "--at", At(),     "--keep-free", "0"};
  words.insert(words.end(), more.begin(), more.end());
  added = Pargeter(words);
  ASSERT_EQ(added.exit_code, 0) << added.err;
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

Outcome Machine::Shell(const std::string& line, int seconds) {
  return RunCommand({"/bin/sh", "-c", "cd '" + At() + "' && " + line}, "", seconds, environment_);
}

}  // namespace pargeter::test
