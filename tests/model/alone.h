// One machine: it shows at all times what the model says, and in the end the store has it.
#pragma once

#include "model/stage.h"

namespace pargeter::test {

class Alone {
 public:
  explicit Alone(const Options& options) : options_(options), stage_(options) {}

  std::string Play(const std::vector<Step>& plan) {
    std::string why = PlayAll(plan);
    if (!why.empty()) stage_.Keep();
    return why;
  }
  std::uint64_t disk_operations() const { return disk_operations_; }  // of the last play
  std::uint64_t requests() const { return requests_; }

 private:
  std::string PlayAll(const std::vector<Step>& plan) {
    for (const char* path : {"f0", "d0/f1", "d0/e/f2", "d1/f3"}) {
      const std::string text = std::string("from before: ") + path + std::string(30000, 'b');
      stage_.world_.Put(path, text);
      model_.files[path] = text;
    }
    model_.files["d0/"] = model_.files["d0/e/"] = model_.files["d1/"] = "";
    {
      const Lock lock(stage_.world_.mutex);  // which no listing tells
      stage_.world_.objects["f0"].attributes.mode = model_.modes["f0"] = 0750;
    }
    Note({});
    touched_.clear();
    if (auto s = stage_.Open(0); !s.ok()) return s.error().what;
    if (auto why = Compare(nullptr); !why.empty()) return "at first: " + why;
    stage_.world_.Faults(options_.store_faults, options_.seed, options_.lost_answers);
    stage_.world_.FailAt(options_.store_fail_at, options_.store_lose_at);
    stage_.disk_.FailShare(options_.disk_faults, options_.seed);
    stage_.disk_.FailAt(options_.disk_fail_at ? stage_.disk_.operations() + options_.disk_fail_at
                                              : 0);
    stage_.disk_.DieAt(options_.disk_die_at ? stage_.disk_.operations() + options_.disk_die_at : 0);
    operations_before_ = stage_.disk_.operations();
    for (const Step& step : plan) {
      std::string why = PlayStep(step);
      if (why.empty() && stage_.disk_.dead()) why = Resurrect(nullptr);
      if (!why.empty()) return Describe(step) + ": " + why;
    }
    return End();
  }
  std::string PlayStep(const Step& step) {
    placed_ = placed_ || step.kind == Step::kPlace;
    if (stage_.Serve(step)) return "";
    switch (step.kind) {
      case Step::kCheck:
        return Compare(nullptr);
      case Step::kRead:
        Ignore(stage_.hands(0).Read(step.path));
        return "";
      case Step::kFlush:
        if (stage_.drive(0)->Flush(Duration(2000)).ok()) NoteLocal();
        return "";
      case Step::kSyncFolder:
        if (stage_.drive(0)->FsyncFolder().ok()) StayHere();
        return "";
      case Step::kRelease:
        return Release();
      case Step::kDrop:
        return Drop();
      case Step::kRestore:
        return Restore(step);
      case Step::kRestart:
        return Restart();
      default:
        return Change(step);
    }
  }

  // What was hidden comes to light then.
  std::string Release() {
    if (!stage_.drive(0)->ReleaseDeletions().ok() || hidden_.empty() || stage_.Offline()) return "";
    if (!stage_.Patiently([&] { return stage_.drive(0)->Flush(Duration(5000)); }).ok()) return "";
    const auto tree = View();
    if (tree.ok()) ShowHidden(*tree);
    return "";
  }

