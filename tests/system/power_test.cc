// A machine whose power goes while it works: its state is on a real file system, in an image of its
// own, which is shut down as the kernel does it for such tests (nothing that is not on the disk yet
// gets there), and which the next start finds as its journal has it. What was synced is there; what
// was whole is whole, or as it was before.
//
//   PARGETER_STORM_SECONDS=240 PARGETER_STORM_SEED=7 storm_test --gtest_filter='*Power*'
//   PARGETER_KEEP=FOLDER ...    keeps the image and the store's log of a failure
#include <fcntl.h>
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sched.h>
#include <signal.h>
#include <sqlite3.h>
#include <sys/ioctl.h>
#include <sys/mman.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <random>
#include <thread>

#include "system/machine.h"

namespace pargeter::test {
namespace {

namespace fs = std::filesystem;

constexpr unsigned long kShutDown = _IOR('X', 125, std::uint32_t);  // of ext4 and XFS alike
constexpr std::uint32_t kWithoutFlush = 2;
constexpr const char* kBootId = "/proc/sys/kernel/random/boot_id";

// A file system in a file.
class PulledDisk {
 public:
  explicit PulledDisk(const std::string& kind) {
    fs::create_directory(At());
    const Outcome made = RunCommand(
        {"/bin/sh", "-c", "truncate -s 400M '" + Image() + "' && mkfs." + kind + " -q " + Image()});
    works = made.exit_code == 0 && Mount();
  }
  ~PulledDisk() { RunCommand({"umount", "-l", At()}, "", 20); }
  bool Mount() {  // (another test may have taken the loop device meanwhile)
    return Eventually(
        [&] {
          return RunCommand({"mount", "-o", "loop", Image(), At()}, "", 30).exit_code == 0;
        },
        5);
  }
  // Nobody may have a file open there any more.
  bool Unmount() { return RunCommand({"umount", At()}, "", 30).exit_code == 0; }
  void Pull() {
    const int fd = ::open(At().c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    std::uint32_t how = kWithoutFlush;
    EXPECT_EQ(::ioctl(fd, kShutDown, &how), 0) << std::strerror(errno);
    ::close(fd);
  }
  std::string At() const { return folder_ / "at"; }
  std::string Image() const { return folder_ / "image"; }
  bool works = false;

 private:
  static std::string Roomy() {
    std::error_code failed;
    const auto room = fs::space("/dev/shm", failed);
    return !failed && room.available > (2ull << 30) ? "/dev/shm" : "/tmp";
  }
  const TemporaryFolder folder_{Roomy()};
};

// One that is made, saved, emptied and removed as a whole. Which contents it may have after a cut:
// what was synced, if that was the last; else any that it has had, whole; and if there was nothing
// to fall back upon, what is left of one.
class WholeFile {
 public:
  WholeFile(std::string path, std::uint64_t seed) : path_(std::move(path)), dice_(seed) {}

