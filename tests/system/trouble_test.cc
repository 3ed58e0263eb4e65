// The built program in trouble: both sides change the same file, too much is deleted, the store
// falls silent, the index is damaged, other users look in.
#include <fcntl.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>

#include "support/text_body.h"
#include "system/machine.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;
using testing::Not;

using Json = nlohmann::json;

class MountInTrouble : public OnAMount {
 protected:
  Json StatusOf() {
    const Outcome status = machine_->Pargeter({"--json", "status", "sheets"});
    EXPECT_NE(status.out, "") << status.exit_code << " " << status.err;
    return Json::parse(status.out)["drives"][0];
  }
};

TEST_F(MountInTrouble, AConflictIsListedAndSettled) {
  ASSERT_TRUE(other_->Put("list.csv", "base"));
  MountAll();
  ASSERT_EQ(machine_->Shell("cat list.csv").out, "base");
  ASSERT_TRUE(other_->Put("list.csv", "theirs"));
  machine_->Shell("printf ours > list.csv");
  Flush();
  const Outcome listed = machine_->Pargeter({"--json", "conflicts"});
  ASSERT_EQ(listed.exit_code, 0) << listed.err;
  const Json conflicts = Json::parse(listed.out)["conflicts"];
  ASSERT_EQ(conflicts.size(), 1u) << listed.out;
  const std::string copy = conflicts[0]["path"];
  EXPECT_EQ(conflicts[0]["beside"], At("list.csv"));
  EXPECT_EQ(ReadAll(copy), "ours");
  EXPECT_EQ(ReadAll(At("list.csv")), "theirs");
  EXPECT_EQ(StatusOf()["conflicts"], 1);
  const Outcome unsaid = machine_->Pargeter({"conflicts", "keep", copy});
  EXPECT_EQ(unsaid.exit_code, 2);
  EXPECT_THAT(unsaid.err, HasSubstr("--here"));
  const Outcome kept = machine_->Pargeter({"conflicts", "keep", At("list.csv"), "--here"});
  EXPECT_EQ(kept.exit_code, 0) << kept.err;
  EXPECT_EQ(ReadAll(At("list.csv")), "ours") << "at once, whatever the kernel knew of the name";
  Flush();
  EXPECT_EQ(other_->Get("list.csv"), "ours");
  EXPECT_EQ(other_->All(), std::vector<std::string>{"list.csv"});
  EXPECT_EQ(machine_->Pargeter({"conflicts"}).out, "There are no conflicts.\n");
  EXPECT_EQ(machine_->Pargeter({"conflicts", "keep", At("list.csv"), "--both"}).exit_code, 3);
}

// A container that began while it was mounted has a copy of the mount, and does not let go of it.
TEST_F(MountInTrouble, AnUnmountEndsItsProcessThoughAContainerHasTheMountToo) {
  MountAll();
  Background container({"unshare", "--mount", "--propagation", "private", "sh", "-c",
                        "echo inside; exec sleep 120"});
  if (container.ReadLine() != "inside") GTEST_SKIP() << "no mount namespace can be made here";
  machine_->Shell("echo fern > fern");
  const pid_t daemon = machine_->DaemonPid();
  const Outcome gone = machine_->Pargeter({"unmount", "sheets"}, 60);
  EXPECT_EQ(gone.exit_code, 0) << gone.err;
  EXPECT_TRUE(Eventually([&] { return ::kill(daemon, 0) != 0; })) << "the process lives on";
  machine_->Mount();
  EXPECT_EQ(machine_->Shell("cat fern").out, "fern\n");
}

