// Copies of files that other programs may be writing, taken at a moment at which nobody does.
#pragma once

#include <functional>
#include <string>

#include "engine/api/types.h"
#include "face/mirror/directory.h"

namespace pargeter {

struct StagedCopy {
  StagedFile file;
  Fingerprint print;  // of the original, when it was copied
};

// Copies the file at `path` of the directory to `to`, a new file. kBusy: somebody has it open for
// writing or has just written to it; the copy is gone. While the copy is made, programs that want
// to write wait for it where the file system has leases (fcntl(2)), at most until the next piece of
// it; elsewhere the file has to be unchanged for `quiet`. The signal SIGIO has to be ignored.
Result<StagedCopy> StageCopyOf(const Directory& directory, const std::string& path,
                               const std::string& to, Duration quiet);

// Are these the bytes that `read` gives (into memory, at most so many, from an offset)?
Result<bool> HasBytes(
    int fd, std::uint64_t size,
    const std::function<Result<std::size_t>(char*, std::size_t, std::uint64_t)>& read);

}  // namespace pargeter
