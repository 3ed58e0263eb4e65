// Two machines' mounts of one store, a bucket or a cloud drive, in bad weather: threads at work in
// a mount and in a plain folder alike, while the store fails and falls silent, daemons are killed,
// and another program writes there, too. At all calm moments the two folders are the same; in the
// end the other machine, and one that knows nothing, see it too.
//
//   PARGETER_STORM_SECONDS=240 PARGETER_STORM_SEED=7 storm_test
//   PARGETER_PEERS=sftp=FILE storm_test --gtest_filter='*Real'   at a real store, which has no
//                                       weather of its own
//   PARGETER_KEEP=FOLDER storm_test     keeps what a failure leaves of both machines and the folder
#include <fcntl.h>
#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <signal.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <random>
#include <set>
#include <sstream>
#include <thread>

#include "system/machine.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

// One thread's folder, twice.
class Worker {
 public:
  Worker(std::string mount, std::string plain, std::uint64_t seed)
      : mount_(std::move(mount)), plain_(std::move(plain)), dice_(seed), seed_(seed) {}

  void Begin() {
    ::mkdir(plain_.c_str(), 0755);
    ASSERT_EQ(::mkdir(mount_.c_str(), 0755), 0) << mount_ << " " << std::strerror(errno);
  }

  // Does things until `stop`, or until the mount is gone; what it was doing then is `unsure`.
  void Work(const std::atomic<bool>& stop) {
    while (!stop && failure.empty()) {
      const std::string a = Any(), b = Any();
      const std::uint64_t kind = dice_() % 12;
      const std::string text = Text();
      const auto act = [&](const std::string& top) {
        return Act(kind, top + "/" + a, top + "/" + b, text);
      };
      const int got = act(mount_);
      if (got == ENOTCONN || got == ECONNABORTED || got == EIO || got == ETIMEDOUT ||
          got == EHOSTUNREACH || got == ENETUNREACH || got == EAGAIN) {
        for (const std::string& name : {a, b}) {
          unsure.insert(name);
          unsure.insert(name + ".tmp");
          const auto slash = name.find('/');
          if (kind == 10 && slash != std::string::npos) {
            unsure.insert(name.substr(0, slash));
            unsure.insert(name.substr(0, slash) + "-moved");
          }
        }
        return;
      }
      const int wanted = act(plain_);
      ++done;
      if (got != wanted)
        failure = "kind " + std::to_string(kind) + " " + a + " " + b + ": " + std::strerror(got) +
                  " instead of " + std::strerror(wanted);
    }
  }

  // The plain folder takes over what a killed daemon left of the last call, if it is one of the
  // two.
  void Agree() {
    for (const std::string& name : std::exchange(unsure, {})) {
      RunCommand({"rm", "-rf", plain_ + "/" + name});
      RunCommand({"cp", "-a", mount_ + "/" + name, plain_ + "/" + name});
    }
  }
  // A cancelled upload may arrive after all, and be met as if by another's hand: then ours is kept
  // beside it. Nothing is lost, and that is what counts here.
  std::string Difference() { return Difference(mount_); }
  std::string Difference(const std::string& mount) {
    const Outcome diff = RunCommand({"diff", "-rq", "--no-dereference", plain_, mount}, "", 120);
    if (diff.exit_code == 0) return "";
    std::string out = diff.err;
    std::istringstream lines(diff.out);
    for (std::string line; std::getline(lines, line);) {
      if (line.find(" (kept from ") != std::string::npos) {
        ++kept;
        continue;
      }
      const auto from = line.find(plain_), to = line.find(" and ");
      const bool differs = line.compare(0, 6, "Files ") == 0 && to != std::string::npos;
      const std::string plain = differs ? line.substr(from, to - from) : "";
      if (differs && KeptBeside(mount, plain)) continue;
      out += line + "\n";
      if (differs) out += Evidence(plain) + Evidence(mount + plain.substr(plain_.size()));
    }
    return out;
  }

  std::string failure;
  std::set<std::string> unsure;
  std::uint64_t done = 0;
  int kept = 0;

