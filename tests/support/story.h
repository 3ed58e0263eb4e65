// Scenarios as rows of a table: what a person, other machines and a faulty store do, step by step,
// and what the store has in the end.
//
// A step is a line, or ends with ";": a verb, its paths, and after ":" a text.
//
//   here      open close reopen cut        the drive; `cut` takes the power away
//             write PATH: TEXT             as open with O_TRUNC, write, close; `sync` with an fsync
//             patch PATH OFFSET: TEXT      writes into a file
//             move FROM TO, remove PATH, mkdir PATH, rmdir PATH, mode PATH OCTAL, evict
//             list PATH
//             names PATH: NAME...          lists a folder; the names have to be these
//             count PATH: N                lists a folder; so many names
//             fetch PATH                   reads it
//             read PATH: TEXT              has to be the content
//             place PATH PLACEMENT, release, drop, fsync-folder
//             refresh, refresh-soon        the latter again until the store answers
//             flush, try                   `try` begins an upload of all, and does not wait
//             full PATH                    the folder may not be removed: it is not empty
//   the store put PATH: TEXT, erase PATH, shift FROM TO, copy FROM TO
//             damage PATH: TEXT            other bytes, and all else as it was
//             save PATH, restore PATH      the object as it was
//   faults    offline, online, heal
//             lose KIND... [xN]            the next requests of each kind are done without an
//                                          answer
//             lose-next                    the next request that changes something, likewise
//             fail KIND... [xN]            the next N fail (without xN: all, until `heal`)
//             pass KIND                    but for the first of them
//             lose-then-fail KIND          the next is done without an answer, all others fail
//             deny                         the next condition does not hold, says the store
//             late-write, arrive           the next write gets no answer, and is done at `arrive`
//             die { STEPS }                the process dies when the next bytes have come to the
//                                          store; it starts again offline
//             when look PATH { STEPS }     once, in the store's thread, before such a look
//             when moved { STEPS }         once, before the answer to a move or copy
//   waits     at PATH[: TEXT]              the store has it
//             gone PATH                    the store has it no more
//             asked KIND [PATH] [xN]       so many such requests have come since the last wait
//             tried                        some change has failed once
//             lost KIND                    no answer of that kind is to be lost any more
//             done                         the steps of `when` have been taken
//   checks    conflicts N, held N, absent PATH
//             has PATH[: TEXT], lacks PATH at the store, just now
//             store: PATH=TEXT, ...        the store has just this, just now
//             unasked KIND, forget         requests since the last look at them
//   set WORD...                            as Begin
#pragma once

#include <gtest/gtest.h>

#include <algorithm>
#include <atomic>
#include <deque>
#include <map>
#include <memory>
#include <regex>
#include <string>
#include <vector>

#include "base/text.h"
#include "support/drive_fixture.h"

namespace pargeter::test {

class DriveTest : public DriveFixture {
 protected:
  struct Step {
    std::string verb, text, inner;
    std::vector<std::string> words;
    const std::string& at(std::size_t i) const {
      static const std::string none;
      return i < words.size() ? words[i] : none;
    }
    // "x3" at the end: 3.
    std::size_t times(std::size_t otherwise) const {
      const std::string& last = words.empty() ? at(0) : words.back();
      return last.size() > 1 && last[0] == 'x' ? std::stoul(last.substr(1)) : otherwise;
    }
    std::vector<std::string> kinds() const {
      std::vector<std::string> out = words;
      std::erase_if(out, [](const std::string& one) { return one[0] == 'x'; });
      return out;
    }
  };

  // The kind of store and the drive's pauses (ms), by words: "moves-files", "moves-folders",
  // "serial" (versions say nothing of the content), "real-folders", "forgets" (origins), "retry=N",
  // "trial=N", "late=N", "quiet=N", "patience=N", "open=N".
  void Begin(const std::string& words) {
    const std::map<std::string, bool*> kinds = {{"moves-files", &world_.moves_files},
                                                {"moves-folders", &world_.moves_folders},
                                                {"serial", &world_.serial_versions},
                                                {"real-folders", &world_.real_folders},
                                                {"forgets", &world_.forgets_origins}};
    const std::map<std::string, Duration*> pauses = {
        {"retry", &retry_pause_}, {"trial", &trial_pause_}, {"late", &may_be_late_},
        {"quiet", &quiet_},       {"patience", &patience_}, {"open", &open_patience_}};
    for (const std::string& word : Split(words, ' ')) {
      const auto equals = word.find('=');
      if (equals != std::string::npos)
        *pauses.at(word.substr(0, equals)) = Duration(std::stol(word.substr(equals + 1)));
      else if (!word.empty())
        *kinds.at(word) = true;
    }
  }

