// The built program on a real mount.
#include <fcntl.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <linux/falloc.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <cerrno>
#include <nlohmann/json.hpp>

#include "system/machine.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

class MountTest : public OnAMount {
 protected:
  // Names may still be answered from the kernel's memory; this asks the daemon.
  bool IsDead() const {
    struct statvfs info {};
    return ::statvfs(At().c_str(), &info) != 0;
  }
};

TEST_F(MountTest, WorkDoneInItIsAtTheStore) {
  MountAll();
  const Outcome work = machine_->Shell(
      "mkdir -p a/b && echo one > a/one && cp a/one a/b/two && mv a/b/two a/b/three && echo more "
      ">> a/b/three && "
      "rm a/one && ln -s b/three a/link && cat a/link && printf x > f.tmp && mv f.tmp f && sed -i "
      "s/x/y/ f");
  ASSERT_EQ(work.exit_code, 0) << work.err;
  EXPECT_EQ(work.out, "one\nmore\n");
  Flush();
  EXPECT_EQ(other_->All(), (std::vector<std::string>{"a/", "a/b/", "a/b/three", "a/link", "f"}));
  EXPECT_EQ(other_->Get("a/b/three"), "one\nmore\n");
  EXPECT_EQ(other_->Get("f"), "y");
}

TEST_F(MountTest, WorkOfOthersShowsHere) {
  ASSERT_TRUE(other_->Put("list.csv", "1"));
  MountAll({"--fresh-for", "100ms"});
  EXPECT_EQ(machine_->Shell("cat list.csv").out, "1");
  ASSERT_TRUE(other_->Put("list.csv", "two"));
  ASSERT_TRUE(other_->Put("deep/down/new", "n"));
  EXPECT_TRUE(
      Eventually([&] { return machine_->Shell("cat list.csv deep/down/new").out == "twon"; }));
  other_->Delete({"list.csv"});
  EXPECT_TRUE(Eventually([&] { return machine_->Shell("ls").out == "deep\n"; }));
}

TEST_F(MountTest, EachJobAsksTheStoreAsLittleAsItSays) {
  for (int i = 0; i < 900; ++i) ASSERT_TRUE(other_->Put("many/n" + std::to_string(i), "x"));
  ASSERT_TRUE(other_->Put("small", "content"));
  std::string sheet(3 << 20, 's');
  ASSERT_TRUE(other_->Put("sheet", sheet));
  MountAll({"--fresh-for", "1h"});  // nothing is listed by itself, however long this takes
  machine_->Shell("touch warm; cat warm");
  Flush();
  machine_->Shell("ls");
  Requests();
  EXPECT_EQ(machine_->Shell("cat small").out, "content");
  auto log = Requests();
  ASSERT_EQ(log.size(), 1u) << "cat of a small file";
  EXPECT_EQ(log[0].method, "GET");

  EXPECT_EQ(machine_->Shell("ls -l many | wc -l").out, "901\n");
  EXPECT_EQ(Requests().size(), 1u) << "ls -l of 900 keys";

  ASSERT_TRUE(other_->Put("made/", ""));
  ASSERT_EQ(machine_->Pargeter({"refresh", "sheets"}).exit_code, 0);
  Requests();
  machine_->Shell("ls made");
  ASSERT_TRUE(Eventually([&] {
    const auto more = Requests();
    log.insert(log.end(), more.begin(), more.end());
    return log.size() >= 3;
  })) << log.size();
  EXPECT_EQ(log[1].method + log[2].method, "GETHEAD") << "a folder that another machine made";

  machine_->Shell("cp ../key.txt copied");
  Flush();
  log = Requests();
  EXPECT_EQ(log.size(), 1u) << "cp in of one small file";
  machine_->Shell("echo changed > copied");
  Flush();
  EXPECT_LE(Requests().size(), 2u) << "overwriting it";

  machine_->Shell("chmod 600 copied");
  Flush();
  log = Requests();
  ASSERT_EQ(log.size(), 2u) << "new attributes: a look, and a copy onto itself";
  EXPECT_EQ(log[0].method, "HEAD");
  EXPECT_EQ(log[1].method, "PUT");
  EXPECT_LT(log[1].in, 1000u);

  machine_->Shell(
      "exec 3<>sheet; for at in $(seq 0 100000 3000000); do printf N | dd of=sheet bs=1 seek=$at "
      "conv=notrunc status=none; done");
  Flush();
  std::string asked;
  for (const Logged& line : Requests()) asked += line.method + " ";
  EXPECT_EQ(asked, "HEAD GET PUT ") << "many changes of a file that is not here";
  for (std::size_t at = 0; at <= 3000000; at += 100000) sheet[at] = 'N';
  EXPECT_TRUE(other_->Get("sheet") == sheet);

  machine_->Shell("dd if=/dev/zero of=large bs=1M count=40 status=none");
  Flush();
  Requests();
  machine_->Shell("mv large larger");
  Flush();
  log = Requests();
  std::string said;
  for (const Logged& line : log) said += line.method + " " + line.key + "\n";
  EXPECT_EQ(log.size(), 2u) << "a rename is a copy and a deletion: " << said;
  std::uint64_t bytes = 0;
  for (const Logged& line : log) bytes += line.in + line.out;
  EXPECT_LT(bytes, 10000u) << "no bytes through us";

  machine_->Shell("cp larger copy");
  log = Requests();
  EXPECT_EQ(log.size(), 2u) << "a look, and a copy that is made before cp ends";
  bytes = 0;
  for (const Logged& line : log) bytes += line.in + line.out;
  EXPECT_LT(bytes, 10000u) << "a copy is made by the store";
  EXPECT_EQ(machine_->Shell("cmp larger copy && echo same").out, "same\n");
  machine_->Pargeter({"evict", At("small")});
  Requests();
  machine_->Shell("cp small small2");
  Flush();
  for (const Logged& line : Requests())
    EXPECT_NE(line.method, "GET") << line.key << ": a copy downloads nothing";
  EXPECT_EQ(other_->Get("small2"), "content");
}

