#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <cstdlib>
#include <filesystem>

#include "base/file.h"
#include "base/random.h"
#include "base/text.h"
#include "base/units.h"
#include "command_line/command.h"
#include "provider/s3/s3_provider.h"
#include "provider/text_source.h"
#include "sample.h"
#include "world.h"

namespace pargeter::app {
namespace {

struct Options {
  std::string dir;
  std::uint64_t seed = 1931;
  bool keep = false;
};

std::atomic<bool> g_interrupted{false};  // set by the signal handler, which can reach nothing else

pid_t Start(const std::vector<std::string>& words, int out) {
  const pid_t pid = ::fork();
  if (pid != 0) return pid;
  ::prctl(PR_SET_PDEATHSIG, SIGTERM);
  if (out >= 0) ::dup2(out, 1);
  std::vector<char*> argv;
  for (const std::string& word : words) argv.push_back(const_cast<char*>(word.c_str()));
  argv.push_back(nullptr);
  ::execvp(argv[0], argv.data());
  ::_exit(127);
}

int WaitFor(pid_t pid) {
  int status = 0;
  while (::waitpid(pid, &status, 0) < 0 && errno == EINTR) {
  }
  return WIFEXITED(status) ? WEXITSTATUS(status) : 128;
}

// The whole tour, in a folder of its own that it takes away again.
class Tour {
 public:
  Tour(const Options& options, const World& world) : options_(options), world_(world) {}
  ~Tour() { Leave(); }

  Status Run() {
    dir_ = options_.dir.empty() ? "/tmp/pargeter-demo-" + RandomName(3) : options_.dir;
    std::error_code ec;
    if (std::filesystem::exists(dir_, ec) && !std::filesystem::is_empty(dir_, ec)) {
      return Error(Code::kNotEmpty, fmt::format("{} has files in it", Printable(dir_)),
                   "Give an empty or new folder with --dir.");
    }
    PG_TRY(MakeFolders(dir_));
    made_ = true;
    for (const char* sub : {"config", "state", "run", "store", "office"})
      PG_TRY(MakeFolders(dir_ + "/" + sub));
    ::setenv("XDG_CONFIG_HOME", (dir_ + "/config").c_str(), 1);
    ::setenv("XDG_STATE_HOME", (dir_ + "/state").c_str(), 1);
    ::setenv("XDG_RUNTIME_DIR", (dir_ + "/run").c_str(), 1);
    PG_TRY(StartStores());
    PG_TRY(Walk());
    Aloud("That was the tour. Its files were in " + dir_ +
          (options_.keep ? ", and stay there." : ", which goes now."));
    return {};
  }

 private:
  void Aloud(const std::string& words) const { world_.Say("\n# " + words); }

  // Shows a command and runs it. `pargeter` means this very program.
  Status Do(const std::string& line) {
    if (g_interrupted) return Error(Code::kCancelled, "the tour was interrupted");
    world_.Say("\n$ " + line);
    std::fflush(stdout);
    const std::string shell =
        "pargeter() { \"$PARGETER\" \"$@\"; }; cd \"$PARGETER_DIR\" && " + line;
    ::setenv("PARGETER", world_.program.c_str(), 1);
    ::setenv("PARGETER_DIR", dir_.c_str(), 1);
    const int code = WaitFor(Start({"/bin/sh", "-c", shell}, -1));
    if (code == 0) return {};
    return Error(g_interrupted ? Code::kCancelled : Code::kInternal,
                 fmt::format("\"{}\" ended with {}", line, code));
  }

  Status StartStores() {
    PG_TRY(WriteFileAtomically(dir_ + "/key.txt", RandomName(16) + "\n", 0600));
    const std::string program = world_.program + "-standin";
    if (::access(program.c_str(), X_OK) != 0) {
      return Error(Code::kNotFound,
                   "the simulated stores' program is not beside this one: " + program,
                   "Install pargeter-standin, or build it with: ./check --build-only");
    }
    Aloud("A simulated object store and a simulated cloud drive, on this machine only:");
    PG_ASSIGN(endpoint_, StartStore({"objects", "--data", "store", "--key-id", "fieldkey",
                                     "--bucket", "herbarium"}));
    PG_ASSIGN(url_, StartStore({"drive", "--data", "office", "--user", "curator"}));
    return FillStore();
  }