// It is killed while it tells the kernel of a name in a folder which somebody holds who waits for
// it.
TEST_F(MountInTrouble, KilledAmidAWordToTheKernelItLeavesNobodyHanging) {
  std::error_code none;
  if (::geteuid() != 0 && std::filesystem::is_empty("/sys/fs/fuse/connections", none))
    GTEST_SKIP() << "the kernel's list of FUSE connections is not to be had here";
  ASSERT_TRUE(other_->Put("d/fern", "f") && other_->Put("d/loans/1907", "l"));
  MountAll();
  ASSERT_EQ(machine_->Shell("ls d").out, "fern\nloans\n");
  const pid_t daemon = machine_->DaemonPid();
  ASSERT_GT(daemon, 1);
  SetFault(machine_->peer(), "stall=60000");
  Background holds({"rmdir", At("d/loans")});  // the store is asked what is in it
  const auto waits = [](pid_t process, const char* how) {
    std::error_code gone;
    for (const auto& thread :
         std::filesystem::directory_iterator("/proc/" + std::to_string(process) + "/task", gone))
      if (ReadAll(thread.path() / "stat").find(how) != std::string::npos) return true;
    return false;
  };
  ASSERT_TRUE(Eventually([&] { return waits(holds.pid(), "(rmdir) S "); }));
  Background tells({ProgramFolder() + "/pargeter", "rule", "add", At("d/fern"), "hide"},
                   machine_->environment());
  int seen = 0;  // for a while: nor is it the disk that it waits for
  ASSERT_TRUE(Eventually([&] { return (seen = waits(daemon, ") D ") ? seen + 1 : 0) > 20; }));
  ::kill(daemon, SIGKILL);
  EXPECT_NE(holds.Wait(20), 124);
  EXPECT_NE(tells.Wait(20), 124);
  SetFault(machine_->peer(), "");
  machine_->Mount();
  EXPECT_EQ(machine_->Shell("cat d/loans/1907").out, "l");
}

// Nobody tells the process that a file was closed, once its mount is gone.
TEST_F(MountInTrouble, WhatIsOpenWhenTheMountGoesIsUploadedAtTheEnd) {
  MountAll();
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  Background mount({ProgramFolder() + "/pargeter", "mount", "sheets"}, machine_->environment(),
                   machine_->Home("said"));
  ASSERT_THAT(mount.ReadLine(), HasSubstr("is mounted at"));
  Background writer(
      {"sh", "-c", "exec 3>\"$0\"; echo fern >&3; echo written; exec sleep 120", At("fern")});
  ASSERT_EQ(writer.ReadLine(), "written");
  mount.Signal(SIGTERM);
  EXPECT_EQ(mount.Wait(25), 0) << "it waits for what cannot come";
  EXPECT_EQ(other_->Get("fern"), "fern\n") << ReadAll(machine_->Home("said"));
}

// Only the process has it then.
TEST_F(MountInTrouble, WhatWouldBeLostIsSaidBeforeTheMountGoes) {
  MountAll();
  SetFault(machine_->peer(), "away=600000");
  ASSERT_EQ(machine_->Shell("echo fern > fern").exit_code, 0);
  std::filesystem::remove_all(machine_->Home("state/pargeter/drives/sheets"));
  const Outcome waits = machine_->Pargeter({"flush", "sheets", "--timeout", "1s"});
  EXPECT_THAT(waits.err, Not(HasSubstr("safe"))) << waits.err;
  const Outcome refused = machine_->Pargeter({"unmount", "sheets", "--timeout", "1s"});
  EXPECT_EQ(refused.exit_code, 4);
  EXPECT_THAT(refused.err, HasSubstr("would be lost")) << refused.err;
  EXPECT_EQ(machine_->Shell("cat fern").out, "fern\n") << "it can be copied out";
  const Outcome given_up = machine_->Pargeter({"unmount", "sheets", "--now"});
  EXPECT_THAT(given_up.out, HasSubstr("1 change is lost")) << given_up.out;
}

