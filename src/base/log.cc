#include "base/log.h"

#include <spdlog/sinks/stdout_sinks.h>
#include <spdlog/spdlog.h>

#include "base/text.h"

namespace pargeter {
namespace {

spdlog::logger& Logger() {
  static const std::shared_ptr<spdlog::logger> logger = [] {
    auto made = spdlog::stderr_logger_mt("pargeter");
    made->set_pattern("%Y-%m-%dT%H:%M:%S.%e %l %v");
    made->set_level(spdlog::level::err);
    made->flush_on(spdlog::level::debug);
    return made;
  }();
  return *logger;
}

spdlog::level::level_enum Map(LogLevel level) {
  switch (level) {
    case LogLevel::kDebug:
      return spdlog::level::debug;
    case LogLevel::kInfo:
      return spdlog::level::info;
    case LogLevel::kWarning:
      return spdlog::level::warn;
    case LogLevel::kError:
      return spdlog::level::err;
  }
  return spdlog::level::err;
}

}  // namespace

void SetLogLevel(LogLevel level) { Logger().set_level(Map(level)); }
bool LogEnabled(LogLevel level) { return Logger().should_log(Map(level)); }
void LogLine(LogLevel level, std::string_view line) {
  // names come from stores: a line feed in one must not forge a second log line
  Logger().log(Map(level), "{}", Printable(line));
}

}  // namespace pargeter