// Beyond the calls that posix_test compares with another file system.
TEST_F(MountTest, CallsThatOtherFileSystemsAnswerInOtherWays) {
  MountAll();
  const std::string f = At("f");
  const int fd = ::open(f.c_str(), O_RDWR | O_CREAT | O_EXCL, 0640);
  ASSERT_GE(fd, 0);
  EXPECT_EQ(::posix_fallocate(fd, 0, 8192), 0);
  EXPECT_EQ(::fallocate(fd, FALLOC_FL_COLLAPSE_RANGE, 0, 4096), -1);
  EXPECT_EQ(errno, EOPNOTSUPP);
  ::close(fd);
  EXPECT_EQ(::link(f.c_str(), At("hard").c_str()), -1);
  EXPECT_EQ(errno, EPERM);
  EXPECT_EQ(::mknod(At("pipe").c_str(), S_IFIFO | 0600, 0), -1);
  EXPECT_EQ(errno, EPERM);
  char value[64] = {};
  EXPECT_GT(::getxattr(f.c_str(), "user.pargeter.state", value, sizeof(value)), 0);
  EXPECT_STREQ(value, "pending");
  EXPECT_EQ(::setxattr(f.c_str(), "user.mine", "v", 1, 0), -1);
  EXPECT_EQ(errno, EOPNOTSUPP);
  EXPECT_EQ(::getxattr(f.c_str(), "system.posix_acl_access", value, sizeof(value)), -1);
  EXPECT_EQ(::open(At(std::string(256, 'n')).c_str(), O_CREAT | O_WRONLY, 0600), -1);
  EXPECT_EQ(errno, ENAMETOOLONG);
}

TEST_F(MountTest, SizeOnDiskIsTold) {
  ASSERT_TRUE(other_->Put("big", std::string(3 << 20, 'b')));
  MountAll();
  struct stat st {};
  ASSERT_EQ(::stat(At("big").c_str(), &st), 0);
  EXPECT_EQ(st.st_size, 3 << 20);
  EXPECT_EQ(st.st_blocks, 1);
  machine_->Shell("cat big > /dev/null");
  const auto json = nlohmann::json::parse(machine_->Pargeter({"ls", At(), "--json"}).out);
  EXPECT_EQ(json["entries"][0]["state"], "cached");
  EXPECT_EQ(json["entries"][0]["on_disk"], 3 << 20);
  EXPECT_EQ(machine_->Pargeter({"evict", At("big")}).exit_code, 0);
  EXPECT_EQ(
      nlohmann::json::parse(machine_->Pargeter({"ls", At(), "--json"}).out)["entries"][0]["state"],
      "remote");
}

TEST_F(MountTest, KilledAtWorkNothingIsLost) {
  MountAll();
  SetFault(machine_->peer(), "status=503,method=PUT");
  ASSERT_EQ(
      machine_
          ->Shell("for i in 1 2 3 4 5; do echo $i > f$i; done; mkdir d; mv f1 d/g1; rm f2; sync")
          .exit_code,
      0);
  const pid_t pid = machine_->DaemonPid();
  ASSERT_GT(pid, 0);
  ::kill(pid, SIGKILL);
  ASSERT_TRUE(Eventually([&] { return IsDead(); }));
  SetFault(machine_->peer(), "");
  machine_->Mount();  // over the dead mount that it left
  EXPECT_EQ(machine_->Shell("cat f3 d/g1").out, "3\n1\n");
  Flush();
  EXPECT_EQ(other_->All(), (std::vector<std::string>{"d/", "d/g1", "f3", "f4", "f5"}));
}

