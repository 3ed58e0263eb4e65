#include <gtest/gtest.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>

#include <cstring>

#include "control/client.h"
#include "control/server.h"
#include "support/process.h"

namespace pargeter::test {
namespace {

Result<Json> Echo(const std::string& method, const Json& params) {
  if (method == "echo") return params;
  if (method == "count") return Json(params["n"].get<int>() + 1);
  return Error(Code::kRefused, "not that", "Try echo.");
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
    sockaddr_un address{};
    address.sun_family = AF_UNIX;
    std::strcpy(address.sun_path, (folder / "d.sock").c_str());
    const Fd fd(::socket(AF_UNIX, SOCK_STREAM, 0));
    ASSERT_EQ(::connect(fd.get(), reinterpret_cast<sockaddr*>(&address), sizeof(address)), 0);
    ASSERT_GT(::send(fd.get(), line, std::strlen(line), 0), 0);
    char buffer[4096];
    const ssize_t n = ::recv(fd.get(), buffer, sizeof(buffer), 0);
    ASSERT_GT(n, 0) << line;
    EXPECT_EQ(ParseAnswer(std::string(buffer, static_cast<std::size_t>(n))).error().code,
              Code::kInvalid)
        << line;
  }
}

TEST(ControlTest, NamesThatAreNoUtf8CanBeSaid) {
  EXPECT_EQ(JsonText("caf\xE9"), "caf\\xe9");
  EXPECT_EQ(JsonText("Ü"), "Ü");
}

}  // namespace
}  // namespace pargeter::test
