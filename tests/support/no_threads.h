// While it lives no thread can be started, as where the system's limit is reached.
#pragma once

#include <pthread.h>

namespace pargeter::test {

class NoThreads {
 public:
  NoThreads() {
    pthread_getattr_default_np(&before_);
    pthread_attr_t huge;
    pthread_attr_init(&huge);
    pthread_attr_setstacksize(&huge, std::size_t{1} << 47);  // all of a process's addresses
    pthread_setattr_default_np(&huge);
    pthread_attr_destroy(&huge);
  }
  NoThreads(const NoThreads&) = delete;
  NoThreads& operator=(const NoThreads&) = delete;
  ~NoThreads() {
    pthread_setattr_default_np(&before_);
    pthread_attr_destroy(&before_);
  }

 private:
  pthread_attr_t before_;
};

}  // namespace pargeter::test
