// The description of commands: what is read, what is said of a wrong word, what is made from it.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "command_line/command.h"
#include "command_line/manual.h"

namespace pargeter::app {
namespace {

using ::testing::ElementsAre;
using ::testing::HasSubstr;
using ::testing::IsEmpty;
using ::testing::Not;

// A small program with each sort of command and argument.
struct Press {
  Press() : root({.name = "press", .summary = "press plants", .usage = "[OPTIONS] COMMAND ..."}) {
    root.Flag("-q,--quiet", &quiet, "print errors only");
    root.Group("Sheets");
    Command* sheet = root.Add({.name = "sheet", .summary = "add and list sheets"});
    Command* add = sheet->Add({.name = "add",
                               .summary = "add a sheet to a folder",
                               .details = "The sheet is dried first.\n\n`press list` shows it.",
                               .examples = {{"a sheet", "press sheet add oak --paper soft"}}});
    add->Operand("SHEET", &name, "the sheet").Required();
    add->Option("--paper", "PAPER", &paper, "kind of paper").OneOf({"soft", "hard"}).Required();
    add->Option("--weight", "COUNT", &weight, "weight in kg").Within(1, 20).ShowDefault();
    add->Option("--tag", "TEXT", &tags, "a tag; can be repeated").Excludes("--bare");
    add->Flag("--bare", &bare, "no tags");
    add->Does([this] { did = "add"; });
    sheet->Add({.name = "list", .summary = "list the sheets"})->Does([this] { did = "list"; });
    root.Group("Looking");
    Command* look = root.Add({.name = "look", .summary = "look at files"});
    look->Operand("PATH", &paths, "files");
    look->Add({.name = "keep", .summary = "keep a look"})->Does([this] { did = "keep"; });
    look->Does([this] { did = "look"; });
  }
  Result<std::string> Read(std::vector<const char*> words) {
    words.insert(words.begin(), "press");
    return root.Read(static_cast<int>(words.size()), words.data(), "press 1");
  }

