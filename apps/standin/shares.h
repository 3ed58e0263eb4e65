// Files that people share from the simulated drive: whoever has the address of such a page may read
// the file for a while. And the page of each file, for those whom the drive lets in.
//
// The caller sees to it that one thread uses it at a time.
#pragma once

#include <map>
#include <optional>
#include <string>

#include "base/clock.h"
#include "http_host.h"
#include "object_store.h"

namespace pargeter::standin {

class Shares {
 public:
  // What a path of ours begins with, without the slash in front.
  static constexpr const char* kPages = "-/page/";     // + a file's address
  static constexpr const char* kAsk = "-/shares/";     // + a file's address: POST seconds=N
  static constexpr const char* kShared = "-/shared/";  // + a name that cannot be guessed

  // For the Link header (RFC 8288) of a file at the address `shown`.
  static std::string LinksOf(const std::string& shown);
  static HttpAnswer PageOf(const std::string& shown, const Object& file);
  // `key`: where the file is kept. 201 with the page's place, or 400.
  HttpAnswer Add(const std::string& form, const std::string& key, const std::string& shown,
                 Nanos now);

  struct Shared {
    std::string key, name;
    Nanos until = 0;
    bool bytes = false;  // they are asked for, not the page
  };
  // What a path that begins with kShared means; nothing: it is over, or never was.
  std::optional<Shared> Find(const std::string& path, Nanos now) const;
  static HttpAnswer SharedPage(const std::string& path, const Shared& shared, const Object& file);
  static HttpAnswer OverPage();

 private:
  std::map<std::string, Shared> shared_;
};

}  // namespace pargeter::standin
