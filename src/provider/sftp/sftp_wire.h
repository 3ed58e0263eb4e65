// The SSH File Transfer Protocol, version 3 (draft-ietf-secsh-filexfer-02), over one SshChannel:
// packets made and read, many questions under way at once. Not thread-safe; after an error that
// says so (broken()) a connection is of no more use.
#pragma once

#include <atomic>
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "provider/sftp/ssh_channel.h"

namespace pargeter::sftp {

enum class Type : std::uint8_t {
  kInit = 1,
  kVersion = 2,
  kOpen = 3,
  kClose = 4,
  kRead = 5,
  kWrite = 6,
  kLstat = 7,
  kFstat = 8,
  kSetstat = 9,
  kFsetstat = 10,
  kOpendir = 11,
  kReaddir = 12,
  kRemove = 13,
  kMkdir = 14,
  kRmdir = 15,
  kRealpath = 16,
  kStat = 17,
  kRename = 18,
  kReadlink = 19,
  kSymlink = 20,
  kStatus = 101,
  kHandle = 102,
  kData = 103,
  kName = 104,
  kAttrs = 105,
  kExtended = 200,
  kExtendedReply = 201
};

enum OpenFlags : std::uint32_t {
  kOpenRead = 1,
  kOpenWrite = 2,
  kOpenCreate = 8,
  kOpenTruncate = 16,
  kOpenExclusive = 32
};

// Numbers in network order, strings with their length before them: sections 3 and 5.
class Writer {
 public:
  Writer& U8(std::uint8_t n) { return Put(n, 1); }
  Writer& U32(std::uint32_t n) { return Put(n, 4); }
  Writer& U64(std::uint64_t n) { return Put(n, 8); }
  Writer& Text(std::string_view s) {
    U32(static_cast<std::uint32_t>(s.size()));
    bytes_ += s;
    return *this;
  }
  const std::string& bytes() const { return bytes_; }

 private:
  Writer& Put(std::uint64_t n, int size) {
    for (int shift = (size - 1) * 8; shift >= 0; shift -= 8)
      bytes_ += static_cast<char>((n >> shift) & 0xff);
    return *this;
  }
  std::string bytes_;
};

// Never reads past the end: what is missing is 0 or "", and good() false from then on.
class Reader {
 public:
  explicit Reader(std::string_view bytes) : rest_(bytes) {}
  std::uint8_t U8() { return static_cast<std::uint8_t>(Take(1)); }
  std::uint32_t U32() { return static_cast<std::uint32_t>(Take(4)); }
  std::uint64_t U64() { return Take(8); }
  std::string_view Text();
  bool good() const { return good_; }
  std::size_t left() const { return rest_.size(); }

 private:
  std::uint64_t Take(std::size_t size);
  std::string_view rest_;
  bool good_ = true;
};

struct FileAttributes {
  std::optional<std::uint64_t> size;
  std::optional<std::uint32_t> uid, gid, permissions, mtime;
  // The target, where LSTAT tells of a link what it names: then only that names its version.
  std::optional<std::string> link;
  bool IsFolder() const { return permissions && (*permissions & 0170000) == 0040000; }
  bool IsLink() const { return permissions && (*permissions & 0170000) == 0120000; }
  bool IsFile() const { return permissions && (*permissions & 0170000) == 0100000; }
};
FileAttributes ReadAttributes(Reader* in);
void WriteAttributes(const FileAttributes& a, Writer* out);  // mode and times alone

struct NamedFile {
  std::string name;
  FileAttributes attributes;
};
// The body of a kName answer.
Result<std::vector<NamedFile>> ReadNames(std::string_view body);

struct Answer {
  Type type = Type::kStatus;
  std::string body;  // after the request's number
};

class Wire {
 public:
  // `heard`: when anything last came, for whoever wants to know; shared by many connections.
  using Heard = std::shared_ptr<std::atomic<Steady>>;
  static Result<std::unique_ptr<Wire>> Open(const SshOptions& options, Heard heard,
                                            const Cancel& cancel);

  using Number = std::uint32_t;
  Result<Number> Post(Type type, std::string_view body);  // asks; the answer is waited for later
  Result<Answer> Await(Number number);
  // An answer of type `want` (its body), or the error that a status means. `what`: for messages.
  Result<std::string> Ask(Type type, std::string_view body, Type want, std::string_view what);
  Status Do(Type type, std::string_view body, std::string_view what);  // a status is all that comes
  Result<std::string> AwaitBody(Number number, Type want, std::string_view what);
  Status AwaitDone(Number number, std::string_view what);

  void WatchFor(const Cancel& cancel) { channel_->WatchFor(cancel); }
  bool Offers(const std::string& extension) const { return extensions_.count(extension) > 0; }
  bool broken() const { return broken_; }
  std::uint32_t read_size() const { return read_size_; }
  std::uint32_t write_size() const { return write_size_; }
  Steady last_sign() const { return last_sign_; }

 private:
  Wire(std::unique_ptr<SshChannel> channel, Heard heard)
      : channel_(std::move(channel)), heard_(std::move(heard)) {}
  Status Begin();
  Result<std::pair<std::uint32_t, Answer>> Receive();
  std::unique_ptr<SshChannel> channel_;
  const Heard heard_;
  std::map<std::string, std::string> extensions_;
  std::map<Number, Answer> early_;  // answers that came before they were waited for
  Number last_ = 0;
  bool broken_ = false;
  std::uint32_t read_size_ = 32768, write_size_ = 32768;  // what every server has to take
  Steady last_sign_ = std::chrono::steady_clock::now();
};

// The error of a status: section 7. `what`: "cannot read x".
Error ErrorOfStatus(std::uint32_t status, std::string_view words, std::string_view what);

}  // namespace pargeter::sftp
