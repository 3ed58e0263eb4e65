#include "index/index.h"

#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/process.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

Node File(NodeId parent, const std::string& name) {
  Node node;
  node.parent = parent;
  node.name = name;
  return node;
}

TEST(IndexTest, EveryFieldComesBackAfterReopening) {
  TemporaryFolder folder;
  Node node = File(kRootId, std::string("a\0b\xFF", 4));
  node.kind = NodeKind::kSymlink;
  node.size = 1ull << 40;
  node.mtime = -5;
  node.ctime = 6;
  node.atime = 7;
  node.mode = 0700;
  node.uid = 0;
  node.gid = 12;
  node.target = "target";
  node.attributes_known = node.may_write = false;
  node.marker = true;
  node.listed_at = 8;
  // an empty part is a name at the store
  node.remote = {RemotePlace::kMoved, kRootId, "", "version", 77};
  node.dirty = kData | kAttributes;
  node.generation = 9;
  node.base_size = 10;
  node.copy = {"copied/path", "copied version"};
  node.upload_log.AddSent("5:abc", "1/name");
  node.attempt = {kRootId, "tried"};
  node.pending = {3, 4, 5, "error"};
  node.cached = {11, 12, true};
  node.conflict_copy = {true, "original"};
  node.own_rule = {Placement::kPin, 13, "host"};
  node.effective = Placement::kPin;
  {
    auto index = Index::Open(folder / "i.db");
    ASSERT_TRUE(index.ok()) << index.error().what;
    ASSERT_TRUE((*index)->Insert(&node).ok());
    ASSERT_TRUE((*index)->Sync().ok());
  }
  auto index = Index::Open(folder / "i.db");
  const auto got = (*index)->Get(node.id);
  ASSERT_TRUE(got.ok() && *got);
  EXPECT_TRUE(**got == node);
  EXPECT_EQ((*index)->NextSeq(), 4);
  const auto there = (*index)->FindRemote(kRootId, "", false);
  ASSERT_TRUE(there.ok() && *there);
  EXPECT_EQ((*there)->id, node.id);
}

TEST(UploadLogTest, EveryFormComesBackFromItsSerialForm) {
  UploadLog marks;
  for (int i = 0; i < 14; ++i) marks.AddSent("5:a" + std::to_string(i), "1/a name");
  EXPECT_EQ(marks.sent().size(), 12u) << "only the latest are kept";
  const UploadLog known(MultipartNote{"d/scan", "an:id", 7, 8 << 20, "ab12"});
  const UploadLog unknown(MultipartNote{.path = "d/"});
  for (const UploadLog& log : {UploadLog(), marks, known, unknown})
    EXPECT_TRUE(UploadLog::Parse(log.Pack()) == log) << log.Pack();
  EXPECT_EQ(known.Pack(), "7-ab12:8388608:an:id\nd/scan");
  EXPECT_EQ(unknown.Pack(), "?\nd/");
  for (const char* text : {"=", "x", "?", "1:2", "1-2:3", "=a\n\nb", "\n"})
    EXPECT_FALSE(UploadLog::Parse(text).WasSentTo("")) << text;
}

TEST(UploadLogTest, MarksFollowTheirFolderAndGiveWayToAMultipartUpload) {
  UploadLog log;
  log.AddSent("5:a", "1/x");
  log.AddSent("any", "2/x");
  log.MovePlaces("1/", "3/");
  EXPECT_TRUE(log.WasSentTo("3/x") && !log.WasSentTo("1/x"));
  log.ForgetMark("any");
  EXPECT_FALSE(log.WasSentTo("2/x"));
  log.ForgetSentTo("3/x");
  EXPECT_TRUE(log.empty());
  UploadLog parts(MultipartNote{.path = "f"});
  parts.ForgetSent();
  EXPECT_TRUE(parts.multipart() && !parts.empty());
  parts.AddSent("5:a", "1/x");
  EXPECT_TRUE(!parts.multipart() && parts.WasSentTo("1/x"));
}

