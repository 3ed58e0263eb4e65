// A mirror over a store in memory, and scenarios for it: what programs do in the directory, what
// others do at the store, and what both have in the end.
//
// A step ends with ";": a verb, its paths, and after ":" a text.
//
//   directory  write PATH: TEXT, save PATH: TEXT (by a new file that is renamed over), remove PATH,
//              move FROM TO, mkdir PATH, mode PATH OCTAL, symlink PATH: TARGET, link PATH NEW, fifo
//              PATH
//   store      put PATH: TEXT, erase PATH, shift FROM TO
//   program    hide PATH, start, stop, kill, offline, online, settle (until both sides are the
//   same) checks     same: PATH=TEXT, ...   (both sides; a folder ends in "/", where the store
//   keeps it)
//              here: ..., there: ...  (one side)
//              recovered: TEXT, ...   (contents, in any order)
//              conflicts N, state PATH STATE, modes PATH OCTAL (on both sides), problem PATH, asked
//              KIND N (since the last time)
#pragma once

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <regex>
#include <set>

#include "base/text.h"
#include "face/mirror/mirror.h"
#include "support/drive_fixture.h"

namespace pargeter::test {

class MirrorFixture : public DriveFixture {
 protected:
  void SetUp() override {
    world_.real_folders = world_.moves_files = world_.moves_folders = true;
    std::filesystem::create_directory(At(""));
  }
  void TearDown() override { StopAll(); }

  void StartAll() {
    DriveOptions options = Options();
    options.passes_through = true;
    auto drive = Drive::Open(std::move(options), std::make_unique<FakeStore>(&world_));
    ASSERT_TRUE(drive.ok()) << drive.error().what;
    drive_ = std::move(*drive);
    MirrorFace::Options mirror;
    mirror.at = At("");
    mirror.state_folder = folder_ / "state";
    mirror.mark = "sheets";
    mirror.quiet = Duration(20);
    mirror.retry_after = mirror.retry_at_most = Duration(50);
    mirror.catch_up_every = Duration(50);
    auto face = MirrorFace::Open(drive_.get(), std::move(mirror));
    opened_ = face.ok() ? Status() : Status(face.error());
    if (!face.ok()) return drive_.reset();
    face_ = std::move(*face);
    drive_->Start(face_.get());
    Ignore(drive_->FirstContact());
    face_->Start();
  }
  void StopAll() {
    if (face_) face_->Stop();
    if (drive_) drive_->Stop();
    face_.reset();
    drive_.reset();
  }
  std::string At(const std::string& path) const {
    return path.empty() ? std::string(folder_ / "notebooks") : folder_ / ("notebooks/" + path);
  }

  // -- both sides
  static std::string Plain(const std::string& path) {
    static const std::regex kept(R"( \(kept from isle [^)]*\))");
    return std::regex_replace(path, kept, " (kept)");
  }
  Files Here() const {
    Files files;
    namespace fs = std::filesystem;
    std::error_code gone;
    for (fs::recursive_directory_iterator it(At(""), gone), end; !gone && it != end;
         it.increment(gone)) {
      const std::string path = it->path().string().substr(At("").size() + 1);
      if (path == Directory::kOwnFolder) {
        it.disable_recursion_pending();
      } else if (it->is_symlink()) {
        files[Plain(path)] = "-> " + fs::read_symlink(it->path(), gone).string();
      } else if (it->is_directory(gone)) {
        if (fs::is_empty(it->path(), gone)) files[path + "/"] = "";
      } else if (it->is_regular_file(gone)) {
        files[Plain(path)] = ReadAll(it->path());
      }
    }
    return files;
  }
  Files There() {
    Files files;
    const Files all = world_.All();
    for (auto it = all.begin(); it != all.end(); ++it) {
      const bool holds = it->first.back() == '/' && std::next(it) != all.end() &&
                         std::next(it)->first.rfind(it->first, 0) == 0;
      const Lock lock(world_.mutex);
      const auto& link = world_.objects[it->first].attributes.symlink;
      if (!holds) files[Plain(it->first)] = link ? "-> " + *link : it->second;
    }
    return files;
  }
  bool Settle() {
    return Eventually([&] {
      return drive_->CatchUp(nullptr).ok() && face_->WaitUntilSame(Duration(2000)).ok() &&
             drive_->Flush(Duration(2000)).ok() && face_->WaitUntilSame(Duration(0)).ok() &&
             Here() == There();
    });
  }
  std::multiset<std::string> Recovered() const {
    std::multiset<std::string> texts;
    const std::string at = At(std::string(Directory::kOwnFolder) + "/recovered");
    for (const auto& entry : std::filesystem::recursive_directory_iterator(at))
      if (entry.is_regular_file()) texts.insert(ReadAll(entry.path()));
    return texts;
  }