  // What is there stays, and the drive says what is there again.
  std::string Drop() {
    stage_.LetGo(0);  // who has a removed file open has not the one that comes back
    // (what may have been replaced is back until that is known)
    if (options_.lost_answers > 0 && !stage_.drive(0)->Flush(Duration(5000)).ok()) return "";
    const auto back = stage_.drive(0)->DropDeletions();
    if (stage_.disk_.dead()) return "";
    if (!back.ok()) return back.error().code == Code::kBusy ? "" : back.error().what;
    auto tree = View();
    if (!tree.ok())
      return stage_.disk_.dead() ? "" : "cannot be read: " + tree.error().what + stage_.LastAsked();
    auto rest = *tree;
    for (const auto& [path, content] : *tree)
      if (model_.files.count(path) == 0) rest.erase(path);
    if (auto why = Difference(model_.files, rest); !why.empty()) return why + stage_.LastAsked();
    const auto files = FilesOf(*tree).size() - FilesOf(rest).size();
    // (one may have gone before they were held back, and nobody heard of it)
    if (options_.lost_answers > 0 ? files > *back : files != *back) {
      std::string why = fmt::format("{} files are back and not {}:", files, *back);
      for (const auto& [path, content] : FilesOf(*tree))
        if (rest.count(path) == 0) why += fmt::format("\n    {} ({})", path, content.substr(0, 20));
      return why + stage_.LastAsked();
    }
    const PlainTree before = model_;
    model_.files = std::move(*tree);
    for (const auto& [path, content] : model_.files)
      if (before.files.count(path) == 0) model_.modes.erase(path);
    Note(before);
    return "";
  }

  // It is then as if somebody had written that.
  std::string Restore(const Step& step) {
    const auto id = stage_.hands(0).Find(step.path);
    if (!id.ok() || stage_.Offline()) return "";
    const auto all = stage_.Patiently([&] { return stage_.drive(0)->Versions(*id); });
    if (!all.ok() || all->empty()) return "";
    const Provider::Kept& chosen = (*all)[step.n % all->size()];
    const PlainTree before = model_;
    const auto got = stage_.Patiently([&] { return stage_.drive(0)->Restore(*id, chosen.id); });
    // it has changes that wait, or is only here by now
    const auto not_now = [](Code code) {
      return code == Code::kRefused || code == Code::kNotFound;
    };
    if (!got.ok() && not_now(got.error().code)) return "";
    model_.files[step.path] = stage_.FormerContent(chosen.id);
    copied_.insert(model_.files[step.path]);
    Note(before);
    return Came(step, before, Status(), got.status());
  }

  // A step that was cut off may have set them or not.
  void ForgetModes(const Step& step) {
    for (const std::string* top : {&step.path, &step.to})
      std::erase_if(model_.modes, [&](const auto& one) {
        return one.first == *top || one.first.rfind(*top + "/", 0) == 0;
      });
  }

  std::string Change(const Step& step) {
    const PlainTree before = model_;
    const Status wanted = model_.Do(step);
    Note(before);
    if (step.kind == Step::kPatch || step.kind == Step::kResize || step.kind == Step::kPunch)
      pieced_.insert(step.path);
    if (step.kind == Step::kCopy && wanted.ok()) copied_.insert(model_.files[step.path]);
    if (step.kind == Step::kMove) {
      for (auto* paths : {&left_, &pieced_})  // (who copies a folder may do so before it has left)
        for (const std::string& path : std::set<std::string>(*paths))
          if (path == step.path || path.rfind(step.path + "/", 0) == 0)
            paths->insert(step.to + path.substr(step.path.size()));
    }
    return Came(step, before, wanted, stage_.Patiently([&] { return stage_.Do(step); }));
  }
  // What came of a step that the model has taken already.
  std::string Came(const Step& step, const PlainTree& before, const Status& wanted,
                   const Status& got) {
    if (stage_.disk_.dead() && !got.ok()) {
      Durable(step, false);
      ForgetModes(step);
      return Resurrect(&before);
    }
    if (!got.ok() && got.error().code == Code::kIo && wanted.ok()) {
      // failed half-way: what is there may be either, and what memory says of it may not be what
      // the disk says
      ForgetModes(step);
      stage_.Close(0);
      const std::string why = OpenAgain();
      return why.empty() ? Compare(&before) : why;
    }
    if (wanted.ok() != got.ok())
      return fmt::format("{} instead of {}", got.ok() ? "done" : got.error().what,
                         wanted.ok() ? "done" : wanted.error().what) +
             stage_.LastAsked();
    const auto missing = [](Code code) {
      return code == Code::kNotFound || code == Code::kNotFolder;
    };
    if (!wanted.ok() && wanted.error().code != got.error().code &&
        !(missing(wanted.error().code) && missing(got.error().code)))
      return fmt::format("'{}' instead of '{}'", got.error().what, wanted.error().what);
    if (wanted.ok()) Durable(step, step.kind == Step::kSyncedWrite);
    return "";
  }