TEST_F(MountTest, AnUploadInPartsGoesOnAfterAKill) {
  MountAll();
  SetFault(machine_->peer(), "stall=700,method=PUT,key=large");
  ASSERT_EQ(
      machine_->Shell("head -c 83886080 /dev/urandom > large && md5sum large > ../sum").exit_code,
      0);
  const auto parts_up = [&] {
    const std::string log = ReadAll(machine_->peer().LogPath());
    std::size_t parts = 0;
    for (std::size_t at = 0; (at = log.find("partNumber", at)) != std::string::npos; ++at) ++parts;
    return parts;
  };
  ASSERT_TRUE(Eventually([&] { return parts_up() >= 4; }));
  ASSERT_TRUE(machine_->KillDaemon());
  SetFault(machine_->peer(), "");
  ASSERT_TRUE(Eventually([&] { return IsDead(); }));
  Requests();
  machine_->Mount();
  Flush();
  std::uint64_t sent = 0;
  for (const Logged& line : Requests()) sent += line.in;
  EXPECT_LE(sent, 33u << 20) << "parts that were up are not sent again";
  EXPECT_TRUE(other_->store().ListUploads(nullptr)->empty());
  machine_->Pargeter({"evict", At("large")});
  const Outcome sums = machine_->Shell("md5sum -c ../sum");
  EXPECT_EQ(sums.exit_code, 0) << sums.out << sums.err;
}

