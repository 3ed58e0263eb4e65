// What a store in memory has, what it does wrong, and what it was asked.
#pragma once

#include <algorithm>
#include <cctype>
#include <deque>
#include <functional>
#include <map>
#include <optional>
#include <random>
#include <set>
#include <string>
#include <utility>
#include <vector>

#include "base/digest.h"
#include "base/mutex.h"
#include "base/text.h"
#include "net/cancel.h"
#include "provider/provider.h"
#include "support/hook.h"

namespace pargeter::test {

using Files = std::map<std::string, std::string>;  // content by path

struct FakeWorld {
  struct Object {
    std::string body;
    Attributes attributes;
    Nanos modified = 1;
    std::uint64_t serial = 0;  // of what was put there; a move keeps it
    bool in_parts = false;     // came up so
  };
  Mutex mutex;
  std::map<std::string, Object> objects GUARDED_BY(mutex);
  std::vector<std::string> given_up GUARDED_BY(mutex);  // places of unfinished writes, told so
  std::vector<std::string> asked GUARDED_BY(mutex);     // "write a/b" and so on
  std::vector<std::string> story GUARDED_BY(mutex);     // the same, with what came of it
  bool offline GUARDED_BY(mutex) = false;
  bool refuses_folders GUARDED_BY(mutex) =
      false;  // those that are asked for, not those above a file
  Code offline_as GUARDED_BY(mutex) = Code::kUnavailable;  // what it answers then
  int lose_answers GUARDED_BY(mutex) = 0;    // so many writes are done and then said to have failed
  std::string withheld GUARDED_BY(mutex);    // this path's bytes are told to be of another version
  std::string forbid GUARDED_BY(mutex);      // writes and copies to this path are not allowed
  std::string unreadable GUARDED_BY(mutex);  // nobody may read this path
  std::string unlistable GUARDED_BY(mutex);  // nobody may list this folder
  std::string sealed GUARDED_BY(mutex);      // what is below this path may only be read
  bool has_feed = false;                     // it tells what changed
  std::vector<std::string> changes GUARDED_BY(mutex);  // paths, each time one changed
  std::string feed_run GUARDED_BY(mutex) = "a";        // moments of another run mean nothing
  Hook<void(const std::string&)> on_read;              // before a file's bytes are sent
  Hook<void(const std::string&)> on_write;             // before a file's bytes are taken
  Hook<void(const std::string&)> on_part;              // before one part of them is
  Hook<void(const std::string&)> on_remove;            // before one file, or a folder/, is removed
  Hook<void(const std::string&)> on_look;              // before it is said what is there
  Hook<void()> on_looked;                              // before that is told
  Hook<void(const std::string&)> on_folder;            // before one is made
  Hook<void(const std::string&)> on_send;              // before a file is copied or moved
  Hook<void()> on_copied;                              // before the answer to a copy is given
  Hook<void()> on_moved;                               // before the answer to a move is given
  Hook<void(const std::string&)> on_listing;           // before a folder is listed
  Hook<void()> on_listed;                              // before the answer to a listing is given
  Hook<void()> on_feed;  // before it is told what changed (the answer is made by then)
  Hook<void(const std::string&)> on_content;  // that comes to the store, which is locked
  Hook<bool()> cut_off;                       // true: who asks is dead, nothing he asks happens
  // Faults: this share of all requests, and just the n-th from now (0: none), counted with `count`.
  double fault_share GUARDED_BY(mutex) = 0;
  double lost_share GUARDED_BY(mutex) = 0;  // of the answers to what changes something
  std::uint64_t fail_at GUARDED_BY(mutex) = 0, lose_at GUARDED_BY(mutex) = 0;
  std::uint64_t count GUARDED_BY(mutex) = 0;
  std::mt19937_64 dice GUARDED_BY(mutex);
  // By kind of request, for the next ones: true fails, or loses its answer.
  std::map<std::string, std::deque<bool>> fails GUARDED_BY(mutex), loses GUARDED_BY(mutex);
  std::deque<bool> spoils GUARDED_BY(mutex);  // of the next reads: true gets a wrong byte
  std::deque<bool> denies GUARDED_BY(mutex);  // of the next conditions: true does not hold, it says
  // The next write gets no answer, and happens when this is called.
  bool next_write_is_late GUARDED_BY(mutex) = false;
  std::function<void()> arrive_late GUARDED_BY(mutex);
  std::uint64_t multipart_above = 0, copies_in_parts_above = 0;
  bool feed_tells_all = false;                 // its own, too: what was done by requests
  std::size_t page_size = 1 << 20;             // of listings
  bool folds_names GUARDED_BY(mutex) = false;  // names are one if they differ only in case
  bool moves_folders = false, moves_files = false;
  // They stay when nothing is in them any more, and nothing else can have the path of one.
  bool real_folders = false;
  // Versions say nothing of the content, and a copy has another than its original. Otherwise they
  // are its digest, but for what came up in parts: a copy of that is in one.
  bool serial_versions = false;
  std::uint64_t serials GUARDED_BY(mutex) = 0;
  std::function<void()> die_after_write GUARDED_BY(mutex);  // of bytes, before their attributes
  bool forgets_origins = false;                             // with serial_versions
  struct Upload {
    std::string path;
    Attributes attributes;
    std::map<int, std::string> parts;
  };
  std::map<std::string, Upload> uploads GUARDED_BY(mutex);

  // What was replaced, if it keeps that: its number is its name.
  bool keeps_former = false;
  std::vector<std::pair<std::string, std::string>> former GUARDED_BY(mutex);  // path, content

