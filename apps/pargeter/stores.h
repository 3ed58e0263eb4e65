// From settings to stores and drives.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "config/settings.h"
#include "engine/drive.h"
#include "net/token_keeper.h"
#include "provider/provider.h"
#include "provider/sftp/ssh_channel.h"
#include "world.h"

namespace pargeter::app {

// "BUCKET/PREFIX" apart; kInvalid if it is no folder's name.
Status SplitFolder(const std::string& folder, std::string* bucket, std::string* prefix);
// A folder of an account's store: of an object store BUCKET[/PREFIX], else any, "" being the top.
struct Store {
  std::unique_ptr<Provider> provider;
  Browser* browser = nullptr;  // the same object
  std::string kind;            // of the account
};
Result<Store> OpenStore(const World& world, const std::string& account, const std::string& folder);
// How the account's sign-in server is spoken to; where an sftp account's host is.
Result<oauth::TokenKeeper::Options> SignInOf(const World& world, const AccountSettings& account);
sftp::SshOptions SshOf(const World& world, const AccountSettings& account);
// The files of hosts that this program keeps.
std::string OwnKnownHosts(const World& world);
// A key or password that was given anew, from the next request on; false if it is the same.
Result<bool> RenewSecret(const World& world, const std::string& account, Provider* provider);
// kRefused if its password would go over a network unprotected and nobody has allowed that.
Status CheckProtected(const AccountSettings& account);
// From the service manager's credential "pargeter.ACCOUNT" if it gave one, else from secrets.toml.
Result<std::string> SecretOf(const World& world, const std::string& account);
// The drive's state, for this process alone; kBusy if it runs. Without a store: for looking only.
Result<std::unique_ptr<Drive>> OpenDrive(const World& world, const DriveSettings& settings,
                                         bool with_store);
// The drive whose mount point `path` is at or below, and the path within it.
struct Located {
  DriveSettings drive;
  std::string path;     // relative, "" = its root
  bool in_top = false;  // it is in the folder that was meant, the top of a joined drive
};
// Above them all, at the top of a joined drive, none is meant: refused.
Result<Located> Locate(const World& world, const std::string& path);
// The same; at the top of a joined drive, the root of each of its parts.
Result<std::vector<Located>> LocateAll(const World& world, const std::string& path);

// What a command means that may be given a drive's name; without one, all. A joined drive stands
// for its parts, which have the files.
enum class Joined { kItsParts, kItselfToo };
Result<std::vector<DriveSettings>> Meant(const World& world, const std::string& name,
                                         Joined joined = Joined::kItsParts);

// A drive to talk with for more than one question: the running one, or, while none runs, its state
// opened here; then with its store, and at work, if `with_store`.
class Talk {
 public:
  static Result<Talk> With(const World& world, const DriveSettings& drive, bool with_store);
  Result<Json> Ask(const std::string& method, const Json& params,
                   Duration patience = Duration(30000));
  bool runs() const { return opened_ == nullptr; }

 private:
  std::string socket_;
  std::unique_ptr<Drive> opened_;
};

// False: the drive was never mounted, and nothing is known of its files.
bool HasState(const World& world, const DriveSettings& drive);

DriveLimits LimitsOf(const DriveSettings& settings);

constexpr Duration kLong(6 * 3600'000L);  // the patience with what walks or reads much

// Asks the running drive, or its state on disk if it does not run: `method` is one of those that
// drive_methods.h answers.
Result<Json> AskDrive(const World& world, const DriveSettings& drive, const std::string& method,
                      const Json& params, Duration patience = Duration(30000));
// Of an answer that counts deletions as "held": what to say after all else, or "".
std::string ButHeld(const Json& answer);

}  // namespace pargeter::app
