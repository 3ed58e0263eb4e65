// The built program with a mirror: an ordinary directory, ordinary programs in it, and a store.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <filesystem>

#include "system/machine.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

class MirrorTest : public testing::TestWithParam<const char*> {
 protected:
  void SetUp() override {
    const bool objects = std::string(GetParam()) == "Objects";
    const Peer peer = objects ? StartStandin() : StartDriveStandin("mirror");
    if (!objects) {
      ASSERT_TRUE(OpenPeer(peer, "")->MakeFolder("notebooks", {}, nullptr).ok());
    }
    other_ = std::make_unique<OtherClient>(peer, "notebooks/");
    machine_ = std::make_unique<Machine>(peer);
    folder_ = objects ? "herbarium/notebooks" : "notebooks";
  }
  void Begin() {
    machine_->AddDrive(folder_, {"--mode", "mirror"});
    machine_->Mount();
  }
  std::string At(const std::string& path) const { return machine_->At(path); }
  bool Comes(const std::string& path, const std::string& text) {
    return Eventually([&] { return ReadAll(At(path)) == text; });
  }
  bool Arrives(const std::string& path, const std::string& text) {
    return Eventually([&] { return other_->Get(path) == text; });
  }
  void Run(const std::vector<std::string>& words, int exit_code, const std::string& says) {
    const Outcome outcome = machine_->Pargeter(words);
    EXPECT_EQ(outcome.exit_code, exit_code) << outcome.err;
    EXPECT_THAT(outcome.out + outcome.err, HasSubstr(says));
  }
  std::unique_ptr<Machine> machine_;
  std::unique_ptr<OtherClient> other_;
  std::string folder_;
};
INSTANTIATE_TEST_SUITE_P(Stores, MirrorTest, testing::Values("Objects", "Drive"),
                         [](const auto& one) { return std::string(one.param); });

TEST_P(MirrorTest, BothSidesAreKeptTheSameAndOutliveTheProgram) {
  ASSERT_TRUE(other_->Put("may.txt", "ferns") && other_->Put("coast/june.txt", "mosses"));
  std::filesystem::create_directory(At(""));
  WriteAll(At("april.txt"), "snowdrops");  // a directory that is used already
  Begin();
  EXPECT_TRUE(Arrives("april.txt", "snowdrops"));
  EXPECT_TRUE(Comes("may.txt", "ferns") && Comes("coast/june.txt", "mosses"));
  WriteAll(At("july.txt"), "lichens");
  EXPECT_TRUE(Arrives("july.txt", "lichens"));
  ASSERT_TRUE(other_->Put("coast/june.txt", "mosses and sedges"));
  EXPECT_TRUE(Comes("coast/june.txt", "mosses and sedges"));
  EXPECT_EQ(
      ReadAll(At(".pargeter/recovered/") +
              machine_->Shell("ls .pargeter/recovered").out.substr(0, 10) + "/coast/june.txt"),
      "mosses");
  Run({"ls", At("coast")}, 0, "* ");
  Run({"explain", At("may.txt")}, 0, "It stays in the directory");
  Run({"status", "sheets"}, 0, "5 items the same on both sides");
  // the files are there without the program, and what is done to them meanwhile is not lost
  ASSERT_TRUE(machine_->KillDaemon());
  WriteAll(At("may.txt"), "ferns, and a drawing");
  std::filesystem::rename(At("coast"), At("shore"));
  machine_->Mount();
  EXPECT_TRUE(Arrives("may.txt", "ferns, and a drawing"));
  EXPECT_TRUE(Arrives("shore/june.txt", "mosses and sedges"));
  EXPECT_TRUE(Eventually([&] { return other_->Get("coast/june.txt") == "(none)"; }, 20));
  Run({"unmount", "sheets"}, 0, "everything is at the store");
  EXPECT_EQ(ReadAll(At("may.txt")), "ferns, and a drawing");
}

TEST_P(MirrorTest, ProgramsWorkInItAsInAnyDirectory) {
  Begin();
  const Outcome worked = machine_->Shell(
      "mkdir press && for i in $(seq 200); do echo sheet $i > press/$i; done && "
      "tar cf press.tar press && mkdir out && tar xf press.tar -C out && rm -r press && "
      "cp -a out/press press && mv out/press/7 seven && ln -s seven link && chmod 755 seven");
  ASSERT_EQ(worked.exit_code, 0) << worked.err;
  EXPECT_TRUE(Arrives("seven", "sheet 7\n"));
  EXPECT_TRUE(Eventually([&] { return other_->Get("press/200") == "sheet 200\n"; }, 30));
  Run({"flush", "sheets", "--timeout", "40s"}, 0, "");
  // another machine that streams sees the same
  Machine reader(machine_->peer());
  reader.AddDrive(folder_);
  reader.Mount();
  EXPECT_TRUE(Eventually([&] {
    const Outcome same = RunCommand(
        {"diff", "-r", "--no-dereference", "--exclude=.pargeter", machine_->At(), reader.At()});
    return same.exit_code == 0;
  }));
  ASSERT_EQ(reader.Pargeter({"unmount", "sheets"}).exit_code, 0);
}

TEST_P(MirrorTest, WithoutItsDirectoryItDoesNotStartAndDeletesNothing) {
  ASSERT_TRUE(other_->Put("may.txt", "ferns"));
  Begin();
  EXPECT_TRUE(Comes("may.txt", "ferns"));
  Run({"unmount", "sheets"}, 0, "");
  std::filesystem::rename(At(""), machine_->Home("elsewhere"));
  Run({"mount", "sheets", "--detach"}, 4, "is not there");
  std::filesystem::create_directory(At(""));
  Run({"mount", "sheets", "--detach"}, 4, "is not the one that was kept the same");
  EXPECT_EQ(other_->Get("may.txt"), "ferns");
}

TEST_P(MirrorTest, WordsThatMakeNoMirrorAreRefused) {
  Begin();
  Run({"evict", At("")}, 4, "is a mirror");
  Run({"drive", "change", "sheets", "--mode", "stream"}, 4, "cannot become a drive that streams");
  Run({"drive", "add", "all", "--join", "museum/*", "--at", machine_->Home("all"), "--mode",
       "mirror"},
      2, "cannot be a mirror");
  Run({"drive", "add", "x", "--account", "museum", "--folder", folder_, "--at", machine_->Home("x"),
       "--mode", "copy"},
      2, "Modes: stream, mirror");
}

}  // namespace
}  // namespace pargeter::test
