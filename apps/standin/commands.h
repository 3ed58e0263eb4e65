// The command line of pargeter-standin.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "command_line/command.h"
#include "drive_server.h"
#include "s3_server.h"

namespace pargeter::standin {

struct Options {
  std::string listen = "127.0.0.1:9400";
  std::string data, secret_file, narrow_secret_file, latency, rate, quota, token_life, largest_body;
  std::vector<std::string> buckets, faults;
  ServerOptions server;
  DriveServerOptions drive;
};

// `chosen` is called with true for the drive, false for the object store. `options` must outlive
// it.
std::unique_ptr<app::Command> DescribeCommands(Options* options,
                                               std::function<void(bool drive)> chosen);

}  // namespace pargeter::standin
