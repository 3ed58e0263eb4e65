// Serves control requests on a Unix socket, each connection on a thread of its own.
#pragma once

#include <atomic>
#include <functional>
#include <list>
#include <string>
#include <thread>

#include "base/clock.h"
#include "base/file.h"
#include "base/mutex.h"
#include "control/rpc.h"

namespace pargeter {

class ControlServer {
 public:
  // Has whoever asked hung up? Then nobody waits for the answer any more.
  using Gone = std::function<bool()>;
  // May be called from several threads at once; may block.
  using Handler =
      std::function<Result<Json>(const std::string& method, const Json& params, const Gone& gone)>;

  // Who takes nothing of its answer for as long as `patience` is given up.
  explicit ControlServer(Handler handler, Duration patience = Duration(5000))
      : handler_(std::move(handler)), patience_(patience) {}
  ~ControlServer() { Stop(); }
  // The socket is 0600 in a folder of 0700. A file that a crash left there is replaced; if it is
  // taken away, as a session's folder is at its end, it is made again within seconds.
  Status Start(const std::string& path);
  // Ends connections that wait for a request; one that is being answered is finished first.
  void Stop();

 private:
  struct Connection {
    std::thread thread;
    std::atomic<bool> ended{false};
  };
  Status Listen();
  void Accept();
  void Welcome(Fd fd);
  void Serve(Fd fd);
  std::string Answer(const std::string& line, int fd);
  bool Send(int fd, const std::string& answer);
  const Handler handler_;
  const Duration patience_;
  std::string path_;
  Fd listener_, wake_read_, wake_write_;
  std::thread thread_;
  Mutex mutex_;
  std::list<Connection> connections_ GUARDED_BY(mutex_);
};

}  // namespace pargeter
