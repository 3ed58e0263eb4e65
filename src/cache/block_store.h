// The files that hold content on this disk, one whole sparse file for each node that has any, in
// two places: `cache` may be emptied by hand while the drive is stopped and costs only time;
// `pending` holds what no store has yet and is never emptied by anything but an acknowledgement.
//
// Thread-safe. All files are 0600 below folders of 0700.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/error.h"
#include "base/file.h"
#include "cache/range_set.h"

namespace pargeter {

class BlockStore {
 public:
  enum class Place { kCache, kPending };

  BlockStore(std::string cache_folder, std::string pending_folder, Disk* disk);
  Status Prepare();  // makes the folders

  // Opens for reading and writing; makes it if it is not there.
  Result<Fd> Open(std::int64_t id, Place place);
  Result<std::uint64_t> LengthOf(std::int64_t id, Place place) const;
  // Where something was written to it, as far as its file system tells: the rest are holes.
  Result<RangeSet> WrittenParts(std::int64_t id, Place place) const;
  Result<Nanos> ChangedAt(std::int64_t id, Place place) const;
  bool Has(std::int64_t id, Place place) const;
  // Moves a file between the places. Open descriptors stay good where both are on one disk; where
  // they are not, the bytes are copied.
  Status Move(std::int64_t id, Place from, Place to);
  bool OneDisk() const { return one_disk_; }
  // The steps of a move from one disk to the other, for who has the file open meanwhile: a new file
  // beside its place at `to`, bytes of the old one into it (holes stay holes), and when all that
  // count are in it, it takes the place. The old file has no name from then on.
  Result<Fd> BeginCopy(std::int64_t id, Place to);
  Status CopyBytes(int from, int to, Range range);
  Status EndCopy(std::int64_t id, Place from, Place to, int copy);
  void DropCopy(std::int64_t id, Place to);
  Status DropUnfinishedCopies();
  Status Drop(std::int64_t id, Place place);
  Status Rename(std::int64_t from, std::int64_t to, Place place);
  // A few words about a file, kept with it (as an extended attribute, so that they live and go with
  // it): by them it can be found again without the index. False: the disk cannot do it, or not so
  // many; a former note stays.
  bool SetNote(std::int64_t id, Place place, const std::string& note);
  std::string Note(std::int64_t id, Place place) const;  // "" if there is none
  // After this, the name of a pending file survives a power cut.
  Status SyncNames(Place place);
  std::vector<std::int64_t> List(Place place) const;
  std::string PathOf(std::int64_t id, Place place) const;
  const std::string& cache_folder() const { return cache_; }
  Disk& disk() const { return *disk_; }

 private:
  std::string FolderOf(Place place) const { return place == Place::kPending ? pending_ : cache_; }
  const std::string cache_, pending_;
  Disk* const disk_;
  bool one_disk_ = true;
};

}  // namespace pargeter
