// The system's journal: writing with fields of our own, and reading what a drive's service has
// said. systemd.journal-fields(7), sd_journal_send(3), sd-journal(3).
#pragma once

#include <functional>
#include <string>

#include "base/clock.h"
#include "base/error.h"
#include "base/log.h"
#include "service/units.h"

namespace pargeter {

// Is our standard error the journal's ($JOURNAL_STREAM)? Then fields can go with each line.
bool StderrIsJournal();
// Lines with PARGETER_DRIVE, PARGETER_ACCOUNT, PARGETER_PATH and PARGETER_CODE. Thread-safe.
LogSink JournalSink(const std::string& drive, const std::string& account);

struct JournalLine {
  Nanos when = 0;
  int priority = 6;  // syslog's
  std::string text;
};
// The newest `limit` lines of a drive's service, oldest first; then, with `follow`, those that
// come, until `line` says false. kUnsupported where there is no journal that may be read.
Status ReadJournal(const std::string& drive, Scope scope, int limit, bool follow,
                   const std::function<bool(const JournalLine&)>& line);

}  // namespace pargeter
