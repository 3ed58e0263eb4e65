#include "service/journal.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/uio.h>
#include <syslog.h>
#include <systemd/sd-journal.h>
#include <unistd.h>

#include <cstdlib>
#include <cstring>
#include <vector>

namespace pargeter {
namespace {

int PriorityOf(LogLevel level) {
  switch (level) {
    case LogLevel::kDebug:
      return LOG_DEBUG;
    case LogLevel::kInfo:
      return LOG_INFO;
    case LogLevel::kWarning:
      return LOG_WARNING;
    case LogLevel::kError:
      return LOG_ERR;
  }
  return LOG_ERR;
}

struct Journal {
  sd_journal* j = nullptr;
  ~Journal() { sd_journal_close(j); }
  std::string Field(const char* name) const {
    const void* data = nullptr;
    std::size_t size = 0;
    if (sd_journal_get_data(j, name, &data, &size) < 0) return "";
    const std::string all(static_cast<const char*>(data), size);
    return all.substr(all.find('=') + 1);
  }
};

Error Unreadable(int r) {
  return Error(Code::kUnsupported, fmt::format("the journal cannot be read: {}", std::strerror(-r)),
               "Run it as root, or as a member of the group systemd-journal.");
}

}  // namespace

bool StderrIsJournal() {
  const char* stream = std::getenv("JOURNAL_STREAM");
  struct stat info {};
  if (stream == nullptr || ::fstat(STDERR_FILENO, &info) != 0) return false;
  return std::string(stream) == fmt::format("{}:{}", info.st_dev, info.st_ino);
}

LogSink JournalSink(const std::string& drive, const std::string& account) {
  return [drive, account](LogLevel level, std::string_view line, const LogFields& fields) {
    std::vector<std::string> all = {
        fmt::format("MESSAGE={}", line), fmt::format("PRIORITY={}", PriorityOf(level)),
        "SYSLOG_IDENTIFIER=pargeter", "PARGETER_DRIVE=" + drive, "PARGETER_ACCOUNT=" + account};
    if (!fields.path.empty()) all.push_back(fmt::format("PARGETER_PATH={}", fields.path));
    if (!fields.code.empty()) all.push_back(fmt::format("PARGETER_CODE={}", fields.code));
    std::vector<iovec> pieces;
    for (std::string& one : all) pieces.push_back({one.data(), one.size()});
    sd_journal_sendv(pieces.data(), static_cast<int>(pieces.size()));
  };
}

Status ReadJournal(const std::string& drive, Scope scope, int limit, bool follow,
                   const std::function<bool(const JournalLine&)>& line) {
  Journal journal;
  int r = sd_journal_open(&journal.j, SD_JOURNAL_LOCAL_ONLY);
  if (r < 0) return Unreadable(r);
  const std::string unit = UnitName(drive);
  const bool system = scope == Scope::kSystem;
  // what it says itself, and what the manager says about it
  const std::string own = (system ? "_SYSTEMD_UNIT=" : "_SYSTEMD_USER_UNIT=") + unit;
  const std::string about = (system ? "UNIT=" : "USER_UNIT=") + unit;
  sd_journal_add_match(journal.j, own.c_str(), 0);
  sd_journal_add_disjunction(journal.j);
  sd_journal_add_match(journal.j, about.c_str(), 0);
  r = sd_journal_seek_tail(journal.j);
  if (r >= 0) r = sd_journal_previous_skip(journal.j, static_cast<std::uint64_t>(limit));
  if (r < 0) return Unreadable(r);
  for (bool first = r > 0;; first = false) {
    const int next = first ? 1 : sd_journal_next(journal.j);
    if (next < 0) return Unreadable(next);
    if (next == 0) {
      if (!follow) return {};
      sd_journal_wait(journal.j, 1'000'000);
      if (!line({})) return {};  // a chance to end
      continue;
    }
    JournalLine one;
    std::uint64_t micros = 0;
    sd_journal_get_realtime_usec(journal.j, &micros);
    one.when = static_cast<Nanos>(micros * 1000);
    one.priority = std::atoi(journal.Field("PRIORITY").c_str());
    one.text = journal.Field("MESSAGE");
    if (!line(one)) return {};
  }
}

}  // namespace pargeter
