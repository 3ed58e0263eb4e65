// Accounts and drives as configured: one small file each, so that adding, changing, copying to
// another machine and removing touch one file.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/error.h"
#include "config/paths.h"

namespace pargeter {

struct AccountSettings {
  std::string name;
  std::string kind = "s3";  // or webdav or sftp
  std::string endpoint;     // s3: http://HOST:PORT or https://HOST
  std::string region = "us-east-1";
  std::string key_id;
  bool anonymous = false;              // s3: nothing is signed; read-only
  std::uint64_t part_size = 0;         // s3: bytes in a part of a large upload; 0: the usual
  std::string ca_file;                 // "" = the system's authorities
  std::string proxy;                   // http://HOST:PORT; "": as the environment says
  std::string certificate;             // PEM file that this machine proves itself with, or ""
  std::string certificate_key;         // its key; "": in the same file
  std::string address_style = "path";  // path or host
  bool read_only = false;              // access = "read"
  std::string url;                     // webdav: of a folder that drives are in
  std::string user;                    // webdav, sftp
  bool plain_http = false;             // the password may go over the network unprotected
  bool sign_in = false;                // webdav: tokens by OAuth 2.0 instead of a password
  std::string issuer;                  // webdav: the sign-in server; "": the store's own host
  std::string client_id = "pargeter";  // webdav: what this program is called there
  std::string scope;                   // webdav: "": the usual ones for the access
  std::string host;                    // sftp
  int port = 22;                       // sftp
  std::string private_key;             // sftp: a file; "": a password or an agent
  std::string known_hosts;             // sftp: a file; "": the person's own
};

struct DriveSettings {
  std::string name;
  // Of a joined drive: ACCOUNT/FOLDER with * and ?, of all that it shows, and of what it leaves out
  // (config/joining.h). It has neither account nor folder.
  std::vector<std::string> join, except;
  // Of a part of one: which it belongs to, and its folder's name there. All that its own file does
  // not say is as with that drive.
  std::string part_of, shown_as;
  std::string account;
  std::string folder;           // an object store's BUCKET[/PREFIX]
  std::string at;               // absolute path of the mount point
  std::string mode = "stream";  // or "mirror"
  bool mirrors() const { return mode == "mirror"; }
  bool read_only = false;
  bool share_with_all = false;      // other users may look in; permissions decide what they see
  std::uint64_t hold_files = 1000;  // so many deletions at once are held back; 0: never
  double hold_share = 0.25;         // if they are also this share of the drive
  std::string label;
  std::uint64_t cache_limit = 10ull << 30;  // bytes
  double keep_free = 0.1;                   // share of the disk, 0 to 1
  std::string cache_at;                     // "" = below the state folder
  // Programs that get no whole files from the store, with commas; "default": the usual crawlers.
  std::string shy_readers = "default";
  std::uint64_t shy_allowance = 256 << 10;  // bytes that they get of each file
  Duration stop_within{30000};              // how long the end of the mount waits for uploads
  Duration fresh_for{5000};  // how old a listing may be before an open asks the store again
};

// Letters, digits, ".", "_", "-"; starts with a letter or digit; at most 64.
Status CheckName(std::string_view kind, std::string_view name);

Result<AccountSettings> LoadAccount(const Paths& paths, const std::string& name);
Result<DriveSettings> LoadDrive(const Paths& paths, const std::string& name);
// Writes the keys that differ from what the file says; other lines stay. Makes the folders.
Status SaveAccount(const Paths& paths, const AccountSettings& account);
Status SaveDrive(const Paths& paths, const DriveSettings& drive);
Status RemoveAccount(const Paths& paths, const std::string& name);
Status RemoveDrive(const Paths& paths, const std::string& name);
std::vector<std::string> AccountNames(const Paths& paths);  // sorted
std::vector<std::string> DriveNames(const Paths& paths);    // sorted; parts of joined drives, too
// The parts of a joined drive that are known on this machine, by name; unreadable ones are left
// out.
std::vector<DriveSettings> PartsOf(const Paths& paths, const std::string& joined);

// What differs, in words, and whether it can take effect only at the next mount.
struct SettingDifference {
  std::string what;
  bool at_mount = false;
};
std::vector<SettingDifference> Differences(const DriveSettings& a, const DriveSettings& b);
// Takes over from `now` what need not wait for the next mount.
void TakeLive(DriveSettings* was, const DriveSettings& now);

// A key of a settings file, for documents; all texts are Markdown.
struct SettingText {
  std::string key, type, fallback, summary;
  std::string effect;  // what a change of it takes: "a refresh", "a new mount"
};
std::vector<SettingText> DescribeAccountSettings();  // of accounts/NAME.toml
std::vector<SettingText> DescribeDriveSettings();    // of drives/NAME.toml

}  // namespace pargeter