 private:
  static std::string Evidence(const std::string& path) {
    const std::string text = ReadAll(path);
    return fmt::format("  {} bytes, '{}' ... '{}'\n", text.size(), text.substr(0, 24),
                       text.size() > 24 ? text.substr(text.size() - 24) : "");
  }
  bool KeptBeside(const std::string& mount, const std::string& plain) {
    const std::string path = mount + plain.substr(plain_.size());
    const auto slash = path.rfind('/');
    for (const auto& entry : std::filesystem::directory_iterator(path.substr(0, slash))) {
      const std::string name = entry.path().filename();
      if (name.compare(0, path.size() - slash - 1, path.substr(slash + 1)) == 0 &&
          name.find(" (kept from ") != std::string::npos && ReadAll(entry.path()) == ReadAll(plain))
        return true;
    }
    return false;
  }

  std::string Any() {
    static const char* folders[] = {"", "d0/", "d1/"};
    return std::string(folders[dice_() % 3]) + "f" + std::to_string(dice_() % 6);
  }
  std::string Text() {
    const std::uint64_t scale = dice_() % 20;
    const std::size_t size = scale < 14   ? dice_() % 3000
                             : scale < 19 ? dice_() % 200000
                                          : dice_() % 12000000;
    std::string out = "<" + std::to_string(seed_) + "." + std::to_string(done) + ">";
    out.resize(size, static_cast<char>('a' + done % 26));
    return out;
  }
  static int Put(const std::string& path, int flags, const std::string& text, off_t at) {
    const int fd = ::open(path.c_str(), flags | O_CLOEXEC, 0644);
    if (fd < 0) return errno;
    int result = 0;
    for (std::size_t i = 0; i < text.size() && result == 0; i += 65536) {
      const std::size_t n = std::min<std::size_t>(65536, text.size() - i);
      if (::pwrite(fd, text.data() + i, n, at + static_cast<off_t>(i)) < 0) result = errno;
    }
    if (::close(fd) != 0 && result == 0) result = errno;
    return result;
  }
  static int Act(std::uint64_t kind, const std::string& a, const std::string& b,
                 const std::string& text) {
    const std::string folder = a.substr(0, a.rfind('/'));
    switch (kind) {
      case 0:
      case 1:
      case 2:
        return Put(a, O_WRONLY | O_CREAT | O_TRUNC, text, 0);
      case 3:
        return Put(a, O_WRONLY, text.substr(0, 5000), 1000);
      case 4:
      case 5: {  // as an editor saves
        const int wrote = Put(a + ".tmp", O_WRONLY | O_CREAT | O_TRUNC, text, 0);
        if (wrote != 0) return wrote;
        return ::rename((a + ".tmp").c_str(), a.c_str()) == 0 ? 0 : errno;
      }
      case 6:
        return ::rename(a.c_str(), b.c_str()) == 0 ? 0 : errno;
      case 7:
        return ::unlink(a.c_str()) == 0 ? 0 : errno;
      case 8:
        return ::mkdir(folder.c_str(), 0755) == 0 ? 0 : errno;
      case 9:
        return ::truncate(a.c_str(), static_cast<off_t>(text.size() / 2)) == 0 ? 0 : errno;
      case 10: {  // a folder is moved and comes back
        if (a.find("/d0/") == std::string::npos && a.find("/d1/") == std::string::npos) return 0;
        if (::rename(folder.c_str(), (folder + "-moved").c_str()) != 0) return errno;
        return ::rename((folder + "-moved").c_str(), folder.c_str()) == 0 ? 0 : errno;
      }
      default: {
        const int fd = ::open(a.c_str(), O_RDONLY | O_CLOEXEC);
        if (fd < 0) return errno;
        char buffer[4096];
        const ssize_t n = ::pread(fd, buffer, sizeof(buffer), 100);
        const int result = n < 0 ? errno : 0;
        ::close(fd);
        return result;
      }
    }
  }

  const std::string mount_, plain_;
  std::mt19937_64 dice_;
  const std::uint64_t seed_;
};