TEST(IndexTest, ANameIsTakenOnceAndGoneNodesHaveNone) {
  TemporaryFolder folder;
  auto index = *Index::Open(folder / "i.db");
  Node a = File(kRootId, "x"), b = File(kRootId, "x");
  ASSERT_TRUE(index->Insert(&a).ok());
  EXPECT_EQ(index->Insert(&b).error().code, Code::kExists);
  a.parent = kNoNode;
  ASSERT_TRUE(index->Update(a).ok());
  EXPECT_TRUE(index->Insert(&b).ok());
  EXPECT_EQ((*index->Find(kRootId, "x"))->id, b.id);
}

TEST(IndexTest, ReadingAFolderGoesOnWhereItWasWhileItChanges) {
  TemporaryFolder folder;
  auto index = *Index::Open(folder / "i.db");
  std::vector<NodeId> ids;
  for (int i = 0; i < 10; ++i) {
    Node n = File(kRootId, "n" + std::to_string(i));
    ASSERT_TRUE(index->Insert(&n).ok());
    ids.push_back(n.id);
  }
  const auto first = *index->Children(kRootId, 0, 4);
  ASSERT_EQ(first.size(), 4u);
  ASSERT_TRUE(index->Delete(ids[1]).ok());
  Node late = File(kRootId, "late");
  ASSERT_TRUE(index->Insert(&late).ok());
  const auto rest = *index->Children(kRootId, first.back().id, 100);
  EXPECT_EQ(rest.size(), 7u);
  EXPECT_EQ(rest.back().name, "late");
}

TEST(IndexTest, ATransactionThatIsNotCommittedLeavesNothing) {
  TemporaryFolder folder;
  auto index = *Index::Open(folder / "i.db");
  {
    Transaction outer = index->Begin();
    Transaction inner = index->Begin();
    Node n = File(kRootId, "x");
    ASSERT_TRUE(index->Insert(&n).ok());
    ASSERT_TRUE(inner.Commit().ok());
  }
  EXPECT_FALSE(*index->Find(kRootId, "x"));
}

// SQLite gives a transaction up by itself after some faults of the disk. What comes after that
// within the same change must not be made on its own.
TEST(IndexTest, NothingOfAChangeThatWasGivenUpIsMade) {
  TemporaryFolder folder;
  auto db = *Database::Open(folder / "i.db");
  ASSERT_TRUE(db.Execute("CREATE TABLE t(a)").ok());
  Statement insert = *db.Prepare("INSERT INTO t VALUES(1)");
  Statement count = *db.Prepare("SELECT count(*) FROM t");
  {
    Transaction outer(&db);
    Transaction inner(&db);
    ASSERT_TRUE(insert.Run().ok());
    ASSERT_TRUE(db.Execute("ROLLBACK").ok());  // as SQLite does
    EXPECT_FALSE(insert.Run().ok());
    EXPECT_FALSE(db.Execute("INSERT INTO t VALUES(2)").ok());
    EXPECT_TRUE(*count.Step());
    count.Reset();
    EXPECT_TRUE(inner.Commit().ok());
    EXPECT_FALSE(outer.Commit().ok());
  }
  ASSERT_TRUE(*count.Step());
  EXPECT_EQ(count.Int(0), 0);
  count.Reset();
  EXPECT_TRUE(insert.Run().ok());
}