  // False: the mount is gone.
  bool Act() {
    const bool sync = dice_() % 3 == 0;
    synced_ = false;
    if (dice_() % 8 == 0) {
      absent_ = true;
      const bool done = ::unlink(path_.c_str()) == 0 || errno == ENOENT;
      return done;
    }
    const std::string text = Text();
    had_.push_back(text);
    const std::string way = dice_() % 2 == 0 ? path_ : path_ + ".new";
    const int fd = ::open(way.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
    if (fd < 0) return false;
    bool done = ::write(fd, text.data(), text.size()) == static_cast<ssize_t>(text.size());
    if (sync) done = done && ::fsync(fd) == 0;
    done = ::close(fd) == 0 && done;
    if (way != path_) done = done && ::rename(way.c_str(), path_.c_str()) == 0;
    if (way != path_ && sync) done = done && SyncFolder();
    synced_ = done && sync;
    return done;
  }
  std::string Wrong() const {
    const bool there = fs::exists(path_);
    const std::string now = there ? ReadAll(path_) : "";
    const auto told = [&](const char* what) {
      return fmt::format("{}: {}: {}, '{}'; last of {}: '{}'", path_, what,
                         there ? fmt::format("{} bytes", now.size()) : "nothing", now.substr(0, 24),
                         had_.size(), had_.empty() ? "" : had_.back().substr(0, 24));
    };
    if (synced_) return there && now == had_.back() ? "" : told("what was synced is not there");
    if (!there) return absent_ ? "" : told("it is gone");
    for (const std::string& text : had_)
      if (now == text) return "";
    return absent_ && Remains(now) ? "" : told("what is there never was");
  }
  // From here on it is what it is: the store has it.
  void Settle() {
    synced_ = false;
    absent_ = !fs::exists(path_);
    had_.clear();
    if (!absent_) had_.push_back(ReadAll(path_));
    ::unlink((path_ + ".new").c_str());
  }

 private:
  std::string Text() {
    const std::size_t size = dice_() % 4 < 3 ? dice_() % 3000 : dice_() % 300000;
    std::string out = fmt::format("<{} {}>", fs::path(path_).filename().string(), ++serial_);
    while (out.size() < size) out += fmt::format("{:08}", serial_);
    return out;
  }
  bool Remains(const std::string& now) const {
    for (std::size_t i = 0; i < now.size(); ++i) {
      bool was = now[i] == '\0';
      for (const std::string& text : had_) was = was || (i < text.size() && text[i] == now[i]);
      if (!was) return false;
    }
    return true;
  }
  bool SyncFolder() const {
    const int fd = ::open(fs::path(path_).parent_path().c_str(), O_RDONLY | O_DIRECTORY);
    const bool done = fd >= 0 && ::fsync(fd) == 0;
    ::close(fd);
    return done;
  }
  const std::string path_;
  std::mt19937_64 dice_;
  std::vector<std::string> had_;
  bool absent_ = true, synced_ = false;
  int serial_ = 0;
};

// Records that are written in place, as a data base does: after a cut each has the number that it
// had at the last sync, or a later one.
class Ledger {
 public:
  Ledger(std::string path, std::uint64_t seed) : path_(std::move(path)), dice_(seed) {}
  ~Ledger() { Close(); }
  bool Begin() {
    for (std::size_t k = 0; k < kRecords; ++k)
      if (!Write(k)) return false;
    return Sync();
  }
  bool Act() {
    const std::uint64_t kind = dice_() % 12;
    if (kind == 0) return Sync();
    if (kind == 1) return Close();
    return Write(dice_() % kRecords);
  }
  std::string Wrong() {
    Close();
    const std::string now = ReadAll(path_);
    if (now.size() != kRecords * kSize) return fmt::format("{}: {} bytes", path_, now.size());
    for (std::size_t k = 0; k < kRecords; ++k) {
      const std::uint64_t number = std::strtoull(now.substr(k * kSize, 20).c_str(), nullptr, 10);
      if (now.substr(k * kSize, kSize) != Record(number) || number < synced_[k] ||
          number > written_[k])
        return fmt::format("{}: record {} is '{}', synced as {}, written as {}", path_, k,
                           now.substr(k * kSize, 20), synced_[k], written_[k]);
      written_[k] = synced_[k] = number;
    }
    return "";
  }
  bool Close() {
    const int fd = std::exchange(fd_, -1);
    return fd < 0 || ::close(fd) == 0;
  }

