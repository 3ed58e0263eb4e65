#include "index/index.h"

#include <fmt/format.h>
#include <gtest/gtest.h>

#include "support/process.h"

namespace pargeter::test {
namespace {

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
  node.there = There::kElsewhere;
  node.there_parent = kRootId;
  node.there_name = "";  // an empty part is a name at the store
  node.size = 1ull << 40;
  node.mtime = -5;
  node.uid = 0;
  node.target = "t";
  node.attributes_known = false;
  node.version = "v";
  node.dirty = kData | kAttributes;
  node.generation = 9;
  node.copy_of = "c";
  node.upload = "u";
  node.intent = 3;
  node.error = "e";
  node.conflict = true;
  {
    auto index = Index::Open(folder / "i.db");
    ASSERT_TRUE(index.ok()) << index.error().what;
    ASSERT_TRUE((*index)->Insert(&node).ok());
    ASSERT_TRUE((*index)->Sync().ok());
  }
  auto index = Index::Open(folder / "i.db");
  const auto got = (*index)->Get(node.id);
  ASSERT_TRUE(got.ok() && *got);
  const Node& n = **got;
  EXPECT_EQ(n.name, node.name);
  EXPECT_EQ(n.kind, node.kind);
  EXPECT_EQ(n.size, node.size);
  EXPECT_EQ(n.mtime, node.mtime);
  EXPECT_EQ(n.uid, 0);
  EXPECT_EQ(n.gid, -1);
  EXPECT_EQ(n.attributes_known, false);
  EXPECT_EQ(n.version, "v");
  EXPECT_EQ(n.dirty, node.dirty);
  EXPECT_EQ(n.generation, 9u);
  EXPECT_EQ(n.upload, "u");
  EXPECT_EQ(n.error, "e");
  EXPECT_TRUE(n.conflict);
  EXPECT_EQ((*index)->NextIntent(), 4);
  const auto there = (*index)->FindThere(kRootId, "", false);
  ASSERT_TRUE(there.ok() && *there);
  EXPECT_EQ((*there)->id, node.id);
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
  leaf.intent = index->NextIntent();
  ASSERT_TRUE(index->Insert(&leaf).ok());
  EXPECT_EQ(index->SumsOf(a.id)->bytes, 100);
  EXPECT_EQ(index->SumsOf(kRootId)->pending, 1);
  EXPECT_EQ(index->SumsOf(kRootId)->folders, 2);
  {
    // a file changes, and the folder that it is in moves: in one transaction, in either order
    Transaction both = index->Begin();
    leaf.on_disk = 100;
    leaf.effective = Placement::kPin;
    ASSERT_TRUE(index->Update(leaf).ok());
    a.parent = b.id;
    ASSERT_TRUE(index->Update(a).ok());
    leaf.intent = 0;
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
    EXPECT_NE(refused.error().what.find(fmt::format("format {},", format)), std::string::npos);
    EXPECT_NE(refused.error().remedy.find(remedy), std::string::npos);
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