  void Play(const std::string& steps) {
    for (const Step& step : Parse(steps)) {
      SCOPED_TRACE(step.verb + " " + step.at(0) + " " + step.at(1) + ": " + step.text);
      Take(step);
      if (HasFatalFailure()) return;
    }
  }

  // All is up; the store has just this, and the drive shows just the files of it. A key that ends
  // in
  // "/" is a folder of its own at the store. Names of conflict copies end in " (kept)" here.
  void ExpectStory(const Files& wanted, std::size_t conflicts = 0) {
    FlushAll();
    ASSERT_TRUE(Eventually([&] { return drive_->Refresh().ok(); }));
    FlushAll();
    Files there, here, files;
    const Files all = world_.All();
    for (auto it = all.begin(); it != all.end(); ++it) {
      const bool implied = world_.real_folders && it->first.back() == '/' &&
                           std::next(it) != all.end() &&
                           std::next(it)->first.rfind(it->first, 0) == 0;
      if (!implied) there[Plain(it->first)] = it->second;
    }
    EXPECT_EQ(there, wanted);
    const auto tree = hands().Tree();
    ASSERT_TRUE(tree.ok()) << tree.error().what;
    for (const auto& [path, text] : *tree)
      if (path.back() != '/') here[Plain(path)] = text;
    for (const auto& [path, text] : wanted)
      if (path.back() != '/') files[path] = text;
    EXPECT_EQ(here, files);
    const auto kept = *drive_->Conflicts();
    EXPECT_EQ(kept.size(), conflicts);
    for (const auto& [path, node] : kept)
      EXPECT_EQ(Plain(Hands::Parted(path).second), node.conflict_copy.original_name + " (kept)");
  }
  static std::string Plain(const std::string& path) {
    static const std::regex stamp(R"( \(kept from isle [-0-9 .]+\))");
    return std::regex_replace(path, stamp, " (kept)");
  }
  // Requests of that kind, and that path, come; those that were counted before do not count.
  void WaitForRequests(const std::string& kind, std::size_t times = 1,
                       const std::string& path = "") {
    ASSERT_TRUE(Eventually([&, n = std::size_t{0}]() mutable {
      const auto asked = Asked(kind);
      n +=
          path.empty()
              ? asked.size()
              : static_cast<std::size_t>(std::count(asked.begin(), asked.end(), kind + " " + path));
      return n >= times;
    }));
  }
  // The process dies when the next bytes have come to the store, before their attributes; it
  // starts again without a store.
  void DieAfter(const std::function<void()>& change) {
    std::atomic<bool> dead{false};
    world_.cut_off = [&dead] { return dead.load(); };
    {
      const Lock lock(world_.mutex);
      world_.die_after_write = [&dead] { dead = true; };
    }
    change();
    ASSERT_TRUE(Eventually([&] { return dead.load(); }));
    Close();
    world_.cut_off = nullptr;
    {
      const Lock lock(world_.mutex);
      world_.die_after_write = nullptr;
    }
    world_.SetOffline(true);
    Open();
  }

 private:
  static std::vector<Step> Parse(const std::string& text) {
    std::vector<Step> steps;
    std::string line;
    int depth = 0;
    const auto end_line = [&] {
      if (Step step = ParseLine(line); !step.verb.empty()) steps.push_back(std::move(step));
      line.clear();
    };
    for (const char c : text) {
      depth += c == '{' ? 1 : c == '}' ? -1 : 0;
      if (depth == 0 && (c == ';' || c == '\n'))
        end_line();
      else
        line += c;
    }
    end_line();
    return steps;
  }
  static Step ParseLine(std::string line) {
    Step step;
    if (const auto brace = line.find('{'); brace != std::string::npos) {
      step.inner = line.substr(brace + 1, line.rfind('}') - brace - 1);
      line = line.substr(0, brace);
    } else if (const auto colon = line.find(": "); colon != std::string::npos) {
      step.text = line.substr(colon + 2);
      step.text.erase(step.text.find_last_not_of(' ') + 1);
      line = line.substr(0, colon);
    } else if (!line.empty() && line.back() == ':') {
      line.pop_back();
    }
    for (const std::string& word : Split(line, ' '))
      if (!word.empty()) step.words.push_back(word);
    if (step.words.empty()) return step;
    step.verb = step.words.front();
    step.words.erase(step.words.begin());
    return step;
  }