TEST_F(MountTest, UnmountWaitsForUploadsAndSignalsToo) {
  MountAll();
  machine_->Shell("echo a > a");
  Outcome unmounted = machine_->Pargeter({"unmount", "sheets"});
  EXPECT_EQ(unmounted.exit_code, 0) << unmounted.err;
  EXPECT_EQ(other_->Get("a"), "a\n");
  EXPECT_NE(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  Background foreground({ProgramFolder() + "/pargeter", "mount", "sheets"},
                        machine_->environment());
  EXPECT_THAT(foreground.ReadLine(), HasSubstr("is mounted at"));
  machine_->Shell("echo b > b");
  foreground.Signal(SIGTERM);
  EXPECT_EQ(foreground.Wait(), 0);
  EXPECT_EQ(other_->Get("b"), "b\n");
  EXPECT_TRUE(std::filesystem::is_empty(At()));
}

TEST_F(MountTest, ABusyMountNamesItsHolder) {
  MountAll();
  machine_->Shell("echo a > a");
  Background holder({"/bin/sh", "-c", "exec sleep 30 < '" + At("a") + "'"});
  ASSERT_TRUE(Eventually(
      [&] { return ReadAll("/proc/" + std::to_string(holder.pid()) + "/comm") == "sleep\n"; }));
  const Outcome busy = machine_->Pargeter({"unmount", "sheets"});
  EXPECT_EQ(busy.exit_code, 7);
  EXPECT_THAT(busy.err, HasSubstr("(sleep)")) << busy.err;
  holder.Signal(SIGKILL);
  holder.Wait();
  const Outcome from_inside =
      machine_->Shell("exec '" + ProgramFolder() + "/pargeter' unmount sheets");
  EXPECT_EQ(from_inside.exit_code, 0) << from_inside.err;
}

TEST_F(MountTest, TheStoreGoesAwayUnderAMountAndComesBack) {
  ASSERT_TRUE(other_->Put("here", "h"));
  ASSERT_TRUE(other_->Put("away", "a"));
  MountAll();
  EXPECT_EQ(machine_->Shell("cat here").out, "h");
  SetFault(machine_->peer(), "away=600000");
  const auto start = std::chrono::steady_clock::now();
  EXPECT_NE(machine_->Shell("cat away").exit_code, 0);
  EXPECT_LT(std::chrono::steady_clock::now() - start, std::chrono::seconds(20));
  const auto noticed = std::chrono::steady_clock::now();
  EXPECT_NE(machine_->Shell("cat away").exit_code, 0);
  EXPECT_LT(std::chrono::steady_clock::now() - noticed, std::chrono::seconds(2))
      << "offline is known by now";
  EXPECT_EQ(machine_->Shell("cat here; echo new > new; cat new").out, "hnew\n");
  const auto status =
      nlohmann::json::parse(machine_->Pargeter({"status", "--json"}).out)["drives"][0];
  EXPECT_EQ(status["online"], false);
  EXPECT_NE(status["offline_since"], "");
  SetFault(machine_->peer(), "");
  Flush();
  EXPECT_EQ(other_->Get("new"), "new\n");
  EXPECT_EQ(machine_->Shell("cat away").out, "a");
}

TEST_F(MountTest, AStateDiskThatIsFullRefusesTheWriteAndLosesNothing) {
  if (::geteuid() != 0) GTEST_SKIP() << "needs root to mount a small tmpfs";
  const std::string state = machine_->Home("state");
  ASSERT_EQ(RunCommand({"mount", "-t", "tmpfs", "-o", "size=24m", "tmpfs", state}).exit_code, 0);
  MountAll();
  machine_->Shell("echo small > small");
  const Outcome full = machine_->Shell("dd if=/dev/zero of=large bs=1M count=40");
  EXPECT_NE(full.exit_code, 0);
  EXPECT_THAT(full.err, HasSubstr("No space left")) << full.err;
  EXPECT_EQ(machine_->Shell("rm large; cat small").out, "small\n");
  Flush();
  EXPECT_EQ(other_->Get("small"), "small\n");
  machine_->Pargeter({"unmount", "sheets", "--now"});
  RunCommand({"umount", "-l", state});
}

// A file of no blocks is one of zeros to who looks for holes.
TEST_F(MountTest, ABackupOfWhatIsNotHereHasItsBytes) {
  const std::string body(300000, 'b'), half(6000000, 'h');
  other_->Put("scan", body);
  other_->Put("small", "s");
  other_->Put("half", half);
  MountAll();
  machine_->Shell("head -c 5000 half");  // some of it is here
  const std::string archive = machine_->Home("backup.tar"), copy = machine_->Home("copy");
  EXPECT_EQ(machine_->Shell("stat -c '%s %b' scan").out, "300000 1\n");
  EXPECT_EQ(machine_->Shell("tar -S -cf " + archive + " scan small half").exit_code, 0);
  EXPECT_EQ(machine_->Shell("tar -xOf " + archive + " scan small").out, body + "s");
  EXPECT_EQ(machine_->Shell("tar -xOf " + archive + " half").out, half);
  ASSERT_EQ(machine_->Pargeter({"evict", At("scan"), At("half")}).exit_code, 0);
  EXPECT_EQ(machine_->Shell("cp --sparse=auto scan " + copy + "; cat " + copy).out, body);
}

// To the last byte: what is cached gives way all the same, though that has to be written down.
TEST_F(MountTest, AStateDiskThatOthersHaveFilledIsGivenRoomByTheCache) {
  if (::geteuid() != 0) GTEST_SKIP() << "needs root to mount a small tmpfs";
  for (int i = 0; i < 3; ++i)
    other_->Put("sheet" + std::to_string(i), std::string(8000000, static_cast<char>('a' + i)));
  const std::string state = machine_->Home("state");
  ASSERT_EQ(RunCommand({"mount", "-t", "tmpfs", "-o", "size=64m", "tmpfs", state}).exit_code, 0);
  const auto fill = [&] {
    RunCommand(
        {"dd", "if=/dev/zero", "of=" + state + "/others", "bs=4k", "oflag=append", "conv=notrunc"});
  };
  MountAll();
  EXPECT_EQ(machine_->Shell("cat sheet* | wc -c").out, "24000000\n");
  fill();
  const Outcome evicted = machine_->Pargeter({"evict", machine_->At("sheet0")});
  EXPECT_EQ(evicted.exit_code, 0) << evicted.err;
  EXPECT_EQ(machine_->Shell("echo small > small").exit_code, 0);
  Flush();
  EXPECT_EQ(other_->Get("small"), "small\n");
  // and a mount that finds it so
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  std::filesystem::remove(state + "/others");
  machine_->Mount();
  ASSERT_EQ(machine_->Pargeter({"unmount", "sheets"}).exit_code, 0);
  fill();
  machine_->Mount();
  EXPECT_TRUE(Eventually([&] { return machine_->Shell("echo more > more").exit_code == 0; }));
  Flush();
  EXPECT_EQ(other_->Get("more"), "more\n");
  machine_->Pargeter({"unmount", "sheets", "--now"});
  RunCommand({"umount", "-l", state});
}

TEST_F(MountTest, ABigFlatFolderAnswersSoonAndTheBucketIsNotWalked) {
  HttpClient http({});
  HttpRequest fill;
  fill.method = "POST";
  fill.url = machine_->peer().endpoint + "/-/fill";
  fill.body = R"({"bucket":"herbarium","prefix":"sheets/","count":20000,"folders":50})";
  ASSERT_TRUE(http.Do(fill).ok());
  MountAll();
  EXPECT_EQ(machine_->Shell("ls | wc -l").out, "50\n");
  EXPECT_LE(Requests().size(), 2u);
  EXPECT_EQ(machine_->Shell("find . -type f | wc -l").out, "20000\n");
  EXPECT_LE(Requests().size(), 60u);
}

}  // namespace
}  // namespace pargeter::test