  // What a power cut must leave: contents that were synced, at one of the places where they may be.
  void Durable(const Step& step, bool synced) {
    const auto inside = [](const std::string& path, const std::string& top) {
      return path == top || path.compare(0, top.size() + 1, top + "/") == 0;
    };
    for (Kept& kept : kept_) {
      for (const std::string& place : std::set<std::string>(kept.places)) {
        if (step.kind == Step::kMove && inside(place, step.path))
          kept.places.insert(step.to + place.substr(step.path.size()));
        if (inside(place, step.path) && step.kind != Step::kMove) kept.sure = false;
        if (step.kind == Step::kMove && inside(place, step.to)) kept.sure = false;
      }
    }
    if (!synced) return;
    kept_.push_back({ContentOf(step), {step.path}, true});
    const auto store = stage_.AtTheStore();
    const auto was = store.find(step.path);
    if (was != store.end() && was->second != ContentOf(step)) replaced_.insert(*was);
  }

  // What any file has been, and what of the names has changed since the last power cut.
  void Note(const PlainTree& before) {
    for (const auto& [path, content] : model_.files) {
      const auto was = before.files.find(path);
      if (was != before.files.end() && was->second == content) continue;
      touched_.insert(path);
      // another file than the one that the store may still have there
      if (was == before.files.end() && left_.count(path) > 0)
        for (const std::string& former : had_[path]) replaced_.insert({path, former});
      had_[path].insert(content);
    }
    for (const auto& [path, content] : before.files)
      if (model_.files.count(path) == 0) left_.insert(path);
  }

  std::set<std::string> OnlyHere() {
    std::set<std::string> paths;
    const auto tree = View();
    if (!tree.ok()) return paths;
    const auto store = stage_.AtTheStore();
    for (const auto& [path, content] : *tree)
      if (store.count(path) == 0) paths.insert(path);
    return paths;
  }

  // Of what was at the store when the power went: that nobody touched is there still, and nothing
  // whole has become something torn or empty, unless that has synced bytes in it, or was changed in
  // place: such changes get lost one by one, as on any disk.
  std::string Destroyed(const std::map<std::string, std::string>& store_before,
                        const std::map<std::string, std::string>& tree,
                        const std::set<std::string>& only_here) {
    const auto store = stage_.AtTheStore();
    auto now = store;
    if (placed_) now.insert(tree.begin(), tree.end());  // what is only here is not gone
    for (const auto& [path, content] : store_before) {
      if (path.find(".pargeter-scratch-") != std::string::npos) continue;
      const auto it = now.find(path);
      if (it == now.end()) {
        if (left_.count(path) == 0) return path + " is gone from the store, and nobody removed it";
        continue;
      }
      if (content == it->second || replaced_.count({path, content}) > 0) continue;
      if (left_.count(path) == 0 && pieced_.count(path) == 0 && copied_.count(it->second) == 0 &&
          SerialOf(it->second) < SerialOf(content))
        return fmt::format("{} was {} at the store and is an earlier one again: {}", path,
                           content.substr(0, 12), it->second.substr(0, 12));
      const bool synced = std::any_of(kept_.begin(), kept_.end(), [&p = path](const Kept& kept) {
        return kept.sure && kept.places.count(p) > 0;
      });
      if (touched_.count(path) == 0) return path + " has changed, and nobody touched it";
      if (only_here.count(path) > 0) continue;  // a disk as any other
      const bool moved = left_.count(path) > 0 &&
                         std::any_of(now.begin(), now.end(), [&text = content](const auto& one) {
                           return one.second == text;
                         });
      if (moved) continue;  // what is there now has replaced nothing
      const bool changed_since =
          left_.count(path) > 0 && std::any_of(had_.begin(), had_.end(), [&](const auto& one) {
            return one.second.count(it->second) > 0;
          });
      if (changed_since) continue;  // under its new name, and the move was lost
      if (had_[path].count(it->second) == 0 && !synced && pieced_.count(path) == 0)
        return fmt::format("{} is at the store what it never was: {} bytes, {}", path,
                           it->second.size(), Printable(it->second.substr(0, 40)));
    }
    return "";
  }

