#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <atomic>
#include <cerrno>

#include "base/clock.h"
#include "base/digest.h"
#include "base/error.h"
#include "base/file.h"
#include "base/text.h"
#include "base/threads.h"
#include "base/units.h"
#include "support/no_threads.h"
#include "support/process.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

TEST(ErrorTest, EveryCodeHasAnErrnoAnExitCodeAndAName) {
  for (int i = 0; i <= static_cast<int>(Code::kInternal); ++i) {
    const auto code = static_cast<Code>(i);
    EXPECT_GT(ErrnoOf(code), 0) << i;
    EXPECT_GE(ExitCodeOf(code), 1) << i;
    EXPECT_LE(ExitCodeOf(code), 7) << i;
    EXPECT_EQ(CodeOfName(NameOf(code)), code) << NameOf(code);
  }
}

TEST(ErrorTest, DocumentedExitCodes) {
  EXPECT_EQ(ExitCodeOf(Code::kInvalid), 2);
  EXPECT_EQ(ExitCodeOf(Code::kNotFound), 3);
  EXPECT_EQ(ExitCodeOf(Code::kRefused), 4);
  EXPECT_EQ(ExitCodeOf(Code::kUnavailable), 5);
  EXPECT_EQ(ExitCodeOf(Code::kSignIn), 6);
  EXPECT_EQ(ExitCodeOf(Code::kBusy), 7);
}

TEST(ErrorTest, OnlyPassingFaultsAreRetried) {
  for (const Code code : {Code::kUnavailable, Code::kThrottled, Code::kTimeout, Code::kDamaged})
    EXPECT_TRUE(MayRetry(code));
  for (const Code code :
       {Code::kChanged, Code::kPermission, Code::kNotFound, Code::kInvalid, Code::kNoSpace})
    EXPECT_FALSE(MayRetry(code));
}

// `for (x : *Call())` keeps what it goes through.
static_assert(!std::is_reference_v<decltype(*std::declval<Result<std::string>>())>);

TEST(ThreadsTest, WhoeverThereAreWork) {
  std::atomic<int> next{0}, workers{0}, done{0};
  const auto work = [&] {
    ++workers;
    while (next++ < 100) ++done;
  };
  WorkTogether(4, work);
  EXPECT_EQ(workers, 4);
  EXPECT_EQ(done, 100);
  EXPECT_TRUE(CheckThreads(20).ok());
  const NoThreads none;
  next = workers = done = 0;
  WorkTogether(4, work);
  EXPECT_EQ(workers, 1);
  EXPECT_EQ(done, 100);
  EXPECT_THAT(CheckThreads(20).error().what, HasSubstr("0 more threads here, and 20"));
}

TEST(UnitsTest, SizesAreReadAsPeopleWriteThem) {
  EXPECT_EQ(*ParseSize("2GiB"), 2ull << 30);
  EXPECT_EQ(*ParseSize("1.5 MiB"), 1536u << 10);
  EXPECT_EQ(*ParseSize("10MB"), 10'000'000u);
  EXPECT_EQ(*ParseSize("4096"), 4096u);
  for (const char* bad : {"", "GiB", "two", "-1", "5 parsecs", "1e400", "nan", "9999999PiB"}) {
    EXPECT_EQ(ParseSize(bad).error().code, Code::kInvalid) << bad;
  }
}

TEST(UnitsTest, SizesAreShownWithoutCarryMistakes) {
  EXPECT_EQ(FormatSize(0), "0 B");
  EXPECT_EQ(FormatSize(1023), "1023 B");
  EXPECT_EQ(FormatSize(1024), "1.0 KiB");
  EXPECT_EQ(FormatSize(1024 * 1024 - 1), "1.0 MiB");
}

TEST(UnitsTest, Durations) {
  EXPECT_EQ(ParseDuration("20ms")->count(), 20);
  EXPECT_EQ(ParseDuration("10m")->count(), 600000);
  EXPECT_EQ(ParseDuration("2")->count(), 2000);
  EXPECT_FALSE(ParseDuration("soon").ok());
}