 private:
  static constexpr std::size_t kRecords = 512, kSize = 128;
  static std::string Record(std::uint64_t number) {
    std::string out = fmt::format("{:020}", number);
    while (out.size() < kSize) out += fmt::format("{:04}", number % 10000);
    return out;
  }
  bool Open() {
    if (fd_ < 0) fd_ = ::open(path_.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0644);
    return fd_ >= 0;
  }
  bool Write(std::size_t k) {
    if (!Open()) return false;
    const std::string text = Record(++written_[k]);
    return ::pwrite(fd_, text.data(), kSize, static_cast<off_t>(k * kSize)) == kSize;
  }
  bool Sync() {
    if (!Open() || ::fdatasync(fd_) != 0) return false;
    synced_ = written_;
    return true;
  }
  const std::string path_;
  std::mt19937_64 dice_;
  int fd_ = -1;
  std::array<std::uint64_t, kRecords> written_{}, synced_{};
};

// A data base: what it has committed is there, and nothing else is. It asks for all the syncs that
// it has been taught. It is written to by another process, which tells how far it has come.
class Base {
 public:
  Base(std::string path, const char* journal)
      : path_(std::move(path)),
        journal_(journal),
        number_(*static_cast<std::atomic<int>*>(::mmap(nullptr, sizeof(std::atomic<int>),
                                                       PROT_READ | PROT_WRITE,
                                                       MAP_SHARED | MAP_ANONYMOUS, -1, 0))) {}
  ~Base() {
    Close();
    ::munmap(&number_, sizeof(number_));
  }
  bool Begin() {
    return Open() && Do("create table sheets (number integer primary key, label text)");
  }
  bool Act() {
    const int next = number_ + 1;
    const std::string label(static_cast<std::size_t>(next * 37 % 2000), 'l');
    if (!Open() || !Do(fmt::format("insert into sheets values ({}, '{}')", next, label)))
      return false;
    // (that its folder could not be opened any more, to be synced, is no error to it)
    const int folder =
        ::open(fs::path(path_).parent_path().c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (folder < 0) return false;
    ::close(folder);
    number_ = next;
    return next % 50 != 0 || Close();
  }
  std::string Wrong() {
    Close();
    const std::string found = Open() ? Ask("pragma integrity_check") + " " +
                                           Ask("select count(*) from sheets") + " " +
                                           Ask("select max(number) from sheets")
                                     : "it does not open";
    const auto as = [](int n) {
      return fmt::format("ok {} {}", n, n == 0 ? "" : fmt::to_string(n));
    };
    const bool one_more = found == as(number_ + 1);  // nobody has heard that it was committed
    const std::string wrong =
        found == as(number_) || one_more
            ? ""
            : fmt::format("{}: {}, committed: {}", path_, found, number_.load());
    if (one_more) ++number_;
    Close();
    return wrong;
  }
  int committed() const { return number_; }
  bool Close() {
    sqlite3_close(std::exchange(db_, nullptr));
    return true;
  }

 private:
  bool Open() {
    if (db_ != nullptr) return true;
    return sqlite3_open(path_.c_str(), &db_) == SQLITE_OK &&
           Do(std::string("pragma journal_mode = ") + journal_) && Do("pragma synchronous = extra");
  }
  bool Do(const std::string& words) {
    return sqlite3_exec(db_, words.c_str(), nullptr, nullptr, nullptr) == SQLITE_OK;
  }
  std::string Ask(const std::string& words) {
    std::string answer;
    const auto take = [](void* to, int, char** values, char**) {
      *static_cast<std::string*>(to) += values[0] ? values[0] : "";
      return 0;
    };
    if (sqlite3_exec(db_, words.c_str(), take, &answer, nullptr) != SQLITE_OK)
      answer = sqlite3_errmsg(db_);
    return answer;
  }
  const std::string path_;
  const char* const journal_;
  sqlite3* db_ = nullptr;
  std::atomic<int>& number_;
};

class PowerTest : public testing::TestWithParam<std::tuple<const char*, const char*>> {
 protected:
  void SetUp() override {
    if (!FuseWorks()) GTEST_SKIP() << "no access to /dev/fuse";
    // what is mounted here is seen by this process alone, and goes with it
    if (::geteuid() != 0 || ::unshare(CLONE_NEWNS) != 0 ||
        ::mount(nullptr, "/", nullptr, MS_REC | MS_PRIVATE, nullptr) != 0)
      GTEST_SKIP() << "only root can have a disk of its own";
    NewBoot();
    other_boot_ = ::mount((folder_ / "boot").c_str(), kBootId, nullptr, MS_BIND, nullptr) == 0;
    if (!other_boot_) GTEST_SKIP() << "no other boot can be had here";
    const auto [disk, store] = GetParam();
    disk_ = std::make_unique<PulledDisk>(disk);
    if (!disk_->works) GTEST_SKIP() << "no " << disk << " can be had here";
    const bool objects = std::string(store) == "Objects";
    std::vector<std::string> more = {"--hold-deletions", "off"};
    if ((Seed() + (objects ? 0 : 1)) % 2 == 0) {  // the cache has a disk of its own
      cache_disk_ = std::make_unique<PulledDisk>(disk);
      ASSERT_TRUE(cache_disk_->works);
      more.insert(more.end(), {"--cache-at", cache_disk_->At() + "/cache"});
    }
    const Peer peer = objects ? StartStandin() : StartDriveStandin("drive");
    if (!objects) {
      ASSERT_TRUE(OpenPeer(peer, "")->MakeFolder("sheets", {}, nullptr).ok());
    }
    machine_ = std::make_unique<Machine>(peer, disk_->At() + "/state");
    machine_->AddDrive(objects ? peer.bucket + "/sheets" : "sheets", more);
    machine_->Mount();
    for (std::size_t i = 0; i < kFiles; ++i) {
      files_.push_back(
          std::make_unique<WholeFile>(machine_->At(fmt::format("f{}", i)), Seed() * 100 + i));
    }
    for (std::size_t i = 0; i < kLedgers; ++i) {
      ledgers_.push_back(std::make_unique<Ledger>(machine_->At(fmt::format("ledger{}", i)),
                                                  Seed() * 100 + 50 + i));
      ASSERT_TRUE(ledgers_.back()->Begin() && ledgers_.back()->Close());
    }
    for (const char* journal : {"wal", "delete", "truncate"}) {
      bases_.push_back(std::make_unique<Base>(machine_->At(std::string(journal) + ".db"), journal));
      ASSERT_TRUE(bases_.back()->Begin() && bases_.back()->Close());
    }
    Flush();
  }
  void TearDown() override {
    machine_.reset();
    disk_.reset();
    cache_disk_.reset();
    if (other_boot_) ::umount2(kBootId, MNT_DETACH);
  }
  static std::uint64_t Seed() { return FromEnvironment("PARGETER_STORM_SEED", 1); }
  void NewBoot() { WriteAll(folder_ / "boot", fmt::format("boot-{}-{}\n", Seed(), ++boots_)); }
  void Flush() {
    const Outcome flushed = machine_->Pargeter({"flush", "sheets", "--timeout", "60s"}, 90);
    ASSERT_EQ(flushed.exit_code, 0) << flushed.err << machine_->Pargeter({"queue", "sheets"}).out;
  }