  void Take(const Step& step) {
    const std::string &verb = step.verb, &path = step.at(0);
    if (TakeOfDrive(step) || TakeOfStore(step)) return;
    if (verb == "names") {
      std::vector<std::string> wanted;
      for (const std::string& name : Split(step.text, ' '))
        if (!name.empty()) wanted.push_back(name);
      EXPECT_EQ(Names(path), wanted);
    } else if (verb == "read") {
      const auto text = Read(path);
      EXPECT_EQ(text.ok() ? *text : text.error().what, step.text);
    } else if (verb == "at") {
      ASSERT_TRUE(Eventually([&] {
        const Files all = world_.All();
        return all.count(path) > 0 && (step.text.empty() || all.at(path) == step.text);
      }));
    } else if (verb == "gone") {
      ASSERT_TRUE(Eventually([&] { return world_.All().count(path) == 0; }));
    } else if (verb == "asked") {
      const std::string& of = step.at(1);
      WaitForRequests(path, step.times(1), of[0] == 'x' ? "" : of);
    } else if (verb == "lost") {
      ASSERT_TRUE(Eventually([&] {
        const Lock lock(world_.mutex);
        return world_.loses[path].empty();
      }));
    } else if (verb == "tried") {
      ASSERT_TRUE(Eventually([&] {
        const auto queue = *drive_->Queue(100);
        return std::any_of(queue.begin(), queue.end(),
                           [](const auto& one) { return one.second.pending.tries > 0; });
      }));
    } else if (verb == "absent") {
      EXPECT_FALSE(drive_->NodeAt(path).ok());
    } else if (verb == "done") {
      ASSERT_TRUE(Eventually([&] { return done_->load(); }));
    } else if (verb == "count") {
      EXPECT_EQ(Names(path).size(), std::stoul(step.text));
    } else if (verb == "fetch") {
      EXPECT_TRUE(Read(path).ok());
    } else if (verb == "has") {
      const Files all = world_.All();
      ASSERT_EQ(all.count(path), 1u);
      if (!step.text.empty()) {
        EXPECT_EQ(all.at(path), step.text);
      }
    } else if (verb == "store") {
      Files wanted;
      for (const std::string& item : Split(step.text, ',')) {
        const auto begin = item.find_first_not_of(' '), equals = item.find('=');
        if (equals != std::string::npos)
          wanted[item.substr(begin, equals - begin)] = item.substr(equals + 1);
      }
      EXPECT_EQ(world_.All(), wanted);
    } else if (verb == "lacks") {
      EXPECT_EQ(world_.All().count(path), 0u);
    } else if (verb == "unasked") {
      EXPECT_TRUE(Asked(path).empty());
    } else if (verb == "forget") {
      world_.TakeAsked();
    } else if (verb == "conflicts") {
      EXPECT_EQ(drive_->Conflicts()->size(), std::stoul(path));
    } else if (verb == "held") {
      EXPECT_EQ(drive_->Summary().held, std::stoul(path));
    } else {
      FAIL() << "no such step";
    }
  }

