// The data of the simulated object store: buckets of keys, uploads in parts. In memory, with
// bodies in files; below a data folder it also survives a restart (an append-only journal).
//
// Thread-safe.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/error.h"
#include "base/file.h"
#include "base/mutex.h"

namespace pargeter::standin {

// Immutable once stored: readers keep theirs while the key gets another.
struct Body {
  std::uint64_t size = 0;
  std::string bytes;  // small bodies live here
  std::string file;   // larger ones there; "" = `bytes`
  ~Body();
  bool owned = false;  // the file goes when the last user does
};

struct Object {
  std::shared_ptr<const Body> body;
  std::string etag;  // without quotes
  Nanos modified = 0;
  std::map<std::string, std::string> metadata;  // header name in lower case -> value
};

struct Part {
  std::shared_ptr<const Body> body;
  std::string md5;  // raw
};
struct Upload {
  std::string bucket, key;
  std::map<std::string, std::string> metadata;
  std::map<int, Part> parts;
};

struct Condition {
  bool if_none_match = false;           // only if nothing is there
  std::optional<std::string> if_match;  // only if it is this etag, or "*"
};

struct ListRequest {
  std::string prefix, delimiter, after;
  std::size_t max_keys = 1000;
};
struct ListAnswer {
  std::vector<std::pair<std::string, Object>> keys;
  std::vector<std::string> prefixes;
  std::string next_after;  // "" = complete
};

class ObjectStore {
 public:
  // `folder` "" keeps bodies in a temporary folder and forgets everything at the end.
  explicit ObjectStore(std::string folder);
  ~ObjectStore();
  Status Load();

  // Takes a body as it arrives.
  class Writer {
   public:
    explicit Writer(ObjectStore* store) : store_(store) {}
    Status Append(std::string_view data);
    Result<std::shared_ptr<const Body>> Finish();

   private:
    ObjectStore* store_;
    std::string bytes_;
    Fd fd_;
    std::string path_;
    std::uint64_t size_ = 0;
  };

  std::vector<std::string> Buckets() const;
  bool HasBucket(const std::string& bucket) const;
  void MakeBucket(const std::string& bucket);
  std::optional<Object> Get(const std::string& bucket, const std::string& key) const;
  // kChanged if the condition does not hold.
  Status Put(const std::string& bucket, const std::string& key, Object object,
             const Condition& if_);
  // kChanged if a condition does not hold; one that is not there is deleted already.
  Status Delete(const std::string& bucket, const std::string& key, const Condition& if_);
  ListAnswer List(const std::string& bucket, const ListRequest& request) const;
  // `count` objects of `size` zero bytes, spread over `folders` folders, at once.
  void Fill(const std::string& bucket, const std::string& prefix, int count, int folders,
            std::uint64_t size);

  std::string BeginUpload(Upload upload);
  std::optional<Upload> FindUpload(const std::string& id) const;
  bool PutPart(const std::string& id, int number, Part part);
  void DropUpload(const std::string& id);
  std::map<std::string, Upload> Uploads() const;
  // One body of several.
  Result<std::shared_ptr<const Body>> Join(const std::vector<std::shared_ptr<const Body>>& bodies);

 private:
  std::string NewFile();
  void Journal(const std::string& line) REQUIRES(mutex_);
  std::string folder_;
  bool temporary_ = false;
  mutable Mutex mutex_;
  std::map<std::string, std::map<std::string, Object>> buckets_ GUARDED_BY(mutex_);
  std::map<std::string, Upload> uploads_ GUARDED_BY(mutex_);
  Fd journal_ GUARDED_BY(mutex_);
  std::uint64_t journal_end_ GUARDED_BY(mutex_) = 0;
};

// Reads a part of a body.
Result<std::string> ReadBody(const Body& body, std::uint64_t offset, std::uint64_t size);

}  // namespace pargeter::standin