TEST_F(MountInTrouble, ADriveIsNotRemovedWithWhatIsOnlyHere) {
  MountAll();
  const auto refused = [&](std::vector<std::string> words, const std::string& why) {
    const Outcome got = machine_->Pargeter(std::move(words));
    EXPECT_EQ(got.exit_code, 4);
    EXPECT_THAT(got.err, HasSubstr(why)) << got.err;
  };
  ASSERT_EQ(machine_->Shell("mkdir drafts && echo fern > drafts/fern").exit_code, 0);
  ASSERT_EQ(machine_->Pargeter({"rule", "add", At("drafts"), "local"}).exit_code, 0);
  Flush();
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  refused({"drive", "remove", "sheets"}, "1 file that a rule keeps on this disk only");
  machine_->Mount();
  SetFault(machine_->peer(), "away=600000");
  ASSERT_EQ(machine_->Shell("echo moss > moss").exit_code, 0);
  refused({"drive", "change", "sheets", "--read-only"}, "1 change that no store has yet");
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets", "--now"}).exit_code, 0);
  refused({"drive", "remove", "sheets"}, "1 change that no store has yet");
  const std::string index = machine_->Home("state/pargeter/drives/sheets/index.db");
  for (const char* ending : {"", "-wal", "-shm"}) std::filesystem::remove(index + ending);
  refused({"drive", "remove", "sheets"}, "changes that no store has yet");
  EXPECT_EQ(machine_->Pargeter({"drive", "remove", "sheets", "--discard-pending"}).exit_code, 0);
}

// It answers no more, and is not gone yet.
TEST_F(MountInTrouble, AProcessThatIsDyingKeepsNobodyFromMounting) {
  MountAll();
  machine_->Shell("echo fern > fern");
  const pid_t daemon = machine_->DaemonPid();
  ASSERT_GT(daemon, 1);
  ::kill(daemon, SIGSTOP);
  Background mount({ProgramFolder() + "/pargeter", "mount", "sheets", "--detach"},
                   machine_->environment(), machine_->Home("said"));
  const std::string fds = "/proc/" + std::to_string(mount.pid()) + "/fd";
  EXPECT_TRUE(Eventually([&] {
    std::error_code ec;
    for (const auto& fd : std::filesystem::directory_iterator(fds, ec))
      if (std::filesystem::read_symlink(fd, ec).string().rfind("socket:", 0) == 0) return true;
    return false;
  })) << "it asks the one that is there";
  ::kill(daemon, SIGKILL);
  RunCommand({"umount", "-l", machine_->At()}, "", 20);
  EXPECT_EQ(mount.Wait(30), 0) << ReadAll(machine_->Home("said"));
  EXPECT_EQ(machine_->Shell("cat fern").out, "fern\n");
}

TEST_F(MountInTrouble, ManyDeletionsWaitForAWord) {
  for (int i = 0; i < 60; ++i) ASSERT_TRUE(other_->Put("d/" + std::to_string(i), "x"));
  MountAll({"--hold-deletions", "30,0.25"});
  machine_->Shell("ls d");
  machine_->Shell("rm -r d");
  EXPECT_EQ(machine_->Shell("ls").out, "");
  Flush();
  EXPECT_EQ(StatusOf()["held"]["files"], 60);
  EXPECT_THAT(machine_->Pargeter({"status", "sheets"}).out, HasSubstr("queue release sheets"));
  EXPECT_GE(other_->All().size(), 60u);
  EXPECT_EQ(machine_->Pargeter({"queue", "sheets"})
                .out.find("sheets: nothing waits; 60 deletions are held back\n"),
            0u);
  // unmounting does not wait for them, and mounting does not let them go
  const Outcome unmounted = machine_->Pargeter({"unmount", "sheets"});
  ASSERT_EQ(unmounted.exit_code, 0);
  EXPECT_EQ(unmounted.out,
            "sheets is unmounted; everything is at the store; 60 deletions are held back.\n");
  machine_->Mount();
  EXPECT_EQ(StatusOf()["held"]["files"], 60);
  ASSERT_EQ(machine_->Pargeter({"queue", "drop", "sheets"}).exit_code, 0);
  EXPECT_TRUE(Eventually([&] { return machine_->Shell("ls d | wc -l").out == "60\n"; }));
  EXPECT_EQ(machine_->Shell("cat d/7").out, "x");
  machine_->Shell("rm -r d");
  ASSERT_EQ(machine_->Pargeter({"queue", "release", "sheets"}).exit_code, 0);
  Flush();
  EXPECT_TRUE(other_->All().empty());
}