TEST(ClockTest, DatesOfStores) {
  EXPECT_EQ(ParseHttpDate("Fri, 24 May 2013 00:00:00 GMT"), 1369353600ll * 1'000'000'000);
  EXPECT_EQ(ParseRfc3339("2013-05-24T00:00:00.250Z"), 1369353600250ll * 1'000'000);
  EXPECT_EQ(ParseRfc3339("yesterday"), 0);
  EXPECT_EQ(ParseRfc3339("0026-03-01T10:10:00Z"), 0) << "beyond what 64 bits of nanoseconds hold";
  EXPECT_EQ(ParseRfc3339("2262-04-11T23:47:16.99Z"), 0);
  EXPECT_EQ(ParseHttpDate("Fri, 24 Mai 2013 00:00:00 GMT"), 0);
  EXPECT_EQ(Rfc3339(1369353600ll * 1'000'000'000), "2013-05-24T00:00:00Z");
}

TEST(TextTest, WhatATerminalMustNotSeeIsEscaped) {
  EXPECT_EQ(Printable("a\x1b[31mb\n"), "a\\x1b[31mb\\x0a");
  EXPECT_EQ(Printable("caf\xE9"), "caf\\xe9");
  EXPECT_EQ(Printable("Ünïcödé"), "Ünïcödé");
  EXPECT_EQ(Printable("\xC2\x9B"), "\\xc2\\x9b");  // the one-byte CSI
}

TEST(TextTest, Utf8IsStrict) {
  EXPECT_TRUE(IsUtf8("Ü日😀"));
  for (const char* bad : {"\xC0\xAF", "\xED\xA0\x80", "\xF4\x90\x80\x80", "\xE9", "\x80"})
    EXPECT_FALSE(IsUtf8(bad));
}

TEST(TextTest, Base64GoesBothWays) {
  for (std::size_t n = 0; n < 20; ++n) {
    const std::string bytes = Sha256(std::to_string(n)).substr(0, n);
    EXPECT_EQ(Base64Decode(Base64(bytes)), bytes);
  }
  EXPECT_EQ(Base64("foob"), "Zm9vYg==");
  EXPECT_EQ(Base64Decode("no base64!"), "");
}

TEST(DigestTest, KnownValues) {
  EXPECT_EQ(Hex(Md5("")), "d41d8cd98f00b204e9800998ecf8427e");
  EXPECT_EQ(Hex(Sha256("abc")), "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
  EXPECT_EQ(Hex(HmacSha256("Jefe", "what do ya want for nothing?")),  // RFC 4231, case 2
            "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843");
}

TEST(FileTest, AnAtomicWriteReplacesWholeAndPrivately) {
  TemporaryFolder folder;
  const std::string path = folder / "f";
  ASSERT_TRUE(WriteFileAtomically(path, "one", 0600).ok());
  ASSERT_TRUE(WriteFileAtomically(path, "two", 0600).ok());
  EXPECT_EQ(*ReadFile(path), "two");
  struct stat info {};
  ASSERT_EQ(::stat(path.c_str(), &info), 0);
  EXPECT_EQ(info.st_mode & 0777, 0600u);
  EXPECT_EQ(WriteFileAtomically(folder / "no/such/f", "x", 0600).error().code, Code::kNotFound);
}

TEST(FileTest, ALockIsHeldByOneAndNamesItsHolder) {
  TemporaryFolder folder;
  auto first = LockFile(folder / "lock");
  ASSERT_TRUE(first.ok());
  const auto second = LockFile(folder / "lock");
  ASSERT_FALSE(second.ok());
  EXPECT_EQ(second.error().code, Code::kBusy);
  EXPECT_THAT(second.error().what, HasSubstr(std::to_string(::getpid())));
  first->Reset();
  EXPECT_TRUE(LockFile(folder / "lock").ok());
}

}  // namespace
}  // namespace pargeter::test
