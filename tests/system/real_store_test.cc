// The built program on a mount of a real store, where PARGETER_PEERS names one.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <filesystem>
#include <memory>

#include "system/machine.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

class RealStoreTest : public testing::TestWithParam<std::size_t> {
 protected:
  void SetUp() override {
    const std::vector<Peer> peers = AllPeers();
    if (!FuseWorks()) GTEST_SKIP() << "no access to /dev/fuse";
    if (GetParam() >= peers.size()) GTEST_SKIP() << "PARGETER_PEERS does not name so many stores";
    peer_ = peers[GetParam()];
    EnsureStarted(&peer_);
    machine_ = std::make_unique<Machine>(peer_);
  }
  void MountFolder(const std::string& folder, const std::vector<std::string>& more = {}) {
    if (peer_.kind != "s3") {
      ASSERT_TRUE(OpenPeer(peer_, "")->MakeFolder(folder, {}, nullptr).ok());
    }
    machine_->AddDrive(peer_.kind == "s3" ? peer_.bucket + "/" + folder : folder, more);
    machine_->Mount();
  }
  Peer peer_;
  std::unique_ptr<Machine> machine_;
};

TEST_P(RealStoreTest, ATreeGoesInAndComesBackTheSame) {
  MountFolder("tree");
  Machine& machine = *machine_;
  const std::string source = "/usr/include/linux";
  Outcome o = machine.Shell("cp -a " + source + " tree", 300);
  ASSERT_EQ(o.exit_code, 0) << o.err;
  o = machine.Shell("ln -s tree/fs.h link");
  const bool holds_links = o.exit_code == 0;  // else it is refused at once, and nothing waits
  EXPECT_TRUE(holds_links || o.err.find("not permitted") != std::string::npos) << o.err;
  o = machine.Pargeter({"flush", "sheets", "--timeout", "5m"}, 330);
  ASSERT_EQ(o.exit_code, 0) << o.err;
  ASSERT_EQ(machine.Pargeter({"unmount", "sheets"}, 60).exit_code, 0);
  std::filesystem::remove_all(machine.Home("state/pargeter"));
  machine.Mount();
  o = machine.Shell("diff -r " + source + " tree", 300);
  EXPECT_EQ(o.exit_code, 0) << o.out << o.err;
  EXPECT_EQ(machine.Shell("readlink link").out, holds_links ? "tree/fs.h\n" : "");
  OtherClient other(peer_, "tree/");
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
  MountFolder("held", {"--hold-deletions", "5,0.1"});
  Machine& machine = *machine_;
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
  EXPECT_THAT(flush(), HasSubstr("18 deletions are held back"));
  EXPECT_EQ(run("mkdir -p ferns/deep; find ferns -type f; echo new > ferns/1; mv lichens mosses; "
                "ls -R mosses; set -C; echo new > ferns/deep/3"),
            "mosses:\n2\n");
  flush();
  OtherClient other(peer_, "held/");
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

// The peers to mount. A manner that only hides versions looks the same through a mount: left out.
std::vector<std::size_t> Mounted() {
  std::vector<std::size_t> out;
  const std::vector<Peer> peers = AllPeers();
  for (std::size_t i = 0; i < peers.size(); ++i)
    if (peers[i].name != "drive_tagless") out.push_back(i);
  return out;
}
INSTANTIATE_TEST_SUITE_P(Peers, RealStoreTest, testing::ValuesIn(Mounted()),
                         [](const auto& one) { return AllPeers()[one.param].name; });

}  // namespace
}  // namespace pargeter::test
