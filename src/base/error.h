// What went wrong, named by what the caller should do about it, and Result<T>, which carries
// either a value or such an error. Nothing below apps/ prints or exits: it returns these.
//
// Thread-safety: values; distinct objects may be used from distinct threads.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <variant>

namespace pargeter {

enum class Code {
  kInvalid,      // the request itself is wrong: change it
  kNotFound,     // there is no such thing
  kExists,       // it is there already
  kNotEmpty,     // a folder still holds something
  kNotFolder,    // a part of the path is a file
  kIsFolder,     // a file was wanted
  kNameTooLong,  // the store or the file system cannot hold that name
  kReadOnly,     // the drive may only be read
  kPermission,   // the store or the system forbids it: different rights are needed
  kUntrusted,    // the other side cannot prove who it is: its certificate or host key
  kSignIn,       // key or token refused: new credentials are needed
  kUnavailable,  // the store cannot be reached now: retry this call later
  kStoreFault,   // the store answered, but with a fault of its own: retry this call later
  kThrottled,    // the store asks us to slow down: retry this call later
  kTimeout,      // no answer before the deadline: retry this call later
  kDamaged,      // bytes arrived that are not what was promised: retry this call
  kChanged,      // the version that we knew is no longer there: look again, then decide
  kStale,        // the version being read is gone for good: reopen
  kRefused,      // refused to protect data
  kBusy,         // somebody else holds it
  kTooLarge,     // more than can be held in one file, or sent in one request
  kNoSpace,      // the disk or the budget is full
  kOverQuota,    // the account at the store is full
  kTooMany,      // this machine allows no more open files, or threads: a limit is to be raised
  kIo,           // the local disk failed
  kUnsupported,  // this store or file system cannot do that
  kCancelled,    // the caller gave up
  kInternal,     // a mistake of ours
};

// One fault: `what` happened and why, in one sentence without a full stop; `remedy` is what the
// person can do, or empty.
struct [[nodiscard]] Error {
  Code code = Code::kInternal;
  std::string what;
  std::string remedy;
  // How long the store asked us to wait before a retry, in milliseconds; -1: it did not say.
  long retry_after_ms = -1;

  Error() = default;
  Error(Code c, std::string w, std::string r = {})
      : code(c), what(std::move(w)), remedy(std::move(r)) {}
  // The same fault told from one level up: "CONTEXT: what".
  Error Within(std::string_view context) const&;
  // The same with the account's name in the remedy, where that says ACCOUNT; "" leaves it.
  Error For(std::string_view account) const&;
};

// The three tables. Each maps every code and has no default.
int ErrnoOf(Code code);                  // for the kernel
bool MayRetry(Code code);                // for the retry policy: may the same call succeed later?
int ExitCodeOf(Code code);               // for the command line (0 done ... 7 busy)
std::string_view NameOf(Code);           // stable identifier for logs and JSON
Code CodeOfName(std::string_view name);  // kInternal if there is none of that name

// An Error for a failed system call; `errnum` is errno's value.
Error FromErrno(int errnum, std::string_view what);

template <typename T>
class [[nodiscard]] Result;
using Status = Result<void>;

template <typename T>
class [[nodiscard]] Result {
 public:
  Result(T value) : state_(std::move(value)) {}      // NOLINT: implicit on purpose
  Result(Error error) : state_(std::move(error)) {}  // NOLINT: implicit on purpose
  bool ok() const { return state_.index() == 0; }
  explicit operator bool() const { return ok(); }
  T& operator*() & { return std::get<0>(state_); }
  const T& operator*() const& { return std::get<0>(state_); }
  // By value: a loop over `*Call()` would go through what is gone otherwise.
  T operator*() && { return std::get<0>(std::move(state_)); }
  T* operator->() { return &std::get<0>(state_); }
  const T* operator->() const { return &std::get<0>(state_); }
  const Error& error() const { return std::get<1>(state_); }
  Status status() const;  // the error, or success without the value

 private:
  std::variant<T, Error> state_;
};

template <>
class [[nodiscard]] Result<void> {
 public:
  Result() = default;
  Result(Error error) : error_(std::move(error)) {}  // NOLINT: implicit on purpose
  bool ok() const { return !error_.has_value(); }
  explicit operator bool() const { return ok(); }
  const Error& error() const { return *error_; }

 private:
  std::optional<Error> error_;
};

template <typename T>
Status Result<T>::status() const {
  return ok() ? Status() : Status(error());
}

// Says in the code that an outcome does not matter here, so that it can be searched for.
template <typename T>
void Ignore(const Result<T>&) {}

}  // namespace pargeter

// Returns the error of `expr` from the enclosing function, if there is one.
#define PG_TRY(expr)                            \
  do {                                          \
    if (auto pg_try_ = (expr); !pg_try_.ok()) { \
      return pg_try_.error();                   \
    }                                           \
  } while (false)
#define PG_CONCAT_(a, b) a##b
#define PG_CONCAT(a, b) PG_CONCAT_(a, b)
// `PG_ASSIGN(auto x, Call())`: x is the value, or the error is returned.
#define PG_ASSIGN(decl, expr)                                                                \
  auto PG_CONCAT(pg_result_, __LINE__) = (expr);                                             \
  if (!PG_CONCAT(pg_result_, __LINE__).ok()) return PG_CONCAT(pg_result_, __LINE__).error(); \
  decl = std::move(*PG_CONCAT(pg_result_, __LINE__))
