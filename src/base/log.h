// Logging glue: one process-wide logger that apps/ set up and everything else writes to. Never
// pass a secret. Text goes to standard error, one line each, unless told otherwise.
//
// Thread-safe, but where lines go is set before other threads are started.
#pragma once

#include <fmt/format.h>

#include <functional>
#include <string>
#include <string_view>

namespace pargeter {

enum class LogLevel { kDebug, kInfo, kWarning, kError };

// What a line is about, for logs that keep fields of their own.
struct LogFields {
  std::string_view path;  // of a file, as people see it
  std::string_view code;  // NameOf an error's code
};
// Where lines go instead of standard error.
using LogSink = std::function<void(LogLevel, std::string_view line, const LogFields&)>;
void SetLogSink(LogSink sink);
// Or into a file, 0600, turned over at 1 MiB; two former ones are kept.
void SetLogFile(const std::string& path);

// Until this is called only errors are written.
void SetLogLevel(LogLevel level);
bool LogEnabled(LogLevel level);
void LogLine(LogLevel level, std::string_view line, const LogFields& fields = {});

template <typename... Args>
void Log(LogLevel level, fmt::format_string<Args...> text, Args&&... args) {
  if (LogEnabled(level)) LogLine(level, fmt::format(text, std::forward<Args>(args)...));
}
template <typename... Args>
void LogAbout(LogLevel level, const LogFields& fields, fmt::format_string<Args...> text,
              Args&&... args) {
  if (LogEnabled(level)) LogLine(level, fmt::format(text, std::forward<Args>(args)...), fields);
}

}  // namespace pargeter