  // Shows the command and starts it; the address that it serves.
  Result<std::string> StartStore(std::vector<std::string> words) {
    words.insert(words.begin() + 1, {"--listen", "127.0.0.1:0", "--secret-file", "key.txt"});
    world_.Say(fmt::format("\n$ pargeter-standin {} &", fmt::join(words, " ")));
    for (std::string& word : words)
      if (word == "key.txt" || word == "store" || word == "office") word.insert(0, dir_ + "/");
    words.insert(words.begin(), world_.program + "-standin");
    int ends[2];
    if (::pipe2(ends, O_CLOEXEC) != 0) return FromErrno(errno, "cannot make a pipe");
    stores_.push_back(Start(words, ends[1]));
    ::close(ends[1]);
    std::string line;
    char c = 0;
    pollfd fd{ends[0], POLLIN, 0};
    while (::poll(&fd, 1, 20000) > 0 && ::read(ends[0], &c, 1) == 1 && c != '\n') line += c;
    ::close(ends[0]);
    const std::string said = "listening on ";
    if (line.compare(0, said.size(), said) != 0)
      return Error(Code::kUnavailable, "the simulated store did not start");
    world_.Say(line);
    return line.substr(said.size());
  }

  // As another client would have: past any mount.
  Status FillStore() {
    s3::S3Options options;
    PG_ASSIGN(options.wire.endpoint, ParseEndpoint(endpoint_));
    PG_ASSIGN(const std::string secret, ReadFile(dir_ + "/key.txt"));
    options.wire.credentials = {"fieldkey", std::string(Trim(secret)), "us-east-1"};
    options.bucket = "herbarium";
    s3::S3Provider store(options);
    int files = 0;
    std::uint64_t bytes = 0;
    const auto put = [&](const std::string& path, const std::string& content) -> Status {
      TextSource source(content);
      PG_TRY(store.Write(path, &source, {}, Precondition::Anything(), nullptr));
      ++files;
      bytes += content.size();
      return {};
    };
    PG_TRY(MakeSample(options_.seed, SampleSize(), put));
    Aloud(fmt::format("The island museum has put its herbarium there: {} files, {}.", files,
                      FormatSize(bytes)));
    return {};
  }

  Status Walk() {
    Aloud("A way into the store, and the proof that it works:");
    PG_TRY(
        Do(fmt::format("pargeter account add museum --kind s3 --endpoint {} --key-id fieldkey "
                       "--secret-file key.txt",
                       endpoint_)));
    PG_TRY(Do("pargeter account test museum --folder herbarium"));
    PG_TRY(Do("pargeter account browse museum herbarium"));
    Aloud("One folder of it, to appear here as an ordinary folder:");
    PG_TRY(
        Do("pargeter drive add sheets --account museum --folder herbarium --at ./herbarium "
           "--cache-limit 2GiB"));
    PG_TRY(Do("pargeter mount sheets --detach"));
    mounted_ = true;
    Aloud("Every name is there at once; bytes come when they are read:");
    PG_TRY(Do("ls herbarium herbarium/sheets"));
    PG_TRY(Do("head -4 herbarium/lists/determinations-03.csv"));
    PG_TRY(Do("pargeter ls herbarium/lists | head -8"));
    Aloud("Working in it. What is new goes up in the background:");
    PG_TRY(Do("mkdir herbarium/inbox && cp -a herbarium/loans/Westhaven/. herbarium/inbox/"));
    PG_TRY(Do("echo 'Seen again on the old pier' >> herbarium/inbox/field-note.txt"));
    PG_TRY(
        Do("mv herbarium/inbox/field-note.txt herbarium/inbox/pier.txt && rm "
           "herbarium/lists/determinations-12.csv"));
    PG_TRY(Do("pargeter queue"));
    PG_TRY(Do("pargeter flush"));
    PG_TRY(Do("pargeter status"));
    Aloud("And the store has it, as any other client sees:");
    PG_TRY(Do("pargeter account browse museum herbarium/inbox"));
    PG_TRY(Do("pargeter ls herbarium"));
    Aloud("Space can be given back; names stay:");
    PG_TRY(Do("pargeter evict herbarium/lists && pargeter ls herbarium/lists | head -4"));
    PG_TRY(WalkOffice());
    PG_TRY(WalkBoth());
    for (const char* drive : {"all", "office", "sheets"})
      PG_TRY(Do(std::string("pargeter unmount ") + drive));
    mounted_ = false;
    return {};
  }

