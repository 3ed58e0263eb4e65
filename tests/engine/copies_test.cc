// A copy that the store makes can be another version than its original: what came up in parts has
// no digest of its content for a version, and some stores give each copy a version of its own.
#include <gtest/gtest.h>

#include <atomic>
#include <filesystem>
#include <set>

#include "support/story.h"

namespace pargeter::test {
namespace {

class CopiesTest : public DriveTest {
 protected:
  CopiesTest() {
    world_.multipart_above = 100;
    retry_pause_ = Duration(10);
  }
  // As another program puts it there, in parts.
  void PutInParts(const std::string& path, const std::string& text) {
    const Lock lock(world_.mutex);
    world_.Set(path, {text, {}, 1, 0, true});
  }
  void Fails(const std::string& kind, std::deque<bool> next) {
    const Lock lock(world_.mutex);
    world_.fails[kind] = std::move(next);
  }
  void Loses(const std::string& kind, std::deque<bool> next) {
    const Lock lock(world_.mutex);
    world_.loses[kind] = std::move(next);
  }
  const std::string scan_ = std::string(500, 's'), other_ = std::string(500, 'o');
};

TEST_F(CopiesTest, AMovedFolderLeavesNothingAndNothingOfItIsFetchedAgain) {
  Play("open; mkdir d; mkdir d/deep");
  ASSERT_TRUE(Write("d/deep/scan", scan_).ok());
  Play("write d/label: fern; flush");
  const auto opened = drive_->OpenNode(IdOf("d/deep/scan"), Drive::Intent::kRead);
  ASSERT_TRUE(opened.ok());
  Play("forget; move d e; flush");
  EXPECT_EQ(FilesThere(), (Files{{"e/deep/scan", scan_}, {"e/label", "fern"}}));
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(*Read("e/deep/scan"), scan_);
  EXPECT_EQ(*ReadOpen(opened->file), scan_) << "which was open before";
  Play("unasked read; names: e");
  drive_->Release(opened->file);
}

TEST_F(CopiesTest, WhatWaitsInAMovedFolderIsNoConflict) {
  world_.Put("d/x", "x");
  PutInParts("d/scan", scan_);
  Play("open; count d: 2; offline");
  ASSERT_TRUE(Write("d/scan", other_).ok());
  Play("move d e; online; flush");
  EXPECT_EQ(FilesThere(), (Files{{"e/scan", other_}, {"e/x", "x"}}));
  EXPECT_EQ(drive_->Summary().conflicts, 0u);
}

// Each point at which the move of a folder can be interrupted.
TEST_F(CopiesTest, AMoveThatIsInterruptedGoesOnWithTheCopiesThatAreThere) {
  for (const char* kind : {"copy", "remove-many", "deep", "remove", "look"}) {
    for (const auto& [restart, parts] :
         {std::pair(false, 0), {true, 0}, {false, 300}, {true, 300}}) {
      world_.copies_in_parts_above = static_cast<std::uint64_t>(parts);
      world_.Clear();
      for (int i = 0; i < 3; ++i) PutInParts("d/" + std::to_string(i), scan_);
      PutInParts("d/deep/own", other_);
      Play("open; count d: 4; count d/deep: 1");
      Loses(kind, {false, true, true});
      Fails(kind, {false, false, false, true});
      ASSERT_TRUE(hands().Move("d", "e").ok());
      if (restart) {
        ASSERT_TRUE(
            Eventually([&] { return FilesThere().count("e/0") + FilesThere().count("e/1") > 0; }));
        Play("close; open");
      }
      FlushAll();
      EXPECT_EQ(FilesThere(),
                (Files{{"e/0", scan_}, {"e/1", scan_}, {"e/2", scan_}, {"e/deep/own", other_}}))
          << kind << restart << parts;
      EXPECT_EQ(world_.Uploads(), 0u) << kind << restart << parts;
      ForgetState();
      Loses(kind, {});
      Fails(kind, {});
    }
  }
}

// ---- copies that a program asks for

class AskedCopyTest : public DriveTest {
 protected:
  AskedCopyTest() {
    Play("set retry=10; set quiet=60000");
    world_.Put("scan", scan_);
  }
  // As cp does it: by the store, or else by reading and writing.
  std::optional<Code> Copy(const std::string& to) {
    const auto from = drive_->OpenNode(IdOf("scan"), Drive::Intent::kRead);
    const auto copy = drive_->Create(kRootId, to, 0644, 0, 0, true);
    EXPECT_TRUE(from.ok() && copy.ok());
    const auto done = drive_->CopyWhole(from->file, 0, copy->file, 0, 1u << 30);
    EXPECT_TRUE(!done.ok() || *done == scan_.size());
    drive_->Release(from->file);
    if (drive_->Flush(copy->file).ok()) drive_->Release(copy->file);
    return done.ok() ? std::nullopt : std::optional(done.error().code);
  }
  const std::string scan_ = std::string(2'000'000, 's');
};

TEST_F(AskedCopyTest, IsAtTheStoreBeforeItIsSaidToBeDone) {
  Open();
  IdOf("scan");
  world_.TakeAsked();
  EXPECT_EQ(Copy("copy"), std::nullopt);
  EXPECT_TRUE(world_.All()["copy"] == scan_);
  Play("put scan: another; refresh; flush");
  EXPECT_TRUE(*hands().Read("copy") == scan_);
  EXPECT_TRUE(Asked("write").empty());
}

TEST_F(AskedCopyTest, CanBeWrittenToAtOnceAndOutlivesTheProcess) {
  Open();
  IdOf("scan");
  ASSERT_EQ(Copy("copy"), std::nullopt);
  ASSERT_TRUE(hands().Patch("copy", "NEW", 1000).ok());
  Kill();
  Play("open; flush");
  std::string wanted = scan_;
  wanted.replace(1000, 3, "NEW");
  EXPECT_TRUE(world_.All()["copy"] == wanted);
}

TEST_F(AskedCopyTest, IsLeftToReadingAndWritingOffline) {
  Open();
  IdOf("scan");
  world_.SetOffline(true);
  ASSERT_FALSE(drive_->Refresh().ok());
  EXPECT_EQ(Copy("copy"), Code::kUnsupported);
  EXPECT_EQ(drive_->GetAttr(IdOf("copy"))->size, 0u);
  Play("online; flush");
  EXPECT_TRUE(world_.All()["copy"].empty());
}

TEST_F(AskedCopyTest, OfWhatWasReplacedMeanwhileIsNotMade) {
  Open();
  IdOf("scan");
  world_.Put("scan", std::string(2'000'000, 't'));
  EXPECT_EQ(Copy("copy"), Code::kUnsupported);
  FlushAll();
  EXPECT_TRUE(world_.All()["copy"].empty());
  EXPECT_TRUE(Read("copy")->empty());
}

TEST_F(AskedCopyTest, ThatTheStoreRefusesIsLeftToReadingAndWriting) {
  Open();
  IdOf("scan");
  world_.Fail("copy", 3);
  EXPECT_EQ(Copy("copy"), Code::kUnsupported);
  EXPECT_EQ(drive_->GetAttr(IdOf("copy"))->size, 0u);
}

TEST_F(AskedCopyTest, MadeThoughNobodyLearntOfItIsNoConflict) {
  copy_patience_ = Duration(1500);  // slow machines get as far as the copy in that
  world_.cut_off = [this] { return disk_.dead(); };
  for (const bool says_who : {true, false}) {
    world_.serial_versions = world_.forgets_origins = !says_who;
    for (const bool replaces : {false, true}) {
      if (replaces) world_.Put("copy", "of before");
      Open();
      IdOf("scan");
      if (replaces) {
        ASSERT_TRUE(Write("copy", "waiting").ok());
      }
      world_.on_copied = [this] { disk_.DieAt(disk_.operations() + 1); };
      {
        const auto from = drive_->OpenNode(IdOf("scan"), Drive::Intent::kRead);
        const auto copy =
            drive_->Create(kRootId, "copy", 0644, 0, 0, false, Drive::Intent::kTruncate);
        ASSERT_TRUE(from.ok() && copy.ok());
        EXPECT_FALSE(drive_->CopyWhole(from->file, 0, copy->file, 0, 1u << 30).ok());
      }
      Close();
      world_.on_copied = nullptr;
      disk_.Heal();
      Play("open; flush");
      EXPECT_TRUE(world_.All()["copy"] == scan_) << says_who << replaces;
      EXPECT_EQ(drive_->Summary().conflicts, 0u) << says_who << replaces;
      EXPECT_EQ(Names("").size(), 2u) << says_who << replaces;
      ForgetState();
      world_.Erase("copy");
    }
  }
}

TEST_F(AskedCopyTest, MadeThoughNobodyLearntOfItIsRemovedOrReplacedAllTheSame) {
  for (const bool says_who : {true, false}) {
    world_.serial_versions = world_.forgets_origins = !says_who;
    for (const bool removed : {true, false}) {
      Open();
      IdOf("scan");
      world_.Lose("copy");
      {
        const auto from = drive_->OpenNode(IdOf("scan"), Drive::Intent::kRead);
        const auto copy = drive_->Create(kRootId, "copy", 0644, 0, 0, true);
        ASSERT_TRUE(from.ok() && copy.ok());
        EXPECT_FALSE(drive_->CopyWhole(from->file, 0, copy->file, 0, 1u << 30).ok());
        drive_->Release(copy->file);
        drive_->Release(from->file);
      }
      EXPECT_EQ(world_.All().count("copy"), 1u);
      if (removed) {
        ASSERT_TRUE(drive_->Unlink(kRootId, "copy").ok());
      } else {
        ASSERT_TRUE(Write("copy", "something else").ok());
      }
      FlushAll();
      EXPECT_EQ(world_.All().size(), removed ? 1u : 2u) << says_who;
      EXPECT_TRUE(world_.All()["copy"] == (removed ? "" : "something else")) << says_who;
      EXPECT_EQ(drive_->Summary().conflicts, 0u) << says_who;
      ForgetState();
      world_.Erase("copy");
    }
  }
}

// Whoever asked for it has had no answer.
TEST_F(AskedCopyTest, CutOffAnywhereIsMadeOrIsEmpty) {
  copy_patience_ = Duration(100);
  world_.cut_off = [this] { return disk_.dead(); };
  std::uint64_t n = 0;
  for (bool copied = false; !copied; ++n) {
    Open();
    IdOf("scan");
    disk_.DieAt(disk_.operations() + 1 + n);
    {
      const auto from = drive_->OpenNode(IdOf("scan"), Drive::Intent::kRead);
      const auto copy = drive_->Create(kRootId, "copy", 0644, 0, 0, true);
      copied = from.ok() && copy.ok() &&
               drive_->CopyWhole(from->file, 0, copy->file, 0, 1u << 30).ok() && !disk_.dead();
    }
    Close();
    disk_.Heal();
    if (n % 2 == 1) world_.Put("scan", std::string(2'000'000, 't'));
    Play("open; flush");
    const auto all = world_.All();
    if (all.count("copy") > 0) {
      EXPECT_TRUE(all.at("copy") == scan_ || all.at("copy").empty()) << n;
    }
    EXPECT_TRUE(!copied || all.at("copy") == scan_);
    EXPECT_EQ(drive_->Summary().conflicts, 0u) << n;
    ForgetState();
    world_.Erase("copy");
    world_.Put("scan", scan_);
  }
  EXPECT_GT(n, 5u);
}

TEST_F(CopiesTest, AMoveThatIsTakenBackLeavesNoCopies) {
  for (int i = 0; i < 2; ++i) PutInParts("d/" + std::to_string(i), scan_);
  Play("open; count d: 2");
  Fails("copy", {false, true});
  std::atomic<bool> copied{false};
  world_.on_copied = [&] {
    if (copied.exchange(true)) return;
    Ignore(hands().Move("e", "d"));
  };
  ASSERT_TRUE(hands().Move("d", "e").ok());
  ASSERT_TRUE(Eventually([&] { return copied.load(); }));
  FlushAll();
  EXPECT_EQ(FilesThere(), (Files{{"d/0", scan_}, {"d/1", scan_}}));
  world_.on_copied = nullptr;
}

// All of it is at the new place, and nothing has gone from the old one yet.
TEST_F(CopiesTest, AFolderThatIsMovedBackFindsItsOwn) {
  for (const bool restarted : {false, true}) {
    SCOPED_TRACE(restarted);
    for (int i = 0; i < 2; ++i) PutInParts("d/" + std::to_string(i), scan_);
    Play("open; count d: 2");
    std::atomic<int> copies{0};
    std::atomic<bool> moved_back{false};
    world_.on_copied = [&] {
      if (++copies != 2) return;
      EXPECT_TRUE(hands().Move("e", "d").ok());
      Fails("deep", {restarted});
      moved_back = true;
    };
    ASSERT_TRUE(hands().Move("d", "e").ok());
    ASSERT_TRUE(Eventually([&] { return moved_back.load(); }));
    if (restarted) {
      Play("close; open");
    }
    FlushAll();
    EXPECT_EQ(FilesThere(), (Files{{"d/0", scan_}, {"d/1", scan_}}));
    Play("conflicts 0; close");
    world_.on_copied = nullptr;
  }
}

TEST_F(CopiesTest, AFileOfAnotherMovesOnceThoughTheAnswerIsLost) {
  PutInParts("a", scan_);
  Play("open; count: 1");
  Loses("copy", {true});
  Play("move a b; flush");
  EXPECT_EQ(FilesThere(), (Files{{"b", scan_}}));
  EXPECT_EQ(drive_->Summary().conflicts, 0u);
}

TEST_F(CopiesTest, AFileThatMovesOnAfterALostAnswerLeavesNoCopy) {
  may_be_late_ = Duration(100);
  PutInParts("a", scan_);
  Play("open; count: 1");
  Loses("copy", {true});
  std::atomic<bool> copied{false};
  world_.on_copied = [&] {
    if (!copied.exchange(true)) Ignore(hands().Move("b", "c"));
  };
  ASSERT_TRUE(hands().Move("a", "b").ok());
  ASSERT_TRUE(Eventually([&] { return copied.load(); }));
  FlushAll();
  EXPECT_EQ(FilesThere(), (Files{{"c", scan_}}));
  world_.on_copied = nullptr;
}

// One machine's folder moves to where another machine made one meanwhile.
class MetTest : public CopiesTest {
 protected:
  MetTest() {
    Play(
        "set moves-files moves-folders serial; put d/1: ours 1; put d/deep/2: ours 2; put "
        "d/deep/3: ours 3");
  }
  void Meet() { Play("open; count d: 2; count d/deep: 2; put e/deep/2: theirs; move d e"); }
};

TEST_F(MetTest, EachFileGoesInOrBesideAnotherOfItsName) {
  Meet();
  FlushAll();
  Files there = FilesThere();
  const auto kept = std::find_if(there.begin(), there.end(), [](const auto& file) {
    return file.first.rfind("e/deep/2 (kept from isle", 0) == 0;
  });
  ASSERT_NE(kept, there.end());
  EXPECT_EQ(kept->second, "ours 2");
  there.erase(kept);
  EXPECT_EQ(there, (Files{{"e/1", "ours 1"}, {"e/deep/2", "theirs"}, {"e/deep/3", "ours 3"}}));
  Play("refresh; count e/deep: 3; names: e");
}

// Versions that are a time and a size may be the same of two files.
TEST_F(MetTest, WhatLooksTheSameIsNotTakenForItsOwn) {
  Play("open; count d/deep: 2");
  world_.Duplicate("d/deep/2", "e/deep/2");
  world_.Edit("e/deep/2", [&](auto& object) { object.body = "theirs"; });
  Play("move d e; flush");
  std::multiset<std::string> texts;
  for (const auto& [path, text] : FilesThere()) texts.insert(text);
  EXPECT_EQ(texts, (std::multiset<std::string>{"ours 1", "ours 2", "ours 3", "theirs"}));
}

TEST_F(MetTest, InterruptedAnywhereItGoesOn) {
  for (const char* kind : {"move", "deep", "look", "list", "remove-many"}) {
    world_.Clear();
    for (const char* name : {"1", "deep/2", "deep/3", "deep/4"})
      world_.Put(std::string("d/") + name, name);
    Play("open; count d: 2; count d/deep: 3; put e/theirs: theirs");
    Loses(kind, {false, true, true});
    Fails(kind, {false, false, false, true});
    ASSERT_TRUE(hands().Move("d", "e").ok());
    ASSERT_TRUE(Eventually([&] { return FilesThere().count("e/1") > 0; }));
    Play("close; open; flush");
    EXPECT_EQ(FilesThere(), (Files{{"e/1", "1"},
                                   {"e/deep/2", "deep/2"},
                                   {"e/deep/3", "deep/3"},
                                   {"e/deep/4", "deep/4"},
                                   {"e/theirs", "theirs"}}))
        << kind;
    ForgetState();
    Loses(kind, {});
    Fails(kind, {});
  }
}

// What meets a file of others half-way, where files are moved and where they are copied.
class KeptTest : public MetTest, public testing::WithParamInterface<bool> {
 protected:
  KeptTest() {
    world_.moves_files = world_.moves_folders = world_.serial_versions = GetParam();
    // all else fails, until that file has got its name and `then`
    world_.on_send = [this](const std::string& from) {
      if (from == "d/deep/2" || failed_.exchange(true)) return;
      EXPECT_TRUE(Eventually([&] { return KeptThere() > 0; }));
      then_();
      Fails(GetParam() ? "move" : "copy", {true});
    };
  }
  std::ptrdiff_t KeptThere() {
    const Files there = FilesThere();
    return std::count_if(there.begin(), there.end(), [](const auto& file) {
      return file.first.rfind("e/deep/2 (kept from isle", 0) == 0 && file.second == "ours 2";
    });
  }
  std::atomic<bool> failed_{false};
  std::function<void()> then_ = [] {};
};
INSTANTIATE_TEST_SUITE_P(Stores, KeptTest, testing::Bool());

TEST_P(KeptTest, TakenBackItHasItsNameAgain) {
  then_ = [this] { EXPECT_TRUE(hands().Move("e", "d").ok()); };
  Meet();
  ASSERT_TRUE(Eventually([&] { return failed_.load(); }));
  FlushAll();
  EXPECT_EQ(FilesThere(), (Files{{"d/1", "ours 1"},
                                 {"d/deep/2", "ours 2"},
                                 {"d/deep/3", "ours 3"},
                                 {"e/deep/2", "theirs"}}));
  EXPECT_EQ(drive_->Summary().conflicts, 0u);
}

TEST_P(KeptTest, TheNextAttemptKnowsOfIt) {
  Meet();
  FlushAll();
  EXPECT_TRUE(failed_);
  EXPECT_EQ(KeptThere(), 1);
  EXPECT_EQ(FilesThere().size(), 4u);
  EXPECT_EQ(FilesThere()["e/deep/2"], "theirs");
  Play("refresh; count e/deep: 3; conflicts 1");
}

TEST_F(MetTest, TakenBackHalfWayAllIsInItsFormerPlace) {
  std::atomic<bool> begun{false}, moved{false};
  world_.on_moved = [&] {
    if (FilesThere().count("d/1") + FilesThere().count("d/deep/3") == 2 || begun.exchange(true))
      return;
    Fails("move", {true, true, true});
    Ignore(hands().Move("e", "d"));
    moved = true;
  };
  // what meets theirs is the last: it stays there if it has got a name beside that
  world_.on_look = [&](const std::string& path) {
    if (path == "e/deep/2") {
      EXPECT_TRUE(Eventually([&] { return moved.load(); }));
    }
  };
  Meet();
  ASSERT_TRUE(Eventually([&] { return moved.load(); }));
  FlushAll();
  EXPECT_EQ(FilesThere(), (Files{{"d/1", "ours 1"},
                                 {"d/deep/2", "ours 2"},
                                 {"d/deep/3", "ours 3"},
                                 {"e/deep/2", "theirs"}}));
  Close();
  world_.on_moved = nullptr;
  world_.on_look = nullptr;
}

}  // namespace
}  // namespace pargeter::test