  void Set(const std::string& path, Object object) REQUIRES(mutex) {
    if (keeps_former && objects.count(path) > 0) former.emplace_back(path, objects[path].body);
    object.serial = path.back() == '/' ? 0 : ++serials;  // folders are alike
    if (on_content) on_content(object.body);
    objects[path] = std::move(object);
    MakeAbove(path);
    Changed(path);
  }
  void MakeAbove(const std::string& path) REQUIRES(mutex) {
    if (!real_folders) return;
    for (auto end = path.find('/'); end != std::string::npos; end = path.find('/', end + 1))
      objects.try_emplace(path.substr(0, end + 1));
  }
  bool HasBelow(const std::string& folder) REQUIRES(mutex) {
    const auto below = objects.upper_bound(folder);
    return below != objects.end() && below->first.compare(0, folder.size(), folder) == 0;
  }
  // One thing at a path: nothing can come there then, whatever it is. A folder ends in "/".
  bool IsBarred(const std::string& path) REQUIRES(mutex) {
    if (!real_folders) return false;
    for (auto end = path.find('/'); end != std::string::npos; end = path.find('/', end + 1))
      if (objects.count(path.substr(0, end)) > 0) return true;
    return path.back() != '/' && objects.count(path + "/") > 0;
  }
  void Drop(const std::string& path) REQUIRES(mutex) {
    objects.erase(path);
    Changed(path);
  }
  void Changed(const std::string& path) REQUIRES(mutex) {
    if (!feed_tells_all) return;
    for (auto end = path.find('/'); end != std::string::npos; end = path.find('/', end + 1))
      changes.push_back(path.substr(0, end + 1));
    if (path.back() != '/') changes.push_back(path);
  }
  void Put(const std::string& path, const std::string& body) {
    const Lock lock(mutex);
    Set(path, {body, {}});
    changes.push_back(path);
  }
  void Erase(const std::string& path) {
    const Lock lock(mutex);
    objects.erase(path);
    changes.push_back(path);
  }
  void Move(const std::string& from, const std::string& to) {
    const Lock lock(mutex);
    auto moved = objects.extract(from);
    moved.key() = to;
    objects.insert(std::move(moved));
    MakeAbove(to);
    changes.push_back(from);
    changes.push_back(to);
  }
  Files All() {
    const Lock lock(mutex);
    Files out;
    for (const auto& [path, object] : objects) out[path] = object.body;
    return out;
  }
  // -- others, who leave no trace in the feed
  void Take(const std::string& path) {
    const Lock lock(mutex);
    objects.erase(path);
  }
  void Clear() {
    const Lock lock(mutex);
    objects.clear();
  }
  void Duplicate(const std::string& from, const std::string& to) {
    const Lock lock(mutex);
    objects[to] = objects[from];
  }
  void Edit(const std::string& path, const std::function<void(Object&)>& how) {
    const Lock lock(mutex);
    how(objects[path]);
  }
  // The object is replaced by one that differs in `how`: another version.
  void Replace(const std::string& path, const std::function<void(Object&)>& how) {
    const Lock lock(mutex);
    Object object = objects[path];
    how(object);
    Set(path, object);
  }
  Object Get(const std::string& path) {
    const Lock lock(mutex);
    return objects[path];
  }
  // -- faults, by kind of request
  static constexpr std::size_t kAlways = 100000;
  void Lose(const std::string& kind, std::size_t times = 1) {  // answers to the next requests
    const Lock lock(mutex);
    loses[kind].assign(times, true);
  }
  void Fail(const std::string& kind, std::size_t times = kAlways) {
    const Lock lock(mutex);
    fails[kind].assign(times, true);
  }
  void Pass(const std::string& kind, std::size_t nth = 0) {  // one of those that were to fail
    const Lock lock(mutex);
    fails[kind][nth] = false;
  }
  // The next request is done, and gets no answer; all later ones fail.
  void LoseOneThenFail(const std::string& kind) {
    Lose(kind);
    Fail(kind);
    Pass(kind);
  }
  void Heal() {
    const Lock lock(mutex);
    fails.clear();
  }
  void Deny() {  // the next condition does not hold, says the store
    const Lock lock(mutex);
    denies = {true};
  }
  void DelayNextWrite() {
    const Lock lock(mutex);
    next_write_is_late = true;
  }
  void LetWriteArrive() {
    std::function<void()> arrive;
    {
      const Lock lock(mutex);
      arrive = std::exchange(arrive_late, nullptr);
    }
    arrive();
  }
  void FoldNames() {
    const Lock lock(mutex);
    folds_names = true;
  }
  void SetPath(std::string FakeWorld::*which, const std::string& path) {
    const Lock lock(mutex);
    this->*which = path;
  }
  void SetOffline(bool value, Code as = Code::kUnavailable) {
    const Lock lock(mutex);
    offline = value;
    offline_as = as;
  }
  void Faults(double share, std::uint64_t seed, double lost = 0) {
    const Lock lock(mutex);
    fault_share = share;
    lost_share = lost;
    dice.seed(seed);
  }
  void FailAt(std::uint64_t fail, std::uint64_t lose) {
    const Lock lock(mutex);
    count = 0;
    fail_at = fail;
    lose_at = lose;
  }
  std::uint64_t Count() {
    const Lock lock(mutex);
    return count;
  }
  std::size_t Uploads() {
    const Lock lock(mutex);
    return uploads.size();
  }
  void LoseAnswers(int n) {
    const Lock lock(mutex);
    lose_answers = n;
  }
  std::vector<std::string> TakeAsked() {
    const Lock lock(mutex);
    return std::exchange(asked, {});
  }
};

}  // namespace pargeter::test
