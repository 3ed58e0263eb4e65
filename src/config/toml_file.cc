#include "config/toml_file.h"

#include <fmt/format.h>
// The library's own checks must not end the process over a person's typing mistake.
#include <stdexcept>
#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wterminate"
#define TOML_ASSERT(condition)                                   \
  do {                                                           \
    if (!(condition)) throw std::runtime_error("it is no TOML"); \
  } while (false)
#include <toml++/toml.h>
#pragma GCC diagnostic pop

#include <algorithm>

#include "base/file.h"
#include "base/text.h"

namespace pargeter {
namespace {

Result<toml::table> ParseText(const std::string& text, const std::string& path) {
  try {
    return toml::parse(std::string_view(text));
  } catch (const toml::parse_error& e) {
    return Error(Code::kInvalid,
                 fmt::format("{}:{}: {}", Printable(path), e.source().begin.line,
                             Printable(e.description())),
                 "Correct that line, or move the file away.");
  } catch (const std::exception& e) {
    return Error(Code::kInvalid, fmt::format("{}: {}", Printable(path), e.what()),
                 "Correct the file, or move it away.");
  }
}

const toml::table* SectionOf(const toml::table& root, std::string_view section) {
  if (section.empty()) return &root;
  const toml::node* node = root.get(section);
  return node == nullptr ? nullptr : node->as_table();
}

// The position behind the scalar that starts at `at` in `line`, or npos if it does not end there.
std::size_t EndOfScalar(std::string_view line, std::size_t at) {
  if (at >= line.size()) return std::string_view::npos;
  const char quote = line[at];
  if (quote == '"' || quote == '\'') {
    if (line.substr(at, 3) == std::string(3, quote)) return std::string_view::npos;
    for (std::size_t i = at + 1; i < line.size(); ++i) {
      if (line[i] == '\\' && quote == '"') {
        ++i;
      } else if (line[i] == quote) {
        return i + 1;
      }
    }
    return std::string_view::npos;
  }
  if (quote == '[' || quote == '{') return std::string_view::npos;
  std::size_t end = line.find('#', at);
  if (end == std::string_view::npos) end = line.size();
  while (end > at && (line[end - 1] == ' ' || line[end - 1] == '\t' || line[end - 1] == '\r'))
    --end;
  return end;
}

std::string Quote(std::string_view value) {
  std::string out = "\"";
  for (const char c : value) {
    const auto byte = static_cast<unsigned char>(c);
    if (c == '"' || c == '\\') {
      out += '\\';
      out += c;
    } else if (byte < 0x20 || byte == 0x7F) {
      out += fmt::format("\\u{:04X}", byte);
    } else {
      out += c;
    }
  }
  return out + "\"";
}

struct Found {
  std::size_t line_start = std::string::npos;     // of the key's line, or npos
  std::size_t value_start = 0, value_end = 0;     // of its value; end npos: not a one-line scalar
  std::size_t line_end = 0;                       // behind its line feed
  std::size_t section_start = std::string::npos;  // of the section's header line
  std::size_t section_end = std::string::npos;    // where a new key of the section goes
};

Found FindKey(std::string_view text, std::string_view section, std::string_view key) {
  Found found;
  bool inside = section.empty();
  for (std::size_t at = 0; at < text.size();) {
    std::size_t end = text.find('\n', at);
    end = end == std::string_view::npos ? text.size() : end + 1;
    const std::string_view line = text.substr(at, end - at);
    const std::string_view trimmed = Trim(line);
    if (trimmed.substr(0, 1) == "[") {
      const auto close = trimmed.find(']');
      std::string_view name =
          Trim(trimmed.substr(1, close == std::string_view::npos ? 0 : close - 1));
      if (name.size() >= 2 && name.front() == '"') name = name.substr(1, name.size() - 2);
      if (inside && found.section_end == std::string::npos) found.section_end = at;
      inside = name == section;
      if (inside) found.section_start = at;
      if (inside) found.section_end = std::string::npos;
    } else if (inside && trimmed.substr(0, key.size()) == key &&
               Trim(trimmed.substr(key.size())).substr(0, 1) == "=") {
      found.line_start = at;
      found.line_end = end;
      const std::size_t value = line.find_first_not_of(" \t", line.find('=') + 1);
      found.value_start = at + std::min(value, line.size());
      const std::size_t stop = EndOfScalar(line, value);
      found.value_end = stop == std::string_view::npos ? stop : at + stop;
    }
    at = end;
  }
  if (inside && found.section_end == std::string::npos) found.section_end = text.size();
  return found;
}

}  // namespace

Result<TomlFile> TomlFile::Load(const std::string& path) {
  Result<std::string> text = ReadFile(path);
  if (!text.ok()) {
    if (text.error().code != Code::kNotFound) return text.error();
    return Parse("", path);
  }
  return Parse(std::move(*text), path);
}

Result<TomlFile> TomlFile::Parse(std::string text, std::string path) {
  PG_TRY(ParseText(text, path));
  TomlFile file;
  file.text_ = std::move(text);
  file.path_ = std::move(path);
  return file;
}

template <typename T>
static Result<std::optional<T>> Get(const std::string& text, const std::string& path,
                                    std::string_view section, std::string_view key,
                                    std::string_view kind) {
  PG_ASSIGN(const toml::table root, ParseText(text, path));
  const toml::table* table = SectionOf(root, section);
  const toml::node* node = table == nullptr ? nullptr : table->get(key);
  if (node == nullptr) return std::optional<T>();
  if (auto value = node->value<T>()) return std::optional<T>(*value);
  return Error(Code::kInvalid, fmt::format("{}:{}: {} must be {}", Printable(path),
                                           node->source().begin.line, key, kind));
}

Result<std::optional<std::string>> TomlFile::String(std::string_view section,
                                                    std::string_view key) const {
  return Get<std::string>(text_, path_, section, key, "a text in quotes");
}
Result<std::optional<bool>> TomlFile::Bool(std::string_view section, std::string_view key) const {
  return Get<bool>(text_, path_, section, key, "true or false");
}
Result<std::optional<double>> TomlFile::Number(std::string_view section,
                                               std::string_view key) const {
  return Get<double>(text_, path_, section, key, "a number");
}

std::vector<std::string> TomlFile::Sections() const {
  std::vector<std::string> names;
  const auto root = ParseText(text_, path_);
  if (!root.ok()) return names;
  for (const auto& [key, node] : *root) {
    if (node.is_table()) names.emplace_back(key.str());
  }
  return names;
}

std::vector<std::string> TomlFile::Keys(std::string_view section) const {
  std::vector<std::string> names;
  const auto root = ParseText(text_, path_);
  if (!root.ok()) return names;
  if (const toml::table* table = SectionOf(*root, section)) {
    for (const auto& [key, node] : *table) {
      if (!node.is_table()) names.emplace_back(key.str());
    }
  }
  return names;
}

// Takes `text` if it still parses and differs from the old one in nothing but `section`.`key`
// (an empty key: in nothing but that section).
Status TomlFile::Adopt(std::string text, std::string_view section, std::string_view key) {
  const Error refused(Code::kRefused,
                      fmt::format("{}: cannot change {} without touching other lines",
                                  Printable(path_), key.empty() ? section : key),
                      "Edit the file by hand.");
  auto before = ParseText(text_, path_);
  auto after = ParseText(text, path_);
  if (!before.ok() || !after.ok()) return refused;
  for (toml::table* root : {&*before, &*after}) {
    toml::table* table = root;
    if (!section.empty()) table = root->get(section) ? root->get(section)->as_table() : nullptr;
    if (table != nullptr && !key.empty()) table->erase(key);
    if (!section.empty() && table != nullptr && (key.empty() || table->empty()))
      root->erase(section);
  }
  if (*before != *after) return refused;
  text_ = std::move(text);
  return {};
}

Status TomlFile::SetLiteral(std::string_view section, std::string_view key,
                            const std::string& literal) {
  const Found found = FindKey(text_, section, key);
  std::string text = text_;
  if (found.line_start != std::string::npos) {
    if (found.value_end == std::string::npos) return Adopt("=", section, key);  // refused
    text.replace(found.value_start, found.value_end - found.value_start, literal);
    return Adopt(std::move(text), section, key);
  }
  const std::string line = fmt::format("{} = {}\n", key, literal);
  if (found.section_end == std::string::npos) {
    if (!text.empty() && text.back() != '\n') text += '\n';
    text += fmt::format("{}[{}]\n{}", text.empty() ? "" : "\n", section, line);
  } else {
    std::size_t at = found.section_end;
    // a new key goes behind the last one, not behind the blank lines before the next section
    while (at >= 2 && text[at - 1] == '\n' && text[at - 2] == '\n') --at;
    const bool open_line = at > 0 && text[at - 1] != '\n';
    text.insert(at, (open_line ? "\n" : "") + line);
  }
  return Adopt(std::move(text), section, key);
}

Status TomlFile::SetString(std::string_view section, std::string_view key, std::string_view value) {
  if (!IsUtf8(value)) {
    return Error(Code::kInvalid, fmt::format("{} is not valid UTF-8", key));
  }
  return SetLiteral(section, key, Quote(value));
}
Status TomlFile::SetBool(std::string_view section, std::string_view key, bool value) {
  return SetLiteral(section, key, value ? "true" : "false");
}
Status TomlFile::SetNumber(std::string_view section, std::string_view key, double value) {
  return SetLiteral(section, key, fmt::format("{}", value));
}

Status TomlFile::Remove(std::string_view section, std::string_view key) {
  const Found found = FindKey(text_, section, key);
  if (found.line_start == std::string::npos) return {};
  if (found.value_end == std::string::npos) return Adopt("=", section, key);  // refused
  std::string text = text_;
  text.erase(found.line_start, found.line_end - found.line_start);
  return Adopt(std::move(text), section, key);
}

Status TomlFile::RemoveSection(std::string_view section) {
  const Found found = FindKey(text_, section, "");
  if (found.section_start == std::string::npos) return {};
  std::string text = text_;
  text.erase(found.section_start, found.section_end - found.section_start);
  return Adopt(std::move(text), section, "");
}

Status TomlFile::Save(unsigned mode) const { return WriteFileAtomically(path_, text_, mode); }

}  // namespace pargeter
