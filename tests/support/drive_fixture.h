// A drive over a store in memory and a disk that can fail, and the hands to use it with.
#pragma once

#include <fmt/format.h>
#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <filesystem>
#include <functional>
#include <future>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "engine/drive.h"
#include "support/clocks.h"
#include "support/fake_store.h"
#include "support/hands.h"
#include "support/harsh_disk.h"
#include "support/process.h"

namespace pargeter::test {

class DriveFixture : public testing::Test {
 protected:
  void TearDown() override { Close(); }

  DriveOptions Options(std::uint64_t cache_limit = 1ull << 30) {
    DriveOptions o;
    o.name = "sheets";
    o.state_folder = folder_ / "state";
    o.cache_folder = cache_folder_.empty() ? folder_ / "cache" : cache_folder_;
    o.cache_limit = cache_limit;
    o.keep_free = 0;
    o.spare_room = 0;
    o.quiet = quiet_;
    o.fresh_for = Duration(60000);
    o.hold_quiet = hold_quiet_;
    o.hold_files = hold_files_;
    o.remembered = remembered_;
    o.patience = patience_;
    o.read_only = read_only_;
    o.shared = shared_;
    o.host = "isle";
    o.boot_id = boot_id_;
    o.clock = clock_;
    o.upload_workers = 4;
    o.fetch_workers = 2;
    o.retry_pause = retry_pause_;
    o.trial_pause = trial_pause_;
    o.copy_patience = copy_patience_;
    o.open_patience = open_patience_;
    o.watch_every = watch_every_;
    o.may_be_late = may_be_late_;
    o.feed_pause = feed_pause_;
    o.disk = &disk_;
    return o;
  }
  // `contact`: how the first look at the store ends, if not well.
  void Open(std::uint64_t cache_limit = 1ull << 30, std::optional<Code> contact = std::nullopt) {
    auto drive = Drive::Open(Options(cache_limit), std::make_unique<FakeStore>(&world_));
    ASSERT_TRUE(drive.ok()) << drive.error().what;
    drive_ = std::move(*drive);
    drive_->Start(nullptr);
    const Status looked = drive_->FirstContact();
    if (contact)
      ASSERT_TRUE(!looked.ok() && looked.error().code == *contact);
    else
      ASSERT_TRUE(looked.ok()) << looked.error().what;
  }
  void Close() { drive_.reset(); }
  // With the disk as it is at this moment, watched by WatchPower; another `round` each time.
  void CutPower(int round) {
    LosePower(round);
    Open();
  }
  // The process dies at once.
  void Kill() {
    disk_.DieAt(disk_.operations() + 1);
    Close();
    disk_.Heal();
  }
  // As on another machine: nothing is known here.
  void ForgetState() {
    Close();
    std::filesystem::remove_all(folder_ / "state");
  }
  Files FilesThere() {  // at the store, without folders
    Files files = world_.All();
    std::erase_if(files, [](const auto& file) { return file.first.back() == '/'; });
    return files;
  }
  void LosePower(int round) {
    disk_.DieAt(disk_.operations() + 1);
    Close();
    disk_.Heal();
    disk_.PowerCut(static_cast<std::uint64_t>(round));
    boot_id_ = "after cut " + std::to_string(round);
  }

  NodeId IdOf(const std::string& path) {
    NodeId at = kRootId;
    for (const std::string& part : Split(path, '/')) {
      if (part.empty()) continue;
      const auto attr = drive_->Lookup(at, part);
      if (!attr.ok()) return kNoNode;
      at = attr->id;
    }
    return at;
  }
  Hands hands() { return Hands(drive_.get()); }
  Status Write(const std::string& path, const std::string& text) {
    return hands().Write(path, text);
  }
  Result<std::string> ReadOpen(const OpenFilePtr& file) {
    std::string out(1u << 20, '\0');
    PG_ASSIGN(const std::size_t n, drive_->Read(file, out.data(), out.size(), 0));
    out.resize(n);
    return out;
  }
  Result<std::string> Read(const std::string& path) {
    auto opened = drive_->OpenNode(IdOf(path), Drive::Intent::kRead);
    if (!opened.ok()) return opened.error();
    auto text = ReadOpen(opened->file);
    drive_->Release(opened->file);
    return text;
  }
  std::vector<std::string> Names(const std::string& path) {
    std::vector<std::string> names;
    const NodeId id = IdOf(path);
    EXPECT_TRUE(drive_->OpenFolder(id).ok());
    for (NodeId after = 0;;) {
      const auto entries = drive_->ReadFolder(id, after, 100, false);
      EXPECT_TRUE(entries.ok());
      if (!entries.ok() || entries->empty()) break;
      for (const DirEntry& e : *entries) names.push_back(e.name);
      after = entries->back().attr.id;
    }
    std::sort(names.begin(), names.end());
    return names;
  }
  // The store has answered the n-th listing from now, and that comes when `meanwhile` is done.
  void Overtake(const std::function<void()>& list, const std::function<void()>& meanwhile,
                int nth = 1) {
    auto answered = std::make_shared<std::atomic<int>>(0);
    std::promise<void> done;
    world_.on_listed = [answered, nth, is_done = done.get_future().share()] {
      if (++*answered == nth) is_done.wait_for(std::chrono::seconds(60));
    };
    const auto listed = std::async(std::launch::async, list);
    EXPECT_TRUE(Eventually([&] { return *answered >= nth; }));
    meanwhile();
    done.set_value();
    listed.wait();
  }
  void ExpectNothingVanished() {
    for (const Happening& one : drive_->Happened(0, 100))
      EXPECT_NE(one.what, "vanished") << one.path;
  }
  void FlushAll() {
    const Status flushed = drive_->Flush(Duration(60000));
    ASSERT_TRUE(flushed.ok()) << flushed.error().what << Waiting();
  }
  std::string Waiting() {
    const auto queue = drive_->Queue(10);
    std::string out;
    if (!queue.ok()) return out;
    for (const auto& [path, node] : *queue)
      out += fmt::format("\n  {} #{}{} there {} {}/{} tried {}/{} dirty {} attempts {} {}", path,
                         node.id, node.gone() ? " gone" : "", static_cast<int>(node.remote.place),
                         node.remote.parent, node.remote.name, node.attempt.parent,
                         node.attempt.name, node.dirty, node.pending.tries, node.pending.error);
    for (const std::string& what : world_.TakeAsked()) out += "\n  " + what;
    return out;
  }
  std::vector<std::string> Asked(const std::string& kind) {
    std::vector<std::string> out;
    for (const std::string& what : world_.TakeAsked()) {
      if (what.compare(0, kind.size() + 1, kind + " ") == 0) out.push_back(what);
    }
    return out;
  }

  TemporaryFolder folder_{QuickFolder()};
  FakeWorld world_;
  HarshDisk disk_;
  bool read_only_ = false, shared_ = false;
  std::string boot_id_ = "one", cache_folder_;
  const Clock* clock_ = &SystemClock();
  Duration patience_{5000}, retry_pause_{2000}, quiet_{20}, hold_quiet_{50},
      trial_pause_ = DriveOptions().trial_pause, copy_patience_ = DriveOptions().copy_patience,
      open_patience_ = DriveOptions().open_patience, watch_every_ = DriveOptions().watch_every,
      may_be_late_ = DriveOptions().may_be_late, feed_pause_ = DriveOptions().feed_pause;
  std::uint64_t hold_files_ = 1000;
  std::size_t remembered_ = 20000;
  std::unique_ptr<Drive> drive_;
};

}  // namespace pargeter::test
