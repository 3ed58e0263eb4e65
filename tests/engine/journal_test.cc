// What a close has confirmed is in the journal, whatever else goes on with the file.
#include <gtest/gtest.h>
#include <linux/falloc.h>

#include <filesystem>
#include <future>

#include "support/story.h"

namespace pargeter::test {
namespace {

class JournalTest : public DriveTest {
 protected:
  // The process is killed, and another takes over.
  void Kill() {
    disk_.DieAt(disk_.operations());
    Close();
    disk_.Heal();
    Open();
  }
};

// The kernel closes a file for good some time after the program did: while it is written anew.
TEST_F(JournalTest, AWriteIsJournalledThoughAnotherHandleWasSavedInTheMidstOfIt) {
  Play("set quiet=60000; open");
  const auto former = drive_->Create(kRootId, "f", 0644, 0, 0, false);
  ASSERT_TRUE(former.ok());
  std::promise<void> writing;
  std::atomic<bool> saving{false};
  disk_.on_sync = [&, once = std::make_shared<std::atomic<bool>>(false)] {
    if (once->exchange(true)) return;
    saving = true;
    writing.get_future().wait_for(std::chrono::seconds(20));
  };
  auto saved = std::async(std::launch::async, [&] { return drive_->Fsync(former->file).ok(); });
  ASSERT_TRUE(Eventually([&] { return saving.load(); }));
  disk_.on_write = [&, once = std::make_shared<std::atomic<bool>>(false)] {
    if (once->exchange(true)) return;
    writing.set_value();
    saved.wait_for(std::chrono::milliseconds(200));  // it holds the tree now, and wants the content
  };
  const auto opened = drive_->OpenNode(IdOf("f"), Drive::Intent::kWrite);
  ASSERT_TRUE(opened.ok());
  ASSERT_TRUE(drive_->Write(opened->file, "Silene vulgaris", 0, false).ok());
  ASSERT_TRUE(saved.get());
  ASSERT_TRUE(drive_->Flush(opened->file).ok());
  disk_.on_write = disk_.on_sync = nullptr;
  Kill();
  EXPECT_EQ(*Read("f"), "Silene vulgaris");
}

// As a recording is, or a log: written for hours, and never closed.
// An earlier program could leave rows in a folder of which no row tells: they waited for ever.
TEST_F(JournalTest, RowsOfAFolderThatIsNotKnownAreMended) {
  Play("put d/f: f; open; count d: 1");
  const NodeId d = IdOf("d"), f = IdOf("d/f");
  Close();
  {
    auto index = *Index::Open(folder_ / "state/index.db", &disk_, false);
    Node lost = **index->Get(f);
    lost.parent = kNoNode;
    lost.name.clear();
    lost.remote.place = RemotePlace::kMoved;
    lost.remote.parent = d + 1000;
    lost.remote.name = "f";
    lost.kind = NodeKind::kFolder;
    lost.pending.seq = index->NextSeq();
    ASSERT_TRUE(index->Update(lost).ok());
    EXPECT_FALSE(index->CheckPlaces().ok());
  }
  Open();
  const Status index = drive_->CheckIndex();
  EXPECT_TRUE(index.ok()) << index.error().what;
  FlushAll();
  EXPECT_EQ(drive_->Queue(10)->size(), 0u);
  Play("refresh; list d; refresh");
  EXPECT_EQ(*Read("d/f"), "f") << "what the store has is listed again";
}

TEST_F(JournalTest, WhatWasWrittenToAnOpenFileOutlivesTheProcess) {
  quiet_ = Duration(60000);
  watch_every_ = Duration(10);
  world_.Put("log", "old ");
  Play("put anew: whole; open");
  std::vector<Drive::Opened> open;
  for (const char* name : {"recording", "log", "anew"}) {
    const NodeId id = IdOf(name);
    const auto intent =
        name == std::string("anew") ? Drive::Intent::kTruncate : Drive::Intent::kWrite;
    auto opened = id == kNoNode ? drive_->Create(kRootId, name, 0644, 0, 0, false)
                                : drive_->OpenNode(id, intent);
    ASSERT_TRUE(opened.ok());
    open.push_back(*opened);
  }
  // What the next process would find: the drive has the index for itself.
  const auto journalled = [&](std::size_t i, std::uint64_t size) {
    for (const char* ending : {"", "-wal"}) {
      std::error_code gone;
      std::filesystem::copy_file((folder_ / "state/index.db") + ending,
                                 (folder_ / "seen.db") + ending,
                                 std::filesystem::copy_options::overwrite_existing, gone);
    }
    const auto index = Index::Open(folder_ / "seen.db", &disk_, false);
    const auto node = index.ok() ? (*index)->Get(open[i].attr.id) : index.error();
    return node.ok() && *node && (*node)->size == size;
  };
  std::uint64_t log = 4, others = 0;
  for (const std::string word : {"one, ", "two, ", "three"}) {
    for (const auto& opened : open) ASSERT_TRUE(drive_->Write(opened.file, word, 0, true).ok());
    log += word.size(), others += word.size();
    ASSERT_TRUE(Eventually(
        [&] { return journalled(0, others) && journalled(1, log) && journalled(2, others); }));
  }
  Kill();
  Play("read recording: one, two, three; read log: old one, two, three");
  EXPECT_EQ(*Read("anew"), "whole");  // half of the new one is no better
  Play("flush; has log: old one, two, three");
}

// A disk may take some of the bytes before it fails.
TEST_F(JournalTest, WhatAFailedWriteLeftBehindTheEndIsNotOfTheFile) {
  Play("set quiet=60000; open");
  const auto opened = drive_->Create(kRootId, "f", 0644, 0, 0, false);
  ASSERT_TRUE(opened.ok());
  const auto append_fails = [&] {
    disk_.FailAt(disk_.operations() + 1);
    const std::uint64_t end = drive_->GetAttr(opened->attr.id)->size;
    EXPECT_EQ(drive_->Write(opened->file, "lost lost", end, false).error().code, Code::kIo);
  };
  ASSERT_TRUE(drive_->Write(opened->file, "kept", 0, false).ok());
  append_fails();
  ASSERT_TRUE(hands().Resize("f", 6).ok());
  append_fails();
  ASSERT_TRUE(drive_->Write(opened->file, "new", 8, false).ok());
  append_fails();
  ASSERT_TRUE(drive_->Allocate(opened->file, 0, 0, 13).ok());
  EXPECT_EQ(*ReadOpen(opened->file), std::string("kept\0\0\0\0new\0\0", 13));
  drive_->Release(opened->file);
  FlushAll();
  EXPECT_EQ(world_.All()["f"], std::string("kept\0\0\0\0new\0\0", 13));
}

// Whoever is told that there is no new file finds none.
TEST_F(JournalTest, ANameThatCouldNotBeMadeIsNotThere) {
  Play("open; flush");
  int refused = 0;
  for (std::uint64_t n = 1; n <= 30; ++n) {
    const std::string name = fmt::format("f{:02}", n);
    disk_.FailAt(disk_.operations() + n);
    const auto made = drive_->Create(kRootId, name, 0644, 0, 0, true);
    disk_.FailAt(0);
    if (made.ok()) {
      drive_->Release(made->file);
      continue;
    }
    ++refused;
    EXPECT_EQ(IdOf(name), kNoNode) << name;
    EXPECT_TRUE(Write(name, "at the second try").ok()) << name;
  }
  EXPECT_GT(refused, 2);
  FlushAll();
  EXPECT_EQ(world_.All().size(), 30u);
}

TEST_F(JournalTest, AfterAWriteThatFailedWhileItWentUpTheStoreHasWhatIsHere) {
  Open();
  std::atomic<bool> failed{false};
  world_.on_write = [&](const std::string&) {
    if (failed.exchange(true)) return;
    disk_.FailAt(disk_.operations() + 1);
    EXPECT_FALSE(hands().Patch("f", "HALF", 0).ok());
    EXPECT_NE(*Read("f"), "as it was");
  };
  Play("write f: as it was; flush");
  world_.on_write = nullptr;
  EXPECT_TRUE(failed);
  EXPECT_EQ(world_.All()["f"], *Read("f"));
  Play("close; open");
  EXPECT_EQ(world_.All()["f"], *Read("f"));
}

// Of a file whose bytes are at the store nothing may be on this disk, not even its length.
TEST_F(JournalTest, ZerosAreWrittenWhereNothingIsHereYet) {
  const std::string scan(300000, 'o');
  for (const int mode : {FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, FALLOC_FL_ZERO_RANGE}) {
    world_.Put("f", scan);
    Open();
    const auto opened = drive_->OpenNode(IdOf("f"), Drive::Intent::kWrite);
    ASSERT_TRUE(opened.ok());
    ASSERT_TRUE(drive_->Allocate(opened->file, mode, 200000, 100000).ok());
    ASSERT_TRUE(drive_->Flush(opened->file).ok());
    const std::string wanted = scan.substr(0, 200000) + std::string(100000, '\0');
    EXPECT_TRUE(*ReadOpen(opened->file) == wanted);
    drive_->Release(opened->file);
    Kill();
    EXPECT_TRUE(*Read("f") == wanted);
    FlushAll();
    EXPECT_TRUE(world_.All()["f"] == wanted);
    Close();
  }
}

// Its waiting content is all that there is of it.
TEST_F(JournalTest, WhatCouldNotBeJournalledWasNotCutOff) {
  Play("set quiet=60000; put f: of before, and longer; open; write f: kept text");
  for (const bool killed : {false, true}) {
    std::uint64_t n = 0;  // the step that fails, of all that a cut takes and what goes on beside it
    for (bool beyond = false; !beyond; ++n) {
      const std::uint64_t at = disk_.operations() + 1 + n;
      disk_.FailAt(killed ? 0 : at);
      disk_.DieAt(killed ? at : 0);
      const Status done = hands().Resize("f", 3);
      beyond = disk_.operations() < at;
      const bool must = done.ok() && !disk_.dead();  // else it may: the last steps only close it
      const auto told = disk_.dead() ? Result<std::string>("kept text") : Read("f");
      EXPECT_TRUE(*told == "kep" || (!must && *told == "kept text")) << n << *told;
      Kill();
      const std::string now = *Read("f");
      EXPECT_TRUE(now == "kep" || (!must && now == "kept text")) << n << now;
      EXPECT_TRUE(killed || now == *told) << n << now;
      ASSERT_TRUE(Write("f", "kept text").ok());
    }
    EXPECT_GT(n, 2u);
  }
}

// What was fetched is written down when it is on the disk: a good while later.
TEST_F(JournalTest, WhatIsKnownOfFetchedBytesDoesNotReplaceWhatIsKnownOfNewerOnes) {
  std::string scan(3'000'000, 'o');
  world_.Put("f", scan);
  Play("set quiet=60000; open");
  const auto opened = drive_->OpenNode(IdOf("f"), Drive::Intent::kRead);
  char some[1000];
  ASSERT_TRUE(drive_->Read(opened->file, some, sizeof some, 0).ok());
  drive_->Release(opened->file);
  std::promise<void> written;
  std::atomic<bool> saving{false};
  disk_.on_sync = [&, once = std::make_shared<std::atomic<bool>>(false)] {
    if (once->exchange(true)) return;
    saving = true;
    written.get_future().wait_for(std::chrono::seconds(20));
  };
  const auto saved = std::async(std::launch::async, [&] { Ignore(drive_->Evict({}, {})); });
  ASSERT_TRUE(Eventually([&] { return saving.load(); }));
  ASSERT_TRUE(hands().Patch("f", "new", 2'900'000).ok());
  written.set_value();
  saved.wait();
  disk_.on_sync = nullptr;
  Kill();
  scan.replace(2'900'000, 3, "new");
  EXPECT_TRUE(*hands().Read("f") == scan);
}

// The store is asked to move it, and refuses, since others have changed it. Meanwhile it is
// written.
TEST_F(JournalTest, AWriteIsNotReplacedByWhatOthersMadeOfTheFileBeforeItMoved) {
  Play("put f: base; open; read f: base; put f: theirs");
  std::atomic<bool> written{false};
  world_.on_copied = [&] {
    if (!written.exchange(true)) {
      EXPECT_TRUE(Write("g", "ours").ok());
    }
  };
  ASSERT_TRUE(hands().Move("f", "g").ok());
  ASSERT_TRUE(Eventually([&] { return written.load(); }));
  FlushAll();
  world_.on_copied = nullptr;
  EXPECT_EQ(world_.All(), (Files{{"f", "theirs"}, {"g", "ours"}}));
}

// Its writer did not come to an end.
TEST_F(JournalTest, AFileThatWasOnlyEmptiedIsAgainWhatTheStoreHas) {
  const std::string scan(300000, 'o');
  for (const bool written : {false, true}) {
    world_.Put("f", scan);
    Open();
    ASSERT_TRUE(*Read("f") == scan);
    world_.TakeAsked();
    const auto opened = drive_->OpenNode(IdOf("f"), Drive::Intent::kTruncate);
    ASSERT_TRUE(opened.ok());
    if (written) {
      ASSERT_TRUE(drive_->Write(opened->file, "new", 0, false).ok());
    }
    Kill();
    EXPECT_TRUE(*Read("f") == scan);
    Play("flush; unasked write");
    EXPECT_TRUE(world_.All()["f"] == scan);
    Close();
  }
}

TEST_F(JournalTest, WhatIsCutOffIsCutOffBeforeItIsClosed) {
  Play("set quiet=60000; open");
  for (const auto intent : {Drive::Intent::kTruncate, Drive::Intent::kWrite}) {
    ASSERT_TRUE(Write("f", std::string(100000, 'o')).ok());
    const auto opened = drive_->OpenNode(IdOf("f"), intent);
    ASSERT_TRUE(opened.ok());
    AttrChange cut;
    cut.size = 0;
    if (intent == Drive::Intent::kWrite) {
      ASSERT_TRUE(drive_->SetAttr(opened->attr.id, cut, opened->file).ok());
    }
    ASSERT_TRUE(drive_->Write(opened->file, "new", 0, false).ok());
    Kill();
    EXPECT_LE(Read("f")->size(), 3u);
  }
}

}  // namespace
}  // namespace pargeter::test