  // Which step has written that; 0: none, it was there before.
  static int SerialOf(const std::string& content) {
    return content.compare(0, 3, "<0.") == 0 ? std::atoi(content.c_str() + 3) : 0;
  }

  // Their names are synced too, and what has none any more may be replaced by whatever comes there.
  void StayHere() {
    for (const auto& one : stage_.AtTheStore())
      if (model_.files.count(one.first) == 0) replaced_.insert(one);
    for (Kept& kept : kept_)
      for (const auto& [path, content] : model_.files)
        if (content == kept.content) kept.places = {path};
  }

  // What came down from the store to be only here is synced, and is nowhere else.
  void NoteLocal() {
    const auto store = stage_.AtTheStore();
    for (const auto& [path, content] : store) been_there_.insert(content);
    if (!placed_) return;
    for (const auto& [path, content] : model_.files) {
      // (what is empty tells not whose it is)
      if (path.back() == '/' || content.empty() || been_there_.count(content) == 0 ||
          pieced_.count(path) > 0 || copied_.count(content) > 0)
        continue;
      // (known already, with all places where it may be)
      if (std::any_of(kept_.begin(), kept_.end(), [&text = content](const Kept& kept) {
            return kept.sure && kept.content == text;
          }))
        continue;
      const auto id = stage_.hands(0).Find(path);
      const auto state = id.ok() ? stage_.drive(0)->State(*id) : id.error();
      if (!state.ok()) continue;
      const Node& node = state->node;
      if (node.effective != Placement::kLocal || node.remote.place != RemotePlace::kNone ||
          node.pending.seq != 0)
        continue;
      Kept kept{content, {path}, true};  // it may have moved since the last cut, and that unsynced
      for (const auto& [place, contents] : had_)
        if (contents.count(content) > 0) kept.places.insert(place);
      kept_.push_back(std::move(kept));
    }
  }

  std::string OpenAgain() {
    const Status open = stage_.Open(0);
    if (!open.ok() && options_.disk_faults > 0 && !stage_.disk_.dead()) return OpenAgain();
    return open.ok() || stage_.disk_.dead() ? "" : "does not open: " + open.error().what;
  }

  // What is here has been counted. (What came last may not have been written down; and what waits
  // for upload may be fetched meanwhile, of what it stands on.)
  std::string Restart() {
    stage_.LetGo(0);  // a removed file's bytes go with it
    const DriveStatus before = stage_.drive(0)->Summary();
    stage_.Close(0);
    if (auto why = OpenAgain(); !why.empty() || stage_.disk_.dead()) return why;
    const std::uint64_t found = stage_.drive(0)->Summary().cache_bytes;
    const bool still = !placed_ && before.sums.pending == 0;
    return still && before.cache_bytes < found
               ? fmt::format("{} bytes were counted, and there are {}", before.cache_bytes, found)
               : "";
  }

