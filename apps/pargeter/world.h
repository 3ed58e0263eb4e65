// What a command gets to work with: places, streams, and how to speak. A command is
// `Status Run(options, world)`; only main turns errors into words and exit codes.
#pragma once

#include <string>

#include "base/error.h"
#include "config/paths.h"
#include "config/settings.h"
#include "control/rpc.h"

namespace CLI {
class App;
}

namespace pargeter::app {

struct World {
  Paths paths;
  bool json = false, quiet = false, verbose = false;
  std::string config_dir, state_dir;  // as given, for messages and child processes
  std::string program;                // this program's path
  std::string credentials_dir;        // of a service manager, "" without
  std::string config_home;            // this user's, where units lie
  std::string home;                   // this person's, where SSH keeps whom it knows
  std::string ssh_agent;              // an agent's socket, "" without
  bool has_display = false;           // a browser can be opened here
  std::string sudo_user;              // who called sudo, "" if nobody did
  std::string runtime_home;           // this user's, where the session's sockets are
  bool in_background = false;         // nobody sees standard error: what is noted is logged

  void Say(const std::string& line) const;     // to people, on standard output; not with --json
  void Note(const std::string& line) const;    // progress and warnings, on standard error
  void PrintJson(const Json& document) const;  // the one document of --json
};

// A child process tells its parent of an error in three lines.
std::string PackError(const Error& error);
Error UnpackError(const std::string& text);

// Each adds its commands. `*run` is set to the chosen command's work.
using Work = std::function<Status(World&)>;
CLI::App* AddAccountCommands(CLI::App* app, Work* run);  // the group
void AddSignInCommands(CLI::App* account, Work* run);    // into that group
void AddDriveCommands(CLI::App* app, Work* run);
void AddMountCommands(CLI::App* app, Work* run);
void AddServiceCommands(CLI::App* app, Work* run);
void AddFileCommands(CLI::App* app, Work* run);
void AddResidencyCommands(CLI::App* app, Work* run);
void AddRuleCommands(CLI::App* app, Work* run);
void AddVersionCommands(CLI::App* app, Work* run);
void AddLookCommands(CLI::App* app, Work* run);
void AddDoctorCommand(CLI::App* app, Work* run);
void AddDemoCommand(CLI::App* app, Work* run);

}  // namespace pargeter::app
