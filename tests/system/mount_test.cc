// The built program on a real mount.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <linux/falloc.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <nlohmann/json.hpp>

#include "system/machine.h"

namespace pargeter::test {
namespace {

class MountTest : public OnAMount {
 protected:
  // The log's requests that are not the drive's own trials.
  std::vector<Logged> Requests() {
    std::vector<Logged> out;
    for (const Logged& line : ReadLog(machine_->peer())) {
      if (line.key.find(".pargeter-scratch-") == std::string::npos) out.push_back(line);
    }
    return out;
  }
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

TEST_F(MountTest, SystemCallsBehaveAsOnAnyFileSystem) {
  MountAll();
  const std::string f = At("f");
  int fd = ::open(f.c_str(), O_RDWR | O_CREAT | O_EXCL, 0640);
  ASSERT_GE(fd, 0);
  EXPECT_EQ(::open(f.c_str(), O_CREAT | O_EXCL | O_WRONLY, 0640), -1);
  EXPECT_EQ(errno, EEXIST);
  EXPECT_EQ(::write(fd, "hello", 5), 5);
  EXPECT_EQ(::pwrite(fd, "!", 1, 9999), 1);
  struct stat st {};
  ASSERT_EQ(::fstat(fd, &st), 0);
  EXPECT_EQ(st.st_size, 10000);
  EXPECT_EQ(st.st_mode & 07777, 0640u);
  char byte = 'z';
  EXPECT_EQ(::pread(fd, &byte, 1, 5000), 1);
  EXPECT_EQ(byte, 0) << "a gap reads as zeros";
  EXPECT_EQ(::ftruncate(fd, 3), 0);
  EXPECT_EQ(::posix_fallocate(fd, 0, 8192), 0);
  EXPECT_EQ(::fallocate(fd, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, 0, 1), 0);
  EXPECT_EQ(::pread(fd, &byte, 1, 0), 1);
  EXPECT_EQ(byte, 0);
  EXPECT_EQ(::fallocate(fd, FALLOC_FL_COLLAPSE_RANGE, 0, 4096), -1);
  EXPECT_EQ(errno, EOPNOTSUPP);
  void* map = ::mmap(nullptr, 8192, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
  ASSERT_NE(map, MAP_FAILED);
  static_cast<char*>(map)[4096] = 'm';
  EXPECT_EQ(::msync(map, 8192, MS_SYNC), 0);
  ::munmap(map, 8192);
  EXPECT_EQ(::fsync(fd), 0);
  EXPECT_EQ(::lseek(fd, 100000, SEEK_DATA), -1);
  EXPECT_EQ(errno, ENXIO);
  EXPECT_EQ(::lseek(fd, 0, SEEK_HOLE) <= 8192, true);
  EXPECT_EQ(::unlink(f.c_str()), 0);
  EXPECT_EQ(::pread(fd, &byte, 1, 4096), 1) << "deleted while open";
  EXPECT_EQ(byte, 'm');
  ::close(fd);

  fd = ::open(At("log").c_str(), O_WRONLY | O_CREAT | O_APPEND, 0600);
  for (int i = 0; i < 3; ++i) EXPECT_EQ(::write(fd, "ab", 2), 2);
  ::close(fd);
  EXPECT_EQ(ReadAll(At("log")), "ababab");
  fd = ::open(At("log").c_str(), O_WRONLY | O_TRUNC);
  ::close(fd);
  EXPECT_EQ(ReadAll(At("log")), "");

  ASSERT_EQ(::mkdir(At("d").c_str(), 0755), 0);
  ASSERT_EQ(::mkdir(At("e").c_str(), 0755), 0);
  WriteAll(At("d/x"), "x");
  EXPECT_EQ(::rmdir(At("d").c_str()), -1);
  EXPECT_EQ(errno, ENOTEMPTY);
  EXPECT_EQ(::rename(At("e").c_str(), At("d").c_str()), -1);
  EXPECT_EQ(errno, ENOTEMPTY);
  EXPECT_EQ(::rename(At("d").c_str(), At("e").c_str()), 0) << "over an empty folder";
  EXPECT_EQ(ReadAll(At("e/x")), "x");
  EXPECT_EQ(::renameat2(AT_FDCWD, At("e/x").c_str(), AT_FDCWD, At("log").c_str(), RENAME_NOREPLACE),
            -1);
  EXPECT_EQ(errno, EEXIST);
  EXPECT_EQ(::renameat2(AT_FDCWD, At("e/x").c_str(), AT_FDCWD, At("log").c_str(), RENAME_EXCHANGE),
            -1);
  EXPECT_EQ(errno, EINVAL);
  EXPECT_EQ(::link(At("log").c_str(), At("hard").c_str()), -1);
  EXPECT_EQ(errno, EPERM);
  EXPECT_EQ(::mknod(At("pipe").c_str(), S_IFIFO | 0600, 0), -1);
  EXPECT_EQ(errno, EPERM);
  const timespec times[2] = {{1, 5}, {1234567890, 123456789}};
  EXPECT_EQ(::utimensat(AT_FDCWD, At("log").c_str(), times, 0), 0);
  EXPECT_EQ(::chmod(At("log").c_str(), 0400), 0);
  ASSERT_EQ(::stat(At("log").c_str(), &st), 0);
  EXPECT_EQ(st.st_mtim.tv_sec, 1234567890);
  EXPECT_EQ(st.st_mtim.tv_nsec, 123456789);
  EXPECT_EQ(st.st_mode & 07777, 0400u);
  char value[64] = {};
  EXPECT_GT(::getxattr(At("log").c_str(), "user.pargeter.state", value, sizeof(value)), 0);
  EXPECT_STREQ(value, "pending");
  EXPECT_EQ(::setxattr(At("log").c_str(), "user.mine", "v", 1, 0), -1);
  EXPECT_EQ(errno, EOPNOTSUPP);
  EXPECT_EQ(::getxattr(At("log").c_str(), "system.posix_acl_access", value, sizeof(value)), -1);
  struct statvfs vfs {};
  ASSERT_EQ(::statvfs(At().c_str(), &vfs), 0);
  EXPECT_GT(vfs.f_bavail, 0u);
  EXPECT_EQ(::open(At(std::string(256, 'n')).c_str(), O_CREAT | O_WRONLY, 0600), -1);
  EXPECT_EQ(errno, ENAMETOOLONG);
}

TEST_F(MountTest, SizeOnDiskIsTold) {
  ASSERT_TRUE(other_->Put("big", std::string(3 << 20, 'b')));
  MountAll();
  struct stat st {};
  ASSERT_EQ(::stat(At("big").c_str(), &st), 0);
  EXPECT_EQ(st.st_size, 3 << 20);
  EXPECT_EQ(st.st_blocks, 0);
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
  EXPECT_NE(foreground.ReadLine().find("is mounted at"), std::string::npos);
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
  EXPECT_NE(busy.err.find("(sleep)"), std::string::npos) << busy.err;
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
  EXPECT_NE(full.err.find("No space left"), std::string::npos) << full.err;
  EXPECT_EQ(machine_->Shell("rm large; cat small").out, "small\n");
  Flush();
  EXPECT_EQ(other_->Get("small"), "small\n");
  machine_->Pargeter({"unmount", "sheets", "--now"});
  RunCommand({"umount", "-l", state});
}

TEST_F(MountTest, BadInputIsOneSentenceAndItsExitCode) {
  const auto expect = [&](const std::vector<std::string>& words, int code,
                          const std::string& part) {
    const Outcome o = machine_->Pargeter(words);
    EXPECT_EQ(o.exit_code, code) << words[0] << ": " << o.err;
    EXPECT_EQ(o.err.compare(0, 10, "pargeter: "), 0) << o.err;
    EXPECT_NE(o.err.find(part), std::string::npos) << o.err;
  };
  machine_->AddDrive("herbarium/sheets");
  const Peer& peer = machine_->peer();
  expect({"mount", "shets"}, 3, "no drive is called");
  expect({"account", "test", "nobody"}, 3, "no account is called");
  expect({"drive", "add", "x", "--account", "museum", "--folder", "b", "--at", At("x"),
          "--cache-limit", "much"},
         2, "is no size");
  expect({"drive", "add", "x", "--account", "museum", "--folder", "b", "--at", At()}, 4,
         "appears at");
  expect({"frobnicate"}, 2, "");
  expect({"ls", "/"}, 3, "is on no drive");
  expect({"ls", At()}, 3, "never mounted");

  std::filesystem::remove(At());
  expect({"mount", "sheets"}, 3, "does not exist");
  WriteAll(At(), "file");
  expect({"mount", "sheets"}, 3, "is not a folder");
  std::filesystem::remove(At());
  std::filesystem::create_directory(At());
  WriteAll(At("file"), "in the way");
  expect({"mount", "sheets"}, 4, "has files in it");
  std::filesystem::remove(At("file"));

  WriteAll(machine_->Home("wrong.txt"), "wrong\n");
  const auto account = [&](const std::string& name, const std::string& endpoint,
                           const std::string& key, const std::string& file) {
    EXPECT_EQ(machine_
                  ->Pargeter({"account", "add", name, "--kind", "s3", "--endpoint", endpoint,
                              "--key-id", key, "--secret-file", machine_->Home(file)})
                  .exit_code,
              0);
  };
  account("wrongsecret", peer.endpoint, "fieldkey", "wrong.txt");
  expect({"account", "test", "wrongsecret"}, 6, "the secret does not fit");
  account("wrongkey", peer.endpoint, "nobody", "key.txt");
  expect({"account", "test", "wrongkey"}, 6, "does not know the key");
  account("nowhere", "http://127.0.0.1:1", "fieldkey", "key.txt");
  expect({"account", "test", "nowhere"}, 5, "does not answer");
  expect({"account", "test", "museum", "--folder", "no-such-bucket"}, 3, "no such bucket");
  SetFault(peer, "skew=3600");
  expect({"account", "test", "museum"}, 6, "clock");
  SetFault(peer, "");
  machine_->Pargeter({"drive", "add", "nob", "--account", "museum", "--folder", "no-such-bucket",
                      "--at", machine_->Home("nob")});
  expect({"mount", "nob"}, 3, "no such bucket");
  machine_->Pargeter({"drive", "add", "down", "--account", "nowhere", "--folder", "b", "--at",
                      machine_->Home("down")});
  expect({"mount", "down"}, 5, "does not answer");

  machine_->Mount();
  expect({"mount", "sheets"}, 7, "mounted already");
  expect({"drive", "remove", "sheets"}, 7, "is mounted");
  ::chmod(machine_->Home("config/pargeter/secrets.toml").c_str(), 0644);
  expect({"account", "test", "museum"}, 6, "can be read by other users");
}

TEST_F(MountTest, WhatIsOnThisDiskIsSaidAndDecided) {
  for (int i = 0; i < 5; ++i) {
    other_->Put("pressed/s" + std::to_string(i), std::string(100000, 's'));
    other_->Put("archive/a" + std::to_string(i), std::string(100000, 'a'));
  }
  MountAll();
  const auto run = [&](std::vector<std::string> words, int exit_code = 0) {
    const Outcome done = machine_->Pargeter(words);
    EXPECT_EQ(done.exit_code, exit_code) << words[0] << ": " << done.out << done.err;
    return done.out + done.err;
  };
  EXPECT_NE(run({"pin", At("pressed"), "--wait"}).find("5 of 5 files here"), std::string::npos);
  EXPECT_NE(run({"rule", "add", At("archive"), "thin", "--everywhere"}).find("every machine"),
            std::string::npos);
  EXPECT_NE(run({"rule", "add", "--pattern", "*.tmp", "local"}).find("never at the store"),
            std::string::npos);
  EXPECT_EQ(machine_->Shell("cat archive/a1 | wc -c").out, "100000\n");
  EXPECT_NE(run({"ls", At()}).find("*  488.3 KiB  488.3 KiB"), std::string::npos)
      << run({"ls", At()});
  EXPECT_EQ(machine_->Shell("du -s --block-size=1 pressed | cut -f1").out, "501760\n");
  EXPECT_EQ(machine_->Shell("du -s --apparent-size --block-size=1 archive | cut -f1; getfattr -n "
                            "user.pargeter.placement --only-values archive/a2")
                    .out.find("thin") != std::string::npos,
            true);
  EXPECT_NE(run({"evict", At("pressed")}, 4).find("pinned"), std::string::npos);
  EXPECT_NE(run({"explain", At("pressed/s1")}).find("always kept here, by the rule on pressed"),
            std::string::npos);
  EXPECT_NE(run({"explain", At("archive")}).find("for all machines by"), std::string::npos);
  EXPECT_NE(run({"rule", "list"}).find("every machine"), std::string::npos);
  EXPECT_NE(machine_->Shell("setfattr -n user.pargeter.ask -v evict pressed").exit_code, 0);
  EXPECT_EQ(machine_->Shell("setfattr -n user.pargeter.ask -v unpin pressed").exit_code, 0);
  EXPECT_NE(run({"evict", At("pressed"), "--json"}).find("\"files\": 5"), std::string::npos);
  // nobody asked for the bytes of the thin folder but the one who read them
  run({"fetch", At("pressed")});
  EXPECT_NE(run({"verify", At()}).find("5 files right"), std::string::npos);
  EXPECT_FALSE(run({"activity"}).empty());
  run({"unmount", "sheets"});
  // without a mount the same commands work
  EXPECT_NE(run({"evict", At()}).find("Freed 488.3 KiB"), std::string::npos);
  EXPECT_NE(run({"fetch", At("pressed")}).find("5 files here now"), std::string::npos);
  EXPECT_NE(run({"drive", "change", "sheets", "--cache-at", machine_->Home("elsewhere")})
                .find("moved to"),
            std::string::npos);
  machine_->Mount();
  EXPECT_NE(run({"ls", At()}).find("o  488.3 KiB  488.3 KiB"), std::string::npos)
      << run({"ls", At()});
  EXPECT_EQ(run({"drive", "change", "sheets", "--cache-at", machine_->Home("third")}, 7).empty(),
            false);
  // moved by hand, then told
  run({"unmount", "sheets"});
  std::filesystem::rename(machine_->Home("elsewhere"), machine_->Home("carried"));
  run({"drive", "change", "sheets", "--cache-at", machine_->Home("carried")});
  machine_->Mount();
  Requests();
  EXPECT_EQ(machine_->Shell("cat pressed/s* | wc -c").out, "500000\n");
  for (const Logged& line : Requests()) EXPECT_EQ(line.key.find("pressed/s"), std::string::npos);
}

TEST_F(MountTest, AnotherMachineKnowsTheRulesBeforeItsFirstDownload) {
  for (const char* name : {"archive/a", "archive/deep/b", "old/c", "work/d"})
    other_->Put(name, std::string(1000, 's'));
  MountAll();
  ASSERT_EQ(machine_->Pargeter({"rule", "add", At("archive"), "thin", "--everywhere"}).exit_code,
            0);
  ASSERT_EQ(machine_->Pargeter({"rule", "add", At("old"), "hide", "--everywhere"}).exit_code, 0);
  Machine second(machine_->peer());
  Requests();
  second.AddDrive("herbarium/sheets");
  second.Mount();
  const Outcome pinned = second.Pargeter({"pin", second.At(), "--wait"});
  EXPECT_EQ(pinned.exit_code, 0) << pinned.err;
  EXPECT_EQ(second.Shell("ls; cat work/d | wc -c; du -s --block-size=1 archive | cut -f1").out,
            "archive\nwork\n1000\n0\n");
  int fetched = 0;
  for (const Logged& line : Requests()) {
    EXPECT_EQ(line.key.find("archive/"), std::string::npos) << line.method << " " << line.key;
    EXPECT_EQ(line.key.find("old/"), std::string::npos) << line.method << " " << line.key;
    fetched += line.method == "GET" && line.key.find("work/d") != std::string::npos;
  }
  EXPECT_EQ(fetched, 1);
}

TEST_F(MountTest, AShyProgramGetsTheEndsOnly) {
  other_->Put("scan", std::string(900000, 's'));
  MountAll({"--shy-readers", "sniffer"});
  ASSERT_EQ(RunCommand({"cp", "/bin/cat", machine_->Home("sniffer")}).exit_code, 0);
  const Outcome sniffed = machine_->Shell(machine_->Home("sniffer") + " scan | wc -c");
  EXPECT_EQ(sniffed.out, "65536\n") << sniffed.err;
  EXPECT_NE(sniffed.err.find("not permitted"), std::string::npos) << sniffed.err;
  EXPECT_NE(machine_->Pargeter({"activity"}).out.find("sniffer wanted more"), std::string::npos);
  EXPECT_EQ(machine_->Shell("cat scan | wc -c").out, "900000\n");
  EXPECT_EQ(machine_->Shell(machine_->Home("sniffer") + " scan | wc -c").out, "900000\n");
}

// A session bus and a secret service of the test's own, as a desktop has them.
TEST_F(MountTest, ASecretMayBeInTheKeyring) {
  if (RunCommand({"sh", "-c", "command -v dbus-run-session gnome-keyring-daemon"}).exit_code != 0)
    GTEST_SKIP() << "no session bus, or no secret service, is installed here";
  machine_->AddDrive("herbarium/sheets");
  auto environment = machine_->environment();
  environment["SECRET"] = machine_->peer().secret;
  const std::string p = ProgramFolder() + "/pargeter";
  const std::string script = R"(
    set -e
    printf 'pass\n' | gnome-keyring-daemon --unlock --components=secrets >/dev/null
    p() { ")" + p + R"(" "$@"; }
    p account change museum --secret-in keyring
    ! grep -q "$SECRET" "$XDG_CONFIG_HOME/pargeter/secrets.toml"
    p account test museum
    p account rename museum isle
    p account test isle
    p account show isle
    p account change isle --secret-in file
    grep -q "$SECRET" "$XDG_CONFIG_HOME/pargeter/secrets.toml"
    p account test isle
    p account rename isle museum
  )";
  const Outcome done =
      RunCommand({"dbus-run-session", "--", "sh", "-c", script}, "", 60, environment);
  EXPECT_EQ(done.exit_code, 0) << done.out << done.err;
  EXPECT_NE(done.out.find("in the keyring"), std::string::npos) << done.out;
  // without that session nobody answers, and the message says what to do
  environment["DBUS_SESSION_BUS_ADDRESS"] = "unix:path=/nowhere";
  const Outcome alone =
      RunCommand({p, "account", "change", "museum", "--secret-in", "keyring"}, "", 60, environment);
  EXPECT_EQ(alone.exit_code, 5);
  EXPECT_NE(alone.err.find("--secret-in file"), std::string::npos) << alone.err;
}

TEST_F(MountTest, SecretsShowNowhere) {
  MountAll();
  machine_->Shell("echo a > a");
  Flush();
  std::string all;
  for (const std::vector<std::string>& words :
       std::vector<std::vector<std::string>>{{"account", "show", "museum"},
                                             {"account", "list", "--json"},
                                             {"drive", "show", "sheets", "--json"},
                                             {"status", "--json"},
                                             {"-v", "account", "test", "museum"}}) {
    const Outcome o = machine_->Pargeter(words);
    all += o.out + o.err;
  }
  all += ReadAll("/proc/" + std::to_string(machine_->DaemonPid()) + "/cmdline");
  all += ReadAll(machine_->Home("state/pargeter/drives/sheets/mount.log"));
  EXPECT_EQ(all.find(machine_->peer().secret), std::string::npos);
}

TEST_F(MountTest, AnOrdinaryUserMountsThroughFusermount) {
  if (::geteuid() != 0) GTEST_SKIP() << "the other tests run as an ordinary user already";
  TemporaryFolder home;
  ASSERT_EQ(::chmod(home.path().c_str(), 0777), 0);
  WriteAll(home / "key.txt", machine_->peer().secret + "\n");
  ::chmod((home / "key.txt").c_str(), 0644);
  const std::string program = ProgramFolder() + "/pargeter";
  // a namespace of its own, in which /dev/fuse has its usual mode
  const std::string script =
      "mount --make-rprivate / && mknod " + home.path() + "/fuse c 10 229 && chmod 666 " +
      home.path() +
      "/fuse && "
      "mount --bind " +
      home.path() +
      "/fuse /dev/fuse && exec setpriv --reuid=65534 --regid=65534 --clear-groups "
      "env HOME=" +
      home.path() + "/h XDG_RUNTIME_DIR=" + home.path() +
      "/h/run sh -ec '"
      "mkdir -p $HOME/run $HOME/m; P=" +
      program +
      "; "
      "$P -q account add museum --kind s3 --endpoint " +
      machine_->peer().endpoint + " --key-id fieldkey --secret-file " + home.path() +
      "/key.txt; "
      "$P -q drive add sheets --account museum --folder herbarium/sheets --at $HOME/m --keep-free "
      "0; "
      "$P -q mount sheets --detach; echo mine > $HOME/m/mine; stat -c %U $HOME/m/mine; $P -q flush "
      "sheets; $P unmount sheets'";
  const Outcome o = RunCommand({"unshare", "-m", "sh", "-c", script}, "", 60);
  EXPECT_EQ(o.exit_code, 0) << o.out << o.err;
  EXPECT_NE(o.out.find("nobody"), std::string::npos) << o.out;
  EXPECT_EQ(other_->Get("mine"), "mine\n");
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

TEST(Commands, AWordThatIsNoneIsNamed) {
  const auto says = [](std::vector<std::string> words) {
    words.insert(words.begin(), ProgramFolder() + "/pargeter");
    const Outcome o = RunCommand(words);
    EXPECT_EQ(o.exit_code, 2);
    return o.err.substr(0, o.err.find('\n'));
  };
  EXPECT_EQ(says({"drive", "ad"}), "pargeter: pargeter drive has no command \"ad\"");
  EXPECT_EQ(says({"mont"}), "pargeter: pargeter has no command \"mont\"");
  EXPECT_EQ(says({"--nope"}), "pargeter: pargeter has no option \"--nope\"");
  EXPECT_EQ(says({"service"}), "pargeter: pargeter service needs a command");
  EXPECT_EQ(says({"drive", "add"}), "pargeter: NAME is required");
}

// -- against real stores, where PARGETER_PEERS names them

class RealStoreTest : public testing::TestWithParam<std::size_t> {};

TEST_P(RealStoreTest, ATreeGoesInAndComesBackTheSame) {
  std::vector<Peer> peers = AllPeers();
  if (!FuseWorks()) GTEST_SKIP() << "no access to /dev/fuse";
  if (GetParam() >= peers.size()) GTEST_SKIP() << "PARGETER_PEERS does not name so many stores";
  Peer& peer = peers[GetParam()];
  EnsureStarted(&peer);
  Machine machine(peer);
  if (peer.kind != "s3") {
    ASSERT_TRUE(OpenPeer(peer, "")->MakeFolder("tree", {}, nullptr).ok());
  }
  machine.AddDrive(peer.kind == "s3" ? peer.bucket + "/tree" : "tree");
  machine.Mount();
  const std::string source = "/usr/include/linux";
  Outcome o = machine.Shell("cp -a " + source + " tree && ln -s tree/fs.h link", 300);
  ASSERT_EQ(o.exit_code, 0) << o.err;
  o = machine.Pargeter({"flush", "sheets", "--timeout", "5m"}, 330);
  ASSERT_EQ(o.exit_code, 0) << o.err;
  ASSERT_EQ(machine.Pargeter({"unmount", "sheets"}, 60).exit_code, 0);
  std::filesystem::remove_all(machine.Home("state/pargeter"));
  machine.Mount();
  o = machine.Shell("diff -r " + source + " tree && readlink link", 300);
  EXPECT_EQ(o.exit_code, 0) << o.out << o.err;
  EXPECT_EQ(o.out, "tree/fs.h\n");
  OtherClient other(peer, "tree/");
  std::vector<std::string> half;
  for (const std::string& name : other.All()) {
    if (name < "tree/netfilter" && name.back() != '/') half.push_back(name);
  }
  ASSERT_GT(half.size(), 100u);
  other.Delete(half);
  ASSERT_EQ(machine.Pargeter({"refresh", "sheets"}, 120).exit_code, 0);
  const std::string first = half.back().substr(half.back().rfind('/') + 1);
  EXPECT_TRUE(
      Eventually([&] { return machine.Shell("ls tree | grep -cx " + first).out == "0\n"; }, 60));
  EXPECT_EQ(machine.Shell("ls tree/netfilter/xt_mark.h").exit_code, 0);
  other.Delete(other.All());
}

// The store has the folder still when another of its name comes, made anew or moved there.
TEST_P(RealStoreTest, FoldersWhoseDeletionIsHeldBackGiveWayToOthersOfTheirName) {
  std::vector<Peer> peers = AllPeers();
  if (!FuseWorks()) GTEST_SKIP() << "no access to /dev/fuse";
  if (GetParam() >= peers.size()) GTEST_SKIP() << "PARGETER_PEERS does not name so many stores";
  Peer& peer = peers[GetParam()];
  EnsureStarted(&peer);
  Machine machine(peer);
  if (peer.kind != "s3") {
    ASSERT_TRUE(OpenPeer(peer, "")->MakeFolder("held", {}, nullptr).ok());
  }
  machine.AddDrive(peer.kind == "s3" ? peer.bucket + "/held" : "held",
                   {"--hold-deletions", "5,0.1"});
  machine.Mount();
  const auto run = [&](const std::string& line) {
    const Outcome o = machine.Shell(line);
    EXPECT_EQ(o.exit_code, 0) << line << ": " << o.err;
    return o.out;
  };
  const auto flush = [&] {
    const Outcome o = machine.Pargeter({"flush", "sheets", "--timeout", "60s"}, 90);
    EXPECT_EQ(o.exit_code, 0) << o.out << o.err;
    return o.out;
  };
  run("mkdir -p ferns/deep mosses lichens; for i in 1 2 3 4 5 6; do echo old > ferns/$i; "
      "echo old > ferns/deep/$i; echo old > mosses/$i; done; echo new > lichens/2");
  flush();
  run("rm -r ferns mosses");
  EXPECT_NE(flush().find("18 deletions are held back"), std::string::npos);
  EXPECT_EQ(run("mkdir -p ferns/deep; find ferns -type f; echo new > ferns/1; mv lichens mosses; "
                "ls -R mosses; set -C; echo new > ferns/deep/3"),
            "mosses:\n2\n");
  flush();
  OtherClient other(peer, "held/");
  EXPECT_EQ(other.Get("mosses/2"), "new\n");
  EXPECT_EQ(other.Get("mosses/4"), "old\n") << "nothing is deleted before it is released";
  EXPECT_EQ(other.Get("ferns/deep/4"), "old\n");
  ASSERT_EQ(machine.Pargeter({"queue", "release", "sheets"}).exit_code, 0);
  flush();
  std::vector<std::string> all = other.All();
  std::erase_if(all, [](const std::string& name) { return name.back() == '/'; });
  std::sort(all.begin(), all.end());
  EXPECT_EQ(all, (std::vector<std::string>{"ferns/1", "ferns/deep/3", "mosses/2"}));
  for (const std::string& name : all) EXPECT_EQ(other.Get(name), "new\n") << name;
  EXPECT_EQ(run("find . -type f | sort"), "./ferns/1\n./ferns/deep/3\n./mosses/2\n");
  other.Delete(other.All());
}

INSTANTIATE_TEST_SUITE_P(Peers, RealStoreTest, testing::Values(0, 1, 2, 4, 5, 6, 7));

}  // namespace
}  // namespace pargeter::test