class StormTest : public testing::TestWithParam<const char*> {
 protected:
  void SetUp() override {
    if (!FuseWorks()) GTEST_SKIP() << "no access to /dev/fuse";
    const std::string kind = GetParam();
    std::vector<Peer> real = AllPeers();
    std::erase_if(real, [](const Peer& one) { return !one.standin.empty(); });
    if (kind == "Real" && real.empty()) GTEST_SKIP() << "PARGETER_PEERS names no store";
    const Peer peer = kind == "Objects"     ? StartStandin()
                      : kind == "Drive"     ? StartDriveStandin("drive")
                      : kind == "BareReads" ? StartDriveStandin("bare_reads", {"--bare-reads"})
                      : kind == "UntaggedListings"
                          ? StartDriveStandin("untagged_listings", {"--untagged-listings"})
                          : real[0];
    const bool objects = peer.kind == "s3";
    const std::string folder = fmt::format("sheets-{}", ::getpid());
    other_ = std::make_unique<OtherClient>(peer, folder + "/");
    if (!objects) {
      ASSERT_TRUE(OpenPeer(peer, "")->MakeFolder(folder, {}, nullptr).ok());
    }
    for (auto& machine : machines_) {
      machine = std::make_unique<Machine>(peer);
      machine->AddDrive(objects ? peer.bucket + "/" + folder : folder, {"--hold-deletions", "off"});
      machine->Mount();
    }
    ASSERT_EQ(::mkdir(machines_[0]->At("both").c_str(), 0755), 0);
    for (std::size_t i = 0; i < 4; ++i) {
      const std::string name = "/w" + std::to_string(i);
      workers_.push_back(std::make_unique<Worker>(machines_[i / 2]->At() + name,
                                                  plain_.path() + name, Seed() * 10 + i));
      workers_.back()->Begin();
    }
  }
  static std::uint64_t Seed() { return FromEnvironment("PARGETER_STORM_SEED", 1); }

  void BadWeather() {
    if (machines_[0]->peer().standin.empty()) return;
    static const char* weather[] = {"status=503,share=0.05,retry-after=0",
                                    "status=500,share=0.05",
                                    "reset,share=0.05",
                                    "cut,share=0.05",
                                    "stall=300,share=0.05",
                                    "corrupt,share=0.05,method=GET",
                                    "wrong-etag,share=0.02",
                                    "away=900"};
    for (int i = 0; i < 2; ++i)
      SetFault(machines_[0]->peer(), weather[dice_() % std::size(weather)]);
  }
  // Each machine makes a file of the same name: both contents are for ever, at it or beside it. Not
  // at a real store: some look and act, and others are there between.
  void MakeTheSame() {
    if (machines_[0]->peer().standin.empty()) return;
    for (std::size_t i = 0; i < machines_.size(); ++i) {
      const std::string path = machines_[i]->At("both/" + std::to_string(rounds_));
      const int fd = ::open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0644);
      if (fd < 0) continue;  // it has seen the other's
      const std::string text = fmt::format("<{} of {}>", rounds_, i);
      const bool wrote = ::write(fd, text.data(), text.size()) > 0;
      if (::close(fd) == 0 && wrote) made_.insert(text);
    }
  }
  void Round() {
    ++rounds_;
    BadWeather();
    std::atomic<bool> stop{false};
    std::vector<std::thread> threads;
    for (auto& worker : workers_) threads.emplace_back([&stop, &worker] { worker->Work(stop); });
    // the weather is its own, too
    const std::string name = "outside/o" + std::to_string(rounds_);
    if (other_->Put(name, "outside")) outside_.push_back(name);
    MakeTheSame();
    std::this_thread::sleep_for(std::chrono::milliseconds(700 + dice_() % 1500));
    bool killed[2] = {};
    for (std::size_t i = 0; i < machines_.size(); ++i) {
      if (dice_() % 2 == 0) continue;
      killed[i] = true;
      ++kills_;
      EXPECT_TRUE(machines_[i]->KillDaemon());
    }
    stop = true;
    for (std::thread& thread : threads) thread.join();
    if (!machines_[0]->peer().standin.empty()) SetFault(machines_[0]->peer(), "");
    for (std::size_t i = 0; i < machines_.size(); ++i) {
      if (!killed[i]) continue;
      RunCommand({"umount", "-l", machines_[i]->At()}, "", 20);
      machines_[i]->Mount();
    }
    for (auto& worker : workers_) {
      EXPECT_EQ(worker->failure, "");
      worker->Agree();
      EXPECT_EQ(worker->Difference(), "") << "in use, or after a kill";
    }
  }
  void Keep() {
    const char* to = std::getenv("PARGETER_KEEP");
    if (to == nullptr) return;
    for (std::size_t i = 0; i < machines_.size(); ++i)
      RunCommand({"cp", "-a", machines_[i]->Home("state"), fmt::format("{}/{}-{}", to, Seed(), i)});
    RunCommand({"cp", "-a", plain_.path(), fmt::format("{}/{}-plain", to, Seed())});
    if (!machines_[0]->peer().standin.empty())
      RunCommand({"cp", machines_[0]->peer().LogPath(), fmt::format("{}/{}-log", to, Seed())});
  }
  void Settle() {
    for (auto& machine : machines_) {
      const Outcome flushed = machine->Pargeter({"flush", "sheets", "--timeout", "60s"}, 90);
      EXPECT_EQ(flushed.exit_code, 0) << flushed.err << machine->Pargeter({"queue", "sheets"}).out;
    }
  }
  // What a machine sees of everything.
  void SeenBy(Machine* machine, const char* who) {
    SCOPED_TRACE(who);
    for (std::size_t i = 0; i < workers_.size(); ++i)
      EXPECT_EQ(workers_[i]->Difference(machine->At("w" + std::to_string(i))), "");
    for (const std::string& name : outside_)
      EXPECT_EQ(ReadAll(machine->At(name)), "outside") << name;
    const std::string both = RunCommand({"sh", "-c", "cat " + machine->At("both") + "/*"}).out;
    for (const std::string& text : made_) EXPECT_THAT(both, HasSubstr(text)) << text;
  }

  std::array<std::unique_ptr<Machine>, 2> machines_;
  std::unique_ptr<OtherClient> other_;
  const TemporaryFolder plain_;
  std::vector<std::unique_ptr<Worker>> workers_;
  std::mt19937_64 dice_{Seed()};
  std::vector<std::string> outside_;  // what the other program has been told that it has put there
  std::set<std::string> made_;        // in both/, without having seen another's
  int kills_ = 0, rounds_ = 0;
};