// A store that takes connections and says nothing, as behind a pulled plug.
TEST_F(MountInTrouble, ASilentStoreIsNoticedWithinTwoSeconds) {
  for (const char* name : {"here", "away", "far", "gone"}) ASSERT_TRUE(other_->Put(name, name));
  MountAll();
  ASSERT_EQ(machine_->Shell("ls; cat here").out, "away\nfar\ngone\nhere\nhere");
  ::kill(machine_->peer().process->pid(), SIGSTOP);
  const auto seconds = [&](const std::string& line, int wanted) {
    const auto start = std::chrono::steady_clock::now();
    EXPECT_EQ(machine_->Shell(line).exit_code, wanted) << line;
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  };
  EXPECT_LT(seconds("cat away", 1), 3.0) << "two seconds, and some for a busy machine";
  EXPECT_LT(seconds("cat far", 1), 1.0) << "not one time-out per file";
  EXPECT_LT(seconds("cat here && ls && echo new > new", 0), 1.5);
  EXPECT_FALSE(StatusOf()["online"].get<bool>());
  EXPECT_NE(StatusOf()["offline_since"], "");
  ::kill(machine_->peer().process->pid(), SIGCONT);
  EXPECT_TRUE(Eventually([&] { return StatusOf()["online"].get<bool>(); }, 30));
  EXPECT_EQ(machine_->Shell("cat gone").out, "gone");
  Flush();
  EXPECT_EQ(other_->Get("new"), "new\n");
}

// Each piece of a larger file comes without a digest: that it is wrong shows only at its end.
// Others find the mount as quick as ever.
TEST_F(MountInTrouble, ManyWhoWaitForASlowStoreAreInNobodysWay) {
  for (int i = 0; i < 150; ++i) other_->Put("slow" + std::to_string(i), "slow");
  other_->Put("here", "here");
  MountAll();
  EXPECT_EQ(machine_->Shell("cat here; ls | wc -l").out, "here151\n");
  SetFault(machine_->peer(), "stall=15000,method=GET,key=slow");
  std::vector<Background> readers;
  for (int i = 0; i < 150; ++i)
    readers.emplace_back(std::vector<std::string>{"cat", At("slow" + std::to_string(i))});
  for (int i = 0; i < 150; ++i)
    ASSERT_TRUE(Eventually([&] {
      std::error_code failed;
      const std::string open = "/proc/" + std::to_string(readers[i].pid()) + "/fd/3";
      return std::filesystem::read_symlink(open, failed) == At("slow" + std::to_string(i));
    }));
  const Outcome others = machine_->Shell("cat here; echo new > new; mkdir d; mv new d; ls d", 10);
  EXPECT_EQ(others.exit_code, 0) << others.err;
  EXPECT_EQ(others.out, "herenew\n");
  SetFault(machine_->peer(), "");
}

TEST_F(MountInTrouble, BytesThatAreWrongOnTheWayAreNeitherReadNorKept) {
  const std::string scan = std::string(5'000'000, 's'), label = "Silene vulgaris";
  ASSERT_TRUE(other_->Put("scan", scan));
  for (const char* name : {"label", "list"}) ASSERT_TRUE(other_->Put(name, label));
  MountAll();
  SetFault(machine_->peer(), "corrupt,method=GET,key=label,times=1");
  EXPECT_EQ(machine_->Shell("cat label").out, label) << "asked for once more";
  SetFault(machine_->peer(), "corrupt,method=GET,key=list");
  EXPECT_NE(machine_->Shell("cat list").exit_code, 0);
  SetFault(machine_->peer(), "corrupt,method=GET,key=scan,times=1");
  EXPECT_NE(machine_->Shell("cat scan > /dev/null").exit_code, 0);
  EXPECT_EQ(machine_->Shell("stat -c %b scan").out, "1\n") << "nothing of it is kept";
  SetFault(machine_->peer(), "");
  EXPECT_TRUE(ReadAll(machine_->At("scan")) == scan);
  EXPECT_EQ(ReadAll(machine_->At("list")), label);
}

