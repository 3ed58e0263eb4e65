#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <poll.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cstring>
#include <filesystem>
#include <functional>
#include <future>

#include "control/client.h"
#include "control/server.h"
#include "support/process.h"

namespace pargeter::test {
namespace {

using testing::HasSubstr;

Result<Json> Echo(const std::string& method, const Json& params, const ControlServer::Gone&) {
  if (method == "echo") return params;
  if (method == "count") return Json(params["n"].get<int>() + 1);
  return Error(Code::kRefused, "not that", "Try echo.");
}

sockaddr_un Address(const std::string& path) {
  sockaddr_un address{};
  address.sun_family = AF_UNIX;
  std::strcpy(address.sun_path, path.c_str());
  return address;
}
Fd Connected(const std::string& path) {
  const sockaddr_un address = Address(path);
  Fd fd(::socket(AF_UNIX, SOCK_STREAM, 0));
  EXPECT_EQ(::connect(fd.get(), reinterpret_cast<const sockaddr*>(&address), sizeof(address)), 0);
  return fd;
}
Fd Listening(const std::string& path) {
  const sockaddr_un address = Address(path);
  Fd fd(::socket(AF_UNIX, SOCK_STREAM, 0));
  EXPECT_EQ(::bind(fd.get(), reinterpret_cast<const sockaddr*>(&address), sizeof(address)), 0);
  EXPECT_EQ(::listen(fd.get(), 1), 0);
  return fd;
}

TEST(ControlTest, AnswersAndErrorsArriveWithTheirCodes) {
  TemporaryFolder folder;
  ControlServer server(Echo);
  ASSERT_TRUE(server.Start(folder / "run/d.sock").ok());
  const auto answer = CallDrive(folder / "run/d.sock", "echo", {{"a", 1}}, Duration(5000));
  ASSERT_TRUE(answer.ok() && *answer);
  EXPECT_EQ((**answer)["a"], 1);
  const auto refused = CallDrive(folder / "run/d.sock", "other", Json::object(), Duration(5000));
  EXPECT_EQ(refused.error().code, Code::kRefused);
  EXPECT_EQ(refused.error().remedy, "Try echo.");
  const auto wrong_type =
      CallDrive(folder / "run/d.sock", "count", {{"n", "many"}}, Duration(5000));
  EXPECT_EQ(wrong_type.error().code, Code::kInvalid);
}

TEST(ControlTest, TheSocketIsPrivateAndGoneAfterwards) {
  TemporaryFolder folder;
  const std::string path = folder / "run/d.sock";
  {
    ControlServer server(Echo);
    ASSERT_TRUE(server.Start(path).ok());
    struct stat info {};
    ASSERT_EQ(::stat(path.c_str(), &info), 0);
    EXPECT_EQ(info.st_mode & 0777, 0600u);
  }
  const auto nobody = CallDrive(path, "echo", Json::object(), Duration(1000));
  ASSERT_TRUE(nobody.ok());
  EXPECT_FALSE(*nobody);
}

TEST(ControlTest, RubbishGetsAnErrorNotACrash) {
  TemporaryFolder folder;
  ControlServer server(Echo);
  ASSERT_TRUE(server.Start(folder / "d.sock").ok());
  for (const char* line :
       {"\n", "{}\n", "[1,2]\n", "{\"jsonrpc\":\"2.0\",\"method\":7}\n", "\xFF\xFE\n",
        "{\"jsonrpc\":\"2.0\",\"method\":\"echo\",\"params\":[1]}\n"}) {
    const Fd fd = Connected(folder / "d.sock");
    ASSERT_GT(::send(fd.get(), line, std::strlen(line), 0), 0);
    char buffer[4096];
    const ssize_t n = ::recv(fd.get(), buffer, sizeof(buffer), 0);
    ASSERT_GT(n, 0) << line;
    EXPECT_EQ(ParseAnswer(std::string(buffer, static_cast<std::size_t>(n))).error().code,
              Code::kInvalid)
        << line;
  }
}

TEST(ControlTest, AnErrorOfAnotherShapeIsNoAnswer) {
  for (const char* line :
       {R"({"error":{"message":{"code":1}}})", R"({"error":{"code":-32000}})", R"({"error":[]})",
        R"({"error":{"message":7,"data":{"name":"refused"}}})", "{}", "7", ""})
    EXPECT_EQ(ParseAnswer(line).error().code, Code::kDamaged) << line;
  for (const char* data : {"7", "null", R"({"name":7,"remedy":[]})", R"({"name":"?"})"}) {
    const auto answer =
        ParseAnswer(fmt::format(R"({{"error":{{"message":"no","data":{}}}}})", data));
    EXPECT_EQ(answer.error().what, "no") << data;
    EXPECT_EQ(answer.error().code, Code::kInternal) << data;
  }
}

// Copying and writing one is recursive: it would take the drive down.
TEST(ControlTest, WhatIsNestedWithoutEndIsNoMessage) {
  const auto nested = [](int deep) { return std::string(deep, '[') + std::string(deep, ']'); };
  for (const char* line :
       {R"({{"jsonrpc":"2.0","method":"x","id":{}}})",
        R"({{"jsonrpc":"2.0","method":"x","id":1,"params":{{"a":{}}}}})", R"({{"result":{}}})"}) {
    const std::string far = fmt::format(fmt::runtime(line), nested(400'000));
    EXPECT_EQ(ParseRequest(far).error().code, Code::kInvalid);
    EXPECT_EQ(ParseAnswer(far).error().code, Code::kDamaged);
  }
  EXPECT_TRUE(ParseAnswer(fmt::format(R"({{"result":{}}})", nested(20))).ok());
  const std::string in_text = std::string(100, '{') + R"(\"[)";
  const auto text = ParseAnswer(fmt::format(R"({{"result":"{}"}})", in_text));
  EXPECT_TRUE(text.ok()) << "only what is nested counts";
}

// RFC 8259 allows any value; JSON-RPC 2.0 (section 4) a text, a number or null.
TEST(ControlTest, ARequestIsNotNamedByAStructure) {
  for (const char* id : {"[]", "{}", "true"})
    EXPECT_FALSE(ParseRequest(fmt::format(R"({{"jsonrpc":"2.0","method":"x","id":{}}})", id)).ok());
  for (const char* id : {"7", "\"a\"", "null"})
    EXPECT_TRUE(ParseRequest(fmt::format(R"({{"jsonrpc":"2.0","method":"x","id":{}}})", id)).ok());
}

std::size_t Mappings() {
  const std::string maps = ReadAll("/proc/self/maps");
  return static_cast<std::size_t>(std::count(maps.begin(), maps.end(), '\n'));
}

// A drive runs for months, and something asks for its status every minute.
TEST(ControlTest, WhoHasGoneLeavesNothingBehind) {
  TemporaryFolder folder;
  ControlServer server(Echo);
  ASSERT_TRUE(server.Start(folder / "d.sock").ok());
  const auto ask = [&](int times) {
    for (int i = 0; i < times; ++i)
      ASSERT_TRUE(CallDrive(folder / "d.sock", "echo", Json::object(), Duration(5000)).ok());
  };
  ask(20);
  const std::size_t before = Mappings();
  ask(300);
  EXPECT_LT(Mappings(), before + 100);
}

TEST(ControlTest, WhoTakesNoAnswerHoldsUpNobody) {
  TemporaryFolder folder;
  ControlServer server([](const std::string&, const Json&,
                          const ControlServer::Gone&) { return Json(std::string(1 << 20, 'x')); },
                       Duration(200));
  ASSERT_TRUE(server.Start(folder / "d.sock").ok());
  Fd deaf = Connected(folder / "d.sock");
  const std::string line = RequestLine(1, "all", Json::object());
  ASSERT_GT(::send(deaf.get(), line.data(), line.size(), 0), 0);
  pollfd there{deaf.get(), POLLIN, 0};
  ASSERT_EQ(::poll(&there, 1, 10000), 1);  // the answer has begun
  auto stopped = std::async(std::launch::async, [&] { server.Stop(); });
  EXPECT_EQ(stopped.wait_for(std::chrono::seconds(20)), std::future_status::ready);
  deaf.Reset();
}

// Where there is no folder of a session, the sockets' one is below /tmp, and others may be first.
TEST(ControlTest, AFolderThatOthersMayChangeIsRefused) {
  if (::geteuid() != 0) GTEST_SKIP() << "only root can give a folder away";
  TemporaryFolder folder;
  const auto start = [&] { return ControlServer(Echo).Start(folder / "run/pargeter/d.sock"); };
  ASSERT_TRUE(start().ok());
  const std::string own = folder / "run/pargeter", above = folder / "run";
  ASSERT_EQ(::chmod(own.c_str(), 0755), 0);
  EXPECT_TRUE(start().ok());
  struct stat info {};
  ASSERT_EQ(::stat(own.c_str(), &info), 0);
  EXPECT_EQ(info.st_mode & 0777, 0700u);
  ASSERT_EQ(::chown(own.c_str(), 65534, 65534), 0);
  EXPECT_EQ(start().error().code, Code::kPermission);
  EXPECT_THAT(start().error().remedy, HasSubstr("XDG_RUNTIME_DIR"));
  ASSERT_EQ(::chown(own.c_str(), 0, 0), 0);
  std::filesystem::rename(own, folder / "aside");
  std::filesystem::create_symlink(folder / "aside", own);  // to where, they could change
  EXPECT_EQ(start().error().code, Code::kPermission);
  std::filesystem::remove(own);
  std::filesystem::rename(folder / "aside", own);
  ASSERT_EQ(::chmod(above.c_str(), 0777), 0);  // they could put another in its place
  EXPECT_EQ(start().error().code, Code::kPermission);
  ASSERT_EQ(::chmod(above.c_str(), 01777), 0);  // as /tmp is
  EXPECT_TRUE(start().ok());
}

// Runs `what` as that user, and says whether it was so.
bool AsUser(uid_t uid, const std::function<bool()>& what) {
  const pid_t pid = ::fork();
  if (pid == 0) ::_exit(::setuid(uid) == 0 && what() ? 0 : 1);
  int status = 1;
  return ::waitpid(pid, &status, 0) == pid && status == 0;
}

TEST(ControlTest, WhatAnotherUserListensOnIsNoDriveOfOurs) {
  if (::geteuid() != 0) GTEST_SKIP() << "only root can become another user";
  TemporaryFolder folder;
  const std::string path = folder / "d.sock";
  const Fd other = Listening(path);
  ASSERT_EQ(::chmod(folder.path().c_str(), 0711) + ::chmod(path.c_str(), 0666), 0);
  ASSERT_TRUE(AsUser(65533, [&] { return ::listen(other.get(), 8) == 0; }));
  const auto answered_with = [&](Code code) {
    const auto answer = CallDrive(path, "echo", Json::object(), Duration(100));
    return !answer.ok() && answer.error().code == code;
  };
  EXPECT_TRUE(AsUser(65534, [&] { return answered_with(Code::kPermission); }));
  EXPECT_TRUE(AsUser(65533, [&] { return answered_with(Code::kTimeout); }));  // our own
}

// The folder of a session goes when its user logs out; the drive stays, and is wanted later.
TEST(ControlTest, ASocketThatWasTakenAwayComesBack) {
  TemporaryFolder folder;
  const std::string path = folder / "run/pargeter/d.sock";
  ControlServer server(Echo);
  ASSERT_TRUE(server.Start(path).ok());
  std::filesystem::remove_all(folder / "run");
  EXPECT_TRUE(Eventually([&] {
    const auto answer = CallDrive(path, "echo", {{"a", 1}}, Duration(5000));
    return answer.ok() && *answer;
  }));
  struct stat info {};
  ASSERT_EQ(::stat(path.c_str(), &info), 0);
  EXPECT_EQ(info.st_mode & 0777, 0600u);
  server.Stop();
  EXPECT_FALSE(std::filesystem::exists(path));
}

TEST(ControlTest, WhoIsNotHeardIsToldInTime) {
  TemporaryFolder folder;
  const std::string path = folder / "d.sock";
  const Fd stopped = Listening(path);  // as a drive that was stopped: nobody accepts
  for (int i = 0; i < 4; ++i) {
    auto asked = std::async(std::launch::async,
                            [&] { return CallDrive(path, "echo", Json::object(), Duration(200)); });
    const bool ended = asked.wait_for(std::chrono::seconds(20)) == std::future_status::ready;
    EXPECT_TRUE(ended);
    if (!ended) ::shutdown(stopped.get(), SHUT_RDWR);
    EXPECT_EQ(asked.get().error().code, Code::kTimeout);
  }
}

TEST(ControlTest, NamesThatAreNoUtf8CanBeSaid) {
  EXPECT_EQ(JsonText("caf\xE9"), "caf\\xe9");
  EXPECT_EQ(JsonText("Ü"), "Ü");
}

}  // namespace
}  // namespace pargeter::test
