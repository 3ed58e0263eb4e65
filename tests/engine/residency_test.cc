// What is on this disk, and what decides it: pins, eviction, fetches, rules, checks.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <atomic>
#include <filesystem>
#include <fstream>
#include <future>
#include <thread>

#include "support/drive_fixture.h"
#include "support/hands.h"

namespace pargeter::test {
namespace {

class ResidencyTest : public DriveTest {
 protected:
  Hands hands() { return Hands(drive_.get()); }
  std::string StateOf(const std::string& path) { return drive_->State(IdOf(path))->state; }
  std::uint64_t OnDisk(const std::string& path) { return drive_->State(IdOf(path))->node.on_disk; }
  void Place(const std::string& path, Placement placement) {
    const Status placed = drive_->Place(IdOf(path), placement);
    ASSERT_TRUE(placed.ok()) << placed.error().what;
  }
  Evicted Evict(const std::string& path, const EvictWish& wish = {}) {
    auto evicted = drive_->Evict({path.empty() ? kRootId : IdOf(path)}, wish);
    EXPECT_TRUE(evicted.ok());
    return *evicted;
  }
  std::shared_ptr<Fetch> Fetched(const std::string& path) {
    auto fetch = drive_->FetchOf(drive_->BeginFetch({path.empty() ? kRootId : IdOf(path)}));
    EXPECT_TRUE(Eventually([&] { return fetch->finished.load(); }));
    return fetch;
  }
  // Kept up to date, what a walk finds, and what the cache folder holds: all the same.
  void TearDown() override {
    if (drive_) {
      EXPECT_TRUE(drive_->SumsOf(kRootId).ok());
      const Status sums = drive_->CheckIndex();
      EXPECT_TRUE(sums.ok()) << sums.error().what;
      EvictWish look;
      look.dry_run = true;
      const auto near = [](std::int64_t a, std::int64_t b, int files) {
        return std::abs(a - b) <= 8192 * files;
      };
      std::int64_t known = 0, counted = 0, found = 0;
      EXPECT_TRUE(Eventually([&] {  // what is pinned may still be arriving
        Ignore(drive_->Evict({kRootId}, look));
        const auto [bytes, files] = InTheCacheFolder();
        found = static_cast<std::int64_t>(bytes);
        known = drive_->SumsOf(kRootId)->on_disk;
        counted = static_cast<std::int64_t>(drive_->Summary().cache_bytes);
        return near(known, found, files) && near(counted, found, files);
      })) << known
          << " by the index, " << counted << " by the budget, " << found << " on the disk";
    }
    DriveTest::TearDown();
  }
  // Bytes that the disk really gave to cached and waiting files, and how many there are.
  std::pair<std::uint64_t, int> InTheCacheFolder() {
    std::pair<std::uint64_t, int> out;
    for (const char* below : {"cache", "state/pending"}) {
      const std::string folder = folder_ / below;
      if (!std::filesystem::exists(folder)) continue;
      for (const auto& entry : std::filesystem::recursive_directory_iterator(folder)) {
        struct stat info {};
        if (!entry.is_regular_file() || ::stat(entry.path().c_str(), &info) != 0) continue;
        if (entry.path().filename().c_str()[0] == '.') continue;
        out.first += static_cast<std::uint64_t>(info.st_blocks) * 512;
        ++out.second;
      }
    }
    return out;
  }
};

TEST_F(ResidencyTest, APinnedFolderIsFetchedAndStays) {
  for (int i = 0; i < 10; ++i) world_.Put("pressed/s" + std::to_string(i), std::string(50000, 's'));
  for (int i = 0; i < 10; ++i) world_.Put("loose/l" + std::to_string(i), std::string(50000, 'l'));
  Open(700000);
  Names("");
  ASSERT_TRUE(drive_->Pin(IdOf("pressed")).ok());
  // soon, and not when somebody looks after what was left
  ASSERT_TRUE(Eventually([&] { return StateOf("pressed") == "pinned"; }, 8));
  for (int i = 0; i < 10; ++i) ASSERT_TRUE(Read("loose/l" + std::to_string(i)).ok());
  EXPECT_EQ(OnDisk("pressed"), 500000u);
  const Evicted evicted = Evict("");
  EXPECT_EQ(evicted.kept, 10u);
  EXPECT_EQ(evicted.kept_names.size(), 5u);
  EXPECT_EQ(OnDisk("pressed"), 500000u);
  EXPECT_EQ(OnDisk("loose"), 0u);
  EXPECT_EQ(drive_->Summary().sums.pinned_on_disk, 500000);
  // a restart, another name, another version and a newcomer change nothing of that
  Close();
  Open(700000);
  ASSERT_TRUE(hands().Move("pressed", "dried").ok());
  FlushAll();
  EXPECT_EQ(StateOf("dried"), "pinned");
  world_.Put("dried/s3", std::string(60000, 'n'));
  world_.Put("dried/new", std::string(1000, 'n'));
  ASSERT_TRUE(drive_->Refresh().ok());
  Names("dried");
  ASSERT_TRUE(drive_->Refresh().ok());
  ASSERT_TRUE(Eventually([&] { return OnDisk("dried") == 511000u; })) << OnDisk("dried");
  world_.SetOffline(true);
  EXPECT_EQ(*Read("dried/s3"), std::string(60000, 'n'));
  EXPECT_EQ(drive_->Unpin(IdOf("dried/s3")).error().code, Code::kRefused);
  ASSERT_TRUE(drive_->Unpin(IdOf("dried")).ok());
  EXPECT_EQ(StateOf("dried"), "cached");
}

TEST_F(ResidencyTest, OneFileThatCannotBeReadKeepsNoOtherAway) {
  for (int i = 0; i < 40; ++i) world_.Put("pressed/s" + std::to_string(i), "sheet");
  {
    const Lock lock(world_.mutex);
    world_.unreadable = "pressed/s0";
  }
  Open();
  Names("pressed");
  ASSERT_TRUE(drive_->Pin(IdOf("pressed")).ok());
  EXPECT_TRUE(Eventually([&] { return drive_->SumsOf(IdOf("pressed"))->whole == 39; }, 5));
  EXPECT_TRUE(Eventually([&] { return !drive_->Summary().last_error.empty(); }, 5));
}

TEST_F(ResidencyTest, APinOutlivesAnEditorsWayToSave) {
  world_.Put("list.csv", "one");
  Open();
  Names("");
  ASSERT_TRUE(drive_->Pin(IdOf("list.csv")).ok());
  ASSERT_TRUE(Write("list.csv.tmp", "two").ok());
  ASSERT_TRUE(hands().Move("list.csv.tmp", "list.csv").ok());
  FlushAll();
  EXPECT_EQ(StateOf("list.csv"), "pinned");
}

TEST_F(ResidencyTest, APinOutlivesAPowerCut) {
  disk_.WatchPower(folder_.path());
  world_.Put("pressed/s", std::string(50000, 's'));
  Open();
  Names("");
  ASSERT_TRUE(drive_->Pin(IdOf("pressed")).ok());
  disk_.DieAt(disk_.operations() + 1);
  Close();
  disk_.Heal();
  disk_.PowerCut(5);
  boot_id_ = "two";
  Open();
  EXPECT_TRUE(Eventually([&] { return StateOf("pressed") == "pinned" && OnDisk("pressed") > 0; }));
}

TEST_F(ResidencyTest, MoreThanTheCacheHoldsIsNotPinned) {
  world_.Put("big/a", std::string(600000, 'a'));
  world_.Put("big/b", std::string(600000, 'b'));
  Open(1000000);
  Names("");
  const Status refused = drive_->Pin(IdOf("big"));
  ASSERT_FALSE(refused.ok());
  EXPECT_EQ(refused.error().code, Code::kNoSpace);
  EXPECT_NE(refused.error().what.find("needs 1.1 MiB"), std::string::npos) << refused.error().what;
  EXPECT_NE(refused.error().what.find("limited to 976.6 KiB"), std::string::npos)
      << refused.error().what;
  EXPECT_TRUE(drive_->Pin(IdOf("big/a")).ok());
  EXPECT_FALSE(drive_->Pin(IdOf("big/b")).ok());
}

TEST_F(ResidencyTest, EvictionKeepsWhatWaitsAndWhatIsOpen) {
  world_.Put("d/clean", "clean");
  world_.Put("d/open", "open!");
  Open();
  ASSERT_TRUE(Read("d/clean").ok());
  auto open = drive_->OpenNode(IdOf("d/open"), Drive::Intent::kRead);
  ASSERT_EQ(*ReadOpen(open->file), "open!");
  world_.SetOffline(true);
  ASSERT_TRUE(Write("d/waits", "waits").ok());
  EvictWish dry;
  dry.dry_run = true;
  EXPECT_EQ(Evict("d", dry).bytes, 5u);
  EXPECT_EQ(StateOf("d/clean"), "cached");
  const Evicted evicted = Evict("d");
  EXPECT_EQ(evicted.files, 1u);
  EXPECT_EQ(evicted.pending_names, std::vector<std::string>{"d/waits"});
  EXPECT_EQ(evicted.open, 1u);
  EXPECT_EQ(StateOf("d/clean"), "remote");
  EXPECT_EQ(*ReadOpen(open->file), "open!");
  drive_->Release(open->file);
  EXPECT_EQ(StateOf("d/open"), "remote");
  EXPECT_EQ(*Read("d/waits"), "waits");
}

TEST_F(ResidencyTest, EvictionMayGoByAgeAndByWhatIsNeeded) {
  for (const char* name : {"a", "b", "c"}) world_.Put(name, std::string(100000, *name));
  Open();
  Names("");
  for (const char* name : {"b", "a", "c"}) ASSERT_TRUE(Read(name).ok());
  EvictWish old;
  old.unused_since = SystemClock().Wall() - 3600ll * 1'000'000'000;
  EXPECT_EQ(Evict("", old).files, 0u);
  EvictWish some;
  some.until_free = disk_.free + 1;
  const Evicted one = Evict("", some);  // least recently used first
  EXPECT_EQ(one.files, 1u) << one.open << " open, " << one.pending << " pending, " << one.kept
                           << " kept; free " << one.free_before << ", on disk by the index "
                           << drive_->SumsOf(kRootId)->on_disk;
  EXPECT_EQ(StateOf("b"), "remote");
  EXPECT_EQ(StateOf("a"), "cached");
}

TEST_F(ResidencyTest, EvictionFindsWhatIsJustBeingWrittenDown) {
  for (const char* name : {"a", "b", "c"}) world_.Put(name, std::string(100000, *name));
  Open();
  Names("");
  for (const char* name : {"b", "a", "c"}) ASSERT_TRUE(Read(name).ok());
  std::promise<void> syncing, go_on;
  std::atomic<int> syncs{0};
  disk_.on_sync = [&] {
    if (syncs++ > 0) return;
    syncing.set_value();
    go_on.get_future().wait_for(std::chrono::seconds(20));
  };
  std::thread other([&] { Ignore(drive_->SumsOf(kRootId)); });
  syncing.get_future().wait();
  auto evicted = std::async(std::launch::async, [&] { return Evict("").files; });
  evicted.wait_for(std::chrono::milliseconds(200));  // too early, it would have found nothing
  go_on.set_value();
  other.join();
  EXPECT_EQ(evicted.get(), 3u);
  Close();
  disk_.on_sync = nullptr;
}

TEST_F(ResidencyTest, AFetchBringsAllAndSaysWhatItCouldNot) {
  for (int i = 0; i < 30; ++i)
    world_.Put("d" + std::to_string(i % 3) + "/f" + std::to_string(i), std::string(2000, 'f'));
  world_.Put("d1/large", std::string(9000000, 'g'));
  Open();
  auto fetch = Fetched("");
  EXPECT_EQ(fetch->files, 31u);
  EXPECT_EQ(fetch->files_done, 31u);
  EXPECT_EQ(fetch->bytes_done, fetch->bytes);
  EXPECT_EQ(StateOf("d1"), "cached");
  EXPECT_EQ(drive_->SumsOf(kRootId)->on_disk, 9060000);
  // all is here: no bytes are asked for again
  world_.TakeAsked();
  EXPECT_EQ(Fetched("")->files_done, 31u);
  EXPECT_TRUE(Asked("read").empty());
  Evict("");
  world_.SetOffline(true);
  fetch = Fetched("d0");
  EXPECT_LT(fetch->files_done, fetch->files);
  const Lock lock(fetch->mutex);
  ASSERT_FALSE(fetch->failed.empty());
  EXPECT_EQ(fetch->failed[0].second.code, Code::kUnavailable);
}

TEST_F(ResidencyTest, ThinFilesLeaveNothingBehind) {
  world_.Put("archive/old", "old bytes");
  Open();
  Names("archive");
  Place("archive", Placement::kThin);
  EXPECT_EQ(*Read("archive/old"), "old bytes");
  EXPECT_EQ(StateOf("archive/old"), "remote");
  EXPECT_EQ(Fetched("")->thin, 1u);  // fetching all brings nothing of it
  EXPECT_EQ(StateOf("archive/old"), "remote");
  ASSERT_TRUE(Write("archive/new", "new bytes").ok());
  EXPECT_EQ(*Read("archive/new"), "new bytes");
  FlushAll();
  EXPECT_TRUE(Eventually([&] { return StateOf("archive/new") == "remote"; }));
  EXPECT_EQ(world_.All()["archive/new"], "new bytes");
  EXPECT_EQ(*Read("archive/new"), "new bytes");
}

TEST_F(ResidencyTest, WhatIsHiddenIsNeitherShownNorAskedFor) {
  world_.Put("old/leaf", "1");
  world_.Put("new/leaf", "2");
  Open();
  Names("");
  Place("old", Placement::kHide);
  EXPECT_EQ(Names(""), std::vector<std::string>{"new"});
  EXPECT_EQ(IdOf("old"), kNoNode);
  const auto made = drive_->MakeFolder(kRootId, "old", 0755, 0, 0);
  ASSERT_FALSE(made.ok());
  EXPECT_EQ(made.error().code, Code::kExists);
  EXPECT_NE(made.error().what.find("hides"), std::string::npos);
  world_.TakeAsked();
  Fetched("");
  for (const std::string& asked : world_.TakeAsked())
    EXPECT_EQ(asked.find("old"), std::string::npos) << asked;
  Close();
  Open();
  EXPECT_EQ(Names(""), std::vector<std::string>{"new"});
  ASSERT_TRUE(drive_->Place(drive_->NodeAt("old")->id, Placement::kNone).ok());
  EXPECT_EQ(Names(""), (std::vector<std::string>{"new", "old"}));
  EXPECT_EQ(*Read("old/leaf"), "1");
}

TEST_F(ResidencyTest, WhatIsLocalNeverGoesUpAndOutlivesEverything) {
  Open();
  ASSERT_TRUE(drive_->MakeFolder(kRootId, "scratch", 0755, 0, 0).ok());
  FlushAll();
  Place("scratch", Placement::kLocal);
  ASSERT_TRUE(Write("scratch/note", "mine").ok());
  ASSERT_TRUE(drive_->MakeFolder(IdOf("scratch"), "deep", 0755, 0, 0).ok());
  ASSERT_TRUE(Write("scratch/deep/er", "mine too").ok());
  FlushAll();
  EXPECT_EQ(StateOf("scratch/note"), "local");
  EXPECT_EQ(drive_->Summary().pending.files, 0u);
  EXPECT_EQ(Evict("").kept, 2u);
  Close();
  Open();
  EXPECT_EQ(*Read("scratch/note"), "mine");
  EXPECT_EQ(*Read("scratch/deep/er"), "mine too");
  for (const auto& [path, body] : world_.All()) EXPECT_EQ(body, "") << path;
  // another rule: it goes up like anything new
  Place("scratch", Placement::kNone);
  FlushAll();
  EXPECT_EQ(world_.All()["scratch/note"], "mine");
  EXPECT_EQ(world_.All()["scratch/deep/er"], "mine too");
  EXPECT_EQ(StateOf("scratch"), "cached");
}

TEST_F(ResidencyTest, WhatIsLocalStaysSoWhenTheIndexIsLost) {
  Open();
  ASSERT_TRUE(drive_->MakeFolder(kRootId, "scratch", 0755, 0, 0).ok());
  world_.SetOffline(true);
  ASSERT_TRUE(Write("scratch/before", "written before the rule").ok());
  world_.SetOffline(false);
  Place("scratch", Placement::kLocal);
  ASSERT_TRUE(Write("scratch/after", "and after").ok());
  ASSERT_TRUE(hands().Move("scratch/after", "scratch/after all").ok());
  ASSERT_TRUE(Write("goes", "up").ok());
  FlushAll();
  Close();
  for (const char* ending : {"", "-wal", "-shm"})
    std::filesystem::remove((folder_ / "state/index.db") + ending);
  Open();
  FlushAll();
  EXPECT_EQ(*Read("scratch/before"), "written before the rule");
  EXPECT_EQ(*Read("scratch/after all"), "and after");
  EXPECT_EQ(StateOf("scratch/after all"), "local");
  for (const auto& [path, body] : world_.All()) EXPECT_EQ(body, path == "goes" ? "up" : "") << path;
}

TEST_F(ResidencyTest, AFolderThatMayNotBeListedTakesNoOthersPinAway) {
  for (int i = 0; i < 5; ++i) world_.Put("all/d" + std::to_string(i) + "/f", "12345");
  {
    const Lock lock(world_.mutex);
    world_.unlistable = "all/d1/";
  }
  Open();
  Names("");
  ASSERT_TRUE(drive_->Pin(IdOf("all")).ok());
  EXPECT_TRUE(Eventually([&] { return OnDisk("all") == 20u; }));
  EXPECT_EQ(drive_->Place(IdOf("all"), Placement::kLocal).error().code, Code::kPermission);
}

TEST_F(ResidencyTest, WhatIsNotUploadedIsNeverEvictedWhereverItEnds) {
  // killed at each change of the disk in turn, while a thin file goes up and is to be freed
  world_.cut_off = [this] { return disk_.dead(); };
  for (std::uint64_t at = 1, done = 0; done == 0; ++at) {
    const std::string body = "sheet " + std::to_string(at);
    Open();
    if (at == 1) {
      ASSERT_TRUE(drive_->MakeFolder(kRootId, "thin", 0755, 0, 0).ok());
      Place("thin", Placement::kThin);
    }
    FlushAll();
    Names("thin");
    world_.SetOffline(true);
    const Status written = Write("thin/f", body);
    ASSERT_TRUE(written.ok()) << at << ": " << written.error().what;
    const std::uint64_t before = disk_.operations();
    disk_.DieAt(before + at);
    world_.SetOffline(false);
    Ignore(drive_->Refresh());
    Eventually([&] { return disk_.dead() || drive_->Summary().pending.files == 0; });
    if (!disk_.dead()) done = 1;  // there was no such operation any more
    Close();
    disk_.Heal();
    Open();
    EXPECT_EQ(*Read("thin/f"), body) << "ended at " << at;
    FlushAll();
    EXPECT_EQ(world_.All()["thin/f"], body) << "ended at " << at;
    Close();
    ASSERT_LT(at, 400u);
  }
}

TEST_F(ResidencyTest, WhatBecomesLocalComesDownBeforeItGoesAtTheStore) {
  world_.Put("loans/a", std::string(300000, 'a'));
  world_.Put("loans/b", "bb");
  Open();
  Names("");
  Place("loans", Placement::kLocal);
  FlushAll();
  EXPECT_TRUE(world_.All().empty());
  EXPECT_EQ(*Read("loans/a"), std::string(300000, 'a'));
  EXPECT_EQ(StateOf("loans"), "local");
  Close();
  Open();
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(*Read("loans/b"), "bb");
  // a file that moves out goes up, and one that moves in comes down
  ASSERT_TRUE(hands().Move("loans/b", "b").ok());
  FlushAll();
  EXPECT_EQ(world_.All()["b"], "bb");
  ASSERT_TRUE(hands().Move("b", "loans/again").ok());
  FlushAll();
  EXPECT_EQ(world_.All().count("b"), 0u);
  EXPECT_EQ(world_.All().count("loans/again"), 0u);
  EXPECT_EQ(*Read("loans/again"), "bb");
}

TEST_F(ResidencyTest, AFailingStoreTakesNothingThatComesDown) {
  world_.Put("loans/a", std::string(300000, 'a'));
  Open();
  Names("loans");
  world_.Faults(0.3, 7);
  Place("loans", Placement::kLocal);
  ASSERT_TRUE(Eventually([&] { return StateOf("loans/a") == "local"; }, 60));
  world_.Faults(0, 0);
  FlushAll();
  EXPECT_TRUE(world_.All().empty());
  EXPECT_EQ(*Read("loans/a"), std::string(300000, 'a'));
}

TEST_F(ResidencyTest, PatternsAreForNamesAndAFilesOwnRuleIsNearer) {
  Open();
  ASSERT_TRUE(drive_->SetPattern("*.tmp", Placement::kLocal).ok());
  EXPECT_EQ(drive_->SetPattern("a/b", Placement::kLocal).error().code, Code::kInvalid);
  ASSERT_TRUE(Write("a.tmp", "1").ok());
  ASSERT_TRUE(Write("a.txt", "2").ok());
  FlushAll();
  EXPECT_EQ(world_.All(), (std::map<std::string, std::string>{{"a.txt", "2"}}));
  EXPECT_EQ(drive_->Explain(IdOf("a.tmp"))->placed_on, "*.tmp");
  // an editor's scratch file that becomes the real one
  ASSERT_TRUE(hands().Move("a.tmp", "b.txt").ok());
  FlushAll();
  EXPECT_EQ(world_.All()["b.txt"], "1");
  ASSERT_TRUE(Write("c.tmp", "3").ok());
  Place("c.tmp", Placement::kCache);
  FlushAll();
  EXPECT_EQ(world_.All()["c.tmp"], "3");
  EXPECT_EQ(drive_->Rules()->size(), 2u);
}

TEST_F(ResidencyTest, RottenBytesAreFoundDroppedAndFetchedAgain) {
  world_.Put("a", std::string(100000, 'a'));
  world_.Put("b", std::string(100000, 'b'));
  Open();
  ASSERT_TRUE(Read("a").ok());
  ASSERT_TRUE(Read("b").ok());
  world_.SetOffline(true);
  ASSERT_TRUE(Write("waits", "pending").ok());
  world_.SetOffline(false);
  EXPECT_EQ(drive_->Verify(kRootId, false)->files + drive_->Verify(kRootId, false)->pending >= 2,
            true);
  const NodeId id = IdOf("b");
  for (const auto& entry : std::filesystem::recursive_directory_iterator(folder_ / "cache")) {
    if (entry.path().filename().string().find(std::to_string(id)) == std::string::npos ||
        !entry.is_regular_file())
      continue;
    std::fstream file(entry.path(), std::ios::in | std::ios::out | std::ios::binary);
    file.seekp(5000);
    file << "ROT";
  }
  const auto checked = drive_->Verify(kRootId, false);
  ASSERT_TRUE(checked.ok());
  EXPECT_EQ(checked->rotten, std::vector<std::string>{"b"});
  EXPECT_EQ(*Read("b"), std::string(100000, 'b'));
  EXPECT_EQ(*Read("waits"), "pending");
}

TEST_F(ResidencyTest, ARuleForEveryMachineHoldsThereBeforeItsFirstDownload) {
  for (int i = 0; i < 5; ++i) {
    world_.Put("archive/a" + std::to_string(i), "archived");
    world_.Put("work/w" + std::to_string(i), "work");
    world_.Put("mine/m" + std::to_string(i), "mine");
  }
  Open();
  Names("");
  ASSERT_TRUE(drive_->PlaceEverywhere("archive", false, Placement::kThin).ok());
  ASSERT_TRUE(drive_->PlaceEverywhere("mine", false, Placement::kHide).ok());
  ASSERT_TRUE(drive_->PlaceEverywhere("*.tmp", true, Placement::kLocal).ok());
  EXPECT_EQ(drive_->PlaceEverywhere("work", false, Placement::kLocal).error().code, Code::kInvalid);
  Close();
  std::filesystem::rename(folder_ / "state", folder_ / "first");  // a machine that knows nothing
  std::filesystem::remove_all(folder_ / "cache");
  world_.TakeAsked();
  Open();
  EXPECT_EQ(Names(""), (std::vector<std::string>{"archive", "work"}));
  ASSERT_TRUE(drive_->Pin(kRootId).ok());  // all of it, as far as no rule is nearer
  ASSERT_TRUE(Eventually([&] { return OnDisk("work") == 20u; }));
  Fetched("work");
  ASSERT_TRUE(Write("work/x.tmp", "local").ok());
  FlushAll();
  const auto asked = world_.TakeAsked();
  for (const std::string& what : asked) {
    EXPECT_EQ(what.find("read archive"), std::string::npos) << what;
    EXPECT_EQ(what.find("mine"), std::string::npos) << what;
    EXPECT_EQ(what.find("x.tmp"), std::string::npos) << what;
  }
  EXPECT_EQ(std::count(asked.begin(), asked.end(), "read .pargeter-rules.json"), 1);
  EXPECT_EQ(drive_->Explain(IdOf("archive/a1"))->placed_by, "isle");
  // this machine's own rule is nearer
  Place("archive", Placement::kPin);
  ASSERT_TRUE(Eventually([&] { return StateOf("archive") == "pinned"; }));
  EXPECT_EQ(drive_->Rules()->size(), 4u);
}

TEST_F(ResidencyTest, TwoMachinesMayChangeTheSharedRules) {
  world_.Put("a/1", "1");
  world_.Put("b/1", "1");
  Open();
  Names("");
  ASSERT_TRUE(drive_->PlaceEverywhere("a", false, Placement::kThin).ok());
  {
    // another machine writes meanwhile
    const Lock lock(world_.mutex);
    auto rules = *ParseSharedRules(world_.objects[kRulesName].body);
    rules.push_back({"b", false, Placement::kThin, 5, "fenland", true});
    rules.push_back({"a", false, Placement::kCache, 4, "fenland", true});  // older than ours
    world_.objects[kRulesName].body = WriteSharedRules(rules);
  }
  ASSERT_TRUE(drive_->PlaceEverywhere("*.bak", true, Placement::kThin).ok());
  EXPECT_EQ(drive_->State(IdOf("a"))->node.effective, Placement::kThin);
  EXPECT_EQ(drive_->State(IdOf("b"))->node.effective, Placement::kThin);
  // taken away by the other one, and seen with the next listing
  {
    const Lock lock(world_.mutex);
    world_.objects[kRulesName].body = WriteSharedRules({});
  }
  ASSERT_TRUE(drive_->Refresh().ok());
  EXPECT_EQ(drive_->State(IdOf("a"))->node.effective, Placement::kCache);
  EXPECT_TRUE(drive_->Rules()->empty());
  // rubbish there changes nothing
  world_.Put(kRulesName, "{\"rules\": [");
  EXPECT_TRUE(drive_->Refresh().ok());
  EXPECT_NE(drive_->Summary().last_error.find("shared rules"), std::string::npos);
  EXPECT_EQ(*Read("b/1"), "1");
}

TEST_F(ResidencyTest, ASharedRuleFollowsItsFolder) {
  world_.Put("archive/1", "1");
  Open();
  Names("");
  ASSERT_TRUE(drive_->PlaceEverywhere("archive", false, Placement::kThin).ok());
  ASSERT_TRUE(hands().Move("archive", "stacks").ok());
  FlushAll();
  ASSERT_TRUE(
      Eventually([&] { return world_.All()[kRulesName].find("stacks") != std::string::npos; }, 30));
  EXPECT_EQ(drive_->State(IdOf("stacks"))->node.effective, Placement::kThin);
  const auto rules = ParseSharedRules(world_.All()[kRulesName]);
  ASSERT_EQ(rules->size(), 2u);
  for (const Rule& rule : *rules)
    EXPECT_EQ(rule.placement, rule.key == "stacks" ? Placement::kThin : Placement::kNone);
}

TEST_F(ResidencyTest, ShyReadersGetTheEndsOfAFileAndNoMore) {
  world_.Put("scan", std::string(1000000, 's'));
  world_.Put("small", "small");
  Open();
  Names("");
  EXPECT_TRUE(drive_->IsShy("updatedb"));
  EXPECT_TRUE(drive_->IsShy("tracker-miner-f"));  // as the kernel cuts it
  EXPECT_FALSE(drive_->IsShy("viewer"));
  auto open = drive_->OpenNode(IdOf("scan"), Drive::Intent::kRead);
  drive_->MakeShy(open->file, "tumblerd");
  std::string buffer(1000000, 0);
  EXPECT_EQ(*drive_->Read(open->file, buffer.data(), buffer.size(), 0), 65536u);
  EXPECT_EQ(*drive_->Read(open->file, buffer.data(), 100, 999900), 100u);
  const auto refused = drive_->Read(open->file, buffer.data(), 100, 500000);
  ASSERT_FALSE(refused.ok());
  EXPECT_EQ(refused.error().code, Code::kRefused);
  drive_->Release(open->file);
  EXPECT_LT(OnDisk("scan"), 200000u);
  const auto happened = drive_->Happened(0, 10);
  ASSERT_FALSE(happened.empty());
  EXPECT_EQ(happened.back().what, "held-back");
  EXPECT_EQ(happened.back().path, "scan");
  // what is here anyway it may read
  ASSERT_TRUE(Read("scan").ok());
  open = drive_->OpenNode(IdOf("scan"), Drive::Intent::kRead);
  drive_->MakeShy(open->file, "tumblerd");
  EXPECT_EQ(*drive_->Read(open->file, buffer.data(), 100, 500000), 100u);
  drive_->Release(open->file);
}

class LaterClock : public Clock {
 public:
  Steady Now() const override { return SystemClock().Now(); }
  Nanos Wall() const override { return SystemClock().Wall() + ahead; }
  std::atomic<Nanos> ahead{0};
};

TEST_F(ResidencyTest, OnePassOverEverythingLeavesWhatIsWorkedWith) {
  LaterClock later;
  clock_ = &later;
  for (int i = 0; i < 5; ++i) world_.Put("work" + std::to_string(i), std::string(60000, 'w'));
  for (int i = 0; i < 60; ++i) world_.Put("all/a" + std::to_string(i), std::string(60000, 'a'));
  Open(1000000);
  for (int day = 0; day < 2; ++day) {
    for (int i = 0; i < 5; ++i) ASSERT_TRUE(Read("work" + std::to_string(i)).ok());
    later.ahead += 3600ll * 1'000'000'000;
  }
  for (int i = 0; i < 60; ++i) ASSERT_TRUE(Read("all/a" + std::to_string(i)).ok());
  world_.TakeAsked();
  for (int i = 0; i < 5; ++i) ASSERT_TRUE(Read("work" + std::to_string(i)).ok());
  EXPECT_TRUE(Asked("read").empty());
  Close();
  clock_ = &SystemClock();
}

TEST_F(ResidencyTest, OfAHugeFileOnlyAsMuchGoesAsIsNeeded) {
  world_.Put("huge", std::string(80 << 20, 'h'));
  world_.Put("other", std::string(10 << 20, 'o'));
  Open(84 << 20);
  ASSERT_EQ(Read("huge")->size(), 1u << 20);
  Fetched("huge");
  EXPECT_EQ(OnDisk("huge"), 80u << 20);
  Fetched("other");
  EXPECT_EQ(OnDisk("other"), 10u << 20);
  EXPECT_GT(OnDisk("huge"), 60u << 20);
  EXPECT_LE(drive_->Summary().cache_bytes, 84u << 20);
  world_.TakeAsked();
  ASSERT_EQ(Read("huge")->size(), 1u << 20);  // its beginning is still here
  EXPECT_TRUE(Asked("read").empty());
  const auto verified = drive_->Verify(kRootId, true);
  EXPECT_TRUE(verified->rotten.empty());
}

// Many readers at once, more than fits: sampled all the time, the limit holds.
TEST_F(ResidencyTest, TheBudgetHoldsInAStormOfReaders) {
  for (int i = 0; i < 200; ++i) world_.Put("f" + std::to_string(i), std::string(100000, 'f'));
  Open(2000000);
  Names("");
  std::atomic<bool> stop{false};
  std::uint64_t most = 0;
  std::thread sampler([&] {
    while (!stop) most = std::max(most, drive_->Summary().cache_bytes);
  });
  std::vector<std::thread> readers;
  for (int r = 0; r < 6; ++r) {
    readers.emplace_back([&, r] {
      for (int i = 0; i < 60; ++i) Ignore(Read("f" + std::to_string((i * 7 + r * 31) % 200)));
    });
  }
  for (std::thread& reader : readers) reader.join();
  stop = true;
  sampler.join();
  EXPECT_LE(most, 2000000u + 65536u);
  // what is counted is what is there
  std::uint64_t blocks = 0;
  Ignore(drive_->SumsOf(kRootId));
  for (const auto& entry : std::filesystem::recursive_directory_iterator(folder_ / "cache")) {
    struct stat info {};
    if (entry.is_regular_file() && entry.path().filename().string()[0] != '.' &&
        ::stat(entry.path().c_str(), &info) == 0)
      blocks += static_cast<std::uint64_t>(info.st_size);
  }
  EXPECT_EQ(static_cast<std::uint64_t>(drive_->SumsOf(kRootId)->on_disk), blocks);
  EXPECT_EQ(drive_->Summary().cache_bytes, blocks);
}

// Memory follows what is in use; nothing that somebody has got hold of goes with the rest.
TEST_F(ResidencyTest, WhatIsForgottenIsNobodys) {
  remembered_ = 20;
  for (int i = 0; i < 300; ++i) world_.Put("d/f" + std::to_string(i), "text");
  Open();
  Names("d");
  for (int i = 0; i < 600; ++i) {
    const std::string name = (i % 2 == 0 ? "d/f" : "d/w") + std::to_string(i % 300);
    ASSERT_TRUE(Write(name, "written").ok()) << name;
    ASSERT_EQ(*Read(name), "written");
    drive_->Forget(IdOf(name), 1000);
    if (i % 7 == 0) {
      ASSERT_TRUE(hands().Move(name, "d/m" + std::to_string(i)).ok());
    }
  }
  FlushAll();
  for (const auto& [path, body] : world_.All())
    EXPECT_TRUE(body == "written" || body == "text") << path;
}

// Not a descriptor for each file that was ever touched.
TEST_F(ResidencyTest, FewFilesAreHeldOpen) {
  for (int i = 0; i < 1500; ++i) world_.Put("f" + std::to_string(i), "text");
  Open();
  Names("");
  world_.SetOffline(true);
  for (int i = 0; i < 1500; ++i) ASSERT_TRUE(Write("w" + std::to_string(i), "written").ok());
  world_.SetOffline(false);
  const auto held = [] {
    return std::distance(std::filesystem::directory_iterator("/proc/self/fd"),
                         std::filesystem::directory_iterator());
  };
  EXPECT_LT(held(), 700);
  FlushAll();
  Fetched("");
  EXPECT_LT(held(), 700);
  EXPECT_EQ(*Read("w7"), "written");
  EXPECT_EQ(*Read("f7"), "text");
}

TEST_F(ResidencyTest, ACacheFolderIsOneDrives) {
  world_.Put("f", "text");
  Open();
  ASSERT_TRUE(Read("f").ok());
  DriveOptions other;
  other.name = "other";
  other.state_folder = folder_ / "other";
  other.cache_folder = folder_ / "cache";
  other.disk = &disk_;
  const auto busy = Drive::Open(other, std::make_unique<FakeStore>(&world_));
  EXPECT_EQ(busy.error().code, Code::kBusy);
  Close();
  // carried off by hand to where another drive has its cache
  other.cache_folder = folder_ / "second";
  ASSERT_TRUE(Drive::Open(other, std::make_unique<FakeStore>(&world_)).ok());
  std::filesystem::remove_all(folder_ / "cache");
  std::filesystem::rename(folder_ / "second", folder_ / "cache");
  DriveOptions first;
  first.name = "sheets";
  first.state_folder = folder_ / "state";
  first.cache_folder = folder_ / "cache";
  first.disk = &disk_;
  const auto refused = Drive::Open(first, std::make_unique<FakeStore>(&world_));
  ASSERT_FALSE(refused.ok());
  EXPECT_EQ(refused.error().code, Code::kRefused);
  EXPECT_NE(refused.error().what.find("another drive"), std::string::npos);
}

TEST_F(ResidencyTest, ItIsExplained) {
  world_.Put("d/f", "text");
  Open();
  Names("d");
  ASSERT_TRUE(drive_->Pin(IdOf("d")).ok());
  const auto why = drive_->Explain(IdOf("d/f"));
  EXPECT_EQ(why->placement, Placement::kPin);
  EXPECT_EQ(why->placed_on, "d");
  EXPECT_FALSE(why->by_itself);
  EXPECT_TRUE(drive_->Explain(IdOf("d"))->by_itself);
}

}  // namespace
}  // namespace pargeter::test
