// One file and all that may be done to it, against a copy in memory, while it is sent to the store
// and evicted all the time. PARGETER_ONE_FILE_SEED and PARGETER_ONE_FILE_RUNS play more of it by
// hand.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <linux/falloc.h>
#include <setjmp.h>
#include <signal.h>
#include <sys/mman.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <cstring>
#include <random>
#include <thread>

#include "base/file.h"
#include "system/machine.h"

namespace pargeter::test {
namespace {

// A mapped page that cannot be had is a signal; here it is an error like any other.
sigjmp_buf g_no_page;
void NoPage(int) { siglongjmp(g_no_page, 1); }

class OneFile {
 public:
  OneFile(std::string folder, unsigned seed, std::size_t most)
      : folder_(std::move(folder)), most_(most), dice_(seed) {
    Reopen();
  }
  ~OneFile() { Close(); }

  // One random call; "" or what was wrong.
  std::string Step() {
    const std::size_t at = Below(most_), size = 1 + Below(Below(8) == 0 ? most_ / 2 : 5000);
    switch (Below(12)) {
      case 0:
      case 1:
        return Write(at, size);
      case 2:
        return WriteMapped(at, size);
      case 3:
        return Failed("append", ::lseek(Hand(), 0, SEEK_END) < 0) + Write(text_.size(), size / 4);
      case 4:
        return Resize(at);
      case 5:
        return Allocate(FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, at, size);
      case 6:
        return Allocate(
            Below(2) ? FALLOC_FL_ZERO_RANGE : FALLOC_FL_ZERO_RANGE | FALLOC_FL_KEEP_SIZE, at, size);
      case 7:
        return Allocate(0, at, size / 4);
      case 8:
        return Below(2) ? Failed("fsync", ::fsync(Hand()) != 0) : Rename();
      case 9:
        Reopen();
        return Failed("open", fd_[0] < 0 || fd_[1] < 0);
      case 10:
        return CompareMapped(at, size);
      default:
        return Compare(at, size);
    }
  }
  std::string CompareAll() { return Compare(0, text_.size() + 1) + CompareMapped(0, text_.size()); }
  const std::string& text() const { return text_; }
  std::string name() const { return name_; }
  void Close() {
    for (int& fd : fd_)
      if (fd >= 0) ::close(std::exchange(fd, -1));
  }
  void Reopen() {
    Close();
    for (int& fd : fd_) fd = ::open((folder_ + "/" + name_).c_str(), O_RDWR | O_CREAT, 0644);
  }

 private:
  std::size_t Below(std::size_t n) {
    return n == 0 ? 0 : std::uniform_int_distribution<std::size_t>(0, n - 1)(dice_);
  }
  int Hand() { return fd_[Below(2)]; }
  static std::string Failed(const char* what, bool failed) {
    return failed ? std::string(what) + ": " + ::strerror(errno) : "";
  }
  std::string Bytes(std::size_t size) {
    std::string bytes(size, static_cast<char>('a' + Below(26)));
    for (std::size_t i = 0; i < size; i += 64) bytes[i] = static_cast<char>('A' + Below(26));
    return bytes;
  }
  std::string Write(std::size_t at, std::size_t size) {
    size = std::min(size, most_ - std::min(at, most_));
    const std::string bytes = Bytes(size);
    if (text_.size() < at + size) text_.resize(at + size);
    text_.replace(at, size, bytes);
    return Failed("write", ::pwrite(Hand(), bytes.data(), size, static_cast<off_t>(at)) !=
                               static_cast<ssize_t>(size));
  }
  std::string Resize(std::size_t size) {
    text_.resize(size);
    return Failed("ftruncate", ::ftruncate(Hand(), static_cast<off_t>(size)) != 0);
  }
  std::string Rename() {
    const std::string other = name_ == "sheet" ? "scan" : "sheet";
    const bool failed =
        ::rename((folder_ + "/" + name_).c_str(), (folder_ + "/" + other).c_str()) != 0;
    name_ = other;
    return Failed("rename", failed);
  }
  std::string Allocate(int mode, std::size_t at, std::size_t size) {
    size = std::min(size, most_ - at);
    if (size == 0) return "";
    if (!(mode & FALLOC_FL_KEEP_SIZE) && text_.size() < at + size) text_.resize(at + size);
    if (mode != 0 && at < text_.size())
      text_.replace(at, std::min(size, text_.size() - at), std::min(size, text_.size() - at), '\0');
    return Failed("fallocate",
                  ::fallocate(Hand(), mode, static_cast<off_t>(at), static_cast<off_t>(size)) != 0);
  }
  std::string Compare(std::size_t at, std::size_t size) {
    std::string got(size, '\0');
    const ssize_t n = ::pread(Hand(), got.data(), size, static_cast<off_t>(at));
    if (n < 0) return Failed("read", true);
    got.resize(static_cast<std::size_t>(n));
    return got == (at < text_.size() ? text_.substr(at, size) : "") ? "" : "reads other bytes";
  }
  // Of the file, as far as it goes: `job` gets the memory.
  template <typename Job>
  std::string Mapped(std::size_t at, std::size_t size, Job job) {
    if (at >= text_.size()) return "";
    size = std::min(size, text_.size() - at);
    void* const map = ::mmap(nullptr, text_.size(), PROT_READ | PROT_WRITE, MAP_SHARED, Hand(), 0);
    if (map == MAP_FAILED) return Failed("mmap", true);
    std::string why = "a mapped page cannot be had";
    if (sigsetjmp(g_no_page, 1) == 0) why = job(static_cast<char*>(map) + at, size);
    ::munmap(map, text_.size());
    return why;
  }
  std::string WriteMapped(std::size_t at, std::size_t size) {
    return Mapped(at, size, [&](char* memory, std::size_t n) -> std::string {
      const std::string bytes = Bytes(n);
      std::memcpy(memory, bytes.data(), n);
      text_.replace(at, n, bytes);
      return "";
    });
  }
  std::string CompareMapped(std::size_t at, std::size_t size) {
    return Mapped(at, size, [&](const char* memory, std::size_t n) -> std::string {
      return text_.compare(at, n, memory, n) == 0 ? "" : "a mapping has other bytes";
    });
  }

