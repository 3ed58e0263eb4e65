// Fetches that people have asked for, each with its number and a thread of its own. Thread-safe; a
// leaf lock.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <system_error>
#include <thread>
#include <utility>

#include "base/error.h"
#include "base/mutex.h"
#include "engine/api/residency.h"

namespace pargeter {

class FetchJobs {
 public:
  using Work = std::function<void(Fetch*)>;
  // Does `work` on a thread of its own, until it returns or `stop` is cancelled; returns the
  // fetch's number. kBusy: the system has no thread to give.
  Result<std::int64_t> Begin(std::shared_ptr<Fetch> fetch, const Cancel& stop, Work work) {
    Forget(kKept);
    const Lock lock(mutex_);
    try {
      std::thread thread([stop, fetch, work = std::move(work)] {
        const int hook = stop->OnCancel([cancel = fetch->cancel] { cancel->Cancel(); });
        work(fetch.get());
        stop->Forget(hook);
        fetch->finished = true;
      });
      jobs_[++last_] = {std::move(fetch), std::move(thread)};
    } catch (const std::system_error&) {
      return Error(Code::kBusy, "this machine has no thread to give for the fetch",
                   "Try again when it is less busy.");
    }
    return last_;
  }
  // Null: there is none, or it ended long ago.
  std::shared_ptr<Fetch> Find(std::int64_t number) {
    const Lock lock(mutex_);
    const auto it = jobs_.find(number);
    return it == jobs_.end() ? nullptr : it->second.first;
  }
  void WaitForAll() { Forget(0); }  // they must have been cancelled

 private:
  static constexpr std::size_t kKept = 16;
  using Jobs = std::map<std::int64_t, std::pair<std::shared_ptr<Fetch>, std::thread>>;
  // Finished ones, but for the last few; with 0 it waits for all.
  void Forget(std::size_t keep) {
    Jobs over;
    {
      const Lock lock(mutex_);
      for (auto it = jobs_.begin(); it != jobs_.end() && jobs_.size() > keep;) {
        const auto one = it++;
        if (keep == 0 || one->second.first->finished) over.insert(jobs_.extract(one));
      }
    }
    for (auto& [number, job] : over) job.second.join();
  }
  Mutex mutex_;
  Jobs jobs_ GUARDED_BY(mutex_);
  std::int64_t last_ GUARDED_BY(mutex_) = 0;
};

}  // namespace pargeter