  Status WalkOffice() {
    Aloud("The museum's office keeps its papers on a cloud drive, with folders of its own:");
    PG_TRY(
        Do(fmt::format("pargeter account add staff --kind webdav --url {} --user curator "
                       "--secret-file key.txt",
                       url_)));
    PG_TRY(Do("pargeter account test staff"));
    PG_TRY(Do("pargeter drive add office --account staff --at ./papers"));
    PG_TRY(Do("pargeter mount office --detach"));
    PG_TRY(Do("mkdir papers/loans && cp -a herbarium/loans/Westhaven papers/loans/"));
    PG_TRY(Do("pargeter flush office && mv papers/loans papers/lent && pargeter flush office"));
    PG_TRY(Do("pargeter account browse staff lent/Westhaven"));
    return Do("pargeter status");
  }

  Status WalkBoth() {
    Aloud("Both under one folder; what comes to the office's drive later appears there by itself:");
    PG_TRY(
        Do("pargeter drive add all --join museum/herbarium --join 'staff/*' --at ./all "
           "--cache-limit 1GiB"));
    PG_TRY(Do("pargeter mount all --detach"));
    PG_TRY(Do("ls all && cp all/herbarium/inbox/pier.txt all/lent/ && pargeter flush all"));
    return Do("pargeter status all");
  }

  void Leave() {
    for (const char* drive : {"all", "office", "sheets"})
      if (mounted_) Ignore(DoQuietly({world_.program, "unmount", drive, "--now"}));
    for (const pid_t store : stores_) {
      ::kill(store, SIGTERM);
      WaitFor(store);
    }
    std::error_code ec;
    if (made_ && !options_.keep) std::filesystem::remove_all(dir_, ec);
  }
  static Status DoQuietly(const std::vector<std::string>& words) {
    WaitFor(Start(words, -1));
    return {};
  }

  const Options options_;
  const World& world_;
  std::string dir_, endpoint_, url_;
  std::vector<pid_t> stores_;
  bool made_ = false, mounted_ = false;
};

Status RunDemo(Options options, World& world) {
  if (!options.dir.empty()) {
    char cwd[4096];
    options.dir = AbsolutePath(options.dir, ::getcwd(cwd, sizeof(cwd)) ? cwd : "/");
  }
  struct sigaction action {};
  action.sa_handler = [](int) { g_interrupted = true; };
  ::sigaction(SIGINT, &action, nullptr);
  ::sigaction(SIGTERM, &action, nullptr);
  Tour tour(options, world);
  return tour.Run();
}

}  // namespace

void AddDemoCommand(Command* app, Work* run) {
  auto options = std::make_shared<Options>();
  Command* cmd = app->Add(
      {.name = "demo",
       .summary = "show a tour on a simulated store with sample data",
       .details = "The tour needs pargeter-standin beside this program or on the PATH, and "
                  "/dev/fuse. Nothing outside its own folder is changed.",
       .examples = {{"take the tour", "pargeter demo"},
                    {"keep its files to look around", "pargeter demo --dir ~/tour --keep"}}});
  cmd->Option("--dir", "DIR", &options->dir,
              "an empty folder for the tour (default: a temporary one)");
  cmd->Option("--seed", "NUMBER", &options->seed, "seed of the sample data").ShowDefault();
  cmd->Flag("--keep", &options->keep, "keep the folder afterwards");
  cmd->Does([=] { *run = [=](World& w) { return RunDemo(*options, w); }; });
}

}  // namespace pargeter::app
