// Logging glue: one process-wide logger that apps/ set up and everything else writes to. Never
// pass a secret. Thread-safe. Text goes to standard error, one line each.
#pragma once

#include <fmt/format.h>

#include <string_view>

namespace pargeter {

enum class LogLevel { kDebug, kInfo, kWarning, kError };

// Until this is called only errors are written.
void SetLogLevel(LogLevel level);
bool LogEnabled(LogLevel level);
void LogLine(LogLevel level, std::string_view line);

template <typename... Args>
void Log(LogLevel level, fmt::format_string<Args...> text, Args&&... args) {
  if (LogEnabled(level)) LogLine(level, fmt::format(text, std::forward<Args>(args)...));
}

}  // namespace pargeter
