#include "base/threads.h"

#include <fmt/format.h>

#include <future>
#include <system_error>
#include <thread>
#include <vector>

namespace pargeter {

void WorkTogether(std::size_t count, const std::function<void()>& work) {
  std::vector<std::thread> others;
  try {
    while (others.size() + 1 < count) others.emplace_back(work);
  } catch (const std::system_error&) {  // those that there are
  }
  work();
  for (std::thread& other : others) other.join();
}

Status CheckThreads(std::size_t count) {
  std::promise<void> over;
  const std::shared_future<void> until = over.get_future().share();
  std::vector<std::thread> threads;
  try {
    while (threads.size() < count) threads.emplace_back([until] { until.wait(); });
  } catch (const std::system_error&) {  // seen below
  }
  over.set_value();
  for (std::thread& thread : threads) thread.join();
  if (threads.size() == count) return {};
  return Error(Code::kTooMany,
               fmt::format("the system allows {} more threads here, and {} are needed",
                           threads.size(), count),
               "Raise the limit: ulimit -u, TasksMax of the service, or that of the container.");
}

}  // namespace pargeter