INSTANTIATE_TEST_SUITE_P(Stores, StormTest,
                         testing::Values("Objects", "Drive", "BareReads", "UntaggedListings",
                                         "Real"),
                         [](const auto& store) { return std::string(store.param); });

TEST_P(StormTest, WorkGoesOnAndNothingIsLost) {
  using Now = std::chrono::steady_clock;
  const auto end = Now::now() + std::chrono::seconds(FromEnvironment("PARGETER_STORM_SECONDS", 10));
  while (Now::now() < end || rounds_ == 0) {
    SCOPED_TRACE(fmt::format("seed {} round {}", Seed(), rounds_ + 1));
    Round();
    if (HasFailure()) return Keep();
  }
  Settle();
  EXPECT_TRUE(other_->store().ListUploads(nullptr)->empty()) << "an unfinished upload is left";
  for (auto& machine : machines_) ASSERT_EQ(machine->Pargeter({"refresh", "sheets"}).exit_code, 0);
  SeenBy(machines_[0].get(), "the first machine");
  SeenBy(machines_[1].get(), "the second machine");
  for (auto& machine : machines_) ASSERT_EQ(machine->Pargeter({"unmount", "sheets"}).exit_code, 0);
  RunCommand({"rm", "-rf", machines_[0]->Home("state/pargeter")});
  machines_[0]->Mount();
  SeenBy(machines_[0].get(), "a machine that knows nothing");
  std::uint64_t done = 0;
  int kept = 0;
  for (auto& worker : workers_) {
    done += worker->done;
    kept += worker->kept;
  }
  std::printf("%d rounds, %d kills, %llu calls, %d files kept beside\n", rounds_, kills_,
              static_cast<unsigned long long>(done), kept);
}

}  // namespace
}  // namespace pargeter::test