  // One start in three is cut off itself.
  std::string Resurrect(const PlainTree* before) {
    stage_.Close(0);
    const auto store_before = stage_.AtTheStore();
    const bool cut = std::exchange(stage_.power_cut_, false);
    for (bool first = true;; first = false) {
      stage_.disk_.Heal();
      stage_.disk_.FailShare(options_.disk_faults, options_.seed);
      if (cut && (first || dice_() % 2 == 0)) {
        stage_.disk_.PowerCut(options_.seed + cuts_++);
        stage_.NewBoot();
        stage_.Remark("the power was cut");
      }
      if (dice_() % 3 != 0) break;
      stage_.disk_.DieAt(stage_.disk_.operations() + 1 + dice_() % 80);
      Ignore(stage_.Open(0));
      stage_.Close(0);
      stage_.Remark("a start was cut off");
    }
    if (auto why = OpenAgain(); !why.empty()) return why;
    const std::string why = cut ? AfterPowerCut(store_before) : Compare(before);
    return why.empty() ? "" : "after its death: " + why + stage_.LastAsked();
  }

  std::string AfterPowerCut(const std::map<std::string, std::string>& store_before) {
    stage_.world_.SetOffline(false);
    // the store may know of things that the index has lost: both sides meet first
    stage_.world_.Faults(0, 0);
    if (auto why = stage_.Settle(0, true); !why.empty()) return "after the power cut it " + why;
    const auto only_here = placed_ ? OnlyHere() : std::set<std::string>();
    if (placed_ && stage_.world_.forgets_origins) {
      // what is only here meets what went up of it before when it goes up again: no memory says
      // whose that is, and so it is kept beside it
      if (auto s = stage_.ForgetRules(0); !s.ok()) return s.error().what;
      if (auto why = stage_.Settle(0, true); !why.empty()) return "after the power cut it " + why;
    }
    Ignore(View());  // every folder is visited, then looked at again
    const Status looked = stage_.drive(0)->Refresh();
    if (!looked.ok()) return looked.error().what;
    auto tree = View();
    if (!tree.ok()) return "after the power cut: " + tree.error().what;
    for (const Kept& kept : kept_) {
      if (!kept.sure) continue;
      bool found = false;
      for (const std::string& place : kept.places)
        found = found || (tree->count(place) > 0 && tree->at(place) == kept.content);
      if (found) continue;
      std::string why = fmt::format("what was synced as {} is lost ({}), and there is: {}",
                                    *kept.places.begin(), kept.content.substr(0, 20),
                                    Printable(tree->count(*kept.places.begin()) > 0
                                                  ? tree->at(*kept.places.begin()).substr(0, 20)
                                                  : std::string("nothing")));
      for (const auto& [path, content] : *tree)
        if (content == kept.content) why += "; it is at " + path;
      return why;
    }
    if (auto why = Destroyed(store_before, *tree, only_here); !why.empty()) return why;
    kept_.clear();
    touched_.clear();
    left_.clear();
    had_.clear();
    replaced_.clear();
    // whose deletion is held back, or what has come into a folder that is only here
    for (const auto& [path, content] : stage_.world_.All())
      if (tree->count(path) == 0) {
        hidden_.insert(path);
        if (path.back() == '/') continue;
        left_.insert(path);
        had_[path].insert(content);
      }
    pieced_.clear();
    stage_.world_.Faults(options_.store_faults, options_.seed, options_.lost_answers);
    model_.files = *tree;
    model_.modes.clear();
    Note({});
    touched_.clear();
    return "";
  }

  Result<Files> View() {
    const bool offline = [&] {
      const Lock lock(stage_.world_.mutex);
      return std::exchange(stage_.world_.offline, false);
    }();
    auto tree = stage_.Patiently([&] { return stage_.hands(0).Tree(); });
    const auto passing = [](Code c) {
      return c == Code::kIo || c == Code::kStale || c == Code::kNotFound;
    };
    for (int i = 0; i < 20 && !tree.ok() && passing(tree.error().code) && !stage_.disk_.dead(); ++i)
      tree = stage_.Patiently([&] { return stage_.hands(0).Tree(); });
    stage_.world_.SetOffline(offline);
    return tree;
  }

