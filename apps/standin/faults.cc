#include "faults.h"

#include <fmt/format.h>

#include <cstdlib>

#include "base/random.h"
#include "base/text.h"

namespace pargeter::standin {

Result<Fault> ParseFault(const std::string& text) {
  Fault fault;
  for (const std::string& piece : Split(text, ',')) {
    const auto equals = piece.find('=');
    const std::string name(Trim(piece.substr(0, equals)));
    const std::string value(equals == std::string::npos ? "" : Trim(piece.substr(equals + 1)));
    const long number = std::strtol(value.c_str(), nullptr, 10);
    if (name == "nth")
      fault.nth = static_cast<int>(number);
    else if (name == "share")
      fault.share = std::strtod(value.c_str(), nullptr);
    else if (name == "times")
      fault.times = static_cast<int>(number);
    else if (name == "method")
      fault.method = value;
    else if (name == "key")
      fault.key = value;
    else if (name == "retry-after")
      fault.retry_after = static_cast<int>(number);
    else if (name == "status" || name == "cut" || name == "reset" || name == "stall" ||
             name == "corrupt" || name == "wrong-etag" || name == "skew" || name == "away" ||
             name == "lie" || name == "inside") {
      fault.kind = name;
      fault.amount = number;
      if (name == "status") fault.status = static_cast<int>(number);
    } else {
      return Error(Code::kInvalid, fmt::format("\"{}\" is no part of a fault", Printable(name)),
                   "Write for example: status=503,share=0.05,retry-after=2");
    }
  }
  if (fault.kind.empty() ||
      (fault.kind == "status" && (fault.status < 300 || fault.status > 599))) {
    return Error(
        Code::kInvalid, fmt::format("\"{}\" names no fault", Printable(text)),
        "Kinds: status=N, cut, reset, stall=MS, corrupt, wrong-etag, skew=S, away=MS, lie, "
        "inside=N.");
  }
  return fault;
}

void Faults::Add(Fault fault) {
  const Lock lock(mutex_);
  if (fault.kind == "skew") {
    skew_ = fault.amount * 1'000'000'000;
  } else if (fault.kind == "away") {
    away_until_ = clock_.Now() + Duration(fault.amount);
  } else {
    faults_.push_back(std::move(fault));
  }
}

void Faults::Clear() {
  const Lock lock(mutex_);
  faults_.clear();
  skew_ = 0;
  away_until_ = {};
}

Plan Faults::Meet(const std::string& method, const std::string& key) {
  Plan plan;
  const Lock lock(mutex_);
  for (Fault& fault : faults_) {
    if (!fault.method.empty() && fault.method != method) continue;
    if (!fault.key.empty() && key.find(fault.key) == std::string::npos) continue;
    ++fault.seen;
    if (fault.nth > 0 && fault.seen != fault.nth) continue;
    if (fault.times >= 0 && fault.made >= fault.times) continue;
    if (fault.share >= 0 && static_cast<double>(RandomBits() >> 11) * 0x1.0p-53 >= fault.share)
      continue;
    ++fault.made;
    if (fault.kind == "status") plan.status = fault;
    if (fault.kind == "cut") plan.cut = fault;
    if (fault.kind == "reset") plan.reset = fault;
    if (fault.kind == "stall") plan.stall = fault;
    if (fault.kind == "corrupt") plan.corrupt = fault;
    if (fault.kind == "wrong-etag") plan.wrong_etag = fault;
    if (fault.kind == "lie") plan.lie = fault;
    if (fault.kind == "inside") plan.inside = fault;
  }
  return plan;
}

Nanos Faults::Skew() const {
  const Lock lock(mutex_);
  return skew_;
}
bool Faults::Away() const {
  const Lock lock(mutex_);
  return clock_.Now() < away_until_;
}
std::size_t Faults::Count() const {
  const Lock lock(mutex_);
  return faults_.size();
}

}  // namespace pargeter::standin