  // -- scenarios
  void Play(const std::string& steps) {
    for (const std::string& line : Split(steps, ';')) {
      const std::size_t colon = line.find(": ");
      std::vector<std::string> words = Split(Trim(std::string_view(line).substr(0, colon)), ' ');
      const std::string text =
          colon == std::string::npos ? "" : std::string(Trim(line.substr(colon + 2)));
      if (words[0].empty()) continue;
      if (words[0].back() == ':') words[0].pop_back();
      words.resize(3);
      SCOPED_TRACE(line);
      if (!PlayDirectory(words[0], words[1], words[2], text) &&
          !PlayStore(words[0], words[1], words[2], text))
        PlayProgram(words[0], words[1], words[2], text);
      if (HasFatalFailure()) return;
    }
  }
  bool PlayDirectory(const std::string& verb, const std::string& path, const std::string& to,
                     const std::string& text) {
    namespace fs = std::filesystem;
    std::error_code failed;
    if (verb == "write") {
      WriteAll(At(path), text);
    } else if (verb == "save") {
      WriteAll(At(path + ".new"), text);
      fs::rename(At(path + ".new"), At(path), failed);
    } else if (verb == "remove") {
      fs::remove_all(At(path), failed);
    } else if (verb == "move") {
      fs::rename(At(path), At(to), failed);
    } else if (verb == "mkdir") {
      fs::create_directories(At(path), failed);
    } else if (verb == "mode") {
      ::chmod(At(path).c_str(), static_cast<mode_t>(std::stoul(to, nullptr, 8)));
    } else if (verb == "symlink") {
      fs::create_symlink(text, At(path), failed);
    } else if (verb == "link") {
      fs::create_hard_link(At(path), At(to), failed);
    } else if (verb == "fifo") {
      ::mkfifo(At(path).c_str(), 0644);
    } else {
      return false;
    }
    EXPECT_FALSE(failed) << failed.message();
    return true;
  }
  bool PlayStore(const std::string& verb, const std::string& path, const std::string& to,
                 const std::string& text) {
    if (verb == "put")
      world_.Put(path, text);
    else if (verb == "erase")
      world_.Erase(path);
    else if (verb == "shift")
      world_.Move(path, to);
    else
      return false;
    return true;
  }
  void PlayProgram(const std::string& verb, const std::string& path, const std::string& to,
                   const std::string& text) {
    if (verb == "start") {
      StartAll();
      ASSERT_TRUE(opened_.ok()) << opened_.error().what;
    } else if (verb == "stop") {
      StopAll();
    } else if (verb == "kill") {
      disk_.DieAt(disk_.operations() + 1);
      StopAll();
      disk_.Heal();
    } else if (verb == "offline" || verb == "online") {
      world_.SetOffline(verb == "offline");
    } else if (verb == "settle") {
      ASSERT_TRUE(Settle()) << Different();
    } else if (verb == "same") {
      ASSERT_TRUE(Settle()) << Different();
      EXPECT_EQ(Here(), Wanted(text));
    } else if (verb == "here") {
      EXPECT_TRUE(Eventually([&] { return Here() == Wanted(text); })) << Different();
    } else if (verb == "there") {
      EXPECT_TRUE(Eventually([&] { return There() == Wanted(text); })) << Different();
    } else if (verb == "recovered") {
      std::multiset<std::string> wanted;
      for (const std::string& one : Split(text, ','))
        if (!one.empty()) wanted.insert(std::string(Trim(one)));
      EXPECT_EQ(Recovered(), wanted);
    } else if (verb == "conflicts") {
      EXPECT_EQ(drive_->Summary().conflicts, std::stoul(path));
    } else if (verb == "hide") {
      EXPECT_TRUE(drive_->Place(drive_->NodeAt(path)->id, Placement::kHide).ok());
    } else if (verb == "modes") {
      const auto mode = static_cast<std::uint32_t>(std::stoul(to, nullptr, 8));
      EXPECT_TRUE(Eventually([&] {
        struct stat s {};
        ::stat(At(path).c_str(), &s);
        return world_.Get(path).attributes.mode == mode && (s.st_mode & 07777) == mode;
      }));
    } else if (verb == "state") {
      EXPECT_TRUE(Eventually([&] {
        const auto node = drive_->NodeAt(path);
        return node.ok() && drive_->State(node->id)->state == to;
      }));
    } else if (verb == "problem") {
      EXPECT_EQ(face_->Summary().problems.count(path), 1u);
    } else if (verb == "asked") {
      EXPECT_EQ(Asked(path).size(), std::stoul(to)) << path;
    } else {
      FAIL() << "no step is called " << verb;
    }
  }
  static Files Wanted(const std::string& text) {
    Files files;
    for (const std::string& one : Split(text, ',')) {
      const std::string file(Trim(one));
      const std::size_t equals = file.find('=');
      if (!file.empty())
        files[file.substr(0, equals)] = equals == std::string::npos ? "" : file.substr(equals + 1);
    }
    return files;
  }
  std::string Different() {
    std::string out;
    for (const auto& [path, text] : Here()) out += "\n  here  " + path + "=" + text.substr(0, 30);
    for (const auto& [path, text] : There()) out += "\n  there " + path + "=" + text.substr(0, 30);
    if (face_) {
      const MirrorStatus status = face_->Summary();
      out += fmt::format("\n  {} folders wait, complete {}, stopped '{}'", status.waiting,
                         status.complete, status.stopped);
      for (const auto& [path, why] : status.problems) out += "\n  " + path + ": " + why;
    }
    return drive_ ? out + Waiting() : out;
  }

  Status opened_;
  std::unique_ptr<MirrorFace> face_;
};

}  // namespace pargeter::test
