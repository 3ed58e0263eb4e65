// Plays every row of docs/conflicts.md.
#include <gtest/gtest.h>

#include <filesystem>
#include <functional>
#include <set>

#include "support/story.h"

namespace pargeter::test {
namespace {

struct Row {
  std::string here, there, outcome;
};

std::vector<Row> Table() {
  std::vector<Row> rows;
  for (const std::string& line : Split(ReadAll(PARGETER_DOCS "/conflicts.md"), '\n')) {
    const auto cells = Split(line, '|');
    if (cells.size() < 5 || cells[1].find("---") != std::string::npos) continue;
    Row row{std::string(Trim(cells[1])), std::string(Trim(cells[2])), std::string(Trim(cells[3]))};
    if (row.here != "here") rows.push_back(row);
  }
  return rows;
}

class ConflictTable : public DriveTest {
 protected:
  void Here(const std::string& what) {
    const std::map<std::string, std::function<Status()>> does = {
        {"changed", [&] { return Write("d/f", "ours"); }},
        {"deleted", [&] { return hands().Remove("d/f"); }},
        {"renamed", [&] { return hands().Move("d/f", "d/ours-name"); }},
        {"renamed and changed",
         [&] {
           const Status moved = hands().Move("d/f", "d/ours-name");
           return moved.ok() ? Write("d/ours-name", "ours") : moved;
         }},
        {"created", [&] { return Write("d/new", "ours"); }},
        {"created in a folder", [&] { return Write("d/new", "ours"); }},
        {"changed in a folder", [&] { return Write("d/f", "ours"); }},
        {"folder renamed", [&] { return hands().Move("d", "e"); }},
        {"folder deleted",
         [&]() -> Status {
           for (const char* file : {"d/f", "d/g"}) PG_TRY(hands().Remove(file));
           return hands().RemoveFolder("d");
         }},
        {"folder renamed onto a name", [&] { return hands().Move("d", "e"); }},
        {"folder created", [&] { return hands().MakeFolder("d/new"); }},
        {"attributes changed",
         [&]() -> Status {
           AttrChange change;
           change.mode = 0600;
           const auto done = drive_->SetAttr(IdOf("d/f"), change, nullptr);
           return done.status();
         }},
    };
    ASSERT_EQ(does.count(what), 1u) << "no such change here: " << what;
    const Status done = does.at(what)();
    ASSERT_TRUE(done.ok()) << what << ": " << done.error().what;
  }

  void ActAtStore(const std::string& what) {
    const auto rename = [&](const std::string& from, const std::string& to) {
      const auto all = world_.All();
      world_.Erase(from);
      world_.Put(to, all.at(from));
    };
    const std::map<std::string, std::function<void()>> does = {
        {"changed", [&] { world_.Put("d/f", "theirs"); }},
        {"changed to the same bytes", [&] { world_.Put("d/f", "ours"); }},
        {"deleted", [&] { world_.Erase("d/f"); }},
        {"renamed", [&] { rename("d/f", "d/theirs-name"); }},
        {"created", [&] { world_.Put("d/new", "theirs"); }},
        {"created with the same bytes", [&] { world_.Put("d/new", "ours"); }},
        {"folder deleted",
         [&] {
           for (const auto& [path, body] : world_.All())
             if (path.compare(0, 2, "d/") == 0) world_.Erase(path);
         }},
        {"file changed in it", [&] { world_.Put("d/f", "theirs"); }},
        {"file created in it", [&] { world_.Put("d/new", "theirs"); }},
        {"file created under that name", [&] { world_.Put("e/f", "theirs"); }},
        {"file created of that name", [&] { world_.Put("d/new", "theirs"); }},
    };
    ASSERT_EQ(does.count(what), 1u) << "no such change there: " << what;
    does.at(what)();
  }

  // Where a content is to be: the name without "(kept from ...)", and whether that mark is there.
  std::multimap<std::string, std::string> Places() {
    std::multimap<std::string, std::string> out;
    for (const auto& [path, body] : world_.All()) {
      if (path.back() == '/' || path == "d/g" || path == "e/g") continue;
      const auto mark = path.find(" (kept from isle ");
      out.emplace(body, mark == std::string::npos ? path : path.substr(0, mark) + "*");
    }
    return out;
  }