  // The drive shows the model, or something between `before` and the model, which is then taken
  // for true.
  std::string Compare(const PlainTree* before) {
    auto tree = View();
    if (!tree.ok())
      return stage_.disk_.dead() ? "" : "cannot be read: " + tree.error().what + stage_.LastAsked();
    ShowHidden(*tree);
    std::string why = Difference(model_.files, *tree);
    if (why.empty()) return why;
    if (before == nullptr) return why + stage_.LastAsked();
    std::set<std::string> paths;
    using Shown = const std::map<std::string, std::string>*;
    for (Shown files : {Shown(&before->files), Shown(&model_.files), Shown(&*tree)})
      for (const auto& [path, content] : *files) paths.insert(path);
    const auto at = [](const std::map<std::string, std::string>& files, const std::string& path) {
      const auto it = files.find(path);
      return it == files.end() ? nullptr : &it->second;
    };
    for (const std::string& path : paths) {
      const std::string *b = at(before->files, path), *a = at(model_.files, path),
                        *got = at(*tree, path);
      if (got == nullptr ? (b == nullptr || a == nullptr) : (b || a) && Between(b, a, *got))
        continue;
      return why + " (neither before nor after)";
    }
    const PlainTree was = model_;
    model_.files = *tree;
    Note(was);
    return "";
  }

  // Modes are as they were set, and what is shown here is what the store has.
  std::string AttributesWell() {
    for (const auto& [path, content] : FilesOf(model_.files)) {
      const auto id = stage_.hands(0).Find(path);
      if (!id.ok()) return path + ": " + id.error().what;
      Ignore(stage_.hands(0).Read(path));  // which tells what a listing has not
      const auto here = stage_.drive(0)->GetAttr(*id);
      const auto state = stage_.drive(0)->State(*id);
      if (!here.ok()) return path + ": " + here.error().what;
      if (!state.ok() || !state->node.attributes_known) continue;
      const Lock lock(stage_.world_.mutex);
      const Attributes& there = stage_.world_.objects[path].attributes;
      const auto known = model_.modes.find(path);
      if (known != model_.modes.end() && there.mode.value_or(here->mode) != known->second)
        return fmt::format("{} has the mode {:o} at the store instead of {:o}", path,
                           there.mode.value_or(0), known->second);
      // (an index that has forgotten what it sent is not told: the content is the same)
      if (options_.watch_power) continue;
      if (there.mode.value_or(here->mode) != here->mode)
        return fmt::format("{} has the mode {:o} at the store and {:o} here", path, *there.mode,
                           here->mode);
      if (there.mtime.value_or(here->mtime) != here->mtime)
        return fmt::format("{} has the time {} at the store and {} here", path, *there.mtime,
                           here->mtime);
    }
    return "";
  }

  // A folder's are what its object at the store says; without one it is as any.
  std::string FolderModesWell() {
    if (options_.watch_power) return "";  // (as above)
    for (const auto& [path, content] : model_.files) {
      if (path.back() != '/') continue;
      const std::string folder = path.substr(0, path.size() - 1);
      const auto id = stage_.hands(0).Find(folder);
      if (!id.ok()) return path + ": " + id.error().what;
      const auto here = stage_.drive(0)->GetAttr(*id);
      const auto state = stage_.drive(0)->State(*id);
      if (!here.ok()) return path + ": " + here.error().what;
      if (!state.ok() || !state->node.attributes_known ||
          state->node.effective == Placement::kLocal)
        continue;
      const Lock lock(stage_.world_.mutex);
      const auto marker = stage_.world_.objects.find(path);
      const bool there = marker != stage_.world_.objects.end();
      const auto mode = there ? marker->second.attributes.mode : std::optional<std::uint32_t>();
      if (mode.value_or(0755) != here->mode)
        return fmt::format("{} has the mode {:o} at the store{} and {:o} here", path,
                           mode.value_or(0755), there ? "" : " (no marker)", here->mode);
    }
    return "";
  }