TEST_F(MountInTrouble, SoItIsWithWhatWentUpInParts) {
  const std::string map(34'000'000, 'm');
  MountAll();
  WriteAll(machine_->At("map"), map);
  Flush();
  ASSERT_EQ(machine_->Pargeter({"evict", machine_->At("map")}).exit_code, 0);
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);  // the kernel has it, too
  machine_->Mount();
  SetFault(machine_->peer(), "corrupt,method=GET,key=map,times=1");
  EXPECT_NE(machine_->Shell("cat map > /dev/null").exit_code, 0);
  EXPECT_EQ(machine_->Shell("stat -c %b map").out, "1\n") << "nothing of it is kept";
  SetFault(machine_->peer(), "");
  EXPECT_TRUE(ReadAll(machine_->At("map")) == map);
  EXPECT_THAT(machine_->Pargeter({"verify", machine_->At("map")}).out, HasSubstr("1 file right"));
}

// Nobody knows the size of their parts; it may be taken for ours, as there are as many of them.
TEST_F(MountInTrouble, WhatOthersSentInPartsComesOnce) {
  const std::string map(20'000'000, 'm');
  Provider& store = other_->store();
  const auto upload = store.BeginParts("map", {}, nullptr);
  ASSERT_TRUE(upload.ok());
  std::vector<UploadedPart> parts;
  for (const std::size_t size : {15u << 20, 20'000'000u - (15u << 20)}) {
    TextSource source(std::string(size, 'm'));
    const auto part =
        store.WritePart(*upload, static_cast<int>(parts.size()) + 1, &source, nullptr);
    ASSERT_TRUE(part.ok());
    parts.push_back(*part);
  }
  ASSERT_TRUE(store.CompleteParts(*upload, parts, Precondition::Anything(), nullptr).ok());
  MountAll();
  Requests();
  EXPECT_TRUE(ReadAll(machine_->At("map")) == map);
  EXPECT_THAT(machine_->Pargeter({"verify", machine_->At("map")}).out,
              HasSubstr("without a digest"))
      << machine_->Pargeter({"verify", machine_->At("map")}).out;
  std::uint64_t came = 0;
  for (const Logged& line : Requests())
    if (line.method == "GET" && line.key == "sheets/map") came += line.out;
  EXPECT_EQ(came, map.size());
}

// A small one comes in one piece, and its version is no digest of that.
TEST_F(MountInTrouble, SoItIsWithASmallFileThatWentUpAsOnePart) {
  const std::string text(3000, 'n');
  TextSource source(text);
  Provider& store = other_->store();
  const auto upload = store.BeginParts("note", {}, nullptr);
  ASSERT_TRUE(upload.ok());
  const auto part = store.WritePart(*upload, 1, &source, nullptr);
  ASSERT_TRUE(part.ok());
  ASSERT_TRUE(store.CompleteParts(*upload, {*part}, Precondition::Anything(), nullptr).ok());
  MountAll();
  SetFault(machine_->peer(), "corrupt,method=GET,key=note,times=1");
  EXPECT_NE(machine_->Shell("cat note").exit_code, 0);
  EXPECT_EQ(machine_->Shell("stat -c %b note").out, "1\n") << "nothing of it is kept";
  SetFault(machine_->peer(), "");
  EXPECT_EQ(ReadAll(machine_->At("note")), text);
}

