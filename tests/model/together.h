// Two machines and another program: nothing that somebody has not seen is overwritten.
#pragma once

#include "model/stage.h"

namespace pargeter::test {

class Together {
 public:
  explicit Together(const Options& options) : options_(options), stage_(options) {
    stage_.world_.on_content = [this](const std::string& content) { came_.merge(Words(content)); };
  }

  std::string Play(const std::vector<Step>& plan) {
    std::string why = PlayAll(plan);
    if (why.empty()) return why;
    stage_.Keep();
    return why + stage_.LastAsked();
  }

 private:
  std::string PlayAll(const std::vector<Step>& plan) {
    for (int who : {0, 1})
      if (auto s = stage_.Open(who); !s.ok()) return s.error().what;
    for (const char* path : {"f0", "d0/f1", "d0/e/f2", "d1/f3"}) {
      const std::string text = std::string("<before ") + path + ">";
      stage_.world_.Put(path, text);
      alive_.insert(Word(text));
    }
    for (int who : {0, 1}) Ignore(stage_.hands(who).Tree());
    stage_.world_.Faults(options_.store_faults, options_.seed, options_.lost_answers);
    for (const Step& step : plan) {
      std::string why = PlayStep(step);
      if (!why.empty()) return Describe(step) + ": " + why;
    }
    return End();
  }
  static std::string Word(const std::string& text) { return text.substr(0, text.find('>') + 1); }
  // All that are whole in it: who writes into a file leaves the words of others there.
  static std::set<std::string> Words(const std::string& text) {
    std::set<std::string> out;
    for (std::size_t at = text.find('<'); at != std::string::npos; at = text.find('<', at + 1)) {
      const std::size_t end = text.find_first_of("<>", at + 1);
      if (end != std::string::npos && text[end] == '>') out.insert(text.substr(at, end - at + 1));
    }
    return out;
  }

