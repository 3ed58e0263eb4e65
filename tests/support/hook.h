// A function that a test may set, change and take away while other threads call it. Not set, it
// returns a default.
#pragma once

#include <functional>
#include <memory>
#include <utility>

#include "base/mutex.h"

namespace pargeter::test {

template <typename Signature>
class Hook;
template <typename R, typename... A>
class Hook<R(A...)> {
 public:
  using Function = std::function<R(A...)>;
  Hook() = default;
  Hook& operator=(const Hook& other) {
    const auto function = other.Get();
    const Lock lock(mutex_);
    function_ = function;
    return *this;
  }
  Hook& operator=(Function function) {
    const Lock lock(mutex_);
    function_ = function ? std::make_shared<Function>(std::move(function)) : nullptr;
    return *this;
  }
  explicit operator bool() const { return Get() != nullptr; }
  R operator()(A... arguments) const {
    const auto function = Get();
    return function ? (*function)(arguments...) : R();
  }

 private:
  std::shared_ptr<Function> Get() const {
    const Lock lock(mutex_);
    return function_;
  }
  mutable Mutex mutex_;
  std::shared_ptr<Function> function_ GUARDED_BY(mutex_);  // called by all as one
};

}  // namespace pargeter::test