TEST_F(MountInTrouble, ADamagedIndexIsMadeAnewAtTheNextMount) {
  ASSERT_TRUE(other_->Put("d/old", "old"));
  MountAll();
  machine_->Shell("cat d/old");
  ::kill(machine_->peer().process->pid(), SIGSTOP);
  machine_->Shell("printf waiting > d/new; timeout 5 cat nothing");
  machine_->Pargeter({"unmount", "sheets", "--now"});
  ::kill(machine_->peer().process->pid(), SIGCONT);
  const std::string index = machine_->Home("state/pargeter/drives/sheets/index.db");
  for (const char* ending : {"-wal", "-shm"}) std::filesystem::remove(index + ending);
  WriteAll(index, std::string(8192, 'Z'));
  machine_->Mount();
  EXPECT_EQ(machine_->Shell("cat d/old d/new").out, "oldwaiting");
  Flush();
  EXPECT_EQ(other_->Get("d/new"), "waiting");
}

// ---- other users

class SharedMount : public MountInTrouble {
 protected:
  void SetUp() override {
    MountInTrouble::SetUp();
    if (::geteuid() != 0) GTEST_SKIP() << "only root can act as another user";
    ASSERT_TRUE(other_->Put("open", "for all"));
  }
  Outcome AsNobody(const std::string& line) {
    for (std::string at = At(); at.size() > 1; at = at.substr(0, at.rfind('/')))
      if (at != At()) ::chmod(at.c_str(), at == "/tmp" ? 01777 : 0755);
    return RunCommand({"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "sh", "-c",
                       "cd / && " + line});
  }
};

TEST_F(SharedMount, OthersSeeNothingUnlessItIsShared) {
  MountAll();
  EXPECT_EQ(AsNobody("cat " + At("open")).exit_code, 1);
  EXPECT_EQ(AsNobody("ls " + At()).exit_code, 2);
  machine_->Shell("echo pending > new");
  const Outcome open_to_others =
      RunCommand({"find", machine_->Home("state"), machine_->Home("config"), "-mindepth", "1", "!",
                  "-type", "l", "-perm", "/077"});
  EXPECT_EQ(open_to_others.out, "");
  EXPECT_EQ(machine_->Shell("cat open").out, "for all");
}

TEST_F(SharedMount, SharedTheirPermissionsAreEnforced) {
  MountAll({"--share-with", "all"});
  machine_->Shell("printf secret > private && chmod 600 private && mkdir drop && chmod 1777 drop");
  EXPECT_EQ(AsNobody("cat " + At("open")).out, "for all");
  EXPECT_EQ(AsNobody("cat " + At("private")).exit_code, 1);
  EXPECT_EQ(AsNobody("echo x >> " + At("open")).exit_code, 2) << "not theirs to write";
  EXPECT_EQ(AsNobody("rm -f " + At("open")).exit_code, 1);
  EXPECT_EQ(AsNobody("echo mine > " + At("drop/theirs")).exit_code, 0);
  struct stat info {};
  ASSERT_EQ(::stat(At("drop/theirs").c_str(), &info), 0);
  EXPECT_EQ(info.st_uid, 65534u);
  EXPECT_EQ(AsNobody("chmod 777 " + At("private")).exit_code, 1);
}

// The index is lost, and a listing of this store tells no modes.
TEST_F(SharedMount, WhatIsPrivateIsNotTheirsBeforeItsModeIsKnown) {
  MountAll({"--share-with", "all"});
  machine_->Shell("printf secret > private && chmod 600 private && printf all > public");
  Flush();
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  std::filesystem::remove_all(machine_->Home("state/pargeter/drives/sheets"));
  machine_->Mount();
  EXPECT_EQ(machine_->Shell("ls -l").exit_code, 0);
  EXPECT_EQ(AsNobody("cat " + At("private")).exit_code, 1);
  EXPECT_EQ(AsNobody("cat " + At("open")).out, "for all");
  EXPECT_EQ(AsNobody("cat " + At("public")).out, "all");
  EXPECT_EQ(AsNobody("stat -c %a " + At("private")).out, "600\n");
}

