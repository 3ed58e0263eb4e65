// The tree by itself: what a change does to memory, to files, and to others, and when.
#include "engine/tree/tree.h"

#include <gtest/gtest.h>

#include "base/log.h"
#include "support/process.h"

namespace pargeter::test {
namespace {

class TreeTest : public ::testing::Test, public BlobSink, public EffectSink {
 protected:
  void SetUp() override {
    auto index = Index::Open(folder_ / "index.db");
    ASSERT_TRUE(index.ok()) << index.error().what;
    tree_.SetBlobs(this);
    Tree::View view(&tree_);
    view.SetIndex(std::move(*index));
  }
  void ReleaseBytes(std::uint64_t bytes) override { Note("release " + std::to_string(bytes)); }
  void DropCached(NodeId) override { Note("drop cached"); }
  void DropPending(NodeId) override { Note("drop pending"); }
  bool HasPending(NodeId) override { return true; }
  std::uint64_t SizeOf(Content*) override { return 0; }
  bool IsUnsaved(Content*) override { return false; }
  void Publish(Event event) override { Note("tell " + event.name); }
  void Push(NodeId, std::int64_t order, Duration) override {
    Note("turn " + std::to_string(order));
  }
  void Note(std::string what) { done_.push_back(std::move(what)); }
  std::vector<std::string> Done() { return std::exchange(done_, {}); }

  static Inode* Make(Tree::View* view, const std::string& name) {
    Node node;
    node.parent = kRootId;
    node.name = name;
    if (!view->index().Insert(&node).ok()) return nullptr;
    return view->Adopt(std::move(node));
  }

  using Strings = std::vector<std::string>;
  TemporaryFolder folder_;
  std::vector<std::string> done_;
  Tree tree_{{&SystemClock(), 2, Duration(1000)}, this};
};

TEST_F(TreeTest, EffectsComeWithTheOutermostCommit) {
  Tree::View view(&tree_);
  {
    Tree::Change change(&view);
    Inode* inode = Make(&view, "a");
    ASSERT_NE(inode, nullptr);
    view.Emit(Event::NameChanged(kRootId, "a"));
    ASSERT_TRUE(view.QueueChange(inode).ok());
    EXPECT_EQ(Done(), Strings{});
    ASSERT_TRUE(change.Commit().ok());
  }
  EXPECT_EQ(Done(), (Strings{"tell a", "turn 1"}));
}

TEST_F(TreeTest, AnUndoneChangeCausesNothingAndMemorySaysAgainWhatTheIndexSays) {
  NodeId id = kNoNode;
  {
    Tree::View view(&tree_);
    Inode* inode = Make(&view, "a");
    id = inode->node.id;
    Tree::Change change(&view);
    inode = *view.Get(id);
    inode->node.name = "b";
    inode->node.cached.bytes = 0;
    view.ReleaseOnCommit(id, 7);
    view.Emit(Event::NameChanged(kRootId, "b"));
    ASSERT_TRUE(view.QueueChange(inode).ok());
  }
  Tree::View view(&tree_);
  EXPECT_EQ(Done(), (Strings{"release 7"}));  // no longer counted; the files stay
  EXPECT_EQ((*view.Get(id))->node.name, "a");
  EXPECT_EQ((*view.Get(id))->node.pending.seq, 0);
}

TEST_F(TreeTest, EffectsOutsideAChangeComeBeforeOthersSeeTheTree) {
  {
    Tree::View view(&tree_);
    view.Emit(Event::NameChanged(kRootId, "a"));
    EXPECT_EQ(Done(), Strings{});
  }
  EXPECT_EQ(Done(), (Strings{"tell a"}));
}

TEST_F(TreeTest, WaitingBytesOfADeletedFileGoOnlyAfterASync) {
  {
    Tree::View view(&tree_);
    const NodeId id = Make(&view, "a")->node.id;
    Tree::Change change(&view);
    view.ReleaseOnCommit(id, 5);
    ASSERT_TRUE(view.index().Delete(id).ok());
    view.Erase(id);
    ASSERT_TRUE(change.Commit().ok());
  }
  EXPECT_EQ(Done(), (Strings{"release 5", "drop cached"}));
  ASSERT_TRUE(tree_.UnlinkDeleted().ok());
  EXPECT_EQ(Done(), (Strings{"drop pending"}));
}

TEST_F(TreeTest, PathsFollowThePlacesHereAndThere) {
  Tree::View view(&tree_);
  Node folder;
  folder.kind = NodeKind::kFolder;
  folder.parent = kRootId;
  folder.name = "herbs";
  folder.remote.place = RemotePlace::kMoved;
  folder.remote.parent = kRootId;
  folder.remote.name = "plants";
  ASSERT_TRUE(view.index().Insert(&folder).ok());
  Node file;
  file.parent = folder.id;
  file.name = "a";
  file.remote.place = RemotePlace::kSame;
  ASSERT_TRUE(view.index().Insert(&file).ok());
  EXPECT_EQ(*view.PathHere(file.id), "herbs/a");
  EXPECT_EQ(*view.RemotePath(file), "plants/a");
  EXPECT_EQ(*view.RemotePrefix(folder.id), "plants/");
}

TEST_F(TreeTest, MemoryForgetsWhatNothingNeeds) {
  Tree::View view(&tree_);
  for (int i = 0; i < 10; ++i) ASSERT_NE(Make(&view, std::to_string(i)), nullptr);
  Inode* used = *view.Find(kRootId, "3");
  used->lookups = 1;
  view.Trim();
  EXPECT_EQ(view.inodes().size(), 1u);
  EXPECT_EQ(view.InMemory(used->node.id), used);
}

}  // namespace
}  // namespace pargeter::test