  bool TakeOfDrive(const Step& step) {
    const std::string &verb = step.verb, &a = step.at(0), &b = step.at(1);
    const auto expect = [](const Status& done) { EXPECT_TRUE(done.ok()) << done.error().what; };
    if (verb == "open")
      Open();
    else if (verb == "close")
      Close();
    else if (verb == "reopen")
      Close(), Open();
    else if (verb == "cut")
      CutPower(++cuts_);
    else if (verb == "write" || verb == "sync")
      expect(hands().Write(a, step.text, verb == "sync"));
    else if (verb == "patch")
      expect(hands().Patch(a, step.text, std::stoul(b)));
    else if (verb == "move")
      expect(hands().Move(a, b));
    else if (verb == "remove")
      expect(hands().Remove(a));
    else if (verb == "mkdir")
      expect(hands().MakeFolder(a));
    else if (verb == "rmdir")
      expect(hands().RemoveFolder(a));
    else if (verb == "mode")
      expect(hands().SetMode(a, static_cast<std::uint32_t>(std::stoul(b, nullptr, 8))));
    else if (verb == "evict")
      EXPECT_TRUE(drive_->Evict({kRootId}, {}).ok());
    else if (verb == "refresh")
      expect(drive_->Refresh());
    else if (verb == "refresh-soon")
      EXPECT_TRUE(Eventually([&] { return drive_->Refresh().ok(); }));
    else if (verb == "full")
      ExpectFull(a);
    else if (verb == "flush")
      FlushAll();
    else if (verb == "set")
      for (const std::string& word : step.words) Begin(word);
    else if (verb == "release")
      EXPECT_TRUE(drive_->ReleaseDeletions().ok());
    else if (verb == "drop")
      EXPECT_TRUE(drive_->DropDeletions().ok());
    else if (verb == "fsync-folder")
      expect(drive_->FsyncFolder());
    else if (verb == "place")
      expect(drive_->Place(IdOf(a), b == "none" ? Placement::kNone : *ParsePlacement(b)));
    else if (verb == "die")
      DieAfter([&] { Play(step.inner); });
    else if (verb == "list")
      Names(a);
    else if (verb == "try")
      Ignore(drive_->Flush(Duration(0)));
    else
      return false;
    return true;
  }

  void ExpectFull(const std::string& folder) {
    const Status removed = hands().RemoveFolder(folder);
    EXPECT_TRUE(!removed.ok() && removed.error().code == Code::kNotEmpty);
  }

  bool TakeOfStore(const Step& step) {
    const std::string &verb = step.verb, &a = step.at(0), &b = step.at(1);
    if (verb == "put") {
      world_.Put(a, step.text);
    } else if (verb == "erase") {
      world_.Erase(a);
    } else if (verb == "shift") {
      world_.Move(a, b);
    } else if (verb == "copy") {
      world_.Replace(b, [copied = world_.Get(a)](auto& object) { object = copied; });
    } else if (verb == "damage") {
      world_.Edit(a, [&](auto& object) { object.body = step.text; });
    } else if (verb == "save") {
      saved_ = world_.Get(a);
    } else if (verb == "restore") {
      world_.Edit(a, [&](auto& object) { object = saved_; });
    } else if (verb == "offline" || verb == "online") {
      world_.SetOffline(verb == "offline");
    } else if (verb == "fail") {
      for (const std::string& kind : step.kinds())
        world_.Fail(kind, step.times(FakeWorld::kAlways));
    } else if (verb == "pass") {
      world_.Pass(a);
    } else if (verb == "lose") {
      for (const std::string& kind : step.kinds()) world_.Lose(kind, step.times(1));
    } else if (verb == "lose-then-fail") {
      world_.LoseOneThenFail(a);
    } else if (verb == "lose-next") {
      world_.LoseAnswers(1);
    } else if (verb == "heal") {
      world_.Heal();
    } else if (verb == "deny") {
      world_.Deny();
    } else if (verb == "late-write") {
      world_.DelayNextWrite();
    } else if (verb == "arrive") {
      world_.LetWriteArrive();
    } else if (verb == "when") {
      Hook(a, b, step.inner);
    } else {
      return false;
    }
    return true;
  }

  void Hook(const std::string& kind, const std::string& wanted, const std::string& steps) {
    done_ = std::make_shared<std::atomic<bool>>(false);
    const auto begun = std::make_shared<std::atomic<bool>>(false);
    const auto play = [this, wanted, steps, begun, done = done_](const std::string& path) {
      if ((!wanted.empty() && path != wanted) || begun->exchange(true)) return;
      Play(steps);
      *done = true;
    };
    const auto answered = [play, wanted] { play(wanted); };
    if (kind == "look")
      world_.on_look = play;
    else if (kind == "moved")
      (world_.on_moved = answered, world_.on_copied = answered);
    else
      FAIL() << "no such moment: " << kind;
  }

  int cuts_ = 0;
  std::shared_ptr<std::atomic<bool>> done_;
  FakeWorld::Object saved_;
};

// One row of a table.
struct Scenario {
  const char* name;
  std::string store;  // Begin's words
  std::string steps;
  Files wanted;  // at the store, and here
  std::size_t conflicts = 0;
  friend void PrintTo(const Scenario& one, std::ostream* out) { *out << one.name; }
};

inline std::string NameOfScenario(const testing::TestParamInfo<Scenario>& one) {
  return one.param.name;
}

}  // namespace pargeter::test