  // Any file may reach the disk at any time, and in any order.
  void WriteSomeBack(std::mt19937_64* dice) {
    std::error_code failed;
    std::vector<std::string> all;
    for (const PulledDisk* disk : {disk_.get(), cache_disk_.get()}) {
      if (disk == nullptr) continue;
      for (fs::recursive_directory_iterator it(disk->At(), failed), end; !failed && it != end;
           it.increment(failed))
        if (it->is_regular_file(failed)) all.push_back(it->path());
    }
    if (all.empty()) return;
    const int fd = ::open(all[(*dice)() % all.size()].c_str(), O_RDONLY | O_CLOEXEC);
    if (fd >= 0) ::fdatasync(fd);
    ::close(fd);
  }
  void WorkUntilThePowerGoes() {
    std::atomic<bool> stop{false};
    const auto work = [&stop](auto* items, std::uint64_t seed) {
      std::mt19937_64 dice(seed);
      while (!stop && (*items)[dice() % items->size()]->Act()) {
      }
    };
    std::vector<std::thread> threads;
    const std::uint64_t seed = dice_(), writeback = dice_();
    // who has mapped a file of a mount that goes is ended by SIGBUS
    const pid_t bases = ::fork();
    if (bases == 0) {
      work(&bases_, seed);
      ::_exit(0);
    }
    ASSERT_GT(bases, 0);
    threads.emplace_back([&] { work(&ledgers_, seed); });
    // each file is of one of them
    for (std::size_t part = 0; part < 2; ++part)
      threads.emplace_back([this, part, seed, &stop] {
        std::mt19937_64 dice(seed + part);
        while (!stop && files_[2 * (dice() % (kFiles / 2)) + part]->Act()) {
        }
      });
    threads.emplace_back([&] {
      std::mt19937_64 dice(writeback);
      while (!stop) {
        WriteSomeBack(&dice);
        std::this_thread::sleep_for(std::chrono::milliseconds(dice() % 100));
      }
    });
    std::this_thread::sleep_for(std::chrono::milliseconds(200 + dice_() % 2500));
    int how = 0;
    const bool ended = ::waitpid(bases, &how, WNOHANG) == bases;
    EXPECT_FALSE(ended && WIFSIGNALED(how)) << "by signal " << WTERMSIG(how) << ", too early";
    EXPECT_TRUE(machine_->KillDaemon());
    disk_->Pull();
    if (cache_disk_) cache_disk_->Pull();
    stop = true;
    for (std::thread& thread : threads) thread.join();
    if (!ended) {
      ::kill(bases, SIGKILL);
      ::waitpid(bases, &how, 0);
    }
    for (auto& ledger : ledgers_) ledger->Close();
  }
  void StartAgain() {
    RunCommand({"umount", "-l", machine_->At()}, "", 20);
    for (PulledDisk* disk : {disk_.get(), cache_disk_.get()}) {
      if (disk == nullptr) continue;
      ASSERT_TRUE(Eventually([&] { return disk->Unmount(); }));
      ASSERT_TRUE(disk->Mount());
    }
    NewBoot();
    SetFault(machine_->peer(), "");
    machine_->Mount();
    Flush();
    ASSERT_EQ(machine_->Pargeter({"refresh", "sheets"}).exit_code, 0);
  }
  void Keep() {
    const char* to = std::getenv("PARGETER_KEEP");
    if (to == nullptr) return;
    RunCommand({"cp", disk_->Image(), fmt::format("{}/power-{}-image", to, Seed())});
    RunCommand({"cp", machine_->peer().LogPath(), fmt::format("{}/power-{}-log", to, Seed())});
  }

