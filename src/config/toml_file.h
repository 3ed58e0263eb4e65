// A TOML file (v1.0.0) that people also edit by hand. Reading goes through a full parser; a change
// rewrites only the line of the key it sets, so comments, order and spacing stay as they were.
//
// Not thread-safe. Save() is atomic and durable.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.h"

namespace pargeter {

class TomlFile {
 public:
  // A missing file is an empty one. A syntax error is kInvalid with file, line and reason.
  static Result<TomlFile> Load(const std::string& path);
  static Result<TomlFile> Parse(std::string text, std::string path_for_messages);

  // `section` "" is the top of the file. A value of another type is kInvalid.
  Result<std::optional<std::string>> String(std::string_view section, std::string_view key) const;
  Result<std::optional<bool>> Bool(std::string_view section, std::string_view key) const;
  Result<std::optional<double>> Number(std::string_view section, std::string_view key) const;
  Result<std::optional<std::vector<std::string>>> Strings(std::string_view section,
                                                          std::string_view key) const;
  bool Has(std::string_view section, std::string_view key) const;
  std::vector<std::string> Sections() const;
  std::vector<std::string> Keys(std::string_view section) const;

  // Changes or adds one key. kRefused if that cannot be done without touching anything else (a
  // value that a person spread over several lines): then nothing is changed.
  Status SetString(std::string_view section, std::string_view key, std::string_view value);
  Status SetStrings(std::string_view section, std::string_view key,
                    const std::vector<std::string>& values);
  Status SetBool(std::string_view section, std::string_view key, bool value);
  Status SetNumber(std::string_view section, std::string_view key, double value);
  Status Remove(std::string_view section, std::string_view key);
  Status RemoveSection(std::string_view section);

  const std::string& text() const { return text_; }
  const std::string& path() const { return path_; }
  Status Save(unsigned mode) const;

 private:
  Status SetLiteral(std::string_view section, std::string_view key, const std::string& literal);
  Status Adopt(std::string text, std::string_view section, std::string_view key,
               const std::string& literal);
  std::string text_;
  std::string path_;
};

}  // namespace pargeter