  std::string PlayStep(const Step& step) {
    stage_.Remark(Describe(step));
    const std::string why = PlayAlive(step);
    if (stage_.disk_.dead()) return Resurrect();
    if (!why.empty()) return why;
    for (int who : {0, 1}) {
      const Status index = stage_.drive(who)->CheckIndex();
      if (!index.ok() && !stage_.disk_.dead())
        return fmt::format("{}: {}", who, index.error().what);
    }
    return stage_.disk_.dead() ? Resurrect() : "";
  }
  // Both machines are on one disk, and on one fuse.
  std::string Resurrect() {
    for (int who : {0, 1}) stage_.Close(who);
    stage_.disk_.Heal();
    if (std::exchange(stage_.power_cut_, false)) {
      std::set<std::string> stays = synced_;
      for (const auto& [path, content] : stage_.AtTheStore()) stays.merge(Words(content));
      std::erase_if(alive_, [&](const std::string& word) { return stays.count(word) == 0; });
      stage_.disk_.PowerCut(options_.seed + cuts_++);
      stage_.NewBoot();
      stage_.Remark("the power was cut");
    }
    for (int who : {0, 1})
      if (auto s = stage_.Open(who); !s.ok()) return "does not open: " + s.error().what;
    return "";
  }
  std::string PlayAlive(const Step& step) {
    Drive* drive = stage_.drive(step.who);
    if (stage_.Serve(step)) return "";
    switch (step.kind) {
      case Step::kFlush:
        Ignore(drive->Flush(Duration(300)));
        return "";
      case Step::kSyncFolder:
        Ignore(drive->FsyncFolder());
        return "";
      case Step::kSettle:
        SettleOne(step);
        return "";
      case Step::kRestart: {
        stage_.Close(step.who);
        const Status open = stage_.Open(step.who);
        return open.ok() ? "" : open.error().what;
      }
      case Step::kRelease:
        Ignore(drive->ReleaseDeletions());
        return "";
      case Step::kOutsidePut:
      case Step::kOutsideErase:
      case Step::kOutsideMove:
        Outside(step);
        return "";
      default:
        break;
    }
    const bool done = Replacing(
        step.who, [&] { return SeenAt(step); }, [&] { return stage_.Do(step); });
    if (!done) return "";
    const bool writes = step.kind == Step::kWrite || step.kind == Step::kSyncedWrite;
    if (writes || step.kind == Step::kPatch) {
      alive_.insert(Word(ContentOf(step)));
      if (const auto id = stage_.hands(step.who).Find(step.path); id.ok())
        written_[{step.who, *id}].insert(Word(ContentOf(step)));
    }
    if (step.kind == Step::kSyncedWrite) synced_.insert(Word(ContentOf(step)));
    return "";
  }
  // What this machine shows at the places that it is about to change, it may destroy.
  bool Replacing(int who, const std::function<std::set<std::string>()>& shown,
                 const std::function<Status()>& change) {
    const std::int64_t events = HappenedThere(who);
    {
      const Lock lock(stage_.world_.mutex);
      came_.clear();
      for (const auto& [path, object] : stage_.world_.objects) came_.merge(Words(object.body));
    }
    const std::set<std::string> seen = shown();
    const bool done = change().ok();
    if (!done) unsure_.insert(seen.begin(), seen.end());  // some of it may have happened
    for (const std::string& word : seen)
      if (done) alive_.erase(word);
    // just now the store has changed what a name means: what was destroyed then, nobody can tell
    const bool happened = HappenedThere(who) != events;
    const Lock lock(stage_.world_.mutex);
    if (happened) unsure_.merge(came_);
    return done;
  }
  // Another program, which knows what it replaces.
  void Outside(const Step& step) {
    const Lock lock(stage_.world_.mutex);
    auto& objects = stage_.world_.objects;
    if (step.kind == Step::kOutsideMove) {
      OutsideMove(step.path, step.to);
      return;
    }
    if (step.kind == Step::kOutsidePut && stage_.world_.IsBarred(step.path)) return;
    const auto it = objects.find(step.path);
    if (it != objects.end())
      for (const std::string& word : Words(it->second.body)) alive_.erase(word);
    if (step.kind == Step::kOutsideErase) {
      if (it != objects.end()) stage_.world_.Drop(step.path);
    } else {
      stage_.world_.Set(step.path, {ContentOf(step), {}});
      alive_.insert(Word(ContentOf(step)));
    }
  }
  // A file, or a folder with all that is in it.
  void OutsideMove(const std::string& from, const std::string& to) REQUIRES(stage_.world_.mutex) {
    auto& objects = stage_.world_.objects;
    if ((to + "/").rfind(from + "/", 0) == 0 || (from + "/").rfind(to + "/", 0) == 0) return;
    if (stage_.world_.moves_folders && objects.count(from) == 0 && objects.count(to) > 0) return;
    if (stage_.world_.IsBarred(to) || (stage_.world_.real_folders && objects.count(to + "/") > 0))
      return;
    std::vector<std::string> moving;
    for (const auto& [path, object] : objects)
      if (path == from || path.rfind(from + "/", 0) == 0) moving.push_back(path);
    for (const std::string& path : moving) {
      const std::string place = to + path.substr(from.size());
      FakeWorld::Object moved = objects[path];
      stage_.world_.Drop(path);
      if (const auto it = objects.find(place); it != objects.end()) {
        for (const std::string& word : Words(it->second.body)) alive_.erase(word);
        stage_.world_.Drop(place);
      }
      objects[place] = std::move(moved);
      stage_.world_.MakeAbove(place);
      stage_.world_.Changed(place);
    }
  }
  // Whose copy replaces the other file, or goes, or stays beside it.
  void SettleOne(const Step& step) {
    Drive* drive = stage_.drive(step.who);
    const auto all = drive->Conflicts();
    if (!all.ok() || all->empty()) return;
    const auto& [path, node] = (*all)[step.n % all->size()];
    const auto keep = static_cast<Drive::Keep>(step.serial % 3);
    const std::string gone = keep == Drive::Keep::kHere ? path.substr(0, path.rfind('/') + 1) +
                                                              node.conflict_copy.original_name
                                                        : path;
    Replacing(
        step.who,
        [&, who = step.who] {
          return keep == Drive::Keep::kBoth ? std::set<std::string>() : WordsAt(who, gone);
        },
        [&, at = path] { return drive->SettleConflict(at, keep); });
  }

