#include "base/error.h"

#include <cerrno>
#include <cstring>

namespace pargeter {
namespace {

struct Row {
  Code code;
  std::string_view name;
  int errnum;
  bool retry;
  int exit_code;
};

// Exit codes: 1 failed, 2 usage, 3 not found, 4 refused to protect data, 5 store unreachable,
// 6 permission or sign-in, 7 already running or busy.
constexpr Row kRows[] = {
    {Code::kInvalid, "invalid", EINVAL, false, 2},
    {Code::kNotFound, "not-found", ENOENT, false, 3},
    {Code::kExists, "exists", EEXIST, false, 1},
    {Code::kNotEmpty, "not-empty", ENOTEMPTY, false, 4},
    {Code::kNotFolder, "not-a-folder", ENOTDIR, false, 3},
    {Code::kIsFolder, "is-a-folder", EISDIR, false, 1},
    {Code::kNameTooLong, "name-too-long", ENAMETOOLONG, false, 2},
    {Code::kReadOnly, "read-only", EROFS, false, 6},
    {Code::kPermission, "permission", EACCES, false, 6},
    {Code::kUntrusted, "untrusted", EACCES, false, 6},
    {Code::kSignIn, "sign-in", EACCES, false, 6},
    {Code::kUnavailable, "unavailable", ENETUNREACH, true, 5},
    {Code::kStoreFault, "store-fault", EIO, true, 5},
    {Code::kThrottled, "throttled", EBUSY, true, 5},
    {Code::kTimeout, "timeout", ETIMEDOUT, true, 5},
    {Code::kDamaged, "damaged", EIO, true, 1},
    {Code::kChanged, "changed", EIO, false, 4},
    {Code::kStale, "stale", ESTALE, false, 1},
    {Code::kRefused, "refused", EPERM, false, 4},
    {Code::kBusy, "busy", EBUSY, false, 7},
    {Code::kTooLarge, "too-large", EFBIG, false, 1},
    {Code::kNoSpace, "no-space", ENOSPC, false, 1},
    {Code::kOverQuota, "over-quota", EDQUOT, false, 1},
    {Code::kTooMany, "too-many", ENFILE, false, 1},
    {Code::kIo, "io", EIO, false, 1},
    {Code::kUnsupported, "unsupported", EOPNOTSUPP, false, 1},
    {Code::kCancelled, "cancelled", EINTR, false, 1},
    {Code::kInternal, "internal", EIO, false, 1},
};

const Row& RowOf(Code code) {
  for (const Row& row : kRows) {
    if (row.code == code) return row;
  }
  return kRows[sizeof(kRows) / sizeof(kRows[0]) - 1];
}

}  // namespace

Error Error::Within(std::string_view context) const& {
  Error outer = *this;
  outer.what = std::string(context) + ": " + what;
  return outer;
}

Error Error::For(std::string_view account) const& {
  constexpr std::string_view kAccount = "ACCOUNT";
  Error named = *this;
  const auto at = named.remedy.find(kAccount);
  if (!account.empty() && at != std::string::npos)
    named.remedy.replace(at, kAccount.size(), account);
  return named;
}

int ErrnoOf(Code code) { return RowOf(code).errnum; }
bool MayRetry(Code code) { return RowOf(code).retry; }
int ExitCodeOf(Code code) { return RowOf(code).exit_code; }
std::string_view NameOf(Code code) { return RowOf(code).name; }
Code CodeOfName(std::string_view name) {
  for (const Row& row : kRows) {
    if (row.name == name) return row.code;
  }
  return Code::kInternal;
}

Error FromErrno(int errnum, std::string_view what) {
  Code code = Code::kIo;
  switch (errnum) {
    case EFBIG:
      code = Code::kTooLarge;
      break;
    case ENOENT:
      code = Code::kNotFound;
      break;
    case EEXIST:
      code = Code::kExists;
      break;
    case EACCES:
    case EPERM:
      code = Code::kPermission;
      break;
    case EROFS:
      code = Code::kReadOnly;
      break;
    case ENOSPC:
    case EDQUOT:
      code = Code::kNoSpace;
      break;
    case EMFILE:
    case ENFILE:
      code = Code::kTooMany;
      break;
    case ENOTDIR:
      code = Code::kNotFolder;
      break;
    case EISDIR:
      code = Code::kIsFolder;
      break;
    case ENOTEMPTY:
      code = Code::kNotEmpty;
      break;
    case ENAMETOOLONG:
      code = Code::kNameTooLong;
      break;
    case EBUSY:
    case EAGAIN:
      code = Code::kBusy;
      break;
    case EINVAL:
      code = Code::kInvalid;
      break;
    case EOPNOTSUPP:
      code = Code::kUnsupported;
      break;
    case ETIMEDOUT:
      code = Code::kTimeout;
      break;
    default:
      break;
  }
  return Error(code, std::string(what) + ": " + std::strerror(errnum));
}

}  // namespace pargeter