  std::string End() {
    disk_operations_ = stage_.disk_.operations() - operations_before_;
    requests_ = stage_.world_.Count();
    stage_.disk_.Heal();
    stage_.world_.Faults(0, 0);
    stage_.world_.FailAt(0, 0);
    stage_.world_.SetOffline(false);
    if (auto why = Compare(nullptr); !why.empty()) return "in the end: " + why;
    // what is to be only here comes down when it is closed, and what has the name of a folder whose
    // deletion is held back may wait for that
    const bool waits = options_.hold && stage_.world_.real_folders;
    if (stage_.Holds(0) && !placed_ && !waits)
      if (auto why = stage_.Settle(0); !why.empty())
        return "while a file is held open it " + why + stage_.LastAsked();
    stage_.LetGo(0);
    if (auto s = stage_.ForgetRules(0); !s.ok()) return s.error().what;
    if (auto s = stage_.drive(0)->ReleaseDeletions(); !s.ok()) return s.error().what;
    if (auto why = stage_.Settle(0); !why.empty())
      return "in the end it " + why + stage_.LastAsked();
    if (auto s = stage_.ClearUp(0); !s.ok()) return s.error().what;
    ShowHidden(stage_.world_.All());
    if (auto why = Difference(FilesOf(model_.files), stage_.AtTheStore()); !why.empty())
      return "at the store: " + why + stage_.LastAsked();
    if (auto why = AttributesWell(); !why.empty()) return why + stage_.LastAsked();
    if (auto why = FolderModesWell(); !why.empty()) return why + stage_.LastAsked();
    if (auto s = stage_.drive(0)->CheckIndex(); !s.ok()) return s.error().what;
    if (stage_.world_.Uploads() > 0)
      return "an unfinished upload is left at the store" + stage_.LastAsked();
    // another machine, which knows nothing, sees the same
    if (auto s = stage_.Open(1); !s.ok()) return s.error().what;
    auto tree = stage_.hands(1).Tree();
    if (!tree.ok()) return "seen from elsewhere: " + tree.error().what;
    if (auto why = Difference(Plain(model_.files), Plain(*tree)); !why.empty()) {
      why = "seen from elsewhere: " + why;
      for (const auto& [path, content] : *tree) why += "\n      " + path;
      return why;
    }
    return "";
  }

  // A file that was written anew under a name whose deletion was held back, and went up: if the
  // power cut took all memory of it, the deletion hides it, until that finds another file there.
  // Nor is a folder that is only here compared with what a half-done move has left at its place.
  void ShowHidden(const std::map<std::string, std::string>& files) {
    for (const auto& [path, content] : files) {
      if (hidden_.count(path) == 0 || !model_.files.emplace(path, content).second) continue;
      for (auto end = path.find('/'); end != std::string::npos; end = path.find('/', end + 1))
        model_.files.emplace(path.substr(0, end + 1), "");
    }
  }

  struct Kept {
    std::string content;
    std::set<std::string> places;
    bool sure = true;
  };
  const Options options_;
  Stage stage_;
  PlainTree model_;
  std::vector<Kept> kept_;
  std::set<std::string> touched_, left_, pieced_, hidden_;
  std::set<std::string> been_there_, copied_;  // contents that were at the store; of two files
  std::set<std::pair<std::string, std::string>> replaced_;  // at the store, by what was synced
  std::map<std::string, std::set<std::string>> had_;        // all contents of a path
  bool placed_ = false;
  std::uint64_t cuts_ = 0;
  std::mt19937_64 dice_{options_.seed};
  std::uint64_t operations_before_ = 0, disk_operations_ = 0, requests_ = 0;
};

}  // namespace pargeter::test
