// Serves control requests on a Unix socket, each connection on a thread of its own.
#pragma once

#include <functional>
#include <list>
#include <string>
#include <thread>

#include "base/file.h"
#include "base/mutex.h"
#include "control/rpc.h"

namespace pargeter {

class ControlServer {
 public:
  // May be called from several threads at once; may block.
  using Handler = std::function<Result<Json>(const std::string& method, const Json& params)>;

  explicit ControlServer(Handler handler) : handler_(std::move(handler)) {}
  ~ControlServer() { Stop(); }
  // The socket is 0600 in a folder of 0700. A file that a crash left there is replaced.
  Status Start(const std::string& path);
  // Ends connections that wait for a request; one that is being answered is finished first.
  void Stop();

 private:
  void Accept();
  void Serve(int fd);
  const Handler handler_;
  std::string path_;
  Fd listener_, wake_read_, wake_write_;
  std::thread thread_;
  Mutex mutex_;
  std::list<std::thread> connections_ GUARDED_BY(mutex_);
};

}  // namespace pargeter