TEST_F(SharedMount, AFolderProtectsWhatIsInItBeforeItsModeIsKnown) {
  MountAll({"--share-with", "all"});
  machine_->Shell(
      "mkdir -m 700 closed && printf secret > closed/sheet && mkdir -m 755 theirs && printf all > "
      "theirs/sheet && printf '#!/bin/sh\necho ran' > tool && chmod 755 tool");
  Flush();
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  std::filesystem::remove_all(machine_->Home("state/pargeter/drives/sheets"));
  machine_->Mount();
  EXPECT_EQ(AsNobody("cat " + At("closed/sheet")).exit_code, 1);
  EXPECT_EQ(AsNobody("cat " + At("theirs/sheet")).out, "all");
  EXPECT_EQ(AsNobody("stat -c %a " + At("closed")).out, "700\n");
  EXPECT_EQ(machine_->Shell("cat closed/sheet").out, "secret");
  EXPECT_EQ(machine_->Shell("ls -l >list; ./tool").out, "ran\n") << "though ls said 644";
}

TEST_F(MountInTrouble, NewSettingsAndANewKeyAreTakenInWithoutUnmounting) {
  MountAll();
  WriteAll(At("list.csv"), "fern");
  Flush();
  ASSERT_EQ(machine_->Pargeter({"drive", "change", "sheets", "--cache-limit", "64MiB"}).exit_code,
            0);
  ASSERT_EQ(machine_->Pargeter({"drive", "change", "sheets", "--share-with", "all"}).exit_code, 0);
  const Outcome refreshed = machine_->Pargeter({"--json", "refresh", "sheets"});
  ASSERT_EQ(refreshed.exit_code, 0) << refreshed.err;
  const Json said = Json::parse(refreshed.out)["drives"][0];
  EXPECT_EQ(said["applied"], Json({"cache limit"}));
  EXPECT_EQ(said["needs_remount"], Json({"shared with"}));
  EXPECT_EQ(StatusOf()["cache"]["limit"], 64u << 20);
  // the key is changed for a wrong one, and back
  const std::string secrets = machine_->Home("config/pargeter/secrets.toml");
  const std::string right = ReadAll(secrets);
  WriteAll(secrets, "[museum]\nsecret = \"wrong\"\n");
  const Outcome wrong = machine_->Pargeter({"refresh", "sheets"});
  EXPECT_EQ(wrong.exit_code, 6) << wrong.out << wrong.err;
  WriteAll(secrets, right);
  EXPECT_EQ(machine_->Pargeter({"refresh", "sheets"}).exit_code, 0);
  EXPECT_EQ(ReadAll(At("list.csv")), "fern");
}

TEST_F(MountInTrouble, TheDoctorNamesWhatACrashLeft) {
  MountAll();
  const Outcome well = machine_->Pargeter({"doctor"});
  EXPECT_EQ(well.exit_code, 0) << well.out << well.err;
  EXPECT_THAT(well.out, HasSubstr("a mount whose process is killed")) << well.out;
  ASSERT_TRUE(machine_->KillDaemon());
  ASSERT_TRUE(Eventually([&] { return !StatusOf()["running"].get<bool>(); }));
  const Outcome ill = machine_->Pargeter({"--json", "doctor"});
  EXPECT_EQ(ill.exit_code, 1);
  EXPECT_THAT(ill.out, HasSubstr("dead mount")) << ill.out;
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  EXPECT_EQ(machine_->Pargeter({"doctor"}).exit_code, 0);
  ::chmod(machine_->Home("config/pargeter/secrets.toml").c_str(), 0644);
  const Outcome open = machine_->Pargeter({"doctor"});
  EXPECT_EQ(open.exit_code, 1);
  EXPECT_THAT(open.out, HasSubstr("can be read by other users")) << open.out;
}

}  // namespace
}  // namespace pargeter::test