TEST(IndexTest, SumsFollowEveryChange) {
  TemporaryFolder folder;
  auto index = *Index::Open(folder / "i.db");
  Node a = File(kRootId, "a"), b = File(kRootId, "b");
  a.kind = b.kind = NodeKind::kFolder;
  ASSERT_TRUE(index->Insert(&a).ok());
  ASSERT_TRUE(index->Insert(&b).ok());
  Node leaf = File(a.id, "leaf");
  leaf.size = 100;
  leaf.pending.seq = index->NextSeq();
  ASSERT_TRUE(index->Insert(&leaf).ok());
  EXPECT_EQ(index->SumsOf(a.id)->bytes, 100);
  EXPECT_EQ(index->SumsOf(kRootId)->pending, 1);
  EXPECT_EQ(index->SumsOf(kRootId)->folders, 2);
  {
    // a file changes, and the folder that it is in moves: in one transaction, in either order
    Transaction both = index->Begin();
    leaf.cached.bytes = 100;
    leaf.effective = Placement::kPin;
    ASSERT_TRUE(index->Update(leaf).ok());
    a.parent = b.id;
    ASSERT_TRUE(index->Update(a).ok());
    leaf.pending.seq = 0;
    ASSERT_TRUE(index->Update(leaf).ok());
    ASSERT_TRUE(both.Commit().ok());
  }
  EXPECT_TRUE(index->CheckSums().ok()) << index->CheckSums().error().what;
  EXPECT_EQ(index->SumsOf(b.id)->pinned_on_disk, 100);
  EXPECT_EQ(index->SumsOf(b.id)->whole, 1);
  {
    Transaction never = index->Begin();
    leaf.size = 7;
    ASSERT_TRUE(index->Update(leaf).ok());
  }
  EXPECT_EQ(index->SumsOf(kRootId)->bytes, 100);
  {
    Transaction all = index->Begin();
    ASSERT_TRUE(index->Delete(leaf.id).ok());
    ASSERT_TRUE(index->Delete(a.id).ok());
    ASSERT_TRUE(all.Commit().ok());
  }
  b.parent = kNoNode;
  ASSERT_TRUE(index->Update(b).ok());
  EXPECT_TRUE(index->CheckSums().ok()) << index->CheckSums().error().what;
  EXPECT_EQ(*index->SumsOf(kRootId), Sums());
}

TEST(IndexTest, RulesAreKeptByKeyKindAndScope) {
  TemporaryFolder folder;
  auto index = *Index::Open(folder / "i.db");
  const Rule mine{"*.tmp", true, Placement::kLocal, 5, "isle", false};
  Rule all{"*.tmp", true, Placement::kThin, 6, "isle", true};
  ASSERT_TRUE(index->SaveRule(mine).ok());
  ASSERT_TRUE(index->SaveRule(all).ok());
  all.placement = Placement::kCache;
  ASSERT_TRUE(index->SaveRule(all).ok());
  EXPECT_EQ(*index->Rules(), (std::vector<Rule>{mine, all}));
  ASSERT_TRUE(index->DeleteRule(mine).ok());
  EXPECT_EQ(*index->Rules(), (std::vector<Rule>{all}));
}

TEST(IndexTest, AnIndexOfAnotherFormatIsRefusedAndLeftAsItIs) {
  for (const auto& [format, remedy] : {std::pair(1, "former"), {7, "former"}, {99, "newer"}}) {
    TemporaryFolder folder;
    Ignore(Index::Open(folder / "i.db"));
    const std::string version = fmt::format("PRAGMA user_version={}", format);
    ASSERT_TRUE(Database::Open(folder / "i.db")->Execute(version).ok());
    const auto refused = Index::Open(folder / "i.db");
    EXPECT_EQ(refused.error().code, Code::kRefused);
    EXPECT_THAT(refused.error().what, HasSubstr(fmt::format("format {},", format)));
    EXPECT_THAT(refused.error().remedy, HasSubstr(remedy));
    EXPECT_EQ(Index::Open(folder / "i.db").error().what, refused.error().what);
  }
}

TEST(IndexTest, PresenceIsReadBackWithItsRound) {
  TemporaryFolder folder;
  NodeId leaf = kNoNode;
  {
    auto index = *Index::Open(folder / "i.db");
    Node n = File(kRootId, "leaf");
    ASSERT_TRUE(index->Insert(&n).ok());
    leaf = n.id;
    EXPECT_EQ(*index->RoundOf(leaf), 0);
    index->SetRound(4);
    ASSERT_TRUE(index->SavePresence(leaf, "0-7").ok());
  }
  auto index = *Index::Open(folder / "i.db");
  EXPECT_EQ(*index->Presence(leaf), "0-7");
  EXPECT_EQ(*index->RoundOf(leaf), 4);
}

TEST(IndexTest, WhatIsNoDatabaseIsSaidToBeDamaged) {
  TemporaryFolder folder;
  WriteAll(folder / "i.db", std::string(8192, 'z'));
  EXPECT_EQ(Index::Open(folder / "i.db").error().code, Code::kDamaged);
}

}  // namespace
}  // namespace pargeter::test
