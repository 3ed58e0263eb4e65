// Starts programs for tests and stops them again, also when a test fails.
#pragma once

#include <poll.h>
#include <sys/types.h>

#include <chrono>
#include <map>
#include <string>
#include <vector>

namespace pargeter::test {

// A new folder that goes with its object.
// Where what a test writes costs little: in memory, if that has the room and keeps notes of files.
const std::string& QuickFolder();

class TemporaryFolder {
 public:
  explicit TemporaryFolder(const std::string& below = "/tmp");
  ~TemporaryFolder();
  const std::string& path() const { return path_; }
  std::string operator/(const std::string& name) const { return path_ + "/" + name; }

 private:
  std::string path_;
};

struct Outcome {
  int exit_code = -1;  // 128 + signal if it was killed; 124 if it did not end in time
  std::string out, err;
};

// Runs to its end, at most `seconds`; then it is killed. `input` goes to standard input.
Outcome RunCommand(const std::vector<std::string>& command, const std::string& input = "",
                   int seconds = 120, const std::map<std::string, std::string>& environment = {});

// A program in the background.
class Background {
 public:
  Background() = default;
  explicit Background(const std::vector<std::string>& command,
                      const std::map<std::string, std::string>& environment = {},
                      const std::string& error_file = "");
  Background(Background&& other) noexcept { *this = std::move(other); }
  Background& operator=(Background&& other) noexcept;
  ~Background();  // SIGTERM, then SIGKILL
  // The next line of its standard output; "" at its end or after `seconds`.
  std::string ReadLine(int seconds = 30);
  void Signal(int number) const;
  // Waits for its end; the exit code as in Outcome, 124 if it does not end in time.
  int Wait(int seconds = 60);
  pid_t pid() const { return pid_; }

 private:
  pid_t pid_ = -1;
  int out_ = -1;
};

std::string ReadAll(const std::string& path);
void WriteAll(const std::string& path, const std::string& content);
// A folder that the build gives: where the programs under test are.
std::string ProgramFolder();

// Calls `done` until it is true, at most `seconds`: for states that have no event to wait for.
template <typename Check>
bool Eventually(Check done, int seconds = 60) {
  const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(seconds);
  do {
    if (done()) return true;
    ::poll(nullptr, 0, 10);
  } while (std::chrono::steady_clock::now() < until);
  return false;
}

}  // namespace pargeter::test
