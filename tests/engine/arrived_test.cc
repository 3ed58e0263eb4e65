// What comes from the store and is not what it should be is kept from who reads, and from the
// cache.
#include <gtest/gtest.h>

#include <future>

#include "support/story.h"

namespace pargeter::test {
namespace {

class ArrivedTest : public DriveTest {
 protected:
  void Spoil(std::deque<bool> reads) {
    const Lock lock(world_.mutex);
    world_.spoils = std::move(reads);
  }
  // Of many pieces, that differ.
  static std::string Scan(std::size_t size) {
    std::string out(size, '\0');
    for (std::size_t i = 0; i < size; ++i) out[i] = static_cast<char>((i * 2654435761u) >> 13);
    return out;
  }
  Result<std::string> ReadAll(const OpenFilePtr& file, std::size_t size) {
    std::string out(size, '\0');
    for (std::size_t at = 0; at < size;) {
      PG_ASSIGN(const std::size_t n,
                drive_->Read(file, out.data() + at, std::min<std::size_t>(131072, size - at), at));
      at += n;
    }
    return out;
  }
  OpenFilePtr OpenIt(const std::string& path) {
    auto opened = drive_->OpenNode(IdOf(path), Drive::Intent::kRead);
    EXPECT_TRUE(opened.ok());
    return opened->file;
  }
  std::uint64_t OnDisk(const std::string& path) {
    const auto attr = drive_->GetAttr(IdOf(path));
    return attr.ok() ? attr->on_disk : ~0ull;
  }
};

TEST_F(ArrivedTest, ASmallFileThatIsWrongIsNotKept) {
  Play("put label: Silene vulgaris, north cliff; open");
  Spoil({true});
  const auto spoilt = Read("label");
  ASSERT_FALSE(spoilt.ok()) << *spoilt;
  EXPECT_EQ(spoilt.error().code, Code::kDamaged);
  EXPECT_EQ(OnDisk("label"), 0u);
  EXPECT_EQ(*Read("label"), "Silene vulgaris, north cliff");
}

// Whichever piece is the wrong one, also where much of the file was here before.
TEST_F(ArrivedTest, AFileInPiecesThatIsWrongIsNotKept) {
  const std::string scan = Scan(9'300'000);
  world_.Put("scan", scan);
  Open();
  for (std::size_t wrong = 0; wrong < 4; ++wrong) {
    std::deque<bool> reads(wrong, false);
    reads.push_back(true);
    Spoil(reads);
    const OpenFilePtr file = OpenIt("scan");
    const auto got = ReadAll(file, scan.size());
    ASSERT_FALSE(got.ok()) << "wrong piece " << wrong << (*got == scan ? " not noticed" : " given");
    EXPECT_EQ(got.error().code, Code::kDamaged);
    // who has been given some of it gets no more, nor the right ones between
    EXPECT_FALSE(ReadAll(file, 1000).ok());
    drive_->Release(file);
    EXPECT_EQ(OnDisk("scan"), 0u);
    const OpenFilePtr again = OpenIt("scan");
    EXPECT_TRUE(*ReadAll(again, scan.size()) == scan);
    drive_->Release(again);
    EXPECT_EQ(OnDisk("scan"), scan.size());
    ASSERT_TRUE(drive_->Evict({IdOf("scan")}, {}).ok());
  }
}

TEST_F(ArrivedTest, WhatWasHereBeforeARestartIsLookedAtToo) {
  const std::string scan = Scan(9'300'000);
  world_.Put("scan", scan);
  Open();
  OpenFilePtr file = OpenIt("scan");
  Spoil({true});
  ASSERT_TRUE(ReadAll(file, 100'000).ok());
  drive_->Release(file);
  Play("close; open");
  file = OpenIt("scan");
  EXPECT_FALSE(ReadAll(file, scan.size()).ok());
  drive_->Release(file);
  file = OpenIt("scan");
  EXPECT_TRUE(*ReadAll(file, scan.size()) == scan);
  drive_->Release(file);
}

TEST_F(ArrivedTest, FetchingTriesAgain) {
  const std::string scan = Scan(9'300'000);
  world_.Put("scan", scan);
  Play("put label: Silene vulgaris, north cliff; open");
  Spoil({true, false, true});
  ASSERT_TRUE(drive_->Pin(IdOf("scan")).ok());
  ASSERT_TRUE(Eventually([&] { return OnDisk("scan") == scan.size(); }));
  Spoil({});
  const OpenFilePtr file = OpenIt("scan");
  EXPECT_TRUE(*ReadAll(file, scan.size()) == scan);
  drive_->Release(file);
}

// An uploader that needed the rest of a file waited for an hour, and unmounting with it.
TEST_F(ArrivedTest, NobodyWaitsForBytesThatNobodyFetchesAnyMore) {
  world_.Put("scan", Scan(3'000'000));
  Open();
  const OpenFilePtr file = OpenIt("scan");
  drive_->Stop();
  const auto begun = std::chrono::steady_clock::now();
  const auto got = ReadAll(file, 1000);
  ASSERT_FALSE(got.ok());
  EXPECT_EQ(got.error().code, Code::kUnavailable);
  EXPECT_LT(std::chrono::steady_clock::now() - begun, std::chrono::seconds(2));
  drive_->Release(file);
}

TEST_F(ArrivedTest, WhatArrivesAfterAFileWasCutIsNotInItWhenItGrows) {
  world_.Put("list", std::string(30'000, 'o'));
  Open();
  std::promise<void> cut;
  std::atomic<bool> sending{false};
  world_.on_read = [&](const std::string&) {
    if (!sending.exchange(true)) cut.get_future().wait_for(std::chrono::seconds(20));
  };
  const auto read = std::async(std::launch::async, [this] { Ignore(Read("list")); });
  ASSERT_TRUE(Eventually([&] { return sending.load(); }));
  ASSERT_TRUE(Write("list", "new").ok());
  cut.set_value();
  read.wait();
  ASSERT_TRUE(hands().Patch("list", "end", 20'000).ok());
  std::string wanted = "new";
  wanted.resize(20'000);
  EXPECT_TRUE(*Read("list") == wanted + "end");
  FlushAll();
  EXPECT_TRUE(world_.All()["list"] == wanted + "end");
}

// While the store is asked once more, the file is written: that is not thrown away with the rest.
TEST_F(ArrivedTest, AWriteOutlivesTheFindingThatTheRestIsWrong) {
  const std::string scan = Scan(3'000'000);
  world_.Put("scan", scan);
  Open();
  std::atomic<int> reads{0}, needed{1'000'000};
  world_.on_read = [&](const std::string&) {
    if (reads++ == needed) {
      EXPECT_TRUE(hands().Patch("scan", "new", 1'000).ok());
    }
  };
  OpenFilePtr file = OpenIt("scan");
  ASSERT_TRUE(ReadAll(file, scan.size()).ok());
  drive_->Release(file);
  needed = reads.exchange(0);
  ASSERT_TRUE(drive_->Evict({IdOf("scan")}, {}).ok());
  Spoil({true});
  file = OpenIt("scan");
  Ignore(ReadAll(file, scan.size()));
  drive_->Release(file);
  ASSERT_GT(reads, needed) << "it was not asked for once more";
  FlushAll();
  EXPECT_EQ(world_.All()["scan"].substr(1'000, 3), "new");
}

// Cut and changed while the last piece is on its way: what was cut off does not come back.
TEST_F(ArrivedTest, AFileThatIsChangedMeanwhileIsWhatItWasChangedTo) {
  const std::string scan = Scan(3'000'000);
  world_.Put("scan", scan);
  Open();
  const OpenFilePtr file = OpenIt("scan");
  ASSERT_TRUE(ReadAll(file, 100'000).ok());
  Hands hands(drive_.get());
  ASSERT_TRUE(hands.Resize("scan", 50'000).ok());
  ASSERT_TRUE(hands.Resize("scan", 3'000'000).ok());
  drive_->Release(file);
  std::string wanted = scan.substr(0, 50'000);
  wanted.resize(3'000'000);
  const OpenFilePtr again = OpenIt("scan");
  EXPECT_TRUE(*ReadAll(again, wanted.size()) == wanted);
  drive_->Release(again);
  FlushAll();
  EXPECT_TRUE(world_.All()["scan"] == wanted);
}

}  // namespace
}  // namespace pargeter::test
