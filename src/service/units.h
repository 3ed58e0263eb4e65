// The systemd units that keep drives mounted: what is in them and where they lie. One template for
// each scope, and for each enabled drive a drop-in that records whose it is: absolute paths, so
// that a service never has to guess in whose home it runs.
//
// Pure text and paths; only the two at the end look at the disk. systemd.unit(5),
// systemd.service(5), systemd.exec(5).
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/error.h"

namespace pargeter {

enum class Scope { kUser, kSystem };

struct ServiceSpec {
  std::string drive;
  Scope scope = Scope::kUser;
  std::string program;                // this program, absolute
  std::string config_dir, state_dir;  // absolute
  std::string at;                     // the mount point
  std::string user;                   // system scope: who it runs as
  int systemd_version = 0;            // some settings are newer than others
};

std::string UnitName(const std::string& drive);  // pargeter@NAME.service
std::string TemplateText(Scope scope);
std::string DropInText(const ServiceSpec& spec);
// What a drop-in of ours records; nothing if it is none.
std::optional<ServiceSpec> ParseDropIn(const std::string& text);
// A word of an ExecStart= line: quoted, with specifiers and variables taken literally.
std::string UnitQuote(const std::string& word);

// Where units of a scope lie: /etc/systemd/system, or systemd/user below `user_config`; and where a
// package puts the template.
struct UnitPlaces {
  std::string folder, packaged;
  std::string Template() const;
  std::string PackagedTemplate() const;
  std::string DropInFolder(const std::string& drive) const;
  std::string DropIn(const std::string& drive) const;
  std::string WantsLink(const std::string& drive) const;  // there: it starts by itself
  Scope scope = Scope::kUser;
};
UnitPlaces PlacesOf(Scope scope, const std::string& user_config);

std::vector<ServiceSpec> InstalledServices(const UnitPlaces& places);
bool StartsByItself(const UnitPlaces& places, const std::string& drive);

}  // namespace pargeter
