// System calls on a plain folder and on a mount, side by side: the same calls must give the same
// answers. What may differ is listed in docs/posix.md, and nothing else.
#include <dirent.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <fts.h>
#include <gtest/gtest.h>
#include <linux/fs.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <sys/wait.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <regex>
#include <set>

#include "base/text.h"
#include "system/machine.h"

namespace pargeter::test {
namespace {

// What was called and what came of it.
class Transcript {
 public:
  template <typename T>
  T Note(const char* call, T result) {
    const int error = errno;
    text_ += std::string(call) + " = ";
    if (result < T{0})
      text_ += std::string("-1 ") + ::strerrorname_np(error) + "\n";
    else
      text_ += std::to_string(static_cast<long long>(result)) + "\n";
    return result;
  }
  void Say(const std::string& what, const std::string& value) {
    text_ += what + " = " + value + "\n";
  }
  void Say(const std::string& what, long long value) { Say(what, std::to_string(value)); }
  // An open that gives any descriptor is as good as another.
  int Opened(const char* call, int fd) {
    Note(call, fd < 0 ? -1 : 0);
    return fd;
  }
  const std::string& text() const { return text_; }

 private:
  std::string text_;
};
#define CALL(expr) (errno = 0, t.Note(#expr, static_cast<long long>(expr)))
#define OPEN(var, expr) \
  errno = 0;            \
  const int var = t.Opened(#expr, expr)

std::string Mode(const struct stat& s) {
  char text[16];
  std::snprintf(text, sizeof(text), "%06o", s.st_mode);
  return text;
}
std::string Stat(const std::string& path) {
  struct stat s {};
  if (::lstat(path.c_str(), &s) != 0) return ::strerrorname_np(errno);
  const bool folder = S_ISDIR(s.st_mode);
  return Mode(s) + " size " + (folder ? "-" : std::to_string(s.st_size)) + " links " +
         (folder ? "-" : std::to_string(s.st_nlink));
}
void Put(const std::string& path, const std::string& text) { WriteAll(path, text); }
std::string Names(const std::string& path) {
  std::set<std::string> names;
  DIR* dir = ::opendir(path.c_str());
  if (dir == nullptr) return ::strerrorname_np(errno);
  while (const dirent* e = ::readdir(dir)) names.insert(e->d_name);
  ::closedir(dir);
  std::string out;
  for (const std::string& name : names) out += name + " ";
  return out;
}

struct Case {
  const char* name;
  void (*play)(Transcript& t, const std::string& d);
};

const Case kCases[] = {
    {"open: flags",
     [](Transcript& t, const std::string& d) {
       const std::string f = d + "/f";
       CALL(::open((d + "/none").c_str(), O_RDONLY));
       CALL(::open((d + "/none/f").c_str(), O_CREAT | O_WRONLY, 0644));
       OPEN(a, ::open(f.c_str(), O_CREAT | O_EXCL | O_RDWR, 0640));
       CALL(::open(f.c_str(), O_CREAT | O_EXCL | O_RDWR, 0640));
       CALL(::open((f + "/g").c_str(), O_RDONLY));
       CALL(::open(f.c_str(), O_RDONLY | O_DIRECTORY));
       CALL(::open(d.c_str(), O_WRONLY));
       CALL(::open(d.c_str(), O_RDWR | O_CREAT, 0644));
       OPEN(b, ::open(d.c_str(), O_RDONLY | O_DIRECTORY));
       CALL(::write(b, "x", 1));
       char c = 0;
       CALL(::read(b, &c, 1));
       CALL(::write(a, "hello", 5));
       OPEN(r, ::open(f.c_str(), O_RDONLY));
       CALL(::write(r, "x", 1));
       OPEN(w, ::open(f.c_str(), O_WRONLY | O_TRUNC));
       CALL(::read(w, &c, 1));
       t.Say("after O_TRUNC", Stat(f));
       for (const int fd : {a, b, r, w}) ::close(fd);
     }},
    {"open: names",
     [](Transcript& t, const std::string& d) {
       OPEN(longest, ::open((d + "/" + std::string(255, 'n')).c_str(), O_CREAT | O_RDWR, 0644));
       ::close(longest);
       CALL(::open((d + "/" + std::string(256, 'n')).c_str(), O_CREAT | O_RDWR, 0644));
       for (const char* name : {"with space", "tab\there", "new\nline", "\xff\xfe", "ümläut", "{x}",
                                "a%2Fb", "back\\slash", "-dash", "trailing.", "...", "~", "*?"}) {
         Put(d + "/" + name, name);
         t.Say(Printable(name), ReadAll(d + "/" + name));
       }
       t.Say("names", Printable(Names(d)));
     }},
    {"open: O_APPEND",
     [](Transcript& t, const std::string& d) {
       const std::string f = d + "/f";
       Put(f, "one");
       OPEN(a, ::open(f.c_str(), O_WRONLY | O_APPEND));
       OPEN(b, ::open(f.c_str(), O_WRONLY | O_APPEND));
       CALL(::write(a, "two", 3));
       CALL(::write(b, "three", 5));
       CALL(::pwrite(a, "four", 4, 0));
       CALL(::lseek(a, 0, SEEK_CUR));
       ::close(a);
       ::close(b);
       t.Say("content", ReadAll(f));
     }},
    {"open: O_TMPFILE and O_PATH",
     [](Transcript& t, const std::string& d) {
       OPEN(nameless, ::open(d.c_str(), O_TMPFILE | O_RDWR, 0600));
       ::close(nameless);
       OPEN(p, ::open(d.c_str(), O_PATH));
       CALL(::mkdirat(p, "in", 0755));
       ::close(p);
     }},
    {"read and write: positions and holes",
     [](Transcript& t, const std::string& d) {
       const std::string f = d + "/f";
       OPEN(fd, ::open(f.c_str(), O_CREAT | O_RDWR, 0644));
       CALL(::pwrite(fd, "end", 3, 100000));
       CALL(::lseek(fd, 0, SEEK_END));
       std::string buffer(10, 'x');
       CALL(::pread(fd, buffer.data(), 10, 50000));
       t.Say("a hole reads as zeros", buffer == std::string(10, '\0'));
       CALL(::pread(fd, buffer.data(), 10, 99998));
       CALL(::pread(fd, buffer.data(), 10, 200000));
       CALL(::pread(fd, buffer.data(), 10, -1));
       CALL(::lseek(fd, -1, SEEK_SET));
       CALL(::lseek(fd, 5, SEEK_CUR));
       CALL(::write(fd, "abc", 3));
       CALL(::lseek(fd, 0, SEEK_CUR));
       iovec parts[2] = {{buffer.data(), 4}, {buffer.data() + 4, 4}};
       CALL(::preadv(fd, parts, 2, 5));
       CALL(::pwritev(fd, parts, 2, 10));
       CALL(::write(fd, "", 0));
       ::close(fd);
       CALL(::write(fd, "x", 1));
       t.Say("in the end", Stat(f));
     }},
    {"truncate",
     [](Transcript& t, const std::string& d) {
       const std::string f = d + "/f";
       Put(f, "0123456789");
       CALL(::truncate(f.c_str(), 4));
       t.Say("cut", ReadAll(f));
       CALL(::truncate(f.c_str(), 8));
       t.Say("grown", Printable(ReadAll(f)));
       CALL(::truncate(f.c_str(), -1));
       CALL(::truncate(d.c_str(), 0));
       CALL(::truncate((d + "/none").c_str(), 0));
       OPEN(fd, ::open(f.c_str(), O_RDONLY));
       CALL(::ftruncate(fd, 1));
       ::close(fd);
     }},
    {"fallocate",
     [](Transcript& t, const std::string& d) {
       const std::string f = d + "/f";
       OPEN(fd, ::open(f.c_str(), O_CREAT | O_RDWR, 0644));
       CALL(::fallocate(fd, 0, 0, 10000));
       t.Say("size", Stat(f));
       CALL(::fallocate(fd, FALLOC_FL_KEEP_SIZE, 0, 50000));
       t.Say("size kept", Stat(f));
       CALL(::pwrite(fd, std::string(10000, 'x').data(), 10000, 0));
       CALL(::fallocate(fd, FALLOC_FL_PUNCH_HOLE | FALLOC_FL_KEEP_SIZE, 4096, 4096));
       const std::string now = ReadAll(f);
       t.Say("hole", now[4095] == 'x' && now[4096] == 0 && now[8191] == 0 && now[8192] == 'x');
       CALL(::fallocate(fd, 0, 0, 0));
       CALL(::fallocate(fd, 0, -1, 10));
       ::close(fd);
     }},
    {"mkdir and rmdir",
     [](Transcript& t, const std::string& d) {
       CALL(::mkdir((d + "/a").c_str(), 0750));
       t.Say("a", Stat(d + "/a"));
       CALL(::mkdir((d + "/a").c_str(), 0750));
       CALL(::mkdir((d + "/none/b").c_str(), 0750));
       Put(d + "/a/f", "x");
       CALL(::mkdir((d + "/a/f/g").c_str(), 0750));
       CALL(::rmdir((d + "/a").c_str()));
       CALL(::rmdir((d + "/a/f").c_str()));
       CALL(::unlink((d + "/a").c_str()));
       CALL(::unlink((d + "/a/f").c_str()));
       CALL(::rmdir((d + "/a/.").c_str()));
       CALL(::rmdir((d + "/a/").c_str()));
       CALL(::rmdir((d + "/a").c_str()));
       CALL(::mkdir((d + "/slash/").c_str(), 0755));
       t.Say("names", Names(d));
     }},
    {"a removed working folder",
     [](Transcript& t, const std::string& d) {
       CALL(::mkdir((d + "/a").c_str(), 0755));
       OPEN(fd, ::open((d + "/a").c_str(), O_RDONLY | O_DIRECTORY));
       CALL(::rmdir((d + "/a").c_str()));
       CALL(::openat(fd, "f", O_CREAT | O_RDWR, 0644));
       CALL(::mkdirat(fd, "g", 0755));
       ::close(fd);
     }},
    {"unlink",
     [](Transcript& t, const std::string& d) {
       const std::string f = d + "/f";
       CALL(::unlink(f.c_str()));
       Put(f, "still readable");
       OPEN(fd, ::open(f.c_str(), O_RDWR));
       CALL(::unlink(f.c_str()));
       t.Say("gone", Stat(f));
       char buffer[20] = {};
       CALL(::read(fd, buffer, 20));
       CALL(::write(fd, "more", 4));
       struct stat s {};
       CALL(::fstat(fd, &s));
       t.Say("links", static_cast<long long>(s.st_nlink));
       Put(f, "another");
       CALL(::pread(fd, buffer, 5, 0));
       t.Say("the old one", std::string(buffer, 5));
       ::close(fd);
       t.Say("the new one", ReadAll(f));
     }},
    // of a folder's links it is taken how many folders are in it
    {"a walk that asks for as little as it can",
     [](Transcript& t, const std::string& d) {
       for (const char* name : {"/a", "/a/b", "/a/b/c", "/e"})
         CALL(::mkdir((d + name).c_str(), 0755));
       for (const char* name : {"/a/f", "/a/b/f", "/a/b/c/f"}) Put(d + name, "f");
       std::string top = d;
       char* const paths[] = {top.data(), nullptr};
       FTS* walk = ::fts_open(paths, FTS_PHYSICAL | FTS_NOSTAT | FTS_NOCHDIR, nullptr);
       std::set<std::string> seen;
       while (const FTSENT* one = ::fts_read(walk))
         if (one->fts_info != FTS_DP)
           seen.insert(std::string(one->fts_path).substr(d.size()) +
                       (one->fts_info == FTS_D ? " folder" : ""));
       ::fts_close(walk);
       for (const std::string& one : seen) t.Say("seen", one);
     }},
    {"a folder that passes its group on",
     [](Transcript& t, const std::string& d) {
       const std::string g = d + "/g";
       CALL(::mkdir(g.c_str(), 0755));
       CALL(::chown(g.c_str(), static_cast<uid_t>(-1), 4711));
       CALL(::chmod(g.c_str(), 02775));
       CALL(::mkdir((g + "/sub").c_str(), 0755));
       CALL(::mkdir((g + "/sub/sub").c_str(), 0700));
       Put(g + "/sub/file", "text");
       CALL(::symlink("file", (g + "/sub/link").c_str()));
       for (const char* name : {"/sub", "/sub/sub", "/sub/file", "/sub/link"}) {
         struct stat s {};
         CALL(::lstat((g + name).c_str(), &s));
         t.Say(name, fmt::format("{:o} of {}", s.st_mode, s.st_gid == 4711 ? "4711" : "others"));
       }
     }},
    {"rename: files",
     [](Transcript& t, const std::string& d) {
       const std::string a = d + "/a", b = d + "/b";
       CALL(::rename(a.c_str(), b.c_str()));
       Put(a, "A");
       CALL(::rename(a.c_str(), a.c_str()));
       CALL(::rename(a.c_str(), b.c_str()));
       Put(a, "A2");
       CALL(::rename(a.c_str(), b.c_str()));
       t.Say("b", ReadAll(b));
       CALL(::rename(b.c_str(), (d + "/none/b").c_str()));
       CALL(::mkdir((d + "/dir").c_str(), 0755));
       CALL(::rename(b.c_str(), (d + "/dir").c_str()));
       CALL(::rename((d + "/dir").c_str(), b.c_str()));
       CALL(::rename(b.c_str(), (d + "/dir/b").c_str()));
       CALL(::rename((d + "/dir/b/").c_str(), b.c_str()));
       t.Say("names", Names(d) + Names(d + "/dir"));
     }},
    {"rename: folders",
     [](Transcript& t, const std::string& d) {
       for (const char* name : {"/a", "/a/in", "/b", "/c"}) CALL(::mkdir((d + name).c_str(), 0755));
       Put(d + "/b/f", "x");
       CALL(::rename((d + "/a").c_str(), (d + "/a/in/deeper").c_str()));
       CALL(::rename((d + "/a").c_str(), (d + "/b").c_str()));
       CALL(::rename((d + "/a").c_str(), (d + "/c").c_str()));
       CALL(::rename((d + "/b").c_str(), (d + "/c/b").c_str()));
       t.Say("content", ReadAll(d + "/c/b/f"));
       CALL(::rename((d + "/c").c_str(), d.c_str()));
       t.Say("names", Names(d) + Names(d + "/c"));
     }},
    {"rename: flags",
     [](Transcript& t, const std::string& d) {
       Put(d + "/a", "A");
       Put(d + "/b", "B");
       CALL(::renameat2(AT_FDCWD, (d + "/a").c_str(), AT_FDCWD, (d + "/b").c_str(),
                        RENAME_NOREPLACE));
       CALL(::renameat2(AT_FDCWD, (d + "/a").c_str(), AT_FDCWD, (d + "/c").c_str(),
                        RENAME_NOREPLACE));
       CALL(::renameat2(AT_FDCWD, (d + "/c").c_str(), AT_FDCWD, (d + "/b").c_str(),
                        RENAME_EXCHANGE));
       t.Say("b", ReadAll(d + "/b"));
       CALL(::renameat2(AT_FDCWD, (d + "/c").c_str(), AT_FDCWD, (d + "/b").c_str(), 64));
     }},
    {"rename over an open file",
     [](Transcript& t, const std::string& d) {
       Put(d + "/a", "new");
       Put(d + "/b", "old");
       OPEN(fd, ::open((d + "/b").c_str(), O_RDONLY));
       CALL(::rename((d + "/a").c_str(), (d + "/b").c_str()));
       char buffer[4] = {};
       CALL(::read(fd, buffer, 3));
       t.Say("whoever has it open", buffer);
       ::close(fd);
       t.Say("the name", ReadAll(d + "/b"));
     }},
    {"symlink",
     [](Transcript& t, const std::string& d) {
       const std::string l = d + "/l";
       CALL(::symlink("target", l.c_str()));
       CALL(::symlink("other", l.c_str()));
       t.Say("l", Stat(l));
       char buffer[100] = {};
       CALL(::readlink(l.c_str(), buffer, 100));
       CALL(::readlink(l.c_str(), buffer, 3));
       CALL(::open(l.c_str(), O_RDONLY));
       Put(d + "/target", "found");
       t.Say("through it", ReadAll(l));
       CALL(::readlink((d + "/target").c_str(), buffer, 100));
       CALL(::open(l.c_str(), O_RDONLY | O_NOFOLLOW));
       CALL(::symlink("loop", (d + "/loop").c_str()));
       CALL(::open((d + "/loop").c_str(), O_RDONLY));
       CALL(::symlink("", (d + "/empty").c_str()));
       CALL(::unlink(l.c_str()));
       t.Say("target", Stat(d + "/target"));
     }},
    {"hard links",
     [](Transcript& t, const std::string& d) {
       Put(d + "/a", "A");
       CALL(::link((d + "/a").c_str(), (d + "/b").c_str()));
     }},
    {"special files",
     [](Transcript& t, const std::string& d) {
       CALL(::mkfifo((d + "/fifo").c_str(), 0644));
       CALL(::mknod((d + "/plain").c_str(), S_IFREG | 0644, 0));
       CALL(::mknod((d + "/device").c_str(), S_IFCHR | 0644, 0x103));
     }},
    {"chmod",
     [](Transcript& t, const std::string& d) {
       Put(d + "/f", "x");
       for (const mode_t mode : {0600, 0755, 0000, 0444, 04755, 02755, 01777}) {
         CALL(::chmod((d + "/f").c_str(), mode));
         t.Say("f", Stat(d + "/f"));
       }
       CALL(::chmod((d + "/none").c_str(), 0600));
       CALL(::mkdir((d + "/dir").c_str(), 0700));
       CALL(::chmod((d + "/dir").c_str(), 01777));
       t.Say("dir", Stat(d + "/dir"));
     }},
    {"umask",
     [](Transcript& t, const std::string& d) {
       const mode_t old = ::umask(027);
       Put(d + "/f", "x");
       OPEN(fd, ::open((d + "/g").c_str(), O_CREAT | O_WRONLY, 0666));
       ::close(fd);
       CALL(::mkdir((d + "/dir").c_str(), 0777));
       ::umask(old);
       t.Say("modes", Stat(d + "/g") + " " + Stat(d + "/dir"));
     }},
    {"chown",
     [](Transcript& t, const std::string& d) {
       Put(d + "/f", "x");
       CALL(::chown((d + "/f").c_str(), 12, 34));
       struct stat s {};
       CALL(::stat((d + "/f").c_str(), &s));
       t.Say("owner", std::to_string(s.st_uid) + ":" + std::to_string(s.st_gid));
       CALL(::chown((d + "/f").c_str(), -1, 56));
       CALL(::stat((d + "/f").c_str(), &s));
       t.Say("owner", std::to_string(s.st_uid) + ":" + std::to_string(s.st_gid));
     }},
    {"times",
     [](Transcript& t, const std::string& d) {
       const std::string f = d + "/f";
       Put(f, "x");
       const timespec times[2] = {{1000, 5}, {1234567890, 123456789}};
       CALL(::utimensat(AT_FDCWD, f.c_str(), times, 0));
       struct stat s {};
       CALL(::stat(f.c_str(), &s));
       t.Say("mtime", std::to_string(s.st_mtim.tv_sec) + "." + std::to_string(s.st_mtim.tv_nsec));
       const timespec omit[2] = {{0, UTIME_OMIT}, {0, UTIME_OMIT}};
       CALL(::utimensat(AT_FDCWD, f.c_str(), omit, 0));
       CALL(::stat(f.c_str(), &s));
       t.Say("unchanged", static_cast<long long>(s.st_mtim.tv_sec));
       const timespec before[2] = {{-5, 0}, {-5, 0}};
       CALL(::utimensat(AT_FDCWD, f.c_str(), before, 0));
       CALL(::stat(f.c_str(), &s));
       t.Say("before 1970", static_cast<long long>(s.st_mtim.tv_sec));
       CALL(::utimensat(AT_FDCWD, f.c_str(), nullptr, 0));
       CALL(::stat(f.c_str(), &s));
       t.Say("now", s.st_mtim.tv_sec > 1'700'000'000);
       const timespec past[2] = {{1000, 0}, {1000, 0}};
       CALL(::utimensat(AT_FDCWD, f.c_str(), past, 0));
       OPEN(fd, ::open(f.c_str(), O_WRONLY | O_APPEND));
       CALL(::write(fd, "y", 1));
       ::close(fd);
       CALL(::stat(f.c_str(), &s));
       t.Say("a write sets it", s.st_mtim.tv_sec > 1'700'000'000);
     }},
    {"times of access",
     [](Transcript& t, const std::string& d) {
       Put(d + "/f", "x");
       const timespec times[2] = {{1000, 5}, {2000, 0}};
       CALL(::utimensat(AT_FDCWD, (d + "/f").c_str(), times, 0));
       struct stat s {};
       CALL(::stat((d + "/f").c_str(), &s));
       t.Say("atime", static_cast<long long>(s.st_atim.tv_sec));
     }},
    {"times of access alone",
     [](Transcript& t, const std::string& d) {
       Put(d + "/f", "x");
       const timespec times[2] = {{1000, 5}, {0, UTIME_OMIT}};
       CALL(::utimensat(AT_FDCWD, (d + "/f").c_str(), times, 0));
       struct stat s {};
       CALL(::stat((d + "/f").c_str(), &s));
       t.Say("atime", static_cast<long long>(s.st_atim.tv_sec));
     }},
    {"a folder that is removed while a program stands in it",
     [](Transcript& t, const std::string& d) {
       CALL(::mkdir((d + "/a").c_str(), 0755));
       OPEN(fd, ::open((d + "/a").c_str(), O_RDONLY | O_DIRECTORY));
       CALL(::rmdir((d + "/a").c_str()));
       OPEN(again, ::openat(fd, ".", O_RDONLY | O_DIRECTORY));
       std::vector<char> buffer(4096);
       const long n = ::syscall(SYS_getdents64, again, buffer.data(), buffer.size());
       t.Say("it can be listed", n >= 0);
       CALL(::openat(fd, "f", O_CREAT | O_WRONLY, 0644));
       ::close(again);
       ::close(fd);
     }},
    {"a long symbolic link",
     [](Transcript& t, const std::string& d) {
       const std::string target(4095, 't');
       CALL(::symlink(target.c_str(), (d + "/l").c_str()));
       std::vector<char> buffer(5000);
       const ssize_t n = ::readlink((d + "/l").c_str(), buffer.data(), buffer.size());
       t.Say("length", static_cast<long long>(n));
       CALL(::symlink((target + "t").c_str(), (d + "/m").c_str()));
     }},
    {"a size beyond what can be held",
     [](Transcript& t, const std::string& d) {
       Put(d + "/f", "x");
       CALL(::truncate((d + "/f").c_str(), (1ll << 62) + 5));
       struct stat s {};
       CALL(::stat((d + "/f").c_str(), &s));
       t.Say("size", static_cast<long long>(s.st_size));
     }},
    {"times of folders",
     [](Transcript& t, const std::string& d) {
       const timespec past[2] = {{1000, 0}, {1000, 0}};
       CALL(::mkdir((d + "/a").c_str(), 0755));
       struct stat s {};
       for (const char* what : {"create", "rename", "unlink"}) {
         CALL(::utimensat(AT_FDCWD, (d + "/a").c_str(), past, 0));
         if (*what == 'c') Put(d + "/a/f", "x");
         if (*what == 'r') CALL(::rename((d + "/a/f").c_str(), (d + "/a/g").c_str()));
         if (*what == 'u') CALL(::unlink((d + "/a/g").c_str()));
         CALL(::stat((d + "/a").c_str(), &s));
         t.Say(what, s.st_mtim.tv_sec > 1'700'000'000);
       }
     }},
    {"readdir while the folder changes",
     [](Transcript& t, const std::string& d) {
       for (int i = 0; i < 500; ++i) Put(d + "/f" + std::to_string(i), "");
       DIR* dir = ::opendir(d.c_str());
       std::multiset<std::string> seen;
       for (int i = 0; i < 100; ++i) seen.insert(::readdir(dir)->d_name);
       Put(d + "/added", "");
       for (int i = 0; i < 500; ++i)
         if (seen.count("f" + std::to_string(i)) > 0)
           ::unlink((d + "/f" + std::to_string(i)).c_str());
       while (const dirent* e = ::readdir(dir)) seen.insert(e->d_name);
       int twice = 0, missing = 0;
       for (int i = 0; i < 500; ++i) {
         twice += seen.count("f" + std::to_string(i)) > 1;
         missing += seen.count("f" + std::to_string(i)) == 0;
       }
       t.Say("seen twice", twice);
       t.Say("never seen", missing);
       ::rewinddir(dir);
       int left = 0;
       while (::readdir(dir) != nullptr) ++left;
       t.Say("left after rewinding is less", left < 500);
       ::closedir(dir);
     }},
    {"telldir and seekdir",
     [](Transcript& t, const std::string& d) {
       for (int i = 0; i < 50; ++i) Put(d + "/f" + std::to_string(i), "");
       DIR* dir = ::opendir(d.c_str());
       for (int i = 0; i < 20; ++i) ::readdir(dir);
       const long at = ::telldir(dir);
       const std::string next = ::readdir(dir)->d_name;
       for (int i = 0; i < 10; ++i) ::readdir(dir);
       ::seekdir(dir, at);
       t.Say("the same again", next == ::readdir(dir)->d_name);
       ::closedir(dir);
     }},
    {"mmap",
     [](Transcript& t, const std::string& d) {
       const std::string f = d + "/f";
       Put(f, std::string(10000, 'm'));
       OPEN(fd, ::open(f.c_str(), O_RDWR));
       char* map =
           static_cast<char*>(::mmap(nullptr, 10000, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0));
       t.Say("mapped", map != MAP_FAILED);
       if (map == MAP_FAILED) return;
       t.Say("read", map[9999] == 'm');
       std::memcpy(map + 5000, "MAPPED", 6);
       CALL(::msync(map, 10000, MS_SYNC));
       char buffer[6];
       CALL(::pread(fd, buffer, 6, 5000));
       t.Say("read back", std::string(buffer, 6));
       CALL(::munmap(map, 10000));
       ::close(fd);
       t.Say("read anew", ReadAll(f).substr(4999, 8));
       OPEN(again, ::open(f.c_str(), O_RDONLY));
       void* own = ::mmap(nullptr, 10000, PROT_READ, MAP_PRIVATE, again, 0);
       ::close(again);
       t.Say("stays after close", own != MAP_FAILED && static_cast<char*>(own)[5000] == 'M');
       if (own != MAP_FAILED) ::munmap(own, 10000);
     }},
    {"locks",
     [](Transcript& t, const std::string& d) {
       Put(d + "/f", "x");
       OPEN(a, ::open((d + "/f").c_str(), O_RDWR));
       OPEN(b, ::open((d + "/f").c_str(), O_RDWR));
       CALL(::flock(a, LOCK_EX | LOCK_NB));
       CALL(::flock(b, LOCK_EX | LOCK_NB));
       CALL(::flock(a, LOCK_UN));
       CALL(::flock(b, LOCK_SH | LOCK_NB));
       CALL(::flock(b, LOCK_UN));
       struct flock lock {};
       lock.l_type = F_WRLCK;
       lock.l_len = 10;
       CALL(::fcntl(a, F_SETLK, &lock));
       const pid_t child = ::fork();
       if (child == 0) {
         struct flock mine = lock;
         ::_exit(::fcntl(b, F_SETLK, &mine) == 0 ? 0 : errno);
       }
       int status = 0;
       ::waitpid(child, &status, 0);
       t.Say("another process", ::strerrorname_np(WEXITSTATUS(status)));
       ::close(a);
       ::close(b);
     }},
    {"extended attributes",
     [](Transcript& t, const std::string& d) {
       Put(d + "/f", "x");
       CALL(::listxattr((d + "/f").c_str(), nullptr, 0));
       CALL(::setxattr((d + "/f").c_str(), "user.note", "hello", 5, 0));
       char buffer[20];
       CALL(::getxattr((d + "/f").c_str(), "user.note", buffer, 20));
       CALL(::getxattr((d + "/f").c_str(), "user.none", buffer, 20));
       CALL(::removexattr((d + "/f").c_str(), "user.note"));
       CALL(::setxattr((d + "/none").c_str(), "user.note", "hello", 5, 0));
     }},
    {"sync",
     [](Transcript& t, const std::string& d) {
       OPEN(fd, ::open((d + "/f").c_str(), O_CREAT | O_RDWR, 0644));
       CALL(::write(fd, "x", 1));
       CALL(::fsync(fd));
       CALL(::fdatasync(fd));
       CALL(::sync_file_range(fd, 0, 0, SYNC_FILE_RANGE_WRITE));
       OPEN(dir, ::open(d.c_str(), O_RDONLY));
       CALL(::fsync(dir));
       CALL(::syncfs(fd));
       ::close(fd);
       ::close(dir);
     }},
    {"SEEK_DATA and SEEK_HOLE",
     [](Transcript& t, const std::string& d) {
       OPEN(fd, ::open((d + "/f").c_str(), O_CREAT | O_RDWR, 0644));
       CALL(::pwrite(fd, std::string(4096, 'x').data(), 4096, 1 << 20));
       CALL(::lseek(fd, 0, SEEK_DATA));
       CALL(::lseek(fd, 0, SEEK_HOLE));
       CALL(::lseek(fd, 1 << 20, SEEK_HOLE));
       CALL(::lseek(fd, 2 << 20, SEEK_DATA));
       ::close(fd);
     }},
    {"copy_file_range and sendfile",
     [](Transcript& t, const std::string& d) {
       Put(d + "/a", std::string(50000, 'a') + "end");
       OPEN(in, ::open((d + "/a").c_str(), O_RDONLY));
       OPEN(out, ::open((d + "/b").c_str(), O_CREAT | O_RDWR, 0644));
       off_t at = 10;
       CALL(::copy_file_range(in, &at, out, nullptr, 49990, 0));
       t.Say("position", at);
       CALL(::copy_file_range(in, nullptr, out, nullptr, 0, 0));
       CALL(::lseek(in, 50000, SEEK_SET));
       CALL(::copy_file_range(in, nullptr, out, nullptr, 100, 0));
       ::close(in);
       ::close(out);
       const std::string b = ReadAll(d + "/b");
       t.Say("copied", std::to_string(b.size()) + b.substr(b.size() - 4));
     }},
    {"access",
     [](Transcript& t, const std::string& d) {
       Put(d + "/f", "x");
       CALL(::chmod((d + "/f").c_str(), 0644));
       CALL(::access((d + "/f").c_str(), X_OK));
       CALL(::access((d + "/f").c_str(), R_OK | W_OK));
       CALL(::access((d + "/none").c_str(), F_OK));
       CALL(::access((d + "/f/g").c_str(), F_OK));
     }},
    {"many open files of one name",
     [](Transcript& t, const std::string& d) {
       Put(d + "/f", "0");
       std::vector<int> fds;
       for (int i = 0; i < 200; ++i) fds.push_back(::open((d + "/f").c_str(), O_RDWR));
       t.Say("all open", *std::min_element(fds.begin(), fds.end()) >= 0);
       for (std::size_t i = 0; i < fds.size(); ++i) ::pwrite(fds[i], "x", 1, static_cast<off_t>(i));
       for (const int fd : fds) ::close(fd);
       t.Say("content", ReadAll(d + "/f") == std::string(200, 'x'));
     }},
    {"deep folders and long paths",
     [](Transcript& t, const std::string& d) {
       std::string path = d;
       for (int i = 0; i < 20; ++i) {
         path += "/" + std::string(40, static_cast<char>('a' + i));
         if (::mkdir(path.c_str(), 0755) != 0) t.Say("mkdir", i);
       }
       Put(path + "/f", "deep");
       t.Say("deep", ReadAll(path + "/f"));
       CALL(::rename((d + "/" + std::string(40, 'a')).c_str(), (d + "/top").c_str()));
       t.Say("moved", Stat(d + "/top/" + std::string(40, 'b')));
     }},
    {"sharing between descriptors",
     [](Transcript& t, const std::string& d) {
       OPEN(w, ::open((d + "/f").c_str(), O_CREAT | O_WRONLY, 0644));
       OPEN(r, ::open((d + "/f").c_str(), O_RDONLY));
       char buffer[8] = {};
       CALL(::read(r, buffer, 8));
       CALL(::write(w, "seen", 4));
       CALL(::read(r, buffer, 8));
       t.Say("at once", buffer);
       CALL(::ftruncate(w, 2));
       CALL(::pread(r, buffer, 8, 0));
       struct stat s {};
       CALL(::fstat(r, &s));
       t.Say("size", s.st_size);
       const int copy = ::dup(w);
       CALL(::write(copy, "!", 1));
       CALL(::lseek(w, 0, SEEK_CUR));
       for (const int fd : {w, r, copy}) ::close(fd);
     }},
    {"a file opened without rights",
     [](Transcript& t, const std::string& d) {
       OPEN(fd, ::open((d + "/f").c_str(), O_CREAT | O_RDWR, 0000));
       CALL(::write(fd, "x", 1));
       char c = 0;
       CALL(::pread(fd, &c, 1, 0));
       CALL(::fchmod(fd, 0400));
       CALL(::write(fd, "y", 1));
       ::close(fd);
       t.Say("f", Stat(d + "/f"));
     }},
    {"statvfs",
     [](Transcript& t, const std::string& d) {
       struct statvfs s {};
       CALL(::statvfs(d.c_str(), &s));
       t.Say("longest name", static_cast<long long>(s.f_namemax));
       t.Say("has room", s.f_bavail > 0 && s.f_blocks >= s.f_bavail);
     }},
    {"descriptors that are no files",
     [](Transcript& t, const std::string& d) {
       OPEN(fd, ::open((d + "/f").c_str(), O_CREAT | O_RDWR, 0644));
       CALL(::ioctl(fd, 0x5401));
       CALL(::fcntl(fd, F_SETFL, O_NONBLOCK | O_APPEND));
       CALL(::write(fd, "a", 1));
       CALL(::pwrite(fd, "b", 1, 0));
       ::close(fd);
       t.Say("content", ReadAll(d + "/f"));
     }},
};

// A line of a transcript as a person writes it: calls without the C++ around their arguments.
std::string AsWritten(std::string line) {
  static const std::pair<std::regex, const char*> rules[] = {
      {std::regex(R"x(\(d \+ "/([^"]*)"\)\.c_str\(\))x"), "$1"},
      {std::regex(R"(^::)"), ""},
      {std::regex(R"(AT_FDCWD, )"), ""},
      {std::regex(R"(d\.c_str\(\))"), "."},
      {std::regex(R"( = -1 )"), " = "}};
  for (const auto& [pattern, with] : rules) line = std::regex_replace(line, pattern, with);
  return line;
}

// Rows "| `case` | `on the mount` | why |" of docs/posix.md: which line of which case may differ.
std::set<std::string> Allowed() {
  std::set<std::string> out;
  for (std::string line : Split(ReadAll(PARGETER_DOCS "/posix.md"), '\n')) {
    for (std::size_t at; (at = line.find("\\|")) != std::string::npos;) line.replace(at, 2, "\1");
    auto cells = Split(line, '|');
    for (std::string& cell : cells) std::replace(cell.begin(), cell.end(), '\1', '|');
    if (cells.size() < 5) continue;
    const auto plain = [](std::string_view cell) {
      std::string text(Trim(cell));
      text.erase(std::remove(text.begin(), text.end(), '`'), text.end());
      return text;
    };
    out.insert(plain(cells[1]) + ": " + plain(cells[2]));
  }
  return out;
}

TEST(PosixTest, AMountAnswersAsAPlainFolderDoes) {
  if (!FuseWorks()) GTEST_SKIP() << "no access to /dev/fuse";
  Machine machine(StartStandin());
  machine.AddDrive("herbarium/sheets");
  machine.Mount();
  const TemporaryFolder plain;
  std::set<std::string> allowed = Allowed(), used;
  int number = 0;
  for (const Case& each : kCases) {
    const std::string folder = "case" + std::to_string(++number);
    std::string texts[2];
    int which = 0;
    for (const std::string& top : {plain.path(), machine.At()}) {
      const std::string d = top + "/" + folder;
      ASSERT_EQ(::mkdir(d.c_str(), 0755), 0) << d;
      Transcript t;
      const auto start = std::chrono::steady_clock::now();
      each.play(t, d);
      // nothing here asks for work that takes long
      const auto took = std::chrono::steady_clock::now() - start;
      EXPECT_LT(took, std::chrono::seconds(10)) << each.name << " in " << d;
      texts[which++] = t.text();
    }
    const auto wanted = Split(texts[0], '\n'), got = Split(texts[1], '\n');
    ASSERT_EQ(wanted.size(), got.size()) << each.name;
    for (std::size_t i = 0; i < wanted.size(); ++i) {
      if (wanted[i] == got[i]) continue;
      const std::string difference = std::string(each.name) + ": " + AsWritten(got[i]);
      if (allowed.count(difference) > 0) {
        used.insert(difference);
        continue;
      }
      ADD_FAILURE() << each.name << "\n  a plain folder: " << wanted[i]
                    << "\n  the mount:      " << got[i];
    }
  }
  for (const std::string& row : allowed) {
    if (row.find(" = ") == std::string::npos) continue;  // a heading
    EXPECT_EQ(used.count(row), 1u) << "docs/posix.md lists what does not differ: " << row;
  }
}

}  // namespace
}  // namespace pargeter::test