  std::string name, paper, did;
  std::vector<std::string> tags, paths;
  int weight = 5;
  bool bare = false, quiet = false;
  Command root;
};

TEST(CommandLine, PutsEachValueInItsPlaceAndCallsTheChosenAction) {
  Press press;
  const auto read =
      press.Read({"sheet", "add", "--tag", "leaf", "oak", "--tag", "old", "--paper", "soft", "-q"});
  ASSERT_TRUE(read.ok()) << read.error().what;
  EXPECT_EQ(*read, "");
  EXPECT_EQ(press.did, "add");
  EXPECT_EQ(press.name, "oak");
  EXPECT_EQ(press.weight, 5);
  EXPECT_TRUE(press.quiet);
  EXPECT_THAT(press.tags, ElementsAre("leaf", "old"));
}

TEST(CommandLine, ACommandWithCommandsBelowItCanHaveAnActionToo) {
  Press one, other;
  EXPECT_TRUE(one.Read({"look", "a", "b"}).ok());
  EXPECT_EQ(one.did, "look");
  EXPECT_THAT(one.paths, ElementsAre("a", "b"));
  EXPECT_TRUE(other.Read({"look", "keep"}).ok());
  EXPECT_EQ(other.did, "keep");
}

struct Wrong {
  std::vector<const char*> words;
  const char *what, *remedy;
};
class WrongWords : public ::testing::TestWithParam<Wrong> {};

TEST_P(WrongWords, AreNamedWithTheNearestRightOne) {
  Press press;
  const auto read = press.Read(GetParam().words);
  ASSERT_FALSE(read.ok());
  EXPECT_EQ(read.error().code, Code::kInvalid);
  EXPECT_EQ(read.error().what, GetParam().what);
  EXPECT_EQ(read.error().remedy, GetParam().remedy);
  EXPECT_EQ(press.did, "");
}

INSTANTIATE_TEST_SUITE_P(
    Table, WrongWords,
    ::testing::Values(
        Wrong{{}, "press needs a command", "Commands: sheet look"},
        Wrong{{"sheet"}, "press sheet needs a command", "Commands: add list"},
        Wrong{{"shete"}, "press has no command \"shete\"", "Is this meant? press sheet"},
        Wrong{
            {"sheet", "ad"}, "press sheet has no command \"ad\"", "Is this meant? press sheet add"},
        Wrong{{"sheet", "zzzzzzz"},
              "press sheet has no command \"zzzzzzz\"",
              "See: press sheet --help"},
        Wrong{{"sheet", "add"}, "SHEET is required", "See: press sheet add --help"},
        Wrong{{"sheet", "add", "oak"}, "--paper is required", "See: press sheet add --help"},
        Wrong{{"sheet", "add", "oak", "--paper", "soft", "--wieght=3"},
              "press sheet add has no option \"--wieght=3\"",
              "Is this meant? press sheet add --weight"},
        Wrong{{"sheet", "list", "oak"},
              "press sheet list takes no further word \"oak\"",
              "See: press sheet list --help"},
        Wrong{{"--quite", "look"},
              "press look has no option \"--quite\"",
              "Is this meant? press look --quiet"}));

TEST(CommandLine, RefusesValuesThatAreNotAllowed) {
  for (const std::vector<const char*>& more : {std::vector<const char*>{"--paper", "wet"},
                                               {"--paper", "soft", "--weight", "21"},
                                               {"--paper", "soft", "--weight", "x"},
                                               {"--paper", "soft", "--tag", "a", "--bare"}}) {
    Press press;
    std::vector<const char*> words = {"sheet", "add", "oak"};
    words.insert(words.end(), more.begin(), more.end());
    EXPECT_FALSE(press.Read(words).ok()) << more.back();
  }
}

TEST(CommandLine, HelpSaysWhatACommandTakes) {
  Press press;
  const std::string all = *press.Read({"--help"}), add = *press.Read({"sheet", "add", "--help"});
  EXPECT_THAT(all, HasSubstr("Sheets\n  sheet"));
  EXPECT_THAT(all, HasSubstr("Looking\n  look"));
  EXPECT_THAT(
      add, HasSubstr(
               "Usage: press sheet add SHEET --paper PAPER [OPTIONS]\n\nAdd a sheet to a folder."));
  EXPECT_THAT(add, HasSubstr("kind of paper: soft, hard (required)"));
  EXPECT_THAT(add, HasSubstr("weight in kg (default: 5)"));
  EXPECT_THAT(add, HasSubstr("# a sheet\n  press sheet add oak --paper soft\n"));
  EXPECT_THAT(add, HasSubstr("Options of every command: --quiet, --help"));
  EXPECT_EQ(*press.Read({"--version"}), "press 1\n");
  EXPECT_EQ(press.did, "");
}

TEST(CommandLine, ManualPagesAndMarkdownSayTheSame) {
  Press press;
  const std::vector<Page> pages = ManualPages(press.root, "press 1");
  ASSERT_EQ(pages.size(), 6u);
  EXPECT_EQ(pages[2].file, "press-sheet-add.1");
  EXPECT_THAT(pages[2].text,
              HasSubstr(".SH NAME\npress\\-sheet\\-add \\- add a sheet to a folder\n"));
  EXPECT_THAT(pages[2].text,
              HasSubstr(".B \\-\\-paper PAPER\nkind of paper: soft, hard (required)\n"));
  const std::string markdown = CommandsMarkdown(press.root);
  EXPECT_THAT(markdown, HasSubstr("### `press sheet add`"));
  EXPECT_THAT(markdown, HasSubstr("| `--weight COUNT` | weight in kg (default: 5) |"));
}

TEST(CommandLine, AManualPageKeepsNoMarksOfMarkdown) {
  const Page page = PageOfMarkdown(
      "# Paper\n\n.soft paper is **best**, see [list](list.md) and [the rest](all.md#rest).\n\n"
      "| kind | use |\n| --- | --- |\n| `soft` | leaves |\n\n## Steps\n\n1. press\n2. dry\n\n"
      "```\nmake -n\n```\n",
      "paper", 7, "kinds of paper", "1");
  EXPECT_EQ(page.file, "paper.7");
  EXPECT_THAT(page.text,
              HasSubstr(".SH DESCRIPTION\n\\&.soft paper is best, see list.md and the rest "
                        "(all.md).\n.TP\n.B soft\nleaves\n.SH STEPS\n.IP 1. 4\npress\n"
                        ".IP 2. 4\ndry\n"));
  EXPECT_THAT(page.text, HasSubstr(".nf\nmake \\-n\n.fi"));
}

struct Typed {
  std::vector<std::string> words, offered;
};
class Completion : public ::testing::TestWithParam<Typed> {};

TEST_P(Completion, OffersWhatCanStandThere) {
  const Press press;
  const auto names = [](const std::string& value) {
    return value == "SHEET" ? std::vector<std::string>{"oak", "ash"} : std::vector<std::string>();
  };
  EXPECT_EQ(Completions(press.root, GetParam().words, names), GetParam().offered);
}

INSTANTIATE_TEST_SUITE_P(
    Table, Completion,
    ::testing::Values(Typed{{""}, {"sheet\tadd and list sheets", "look\tlook at files"}},
                      Typed{{"sh"}, {"sheet\tadd and list sheets"}},
                      Typed{{"sheet", "l"}, {"list\tlist the sheets"}},
                      Typed{{"sheet", "add", "o"}, {"oak"}}, Typed{{"sheet", "add", "oak", ""}, {}},
                      Typed{{"sheet", "add", "--paper", ""}, {"soft", "hard"}},
                      Typed{{"sheet", "add", "--paper", "soft", ""}, {"oak", "ash"}},
                      Typed{{"sheet", "add", "--b"}, {"--bare\tno tags"}},
                      Typed{{"-q", "sheet", "add", "--q"}, {"--quiet\tprint errors only"}},
                      Typed{{"look", "a", "b"}, {":files"}}));

TEST(CommandLine, TheNearestWordIsASlipAndNotAnyWord) {
  EXPECT_EQ(Nearest("unmont", {"mount", "unmount"}), "unmount");
  EXPECT_EQ(Nearest("ivect", {"evict", "fetch"}), "evict");
  EXPECT_EQ(Nearest("sta", {"stop", "status"}), "status");
  EXPECT_EQ(Nearest("xylophone", {"evict", "fetch"}), "");
}

}  // namespace
}  // namespace pargeter::app