  // The last thing that this machine has learnt of the store, or kept beside what is there.
  std::int64_t HappenedThere(int who) {
    std::int64_t last = 0;
    for (const Happening& one : stage_.drive(who)->Happened(0, 1000))
      if (one.side == "store" || one.what == "conflict") last = one.number;
    return last;
  }
  std::set<std::string> SeenAt(const Step& step) {
    const std::string& path = step.kind == Step::kMove ? step.to : step.path;
    if (step.kind == Step::kMove && step.path == step.to) return {};
    if (step.kind == Step::kMakeFolder || step.kind == Step::kRead || step.kind == Step::kMode)
      return {};
    const bool in_place =
        step.kind == Step::kPatch || step.kind == Step::kResize || step.kind == Step::kPunch;
    return WordsAt(step.who, path, in_place ? &step : nullptr);
  }
  // Those that `step` leaves there do not count.
  std::set<std::string> WordsAt(int who, const std::string& path, const Step* step = nullptr) {
    const bool offline = [&] {
      const Lock lock(stage_.world_.mutex);
      return std::exchange(stage_.world_.offline, false);
    }();
    auto text = stage_.Patiently([&] { return stage_.hands(who).Read(path); });
    for (int i = 0; i < 5 && !text.ok() && text.error().code == Code::kStale; ++i)  // replaced then
      text = stage_.Patiently([&] { return stage_.hands(who).Read(path); });
    std::set<std::string> words;
    if (text.ok()) {
      words = Words(*text);
      if (step != nullptr) {
        PlainTree after;
        after.files["f"] = *text;
        Step there = *step;
        there.path = "f";
        Ignore(after.Do(there));
        for (const std::string& stays : Words(after.files["f"])) words.erase(stays);
      }
    } else if (text.error().code != Code::kNotFound && text.error().code != Code::kIsFolder &&
               text.error().code != Code::kNotFolder) {
      // what is shown there cannot be read just now, and may be overwritten all the same
      stage_.Remark("cannot be read: " + text.error().what);
      for (const auto& [at, content] : stage_.AtTheStore()) unsure_.merge(Words(content));
      if (const auto id = stage_.hands(who).Find(path); id.ok())
        unsure_.insert(written_[{who, *id}].begin(), written_[{who, *id}].end());
    }
    stage_.world_.SetOffline(offline);
    return words;
  }

  std::string End() {
    stage_.disk_.DieAt(0);
    if (stage_.disk_.dead())
      if (auto why = Resurrect(); !why.empty()) return why;
    stage_.world_.Faults(0, 0);
    stage_.world_.SetOffline(false);
    for (int who : {0, 1}) {
      stage_.LetGo(who);
      if (auto s = stage_.ForgetRules(who); !s.ok()) return s.error().what;
    }
    for (int round = 0; round < 3; ++round) {
      for (int who : {0, 1}) {
        if (auto s = stage_.drive(who)->ReleaseDeletions(); !s.ok()) return s.error().what;
        Ignore(stage_.Patiently([&] { return stage_.hands(who).Tree(); }));
        if (auto why = stage_.Settle(who); !why.empty()) return fmt::format("{} {}", who, why);
        Ignore(stage_.Patiently([&] { return stage_.drive(who)->Refresh(); }));
      }
    }
    std::set<std::string> found;
    const auto store = stage_.AtTheStore();
    for (const auto& [path, content] : store) found.merge(Words(content));
    for (const std::string& word : alive_)
      if (found.count(word) == 0 && unsure_.count(word) == 0) return "lost: " + word;
    // a file that had to give way to a folder while it was new went up as what it was called then:
    // such a key looks like a mark, and is shown under yet another name
    for (const auto& [path, content] : store)
      if (path.find("{file}") != std::string::npos) return "";
    for (int who : {0, 1}) {
      auto tree = stage_.Patiently([&] { return stage_.hands(who).Tree(); });
      if (!tree.ok()) return fmt::format("{} cannot be read: {}", who, tree.error().what);
      if (auto why = Difference(FilesOf(store), FilesOf(*tree)); !why.empty())
        return fmt::format("{} shows not what the store has: {}", who, why);
      if (auto why = OtherModes(who); !why.empty()) return fmt::format("{} {}", who, why);
    }
    return "";
  }

  // Where a change of them makes another version, all see it.
  std::string OtherModes(int who) {
    for (const auto& [path, content] : FilesOf(stage_.AtTheStore())) {
      const auto id = stage_.hands(who).Find(path);
      if (!id.ok()) continue;
      Ignore(stage_.hands(who).Read(path));  // which tells what a listing has not
      const auto here = stage_.drive(who)->GetAttr(*id);
      const auto state = stage_.drive(who)->State(*id);
      // (of an empty file nothing is read)
      if (!state.ok() || !state->node.attributes_known) continue;
      const Lock lock(stage_.world_.mutex);
      if (!here.ok() || here->kind != NodeKind::kFile || !stage_.world_.serial_versions) continue;
      const auto there = stage_.world_.objects[path].attributes.mode;
      if (there.value_or(here->mode) != here->mode)
        return fmt::format("shows {} with the mode {:o} instead of {:o}", path, here->mode, *there);
    }
    return "";
  }

  const Options options_;
  std::set<std::string> came_;  // at the store since the last change here began; under its lock
  Stage stage_;
  std::set<std::string> alive_, unsure_, synced_;
  std::map<std::pair<int, NodeId>, std::set<std::string>> written_;  // into a file, by whom
  std::uint64_t cuts_ = 0;
};

}  // namespace pargeter::test
