// On a server that takes names for one which differ only in case or in Unicode form.
#include <gtest/gtest.h>

#include <algorithm>
#include <map>
#include <nlohmann/json.hpp>

#include "system/machine.h"

namespace pargeter::test {
namespace {

class FoldingTest : public testing::Test {
 protected:
  void SetUp() override {
    if (!FuseWorks()) GTEST_SKIP() << "no access to /dev/fuse";
    machine_ = std::make_unique<Machine>(StartDriveStandin("drive", {"--fold-names"}));
    other_ = std::make_unique<OtherClient>(machine_->peer());
    machine_->AddDrive("", {"--fresh-for", "100ms"});
    machine_->Mount();
  }
  void Do(const std::string& line) { ASSERT_EQ(machine_->Shell(line).exit_code, 0) << line; }
  void Flush() {
    const Outcome flushed = machine_->Pargeter({"flush", "sheets", "--timeout", "40s"});
    ASSERT_EQ(flushed.exit_code, 0) << flushed.err << machine_->Pargeter({"queue", "sheets"}).out;
  }
  // Every file at the store by its path, as it is spelled there.
  std::map<std::string, std::string> Store() {
    std::map<std::string, std::string> out;
    for (const std::string& path : other_->All())
      if (path.back() != '/') out[path] = other_->Get(path);
    return out;
  }
  using Files = std::map<std::string, std::string>;
  std::unique_ptr<Machine> machine_;
  std::unique_ptr<OtherClient> other_;
};

TEST_F(FoldingTest, TwoNamesThatAreOneThereAreBothKept) {
  Do("echo upper > Fern.txt; echo lower > fern.txt");
  Do("echo composed > 'caf\u00e9.txt'; echo decomposed > 'cafe\u0301.txt'");
  Flush();
  EXPECT_EQ(machine_->Shell("cat * | sort").out, "composed\ndecomposed\nlower\nupper\n");
  std::vector<std::string> there;
  for (const auto& [path, text] : Store()) there.push_back(text);
  std::sort(there.begin(), there.end());
  EXPECT_EQ(there, (std::vector<std::string>{"composed\n", "decomposed\n", "lower\n", "upper\n"}));
  const Outcome conflicts = machine_->Pargeter({"--json", "conflicts"});
  EXPECT_EQ(nlohmann::json::parse(conflicts.out)["conflicts"].size(), 2u) << conflicts.out;
}

TEST_F(FoldingTest, TwoFoldersThatAreOneThereLoseNothing) {
  Do("mkdir Loans loans; echo a > Loans/x; echo b > loans/x; echo c > loans/y");
  Flush();
  for (int i = 0; i < 3; ++i) machine_->Pargeter({"refresh", "sheets"});
  Flush();
  std::string all;
  for (const auto& [path, text] : Store()) all += text;
  std::sort(all.begin(), all.end());
  EXPECT_EQ(all, "\n\n\nabc");
  EXPECT_EQ(machine_->Shell("find . -type f -exec cat {} + | sort").out, "a\nb\nc\n");
}

TEST_F(FoldingTest, ANewSpellingIsARename) {
  Do("echo fern > fern.txt; mkdir -p loans/deep; echo one > loans/one; echo two > loans/deep/two");
  Flush();
  ReadLog(machine_->peer());
  Do("mv fern.txt Fern.TXT; mv loans Loans");
  Flush();
  EXPECT_EQ(Store(),
            (Files{{"Fern.TXT", "fern\n"}, {"Loans/deep/two", "two\n"}, {"Loans/one", "one\n"}}));
  for (const Logged& line : ReadLog(machine_->peer())) EXPECT_NE(line.method, "PUT") << line.key;
  EXPECT_EQ(machine_->Shell("find . -type f | sort").out,
            "./Fern.TXT\n./Loans/deep/two\n./Loans/one\n");
  // and seen by a machine that knows nothing of it
  machine_->Pargeter({"refresh", "sheets"});
  EXPECT_EQ(machine_->Shell("cat Fern.TXT Loans/one Loans/deep/two").out, "fern\none\ntwo\n");
}

TEST_F(FoldingTest, ANewSpellingWithNewBytes) {
  Do("echo old > fern.txt");
  Flush();
  Do("mv fern.txt Fern.txt; echo new > Fern.txt");
  Flush();
  EXPECT_EQ(Store(), (Files{{"Fern.txt", "new\n"}}));
  Do("echo newer > Fern.txt; mv Fern.txt FERN.txt");
  Flush();
  EXPECT_EQ(Store(), (Files{{"FERN.txt", "newer\n"}}));
}

TEST_F(FoldingTest, ANewSpellingThatIsGivenUpLosesNothing) {
  Do("echo fern > fern.txt; mkdir loans; echo one > loans/one; echo moss > moss.txt");
  Flush();
  SetFault(machine_->peer(), "status=403,method=MOVE");
  Do("mv fern.txt Fern.txt; mv loans Loans; mv moss.txt Moss.txt; echo more >> Moss.txt");
  machine_->Pargeter({"flush", "sheets", "--timeout", "2s"});  // tried, and refused
  Do("mv Fern.txt fern.txt; mv Loans lent; mv Moss.txt moss.txt");
  SetFault(machine_->peer(), "");
  Flush();
  EXPECT_EQ(Store(),
            (Files{{"fern.txt", "fern\n"}, {"lent/one", "one\n"}, {"moss.txt", "moss\nmore\n"}}));
  EXPECT_EQ(machine_->Shell("cat fern.txt lent/one moss.txt").out, "fern\none\nmoss\nmore\n");
}

}  // namespace
}  // namespace pargeter::test
