// Inside the simulated cloud drive: one file for each part of the protocol.
#pragma once

#include <fmt/format.h>

#include <cstdio>
#include <map>
#include <optional>
#include <pugixml.hpp>
#include <string>
#include <utility>
#include <vector>

#include "base/mutex.h"
#include "base/random.h"
#include "drive_server.h"

namespace pargeter::standin {

inline constexpr const char* kDriveBucket = "drive";
inline constexpr const char* kDriveVersions = "-/versions/";

inline bool IsFolder(const std::string& key) { return key.empty() || key.back() == '/'; }
inline std::string Above(const std::string& key) {  // the folder that it is in, "" for the top
  const auto slash = key.find_last_of('/', key.empty() ? 0 : key.size() - 2);
  return slash == std::string::npos || key.size() < 2 ? "" : key.substr(0, slash + 1);
}
inline std::string Quoted(const std::string& etag) { return "\"" + etag + "\""; }

// A property by its namespace and name.
using Property = std::pair<std::string, std::string>;

struct DriveRefusal {
  int status;
  std::string words;
};

class DriveServer::Impl {
 public:
  Impl(DriveServerOptions options, ObjectStore* store, Faults* faults);
  ~Impl();
  Result<int> Start() { return host_.Start(); }

 private:
  struct Call {
    const HttpAsk& http;
    std::string key;    // of what the address names; a folder's ends in "/" if there is one
    std::string shown;  // the address, as this person sees it
    std::string person;
    bool granted = true;    // may write at all: neither a guest nor a narrow grant
    bool may_write = true;  // there
    bool shelf = false;     // holds libraries, nothing else
    bool bearer = false;
  };

  // ---- one request

  HttpAnswer Answer(const HttpAsk& ask);
  HttpAnswer Control(const HttpAsk& ask);
  bool SignIn(Call* call);
  static HttpAnswer AskWho(bool bearer);
  HttpAnswer Dispatch(Call& call);

  // ---- names

  static std::string PathOf(const std::string& raw_path);
  // Of a file its path, of a folder that is there its path with a slash.
  std::string KeyOf(const std::string& asked) const;
  // What the address means to this person; false: nothing.
  bool Enter(Call* call, std::string shown) const;
  std::string KeyOfHref(const Call& call, const std::string& href) const;
  std::optional<Object> Find(const std::string& key) const;
  void Keep(const std::string& key, Object object);
  void Drop(const std::string& key);
  void Changed(const std::string& key) { changed_[key] = ++last_change_; }
  std::vector<std::pair<std::string, Object>> Below(const std::string& folder) const;
  std::string Href(const Call& call, const std::string& key) const;
  std::string NewTag() { return fmt::format("{:x}-{}", ++last_tag_, RandomName(4)); }
  Nanos Now() const { return SystemClock().Wall() + faults_.Skew(); }

  // ---- conditions and locks: drive_files.cc

  std::optional<DriveRefusal> CheckConditions(const Call& call) const;
  // RFC 4918 section 10.4: one list that is true is enough.
  bool Holds(const Call& call, const std::string& condition) const;
  bool AllHold(const std::string& key, std::string_view list) const;
  bool LeadsThroughFile(const Call& call) const;
  std::optional<DriveRefusal> CheckLock(const Call& call, const std::string& key) const;
  HttpAnswer TakeLock(const Call& call);
  HttpAnswer Unlock(const Call& call);

  // ---- files: drive_files.cc

  // A file's page, or a share of it: also for those who may only read it.
  HttpAnswer PageOrShare(Call& call, const std::string& place) REQUIRES(mutex_);
  HttpAnswer ShowShared(const Call& call);
  HttpAnswer Get(const Call& call) const;
  HttpAnswer Serve(const Call& call, const Object& found) const;
  bool IsBare(const std::string& key) const;  // a GET of it tells nothing of the version
  std::uint64_t Used() const;
  HttpAnswer Put(const Call& call);
  HttpAnswer Delete(const Call& call);
  void Erase(const std::string& key);
  HttpAnswer MakeFolder(const Call& call);
  HttpAnswer MoveOrCopy(const Call& call);

  // ---- properties: drive_properties.cc

  HttpAnswer Propfind(const Call& call) const;
  static std::vector<Property> PropertiesIn(const pugi::xml_node& root);
  HttpAnswer ShowShelf(const Call& call, const std::vector<Property>& wanted, bool deep) const;
  // RFC 6578: what changed below a folder since a token, and the next token. RFC 3253 section 3.7:
  // the former versions of a file.
  HttpAnswer Report(const Call& call) const;
  std::string TokenStart() const { return "urn:museum-drive:" + run_ + ":"; }
  HttpAnswer VersionTree(const Call& call, const std::vector<Property>& wanted) const;
  HttpAnswer GetVersion(Call& call) const;
  void Describe(const Call& call, const std::string& key, const Object& object,
                const std::vector<Property>& wanted, std::string* out) const;
  void DescribeAt(const Call& call, const std::string& href, const std::string& key,
                  const Object& object, const std::vector<Property>& wanted, std::string* out,
                  const std::string& version = "") const;
  bool MayWrite(const Call& call, const std::string& key) const;
  std::optional<std::string> ValueOf(const Call& call, const std::string& key, const Object& object,
                                     const Property& p) const;
  HttpAnswer Proppatch(const Call& call);

  // ---- answers

  static HttpAnswer Text(int status, std::string text);
  static HttpAnswer Refuse(const DriveRefusal& refusal);
  static HttpAnswer Xml(int status, const std::string& text);
  // RFC 4918 section 9.9.4: an error for the resource, within a multistatus; 0: says nothing of it.
  static std::string Inside(const HttpAsk& ask, int status);
  void Record(const HttpAsk& ask, const std::string& key, const HttpAnswer& answer);

  const DriveServerOptions options_;
  ObjectStore& store_;
  Faults& faults_;
  Libraries libraries_;
  Spelling spelling_;
  Shares shares_ GUARDED_BY(mutex_);
  OAuthServer oauth_;
  Mutex mutex_;  // one change at a time: a condition holds until it is acted on
  struct HeldLock {
    std::string token;
    Steady until{};
  };
  std::optional<std::string> LockOn(const std::string& key) const;  // that has not lapsed
  std::map<std::string, HeldLock> locks_;
  std::uint64_t last_tag_ = 0;
  std::map<std::string, std::uint64_t> changed_;  // key -> number of its last change
  std::uint64_t last_change_ = 0;
  const std::string run_ = RandomName(4);              // tokens of another run mean nothing
  std::map<std::string, std::vector<Object>> former_;  // versions that were written over
  Mutex log_mutex_;
  std::FILE* log_ = nullptr;
  HttpHost host_;
};

}  // namespace pargeter::standin
