#include "base/log.h"

#include <spdlog/sinks/rotating_file_sink.h>
#include <spdlog/sinks/stdout_sinks.h>
#include <spdlog/spdlog.h>
#include <sys/stat.h>

#include "base/text.h"

namespace pargeter {
namespace {

constexpr const char* kPattern = "%Y-%m-%dT%H:%M:%S.%e %l %v";
constexpr std::size_t kFileSize = 1 << 20, kFiles = 2;

std::shared_ptr<spdlog::logger> Make() {
  auto made = std::make_shared<spdlog::logger>("pargeter",
                                               std::make_shared<spdlog::sinks::stderr_sink_mt>());
  made->set_pattern(kPattern);
  made->set_level(spdlog::level::err);
  made->flush_on(spdlog::level::debug);
  return made;
}
spdlog::logger& Logger() {
  static const std::shared_ptr<spdlog::logger> logger = Make();
  return *logger;
}
LogSink& Sink() {
  static LogSink sink;
  return sink;
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
void SetLogSink(LogSink sink) { Sink() = std::move(sink); }
void SetLogFile(const std::string& path) {
  const mode_t before = ::umask(0077);
  auto file = std::make_shared<spdlog::sinks::rotating_file_sink_mt>(path, kFileSize, kFiles);
  ::umask(before);
  file->set_pattern(kPattern);
  Logger().sinks() = {std::move(file)};
}
void LogLine(LogLevel level, std::string_view line, const LogFields& fields) {
  // names come from stores: a line feed in one must not forge a second log line
  const std::string safe = Printable(line);
  if (Sink())
    Sink()(level, safe, fields);
  else
    Logger().log(Map(level), "{}", safe);
}

}  // namespace pargeter
