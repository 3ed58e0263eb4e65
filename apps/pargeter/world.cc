#include "world.h"

#include <fmt/format.h>

#include "base/log.h"
#include "base/text.h"

namespace pargeter::app {

void World::Say(const std::string& line) const {
  if (!json && !quiet) fmt::print("{}\n", line);
}
void World::Note(const std::string& line) const {
  if (in_background)
    LogLine(LogLevel::kWarning, line);
  else if (!quiet)
    fmt::print(stderr, "{}\n", line);
}
void World::PrintJson(const Json& document) const {
  fmt::print("{}\n", document.dump(2, ' ', false, Json::error_handler_t::replace));
}

std::string PackError(const Error& e) {
  return fmt::format("{}\n{}\n{}", NameOf(e.code), Printable(e.what), Printable(e.remedy));
}
Error UnpackError(const std::string& text) {
  const std::vector<std::string> parts = Split(text, '\n');
  if (parts.size() < 3) return Error(Code::kInternal, "a child process ended without a word");
  return Error(CodeOfName(parts[0]), parts[1], parts[2]);
}

}  // namespace pargeter::app
