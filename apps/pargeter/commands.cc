#define FUSE_USE_VERSION 312
#include "commands.h"

#include <curl/curlver.h>
#include <fmt/format.h>
#include <fuse3/fuse.h>
#include <libssh/libssh_version.h>
#include <sqlite3.h>

#include "base/version.h"

namespace pargeter::app {

std::unique_ptr<Command> DescribeCommands(World* world, Work* run) {
  auto root = std::make_unique<Command>(Texts{
      .name = "pargeter",
      .summary = "mount object storage, cloud drives and SFTP servers as folders",
      .details =
          "An account is how to log in to a store. A drive is a folder of an account, and the "
          "directory where it appears. Mounting a drive makes its files appear there: all names at "
          "once, the bytes when they are read. What is written goes to the store in the "
          "background.",
      .usage = "[OPTIONS] COMMAND ..."});
  root->Option("--config-dir", "DIR", &world->config_dir,
               "folder of the configuration, instead of the usual one");
  root->Option("--state-dir", "DIR", &world->state_dir,
               "folder of indexes, waiting changes and caches");
  root->Flag("--json", &world->json, "print one JSON document");
  root->Flag("-q,--quiet", &world->quiet, "print errors only");
  root->Flag("-v,--verbose", &world->verbose, "log more on standard error");
  root->Group("Accounts and drives");
  AddAccountCommands(root.get(), run);
  AddDriveCommands(root.get(), run);
  root->Group("Mounting");
  AddMountCommands(root.get(), run);
  AddServiceCommands(root.get(), run);
  root->Group("Files on a drive");
  AddFileCommands(root.get(), run);
  AddResidencyCommands(root.get(), run);
  AddRuleCommands(root.get(), run);
  AddVersionCommands(root.get(), run);
  root->Group("Uploads and conflicts");
  AddTransferCommands(root.get(), run);
  root->Group("Looking and trying");
  AddLookCommands(root.get(), run);
  AddDoctorCommand(root.get(), run);
  AddDemoCommand(root.get(), run);
  return root;
}

std::string VersionText() {
  return fmt::format(
      "pargeter {}\nstores: s3, webdav, sftp\nmodes: stream, mirror\nservices: systemd\nbuilt "
      "with: FUSE "
      "{}.{}, curl {}, "
      "SQLite {}, libssh {}.{}.{}",
      kVersion, FUSE_MAJOR_VERSION, FUSE_MINOR_VERSION, LIBCURL_VERSION, SQLITE_VERSION,
      LIBSSH_VERSION_MAJOR, LIBSSH_VERSION_MINOR, LIBSSH_VERSION_MICRO);
}

}  // namespace pargeter::app