  using Contents = std::multimap<std::string, std::string>;
  Contents Wanted(const Row& row) {
    const bool new_file = row.here.find("created") == 0 || row.there.find("file created") == 0 ||
                          row.there.find("created") == 0;
    const std::string name = new_file ? "d/new" : "d/f";
    static const std::map<std::string, std::function<Contents(const std::string&)>> outcomes = {
        {"theirs at its name, ours beside it",
         [](const std::string& n) {
           return Contents{{"theirs", n}, {"ours", n + "*"}};
         }},
        {"one file",
         [](const std::string& n) {
           return Contents{{"ours", n}};
         }},
        {"ours at its name",
         [](const std::string& n) {
           return Contents{{"ours", n}};
         }},
        {"ours at its name, theirs at the new one",
         [](const std::string& n) {
           return Contents{{"ours", n}, {"base", "d/theirs-name"}};
         }},
        {"theirs at its name",
         [](const std::string& n) {
           return Contents{{"theirs", n}};
         }},
        {"gone", [](const std::string&) { return Contents{}; }},
        {"theirs at the new one",
         [](const std::string&) {
           return Contents{{"base", "d/theirs-name"}};
         }},
        {"theirs at our new name",
         [](const std::string&) {
           return Contents{{"theirs", "d/ours-name"}};
         }},
        {"both new names",
         [](const std::string&) {
           return Contents{{"base", "d/theirs-name"}};
         }},
        {"theirs at its name, ours at our new name",
         [](const std::string& n) {
           return Contents{{"theirs", n}, {"ours", "d/ours-name"}};
         }},
    };
    Contents wanted;
    if (row.outcome == "theirs in our new folder") {
      wanted = {{"theirs", new_file ? "e/new" : "e/f"}};
      if (new_file) wanted.emplace("base", "e/f");
    } else if (row.here == "folder renamed onto a name") {
      wanted = {{"theirs", "e/f"}, {"base", "e/f*"}};
    } else if (row.outcome == "theirs beside our folder") {
      wanted = {{"theirs", "d/new"}};
    } else {
      EXPECT_EQ(outcomes.count(row.outcome), 1u) << "no such outcome: " << row.outcome;
      if (outcomes.count(row.outcome) > 0) wanted = outcomes.at(row.outcome)(name);
    }
    // what nobody touched
    const bool created_beside = row.here == "created" || row.here == "folder created";
    if (created_beside) wanted.emplace("base", "d/f");
    return wanted;
  }
};

TEST_F(ConflictTable, EachRowEndsAsItSays) {
  const auto rows = Table();
  ASSERT_GT(rows.size(), 20u) << "the table is not where it was";
  for (const Row& row : rows) {
    SCOPED_TRACE(row.here + " | " + row.there);
    std::filesystem::remove_all(folder_ / "state");
    std::filesystem::remove_all(folder_ / "cache");
    world_.Clear();
    world_.Put("d/f", "base");
    world_.Put("d/g", "bystander");
    Open();
    ASSERT_EQ(Names("d").size(), 2u);
    if (row.here != "attributes changed") {
      ASSERT_EQ(*Read("d/f"), "base");
    }
    world_.SetOffline(true);
    Here(row.here);
    ActAtStore(row.there);
    Close();
    world_.SetOffline(false);
    Open();  // the change here was made offline, before a restart
    FlushAll();
    for (const char* folder : {"", "d", "e"}) {
      if (*folder == 0 || IdOf(folder) != kNoNode) Names(folder);
    }
    ASSERT_TRUE(drive_->Refresh().ok());
    FlushAll();
    if (row.outcome == "both new names") {
      // by keys, theirs is a new file and ours was deleted: the content is kept at theirs
      EXPECT_EQ(Places().count("base"), 1u);
    } else {
      EXPECT_EQ(Places(), Wanted(row));
    }
    const auto tree = hands().Tree();
    ASSERT_TRUE(tree.ok()) << tree.error().what;
    for (const auto& [path, body] : world_.All()) {
      if (path.back() == '/') continue;
      const bool shown = tree->count(path) > 0 || tree->count(path + "{file}") > 0;
      EXPECT_TRUE(shown) << path << " is not shown";
    }
    Close();
  }
}

}  // namespace
}  // namespace pargeter::test