  const std::string folder_;
  const std::size_t most_;
  std::mt19937 dice_;
  std::string name_ = "sheet", text_;
  int fd_[2] = {-1, -1};
};

class OneFileTest : public OnAMount {
 protected:
  void SetUp() override {
    OnAMount::SetUp();
    struct sigaction action {};
    action.sa_handler = NoPage;
    ::sigaction(SIGBUS, &action, &before_);
  }
  void TearDown() override { ::sigaction(SIGBUS, &before_, nullptr); }
  static unsigned Number(const char* variable, unsigned otherwise) {
    const char* said = std::getenv(variable);
    return said != nullptr ? static_cast<unsigned>(std::atol(said)) : otherwise;
  }
  bool Evict() { return ::setxattr(At("d").c_str(), "user.pargeter.ask", "evict", 5, 0) == 0; }
  // The next steps find it at the store only.
  void BeginEvicted(OneFile* file) {
    file->Close();
    Flush();
    Evict();
    file->Reopen();
  }
  // At any moment, until `done`.
  void Disturb(const std::atomic<bool>& done) {
    while (!done) {
      for (int i = 0; i < 20 && !done; ++i) Evict();
      machine_->Pargeter({"flush", "sheets", "--timeout", "40s"});
    }
  }
  struct sigaction before_ {};
};

TEST_F(OneFileTest, IsWhatWasMadeOfItWhateverGoesOn) {
  MountAll({"--cache-limit", "20MiB"});
  ASSERT_EQ(machine_->Shell("mkdir d").exit_code, 0);
  std::atomic<bool> done{false};
  std::thread other([&] { Disturb(done); });
  const unsigned first = Number("PARGETER_ONE_FILE_SEED", 1);
  const unsigned runs = Number("PARGETER_ONE_FILE_RUNS", 6);
  std::map<std::string, std::string> left;
  for (unsigned seed = first; seed < first + runs && !HasFailure(); ++seed) {
    OneFile file(At("d"), seed, seed % 3 == 0 ? 3'000'000 : 30'000);
    std::string why;
    for (int step = 0; step < 300 && why.empty(); ++step) {
      if (step % 20 == 19) BeginEvicted(&file);
      why = file.Step();
      EXPECT_EQ(why, "") << "seed " << seed << " step " << step;
    }
    EXPECT_EQ(file.CompareAll(), "") << "seed " << seed;
    file.Close();
    const std::string name = "kept" + std::to_string(seed);
    ASSERT_EQ(::rename(At("d/" + file.name()).c_str(), At(name).c_str()), 0);
    left[name] = file.text();
  }
  done = true;
  other.join();
  Flush();
  machine_->Pargeter({"evict", At()});
  for (const auto& [name, text] : left) {
    EXPECT_TRUE(other_->Get(name) == text) << name << " at the store";
    const auto here = ReadFile(At(name));
    EXPECT_TRUE(here.ok() && *here == text) << name;
  }
}

}  // namespace
}  // namespace pargeter::test