  static constexpr std::size_t kFiles = 8, kLedgers = 2;
  const TemporaryFolder folder_;
  std::unique_ptr<PulledDisk> disk_, cache_disk_;
  std::unique_ptr<Machine> machine_;
  std::vector<std::unique_ptr<WholeFile>> files_;
  std::vector<std::unique_ptr<Ledger>> ledgers_;
  std::vector<std::unique_ptr<Base>> bases_;
  std::mt19937_64 dice_{Seed()};
  bool other_boot_ = false;
  int boots_ = 0;
};

INSTANTIATE_TEST_SUITE_P(Disks, PowerTest,
                         testing::Combine(testing::Values("ext4", "xfs"),
                                          testing::Values("Objects", "Drive")),
                         [](const auto& one) {
                           return fmt::format("{}{}", std::get<0>(one.param),
                                              std::get<1>(one.param));
                         });

TEST_P(PowerTest, WhatWasSyncedIsThereAndWhatWasWholeIsWhole) {
  using Now = std::chrono::steady_clock;
  const auto end = Now::now() + std::chrono::seconds(FromEnvironment("PARGETER_STORM_SECONDS", 5));
  int rounds = 0, kept = 0;
  for (; Now::now() < end || rounds == 0; ++rounds) {
    SCOPED_TRACE(fmt::format("seed {} round {}", Seed(), rounds + 1));
    static const char* weather[] = {"", "status=503,share=0.05,retry-after=0", "reset,share=0.05",
                                    "away=900"};
    SetFault(machine_->peer(), weather[dice_() % std::size(weather)]);
    WorkUntilThePowerGoes();
    StartAgain();
    if (HasFailure()) return Keep();
    for (const auto& file : files_) EXPECT_EQ(file->Wrong(), "");
    for (const auto& ledger : ledgers_) EXPECT_EQ(ledger->Wrong(), "");
    for (const auto& base : bases_) EXPECT_EQ(base->Wrong(), "");
    if (HasFailure()) return Keep();
    for (const auto& entry : fs::directory_iterator(machine_->At())) {
      if (entry.path().string().find(" (kept from ") == std::string::npos) continue;
      ++kept;
      fs::remove(entry.path());
    }
    for (const auto& file : files_) file->Settle();
    Flush();
  }
  int committed = 0;
  for (const auto& base : bases_) committed += base->committed();
  std::printf("%d cuts, %d commits, %d files kept beside\n", rounds, committed, kept);
  EXPECT_GT(committed, 0);
}

}  // namespace
}  // namespace pargeter::test
