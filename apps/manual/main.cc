// pargeter-manual: writes what is made from the descriptions of commands and settings. The build
// runs it; it is not installed.
//   pargeter-manual pages DOCS DIR   writes the manual pages and the templates of units
//   pargeter-manual docs DOCS        writes the tables of commands.md and configuration.md anew
//   pargeter-manual check DOCS       fails if those tables are not what docs would write
#include <fmt/format.h>

#include <cstring>

#include "../pargeter/commands.h"
#include "../standin/commands.h"
#include "base/file.h"
#include "base/version.h"
#include "command_line/manual.h"
#include "config/settings.h"
#include "service/units.h"

namespace {

using namespace pargeter;

struct Written {
  const char *document, *name;
  int section;
  const char* summary;
};
constexpr Written kPages[] = {
    {"concepts.md", "pargeter", 7, "accounts, drives, states and placements of files"},
    {"configuration.md", "pargeter-configuration", 5, "configuration files of Pargeter"},
};

Status WritePages(const std::string& documents, const std::string& folder) {
  PG_TRY(MakeFolders(folder + "/pages"));
  const std::string version = std::string("pargeter ") + kVersion;
  app::World world;
  app::Work run;
  standin::Options options;
  std::vector<app::Page> pages = app::ManualPages(*app::DescribeCommands(&world, &run), version);
  for (app::Page& page :
       app::ManualPages(*standin::DescribeCommands(&options, [](bool) {}), version))
    pages.push_back(std::move(page));
  for (const Written& one : kPages) {
    PG_ASSIGN(const std::string text, ReadFile(documents + "/" + one.document));
    pages.push_back(app::PageOfMarkdown(text, one.name, one.section, one.summary, version));
  }
  for (const Scope scope : {Scope::kSystem, Scope::kUser}) {
    const std::string units = folder + (scope == Scope::kSystem ? "/units/system" : "/units/user");
    PG_TRY(MakeFolders(units));
    PG_TRY(WriteFileAtomically(units + "/pargeter@.service", TemplateText(scope), 0644));
  }
  for (const app::Page& page : pages)
    PG_TRY(WriteFileAtomically(folder + "/pages/" + page.file, page.text, 0644));
  return {};
}

std::string SettingsTable(const std::vector<SettingText>& settings) {
  std::string out =
      "| key | type | default | meaning | a change takes |\n| --- | --- | --- | --- | --- |\n";
  for (const SettingText& one : settings)
    out += fmt::format("| `{}` | {} | {} | {} | {} |\n", one.key, one.type, one.fallback,
                       one.summary, one.effect);
  return out;
}

// Puts `made` between the marks "<!-- made: NAME -->" and "<!-- end -->".
Status Fill(std::string* text, const std::string& name, const std::string& made) {
  const std::string mark = fmt::format("<!-- made: {} -->\n", name);
  const std::size_t begin = text->find(mark);
  const std::size_t end = begin == std::string::npos ? begin : text->find("<!-- end -->", begin);
  if (end == std::string::npos)
    return Error(Code::kInvalid, fmt::format("the marks of {} are missing", name));
  text->replace(begin + mark.size(), end - begin - mark.size(), made);
  return {};
}

// The documents whose tables are made, with their tables as they should be.
Result<std::vector<app::Page>> Documents(const std::string& folder) {
  app::World world;
  app::Work run;
  std::vector<app::Page> out;
  for (const char* name : {"commands.md", "configuration.md"}) {
    PG_ASSIGN(std::string text, ReadFile(folder + "/" + name));
    if (std::strcmp(name, "commands.md") == 0) {
      PG_TRY(Fill(&text, "commands", app::CommandsMarkdown(*app::DescribeCommands(&world, &run))));
    } else {
      PG_TRY(Fill(&text, "account", SettingsTable(DescribeAccountSettings())));
      PG_TRY(Fill(&text, "drive", SettingsTable(DescribeDriveSettings())));
    }
    out.push_back({name, text});
  }
  return out;
}

Status WriteDocuments(const std::string& folder) {
  PG_ASSIGN(const auto documents, Documents(folder));
  for (const app::Page& one : documents)
    PG_TRY(WriteFileAtomically(folder + "/" + one.file, one.text, 0644));
  return {};
}

Status CheckDocuments(const std::string& folder) {
  PG_ASSIGN(const auto documents, Documents(folder));
  for (const app::Page& one : documents) {
    PG_ASSIGN(const std::string text, ReadFile(folder + "/" + one.file));
    if (text != one.text)
      return Error(
          Code::kInvalid,
          fmt::format("{} does not say what the program says; run: pargeter-manual docs docs",
                      one.file));
  }
  return {};
}

}  // namespace

int main(int argc, char** argv) {
  const std::string what = argc > 1 ? argv[1] : "";
  Status done =
      Error(Code::kInvalid, "usage: pargeter-manual pages DOCS DIR | docs DOCS | check DOCS");
  if (argc == 4 && what == "pages") done = WritePages(argv[2], argv[3]);
  if (argc == 3 && what == "docs") done = WriteDocuments(argv[2]);
  if (argc == 3 && what == "check") done = CheckDocuments(argv[2]);
  if (done.ok()) return 0;
  fmt::print(stderr, "pargeter-manual: {}\n", done.error().what);
  return 1;
}
