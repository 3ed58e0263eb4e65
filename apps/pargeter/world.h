// What a command gets to work with: places, streams, and how to speak. A command is
// `Status Run(options, world)`; only main turns errors into words and exit codes.
#pragma once

#include <string>

#include "base/error.h"
#include "config/paths.h"
#include "config/settings.h"
#include "control/rpc.h"

namespace pargeter::app {

class Command;

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
Command* AddAccountCommands(Command* app, Work* run);  // the group
void AddSignInCommands(Command* account, Work* run);   // into that group
void AddDriveCommands(Command* app, Work* run);
void AddMountCommands(Command* app, Work* run);
void AddServiceCommands(Command* app, Work* run);
void AddFileCommands(Command* app, Work* run);
void AddResidencyCommands(Command* app, Work* run);
void AddRuleCommands(Command* app, Work* run);
void AddVersionCommands(Command* app, Work* run);
void AddTransferCommands(Command* app, Work* run);
void AddLookCommands(Command* app, Work* run);
void AddDoctorCommand(Command* app, Work* run);
void AddDemoCommand(Command* app, Work* run);

}  // namespace pargeter::app
